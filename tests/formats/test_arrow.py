"""Layers as Arrow data, in and out; through pipes; at a glance."""

from __future__ import annotations

import json
import struct
import subprocess
import sys
import tempfile
import unittest

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

import polygene
from polygene import crs
from polygene.errors import PolygeneError, TableError, UsageError
from polygene.formats import arrow_ipc, geoparquet
from polygene.formats.columns import to_wkb
from polygene.formats.wanted import Wanted
from polygene.layer import Layer
from polygene.notes import Warned, summed
from tests.support import generators as make
from tests.support.cli import InFolder, WithSample
from tests.support.layers import geometries, layer, quietly, same_geometry

POINT = struct.pack("<BIdd", 1, 1, 1.0, 2.0)
ABOUT = {"encoding": "WKB", "geometry_types": ["Point"]}
GEO = json.dumps({"version": "1.1.0", "primary_column": "geometry", "columns": {"geometry": ABOUT}})


class Stream:
    """Data of another library: nothing but the protocol."""

    def __init__(self, table: pa.Table) -> None:
        self.table = table

    def __arrow_c_stream__(self, requested_schema=None):
        return self.table.__arrow_c_stream__(requested_schema)


class InMemory(unittest.TestCase):
    def test_out_and_in_again(self):
        for words, column in geometries().items():
            with self.subTest(words=words):
                own = layer(column)
                back = polygene.as_layer(Stream(pa.table(own)), "things")
                same_geometry(self, back.geometry, column)
                self.assertTrue(back.table.equals(own.table))
                self.assertEqual(back.crs, own.crs)

    def test_wkb_of_a_data_frame(self):
        column = geometries()["multi polygons Z"]
        for name, kind in (
            ("geometry", pa.binary()),
            ("Shape", pa.large_binary()),
            ("b", pa.binary()),
        ):
            table = pa.table({"n": [1, 2, 3], name: to_wkb(column).cast(kind)})
            with self.subTest(name=name):
                back = polygene.as_layer(Stream(table), crs="EPSG:32633")
                same_geometry(self, back.geometry, column)
                self.assertEqual((back.table.column_names, back.crs.to_epsg()), (["n"], 32633))

    def test_extension_types_of_others(self):
        """Interleaved coordinates, WKB with a CRS as a code, text; the CRS that is stated wins."""
        points = pa.FixedSizeListArray.from_arrays(pa.array([1.0, 2, 3, 4]), 2)
        said = {"ARROW:extension:name": "geoarrow.point", "ARROW:extension:metadata": "{}"}
        field = pa.field("place", points.type, metadata=said)
        back = polygene.as_layer(Stream(pa.table([points], pa.schema([field]))), crs="EPSG:3857")
        np.testing.assert_array_equal(back.geometry.xy, [(1, 2), (3, 4)])
        self.assertEqual(back.crs.to_epsg(), 3857)
        texts = pa.array(["POINT (1 2)", None])
        about = '{"crs": "EPSG:25832", "crs_type": "authority_code"}'
        said = {"ARROW:extension:name": "geoarrow.wkt", "ARROW:extension:metadata": about}
        field = pa.field("place", texts.type, metadata=said)
        back = polygene.as_layer(Stream(pa.table([texts], pa.schema([field]))), crs="EPSG:3857")
        self.assertEqual(
            (back.crs.to_epsg(), back.geometry.is_null.tolist()), (25832, [False, True])
        )

    def test_what_is_no_layer(self):
        for data in (7, None):
            with self.subTest(data=data), self.assertRaises(PolygeneError):
                polygene.as_layer(data)
        for data in (pa.table({"n": [1]}), Stream(pa.table({"n": ["POINT (1 2)"]}))):
            found = polygene.as_layer(data)
            self.assertTrue(found.is_table)
            self.assertEqual(found.n_rows, 1)
            with self.assertRaisesRegex(TableError, "no column is of a GeoArrow type"):
                polygene.buffer(found, "1m")
        lists = pa.table([pa.array([[1.0]])], pa.schema([
            pa.field("g", pa.list_(pa.float64()), metadata={"ARROW:extension:name": "geoarrow.ring"})
        ]))  # fmt: skip
        with self.assertRaisesRegex(PolygeneError, "'ring' is not known"):
            polygene.as_layer(lists)
        with self.assertRaises(UsageError):
            polygene.as_layer("beds.gpkg")

    def test_arrays_that_must_not_be_written_to(self):
        """As of a stream that came as bytes; so many rows that they are parted among threads."""
        n = 60_000
        rng = np.random.default_rng(3)
        some = {
            "kind": pa.array(np.array(["mooring", "marker", "light"])[np.arange(n) % 3]),
            "text": pa.array(np.array(["a", None, "bc"], object)[np.arange(n) % 3], pa.large_string()),
            "id": pa.array(np.arange(n)), "few": pa.array(rng.integers(0, 9, n).astype("i4")),
            "real": pa.array(rng.uniform(0, 9, n)), "is": pa.array(rng.random(n) > 0.5),
            "day": pa.array(rng.integers(0, 9000, n).astype("i4"), pa.date32()),
            "blob": pa.array([b"a", b"bc"] * (n // 2), pa.large_binary()),
        }  # fmt: skip
        sink = pa.BufferOutputStream()
        with pa.ipc.new_stream(sink, pa.schema([(k, v.type) for k, v in some.items()])) as stream:
            stream.write_table(pa.table(some))
        table = pa.ipc.open_stream(pa.py_buffer(sink.getvalue().to_pybytes())).read_all()
        self.assertFalse(table.column("kind").chunk(0).buffers()[2].is_mutable)
        points = make.points([[p] for p in rng.uniform(0, 9e3, (n, 2))])
        layer = polygene.Layer("spots", points, table, crs.parse("EPSG:32633"))
        free = polygene.Layer("spots", points, pa.table(some), layer.crs)
        for name in table.column_names:
            of = [f"{f} = {f}({name})" for f in ("first", "commonest", "agreed", "max")]
            found, wanted = (
                polygene.tally(one, by=["kind"], aggregate=of).body for one in (layer, free)
            )
            self.assertEqual(found, wanted, name)
            self.assertEqual(*(polygene.tally(one, by=[name]).body for one in (layer, free)))
        for text in ("kind = 'light' and few < 5", "upper(text) = 'A'", "day > DATE('1980-01-01')"):
            kept, wanted = (polygene.subset(one, text).layer.table for one in (layer, free))
            self.assertTrue(0 < kept.num_rows < n and kept.equals(wanted), text)
        joined = polygene.join(layer, free, key="id", keep=["kind"]).layer.table
        self.assertTrue(joined["spots_kind"].equals(joined["kind"]))
        with tempfile.TemporaryDirectory() as folder:
            polygene.write(layer.take(np.arange(9)), f"{folder}/spots.csv")
            read = polygene.read(f"{folder}/spots.csv")
        self.assertEqual(read.table["blob"].to_pylist()[:2], ["61", "6263"])

    def test_in_the_shape_of_geojson(self):
        column = make.polygons([[[make.square(0, 0, 1)]], []])
        found = Layer(
            "x", column, pa.table({"n": [1, 2]}), crs.parse("EPSG:32633")
        ).__geo_interface__
        first, second = found["features"]
        self.assertEqual(first["properties"], {"n": 1})
        ring = [(0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0), (0.0, 0.0)]
        self.assertEqual(first["geometry"], {"type": "MultiPolygon", "coordinates": [[ring]]})
        self.assertEqual(second["geometry"]["coordinates"], [])

    def test_at_a_glance(self):
        for words, column in geometries().items():
            own = layer(column, "<beds>")
            self.assertRegex(
                repr(own), r"^<Layer <beds>: 3 (multi)?(point|line|polygon)s( Z?M?)?; fields"
            )
            shown = own._repr_html_()
            with self.subTest(words=words):
                self.assertIn("&lt;beds&gt;", shown)
                self.assertIn("<path d='M" if "points" not in words else "<circle", shown)
        self.assertNotIn("<svg", Layer("x", make.polygons([]), pa.table({}), None)._repr_html_())


def odd_columns() -> dict[str, pa.Array]:
    """Three rows of types that others have, the last one null; as wide tables of theirs hold them."""
    texts, blobs = ["a", "ü", None], [b"a", b"", None]
    view, named = pa.array(texts, pa.string_view()), pa.array([{"x": "a"}, {"x": None}, None])
    some = {
        "u8": pa.array([1, 255, None], pa.uint8()), "u64": pa.array([1, 2**64 - 1, None], pa.uint64()),
        "view": view, "blobs": pa.array(blobs, pa.binary_view()), "named": named,
        "views": pa.array([["a"], [], None], pa.list_(pa.string_view())),
        "large": pa.array([["a"], [], None], pa.large_list(pa.string_view())),
        "pairs": pa.array([["a", "b"], ["c", "d"], None], pa.list_(pa.string_view(), 2)),
        "map": pa.array([[("a", b"b")], [], None], pa.map_(pa.string_view(), pa.binary_view())),
        "of": named.cast(pa.struct([("x", pa.string_view())])),
        "coded": pa.array(texts).dictionary_encode(), "nothing": pa.nulls(3),
        "codes": pa.DictionaryArray.from_arrays(pa.array([0, 1, None], pa.uint32()), view),
        "runs": pa.RunEndEncodedArray.from_arrays(pa.array([1, 2, 3], pa.int32()), pa.array(texts)),
        "half": pa.array([np.float16(1.5), np.float16(2), None]),
        "ns": pa.array([1, 10**9, None], pa.timestamp("ns", "UTC")),
        "time": pa.array([1, 2, None], pa.time64("us")),
        "long": pa.array([1, 2, None], pa.duration("s")),
    }  # fmt: skip
    return some


WHOLE = {"u8": [1, 255, None], "u64": ["1", str(2**64 - 1), None], "blobs": [b"a", b"", None],
         "half": [1.5, 2.0, None], "nothing": [None] * 3}  # fmt: skip
WHOLE |= dict.fromkeys(("view", "coded", "codes", "runs"), ["a", "ü", None])


class TypesOfOthers(InFolder):
    def file(self, rows: slice, ending: str):
        """A file of those rows and their columns; Parquet cannot hold all of them."""
        table = pa.table({k: v[rows] for k, v in odd_columns().items()})
        places = pa.array([POINT] * table.num_rows, pa.binary_view())
        said = {"ARROW:extension:name": "geoarrow.wkb", "ARROW:extension:metadata": "{}"}
        table = table.add_column(0, pa.field("geometry", pa.binary_view(), metadata=said), places)
        path = self.folder / f"odd{ending}"
        if ending == ".parquet":
            views = ["views", "large", "pairs", "map", "of"]  # pyarrow writes them whole only
            beyond = ["runs", "codes", *(views if table.num_rows < 3 else [])]
            table = table.drop_columns(beyond).replace_schema_metadata({"geo": GEO})
            pq.write_table(table, path)
            return path
        with pa.ipc.new_file(path, table.schema) as file:
            file.write_table(table, max_chunksize=2)
        return path

    def test_values_are_there_whatever_rows_there_are(self):
        for ending in (".arrow", ".parquet"):
            for rows in (slice(0, 3), slice(0, 0), slice(2, 3), slice(1, 3)):
                with self.subTest(ending=ending, rows=rows):
                    back = quietly(polygene.read, self.file(rows, ending))
                    self.assertEqual(back.n_rows, len(range(3)[rows]))
                    for name in WHOLE.keys() & set(back.table.column_names):
                        found = [v if name != "u64" or v is None else str(v)
                                 for v in back.table[name].to_pylist()]  # fmt: skip
                        self.assertEqual(found, WHOLE[name][rows], name)
                    polygene.convert(back, self.folder / "x.gpkg", on_existing="replace")

    def test_some_rows_of_them(self):
        path = self.file(slice(0, 3), ".parquet")
        done = self.run_polygene("subset", path, "--where", "view = 'ü'", "-o", "kept.parquet")
        self.assertEqual(done.code, 0, done.err)
        kept = polygene.read(self.folder / "kept.parquet").table
        for name in WHOLE.keys() & set(kept.column_names):
            self.assertEqual(kept[name].to_pylist(), WHOLE[name][1:2], name)
        whole = quietly(polygene.read, path).table
        self.assertTrue(kept.equals(whole.slice(1, 1)))


class NestedGeometry(InFolder):
    """Geometry as lists of coordinates, and what is said of it, as others write them."""

    PAIR, TRIPLE = (
        pa.list_(pa.field("xy", pa.float64()), 2),
        pa.list_(pa.field("xym", pa.float64()), 3),
    )

    def read(self, values, kind: pa.DataType, encoding: str, about: str = "{}"):
        said = {"ARROW:extension:name": f"geoarrow.{encoding}", "ARROW:extension:metadata": about}
        schema = pa.schema([pa.field("g", kind, metadata=said)])
        with pa.ipc.new_file(self.folder / "n.arrow", schema) as file:
            file.write_table(pa.table([pa.array(values, kind)], schema))
        found = arrow_ipc.read(self.folder / "n.arrow", "n")
        return found.layers[0], " ".join(found.notes)

    def test_a_null_row_and_numbers_by_their_names(self):
        layer, _ = self.read([[1, 2], None, [3, 4]], self.PAIR, "point")
        self.assertEqual(layer.geometry.is_null.tolist(), [False, True, False])
        self.assertEqual(layer.geometry.xy.tolist(), [[1, 2], [3, 4]])
        layer, _ = self.read([[1, 2, 9]], self.TRIPLE, "point")
        self.assertEqual((layer.geometry.z, layer.geometry.m.tolist()), (None, [9]))
        layer, _ = self.read(["POINT (1 2)", None], pa.string_view(), "wkt")
        self.assertEqual(layer.geometry.xy.tolist(), [[1, 2]])

    def test_nothing_inside_of_a_geometry_is_null(self):
        named = pa.struct([("x", pa.float64()), ("y", pa.float64())])
        line = [{"x": 1, "y": 2}, {"x": 3, "y": 4}]
        for values, kind, encoding in (
            ([[[1, 2], [3, 4]], [[1, 2], None, [5, 5]]], pa.list_(self.PAIR), "linestring"),
            ([line, [*line, None]], pa.list_(named), "linestring"),
            ([line[0], {"x": 1, "y": None}], named, "point"),
            ([[[[0, 0]]], [None, [[1, 1]]]], pa.list_(pa.list_(self.PAIR)), "polygon"),
        ):
            with (
                self.subTest(values=values),
                self.assertRaisesRegex(PolygeneError, "row 2: .* null"),
            ):
                self.read(values, kind, encoding)

    def test_what_is_said_of_it_and_not_kept(self):
        moved = struct.pack("<BIIdd", 1, 0x20000001, 25832, 1.0, 2.0)
        code = '{"crs":"EPSG:32633"}'
        for about, values, says in (
            (code, [POINT], ""),
            ("{no", [POINT], "is no JSON object"),
            (
                code,
                [POINT, moved],
                "1 geometry of another SRID than the CRS of the file, EPSG:32633",
            ),
            ("{}", [POINT, moved], "CRS taken from the SRID of its geometry, EPSG:25832"),
        ):
            with self.subTest(about=about):
                _, notes = self.read(values, pa.binary(), "wkb", about)
                self.assertIn(says, notes)
                self.assertEqual(bool(says), bool(notes))
        geo = json.loads(GEO)
        geo["columns"] |= {"geometry": {**ABOUT, "epoch": 2021.5}, "middle": ABOUT}
        table = pa.table({"geometry": [POINT], "middle": [POINT], "k": [1]})
        path = self.folder / "two.parquet"
        pq.write_table(table.replace_schema_metadata({"geo": json.dumps(geo)}), path)
        notes = " ".join(geoparquet.read(path, "two").notes)
        self.assertIn("of the epoch 2021.5, which is not kept", notes)
        self.assertIn("middle is geometry too, and taken as an attribute", notes)

    def test_what_is_counted_in_portions_is_added_up(self):
        """As of a file that is copied some rows at a time, to be worked on in tasks."""
        moved = struct.pack("<BIIdd", 1, 0x20000001, 25832, 1.0, 2.0)
        table = pa.table({"g": [POINT, moved] * 10, "t": pa.array(range(20), pa.timestamp("us"))})
        geo = GEO.replace('"geometry"', '"g"')
        path = self.folder / "many.parquet"
        pq.write_table(table.replace_schema_metadata({"geo": geo}), path, row_group_size=4)
        whole, portions = geoparquet.read(path, "many").notes, []
        for first in range(0, 20, 4):
            portions += geoparquet.read(path, "many", Wanted(span=(first, first + 4))).notes
        self.assertEqual((len(whole), len(set(portions))), (2, 3))
        self.assertEqual(summed(portions), whole)
        self.assertEqual({*map(type, summed(portions))}, {Warned})

    def test_nested_values_are_json(self):
        names = {"names": [{"main": "Ærø", "other": [("da", "Ø")], "raw": b"\x01", "n": [1, None]}]}
        kinds = pa.struct([
            ("main", pa.string()), ("other", pa.map_(pa.string(), pa.string())),
            ("raw", pa.binary()), ("n", pa.list_(pa.int64())),
        ])  # fmt: skip
        table = pa.table(names, pa.schema([("names", kinds)]))
        pq.write_table(table, self.folder / "t.parquet")
        (text,) = polygene.read(self.folder / "t.parquet").table["names"].to_pylist()
        self.assertEqual(text, '{"main":"Ærø","other":{"da":"Ø"},"raw":"01","n":[1,null]}')


class Pipes(WithSample):
    def test_a_pipe_keeps_types_crs_and_a_layer_without_features(self):
        command = [sys.executable, "-m", "polygene"]
        for where, n in (("kind = 'mooring'", None), ("tonnes > 1000", 0)):
            first = subprocess.run(
                [*command, "subset", "tolva.gpkg#buoys", "--where", where, "-o", "-", "--as", "arrow"],
                cwd=self.folder, capture_output=True, check=True,
            )  # fmt: skip
            subprocess.run(
                [*command, "convert", "-", "-o", "piped.gpkg", "--replace"],
                cwd=self.folder, input=first.stdout, capture_output=True, check=True,
            )  # fmt: skip
            wanted = polygene.subset(polygene.read(f"{self.package}#buoys"), where).layer
            back = polygene.read(self.folder / "piped.gpkg")
            with self.subTest(where=where):
                self.assertTrue(back.table.equals(wanted.table))
                self.assertEqual((back.crs, back.n_rows), (wanted.crs, wanted.n_rows))
                self.assertEqual(n in (None, back.n_rows), True)

    def test_what_goes_to_a_file_is_told_by_its_ending(self):
        done = self.run_polygene("convert", "tolva.gpkg#buoys", "-o", "b.gpkg", "--as", "arrow")
        self.assertEqual(done.code, 2)
        self.assertIn("--as says what standard output is to be", done.err)


if __name__ == "__main__":
    unittest.main()
