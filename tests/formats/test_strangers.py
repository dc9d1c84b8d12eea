"""Tables, Parquet and sequences as others write them, and what formats have no place for."""

from __future__ import annotations

import datetime
import sqlite3
import struct
import unicodedata
import unittest

import numpy as np
import orjson
import pyarrow as pa
import pyarrow.parquet as pq

import polygene
from polygene import crs
from polygene.formats.registry import format_of, readable_format
from polygene.formats.wanted import Wanted
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from tests.support import generators as make
from tests.support.cli import InFolder

POINTS = [struct.pack("<BIdd", 1, 1, float(k), 2.0) for k in range(3)]


class Wkb(pa.ExtensionType):
    """The extension type of GeoArrow, which Arrow writes as Parquet's own type of geometry."""

    def __init__(self, about=b"{}"):
        self.about = about
        super().__init__(pa.binary(), "geoarrow.wkb")

    def __arrow_ext_serialize__(self):
        return self.about

    @classmethod
    def __arrow_ext_deserialize__(cls, storage, about):
        return cls(about)


class Parquet(InFolder):
    def read(self, name="p"):
        path = self.folder / f"{name}.parquet"
        found = readable_format(path).read(path, name)
        return found.layers[0], found.notes

    def test_metadata_in_the_file_alone(self):
        geo = {"version": "1.0.0", "primary_column": "g", "columns": {
            "g": {"encoding": "WKB", "geometry_types": [], "crs": None}}}  # fmt: skip
        table = pa.table({"n": [1, 2, 3], "g": pa.array(POINTS, pa.binary())})
        with pq.ParquetWriter(self.folder / "p.parquet", table.schema) as writer:
            writer.write_table(table)
            writer.add_key_value_metadata({"geo": orjson.dumps(geo).decode()})
        layer, notes = self.read()
        self.assertEqual((layer.n_rows, layer.crs, notes), (3, None, []))
        self.assertEqual(layer.table.column_names, ["n"])

    def test_the_own_types_of_parquet(self):
        pa.register_extension_type(Wkb())
        self.addCleanup(pa.unregister_extension_type, "geoarrow.wkb")
        for about, code, says in (
            (b'{"crs":"EPSG:32633","crs_type":"authority_code"}', ("EPSG", "32633"), ""),
            (b"{}", ("OGC", "CRS84"), ""),
            (b'{"edges":"spherical"}', ("OGC", "CRS84"), "edges follow the globe"),
        ):
            column = pa.ExtensionArray.from_storage(
                Wkb(about), pa.array([*POINTS, None], pa.binary())
            )
            table = pa.table({"n": [1, 2, 3, 4], "g": column})
            pq.write_table(table, self.folder / "p.parquet", store_schema=False)
            with self.subTest(about=about):
                layer, notes = self.read()
                self.assertEqual(layer.geometry.xy[:, 0].tolist(), [0, 1, 2])
                self.assertEqual(layer.geometry.is_null.tolist(), [False] * 3 + [True])
                self.assertEqual(crs.code(layer.crs), code)
                self.assertIn(says, " ".join(notes))

    def test_digits_and_parts_of_milliseconds_that_are_lost_are_said(self):
        geo = {"version": "1.1.0", "primary_column": "g",
               "columns": {"g": {"encoding": "WKB", "geometry_types": []}}}  # fmt: skip
        fine = datetime.datetime(2024, 1, 1, 1, 1, 1, 123456)
        table = pa.table({
            "d": pa.array(["12345678901234567.25", "1.50", None]).cast(pa.decimal128(30, 2)),
            "e": pa.array(["1.25", "2.50", None]).cast(pa.decimal128(12, 2)),
            "t": pa.array([fine, datetime.datetime(2024, 1, 1), None], pa.timestamp("us")),
            "g": pa.array(POINTS, pa.binary()),
        })  # fmt: skip
        meta = {"geo": orjson.dumps(geo)}
        pq.write_table(table.replace_schema_metadata(meta), self.folder / "p.parquet")
        layer, notes = self.read()
        self.assertEqual(layer.table["e"].to_pylist(), [1.25, 2.5, None])
        said = " ".join(notes)
        self.assertIn("field d: 1 value of decimal128(30, 2) rounded", said)
        self.assertIn("field t: microseconds or nanoseconds of 1 value dropped", said)
        self.assertNotIn("field e", said)

    def covered(self, x, y, kind, boxes=None):
        """Write points with the boxes of rows in numbers of a kind, or with other boxes."""
        wkb = [struct.pack("<BIdd", 1, 1, *place) for place in zip(x, y, strict=True)]
        corners = ("xmin", "ymin", "xmax", "ymax")
        sides = boxes or [pa.array(np.asarray(v).astype(kind)) for v in (x, y, x, y)]
        box = pa.StructArray.from_arrays(sides, names=corners)
        geo = {"version": "1.1.0", "primary_column": "g", "columns": {"g": {
            "encoding": "WKB", "geometry_types": ["Point"],
            "covering": {"bbox": {k: ["bbox", k] for k in corners}}}}}  # fmt: skip
        if boxes is None:
            extent = [float(least(v)) for least in (np.min, np.max) for v in (x, y)]
            geo["columns"]["g"]["bbox"] = extent
        table = pa.table({"k": np.arange(len(x)), "g": pa.array(wkb, pa.binary()), "bbox": box})
        table = table.replace_schema_metadata({"geo": orjson.dumps(geo)})
        pq.write_table(table, self.folder / "p.parquet", row_group_size=10)

    def chosen(self, *box):
        path = self.folder / "p.parquet"
        (layer,) = format_of(path).read(path, "p", Wanted(box=box)).layers
        return set(layer.table["k"].to_pylist())

    def test_boxes_of_rows_as_others_write_them(self):
        """In numbers of 32 bits, to the nearest; not there; over the 180th meridian."""
        rng = np.random.default_rng(2)
        x, y = np.sort(rng.uniform(10, 10.001, 500)), rng.uniform(50, 50.001, 500)
        for kind in (np.float32, np.float64):
            self.covered(x, y, kind)
            for k in rng.choice(500, 24):
                d = rng.uniform(0, 1e-6)
                for box in ((x[k] - d, 50, x[k] + d, 51), (9, 50, x[k], 51), (x[k], 50, 11, 51)):
                    inside = np.flatnonzero((x >= box[0]) & (x <= box[2]))
                    found = self.chosen(*map(float, box))
                    self.assertLessEqual(set(inside.tolist()), found, (kind, box))
                    self.assertLess(len(found), len(inside) + (1 if kind == np.float64 else 30))
        nothing = pa.array([None, 1.0], pa.float64())
        self.covered([5.0, 1.0], [5.0, 1.0], None, [nothing] * 4)
        self.assertEqual(self.chosen(4.0, 4.0, 6.0, 6.0), {0})
        self.covered([175.0], [0.0], None, [pa.array([v]) for v in (170.0, -1.0, -170.0, 1.0)])
        for west in (172.0, -178.0):
            self.assertEqual(self.chosen(west, -5.0, west + 5.0, 5.0), {0})

    def test_rows_over_the_meridian_among_others(self):
        """Their boxes hide in the least and the greatest of a group; the extent of all may tell."""
        rng = np.random.default_rng(3)
        west = rng.uniform(-150, 140, 40)
        for east in (west + 5, west + 30):
            sides = [west, np.full(40, -1.0), east, np.ones(40)]
            sides[0][[13, 27]], sides[2][[13, 27]] = 171.0, -171.0  # in two of four groups
            self.covered(
                np.where(west > east, 175.0, west), np.zeros(40), None, map(pa.array, sides)
            )
            for box, found in (
                ((178.0, -5.0, 179.0, 5.0), {13, 27}),
                ((-179.0, -5.0, -178.0, 5.0), {13, 27}),
                ((178.0, 2.0, 179.0, 5.0), set()),
            ):
                self.assertEqual(self.chosen(*box), found)

    def test_what_is_stated_of_measures(self):
        column = GeometryColumn.from_rings([[[np.array([[1.0, 2.0]])]]], Family.POINTS)
        for m, z, types in ((None, None, ["Point"]), (None, [3.0], ["Point Z"]), ([1.0], None, [])):
            own = GeometryColumn(**{
                **{name: getattr(column, name) for name in (
                    "family", "xy", "ring_offsets", "part_offsets", "row_offsets", "is_null")},
                "is_multi": False, "z": None if z is None else np.array(z),
                "m": None if m is None else np.array(m)})  # fmt: skip
            path = self.folder / "p.parquet"
            format_of(path).write(path, [Layer("p", own, pa.table({"n": [1]}), None)])
            geo = orjson.loads(pq.read_metadata(path).metadata[b"geo"])
            self.assertEqual(geo["columns"]["geometry"]["geometry_types"], types)
            back, _ = self.read()
            for name, wanted in (("z", z), ("m", m)):
                found = getattr(back.geometry, name)
                self.assertEqual(None if found is None else found.tolist(), wanted)


class Tables(InFolder):
    def test_codes_keep_their_zeros(self):
        (self.folder / "t.csv").write_text(
            'code,n,zip,x,y\n0101,5,"01234",1,2\n1102,10,99999,3,4\n,0,,5,6\n', encoding="utf-8"
        )
        layer = polygene.read(self.folder / "t.csv")
        self.assertEqual(layer.table["code"].to_pylist(), ["0101", "1102", None])
        self.assertEqual(layer.table["zip"].to_pylist(), ["01234", "99999", None])
        self.assertEqual(layer.table["n"].to_pylist(), [5, 10, 0])
        self.assertEqual(layer.geometry.n_vertices, 3)

    def test_a_name_whose_signs_stand_apart_is_the_one_that_is_typed(self):
        """As some file systems and programs have them; it looks the same."""
        for form, n in (("NFC", 1), ("NFD", 2)):
            head = unicodedata.normalize(form, "café,x,y")
            (self.folder / f"{form}.csv").write_text(f"{head}\n{n},1,2\n", encoding="utf-8")
        one, other = (polygene.read(self.folder / f"{form}.csv") for form in ("NFC", "NFD"))
        self.assertEqual(one.table.column_names, other.table.column_names)
        merged = polygene.merge([one, other]).layer.table
        self.assertEqual(merged["café"].to_pylist(), [1, 2])
        done = self.run_polygene("subset", "NFD.csv", "--where", "café = 2", "-o", "s.csv")
        self.assertIn("field café: signs put together with their letters", done.words)
        place = str(self.folder / "NFD.csv")
        self.assertEqual(polygene.layers(place)[place][0].fields[0][0], "café")
        recipe = "inputs: {a: NFD.csv}\nsteps:\n- {subset: a, where: café = 2, as: b}\n"
        (self.folder / "r.yaml").write_text(f"{recipe}outputs: {{b: b.csv}}", encoding="utf-8")
        done = self.run_polygene("run", "r.yaml")
        self.assertEqual(done.code, 0, done.words)
        twins = unicodedata.normalize("NFD", "é") + ",é\n1,2\n"  # then each keeps its own
        (self.folder / "t.csv").write_text(twins, encoding="utf-8")
        self.assertEqual(polygene.read(self.folder / "t.csv").table.num_columns, 2)

    def test_an_encoding_is_obeyed(self):
        (self.folder / "t.csv").write_bytes("name,x,y\nBrûlé,1,2\n".encode("cp850"))
        layer = polygene.read(self.folder / "t.csv", encoding="cp850")
        self.assertEqual(layer.table["name"].to_pylist(), ["Brûlé"])

    def test_of_two_columns_of_wkt_one_is_geometry_and_that_is_said(self):
        path = self.folder / "two.csv"
        path.write_text("place,WKT\nPOINT (3 4),\nPOINT (5 6),POINT (1 2)\n")
        reading = format_of(path).read(path, "two")
        (layer,) = reading.layers
        np.testing.assert_array_equal(layer.geometry.xy, [(1, 2)])
        self.assertIn("geometry is its column WKT; place stays a text", reading.notes[0])
        path.write_text("place,wkt\nPOINT (3 4),\n")  # one that has none is not it
        (layer,) = format_of(path).read(path, "two").layers
        np.testing.assert_array_equal(layer.geometry.xy, [(3, 4)])


class Packages(InFolder):
    def test_titles_of_fields_are_kept(self):
        path = self.folder / "titles.gpkg"
        points = make.points([[np.zeros(2)]])
        polygene.write(Layer("a", points, pa.table({"n": [1], "m": [2]}), None), f"{path}#a")
        connection = sqlite3.connect(path)
        connection.executescript(
            "CREATE TABLE gpkg_data_columns (table_name TEXT, column_name TEXT, name TEXT, title TEXT, "
            "description TEXT, mime_type TEXT, constraint_name TEXT);"
            "INSERT INTO gpkg_data_columns (table_name, column_name, title, description) "
            "VALUES ('a', 'N', 'Number of nests', 'counted in May')"
        )
        connection.close()
        layer = polygene.read(f"{path}#a")
        other = self.folder / "other.gpkg"
        for _ in range(2):
            polygene.write(polygene.subset(layer, limit=1).layer, f"{other}#a", "replace")
        field = polygene.read(f"{other}#a").table.schema.field("n")
        self.assertEqual(field.metadata[b"title"], b"Number of nests")
        self.assertEqual(field.metadata[b"description"], b"counted in May")
        self.assertEqual(polygene.check(other)[str(other)].findings, [])

    def test_three_hundred_fields_with_odd_names(self):
        names = [f"{'ÄßŷΩ .-'[k % 7]}{k}" for k in range(300)]
        table = pa.table({name: [k, None] for k, name in enumerate(names)})
        points = make.points([[np.zeros(2)], [np.ones(2)]])
        layer = Layer("many", points, table, crs.parse("OGC:CRS84"))
        for ending in (".gpkg", ".parquet", ".arrow", ".fgb", ".shp", ".geojson", ".csv"):
            with self.subTest(ending=ending):
                path = self.folder / f"many{ending}"
                polygene.write(layer, path)
                back = polygene.read(path)
                if ending != ".shp":  # which has ten bytes for each
                    self.assertEqual(back.table.column_names, names)
                values = [column.to_pylist() for column in back.table.columns]
                self.assertEqual(values, [[k, None] for k in range(300)])


class Nothing(InFolder):
    def test_an_empty_sequence_goes_through_a_pipe_of_files(self):
        layer = Layer("e", make.points([]), pa.table({}), crs.parse("OGC:CRS84"))
        for ending in (".geojsons", ".geojsonl", ".ndjson"):
            polygene.write(layer, self.folder / f"e{ending}")
            self.assertEqual((self.folder / f"e{ending}").read_bytes(), b"")
            self.assertEqual(polygene.read(self.folder / f"e{ending}").n_rows, 0)

    def test_a_file_of_no_features_is_of_whatever_kind_is_needed(self):
        (self.folder / "none.geojson").write_text('{"type":"FeatureCollection","features":[]}')
        none = polygene.read(self.folder / "none.geojson")
        square = make.polygons([[[make.square(0, 0, 5)]]])
        other = make.layer("other", square, crs.parse("OGC:CRS84"), n=[1])
        for overlay in (polygene.union, polygene.contrast, polygene.supersede):
            result = overlay(none, other)
            self.assertEqual(
                (result.layer.n_rows, result.layer.geometry.family), (1, Family.POLYGONS)
            )
        self.assertEqual(polygene.merge([none, other]).layer.n_rows, 1)
        self.assertEqual(polygene.clip(none, other).layer.n_rows, 0)

    def test_what_a_format_has_no_place_for_is_said(self):
        moments = pa.array([datetime.datetime(2024, 1, 1, 1, 1, 1, 5)], pa.timestamp("us"))
        table = pa.table({"nan": [float("nan")], "inf": [float("inf")], "t": moments})
        layer = Layer("e", make.points([[np.array([1.0, 2.0])]]), table, crs.parse("OGC:CRS84"))
        for ending, says in (
            (".geojson", ("nan: 1 value that are", "inf: 1 value that are", "t: 1 moment cut")),
            (".gpkg", ("nan: 1 value that are", "t: 1 moment cut")),
            (".fgb", ("t: 1 moment cut",)),
        ):
            path = self.folder / f"e{ending}"
            notes = format_of(path).write(path, [layer]).notes
            with self.subTest(ending=ending):
                self.assertEqual(len(notes), len(says), notes)
                for note, text in zip(notes, says, strict=True):
                    self.assertIn(text, note)


if __name__ == "__main__":
    unittest.main()
