"""GeoJSON: round trips, RFC 7946's own examples, other people's habits, damage."""

from __future__ import annotations

import itertools
import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import crs
from polygene.errors import DataError, FileError, GeometryError
from polygene.formats import geojson, sequences
from polygene.measures import ring_areas
from tests.support import generators as make
from tests.support import layers as some

DEGREES = "OGC:CRS84"


class InFolder(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.path = Path(holder.name) / "things.geojson"

    def given(self, value):
        self.path.write_text(
            value if isinstance(value, str) else json.dumps(value), encoding="utf-8"
        )
        return geojson.read(self.path, "things")

    def features(self, *geometries, **members):
        features = [
            {"type": "Feature", "geometry": g, "properties": {"n": k}}
            for k, g in enumerate(geometries)
        ]
        return self.given({"type": "FeatureCollection", "features": features, **members})


class RoundTrip(InFolder):
    def test_every_geometry_comes_back(self):
        for name, column in some.geometries().items():
            with self.subTest(name=name):
                layer = replace(some.layer(column, code=DEGREES), table=pa.table({"n": [1, 2, 3]}))
                notes = geojson.write(self.path, [layer]).notes
                (found,) = geojson.read(self.path, "things").layers
                some.same_geometry(self, replace(column, m=None), found.geometry)
                self.assertEqual(any("M values dropped" in n for n in notes), column.m is not None)
                np.testing.assert_array_equal(found.ids, layer.ids)

    def test_field_types_come_back_or_differ_as_stated(self):
        column = some.geometries()["multi polygons "]
        geojson.write(self.path, [some.layer(column, code=DEGREES)])
        (found,) = geojson.read(self.path, "things").layers
        given = some.every_type()
        self.assertEqual(found.table.column_names, given.column_names)
        for name in ("tiny", "small", "medium", "large", "real", "text", "flag"):
            self.assertEqual(found.table[name].to_pylist(), given[name].to_pylist(), name)
        self.assertEqual(found.table["day"].to_pylist(), ["1899-12-31", "2026-02-28", None])
        self.assertEqual(found.table["moment"].to_pylist()[0], "2026-05-04T03:02:01.123Z")
        self.assertEqual(found.table["blob"].to_pylist(), ["00ff", "", None])

    def test_many_rows_in_several_chunks(self):
        n = 45_000
        column = make.GeometryColumn.from_points(np.random.default_rng(1).uniform(-90, 90, (n, 2)))
        geojson.write(
            self.path, [make.layer("things", column, crs.parse(DEGREES), k=list(range(n)))]
        )
        (found,) = geojson.read(self.path, "things").layers
        np.testing.assert_array_equal(found.geometry.xy, column.xy)
        self.assertEqual(found.table["k"].to_pylist(), list(range(n)))

    def test_rings_are_turned_as_the_rfc_wants(self):
        """Outer rings counter-clockwise, holes clockwise (RFC 7946, 3.1.6)."""
        part = [make.square(0, 0, 9)[::-1], make.square(2, 2, 1)]
        geojson.write(
            self.path, [make.layer("things", make.polygons([[part]]), crs.parse(DEGREES))]
        )
        (found,) = geojson.read(self.path, "things").layers
        areas = ring_areas(found.geometry.xy, found.geometry.ring_offsets)
        self.assertEqual(areas.tolist(), [81, -1])

    def test_other_systems_are_brought_to_degrees(self):
        column = make.points([[np.array([500_000, 7_380_000.0])]])
        notes = geojson.write(self.path, [make.layer("x", column, crs.parse("EPSG:32633"))]).notes
        (found,) = geojson.read(self.path, "things").layers
        self.assertAlmostEqual(found.geometry.xy[0, 0], 15, 9)
        self.assertIn("longitude and latitude", notes[0])
        with self.assertRaisesRegex(DataError, "has no CRS"):
            geojson.write(self.path, [make.layer("x", column)])


class Reading(InFolder):
    def test_the_examples_of_the_rfc(self):
        """RFC 7946, appendix A and section 1.5."""
        polygon = {"type": "Polygon", "coordinates": [
            [[100.0, 0.0], [101.0, 0.0], [101.0, 1.0], [100.0, 1.0], [100.0, 0.0]],
            [[100.8, 0.8], [100.8, 0.2], [100.2, 0.2], [100.2, 0.8], [100.8, 0.8]]]}  # fmt: skip
        collection = {"type": "GeometryCollection", "geometries": [
            {"type": "Point", "coordinates": [100.0, 0.0]},
            {"type": "LineString", "coordinates": [[101.0, 0.0], [102.0, 1.0]]}]}  # fmt: skip
        for geometry, shape in [
            ({"type": "Point", "coordinates": [100.0, 0.0]}, [("things", 1)]),
            ({"type": "MultiPoint", "coordinates": [[100.0, 0.0], [101.0, 1.0]]}, [("things", 2)]),
            ({"type": "LineString", "coordinates": [[100.0, 0.0], [101.0, 1.0]]}, [("things", 2)]),
            (polygon, [("things", 10)]),
            (collection, [("things_points", 1), ("things_lines", 2)]),
        ]:
            with self.subTest(type=geometry["type"]):
                layers = self.given(geometry).layers
                self.assertEqual([(y.name, y.geometry.n_vertices) for y in layers], shape)

    def test_mixed_dimensions_become_layers(self):
        point, line = (
            {"type": "Point", "coordinates": [1, 2]},
            {"type": "LineString", "coordinates": [[0, 0], [1, 1]]},
        )
        reading = self.features(line, point, None, line, {"type": "Polygon", "coordinates": []})
        lines, points = reading.layers
        self.assertEqual((lines.name, lines.table["n"].to_pylist()), ("things_lines", [0, 2, 3, 4]))
        self.assertEqual((points.name, points.table["n"].to_pylist()), ("things_points", [1]))
        self.assertEqual(lines.geometry.is_null.tolist(), [False, True, False, False])
        self.assertIn("several dimensions", reading.notes[0])
        (chosen,) = geojson.read(self.path, "things_points").layers
        self.assertEqual(chosen.n_rows, 1)

    def test_the_older_crs_member(self):
        layer = self.features(
            None, crs={"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32633"}}
        ).layers[0]
        self.assertEqual(crs.code(layer.crs), ("EPSG", "32633"))
        self.assertEqual(crs.code(self.features(None).layers[0].crs), ("OGC", "CRS84"))
        with self.assertRaisesRegex(DataError, "no CRS that is known"):
            self.features(None, crs={"type": "name", "properties": {"name": "EPSG:99999999"}})

    def test_a_crs_that_features_say_in_a_sequence_or_a_collection(self):
        own = {"type": "name", "properties": {"name": "EPSG:32633"}}
        point = {"type": "Point", "coordinates": [5e5, 0]}
        bare = {"type": "Feature", "geometry": point, "properties": {"n": 1}}
        said, other = {**bare, "crs": own}, {"type": "name", "properties": {"name": "EPSG:32632"}}
        place = {**bare, "geometry": None, "place": point, "coordRefSys": "[EPSG:32633]"}
        whole = {"type": "FeatureCollection", "features": [bare]}
        path = self.path.with_suffix(".geojsonl")
        for features, code in (
            ([said, said], ("EPSG", "32633")),
            ([{**whole, "crs": own}, said], ("EPSG", "32633")),
            ([{**point, "crs": own}], ("EPSG", "32633")),
            ([place, place], ("EPSG", "32633")),
            ([bare], ("OGC", "CRS84")),
            ([said, bare], None),
            ([said, {**bare, "crs": other}], None),
        ):
            text = "\n".join(map(json.dumps, features))
            path.write_text("\ufeff" + text, encoding="utf-8")
            with self.subTest(features=features):
                if code is None:
                    with self.assertRaisesRegex(DataError, "the same for all"):
                        sequences.read(path, "things")
                    continue
                (found,) = sequences.read(path, "things").layers
                self.assertEqual(crs.code(found.crs), code)
                self.assertEqual(found.geometry.xy.tolist(), [[5e5, 0]] * len(features))
                if {one["type"] for one in features} == {"Feature"}:
                    (found,) = self.given({**whole, "features": features}).layers
                    self.assertEqual(crs.code(found.crs), code)

    def test_members_beside_the_properties_are_told(self):
        one = {"type": "Feature", "geometry": None, "properties": {"n": 1}, "id": 3, "bbox": []}
        whole = {"type": "FeatureCollection", "name": "x", "features": [one]}
        self.assertEqual(self.given(whole).notes, [])
        whole["features"] = [one, {**one, "name": "Ærø", "time": {"date": "2020-01-01"}}]
        self.assertIn("members name, time of features", self.given(whole).notes[0])

    def test_values_of_several_types_and_nested_ones(self):
        features = [
            {
                "type": "Feature",
                "geometry": None,
                "properties": {"a": 1, "b": {"x": 1}, "d": 1},
                "id": "k1",
            },
            {
                "type": "Feature",
                "geometry": None,
                "properties": {"a": "one", "c": None, "d": 2.5},
                "id": 2,
            },
            {"type": "Feature", "geometry": None, "properties": None},
        ]
        reading = self.given({"type": "FeatureCollection", "features": features})
        table = reading.layers[0].table.to_pydict()
        self.assertEqual(
            table,
            {"id": ["k1", "2", None], "a": ["1", "one", None], "b": ['{"x":1}', None, None],
             "d": [1.0, 2.5, None], "c": [None] * 3},
        )  # fmt: skip
        self.assertEqual(len(reading.notes), 3)

    def test_types_do_not_hang_on_the_order_of_values(self):
        for values in ([1.5, True], [1, False, 2.5], [2**53 + 1, 0.5], [1, 2.5], [True, "x", 1]):
            seen = set()
            for order in itertools.permutations(values):
                features = [
                    {"type": "Feature", "geometry": None, "properties": {"a": v}} for v in order
                ]
                found = self.given({"type": "FeatureCollection", "features": features})
                column = found.layers[0].table.column("a")
                pairs = zip(map(str, order), map(str, column.to_pylist()), strict=True)
                seen.add((str(column.type), *sorted(pairs)))
            self.assertEqual(len(seen), 1, seen)

    def test_heights_on_some_positions_and_more_than_three_numbers(self):
        layer = self.features(
            {"type": "LineString", "coordinates": [[0, 0], [1, 1, 5], [2, 2, 6, 7]]}
        ).layers[0]
        np.testing.assert_array_equal(layer.geometry.z, [np.nan, 5, 6])


class Damage(InFolder):
    def test_geometry_faults_name_their_row(self):
        good = {"type": "Point", "coordinates": [1, 2]}
        for bad, reason in [
            ({"type": "Point", "coordinates": [1]}, "less than two numbers"),
            ({"type": "Point", "coordinates": ["1", 2]}, "not a number"),
            ({"type": "Point", "coordinates": [None, 2]}, "not a number"),
            ({"type": "Point", "coordinates": [True, 2]}, "not a number"),
            ({"type": "LineString", "coordinates": [1, 2]}, "not nested"),
            ({"type": "Polygon", "coordinates": [[1, 2], [3, 4]]}, "not nested"),
            ({"type": "Polygon"}, "not nested"),
            ({"type": "Circle", "coordinates": [1, 2]}, "unknown type 'Circle'"),
            ({"type": "GeometryCollection"}, "no list of geometries"),
            ([1, 2], "no object"),
        ]:
            with self.subTest(bad=bad), self.assertRaisesRegex(GeometryError, f"row 2: .*{reason}"):
                self.features(good, bad, good)

    def test_documents_that_are_none(self):
        whole = json.dumps(
            {
                "type": "FeatureCollection",
                "features": [{"type": "Feature", "geometry": None, "properties": {}}],
            }
        )
        for text, reason in [
            (whole[:-1], "cut short: line 1, column"),
            (whole[:40], "cut short: line 1"),
            (whole.replace("null", "NaN"), "not valid JSON .*column 7"),
            ("[1, 2]", "not GeoJSON"),
            ('{"type": "Topology"}', "its type is 'Topology'"),
            ('{"type": "FeatureCollection", "features": [1]}', "row 1: no feature"),
            (
                '{"type": "FeatureCollection", "features": [{"properties": [1]}]}',
                "row 1: its properties",
            ),
            ("[" * 2000, "not valid JSON|cut short"),
        ]:
            with self.subTest(text=text[:60]), self.assertRaisesRegex(FileError, reason):
                self.given(text)

    def test_a_byte_order_mark_is_no_fault(self):
        self.path.write_bytes(b'\xef\xbb\xbf{"type":"FeatureCollection","features":[]}')
        self.assertEqual(geojson.read(self.path, "things").layers[0].n_rows, 0)


class InPlace(InFolder):
    """JSON-FG: geometry in a CRS of its own, whose authority says the order of axes."""

    def test_places_are_in_their_crs(self):
        degrees, place = {"type": "Point", "coordinates": [14, 69]}, [500000, 7600000]
        for ref in ("[EPSG:25833]", "http://www.opengis.net/def/crs/EPSG/0/25833"):
            for where in ("document", "feature", "place"):
                refs = {where: {"coordRefSys": {"type": "Reference", "href": ref}}}
                feature = {
                    "type": "Feature", "geometry": degrees, "properties": {}, **refs.get("feature", {}),
                    "place": {"type": "Point", "coordinates": place, **refs.get("place", {})},
                }  # fmt: skip
                whole = {
                    "type": "FeatureCollection",
                    "features": [feature],
                    **refs.get("document", {}),
                }
                if ref.startswith("["):
                    whole = json.loads(
                        json.dumps(whole).replace(
                            '{"type": "Reference", "href": "[EPSG:25833]"}', '"[EPSG:25833]"'
                        )
                    )
                (found,) = self.given(whole).layers
                self.assertEqual(found.geometry.xy.tolist(), [place])
                self.assertEqual(crs.code(found.crs), ("EPSG", "25833"))

    def test_latitude_comes_first_where_the_authority_says_so(self):
        feature = {
            "type": "Feature", "geometry": None, "properties": {},
            "place": {"type": "LineString", "coordinates": [[69, 14, 5], [70, 15, 6]]},
        }  # fmt: skip
        whole = {"type": "FeatureCollection", "features": [feature], "coordRefSys": "[EPSG:4326]"}
        (found,) = self.given(whole).layers
        self.assertEqual(found.geometry.xy.tolist(), [[14, 69], [15, 70]])
        self.assertEqual(found.geometry.z.tolist(), [5, 6])

    def test_what_cannot_be_one_layer_is_told(self):
        def feature(place, ref="[EPSG:25833]"):
            point = {"type": "Point", "coordinates": [1, 2]}
            return {
                "type": "Feature", "properties": {}, "geometry": None if place else point,
                "place": point if place else None, "coordRefSys": ref,
            }  # fmt: skip

        for features, said in (
            ([feature(True), feature(True, "[EPSG:3857]")], "places are in several CRS"),
            ([feature(True), feature(False)], "some only a geometry"),
            ([feature(True, ["[EPSG:25833]", "[EPSG:5783]"])], "which is no single one"),
            ([feature(True, "[EPSG:1]")], "EPSG:1"),
        ):
            with self.assertRaisesRegex(DataError, said):
                self.given({"type": "FeatureCollection", "features": features})


if __name__ == "__main__":
    unittest.main()
