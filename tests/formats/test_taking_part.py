"""Packed files, pipes, corners of layers, and several runs that write at once."""

from __future__ import annotations

import contextlib
import gzip
import io
import json
import os
import re
import shlex
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import unittest
import warnings
import zipfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa

import polygene
from polygene import crs
from polygene.errors import FileError
from polygene.formats import address, addressed, packed
from polygene.formats.registry import format_of
from polygene.formats.wanted import Wanted
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.ops.subset import matching, subset
from polygene.table.expression import Expression
from tests.support import cli
from tests.support import generators as make
from tests.support.chance import some_of
from tests.support.layers import same_geometry

PART_READERS = (".gpkg", ".parquet", ".fgb")


class Packed(cli.WithSample):
    in_process = True

    def setUp(self):
        super().setUp()
        for name, ending in (("buoys", "geojson"), ("islands", "shp"), ("sectors", "csv")):
            polygene.write(
                polygene.read(f"{self.package}#{name}"), f"{self.folder}/{name}.{ending}"
            )
        with zipfile.ZipFile(self.folder / "all.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            for path in sorted(self.folder.iterdir()):
                if path.suffix in (".geojson", ".shp", ".shx", ".dbf", ".prj", ".cpg", ".csv"):
                    archive.write(path, f"survey/{path.name}")
            archive.writestr("../../outside.txt", "no layer")
        raw = (self.folder / "buoys.geojson").read_bytes()
        (self.folder / "b.geojson.gz").write_bytes(gzip.compress(raw))

    def test_layers_in_archives(self):
        for text, names in {
            "all.zip#*": ["buoys", "islands", "resurvey", "sectors"],
            "all.zip#islands": ["islands"],
            "b.geojson.gz": ["b"],
        }.items():
            refs = address.resolve(f"{self.folder}/{text}")
            self.assertEqual([ref.name for ref in refs], names)
        island = polygene.read(f"{self.folder}/all.zip#islands")
        self.assertEqual(island.table.num_rows, 12)
        self.assertIsNotNone(island.crs)  # so its .prj came along
        done = self.run_polygene("peek", "all.zip", "--rows", "1")
        self.assertIn("all.zip holds 4 layers; say which: all.zip#buoys", done.words)
        self.assertIn("all.zip#buoys", self.run_polygene("peek", "all.zip#buoys").out)

    def test_an_archive_written_anew_is_read_anew(self):
        """Python has no end of a run: what was unpacked must not stand for what is there now."""
        path = self.folder / "one.geojson.gz"
        for n in (1, 3):
            layer = polygene.read(f"{self.package}#buoys").take(np.arange(n))
            plain = self.folder / "one.geojson"
            polygene.write(layer, plain, "replace")
            path.write_bytes(gzip.compress(plain.read_bytes()))
            self.assertEqual(polygene.read(path).n_rows, n)

    def test_what_a_run_unpacks_is_gone_afterwards(self):
        done = self.run_polygene("layers", "all.zip", TMPDIR=str(self.folder))
        self.assertEqual(done.code, 0, done.err)
        self.assertEqual(list(self.folder.glob("polygene.*")), [])

    def test_damaged_and_hostile_archives(self):
        whole = (self.folder / "all.zip").read_bytes()
        (self.folder / "half.zip").write_bytes(whole[: len(whole) // 2])
        (self.folder / "half.geojson.gz").write_bytes(
            (self.folder / "b.geojson.gz").read_bytes()[:900]
        )
        (self.folder / "x.gz").write_bytes(gzip.compress(b"{}"))
        with zipfile.ZipFile(self.folder / "bomb.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("x.geojson", b" " * (100 << 20))
        with zipfile.ZipFile(self.folder / "bombs.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            for k in range(4):  # each of them small enough
                archive.writestr(f"{k}.geojson", b" " * (30 << 20))
        with zipfile.ZipFile(self.folder / "cut.zip", "w") as archive:
            archive.writestr("in/x.geojson", b'{"type": "FeatureCollection", "feat')
        for name, reason in {
            "half.zip": "is no zip file, or is damaged",
            "half.geojson.gz": "is damaged or cut short",
            "x.gz": "what is in it is unclear",
            "bombs.zip": "would grow to more than 300 times its size",
            "bomb.zip": "would grow to more than 300 times its size",
            "cut.zip": "cut.zip/in/x.geojson is cut short",
            "cut.zip/in/x.geojson": "is called like its layers: cut.zip#x",
        }.items():
            done = self.run_polygene("peek", name)
            self.assertEqual(done.code, 1, name)
            self.assertIn(reason, done.words)

    def test_pipes(self):
        program = [sys.executable, "-m", "polygene"]
        first = subprocess.run(
            [*program, "subset", "tolva.gpkg#buoys", "--where", "tonnes > 20", "-o", "-"],
            cwd=self.folder, capture_output=True, check=True,
        )  # fmt: skip
        self.assertEqual({line[:1] for line in first.stdout.splitlines()}, {b"{"})
        for piped in (first.stdout, (self.folder / "buoys.geojson").read_bytes()):
            second = subprocess.run(
                [*program, "convert", "-", "-o", "heavy.gpkg", "--replace"],
                cwd=self.folder, input=piped, capture_output=True, check=True,
            )  # fmt: skip
            self.assertIn(b"piped", second.stderr)
            n_rows = piped.count(b'"Feature"')
            self.assertEqual(self.sql("heavy.gpkg", "SELECT count(*) FROM heavy"), [(n_rows,)])
        both = self.run_polygene("convert", "tolva.gpkg#buoys", "-o", "-", "--json")
        self.assertEqual(both.code, 2)
        several = self.run_polygene("convert", "tolva.gpkg#beds_*", "-o", "-")
        self.assertIn("one layer goes to standard output, and there are 2", several.words)


class Piped(unittest.TestCase):
    def ending(self, text: str) -> str:
        piped = mock.Mock(buffer=io.BytesIO(text.encode()), isatty=lambda: False)
        with packed.unpacking(), mock.patch.object(sys, "stdin", piped):
            return packed.standard_input().suffix

    def test_what_is_piped_is_told_by_its_beginning(self):
        feature = {"type": "Feature", "properties": {}, "geometry": None}
        whole = {"features": [feature] * 3, "type": "FeatureCollection"}
        line, far = json.dumps(feature), json.dumps({"note": "x" * 70_000, **whole}, indent=1)
        # A feature a line, the first of them longer than what is read at once.
        long = {**feature, "properties": {"n": "x" * 70_000}}
        listed = ",\n".join(json.dumps(one) for one in (long, feature))
        listed = f'{{"features": [{listed}],\n"type": "FeatureCollection"}}'
        for text in (json.dumps(whole, indent=1), json.dumps(feature, indent=1), json.dumps(whole),
                     "\ufeff " + json.dumps(whole), far, listed):  # fmt: skip
            self.assertEqual(self.ending(text), ".geojson", text[:40])
        for text in (
            f"{line}\n{line}\n",
            line,
            f"\x1e{line}\n",
            f"{line}\n{json.dumps(whole)}",
            "",
        ):
            self.assertEqual(self.ending(text), ".geojsons", text[:40])
        for text in ("x,y\n1,2\n", "<kml/>", "SQLite format 3\0", "[1, 2]"):
            with self.assertRaisesRegex(FileError, "neither GeoJSON nor Arrow"):
                self.ending(text)

    def test_a_sequence_and_a_document_by_each_others_ending(self):
        feature = {"type": "Feature", "properties": {"n": "äöü"}, "geometry": None}
        line, lines = json.dumps(feature, ensure_ascii=False), json.dumps(feature, indent=1)
        with tempfile.TemporaryDirectory() as folder:
            for name, text, words in (
                (
                    "a.json",
                    f"\ufeff{line}\n\n{line}\n",
                    "in each line.* give it the ending .geojsons",
                ),
                ("b.geojsons", lines, "over several lines.* give it the ending .geojson$"),
                ("c.json", f"{line} x", "is not valid JSON"),
                ("d.json", f"{line}\n]", "is not valid JSON"),
                ("e.geojsons", f"{line}\n{lines}", "line 2: it is not valid JSON"),
            ):
                path = Path(folder, name)
                path.write_text(text, encoding="utf-8")
                with self.assertRaisesRegex(FileError, words):
                    polygene.read(str(path))


class Corners(unittest.TestCase):
    def test_what_is_read_of_a_corner_is_what_is_there(self):
        rng = np.random.default_rng(5)
        corners = rng.uniform(0, 1000, (70_000, 2))
        rows = np.arange(len(corners))
        table = pa.table({"k": rows, "t": pa.array([f"t{k % 7}" for k in rows])})
        column = make.GeometryColumn.from_points(corners)
        column = replace(column, is_null=column.is_null.copy())
        given = Layer("many", column, table, crs.parse("EPSG:32633"))
        box = (100.0, 200.0, 160.0, 260.0)
        few = Expression("k < 300 AND t = 't3'")
        by_box, by_where = subset(given, box=box).layer, matching(given, few)
        with cli.tempfile.TemporaryDirectory() as folder:
            for ending in PART_READERS:
                path = cli.Path(folder) / f"many{ending}"
                format_of(path).write(path, [given])
                source = format_of(path)
                (whole,) = source.read(path, "many").layers
                for wanted, layer in ((Wanted(box), by_box), (Wanted(where=few), by_where)):
                    (part,) = source.read(path, "many", wanted).layers
                    self.assertLess(part.n_rows, 20_000, ending)
                    self.assertEqual(part.n_total, 70_000)
                    # Rows are counted as the file has them, whatever was left in it.
                    np.testing.assert_array_equal(
                        np.asarray(whole.table["k"])[part.numbers - 1], np.asarray(part.table["k"])
                    )
                    part = subset(part, box=wanted.box).layer if wanted.box else matching(part, few)
                    self.assertEqual(
                        sorted(part.table["k"].to_pylist()), sorted(layer.table["k"].to_pylist())
                    )
                nobody = Wanted(where=Expression("k < 0"))
                (none,) = source.read(path, "many", nobody).layers
                self.assertEqual((none.n_rows, none.geometry.family), (0, Family.POINTS))
                # What looks at geometry is not decided by attributes alone.
                (part,) = source.read(
                    path, "many", Wanted(where=Expression("centroid_x() < 1"))
                ).layers
                self.assertEqual(part.n_rows, 70_000)


class LookedAt(cli.WithSample):
    """Where fields alone are looked at the rest stays in the file, and nothing else comes out."""

    in_process = True
    ASKED = (
        ("--by", "district_name"),
        ("--by", "district_name", "--aggregate", "m = max(depth_max)", "--where", "depth_max > 30"),
        ("--by", "first = substring(district_name, 1, 1)", "--across", "district_name"),
        ("--by", "district_name", "--aggregate", "ha = sum(area(ha))"),
        ("--by", "district_name", "--aggregate", "m = mean(depth_max, weight=area)"),
        ("--by", "district_name", "--where", "S_INTERSECTS(geometry, POINT(1 2))"),
        ("--aggregate", "v = value(district_name, largest = depth_max)"),
        ("--by", "district_name = upper(district_name)"),
        ("--by", "distrikt"),
        ("--aggregate", "m = max(dephth)"),
        ("--where", "1 = 1"),
    )

    def tallied(self, source, asked):
        done = self.run_polygene("tally", source, *asked, "--json")
        return re.sub(r'"seconds": [0-9.]+', "", done.out), done.err, done.code

    def test_tallies_are_those_of_all(self):
        sectors = polygene.read(f"{self.package}#sectors")
        for ending in PART_READERS:
            polygene.write(sectors, self.folder / f"s{ending}")
        (self.folder / "more" / "s.parquet").mkdir(parents=True)
        polygene.write(sectors.take(np.arange(9)), self.folder / "more" / "s.parquet" / "a.parquet")
        polygene.write(
            sectors.take(np.arange(9, 24)), self.folder / "more" / "s.parquet" / "b.parquet"
        )
        for asked in self.ASKED:
            said = set()
            for source in (*(f"s{ending}" for ending in PART_READERS), "more/s.parquet"):
                found = self.tallied(source, asked)
                with mock.patch.object(Wanted, "looked_at", lambda *_: None):
                    self.assertEqual(self.tallied(source, asked), found, asked)
                said.add(found[0])
            self.assertEqual(len(said), 1, said)

    def test_so_are_joins_by_key(self):
        sectors = polygene.read(f"{self.package}#sectors")
        for ending in (".gpkg", ".parquet"):
            polygene.write(sectors, self.folder / f"s{ending}")
        key = ("--key", "sector")
        for asked in (
            (*key, "--keep", "name"),
            (*key, "--aggregate", "m = max(depth_max)"),
            (*key, "--aggregate", "ha = sum(area(ha))"),
            (*key, "--best", "depth_max", "--with-where", "depth_max > 20"),
            ("--key", "sector = upper(sectr)"),
            ("--key", "sector = upper(sector)", "--pairs", "--alone", "drop"),
            (*key, "--best", "shared"),
        ):
            for source in some_of(("s.gpkg", "s.parquet"), 2):
                found = self.joined(source, asked)
                with mock.patch.object(Wanted, "looked_at", lambda *_: None):
                    self.assertEqual(self.joined(source, asked), found, asked)

    def joined(self, source, asked):
        out = self.folder / "o.geojson"
        out.unlink(missing_ok=True)
        call = ("join", "tolva.gpkg#sectors", "--with", source, *asked, "-o", out, "--quiet")
        done = self.run_polygene(*call)
        return done.code, done.err, out.read_bytes() if out.exists() else b""

    def test_what_is_left_in_the_file(self):
        squares = make.polygons([[[make.square(3 * k, 0, 1)]] for k in range(5)])
        layer = make.layer("s", squares, a=[1, 2, 3, 4, 5], b=list("vwxyz"), c=[0.5] * 5)
        wanted = Wanted(where=Expression("a > 2"), only=lambda names: {"b"} & set(names))
        for ending in PART_READERS:
            path = self.folder / f"s{ending}"
            polygene.write(layer, path, "replace")
            (found,) = format_of(path).read(path, "s", wanted).layers
            self.assertEqual(found.table.column_names, ["a", "b"])
            self.assertEqual(found.table["b"].to_pylist()[-3:], ["x", "y", "z"])
            self.assertEqual(found.geometry.family, Family.POLYGONS)
            self.assertTrue(found.geometry.is_null.all())
            nothing = Wanted(only=lambda _: ())
            (found,) = format_of(path).read(path, "s", nothing).layers
            self.assertEqual((found.table.num_columns, found.n_rows), (0, 5))
            boxed = Wanted(box=(0, 0, 1, 1), only=lambda _: {"b"})
            (found,) = format_of(path).read(path, "s", boxed).layers
            self.assertFalse(found.geometry.is_null.any())
            self.assertEqual(found.table.num_columns, 3)

    def test_where_the_file_does_not_tell_the_family_geometry_is_read(self):
        path = self.folder / "mixed.gpkg"
        polygene.write(make.layer("m", make.points([[np.zeros(2)]] * 2), n=[1, 2]), f"{path}#m")
        with sqlite3.connect(path) as connection:
            connection.execute("UPDATE gpkg_geometry_columns SET geometry_type_name = 'GEOMETRY'")
        connection.close()
        (found,) = format_of(path).read(path, "m", Wanted(only=lambda _: {"n"})).layers
        self.assertFalse(found.geometry.is_null.any())


class Together(cli.WithSample):
    in_process = True

    def test_several_files_as_one_layer(self):
        sectors = polygene.read(f"{self.package}#sectors")
        (self.folder / "parts").mkdir()
        for k, rows in enumerate((np.arange(10), np.arange(10, 24))):
            polygene.write(sectors.take(rows), f"{self.folder}/parts/north_{k}.parquet")
        for text, name in (("parts/#+", "parts"), ("parts/north*.parquet#+", "north")):
            (ref,) = address.resolve(f"{self.folder}/{text}")
            (found,) = addressed.read(ref).layers
            self.assertEqual((found.name, found.table), (name, sectors.table))
            np.testing.assert_array_equal(found.geometry.xy, sectors.geometry.xy)
        asked = Wanted(where=Expression("sector = 'S02'"))
        (part,) = addressed.read(ref, asked).layers
        self.assertEqual(part.n_total, 24)
        done = self.run_polygene("clip", "parts/#+", "--with", "tolva.gpkg#park", "-o", "c.gpkg")
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("24 of 24 features", done.words)
        for layer, reason in [
            (polygene.read(f"{self.package}#buoys"), "points and polygons|polygons and points"),
            (replace(sectors, crs=crs.parse("EPSG:3857")), "merge brings them together"),
            (
                replace(sectors, table=sectors.table.set_column(0, "sector", [list(range(24))])),
                "merge reconciles them",
            ),
        ]:
            polygene.write(layer, f"{self.folder}/parts/other.parquet", "replace")
            done = self.run_polygene("peek", "parts/#+")
            self.assertEqual(done.code, 1)
            self.assertRegex(done.words, reason)


class SeveralRuns(cli.WithSample):
    def test_two_runs_into_one_package_lose_nothing(self):
        program = [sys.executable, "-m", "polygene", "convert"]
        runs = [
            subprocess.Popen(
                [*program, f"tolva.gpkg#{name}", "-o", f"out.gpkg#{name}", "-q"], cwd=self.folder
            )
            for name in ("sectors", "islands", "buoys", "cables")
        ]
        self.assertEqual([run.wait() for run in runs], [0] * 4)
        names = {ref.name for ref in address.resolve(f"{self.folder}/out.gpkg#*")}
        self.assertEqual(len(names), 4)
        same = [
            subprocess.Popen(
                [*program, "tolva.gpkg#sectors", "-o", "same.gpkg", "-q"],
                cwd=self.folder, stderr=subprocess.PIPE, text=True,
            )
            for _ in range(2)
        ]  # fmt: skip
        said = [run.communicate()[1] for run in same]
        self.assertEqual(sorted(run.returncode for run in same), [0, 1], said)
        self.assertTrue(all("exists" in s or "another run" in s for s in said if s))

    def test_a_file_that_is_written_while_it_is_read_is_of_one_state(self):
        """Its rows in another order each time: geometry and attributes of two states would show."""
        states = []
        for seed in range(3):
            numbers = np.random.default_rng(seed).permutation(500)
            column = make.GeometryColumn.from_points(numbers[:, None] * (1.0, 2.0))
            states.append(make.layer("a", column, crs.parse("EPSG:32633"), k=numbers))
        for ending, step in (
            ("shp", "polygene.formats.shapefile.reading._with_attributes"),
            ("fgb", "polygene.formats.flatgeobuf.reading._data"),
            ("csv", "polygene.formats.beside.read"),
        ):
            path = f"{self.folder}/a.{ending}"
            for n_times in (0, 1, 2, 50):
                polygene.write(states[0], path, "replace")
                module, _, name = step.rpartition(".")
                real, left = getattr(sys.modules[module], name), [n_times]

                def meddle(*args, path=path, real=real, left=left):
                    if left[0]:
                        left[0] -= 1
                        polygene.write(states[left[0] % 3], path, "replace", proof=False)
                    return real(*args)

                ref = address.resolve(path)[0]
                with mock.patch(step, meddle), mock.patch("polygene.formats.resting.PAUSE", 0):
                    if n_times == 50 and ending != "csv":  # which is read at one go
                        with self.assertRaisesRegex(FileError, "was changed while it was read"):
                            addressed.read(ref)
                        continue
                    (found,) = addressed.read(ref).layers
                np.testing.assert_array_equal(found.geometry.xy[:, 0], found.table["k"].to_numpy())
                self.assertEqual(found.n_rows, 500)

    def test_a_run_waits_for_another_and_gives_up_in_words(self):
        from polygene.commit import locks

        park = polygene.read(f"{self.package}#park")
        impatient = mock.patch.object(locks, "PATIENCE", 0)
        with locks.alone_in(self.folder), impatient, ThreadPoolExecutor() as pool:
            other = pool.submit(polygene.write, park, f"{self.folder}/p.gpkg")
            with self.assertRaisesRegex(FileError, "another run has been writing"):
                other.result()

    def test_of_runs_that_are_at_one_work_one_goes_on(self):
        from polygene.commit import locks

        file, inside, seen = self.folder / ".lock", [], []

        def take(number):
            for _ in range(200):
                with contextlib.suppress(FileError), locks.only_run(file, "it"):
                    inside.append(number)
                    seen.append(len(inside))
                    inside.remove(number)

        with ThreadPoolExecutor(4) as pool:
            list(pool.map(take, range(4)))
        self.assertEqual(set(seen), {1})
        self.assertFalse(file.exists())
        file.write_text("")  # as a run that was killed leaves it
        with locks.only_run(file, "it"), self.assertRaisesRegex(FileError, "it is worked on by"):
            take_again = locks.only_run(file, "it")
            take_again.__enter__()
        asked = ("clip", "tolva.gpkg#sectors", "--with", "tolva.gpkg#park", "-o", "cut.gpkg")
        with locks.only_run(self.folder / ".cut.tasks.lock", "cut.gpkg"):
            done = cli.polygene_here(*asked, "--tasks", "2", folder=self.folder)
        self.assertEqual((done.code, "cut.gpkg#cut is worked on by" in done.words), (1, True), done)
        done = cli.polygene_here(*asked, "--tasks", "2", folder=self.folder)
        self.assertEqual(done.code, 0, done.err)
        self.assertEqual([p.name for p in self.folder.glob(".*")], [])

    def test_a_result_that_cannot_go_to_its_place_is_kept_and_the_command_puts_it_there(self):
        held = sqlite3.connect(self.package, isolation_level=None)
        held.execute("BEGIN IMMEDIATE")
        asked = ("clip", "tolva.gpkg#sectors", "--with", "tolva.gpkg#park", "-o", "tolva.gpkg#cut")
        with mock.patch("polygene.formats.geopackage.writing.PATIENCE", 0.1):
            done = cli.polygene_here(*asked, folder=self.folder)
        held.close()
        self.assertEqual(done.code, 1)
        self.assertRegex(done.err, "another program is writing .*\n.*\nWhat was computed is kept")
        words = shlex.split(done.err.splitlines()[-1])
        self.assertEqual(cli.polygene_here(*words[1:], folder=self.folder).code, 0)
        self.assertEqual(cli.polygene_here(*asked[:-1], "other.gpkg", folder=self.folder).code, 0)
        kept, other = (
            polygene.read(f"{self.folder}/{name}") for name in ("tolva.gpkg#cut", "other.gpkg")
        )
        same_geometry(self, kept.geometry, other.geometry)
        self.assertTrue(kept.table.equals(other.table))

    def test_a_full_disk_leaves_nothing(self):
        for ending in some_of(("gpkg", "parquet", "fgb", "geojson", "csv", "shp", "ndjson")):
            done = subprocess.run(
                ["bash", "-c", f"ulimit -f 8; {sys.executable} -W error -m polygene "
                 f"convert tolva.gpkg#sectors -o full.{ending}"],
                cwd=self.folder, capture_output=True, text=True,
            )  # fmt: skip
            self.assertEqual(done.returncode, 1, ending)
            self.assertRegex(done.stderr, r"^error: cannot write full")
            self.assertNotIn("Traceback", done.stderr)
        self.assert_only(self.package.name, self.patches.name)

    @mock.patch.dict(os.environ, SOURCE_DATE_EPOCH="1767225600")  # the lineage says when
    def test_a_killed_run_leaves_the_old_file_of_every_format(self):
        layer = polygene.read(f"{self.package}#sectors")
        code = (
            "import sys, polygene; layer = polygene.read(sys.argv[1]); print('ready', flush=True)\n"
            "while True: polygene.write(layer, sys.argv[2], 'replace')"
        )
        for ending in some_of((".parquet", ".fgb", ".geojson", ".csv")):
            path = self.folder / f"old{ending}"
            with warnings.catch_warnings():  # of what a run before has left half done
                warnings.simplefilter("ignore")
                polygene.write(layer, str(path))
            before = path.read_bytes()
            for pause in some_of((0.0, 0.013, 0.05)):
                process = subprocess.Popen(
                    [sys.executable, "-c", code, f"{self.package}#sectors", path],
                    stdout=subprocess.PIPE,
                )
                process.stdout.readline()
                time.sleep(pause)
                os.kill(process.pid, signal.SIGKILL)
                process.wait()
                process.stdout.close()
                self.assertEqual(path.read_bytes(), before, ending)


if __name__ == "__main__":
    unittest.main()
