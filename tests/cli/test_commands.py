"""The built program on files: what it writes, what it says, how it ends."""

from __future__ import annotations

import contextlib
import io
import json
import os
import shlex
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np

import polygene
from polygene import crs
from polygene.cli.main import cli
from polygene.commands import COMMANDS
from polygene.formats import geopackage
from polygene.measures import row_areas
from polygene.table import aggregate, functions, sizes
from tests.golden import examples
from tests.support import generators as make
from tests.support.chance import some_of
from tests.support.cli import InFolder, WithSample, polygene_here, sample
from tests.support.layers import lasting_work
from tests.support.schema import faults

SAMPLE = [
    "park", "sectors", "islands", "ferry_lanes", "cables", "buoys", "slipways", "beds_marram",
    "beds_kelda",
]  # fmt: skip


class Clip(WithSample):
    in_process = True

    def test_all_layers_of_a_package(self):
        """One layer each, in the order of the source, same names; untouched blobs byte-equal."""
        done = self.run_polygene(
            "clip", "tolva.gpkg#*", "--with", "tolva.gpkg#park", "-o", "out.gpkg", "--json"
        )
        self.assertEqual((done.code, done.err), (0, ""))
        self.assertEqual(geopackage.layer_names(self.folder / "out.gpkg"), SAMPLE)
        self.assert_only("out.gpkg", "tolva.gpkg", "resurvey.geojson")
        results = json.loads(done.out)["results"]
        self.assertEqual([r["summary"]["input"]["name"] for r in results], SAMPLE)
        for result in results:
            summary, name = result["summary"], result["summary"]["input"]["name"]
            counted = (
                summary["whole"] + summary["cut"] + summary["dropped"] + summary["without_geometry"]
            )
            self.assertEqual(counted, summary["input"]["taken"])
            balance = summary["balance"]
            self.assertLessEqual(
                abs(balance["inside"] + balance["outside"] - balance["before"]), balance["bound"]
            )
            before = dict(self.sql("tolva.gpkg", f"SELECT id, geometry FROM {name}"))
            after = dict(self.sql("out.gpkg", f"SELECT id, geometry FROM {name}"))
            same = sum(before[key] == blob for key, blob in after.items())
            n_mended = summary["input"]["admitted"]["mended"]["count"]
            self.assertLessEqual(same, summary["whole"], name)
            self.assertLessEqual(summary["whole"] - same, n_mended, name)
            fields = [f"SELECT * FROM pragma_table_info('{name}')"]
            self.assertEqual(self.sql("out.gpkg", fields[0]), self.sql("tolva.gpkg", fields[0]))
        self.assertEqual(self.sql("out.gpkg", "PRAGMA integrity_check"), [("ok",)])
        mended = [r["summary"]["input"]["admitted"]["mended"]["first"] for r in results[7:9]]
        self.assertEqual(
            mended, [["row 7 (id 7)", "row 19 (id 19)", "row 33 (id 33)"], ["row 12 (id 12)"]]
        )

    def test_what_it_says(self):
        done = self.run_polygene(
            "clip", "tolva.gpkg#sectors", "--where", "depth_max > 50", "--with", "tolva.gpkg#islands",
            "--with-where", "people > 0", "--out", "out.gpkg",
        )  # fmt: skip
        self.assertEqual((done.code, done.out), (0, ""))
        self.assertRegex(
            done.words, r"INPUT sectors: \d+ of 24 features OTHER islands: 5 of 12 features"
        )
        self.assertRegex(
            done.words, r"came out \d+ features: 0 whole, \d+ cut left out \d+ lay outside"
        )
        self.assertRegex(
            done.words,
            r"balance [\d,.]+ km² = [\d,.]+ km² inside \+ [\d,.]+ km² outside, exactly on the grid "
            r"grid borders moved by 0.14 mm at most, areas by under 0.001 m² in all "
            r"valid all \d+ checked",
        )
        self.assertIn("CRS EPSG:32633 WGS 84 / UTM zone 33N written out.gpkg#out in ", done.words)
        self.assertLessEqual(max(map(len, done.err.splitlines())), 80)
        self.assertNotIn("\x1b", done.err)

    def test_other_in_another_system_is_transformed_and_said(self):
        one = "patch = 'R03'"
        done = self.run_polygene(
            "clip", "tolva.gpkg#sectors", "--with", "resurvey.geojson", "--with-where", one,
            "-o", "out.gpkg",
        )  # fmt: skip
        self.assertIn(
            "resurvey was brought from OGC:CRS84 WGS 84 (CRS84) to EPSG:32633", done.words
        )
        inside = row_areas(polygene.read(f"{self.folder}/out.gpkg").geometry).sum()
        back = self.run_polygene(
            "clip", "resurvey.geojson", "--where", one, "--with", "tolva.gpkg#sectors",
            "-o", "back.geojson", "--json",
        )  # fmt: skip
        balance = json.loads(back.out)["results"][0]["summary"]["balance"]
        # The projection's areas differ from the ellipsoid's by 1 part in 1,250 at most.
        self.assertAlmostEqual(balance["inside"] / inside, 1, delta=8e-4)

    def test_next_replace_and_patterns(self):
        clip = ("clip", "tolva.gpkg#buoys", "--with", "tolva.gpkg#park")
        self.assertEqual(self.run_polygene(*clip, "-o", "out.gpkg#in_park").code, 0)
        refused = self.run_polygene(*clip, "-o", "out.gpkg#in_park")
        self.assertEqual(refused.code, 1)
        self.assertIn("--next writes out.gpkg#in_park_2", refused.words)
        for option, names in (
            ("--next", ["in_park", "in_park_2"]),
            ("--next", ["in_park", "in_park_2", "in_park_3"]),
            ("--replace", ["in_park_2", "in_park_3", "in_park"]),
        ):
            self.assertEqual(self.run_polygene(*clip, "-o", "out.gpkg#in_park", option).code, 0)
            self.assertEqual(geopackage.layer_names(self.folder / "out.gpkg"), names)
        self.run_polygene(
            "clip", "tolva.gpkg#*s", "--with", "tolva.gpkg#park", "-o", "cut.gpkg#{name}_park", "-q"
        )
        self.assertEqual(
            geopackage.layer_names(self.folder / "cut.gpkg"),
            [
                f"{n}_park"
                for n in ("sectors", "islands", "ferry_lanes", "cables", "buoys", "slipways")
            ],
        )
        self.run_polygene(
            "clip",
            "tolva.gpkg#buoys",
            "cut.gpkg#slip*",
            "--box",
            "468000,8044000,480000,8056000",
            "-o",
            "folder/",
        )
        self.assertEqual(
            sorted(os.listdir(self.folder / "folder")), ["buoys.gpkg", "slipways_park.gpkg"]
        )

    def test_a_result_is_parted_by_the_values_of_fields(self):
        done = self.run_polygene(
            "convert", "tolva.gpkg#sectors", "tolva.gpkg#beds_marram", "-o", "by/{district}.gpkg"
        )
        self.assertEqual((done.code, os.path.exists(self.folder / "by")), (1, False))
        self.assertIn("beds_marram' has no field 'district'", done.words)
        done = self.run_polygene("convert", "tolva.gpkg#sectors", "-o", "by/{district}.gpkg")
        counts = dict(self.sql("tolva.gpkg", "SELECT district, count(*) FROM sectors GROUP BY 1"))
        self.assertEqual(
            sorted(os.listdir(self.folder / "by")), [f"{d}.gpkg" for d in sorted(counts)]
        )
        for district, n in counts.items():
            found = self.sql(f"by/{district}.gpkg", f"SELECT district FROM {district}")
            self.assertEqual(found, [(district,)] * n)
        done = self.run_polygene(
            "subset", "tolva.gpkg#sectors", "--where", "depth_max > 999", "-o", "no/{district}.gpkg"
        )
        self.assertEqual((done.code, os.path.exists(self.folder / "no")), (0, False))
        self.assertIn(
            "there is no feature, so nothing is written to no/{district}.gpkg", done.words
        )
        self.run_polygene(
            "fields", "tolva.gpkg#sectors", "-o", "odd.gpkg", "--set",
            "kind = CASE WHEN depth_max > 90 THEN NULL WHEN depth_max > 60 THEN 'a/b' "
            "WHEN depth_max > 30 THEN 'A/B' ELSE '' END",
        )  # fmt: skip
        done = self.run_polygene("convert", "odd.gpkg", "-o", "kinds/{name}_{kind}.geojson")
        files = sorted(p.name for p in (self.folder / "kinds").glob("*.geojson"))
        self.assertEqual(len({name.casefold() for name in files}), len(files))
        self.assertIn("odd_blank.geojson", files)
        layers = [polygene.read(self.folder / "kinds" / name) for name in files]
        self.assertEqual(sum(layer.n_rows for layer in layers), 24)
        self.assertEqual({len(layer.table.column("kind").unique()) for layer in layers}, {1})
        done = self.run_polygene("convert", "odd.gpkg", "-o", "all.gpkg#{sector}", "--json")
        written = json.loads(done.out)["results"][0]["written"]
        self.assertEqual((len(written), written[0]), (24, "all.gpkg#S01"))

    def test_layers_of_one_name_from_several_files(self):
        (self.folder / "north").mkdir()
        for name in ("east", "west"):
            polygene.write(
                polygene.read(f"{self.package}#buoys"), f"{self.folder}/north/{name}.gpkg#buoys"
            )
        done = self.run_polygene(
            "clip", "north/", "--with", "tolva.gpkg#park", "-o", "out.gpkg", "-q"
        )
        self.assertEqual((done.code, done.err), (0, ""))
        self.assertEqual(
            geopackage.layer_names(self.folder / "out.gpkg"), ["east_buoys", "west_buoys"]
        )

    def test_single_parts_and_whole(self):
        clip = ("clip", "tolva.gpkg#cables", "--with", "tolva.gpkg#islands", "--json")
        cut = self.run_polygene(*clip, "-o", "parts.gpkg", "--single-parts")
        parts = polygene.read(f"{self.folder}/parts.gpkg")
        self.assertEqual(json.loads(cut.out)["results"][0]["summary"]["out"], parts.n_rows)
        self.assertEqual(np.diff(parts.geometry.row_offsets).max(), 1)
        self.run_polygene(*clip, "-o", "whole.gpkg", "--whole")
        cables = dict(self.sql("tolva.gpkg", "SELECT cable, geometry FROM cables"))
        whole = self.sql("whole.gpkg", "SELECT cable, geometry FROM whole")
        self.assertTrue(whole)
        self.assertTrue(all(cables[cable] == shape for cable, shape in whole))

    def test_input_and_output_in_one_file(self):
        done = self.run_polygene(
            "clip",
            "tolva.gpkg#islands",
            "--with",
            "tolva.gpkg#park",
            "-o",
            "tolva.gpkg#park_islands",
        )
        self.assertEqual(done.code, 0)
        self.assertEqual(geopackage.layer_names(self.package), [*SAMPLE, "park_islands"])

    def test_precision_with_unit(self):
        done = self.run_polygene(
            "clip",
            "tolva.gpkg#sectors",
            "--with",
            "tolva.gpkg#park",
            "--precision",
            "1cm",
            "-o",
            "o.gpkg",
            "--json",
        )
        self.assertEqual(json.loads(done.out)["results"][0]["summary"]["precision"], 0.01)

    def test_compiled_and_uncompiled_kernels_write_the_same(self):
        layers = (
            "tolva.gpkg#sectors",
            "tolva.gpkg#cables",
            "tolva.gpkg#buoys",
            "tolva.gpkg#beds_kelda",
        )
        for name, setting in (("c.gpkg", "compiled"), ("p.gpkg", "python")):
            done = self.run_polygene(
                "clip", *layers, "--with", "tolva.gpkg#park", "-o", name, POLYGENE_KERNELS=setting
            )
            self.assertEqual(done.code, 0)
        for layer in ("sectors", "cables", "buoys", "beds_kelda"):
            query = f"SELECT * FROM {layer}"
            self.assertEqual(self.sql("c.gpkg", query), self.sql("p.gpkg", query))


class Overlays(WithSample):
    in_process = True

    def overlay(self, *arguments):
        done = self.run_polygene(*arguments, "--json")
        self.assertEqual(done.code, 0, done.err)
        (result,) = json.loads(done.out)["results"]
        return result["summary"], polygene.read(f"{self.folder}/{result['written']}")

    def test_what_is_finer_than_the_grid_is_told_for_what_became_of_it(self):
        """It is lost in a union; what supersedes comes out whole, and takes nothing away."""
        for name, boxes in (("wide", [(0, 0, 100)]), ("fine", [(31, 31, 2), (40, 40, 30)])):
            rows = make.polygons([[[make.square(*box)]] for box in boxes])
            layer = make.layer(name, rows, crs.parse("EPSG:32633"), n=range(len(boxes)))
            polygene.write(layer, self.folder / f"{name}.gpkg")
        for command, said, n, area in (
            ("union", "nothing is left of 1 feature too thin for a grid of 10: row 1", 2, 10_000),
            ("supersede", "1 feature too thin for a grid of 10 cut nothing away: row 1", 3, 10_004),
        ):
            words = (command, "wide.gpkg", "--with", "fine.gpkg", "--precision", "10")
            done = self.run_polygene(*words, "-o", "o.gpkg", "--replace")
            found = polygene.read(self.folder / "o.gpkg").geometry
            with self.subTest(command):
                self.assertIn(f"fine: {said}", done.words)
                self.assertEqual((found.n_rows, row_areas(found).sum()), (n, area))

    def test_what_each_makes_of_the_sample(self):
        """Shore zones by sectors as one union; its parts are what the others make."""
        pair = ("tolva.gpkg#sectors", "--with", "tolva.gpkg#islands")
        union, table = self.overlay("union", *pair, "-o", "u.gpkg", "--origins")
        intersect, _ = self.overlay("intersect", *pair, "-o", "i.gpkg")
        erase, _ = self.overlay("erase", *pair, "-o", "e.gpkg")
        imprint, _ = self.overlay("imprint", *pair, "-o", "m.gpkg")
        self.assertEqual(union["both"], intersect["out"])
        self.assertEqual(union["input_only"], erase["out"])
        self.assertEqual(imprint["out"], intersect["out"] + erase["out"])
        self.assertEqual(union["out"], table.n_rows)
        names = table.table.column_names
        self.assertEqual(
            names[7:], ["islands_name", "people", "landing", "sectors_origin", "islands_origin"]
        )
        self.assertEqual(table.table["islands_origin"].null_count, union["input_only"])

    def test_three_layers_at_once(self):
        summary, layer = self.overlay(
            "intersect", "tolva.gpkg#beds_marram", "--with", "tolva.gpkg#beds_kelda",
            "--with", "tolva.gpkg#sectors", "-o", "three.gpkg",
        )  # fmt: skip
        self.assertEqual([side["name"] for side in summary["others"]], ["beds_kelda", "sectors"])
        self.assertEqual(layer.n_rows, summary["both"])

    def test_the_next_version_of_a_master(self):
        command = ("supersede", "tolva.gpkg#beds_marram", "--with", "resurvey.geojson")
        for name in ("beds", "beds_2", "beds_3"):
            self.run_polygene(*command, "-o", "master.gpkg#beds", "--next")
            self.assertEqual(geopackage.layer_names(self.folder / "master.gpkg")[-1], name)
        done = self.run_polygene(*command, "-o", "once.gpkg")
        self.assertRegex(done.words, r"came out 78 features: 64 of beds_marram, 14 of resurvey")

    def test_dissolve_says_what_disagreed(self):
        done = self.run_polygene(
            "dissolve", "tolva.gpkg#sectors", "--by", "district", "-o", "d.gpkg"
        )
        self.assertIn("sectors dissolved by district", done.words)
        self.assertRegex(done.words, r"disagreed sector in 5, name in 5, depth_max in 5")
        districts = polygene.read(f"{self.folder}/d.gpkg")
        self.assertEqual(districts.table["district_name"].null_count, 0)
        refused = self.run_polygene(
            "dissolve", "tolva.gpkg#sectors", "--by", "distrct", "-o", "x.gpkg"
        )
        self.assertEqual(refused.code, 1)
        self.assertIn("did you mean 'district'", refused.words)

    def test_a_balance_that_fails_writes_no_result_and_can_be_looked_into(self):
        code = (
            "import sys, polygene.cli.main as m, polygene.plane.proof as o, polygene.errors as e\n"
            "def fail(*_): raise e.BalanceError('a row and its borders (number 3): 1 and 2')\n"
            "o._check = fail\n"
            "sys.argv = ['polygene', 'erase', 'tolva.gpkg#sectors', '--with', 'tolva.gpkg#islands',\n"
            "            '-o', 'x.gpkg', '--keep-dump', 'why']; m.main()"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], cwd=self.folder, capture_output=True, text=True
        )
        self.assertEqual(done.returncode, 3)
        self.assertIn("is kept in why", done.stderr)
        self.assert_only("tolva.gpkg", "resurvey.geojson", "why")
        self.assertEqual(
            geopackage.layer_names(self.folder / "why/layers.gpkg"), ["input", "other_1"]
        )
        self.assertIn("erase 'tolva.gpkg#sectors'", (self.folder / "why/command.txt").read_text())

    def test_a_snap_and_slivers_given_away_are_said(self):
        done = self.run_polygene(
            "union", "tolva.gpkg#beds_kelda", "--with", "tolva.gpkg#beds_marram", "-o", "out.gpkg",
            "--snap", "12m", "--give-slivers", "5m",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        self.assertRegex(
            done.words, r"snap 29 vertices moved, 1[012][.\d]* m at most, and 20 added in 15"
        )
        self.assertRegex(done.words, r"thinner than 12 m: \d+ without the snap, \d+ with it")
        self.assertRegex(done.words, r"slivers \d+ parts? thinner than 5 m given to a neighbour")

    def test_crossings_of_lines(self):
        done = self.run_polygene(
            "intersect", "tolva.gpkg#cables", "--with", "tolva.gpkg#ferry_lanes", "--crossings",
            "-o", "out.gpkg#at", "--single-parts",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        self.assertRegex(done.err, r"4 features: 4 points in which 3 pairs of lines meet")
        rows = self.sql("out.gpkg", "SELECT cable, lane FROM at")
        self.assertEqual(len(rows), 4)
        self.assertIn(("TC-4", "Outer Round"), rows)

    def test_layers_apart_give_an_empty_result(self):
        """No overlap is a result: the right fields, no rows, a sentence."""
        lone = make.layer(
            "lone", make.polygons([[[make.square(0, 0, 5)]]]), crs.parse("EPSG:32633"), n=[1]
        )
        polygene.write(lone, f"{self.folder}/lone.gpkg")
        done = self.run_polygene(
            "intersect", "tolva.gpkg#sectors", "--with", "lone.gpkg", "-o", "x.gpkg"
        )
        self.assertEqual(done.code, 0)
        self.assertIn("nothing lies inside; the result is empty", done.words)
        self.assertEqual(polygene.read(f"{self.folder}/x.gpkg").table.column_names[-1], "n")
        refused = self.run_polygene(
            "union", "tolva.gpkg#cables", "--with", "lone.gpkg", "-o", "y.gpkg"
        )
        self.assertEqual(refused.code, 1)
        self.assertIn("imprint splits lines and points", refused.words)


class OneShape(WithSample):
    in_process = True

    """What --json prints is of one shape, whatever the command and however it ends."""

    def document(self, code, *arguments):
        done = self.run_polygene(*arguments, "--json")
        self.assertEqual(done.code, code, done.err)
        schema = json.loads((Path(__file__).parents[2] / "docs/output.schema.json").read_text())
        found = json.loads(done.out)
        self.assertEqual(faults(found, schema, schema), [])
        return found

    def test_done_in_part_and_not_at_all(self):
        buoys, park = "tolva.gpkg#buoys", "tolva.gpkg#park"
        clip = self.document(0, "clip", buoys, "--with", park, "-o", "a.gpkg")
        self.assertEqual((clip["command"], clip["failed"]), ("clip", []))
        self.assertEqual(clip["results"][0]["summary"]["whole"], 59)
        self.assertGreater(clip["seconds"], 0)
        for words in (("peek", buoys), ("audit", park), ("tally", buoys, "--by", "kind")):
            found = self.document(0, *words)
            self.assertEqual((found["command"], len(found["results"])), (words[0], 1))
        drafted = self.document(0, "merge", "tolva.gpkg#beds_*", "--propose", "s.yaml")["results"]
        self.assertIn("bed_id", [one["field"] for one in drafted[0]["proposed"]])
        again = self.document(0, "run", "again.yaml", "--from-lineage", "a.gpkg")["results"]
        self.assertEqual((again[0]["steps"], again[0]["inputs"]), (1, 2))
        (self.folder / "bad.gpkg").write_text("no")
        found = self.document(1, "layers", "tolva.gpkg", "bad.gpkg")
        self.assertEqual((len(found["results"]), len(found["failed"])), (1, 1))
        self.assertIn("bad.gpkg", found["failed"][0]["source"])
        for code, words, reason in (
            (
                1,
                ("clip", "nope.gpkg", "--with", park, "-o", "b.gpkg"),
                "there is no file nope.gpkg",
            ),
            (2, ("clip", buoys), "--out"),
        ):
            found = self.document(code, *words)
            self.assertEqual(found["results"], [])
            self.assertIn(reason, found["failed"][0]["reason"])

    def test_a_reader_that_left_before_an_error(self):
        command = [sys.executable, "-m", "polygene", "layers", "nope.gpkg", "--json"]
        reads, writes = os.pipe()
        os.close(reads)
        done = subprocess.run(
            command, cwd=self.folder, stdout=writes, stderr=subprocess.PIPE, text=True
        )
        os.close(writes)
        self.assertEqual(done.returncode, 1)
        self.assertIn("there is no file nope.gpkg", done.stderr)
        self.assertNotIn("Traceback", done.stderr)


class BadInput(WithSample):
    in_process = True

    def refused(self, code, reason, *arguments, left=()):
        before = {p.name: p.read_bytes() for p in self.folder.iterdir() if p.is_file()}
        done = self.run_polygene(*arguments)
        self.assertEqual(done.code, code, done.err)
        self.assertRegex(done.words, reason)
        self.assertNotIn("Traceback", done.err)
        after = {p.name: p.read_bytes() for p in self.folder.iterdir() if p.is_file()}
        self.assertEqual(before, after)

    def test_each_is_a_sentence_with_the_right_code_and_writes_nothing(self):
        (self.folder / "bad.gpkg").write_text('{"type": "FeatureCollection"}')
        (self.folder / "bad.geojson").write_bytes(self.package.read_bytes()[:5000])
        (self.folder / "empty.gpkg").write_bytes(b"")
        (self.folder / "cut.gpkg").write_bytes(self.package.read_bytes()[:40_000])
        (self.folder / "cut.geojson").write_bytes(self.patches.read_bytes()[:900])
        bare = make.layer("bare", make.polygons([[[make.square(0, 0, 1)]]]))
        nan = make.layer("nan", make.points([[np.array([1.0, np.nan])]]), crs.parse("EPSG:32633"))
        polygene.write(bare, f"{self.folder}/bare.gpkg")
        polygene.write(nan, f"{self.folder}/nan.gpkg")
        for code, reason, line in [
            (1, "no file tolva.gkpg; did you mean 'tolva.gpkg'", "tolva.gkpg PARK OUT"),
            (1, "no layer 'sektors'; did you mean 'sectors'.* its layers: sectors",
             "tolva.gpkg#sektors PARK OUT"),
            (1, "holds 9 layers; say which", "tolva.gpkg PARK OUT"),
            (1, "ending '.xyz' is not known", "tolva.gpkg#park PARK -o out.xyz"),
            (2, "no field 'dept'; did you mean 'depth_max'",
             "tolva.gpkg#sectors PARK OUT --where dept>1"),
            (2, "ends too early", "tolva.gpkg#sectors PARK OUT --where depth_max>"),
            (1, "is no GeoPackage, whatever its ending says: it looks like GeoJSON",
             "bad.gpkg PARK OUT"),
            (1, "is no GeoJSON, whatever its ending says: it looks like GeoPackage",
             "bad.geojson PARK OUT"),
            (1, "is empty: it holds not a single byte", "empty.gpkg PARK OUT"),
            (1, "damaged or cut short", "cut.gpkg#beds_kelda PARK OUT"),
            (1, "cut.geojson is cut short: line", "cut.geojson PARK OUT"),
            (1, "layer 'nan', row 1 \\(id 1\\): a coordinate is not a finite number",
             "nan.gpkg PARK OUT"),
            (1, "layer 'bare' has no CRS .* say with --crs", "bare.gpkg PARK OUT"),
            (1, "OTHER, layer 'buoys', holds points", "tolva.gpkg#park --with tolva.gpkg#buoys OUT"),
            (1, "none of its 24 features is left",
             "tolva.gpkg#park --with tolva.gpkg#sectors --with-where depth_max<0 OUT"),
            (2, "OTHER must be one layer", "tolva.gpkg#park --with tolva.gpkg#b* OUT"),
            (1, "there is no folder nowhere", "tolva.gpkg#park PARK -o nowhere/out.gpkg"),
            (1, "exists already; --replace overwrites it, --next writes tolva.gpkg#park_2",
             "tolva.gpkg#park PARK -o tolva.gpkg#park"),
            (2, "several results would be written to out.geojson",
             "tolva.gpkg#* PARK -o out.geojson"),
            (2, "several results would be written to out.gpkg#x", "tolva.gpkg#* PARK -o out.gpkg#x"),
            (2, "belong to the format", "tolva.gpkg#park PARK -o out.gpkg#gpkg_x"),
            (2, "either --with OTHER or --box", "tolva.gpkg#park OUT"),
            (2, "encloses nothing", "tolva.gpkg#park --box 5,5,1,1 OUT"),
            (2, "'lightyear' is no unit of length",
             "tolva.gpkg#park PARK OUT --precision 1lightyear"),
            (2, "exclude each other", "tolva.gpkg#park PARK OUT --next --replace"),
            (1, "no CRS that is known here", "bare.gpkg PARK OUT --crs EPSG:0"),
        ]:  # fmt: skip
            line = line.replace("PARK", "--with tolva.gpkg#park").replace("OUT", "-o out.gpkg")
            with self.subTest(reason=reason):
                self.refused(code, reason, "clip", *line.split())

    def test_a_crs_can_be_given(self):
        bare = make.layer("bare", make.polygons([[[make.square(480_000, 7_380_000, 100)]]]))
        polygene.write(bare, f"{self.folder}/bare.gpkg")
        done = self.run_polygene(
            "clip",
            "bare.gpkg",
            "--with",
            "tolva.gpkg#park",
            "--crs",
            "EPSG:32633",
            "-o",
            "out.gpkg",
        )
        self.assertEqual(done.code, 0)
        self.assertEqual(crs.code(polygene.read(f"{self.folder}/out.gpkg").crs), ("EPSG", "32633"))

    def test_nothing_inside_is_a_result(self):
        done = self.run_polygene("clip", "tolva.gpkg#buoys", "--box", "0,0,1,1", "-o", "out.gpkg")
        self.assertEqual(done.code, 0)
        self.assertIn("nothing lies inside; the result is empty", done.words)
        self.assertEqual(polygene.read(f"{self.folder}/out.gpkg").table.num_columns, 4)

    def test_the_folder_one_is_in_is_gone(self):
        gone = Path(tempfile.mkdtemp())
        code = "import os; os.rmdir(os.getcwd()); from polygene.cli.main import main; exit(main())"
        done = subprocess.run(
            [sys.executable, "-c", code, "layers", "x.gpkg"],
            cwd=gone, capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("the folder you are in is no longer there", " ".join(done.stderr.split()))

    def test_a_full_disk(self):
        """With no room for the result the old file stays and nothing lies beside it."""
        before = self.package.read_bytes()
        program = f"ulimit -f 30; exec {sys.executable} -m polygene clip"
        for source, out in (
            ("tolva.gpkg#*", "tolva.gpkg#x_{name}"),
            ("tolva.gpkg#*", "new.gpkg"),
            ("tolva.gpkg#sectors", "new.geojson"),
        ):
            line = f"{program} '{source}' --box 466000,8043000,494000,8059000 -o '{out}'"
            done = subprocess.run(
                ["bash", "-c", line], cwd=self.folder, capture_output=True, text=True
            )
            self.assertEqual(done.returncode, 1, done.stderr)
            self.assertIn("cannot write", done.stderr)
            self.assert_only("tolva.gpkg", "resurvey.geojson")
        self.assertEqual(self.package.read_bytes(), before)

    def test_an_interrupt_leaves_nothing(self):
        lasting_work(self.folder)
        program = "import polygene.cli.main as m; print(flush=True); m.program()"
        command = [sys.executable, "-c", program, "union", "up.gpkg", "--with", "across.gpkg"]
        for number in some_of((signal.SIGINT, signal.SIGTERM)):
            process = subprocess.Popen(
                [*command, "-o", "out.gpkg"], cwd=self.folder, text=True,
                stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            )  # fmt: skip
            self.addCleanup(process.kill)
            process.stdout.readline()  # a signal before the program stands is Python's, not ours
            time.sleep(0.5)
            process.send_signal(number)
            _, err = process.communicate(timeout=60)
            if process.returncode != 0:
                self.assertEqual(process.returncode, 130)
                self.assertIn("interrupted; nothing was written", err)
                self.assert_only("tolva.gpkg", "resurvey.geojson", "up.gpkg", "across.gpkg")
            else:
                (self.folder / "out.gpkg").unlink()


class Look(WithSample):
    in_process = True

    def test_what_a_format_holds_otherwise_of_problems_and_changes_is_told(self):
        for words in (
            ("audit", "tolva.gpkg#beds_marram", "-o", "p.geojson"),
            (
                "compare",
                "tolva.gpkg#beds_marram",
                "tolva.gpkg#beds_kelda",
                "--changes",
                "-o",
                "c.shp",
            ),
        ):
            done = self.run_polygene(*words, "--json")
            with self.subTest(words[0]):
                self.assertEqual(done.code, 0, done.err)
                told = " ".join(json.loads(done.out)["notes"])
                self.assertRegex(told, "to longitude and latitude|in a shapefile")

    def test_layers(self):
        done = self.run_polygene("layers", ".")
        self.assertEqual(done.code, 0)
        self.assertRegex(done.out, r"ferry_lanes +5 multilines +4 +470051 8043675 491206 8058241")
        self.assertIn("CRS        EPSG:32633 WGS 84 / UTM zone 33N", done.out)
        self.assertLessEqual(max(map(len, done.out.splitlines())), 80)
        facts = json.loads(self.run_polygene("layers", "tolva.gpkg", "--json").out)["results"]
        self.assertEqual([y["name"] for y in facts[0]["layers"]], SAMPLE)
        self.assertEqual(facts[0]["layers"][4]["geometry"], "multiline Z")

    def test_peek(self):
        done = self.run_polygene(
            "peek",
            "tolva.gpkg#buoys",
            "--sort",
            "-tonnes",
            "--rows",
            "2",
            COLUMNS="80",
        )
        self.assertIn("geometry   1 null", done.out)
        self.assertRegex(done.out, r"tonnes +real +46 +2\.7 … 38\.4")
        self.assertRegex(
            done.out, r"kind +text\(12\) +0 +3 different: mooring \(44\), research \(25\)"
        )
        self.assertLessEqual(max(map(len, done.out.splitlines())), 80)
        facts = json.loads(
            self.run_polygene(
                "peek", "tolva.gpkg#buoys", "--sort", "tonnes", "--rows", "-1", "--json"
            ).out
        )["results"][0]
        self.assertIsNone(facts["rows"][0]["tonnes"])
        facts = json.loads(
            self.run_polygene("peek", "tolva.gpkg#buoys", "--rows", "4-6", "--json").out
        )["results"][0]
        self.assertEqual([row["id"] for row in facts["rows"]], [104, 105, 106])
        distinct = self.run_polygene(
            "peek", "tolva.gpkg#beds_kelda", "--distinct", "SPEC", "--where", "Obs = 'ford'"
        )
        self.assertRegex(distinct.out, r"of 52 features(.|\n)*Z\. mar +\d+")
        for arguments, reason in (
            (("--sort", "tonns"), "did you mean 'tonnes'"),
            (("--distinct", "x"), "no field 'x'"),
            (("--rows", "9-3"), "rows count from 1"),
        ):
            refused = self.run_polygene("peek", "tolva.gpkg#buoys", *arguments)
            self.assertIn(refused.code, (1, 2))
            self.assertIn(reason, refused.words)

    def test_demo(self):
        done = self.run_polygene("demo", "here")
        self.assertEqual(done.code, 0, done.err)
        self.assertEqual(
            sorted(p for p in os.listdir(self.folder / "here") if not p.startswith(".")),
            [
                "landings.csv",
                "map.png",
                "recipe.yaml",
                "report.html",
                "result.gpkg",
                "resurvey.geojson",
                "seagrass.csv",
                "surveys.yaml",
                "tolva.gpkg",
                "waters.geojson",
            ],
        )
        for name in some_of(
            set(os.listdir(self.folder / "here")) - {"tolva.gpkg", ".polygene-work"}, 4
        ):
            with self.subTest(name), tempfile.TemporaryDirectory(dir=self.folder) as other:
                (Path(other) / name).write_text("mine")
                refused = self.run_polygene("demo", other)
                self.assertEqual(refused.code, 1)
                self.assertIn("the demo would overwrite it", refused.words)
                self.assertEqual(os.listdir(other), [name])
        self.assertEqual(
            geopackage.layer_names(self.folder / "here/result.gpkg"),
            [
                "park_beds",
                "quiet_zones",
                "districts",
                "buoys",
                "lane_over_cable",
                "park_cables",
                "park_lanes",
            ],
        )
        self.assertLess(
            sum(p.stat().st_size for p in (self.folder / "here").glob("[!.]*")), 3_000_000
        )
        self.assertEqual(
            (self.folder / "here/tolva.gpkg").stat().st_size, self.package.stat().st_size
        )


class Program(InFolder):
    def test_help_is_grouped_and_loads_nothing_heavy(self):
        alone, asked = self.run_polygene(), self.run_polygene("-h")
        self.assertEqual((alone.code, alone.out), (0, asked.out))
        self.assertRegex(alone.out, r"Look at layers:\n +layers .*\n +peek ")
        command = [sys.executable, "-X", "importtime", "-m", "polygene", "--help"]
        loaded = subprocess.run(command, capture_output=True, text=True).stderr
        self.assertIn("click", loaded)
        self.assertNotRegex(loaded, r"\b(numpy|pyarrow|pyproj|lark)\b")

    def test_names_of_layers_load_nothing_that_is_not_needed(self):
        code = (
            "import sys\n"
            "from polygene.cli import completing, main\n"
            f"package = {str(sample()[0])!r}\n"
            "assert completing.addresses(None, None, package[:-1]) == [package]\n"
            "assert package + '#park' in completing.addresses(None, None, package + '#pa')\n"
            "def loaded(): return {'numpy', 'pyarrow', 'pyproj'} & set(sys.modules)\n"
            "assert not loaded(), loaded()\n"
            "main.cli.main(['layers', package, '--json'], standalone_mode=False)\n"
            "assert not loaded(), loaded()"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("EPSG:32633", done.stdout)

    def test_a_request_to_stop_is_heard_from_the_beginning_and_once(self):
        began = """if 1:
            import os, sys
            from polygene.cli import begin
            class Finder:
                def find_spec(self, name, *_):
                    os.kill(os.getpid(), 2)
            sys.meta_path.insert(0, Finder())
            begin.program()
        """
        twice = """if 1:
            import os, signal
            import polygene.cli.main as m
            def run(**_):
                try:
                    os.kill(os.getpid(), 2)
                    signal.pause()
                except KeyboardInterrupt as err:
                    os.kill(os.getpid(), 2)
                    raise RuntimeError from err  # as of Python, where it was making a class
            m.cli.main = run
            m.program()
        """
        for code in (began, twice):
            done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
            said = "error: interrupted; nothing was written\n"
            self.assertEqual((done.returncode, done.stderr), (130, said))

    def test_small_commands_load_nothing_that_is_not_needed(self):
        code = (
            "import contextlib, io, sys\n"
            "NEVER = {'pyarrow.compute', 'pyarrow.parquet', 'numpy.ma', 'lark', 'pyproj'}\n"
            "from polygene.cli import main\n"
            "for words in WORDS:\n"
            "    with contextlib.redirect_stderr(io.StringIO()):\n"
            "        main.cli.main([*words, '-o', 'o.gpkg', '--replace'], standalone_mode=False)\n"
            "    seen = NEVER & set(sys.modules)\n"
            "    may = {'lark'} if words[0] in ('subset', 'fields') else set()\n"
            "    assert seen <= may, (words, seen)\n"
        )
        package = str(sample()[0])
        sectors, beds = f"{package}#sectors", f"{package}#beds_marram"
        words = [
            ["clip", sectors, "--with", beds], ["union", sectors, "--with", beds],
            ["dissolve", sectors, "--by", "district_name"], ["buffer", beds, "--distance", "5m"],
            ["merge", sectors, beds], ["join", sectors, "--with", beds, "--relation", "nearest"],
            ["subset", sectors, "--where", "depth_max > 50 and name <> 'x'"],
            ["fields", sectors, "--set", "deep = upper(trim(name))"],
        ]  # fmt: skip
        done = subprocess.run(
            [sys.executable, "-c", code.replace("WORDS", repr(words))], cwd=self.folder,
            capture_output=True, text=True,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_every_command_ends_its_help_with_an_example(self):
        for name in COMMANDS:
            with self.subTest(command=name):
                text = polygene_here(name, "--help", folder=self.folder).out
                self.assertRegex(text, rf"Examples?:\n +polygene {name} ")
                self.assertLessEqual(max(map(len, text.splitlines())), 80)

    def test_examples_of_the_help_run(self):
        self.run_polygene("demo", ".")
        # The one runs until it is stopped (see tests/serving), the other did just now.
        for name in some_of(sorted(set(COMMANDS) - {"serve", "demo"}), 9):
            for line in examples(name):
                arguments = shlex.split(line)
                writes = {"-o", "--propose", "--chart"} & set(arguments)
                said = io.StringIO()
                with (
                    self.subTest(line=line), contextlib.chdir(self.folder),
                    contextlib.redirect_stdout(said), contextlib.redirect_stderr(said),
                ):  # fmt: skip
                    cli.main(
                        [*arguments, *(["--replace"] if writes else [])], standalone_mode=False
                    )
                self.assertTrue(said.getvalue(), line)

    def test_the_docs_name_every_command_function_and_aggregate(self):
        docs = Path(__file__).parents[2] / "docs"
        pages = "".join(
            (docs / f"{p}.md").read_text()
            for p in ("look", "derive", "attributes", "place", "keys", "formats", "web")
        )
        for name in COMMANDS:
            if name not in ("demo", "run"):
                self.assertTrue(f"\n## {name}\n" in pages, name)
        page = (docs / "expressions.md").read_text()
        for name in (*functions.FUNCTIONS, *aggregate.FUNCTIONS):
            self.assertIn(f"| `{name}` |", page)
        for name in sizes.GEOMETRY_FUNCTIONS:
            self.assertIn(f"| `{name}()` |", page)

    def test_a_mistyped_command(self):
        done = self.run_polygene("clib")
        self.assertEqual(done.code, 2)
        self.assertIn("there is no command 'clib'; did you mean 'clip'?", done.words)

    def test_our_own_bugs_say_so(self):
        code = (
            "import sys, polygene.cli.main as m, polygene.cli.layers\n"
            "polygene.cli.layers.layers.callback = lambda **_: 1 / 0\n"
            "sys.argv = ['polygene', 'layers', 'x']; m.main()"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.returncode, 3)
        self.assertIn("ZeroDivisionError", done.stderr)
        self.assertIn("a bug in Polygene", done.stderr)

    def test_the_process_ends_at_once_but_not_before_its_time(self):
        """Other threads come to their end, what others registered is done, all is said."""
        code = (
            "import atexit, os, sys, threading, time\n"
            "from polygene.cli import main\n"
            "def late(): time.sleep(0.2); print('thread')\n"
            "def version(): threading.Thread(target=late).start(); atexit.register(print, 'tidied')\n"
            "class Late:\n"
            "    def __del__(self, write=os.write): write(1, b'taken apart\\n')\n"
            "late_one = Late()\n"
            "main.cli.main = lambda **_: (version(), exec(END))\n"
            "TRACE\n"
            "main.program()"
        )
        for end, trace, status, said in (
            ("None", "", 0, "thread\ntidied\n"),
            ("raise main.UsageError('no')", "", 2, "thread\ntidied\n"),
            ("None", "sys.setprofile(lambda *_: None)", 0, "thread\ntidied\ntaken apart\n"),
        ):
            text = code.replace("END", repr(end)).replace("TRACE", trace)
            done = subprocess.run([sys.executable, "-c", text], capture_output=True, text=True)
            self.assertEqual((done.returncode, done.stdout), (status, said), done.stderr)
        full = subprocess.run(
            f"{sys.executable} -m polygene --version > /dev/full", shell=True, capture_output=True
        )
        self.assertEqual(full.returncode, 1)

    def test_the_public_surface(self):
        """Every command is a function, and there is not much else."""
        self.assertEqual(
            set(polygene.__all__) - set(COMMANDS),
            {"__version__", "Layer", "GeometryColumn", "Family", "Expression", "PolygeneError",
             "crossings", "single_parts", "read", "write", "as_layer"},
        )  # fmt: skip
        self.assertEqual(set(COMMANDS) - set(polygene.__all__), {"demo", "serve"})
        for name in polygene.__all__:
            self.assertIsNotNone(getattr(polygene, name))


class Memory(InFolder):
    def test_a_work_that_needs_more_than_it_may_take_ends_with_words(self):
        done = polygene_here("--memory", "3GiB", "layers", ".", folder=self.folder)
        self.assertEqual(done.code, 1)  # there is nothing here; the size is understood
        for size in ("2", "2XB", "-1GB", "100MB"):
            done = polygene_here("--memory", size, "layers", ".", folder=self.folder)
            self.assertEqual((done.code, "--memory" in done.err), (2, True), size)
        code = (
            "import sys; sys.argv[1:] = ['--memory', '500MB', 'layers', '.']\n"
            "from unittest import mock; from polygene.cli import main, layers\n"
            "import numpy as np\n"
            "with mock.patch.object(layers.layers, 'callback', lambda **_: np.ones(10**9)): main.main()"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], cwd=self.folder, capture_output=True, text=True
        )
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertRegex(done.stderr, "^error: not enough memory for this work")


if __name__ == "__main__":
    unittest.main()
