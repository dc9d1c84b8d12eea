"""Every format there and back; what others read of what we write; what is damaged."""

from __future__ import annotations

import tempfile
import unittest
import warnings
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import orjson
import pyarrow as pa
import pyarrow.parquet as pq
import shapefile

from polygene import crs
from polygene.errors import DataError, FileError, GeometryError, PolygeneError
from polygene.formats import geoparquet
from polygene.formats.geoparquet import groups
from polygene.formats.nesting import nested
from polygene.formats.registry import format_of
from polygene.formats.wanted import Wanted
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.ops.reproject import reproject
from tests.support import generators as make
from tests.support.chance import many, some_of
from tests.support.layers import geometries, layer, same_geometry

# What each format cannot keep: the fields that come back otherwise.
LOSES = {
    ".parquet": set(),
    ".arrow": set(),
    ".arrows": set(),
    ".fgb": set(),
    ".shp": {"single", "real", "text", "moment", "blob"},
    ".csv": {"single", "blob"},
    ".tsv": {"single", "blob"},
    ".geojsonl": {"day", "moment", "blob"},
    ".geojsons": {"day", "moment", "blob"},
}


class InFolder(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)


class RoundTrips(InFolder):
    def test_geometry_of_every_kind(self):
        for ending in LOSES:
            for words, column in some_of(geometries().items()):
                with self.subTest(ending=ending, words=words):
                    path = self.folder / f"{words.replace(' ', '_')}{ending}"
                    code = "OGC:CRS84" if "json" in ending else "EPSG:32633"
                    given = layer(column, path.stem, code)
                    format_of(path).write(path, [given])
                    (back,) = format_of(path).read(path, path.stem).layers
                    mine = back.geometry
                    np.testing.assert_array_equal(mine.xy, column.xy)
                    np.testing.assert_array_equal(mine.ring_offsets, column.ring_offsets)
                    np.testing.assert_array_equal(mine.row_offsets, column.row_offsets)
                    keeps_z = column.z is not None and mine.z is not None
                    if keeps_z:
                        np.testing.assert_array_equal(mine.z, column.z)
                    self.assertEqual(column.z is not None, mine.z is not None)
                    if ending in (".parquet", ".fgb"):
                        same_geometry(self, mine, column)

    def test_fields_and_crs(self):
        column = geometries()["single points "]
        for ending, lost in LOSES.items():
            with self.subTest(ending=ending):
                path = self.folder / f"things{ending}"
                given = layer(column, "things", "OGC:CRS84" if "json" in ending else "EPSG:32633")
                notes = format_of(path).write(path, [given]).notes
                (back,) = format_of(path).read(path, "things").layers
                for name in set(given.table.column_names) - lost:
                    self.assertEqual(
                        back.table[name].to_pylist(), given.table[name].to_pylist(), name
                    )
                if ending in (".csv", ".tsv"):
                    self.assertIsNone(back.crs)
                    self.assertIn("no place for the CRS", notes[0])
                else:
                    self.assertTrue(crs.is_same(back.crs, given.crs))
                if ending == ".shp":
                    self.assertEqual(len(notes), 5)  # rounded, too large, times, blob, empty

    def test_nothing_is_left_behind_and_several_layers_are_refused(self):
        column = geometries()["single points "]
        for ending in LOSES:
            path = self.folder / f"a{ending}"
            with self.assertRaisesRegex(DataError, "one layer, and there are 2"):
                format_of(path).write(path, [layer(column), layer(column)])
        self.assertEqual(list(self.folder.iterdir()), [])


class Shapefiles(InFolder):
    def test_read_by_another_and_written_by_another(self):
        ring, hole = make.square(0, 0, 9), make.square(2, 2, 2)[::-1]
        rows = [[[ring, hole], [make.square(20, 0, 4)]], [[make.square(40, 0, 1)]]]
        table = pa.table({"a_very_long_name": [1, 2], "a_very_long_nose": ["x", None]})
        ours = Layer("a", make.polygons(rows), table, crs.parse("EPSG:32633"))
        path = self.folder / "a.shp"
        notes = format_of(path).write(path, [ours]).notes
        self.assertEqual(notes[1], "a: field a_very_long_nose is called a_very_l_2 in a shapefile")
        with shapefile.Reader(str(path)) as reader:
            self.assertEqual([f[0] for f in reader.fields[1:]], ["a_very_lon", "a_very_l_2"])
            self.assertEqual([len(s.parts) for s in reader.shapes()], [3, 1])
        self.assertIn("WGS_1984_UTM_Zone_33N", (self.folder / "a.prj").read_text())
        # Holes before their outer rings, all turned the same way, parts mixed.
        with shapefile.Writer(str(self.folder / "b.shp"), shapeType=5) as writer:
            writer.field("n", "N", 4)
            writer.poly([make.square(2, 2, 2).tolist(), make.square(20, 0, 4).tolist(),
                         make.square(0, 0, 9).tolist(), make.square(2.5, 2.5, 1).tolist()])  # fmt: skip
            writer.record(1)
        (back,) = format_of(path).read(self.folder / "b.shp", "b").layers
        self.assertEqual(np.diff(back.geometry.part_offsets).tolist(), [1, 2, 1])
        self.assertIsNone(back.crs)

    def test_missing_and_broken_siblings(self):
        path = self.folder / "a.shp"
        given = Layer(
            "a",
            make.points([[np.array([1, 2.0])]]),
            pa.table({"t": ["Ærø"]}),
            crs.parse("EPSG:32633"),
        )
        format_of(path).write(path, [given])
        for ending, reason in ((".prj", "no .prj"), (".dbf", "no .dbf"), (".shx", None)):
            (self.folder / f"a{ending}").unlink()
            notes = format_of(path).read(path, "a").notes
            self.assertTrue(reason is None or any(reason in n for n in notes), notes)
        whole = path.read_bytes()
        for size in (50, 99, 110):
            path.write_bytes(whole[:size])
            try:
                found = format_of(path).read(path, "a").layers[0]
                self.assertLessEqual(found.n_rows, 1)
            except FileError as err:
                self.assertIn("damaged or cut short", str(err))

    def test_rings_nest_by_geometry(self):
        rng = np.random.default_rng(2)
        for _ in range(20):
            rings = [make.square(0, 0, 50), make.square(5, 5, 30), make.square(8, 8, 10),
                     make.square(60, 0, 9), make.square(62, 2, 3), make.square(40, 40, 5)]  # fmt: skip
            order = rng.permutation(6)
            column = make.polygons([[[rings[k][:: rng.choice([1, -1])]] for k in order]])
            found = nested(column, 1)
            sizes = {}
            for part in make.rows_of(found)[0]:
                areas = [abs(np.ptp(np.array(r)[:, 0])) for r in part]
                sizes[areas[0]] = sorted(areas[1:])
            self.assertEqual(sizes, {50: [5, 30], 10: [], 9: [3]})


class Parquet(InFolder):
    def test_metadata_are_as_the_standard_has_them(self):
        path = self.folder / "a.parquet"
        column = geometries()["multi polygons Z"]
        geoparquet.write(path, [layer(column)])
        geo = orjson.loads(pq.read_schema(path).metadata[b"geo"])
        about = geo["columns"][geo["primary_column"]]
        self.assertEqual((geo["version"], about["encoding"]), ("1.1.0", "WKB"))
        self.assertEqual(about["geometry_types"], ["MultiPolygon Z"])
        self.assertEqual(about["bbox"], list(column.extent()))
        self.assertEqual(about["crs"]["id"], {"authority": "EPSG", "code": 32633})
        boxes = pq.read_table(path).column("bbox").to_pylist()
        self.assertEqual(boxes[0], {"xmin": 0, "ymin": 0, "xmax": 25, "ymax": 9})

    def test_native_encodings(self):
        for encoding, value, family in [
            ("point", [1.0, 2.0], Family.POINTS),
            ("multipoint", [[1.0, 2.0], [3.0, 4.0]], Family.POINTS),
            ("linestring", [[0.0, 0.0], [1.0, 1.0]], Family.LINES),
            ("multilinestring", [[[0.0, 0.0], [1.0, 1.0]], [[5.0, 5.0], [6.0, 6.0]]], Family.LINES),
            ("polygon", [[[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 0.0]]], Family.POLYGONS),
        ]:
            with self.subTest(encoding=encoding):

                def named(v):
                    return (
                        dict(zip("xy", v, strict=True))
                        if isinstance(v[0], float)
                        else [named(w) for w in v]
                    )

                kind = pa.struct([("x", pa.float64()), ("y", pa.float64())])
                for _ in range(str(value).split("0.")[0].split("1.")[0].count("[") - 1):
                    kind = pa.list_(kind)
                geometry = pa.array([named(value), None, named(value)], kind)
                about = {"encoding": encoding, "geometry_types": []}
                geo = {"version": "1.1.0", "primary_column": "g", "columns": {"g": about}}
                table = pa.table({"g": geometry, "k": [1, 2, 3]})
                path = self.folder / "n.parquet"
                pq.write_table(table.replace_schema_metadata({"geo": orjson.dumps(geo)}), path)
                (found,) = geoparquet.read(path, "n").layers
                self.assertEqual(found.geometry.family, family)
                self.assertEqual(found.geometry.is_null.tolist(), [False, True, False])
                np.testing.assert_array_equal(
                    found.geometry.take(np.array([0])).xy, np.array(value).reshape(-1, 2)
                )
                self.assertEqual(found.table.column_names, ["k"])

    def test_groups_outside_a_box_are_told_by_statistics_if_there_are_any(self):
        """Statistics of all columns, of none, of some, and such that are no numbers: the same rows."""
        squares = make.polygons([[[make.square(10 * k, k % 7, 3)]] for k in range(60)])
        path = self.folder / "cells.parquet"
        format_of(path).write(path, [make.layer("cells", squares, k=np.arange(60))])
        table, box = pq.read_table(path), (95.0, 0.0, 131.0, 20.0)
        for kept in (True, False, ["k"], ["bbox.xmin", "k"]):
            pq.write_table(table, path, row_group_size=7, write_statistics=kept)
            found = geoparquet.read(path, "cells", Wanted(box)).layers[0].table
            self.assertEqual(found.column("k").to_pylist(), [10, 11, 12, 13])
        nan = SimpleNamespace(has_min_max=True, min=np.nan, max=np.nan)
        group = SimpleNamespace(column=lambda _: SimpleNamespace(statistics=nan))
        self.assertTrue(groups._meets(group, [0, 1, 2, 3], box))

    def test_damaged_and_without_geometry(self):
        path = self.folder / "a.parquet"
        geoparquet.write(path, [layer(geometries()["single points "])])
        whole = path.read_bytes()
        for size in (4, 60, len(whole) // 2, len(whole) - 5):
            path.write_bytes(whole[:size])
            with self.assertRaisesRegex(FileError, "damaged or cut short"):
                geoparquet.read(path, "a")
        pq.write_table(pa.table({"a": [1]}), path)
        self.assertTrue(geoparquet.read(path, "a").layers[0].is_table)


class Texts(InFolder):
    def read(self, name, text):
        path = self.folder / name
        path.write_bytes(text.encode("utf-8"))
        return format_of(path).read(path, path.stem)

    def test_csv_in_many_forms(self):
        found = self.read("a.csv", "name;lon;lat\nÆ;1.5;2\nB;;3\n")
        self.assertEqual(found.layers[0].geometry.is_null.tolist(), [False, True])
        self.assertIn("points taken from its columns lon and lat", found.notes[0])
        wkt = ["POINT (1 2)", "point z(1 2 3)", "SRID=4326;MULTIPOINT((1 2),(3 4))",
               "MULTIPOINT (1 2, 3 4)",
               "LINESTRING(0 0,1e3 -1.5)", "POLYGON((0 0,1 0,1 1,0 0))", "POLYGON EMPTY",
               "MULTIPOLYGON(((0 0,1 0,1 1,0 0)),((5 5,6 5,6 6,5 5)))"]  # fmt: skip
        lines = "\n".join(f'"{w}",{k}' for k, w in enumerate(wkt))
        found = self.read("b.csv", f"WKT,k\n{lines}\n,8\n")
        counts = {y.name: y.n_rows for y in found.layers}
        self.assertEqual(counts, {"b_points": 6, "b_polygons": 2, "b_lines": 1})
        for text, error, reason in [
            ("wkt,b\nCURVE(0 0),2\n", GeometryError, "row 1: 'CURVE"),
            ('wkt,b\n"POLYGON((0 0,1 0,",2\n', GeometryError, "no WKT"),
            ("x,y\na,b\n", FileError, "not numbers"),
            ("x,y\n1,2,3\n", FileError, "is no table"),
        ]:
            with self.assertRaisesRegex(error, reason):
                self.read("c.csv", text)

    def test_sequences_with_and_without_marks(self):
        point = '{"type":"Point","coordinates":[1,2]}'
        feature = f'{{"type":"Feature","geometry":{point},"properties":{{"a":%d}}}}'
        marked = "".join(f"\x1e{feature % k}\n" for k in (1, 2))
        lines = "\n".join([feature % 1, "", feature % 2])
        for name, text in (("a.ndjson", lines), ("b.geojsons", marked)):
            self.assertEqual(self.read(name, text).layers[0].table["a"].to_pylist(), [1, 2])
        with self.assertRaisesRegex(FileError, "line 2: it is not valid JSON"):
            self.read("c.ndjson", feature % 1 + "\n{broken")

    def test_random_bytes_are_refused_and_never_crash(self):
        rng = np.random.default_rng(0)
        for ending in (".csv", ".ndjson", ".shp", ".parquet", ".geojson", ".gpkg", ".fgb"):
            for head in (
                b"",
                b"PAR1",
                b"\x00\x00\x27\x0a",
                b"{",
                b"SQLite format 3\0",
                b"fgb\3fgb\0",
            ):
                path = self.folder / f"x{ending}"
                path.write_bytes(head + rng.bytes(int(rng.integers(0, 400))))
                with self.assertRaises(PolygeneError):
                    format_of(path).read(path, "x")

    def test_changed_bytes_are_refused_or_read_and_never_crash(self):
        rng = np.random.default_rng(1)
        for ending in (".gpkg", ".parquet", ".shp", ".geojson", ".geojsonl"):
            path = self.folder / f"x{ending}"
            code = "OGC:CRS84" if "json" in ending else "EPSG:32633"
            format_of(path).write(path, [layer(geometries()["multi polygons Z"], "x", code)])
            files = {p: p.read_bytes() for p in self.folder.glob("x.*") if ".lineage" not in p.name}
            refused = 0
            for _ in range(many(60, 30)):
                changed = list(files)[rng.integers(0, len(files))]
                data = np.frombuffer(files[changed], np.uint8)
                data = data[: rng.integers(1, len(data))] if rng.random() < 0.25 else data
                data = data.copy()
                data[rng.integers(0, len(data), 4)] = rng.choice([0, 1, 34, 91, 127, 128, 255], 4)
                changed.write_bytes(data.tobytes())
                try:
                    for name in format_of(path).layer_names(path):
                        format_of(path).read(path, name)
                except PolygeneError:
                    refused += 1
                changed.write_bytes(files[changed])
            self.assertGreater(refused, many(5, 2), ending)
            for p in files:
                p.unlink()

    def test_what_changed_bytes_have_found(self):
        path = self.folder / "a.gpkg"
        given = Layer("a", make.points([[np.zeros(2)]]), pa.table({"t": ["Aerd"]}))
        format_of(path).write(path, [given])
        raw = path.read_bytes()
        path.write_bytes(raw.replace(b"Aerd", b"\xc6rd "))  # Latin-1, as careless programs write
        found = format_of(path).read(path, "a")
        self.assertEqual(found.layers[0].table["t"].to_pylist(), ["\ufffdrd "])
        self.assertIn("not UTF-8", found.notes[-1])
        path.write_bytes(
            raw.replace(b"CREATE TABLE gpkg_contents", b"CREATE\xff\xfeABLE gpkg_contents")
        )
        with self.assertRaises(FileError):
            format_of(path).read(path, "a")
        path = self.folder / "b.shp"
        rings = make.polygons([[[make.square(0, 0, 9)], [make.square(20, 0, 4)]]])
        format_of(path).write(path, [Layer("b", rings, pa.table({"k": [1]}))])
        raw = bytearray(path.read_bytes())
        raw[100 + 8 + 44 : 100 + 8 + 52] = b"\x07\0\0\0\x02\0\0\0"  # where its parts begin
        path.write_bytes(raw)
        with self.assertRaisesRegex(GeometryError, "row 1: its parts do not begin"):
            format_of(path).read(path, "b")


class Reprojecting(unittest.TestCase):
    def test_there_and_back_and_long_edges(self):
        edge = make.lines([[np.array([(0.0, 50.0), (30.0, 50.0)])]])
        given = Layer("e", edge, pa.table({"k": [1]}), crs.parse("OGC:CRS84"))
        target = crs.parse("EPSG:3035")
        plain, dense = reproject(given, target), reproject(given, target, tolerance=10.0)
        self.assertEqual(plain.layer.geometry.n_vertices, 2)
        self.assertEqual(dense.layer.geometry.n_vertices, 2 + dense.summary.added)
        back = reproject(dense.layer, given.crs).layer.geometry
        np.testing.assert_allclose(back.xy[:, 1], 50, atol=1e-6)
        self.assertTrue((np.diff(back.xy[:, 0]) > 0).all())
        self.assertEqual(reproject(given, crs.parse("EPSG:2154")).summary.outside.count, 1)
        beyond = replace(given, geometry=make.lines([[np.array([(0.0, 50.0), (0.0, 500.0)])]]))
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            with self.assertRaisesRegex(DataError, "a latitude of 500 degrees, beyond the pole"):
                reproject(beyond, target, tolerance=10.0)
        with self.assertRaisesRegex(DataError, "has no CRS"):
            reproject(replace(given, crs=None), target)


if __name__ == "__main__":
    unittest.main()
