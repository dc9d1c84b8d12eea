"""What we write passes the clauses of its standard; what breaks one is found, by that clause."""

# ruff: noqa: E501  (tables of what is broken and how)

from __future__ import annotations

import re
import sqlite3
import struct
import tempfile
import unittest
import warnings
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import orjson
import pyarrow as pa
import pyarrow.parquet as pq

import polygene
from polygene import crs
from polygene.errors import FileError
from polygene.formats import destination
from polygene.formats.clauses import judged
from polygene.formats.destination import Target
from polygene.layer import Layer
from tests.support import generators as make
from tests.support.chance import some_of
from tests.support.cli import WithSample
from tests.support.layers import geometries, layer

ENDINGS = (
    ".gpkg", ".arrow", ".arrows", ".parquet", ".fgb", ".shp", ".geojson", ".geojsons", ".geojsonl",
    ".csv", ".tsv", ".kml", ".feather",
)  # fmt: skip


class InFolder(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        warnings.simplefilter("ignore")
        self.addCleanup(warnings.resetwarnings)

    def beds(self, ending: str) -> Path:
        """A sound file of three squares with a field, in longitude and latitude."""
        for old in self.folder.glob("beds.*"):
            old.unlink()
        path = self.folder / f"beds{ending}"
        column = make.polygons([[[make.square(k, 0, 0.5)]] for k in range(3)])
        table = pa.table({"code": ["a", "b", "c"]})
        polygene.write(Layer("beds", column, table, crs.parse("OGC:CRS84")), path)
        return path

    def finds(self, path: Path, wanted: str):
        said = [f"{f.clause}: {f.place}: {f.words} [{f.weight}]" for f in judged(path).findings]
        self.assertTrue(any(re.search(wanted, one) for one in said), (wanted, said))


class Ours(InFolder):
    def test_what_we_write_passes(self):
        for ending in ENDINGS[1:]:
            for words, column in some_of(geometries().items()):
                if words.endswith((" Z", " M")):
                    continue  # as with both
                path = self.folder / f"{words.replace(' ', '_')}{ending}"
                code = "OGC:CRS84" if "json" in ending or ending == ".kml" else "EPSG:32633"
                polygene.write(layer(column, path.stem, code), path)
                with self.subTest(ending=ending, words=words):
                    self.assertEqual(judged(path).findings, [])

    def test_a_package_of_all_kinds_passes(self):
        path = self.folder / "all.gpkg"
        destination.write_all(
            [(Target(path, name), layer(column, name)) for name, column in geometries().items()]
        )
        self.assertEqual(judged(path).findings, [])

    def test_without_features_and_fields(self):
        for ending in ENDINGS:
            for n in (0, 2):
                path = self.folder / f"none{n}{ending}"
                column = make.polygons([[[make.square(k, 0, 1)]] for k in range(n)])
                polygene.write(Layer("none", column, pa.table({}), crs.parse("OGC:CRS84")), path)
                with self.subTest(ending=ending, n=n):
                    self.assertEqual(judged(path).findings, [])

    def test_nothing_but_empty_ones_with_heights(self):
        column = replace(make.polygons([[]]), z=np.zeros(0))
        for ending in ENDINGS:
            path = self.folder / f"void{ending}"
            polygene.write(Layer("void", column, pa.table({}), crs.parse("OGC:CRS84")), path)
            with self.subTest(ending=ending):
                self.assertEqual(judged(path).findings, [])

    def test_many_features_in_another_order(self):
        xy = np.random.default_rng(1).uniform(0, 80, (70_000, 2))
        points = make.points([[]])
        rows = np.arange(len(xy) + 1)
        column = replace(
            points, xy=xy, ring_offsets=rows, part_offsets=rows, row_offsets=rows,
            is_null=np.zeros(len(xy), bool), is_multi=False,
        )  # fmt: skip
        for ending in (".gpkg", ".parquet", ".fgb", ".shp"):
            path = self.folder / f"many{ending}"
            polygene.write(Layer("many", column, pa.table({}), crs.parse("OGC:CRS84")), path)
            with self.subTest(ending=ending):
                self.assertEqual(judged(path).findings, [])


class Broken(InFolder):
    def test_geopackage(self):
        cases = {
            "requirement 2: .*refused": "PRAGMA application_id = 7",
            "requirement 2: .*user version is 3": "PRAGMA user_version = 3",
            "requirement 5": "ALTER TABLE beds ADD COLUMN x VARCHAR(9)",
            "requirement 7": "UPDATE gpkg_geometry_columns SET srs_id = 77",
            "requirement 10": "UPDATE gpkg_spatial_ref_sys SET definition = '' WHERE srs_id > 0",
            "requirement 11": "DELETE FROM gpkg_spatial_ref_sys WHERE srs_id = -1",
            "requirement 12": "UPDATE gpkg_contents SET srs_id = 77",
            "requirement 14": "DROP TABLE beds",
            "requirement 15": "UPDATE gpkg_contents SET last_change = '2026-01-01 10:00'",
            "requirement 21: .*refused": "DROP TABLE gpkg_geometry_columns",
            "requirement 22": "DELETE FROM gpkg_geometry_columns",
            "requirement 23": "UPDATE gpkg_contents SET data_type = 'attributes'",
            "requirement 24": "UPDATE gpkg_geometry_columns SET column_name = 'shape'",
            "requirement 25": "UPDATE gpkg_geometry_columns SET geometry_type_name = 'BLOB'",
            "requirement 27": "UPDATE gpkg_geometry_columns SET z = 1",
            "requirement 28": "UPDATE gpkg_geometry_columns SET m = 9",
            "requirement 31": "UPDATE gpkg_geometry_columns SET geometry_type_name = 'GEOMETRY'",
            "requirement 32: .*features 1, 2, 3": "UPDATE gpkg_geometry_columns SET geometry_type_name = 'POINT'",
            "requirement 33": "UPDATE gpkg_geometry_columns SET srs_id = 0; UPDATE gpkg_contents SET srs_id = 0",
            "requirement 146": "UPDATE gpkg_contents SET srs_id = 0",
            "requirement 60": "UPDATE gpkg_extensions SET table_name = 'no'",
            "requirement 61": "UPDATE gpkg_extensions SET column_name = 'no'",
            "requirement 62": "UPDATE gpkg_extensions SET extension_name = 'rtree'",
            "requirement 64": "UPDATE gpkg_extensions SET scope = 'all'",
            "requirement 19: layer beds, feature 2": "UPDATE beds SET geometry = x'00' WHERE id = 2",
            "annex F.3: layer beds, row 2: .*does not know": "DELETE FROM rtree_beds_geometry WHERE id = 2",
            "annex F.3: layer beds, row 2: .*other boxes": "UPDATE rtree_beds_geometry SET minx = 1.2 WHERE id = 2",
            "annex F.3: .*not there": "DROP TABLE rtree_beds_geometry",
        }  # fmt: skip
        for wanted, statements in cases.items():
            with self.subTest(wanted=wanted):
                path = self.beds(".gpkg")
                connection = sqlite3.connect(path)
                for name in ("rtree_beds_geometry_%", "%"):
                    triggers = connection.execute(
                        "SELECT name FROM sqlite_master WHERE type = 'trigger' AND name LIKE ?",
                        (name,),
                    ).fetchall()
                    for (trigger,) in triggers:
                        connection.execute(f'DROP TRIGGER "{trigger}"')  # they need functions
                connection.executescript(statements)
                connection.close()
                self.finds(path, wanted)

    def test_geoparquet(self):
        def change(edit: Callable[[dict, dict], object]) -> Path:
            path = self.beds(".parquet")
            table = pq.read_table(path)
            geo = orjson.loads(table.schema.metadata[b"geo"])
            edit(geo, geo["columns"]["geometry"])
            pq.write_table(table.replace_schema_metadata({"geo": orjson.dumps(geo)}), path)
            return path

        cases = {
            "File metadata: .*version": lambda geo, own: geo.update(version="0.4.0"),
            "primary_column": lambda geo, own: geo.update(primary_column="shape"),
            "columns: .*top level": lambda geo, own: geo["columns"].update(shape={}),
            "encoding: .*'WKT'": lambda geo, own: own.update(encoding="WKT"),
            "geometry_types: .*'polygon'": lambda geo, own: own.update(geometry_types=["polygon"]),
            "geometry_types: .*missing": lambda geo, own: own.pop("geometry_types"),
            "geometry_types: .*has MultiPolygon": lambda geo, own: own.update(geometry_types=["Point"]),
            "crs: .*PROJJSON": lambda geo, own: own.update(crs={"type": "no"}),
            "edges": lambda geo, own: own.update(edges="vincenty"),
            "orientation": lambda geo, own: own.update(orientation="clockwise"),
            "bbox: .*numbers": lambda geo, own: own.update(bbox=[1, 2]),
            "bbox: .*outside": lambda geo, own: own.update(bbox=[0, 0, 1, 1]),
            "covering: .*path": lambda geo, own: own["covering"]["bbox"].update(xmin=["bbox"]),
            "covering: .*no column": lambda geo, own: own["covering"]["bbox"].update(xmin=["no", "xmin"]),
        }  # fmt: skip
        for wanted, edit in cases.items():
            with self.subTest(wanted=wanted):
                self.finds(change(edit), wanted)
        path = self.beds(".parquet")
        pq.write_table(pq.read_table(path).replace_schema_metadata({}), path)
        self.finds(path, "no 'geo'")

    def test_arrow(self):
        cases = {
            "extension types: .*no type": {"ARROW:extension:name": "geoarrow.circle"},
            "memory layout: .*coordinates": {"ARROW:extension:name": "geoarrow.multipoint"},
            "metadata: .*no JSON": {"ARROW:extension:metadata": "{"},
            "metadata: .*crs_type": {"ARROW:extension:metadata": '{"crs_type": "name"}'},
            "metadata: .*PROJJSON": {"ARROW:extension:metadata": '{"crs": {}}'},
            "no column is of a GeoArrow type": {"ARROW:extension:name": "own.thing"},
        }
        for wanted, said in cases.items():
            with self.subTest(wanted=wanted):
                path = self.beds(".arrow")
                table = pa.ipc.open_file(path).read_all()
                column, field = table.column("geometry"), table.schema.field("geometry")
                if "multipoint" in str(said):
                    column = pa.chunked_array([pa.array([["a"]] * 3)])
                metadata = {k.decode(): v.decode() for k, v in field.metadata.items()} | said
                schema = pa.schema([pa.field("geometry", column.type, metadata=metadata)])
                with pa.ipc.new_file(str(path), schema) as writer:
                    writer.write_table(pa.table([column], schema))
                self.finds(path, wanted)

    def test_bytes(self):
        """Each as the ending, what is written where, and the clause."""

        def replaced(data: bytes, at: int, new: bytes) -> bytes:
            return data[:at] + new + data[at + len(new) :]

        cases = [
            (".fgb", lambda d: replaced(d, 3, b"\2"), "magic bytes"),
            (".fgb", lambda d: d[:-9], "features: .*beyond"),
            (".fgb", lambda d: d + b"\1\0", "features: .*beyond"),
            (".shp", lambda d: replaced(d, 0, struct.pack(">i", 7)), "whatever its ending|file code"),
            (".shp", lambda d: replaced(d, 24, struct.pack(">i", 70)), "main file: .*header states"),
            (".shp", lambda d: replaced(d, 28, struct.pack("<i", 7)), "main file: .*version is 7"),
            (".shp", lambda d: replaced(d, 100, struct.pack(">i", 7)), "main file: .*row 1: .*count up"),
            (".shp", lambda d: replaced(d, 108, struct.pack("<i", 3)), "main file: .*row 1: .*type of shape"),
            (".shp", lambda d: d[:-20], "main file: .*beyond the end"),
            (".shx", lambda d: replaced(d, 100, struct.pack(">i", 52)), "index file: .*row 1: .*lead"),
            (".shx", lambda d: d[:-8], "index file: .*2 records"),
            (".dbf", lambda d: replaced(d, 4, struct.pack("<i", 2)), "dBASE file: .*2 records"),
            (".dbf", lambda d: replaced(d, 10, struct.pack("<H", 300)), "dBASE file"),
            (".dbf", lambda d: replaced(d, 43, b"?"), "dBASE file: .*type '\\?'"),
            (".prj", lambda d: b"no wkt", ".prj: "),
            (".geojson", lambda d: b"\xef\xbb\xbf" + d, "RFC 8259, 8.1"),
            (".geojson", lambda d: d[:-5], "RFC 8259: line"),
            (".geojson", lambda d: d.replace(b'"type":"Feature",', b'"type":"feature",', 1), "3.2: row 1"),
            (".geojson", lambda d: d.replace(b'"properties"', b'"props"', 1), "3.2: row 1: .*'properties'"),
            (".geojson", lambda d: d.replace(b"[1.5,0.0]", b"[1.5,95.0]"), "RFC 7946, 4: row 2"),
            (".geojson", lambda d: d.replace(b'{"type":"FeatureC', b'{"crs":null,"type":"FeatureC'), "RFC 7946, 4: "),
            (".geojson", lambda d: d.replace(b"[0.0,0.0],[0.5,0.0],[0.5,0.5],[0.0,0.5],[0.0,0.0]",
                                             b"[0.0,0.0],[0.0,0.5],[0.5,0.5],[0.5,0.0],[0.0,0.0]"), "3.1.6: row 1: .*clockwise"),
            (".geojson", lambda d: d.replace(b",[0.0,0.0]]", b"]"), "3.1.6: row 1: .*not closed"),
            (".geojson", lambda d: d.replace(b"[2.5,", b"[-175.5,").replace(b"[2.0,", b"[175.0,"), "3.1.9: row 3"),
            (".geojsons", lambda d: d.replace(b"\x1e", b""), "RFC 8142, 2.1: .*mark"),
            (".geojsons", lambda d: d.rstrip(b"\n"), "RFC 8142, 2.1: .*line feed"),
            (".csv", lambda d: b"sep=,\n" + d, "RFC 4180, 2.1: line 1"),
            (".csv", lambda d: d.decode().encode("utf-16"), "RFC 4180, 3: the file: it is in UTF-16"),
            (".csv", lambda d: d.replace(b"\"b\"", b"\"b\",1"), "RFC 4180, 2.4: row 2"),
            (".csv", lambda d: d.replace(b"b", b"\xe4", 1), "RFC 4180, 3"),
            (".csv", lambda d: d.replace(b"POLYGON", b"POLIGON"), "06-103r4"),
        ]  # fmt: skip
        for ending, edit, wanted in cases:
            with self.subTest(ending=ending, wanted=wanted):
                path = self.beds(".shp" if ending in (".shx", ".dbf", ".prj") else ending)
                part = path.with_suffix(ending)
                before = part.read_bytes()
                self.assertNotEqual(edit(before), before)
                part.write_bytes(edit(before))
                self.finds(path, wanted)

    def test_a_file_that_is_not_there_or_empty(self):
        (self.folder / "x.gpkg").touch()
        for name in ("x.gpkg", "no.gpkg", "no.xyz"):
            with self.subTest(name=name), self.assertRaises(FileError):
                judged(self.folder / name)


class Command(WithSample):
    in_process = True

    def test_check(self):
        done = self.run_polygene("check", "tolva.gpkg")
        self.assertRegex(done.out, r"tolva.gpkg  GeoPackage 1.4: nothing found against it")
        path = Path(self.folder) / "odd.geojson"
        path.write_text('{"type": "Feature", "geometry": null}')
        done = self.run_polygene("check", "odd.geojson", "--strict")
        self.assertEqual(done.code, 1)
        self.assertRegex(
            done.out, r"may be misread  row 1: it has no member 'properties' \(RFC 7946"
        )


if __name__ == "__main__":
    unittest.main()
