"""Folders of GeoParquet as one layer: ours, those of others, and such as are not right."""

from __future__ import annotations

import json
import shutil
import tempfile
import time
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

import polygene
from polygene.errors import PolygeneError
from polygene.formats import geoparquet, parquet_parts
from polygene.formats.geoparquet import reading
from polygene.formats.parquet_parts import order
from polygene.formats.parquet_parts.index import Index, PartFacts, read_index
from polygene.geometry import GeometryColumn, concatenate
from polygene.growing.source import Source
from polygene.growing.tasks import tasks_of
from polygene.layer import Layer
from tests.support import generators as make
from tests.support.cli import polygene_here
from tests.support.growing import put, small_groups, sums
from tests.support.layers import same_geometry


class Folders(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        rng = np.random.default_rng(1)
        column = make.coverage(8, 8, 20, rng)
        utm = polygene.crs.parse("EPSG:32633")
        self.layer = make.layer("cells", column, utm, n=np.arange(column.n_rows))

    def parts(self, n_bytes: int = 3_000) -> Path:
        """Write the layer as a folder of several parts."""
        parts = order.Cells.parts
        with mock.patch.object(order.Cells, "parts", lambda cells: parts(cells, n_bytes)):
            wide = self.layer.geometry.with_xy(self.layer.geometry.xy * 500)
            return put(self.folder, replace(self.layer, geometry=wide)).path


class Written(Folders):
    def test_all_is_there_in_several_parts_each_with_its_extent(self):
        place = self.parts()
        files = sorted(place.glob("*.parquet"))
        self.assertGreater(len(files), 3)
        back = polygene.read(str(place))
        order_of = np.argsort(np.asarray(back.table["n"]))
        wide = self.layer.geometry.with_xy(self.layer.geometry.xy * 500)
        same_geometry(self, back.geometry.take(order_of), wide)
        index = json.loads((place / "_parts.json").read_bytes())
        self.assertEqual(index["rows"], 64)
        for part in index["parts"]:
            geo = json.loads(pq.read_metadata(place / part["file"]).metadata[b"geo"])
            self.assertEqual(geo["columns"]["geometry"]["bbox"], part["extent"])
            self.assertIn("covering", geo["columns"]["geometry"])

    def test_readers_of_folders_read_it(self):
        place = self.parts()
        table = pq.read_table(place)  # passes over what begins with an underscore
        self.assertEqual(sorted(table["n"].to_pylist()), list(range(64)))

    def test_the_same_rows_in_any_order_give_the_same_files(self):
        rng = np.random.default_rng(2)
        twice = concatenate([self.layer.geometry, self.layer.geometry])
        fields = {"n": np.arange(128) % 64, "k": [f"k{v}" for v in np.arange(128) // 64]}
        layer = make.layer("twice", twice, self.layer.crs, **fields)
        found = set()
        for _ in range(3):
            place = put(self.folder, layer.take(rng.permutation(128)), 2_000).path
            found.add(tuple(sums(place)))
            shutil.rmtree(place)
        self.assertEqual(len(found), 1)

    def test_a_box_leaves_parts_and_rows_in_the_files(self):
        place = self.parts()
        done = polygene_here(
            "subset", place, "--box", "0,0,15000,15000", "-o", "corner.geojson", folder=self.folder
        )
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("of 64", done.words)

    def test_another_run_replaces_the_whole_folder(self):
        for _ in range(2):
            done = polygene_here(
                "convert", self.parts(), "-o", "out.parquet/", "--replace", folder=self.folder
            )
            self.assertEqual(done.code, 0, done.err)
            shutil.rmtree(self.folder / "cells.parquet")
        self.assertEqual(polygene.read(str(self.folder / "out.parquet")).n_rows, 64)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["out.parquet"])
        refused = polygene_here("convert", self.parts(), "-o", "out.parquet/", folder=self.folder)
        self.assertEqual(refused.code, 1)
        self.assertIn("exists already", refused.words)
        # A folder is replaced as a whole, so it must be of a layer: of ours, or of other writers.
        for name in ("_SUCCESS", ".a.crc", "part-7.parquet"):
            (self.folder / "out.parquet" / name).write_text("")
        (self.folder / "out.parquet" / "notes").mkdir()
        (self.folder / "out.parquet" / "notes" / "mine.txt").write_text("mine")
        replaced = ("convert", self.parts(), "-o", "out.parquet/", "--replace")
        for more in ((), ("--tasks", "2")):
            refused = polygene_here(*replaced, *more, folder=self.folder)
            self.assertEqual(refused.code, 1)
            self.assertIn("out.parquet holds notes/mine.txt, which is no part", refused.words)
        beside = (*replaced[:-1], "--next")
        self.assertEqual(polygene_here(*beside, folder=self.folder).code, 0)
        self.assertTrue((self.folder / "out_2.parquet").is_dir())
        (self.folder / "out.parquet" / "notes" / "mine.txt").unlink()
        self.assertEqual(polygene_here(*replaced, folder=self.folder).code, 0)


class StayingOpen(Folders):
    def test_few_files_stay_open_however_many_are_read(self):
        files = sorted(self.parts().glob("*.parquet"))
        wanted = [geoparquet.boxes_of(file, [0]) for file in files]
        with mock.patch.object(reading, "MOST_OPEN", 2), geoparquet.staying_open():
            kept = reading._kept.get()
            for _ in range(2):
                for file, boxes in zip(files, wanted, strict=True):
                    np.testing.assert_array_equal(geoparquet.boxes_of(file, [0]), boxes)
            self.assertEqual(list(kept), files[-2:])
            geoparquet.boxes_of(files[-2], [0])
            geoparquet.boxes_of(files[0], [0])
            self.assertEqual(list(kept), [files[-2], files[0]])
            last = kept[files[0]]
        self.assertTrue(last.closed)


class Proved(Folders):
    def write(self, instead: Layer) -> None:
        """Write a part of which the file holds other rows than were meant."""
        rows = order.ordered(self.layer)
        own = geoparquet.write_groups

        def write_groups(place: Path, layer: Layer, groups: np.ndarray) -> tuple:
            said = own(place, layer, groups)
            place.unlink()
            own(place, instead, np.minimum(groups, instead.n_rows))
            return said

        with small_groups(1_000), mock.patch.object(geoparquet, "write_groups", write_groups):
            parquet_parts.write_part(self.folder, 0, rows, proves=True)

    def test_every_group_of_a_part_is_read_again(self):
        meant = order.ordered(self.layer).layer
        self.write(meant)
        xy = meant.geometry.xy.copy()
        xy[-2] += 1e-9
        n = np.asarray(meant.table["n"]).copy()
        n[-1] += 1
        for instead, said in (
            (replace(meant, geometry=meant.geometry.with_xy(xy)), "geometry of row 64 is another"),
            (replace(meant, table=pa.table({"n": n})), "field 'n'.* in row 64"),
            (meant.take(np.arange(63)), "63 features instead of 64"),
        ):
            with self.assertRaisesRegex(PolygeneError, f"is not written: .*{said}"):
                self.write(instead)


class OfOthers(Folders):
    def test_a_folder_without_index_is_one_layer(self):
        place = self.parts()
        (place / "_parts.json").unlink()
        self.assertEqual(polygene.read(str(place)).n_rows, 64)
        done = polygene_here(
            "clip", place, "--with", place, "--tasks", "4", "-o", "c.parquet/", folder=self.folder
        )
        self.assertEqual(done.code, 0, done.err)
        self.assertEqual(polygene.read(str(self.folder / "c.parquet")).n_rows, 64)

    def test_folders_by_value_are_refused(self):
        place = self.folder / "x.parquet"
        (place / "code=1").mkdir(parents=True)
        with self.assertRaisesRegex(PolygeneError, "parted by folders of values"):
            polygene.read(str(place))

    def test_parts_that_differ_are_told_by_name(self):
        place = self.parts()
        (place / "_parts.json").unlink()
        first = sorted(place.glob("*.parquet"))[1]
        table = pq.read_table(first)
        texts = table.set_column(0, "n", pa.array(["x"] * table.num_rows))
        pq.write_table(texts, first)
        with self.assertRaisesRegex(
            PolygeneError, rf"fields of 'p00000.parquet' and '{first.name}'"
        ):
            polygene.read(str(place))


class Faults(Folders):
    def test_what_is_not_as_the_index_says(self):
        cases = {
            "are missing": lambda place, files: files[1].unlink(),
            "none of the parts": lambda place, files: shutil.copy(files[1], place / "zz.parquet"),
            "was cut short": lambda place, files: files[1].write_bytes(b"PAR1"),
            "no index": lambda place, files: (place / "_parts.json").write_text("{"),
        }
        for words, harm in cases.items():
            with self.subTest(words):
                place = self.parts()
                harm(place, sorted(place.glob("*.parquet")))
                for command in (("layers", place), ("convert", place, "-o", "x.gpkg")):
                    done = polygene_here(*command, folder=self.folder)
                    self.assertEqual(done.code, 1, command)
                    self.assertIn(words, done.words + done.out)
                    self.assertNotIn("Traceback", done.err)
                shutil.rmtree(place)

    def test_an_empty_layer_is_a_folder_too(self):
        nothing = self.layer.take(np.zeros(0, np.int64))
        place = put(self.folder, nothing).path
        back = polygene.read(str(place))
        self.assertEqual((back.n_rows, back.table.column_names), (0, ["n"]))

    def test_null_and_empty_geometry_keep_apart(self):
        column = make.polygons([[[make.square(0, 0, 5)]], []])
        column = concatenate([column, replace(GeometryColumn.nulls(1), family=column.family)])
        layer = make.layer("odd", column, self.layer.crs, n=np.arange(3))
        back = polygene.read(str(put(self.folder, layer).path))
        by_n = np.argsort(np.asarray(back.table["n"]))
        self.assertEqual(back.geometry.is_null[by_n].tolist(), [False, False, True])
        self.assertEqual(back.geometry.is_empty[by_n].tolist(), [False, True, True])

    def test_ten_thousand_parts_are_planned_in_seconds(self):
        x, y = np.meshgrid(np.arange(100.0), np.arange(100.0))
        corners = np.stack([x.ravel(), y.ravel()], axis=1) * 100
        parts = [
            PartFacts(
                f"p{k:05d}.parquet", 1, "", np.full(4, 8_000), np.full(4, 100_000),
                np.tile([*corner, *(corner + 100)], (4, 1)),
            )
            for k, corner in enumerate(corners)
        ]  # fmt: skip
        index = Index(parts, "polygons")
        again = Index(
            [PartFacts.of_json(json.loads(json.dumps(p.to_json()))) for p in parts], "polygons"
        )
        self.assertEqual(again.checksum(), index.checksum())
        began = time.monotonic()
        source = Source(self.folder, index, "x", self.layer, index.n_rows)
        tasks = tasks_of([source, source], [True, True], 1.0, 20_000_000, False)
        self.assertLess(time.monotonic() - began, 20)
        groups = np.concatenate([task.core[0] for task in tasks])
        self.assertEqual(np.bincount(groups).tolist(), [1] * 40_000)
        self.assertGreater(len(tasks), 100)


class Copies(Folders):
    def test_an_input_that_changes_is_noticed(self):
        from polygene.growing import running
        from tests.support.growing import call_of

        with small_groups():
            ref = put(self.folder, self.layer)

        class Meddling:
            def stage(self, name: str) -> None:
                if name.startswith("task 2"):
                    file = ref.path / "p00000.parquet"
                    file.write_bytes(file.read_bytes())

        with self.assertRaisesRegex(PolygeneError, "was changed while it was worked on"):
            running.run(
                call_of("mend"), [ref], [running.reading.Choice()], self.folder / ".w",
                running.Grounds(tasks=5), Meddling(),
            )  # fmt: skip

    def test_index_is_what_is_read(self):
        place = self.parts()
        index = read_index(place)
        assert index is not None
        self.assertEqual(index.n_rows, 64)
        self.assertEqual(index.extent, polygene.read(str(place)).geometry.extent())
        self.assertEqual(parquet_parts.list_layers(place)[0].n_rows, 64)


if __name__ == "__main__":
    unittest.main()
