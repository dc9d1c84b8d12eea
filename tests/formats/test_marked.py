"""GPX, KML and GML as others write them; KML there and back; what is damaged, foreign or made to grow."""

# ruff: noqa: E501  (documents)

from __future__ import annotations

import unittest
import warnings
import zipfile
from dataclasses import replace
from xml.dom import minidom

import numpy as np
import orjson
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import polygene
from polygene import crs
from polygene.errors import DataError, FileError, GeometryError, PolygeneError
from polygene.formats.clauses import judged
from polygene.formats.markup import texts
from polygene.formats.registry import readable_format
from polygene.geometry import Family
from polygene.layer import Layer
from tests.support.cli import InFolder
from tests.support.layers import geometries, quietly, same_geometry

GPX = """<?xml version="1.0"?>
<gpx version="1.1" creator="r" xmlns="http://www.topografix.com/GPX/1/1" xmlns:x="u:x">
<metadata><name>Walks</name><author><name>Ída</name></author><time>2020-01-01T00:00:00Z</time></metadata>
<wpt lat="69.10" lon="14.20"><ele>12.5</ele><time>2026-05-01T08:00:00Z</time><name>007</name><sat>8</sat></wpt>
<wpt lat=" 69.11" lon="+14.21"><name>Skerry &amp; stone</name><link href="http://x.example/s"><text>s</text></link></wpt>
<rte><name>Ferry</name><number>3</number><rtept lat="69.1" lon="14.1"/><rtept lat="69.2" lon="14.3"/></rte>
<trk><name>Morning</name><extensions><x:mood>good</x:mood></extensions><trkseg>
<trkpt lat="69.1" lon="14.1"><ele>1</ele><time>2026-05-01T08:00:00+02:00</time><extensions><x:e><x:hr>101</x:hr><x:speed>2.5</x:speed><x:time>9</x:time></x:e></extensions></trkpt>
<trkpt lat="69.11" lon="14.11"><time>2026-05-01T08:00:10.500Z</time></trkpt><extensions><x:hr>999</x:hr></extensions></trkseg>
<trkseg><trkpt lat="69.2" lon="14.1"><ele>3</ele></trkpt><trkpt lat="69.21" lon="14.11"/></trkseg></trk>
<trk><trkseg><trkpt lat="69.3" lon="14.3"/><trkpt lat="69.31" lon="14.3"/></trkseg><trkseg/></trk><trk/></gpx>"""

KML = """<?xml version="1.0"?><!DOCTYPE kml [<!ENTITY sea "Tolva Sound">]>
<kml xmlns="http://earth.google.com/kml/2.1" xmlns:gx="u:gx"><Document><name>Doc</name>
<Schema name="s" id="S1"><SimpleField type="xsd:int" name="n"/><SimpleField type="string" name="code"/><SimpleField type="bool" name="none"/></Schema>
<GroundOverlay><name>pic</name><gx:LatLonQuad><coordinates>0,0 1,0 1,1 0,1</coordinates></gx:LatLonQuad></GroundOverlay>
<Placemark><name>loose</name><description><![CDATA[<b>bold</b> & more]]></description><Point><coordinates> 14.5,69.5,0 </coordinates></Point></Placemark>
<PhotoOverlay><Point><coordinates>1,1</coordinates></Point></PhotoOverlay>
<Folder><name>areas</name>
<Placemark><name>A &sea;</name><TimeSpan><begin>2026-01-01</begin></TimeSpan><ExtendedData><SchemaData schemaUrl="#S1"><SimpleData name="n">7</SimpleData><SimpleData name="code">007</SimpleData></SchemaData></ExtendedData>
<Polygon><innerBoundaryIs><LinearRing><coordinates>14.2,69.2 14.4,69.2 14.4,69.4 14.2,69.2</coordinates></LinearRing><LinearRing><coordinates>14.6,69.2 14.7,69.2 14.7,69.4 14.6,69.2</coordinates></LinearRing></innerBoundaryIs><outerBoundaryIs><LinearRing><coordinates>14,69,0 15,69,0
15,70,0 14,70,0<!-- home --> 14,69,0</coordinates></LinearRing></outerBoundaryIs></Polygon></Placemark>
<Placemark><ExtendedData><Data name="depth"><displayName>Depth</displayName><value>12.5</value></Data></ExtendedData>
<MultiGeometry><Polygon><outerBoundaryIs><LinearRing><coordinates>10,60 11,60 11,61 10,60</coordinates></LinearRing></outerBoundaryIs></Polygon>
<MultiGeometry><Polygon><outerBoundaryIs><LinearRing><coordinates>20,60 21,60 21,61 20,60</coordinates></LinearRing></outerBoundaryIs></Polygon></MultiGeometry></MultiGeometry></Placemark>
<Placemark><name>nothing</name></Placemark><Placemark><MultiGeometry/></Placemark></Folder>
<Folder><name>areas</name><Placemark><name>T</name><gx:Track><when>2026-05-01T08:00:00Z</when><when>2026-05-01T09:00:00Z</when><gx:coord>14 69 5</gx:coord><gx:coord/><gx:coord>14.1 69.1 6</gx:coord></gx:Track></Placemark>
<Placemark><name>ring</name><LinearRing><coordinates>1,1 2,1 2,2 1,1</coordinates></LinearRing></Placemark></Folder></Document></kml>"""

GML = """<?xml version="1.0"?><t:FeatureCollection xmlns:t="u:t" xmlns:gml="http://www.opengis.net/gml/3.2" xmlns:xlink="http://www.w3.org/1999/xlink" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:schemaLocation="u:t http://x.example/d.xsd">
<gml:boundedBy><gml:Envelope srsName="http://www.opengis.net/def/crs/EPSG/0/4326"><gml:pos>69 14</gml:pos><gml:pos>70 15</gml:pos></gml:Envelope></gml:boundedBy>
<t:featureMember><t:District gml:id="d.1"><gml:name>North</gml:name><t:code>007</t:code><t:people>12</t:people><t:depth uom="m">3.5</t:depth><t:see xlink:href="http://x.example/x"/><t:alias>a</t:alias><t:alias>b</t:alias>
<t:area><gml:Polygon gml:id="p1"><gml:interior><gml:LinearRing><gml:pos>69.2 14.2</gml:pos><gml:pos>69.4 14.4</gml:pos><gml:pos>69.2 14.4</gml:pos><gml:pos>69.2 14.2</gml:pos></gml:LinearRing></gml:interior><gml:exterior><gml:LinearRing><gml:posList>69 14 69 15 70 15 70 14 69 14</gml:posList></gml:LinearRing></gml:exterior></gml:Polygon></t:area></t:District></t:featureMember>
<t:featureMember><t:District gml:id="d.2"><t:code>008</t:code><t:people xsi:nil="true"/><t:area><gml:MultiSurface srsName="urn:ogc:def:crs:EPSG::4326" srsDimension="3"><gml:surfaceMember><gml:Surface><gml:patches><gml:PolygonPatch><gml:exterior><gml:LinearRing><gml:posList>60 10 1 60 11 1 61 11 1 60 10 1</gml:posList></gml:LinearRing></gml:exterior></gml:PolygonPatch></gml:patches></gml:Surface></gml:surfaceMember></gml:MultiSurface></t:area></t:District></t:featureMember>
<t:featureMember><t:District gml:id="d.3"/></t:featureMember>
<t:featureMember><t:Way gml:id="w.1"><t:path><gml:Curve srsName="EPSG:25833"><gml:segments><gml:LineStringSegment><gml:posList>500000 7600000 500010 7600000</gml:posList></gml:LineStringSegment><gml:LineStringSegment><gml:posList>500010 7600000 500020 7600010</gml:posList></gml:LineStringSegment></gml:segments></gml:Curve></t:path></t:Way></t:featureMember>
<t:featureMember><t:Old fid="o"><t:at><gml:Point srsName="http://www.opengis.net/gml/srs/epsg.xml#4326"><gml:coordinates cs=";" decimal=",">14,5;69,5</gml:coordinates></gml:Point></t:at></t:Old></t:featureMember>
<t:featureMember><t:Made><t:g><gml:Polygon srsName="EPSG:25833"><gml:exterior><gml:Ring><gml:curveMember><gml:LineString><gml:posList>0 0 4 0</gml:posList></gml:LineString></gml:curveMember><gml:curveMember><gml:LineString><gml:posList>4 0 4 4 0 0</gml:posList></gml:LineString></gml:curveMember></gml:Ring></gml:exterior></gml:Polygon></t:g></t:Made></t:featureMember>
</t:FeatureCollection>"""
XSD = """<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:gml="u:g" xmlns:t="u:t"><xs:element name="District" type="t:DistrictType"/>
<xs:complexType name="DistrictType"><xs:complexContent><xs:extension base="gml:AbstractFeatureType"><xs:sequence><xs:element name="people" type="xs:double"/>
<xs:element name="founded" type="xs:date"/><xs:element name="code"><xs:simpleType><xs:restriction base="xs:string"/></xs:simpleType></xs:element></xs:sequence></xs:extension></xs:complexContent></xs:complexType></xs:schema>"""


class Documents(InFolder):
    def put(self, name: str, text: str | bytes):
        data = text.encode() if isinstance(text, str) else text
        (self.folder / name).write_bytes(data)
        return self.folder / name

    def read(self, address: str) -> Layer:
        return quietly(polygene.read, f"{self.folder}/{address}")

    def notes(self, file: str, name: str) -> list[str]:
        path = self.folder / file
        return readable_format(path).read(path, name).notes


class Gpx(Documents):
    def setUp(self):
        super().setUp()
        self.put("w.gpx", GPX)

    def test_points_with_what_the_schema_says_of_them(self):
        layer = self.read("w.gpx#waypoints")
        self.assertEqual(layer.geometry.xy.tolist(), [[14.2, 69.1], [14.21, 69.11]])
        self.assertEqual(layer.geometry.z[0], 12.5)
        self.assertTrue(np.isnan(layer.geometry.z[1]))
        self.assertEqual(layer.table.column("name").to_pylist(), ["007", "Skerry & stone"])
        self.assertEqual(layer.table.column("sat").to_pylist(), [8, None])
        self.assertEqual(layer.table.column("link").to_pylist(), [None, "http://x.example/s"])
        self.assertEqual(layer.table.schema.field("time").type, pa.timestamp("ms", tz="UTC"))

    def test_a_track_is_a_line_a_segment_and_its_points_know_where_they_are(self):
        tracks, fixes = self.read("w.gpx#tracks"), self.read("w.gpx#fixes")
        self.assertEqual(np.diff(tracks.geometry.row_offsets).tolist(), [2, 1, 0])
        self.assertEqual(tracks.table.column("mood").to_pylist(), ["good", None, None])
        self.assertEqual(str(tracks.table.column("begins")[0]), "2026-05-01 06:00:00+00:00")
        self.assertEqual(str(tracks.table.column("ends")[0]), "2026-05-01 08:00:10.500000+00:00")
        self.assertEqual(fixes.table.column("track").to_pylist(), [1, 1, 1, 1, 2, 2])
        self.assertEqual(fixes.table.column("segment").to_pylist(), [1, 1, 2, 2, 1, 1])
        self.assertEqual(fixes.table.column("hr").to_pylist(), [101, *[None] * 5])
        self.assertEqual(fixes.table.column("speed").to_pylist(), [2.5, *[None] * 5])
        self.assertEqual(fixes.table.column("time_2").to_pylist(), [9, *[None] * 5])
        np.testing.assert_array_equal(fixes.geometry.xy, tracks.geometry.xy)

    def test_routes_and_which_layer_is_the_only_one(self):
        self.assertEqual(
            self.read("w.gpx#routes").table.to_pydict(), {"name": ["Ferry"], "number": [3]}
        )
        self.put("t.gpx", GPX[: GPX.index("<wpt")] + GPX[GPX.index("<trk>") :])
        self.assertEqual(self.read("t.gpx").geometry.family, Family.LINES)

    def test_a_point_of_no_place(self):
        self.put("b.gpx", GPX.replace('lat="69.2"', 'lat="north"', 1))
        with self.assertRaisesRegex(
            GeometryError, r"turnpoints, row 2 \(line 6\).*'north' is no number"
        ):
            self.read("b.gpx#turnpoints")


class Kml(Documents):
    def setUp(self):
        super().setUp()
        self.path = self.put("a.kml", KML)

    def test_folders_are_layers(self):
        self.assertEqual(
            readable_format(self.path).layer_names(self.path), ["Doc", "areas", "areas_2"]
        )
        loose = self.read("a.kml#Doc")
        self.assertEqual(
            loose.table.to_pydict(), {"name": ["loose"], "description": ["<b>bold</b> & more"]}
        )
        self.assertIsNone(loose.geometry.z)
        self.assertIn("Doc: left out: 1 overlay, 1 photograph", self.notes("a.kml", "Doc"))

    def test_polygons_with_holes_first_and_comments_within(self):
        layer = self.read("a.kml#areas")
        column = layer.geometry
        self.assertEqual(np.diff(column.row_offsets).tolist(), [1, 2, 0, 0])
        self.assertEqual(np.diff(column.part_offsets).tolist(), [3, 1, 1])
        self.assertEqual(np.diff(column.ring_offsets).tolist(), [5, 4, 4, 4, 4])
        self.assertEqual(column.is_null.tolist(), [False, False, True, False])
        self.assertEqual(
            layer.table.column("name").to_pylist(), ["A Tolva Sound", None, "nothing", None]
        )
        types = {own.name: own.type for own in layer.table.schema}
        self.assertEqual(types["n"], pa.int64())
        self.assertEqual((types["code"], types["none"]), (pa.string(), pa.bool_()))
        self.assertEqual((types["begin"], types["depth"]), (pa.date32(), pa.float64()))

    def test_tracks_and_lone_rings_are_lines(self):
        layer = self.read("a.kml#areas_2")
        self.assertEqual(np.diff(layer.geometry.vertex_offsets_of_rows).tolist(), [2, 4])
        self.assertEqual(layer.geometry.z[:2].tolist(), [5, 6])
        self.assertEqual(str(layer.table.column("end")[0]), "2026-05-01 09:00:00+00:00")

    def test_data_given_in_several_ways_are_one_field(self):
        data = (
            "<Data name='m'><value>7</value></Data><Data name='name'><value>z</value></Data>",
            "<SchemaData><SimpleData name='m'>4</SimpleData></SchemaData><x:m xmlns:x='u:x'>5</x:m>",
            "<x:m xmlns:x='u:x'>6</x:m><x:name xmlns:x='u:x'>w</x:name>",
        )
        rows = "".join(
            f"<Placemark><name>a</name><ExtendedData>{own}</ExtendedData></Placemark>"
            for own in data
        )
        self.put("d.kml", f"<kml>{rows}</kml>")
        table = self.read("d.kml").table
        self.assertEqual(
            table.to_pydict(), {"name": ["a"] * 3, "m": [7, 4, 6], "name_2": ["z", None, "w"]}
        )

    def test_a_value_beside_another_is_told(self):
        both = '<Data name="x"><value>{}</value></Data>' * 2
        for values, n in (((5, 5), 0), ((5, 6), 1), (("", 6), 1)):
            data = both.format(*values)
            self.put(
                "x.kml", f"<kml><Placemark><ExtendedData>{data}</ExtendedData></Placemark></kml>"
            )
            self.assertEqual(
                "x: 1 value beside another" in " ".join(self.notes("x.kml", "x")), n > 0
            )
        links = "".join(f'<link href="http://x.example/{k}"/>' for k in "ab")
        self.put("x.gpx", f'<gpx version="1.1"><wpt lat="1" lon="2">{links}</wpt></gpx>')
        self.assertIn(
            "field link: 1 value beside another", " ".join(self.notes("x.gpx", "waypoints"))
        )

    def test_other_encodings_and_packed(self):
        plain = self.read("a.kml#areas")
        self.put("u.kml", KML.replace('<?xml version="1.0"?>', "").encode("utf-16"))
        same_geometry(self, self.read("u.kml#areas").geometry, plain.geometry)
        latin = '<?xml version="1.0" encoding="windows-1252"?><kml><Placemark><name>Ærø €</name></Placemark></kml>'
        self.put("l.kml", latin.encode("cp1252"))
        self.assertEqual(self.read("l.kml").table.column("name").to_pylist(), ["Ærø €"])
        with zipfile.ZipFile(self.folder / "a.kmz", "w") as packed:
            packed.writestr("doc.kml", KML)
            packed.writestr("files/table.csv", "x,y\n1,2\n")
        same_geometry(self, self.read("a.kmz#areas").geometry, plain.geometry)

    def test_coordinates_that_are_none(self):
        for old, new, said in (
            ("14,69,0 15,69,0", "14,69,0 15,x,0", r"placemark 2 \(line 9\).*'x' is no number"),
            ("14,69,0 15,69,0", "14,69,0 15 69 0", "'15' is no x,y or x,y,z"),
            ("14,69,0 15,69,0", "14,69,0 15,nan,0", "'nan' is no finite number"),
            (" 14.5,69.5,0 ", "14.5,69.5 14,69", "a point has several positions"),
        ):
            self.put("b.kml", KML.replace(old, new, 1))
            with self.subTest(new), self.assertRaisesRegex(GeometryError, said):
                self.read("b.kml#areas")
        self.put("b.kml", KML.replace("outerBoundaryIs", "innerBoundaryIs"))
        with self.assertRaisesRegex(GeometryError, "a polygon has holes and no outer boundary"):
            self.read("b.kml#areas")

    def test_every_kind_there_and_back(self):
        values = {
            "name": pa.array(["a<b>&\"'", None, ""], pa.string()),
            "n": pa.array([-(2**31), None, 2**31 - 1], pa.int64()),
            "big": pa.array(["1099511627776", None, "-1"], pa.string()),
            "real": pa.array([0.1, float("nan"), -1e-300]),
            "no limit": pa.array([float("inf"), None, float("-inf")]),
            "yes": pa.array([True, None, False]),
            'a&b "c"': pa.array(["007", "x\ty\r\n", " \u2028"]),
            "none": pa.nulls(3, pa.string()),
        }
        table = pa.table(values).set_column(2, "big", pa.array([2**40, None, -1]))
        for k, (words, column) in enumerate(geometries().items()):
            layer = Layer(f"l&{k}", column, table, crs.parse("OGC:CRS84"))
            path = self.folder / f"{k}.kml"
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                polygene.write(layer, f"{path}#l&{k}")  # which reads it again, and compares
            back = polygene.read(f"{path}#l&{k}")
            with self.subTest(words):
                same_geometry(
                    self, replace(back.geometry, is_multi=column.is_multi), replace(column, m=None)
                )
                for own, given in values.items():
                    self.assertEqual(
                        str(back.table.column(own).to_pylist()), str(given.to_pylist())
                    )
                self.assertEqual(judged(path).findings, [])
                minidom.parse(str(path))

    def test_it_is_written_as_a_whole(self):
        layer = self.read("a.kml#areas")
        with self.assertRaisesRegex(DataError, r"has other layers \(Doc, areas_2\)"):
            polygene.write(layer, f"{self.path}#areas", on_existing="replace")
        self.assertEqual(self.path.read_text(), KML)
        empty = layer.take(np.zeros(0, np.int64))
        polygene.write(empty, f"{self.folder}/e.kml#none")
        back = polygene.read(f"{self.folder}/e.kml#none")
        self.assertEqual((back.n_rows, back.table.schema.field("n").type), (0, pa.int64()))


class Gml(Documents):
    def setUp(self):
        super().setUp()
        self.put("b.gml", GML)

    def test_axes_are_as_the_uri_says(self):
        layer = self.read("b.gml#District")
        self.assertEqual(layer.geometry.extent(), (10.0, 60.0, 15.0, 70.0))
        self.assertEqual(np.diff(layer.geometry.ring_offsets).tolist(), [5, 4, 4])
        self.assertEqual(layer.geometry.z[-4:].tolist(), [1.0] * 4)
        self.assertEqual(layer.geometry.is_null.tolist(), [False, False, True])
        self.assertEqual(layer.table.column("id").to_pylist(), ["d.1", "d.2", "d.3"])
        self.assertEqual(layer.table.column("code").to_pylist(), ["007", "008", None])
        self.assertEqual(layer.table.column("people").to_pylist(), [12, None, None])
        self.assertEqual(layer.table.column("alias").to_pylist(), ['["a","b"]', None, None])
        self.assertEqual(layer.table.column("see").to_pylist()[0], "http://x.example/x")
        self.assertIn("District: field depth is in m", self.notes("b.gml", "District"))

    def test_segments_join_and_old_ways_are_read(self):
        way = self.read("b.gml#Way")
        self.assertEqual(way.geometry.xy[:, 0].tolist(), [500000, 500010, 500020])
        self.assertEqual(
            self.read("b.gml#Made").geometry.xy.tolist(), [[0, 0], [4, 0], [4, 4], [0, 0]]
        )
        old = self.read("b.gml#Old")
        self.assertEqual(old.geometry.xy.tolist(), [[14.5, 69.5]])
        self.assertIn("does not tell the order of axes", self.notes("b.gml", "Old")[0])
        own = '<gml:coordinates cs=";" decimal=",">14,5;69,5</gml:coordinates>'
        apart = "<gml:coord><gml:X>14.5</gml:X><!-- 1 --> <gml:Y> 69.5\n</gml:Y><gml:Z>7</gml:Z></gml:coord>"
        self.put("apart.gml", GML.replace(own, apart))
        old = self.read("apart.gml#Old")
        self.assertEqual((old.geometry.xy.tolist(), old.geometry.z.tolist()), ([[14.5, 69.5]], [7]))
        self.put("apart.gml", GML.replace(own, apart.replace("14.5", "west")))
        with self.assertRaisesRegex(GeometryError, r"apart.gml, row 1 \(line 8\)"):
            self.read("apart.gml#Old")

    def test_a_schema_beside_states_types(self):
        self.put("d.xsd", XSD)
        types = {own.name: own.type for own in self.read("b.gml#District").table.schema}
        self.assertEqual((types["people"], types["founded"]), (pa.float64(), pa.date32()))
        self.assertEqual(list(types)[1:4], ["people", "founded", "code"])

    def test_what_is_refused(self):
        for old, new, said, error in (
            ("LineStringSegment", "Arc", "has an element Arc; only points", GeometryError),
            ("69 14 69 15", "69 69 15", "9 numbers make no positions of 2", GeometryError),
            ("EPSG::4326", "EPSG::25833", "geometry is in several CRS", DataError),
            ("EPSG::4326", "EPSG::1", "names no CRS that is known", DataError),
        ):
            self.put("c.gml", GML.replace(old, new))
            name = "Way" if new == "Arc" else "District"
            with self.subTest(new), self.assertRaisesRegex(error, said):
                self.read(f"c.gml#{name}")

    def test_no_part_of_a_geometry_is_passed_over(self):
        """Lines of points became points; parts that stand elsewhere, and triangles, were not there."""
        spot = "<gml:Point><gml:pos>{} 1</gml:pos></gml:Point>"

        def read(*several):
            own = "".join(
                f'<gml:member><t:A xmlns:t="u:t"><t:g{geometry}</t:g></t:A></gml:member>'
                for geometry in several
            )
            head = 'xmlns:gml="http://www.opengis.net/gml/3.2" xmlns:xlink="http://www.w3.org/1999/xlink"'
            self.put("g.gml", f"<gml:FeatureCollection {head}>{own}</gml:FeatureCollection>")
            return self.read("g.gml").geometry

        line = "".join(f"<gml:pointProperty>{spot.format(k)}</gml:pointProperty>" for k in (1, 2))
        for shapes, said in (
            ((f"><gml:LineString>{line}</gml:LineString>",), "row 1 .*an element pointProperty"),
            ((">" + spot.format(1), '><gml:MultiPoint><gml:pointMember xlink:href="#g"/></gml:MultiPoint>'),
             "row 2 .*refers to '#g' for a part of it"),
            ((">" + spot.format(1), ' xlink:href="#g">'), "row 2 .*refers to '#g' for a part of it"),
        ):  # fmt: skip
            with self.subTest(said), self.assertRaisesRegex(GeometryError, said):
                read(*shapes)
        hole = "<gml:interior><gml:LinearRing><gml:posList>0 0 1 0 0 1 0 0</gml:posList></gml:LinearRing></gml:interior>"
        with self.assertRaisesRegex(GeometryError, "row 1 .*a polygon has holes and no exterior"):
            read(f"><gml:Polygon>{hole}</gml:Polygon>")
        ring = "<gml:{}><gml:exterior><gml:LinearRing><gml:posList>{}</gml:posList></gml:LinearRing></gml:exterior></gml:{}>"
        kinds = (("Triangle", "0 0 1 0 0 1 0 0"), ("Rectangle", "5 5 6 5 6 6 5 6 5 5"))
        patches = "".join(ring.format(name, places, name) for name, places in kinds)
        about = '<gml:metaDataProperty xlink:href="#m"><gml:odd/></gml:metaDataProperty><gml:name>n</gml:name>'
        found = read(
            f"><gml:TriangulatedSurface>{about}<gml:patches>{patches}</gml:patches></gml:TriangulatedSurface>"
        )
        self.assertEqual(np.diff(found.ring_offsets).tolist(), [4, 5])
        self.assertEqual(found.row_offsets.tolist(), [0, 2])

    def test_a_lone_feature_and_members_in_one(self):
        own = GML[GML.index("<t:Old") : GML.index("</t:Old>") + 8]
        head = GML[GML.index("xmlns:t") : GML.index(">", GML.index("xmlns:t"))]
        self.put("one.gml", own.replace("<t:Old", f"<t:Old {head}"))
        self.assertEqual(self.read("one.gml").n_rows, 1)
        many = f"<w:FeatureCollection xmlns:w='u:w' {head}><gml:featureMembers>{own * 3}</gml:featureMembers></w:FeatureCollection>"
        self.put("many.gml", many)
        self.assertEqual(self.read("many.gml").geometry.xy.tolist(), [[14.5, 69.5]] * 3)


class Hostile(Documents):
    def test_entities_do_not_grow_and_nothing_is_fetched(self):
        secret = self.put("secret.txt", "hidden")
        lines = "".join(f'<!ENTITY e{k} "{f"&e{k - 1};" * 10}">' for k in range(1, 10))
        bomb = f'<!DOCTYPE kml [<!ENTITY e0 "{"x" * 100}">{lines}]><kml><Placemark><name>&e9;</name></Placemark></kml>'
        self.put("bomb.kml", bomb)
        with self.assertRaisesRegex(FileError, "bomb.kml is no valid XML"):
            self.read("bomb.kml")
        outside = f'<!DOCTYPE kml [<!ENTITY e SYSTEM "{secret.as_uri()}">]><kml><Placemark><name>&e;</name></Placemark></kml>'
        self.put("out.kml", outside)
        with self.assertRaisesRegex(FileError, "refers to 'file:.*secret.txt' for a part of it"):
            self.read("out.kml")

    def test_what_is_something_else(self):
        for name, text, said in (
            ("g.kml", GPX, "is XML but no KML: its outermost element is <gpx>"),
            ("k.gpx", KML, "is XML but no GPX"),
            (
                "h.kml",
                "<!DOCTYPE html><html><body>sign in</body></html>",
                "is no KML, whatever its ending",
            ),
            (
                "e.gml",
                "<ows:ExceptionReport xmlns:ows='u'><t>no such type</t></ows:ExceptionReport>",
                "no GML",
            ),
            ("j.gml", '{"type": "FeatureCollection", "features": []}', "looks like GeoJSON"),
            ("z.kml", "", "is empty"),
        ):
            self.put(name, text)
            with self.subTest(name), self.assertRaisesRegex(FileError, said):
                self.read(name)

    def test_cut_anywhere_it_is_told_or_read(self):
        for name, text in (("c.kml", KML), ("c.gpx", GPX), ("c.gml", GML)):
            path = self.put(name, text)
            for size in range(0, len(text), 97):
                path.write_bytes(text.encode()[:size])
                with self.assertRaises(PolygeneError) as caught:
                    format_ = readable_format(path)
                    [format_.read(path, own) for own in format_.layer_names(path)]
                self.assertIn(str(path), str(caught.exception))

    def test_mangled_it_is_told_or_read(self):
        rng = np.random.default_rng(3)
        n_told = 0
        for name, text in (("m.kml", KML), ("m.gpx", GPX), ("m.gml", GML)):
            for _ in range(150):
                data = bytearray(text.encode())
                for at in rng.integers(0, len(data), 3):
                    data[at] = rng.choice(list(b'<>&"/ x0,.:\xff'))
                path = self.put(name, bytes(data))
                try:
                    format_ = readable_format(path)
                    for own in format_.layer_names(path):
                        format_.read(path, own)
                except PolygeneError:
                    n_told += 1
        self.assertGreater(n_told, 100)

    def test_what_is_only_read_says_so(self):
        self.put("w.gpx", GPX)
        layer = self.read("w.gpx#waypoints")
        for ending in ("gpx", "gml"):
            with self.assertRaisesRegex(FileError, f"a {ending.upper()} is only read here"):
                polygene.write(layer, f"{self.folder}/new.{ending}")
        for name, instead in (("a.kmz", "a.kml"), ("b.csv.gz", "b.csv"), ("c.zip", "a .gpkg or")):
            with self.assertRaisesRegex(FileError, f"packed is only read here; write {instead}"):
                polygene.write(layer, f"{self.folder}/{name}")


class Clauses(Documents):
    def test_what_breaks_a_standard_is_found(self):
        for name, text, said in (
            ("a.kml", KML, "of no standard"),
            (
                "b.kml",
                '<kml xmlns="http://www.opengis.net/kml/2.2"><Placemark><LineString><coordinates>200,1</coordinates></LineString></Placemark></kml>',
                "no longitudes and latitudes",
            ),
            (
                "c.kml",
                '<kml xmlns="http://www.opengis.net/kml/2.2"><Placemark><ExtendedData><SchemaData><SimpleData name="q"/></SchemaData></ExtendedData></Placemark></kml>',
                "data of the name 'q'",
            ),
            (
                "d.gpx",
                GPX.replace('version="1.1"', 'version="1.0"', 1).replace('lat="69.3"', 'lat="99"'),
                "a lat is beyond 90",
            ),
            ("e.gml", GML, "a geometry does not say its CRS"),
            ("f.gml", GML.replace("d.2", "d.1"), "several elements have it"),
        ):
            path = self.put(name, text)
            with self.subTest(name):
                self.assertIn(said, " ".join(one.words for one in judged(path).findings))
        self.assertEqual(judged(self.put("w.gpx", GPX)).findings, [])


class Guessing(unittest.TestCase):
    @given(
        st.lists(
            st.one_of(
                st.none(),
                st.integers(-(2**62), 2**62),
                st.floats(allow_nan=False, allow_infinity=False),
                st.text(max_size=4),
                st.dates(),
                st.booleans(),
            )
        )
    )
    @settings(max_examples=150, deadline=None)
    def test_a_text_is_never_lost_by_its_type(self, values):
        given_texts = [
            v if v is None or isinstance(v, str) else orjson.dumps(v).decode().strip('"')
            for v in values
        ]
        column = pa.array(given_texts, pa.string())
        found, _ = texts.guessed(column)
        if pa.types.is_string(found.type):
            self.assertEqual(found, column)
        elif pa.types.is_integer(found.type):
            self.assertEqual(
                list(map(str, found.drop_null().to_pylist())),
                [v.strip() for v in given_texts if v and v.strip()],
            )
        elif pa.types.is_floating(found.type):
            self.assertEqual(
                found.drop_null().to_pylist(), [float(v) for v in given_texts if v and v.strip()]
            )

    def test_codes_stay(self):
        for given_texts in (["007", "8"], ["+49", "1"], ["1E5", "2E7"], ["1", "x"], ["2026-02-30"]):
            self.assertEqual(texts.guessed(pa.array(given_texts))[0].type, pa.string())
