"""Layers as Arrow data, in and out; through pipes; at a glance."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import unittest

import numpy as np
import pyarrow as pa

import polygene
from polygene import crs
from polygene.errors import PolygeneError, TableError, UsageError
from polygene.formats.columns import to_wkb
from polygene.layer import Layer
from tests.support import generators as make
from tests.support.cli import WithSample
from tests.support.layers import geometries, layer, same_geometry


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
