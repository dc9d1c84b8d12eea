"""The built program across CRS and in degrees: what it says, what it refuses, and how."""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa

import polygene
from polygene import crs
from polygene.measures import row_areas, ruler_for
from polygene.sample import waters
from tests.support import generators as make
from tests.support.cli import WithSample


class AcrossCrs(WithSample):
    in_process = True

    def setUp(self):
        super().setUp()
        waters.write(self.folder)

    def test_the_waters_over_the_sectors(self):
        done = self.run_polygene(
            "intersect", "tolva.gpkg#sectors", "--with", "waters.geojson", "-o", "a.gpkg", "--json"
        )
        self.assertEqual((done.code, done.err), (0, ""))
        (result,) = json.loads(done.out)["results"]
        (facts,) = result["summary"]["brought"]
        self.assertEqual((facts["total"], facts["far"], facts["follow"]), (40, 39, 0.01))
        self.assertLess(facts["off"], 1e-6)
        done = self.run_polygene(
            "intersect", "waters.geojson", "--with", "tolva.gpkg#sectors", "-o", "b.gpkg",
            "--follow", "1m",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        self.assertRegex(done.words, "sectors was brought from EPSG:32633 .* within 1 m")
        one, two = (polygene.read(self.folder / f) for f in ("a.gpkg", "b.gpkg"))
        self.assertEqual(one.n_rows, two.n_rows)
        there, back = (
            row_areas(one.geometry).sum(),
            row_areas(two.geometry, ruler_for(two.crs)).sum(),
        )
        self.assertAlmostEqual(there / back, 0.9992, 3)  # the scale of the zone
        for follow in ("0.1deg", "10"):
            done = self.run_polygene(
                "clip", "waters.geojson", "--with", "tolva.gpkg#park", "-o", "c.gpkg",
                "--follow", follow,
            )  # fmt: skip
            self.assertEqual(done.code, 2)
            self.assertIn("no length with a unit", done.words)

    def test_what_has_no_place_or_no_use_there(self):
        done = self.run_polygene(
            "union", "tolva.gpkg#sectors", "--with", "waters.geojson", "-o", "u.gpkg"
        )
        self.assertEqual(done.code, 1)
        self.assertRegex(
            done.words, r"'waters': row \d+ .* have no place in EPSG:32633 .*with a filter"
        )
        merge = ("merge", "tolva.gpkg#sectors", "waters.geojson", "-o", "m.gpkg")
        done = self.run_polygene(*merge)
        self.assertEqual(done.code, 1)
        self.assertRegex(done.words, "no place where EPSG:32633 .* --outside-use")
        done = self.run_polygene(*merge, "--outside-use", "leave-out")
        self.assertEqual(done.code, 0, done.err)
        n = polygene.read(self.folder / "m.gpkg").n_rows
        self.assertIn(f"{64 - n} features outside of where that is used left out", done.words)
        done = self.run_polygene("merge", "waters.geojson", "tolva.gpkg#sectors", "-o", "w.gpkg")
        self.assertEqual((done.code, polygene.read(self.folder / "w.gpkg").n_rows), (0, 64))
        self.assert_only("m.gpkg", "w.gpkg", "resurvey.geojson", "tolva.gpkg", "waters.geojson")

    def test_boxes(self):
        both = ("tolva.gpkg#sectors", "resurvey.geojson")
        here = ("--box", "14.3,72.53,14.5,72.6")
        for command in ("clip", "subset"):
            with self.subTest(command):
                done = self.run_polygene(command, *both, *here, "-o", "r.gpkg")
                self.assertEqual(done.code, 2)
                self.assertIn("the INPUTs are in several", done.words)
                self.assertIn("--box-crs", done.words)
                done = self.run_polygene(
                    command, *both, *here, "--box-crs", "resurvey.geojson", "-o", f"{command}.gpkg"
                )
                self.assertEqual(done.code, 0, done.err)
                for name in ("sectors", "resurvey"):
                    self.assertGreater(
                        polygene.read(self.folder / f"{command}.gpkg#{name}").n_rows, 0
                    )
        islands = make.points([[np.array([x, -17.0])] for x in (179.5, -179.5, 0)])
        east = make.layer("fiord", islands, crs.parse("OGC:CRS84"))
        polygene.write(east, self.folder / "fiord.geojson")
        for command, code, name in (
            ("clip", 0, "fiord"),
            ("subset", 0, "fiord"),
            ("subset", 2, "tolva"),
        ):
            over = f"{name}.geojson" if not code else "tolva.gpkg#buoys"
            done = self.run_polygene(
                command, over, "--box", "177,-20,-178,-15", "-o", "over.csv", "--replace"
            )
            self.assertEqual(done.code, code, done.err)
            self.assertEqual(polygene.read(self.folder / "over.csv").n_rows, 2)
        clipped = polygene.read(self.folder / "clip.gpkg#sectors")
        done = self.run_polygene(
            "reproject", "clip.gpkg#sectors", "--to", "OGC:CRS84", "-o", "d.gpkg"
        )
        self.assertEqual(done.code, 0)
        extent = polygene.read(self.folder / "d.gpkg").geometry.extent()
        np.testing.assert_array_less(np.array(extent)[2:], np.array((14.5, 72.6)) + 2e-7)
        self.assertGreater(clipped.n_rows, 3)
        done = self.run_polygene(
            "clip", both[0], "--with", "tolva.gpkg#park", "--box-crs", "EPSG:4326", "-o", "x.gpkg"
        )
        self.assertEqual(done.code, 2)
        done = self.run_polygene("draw", *both, *here, "--box-crs", "OGC:CRS84", "-o", "map.png")
        self.assertEqual(done.code, 0, done.err)
        done = self.run_polygene("draw", "tolva.gpkg#sectors", "waters.geojson", "-o", "far.png")
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("39 of 40 features are far from sectors", done.words)

    def test_relations_and_nearness(self):
        done = self.run_polygene(
            "join", "tolva.gpkg#buoys", "--with", "waters.geojson", "--relation", "within", "--best",
            "distance", "-o", "j.gpkg",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        codes = polygene.read(self.folder / "j.gpkg").table["code"].to_pylist()
        self.assertEqual(len(set(codes) - {None}), 1)
        done = self.run_polygene(
            "subset",
            "waters.geojson",
            "--with",
            "tolva.gpkg#sectors",
            "--up-to",
            "900km",
            "-o",
            "s.gpkg",
        )
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("distance on the ellipsoid", done.words)
        self.assertGreater(polygene.read(self.folder / "s.gpkg").n_rows, 1)
        done = self.run_polygene(
            "join",
            "tolva.gpkg#buoys",
            "--with",
            "resurvey.geojson",
            "--relation",
            "nearest",
            "-o",
            "n.gpkg",
        )
        self.assertIn("on the plane of EPSG:32633", done.words)
        done = self.run_polygene(
            "subset", "tolva.gpkg#sectors", "--with", "waters.geojson", "--relations"
        )
        self.assertEqual(done.code, 0, done.err)
        self.assertRegex(done.out, r"within +24")
        done = self.run_polygene("compare", "tolva.gpkg#sectors", "resurvey.geojson")
        self.assertIn("as it lies in EPSG:32633", done.words)


class Degrees(WithSample):
    in_process = True

    def test_a_bare_number_needs_a_unit(self):
        for words in (
            ("buffer", "resurvey.geojson", "--distance", "150"),
            ("subset", "resurvey.geojson", "--with", "tolva.gpkg#park", "--up-to", "150"),
            ("clip", "resurvey.geojson", "--with", "tolva.gpkg#park", "--snap", "150"),
            ("clip", "resurvey.geojson", "--with", "tolva.gpkg#park", "--give-slivers", "150"),
            ("mend", "resurvey.geojson", "--coverage", "150"),
        ):
            with self.subTest(words[0]):
                done = self.run_polygene(*words, "-o", "x.gpkg")
                self.assertEqual(done.code, 2, done.err)
                self.assertIn("say 150m, or 150deg if you mean degrees", done.words)
        done = self.run_polygene(
            "buffer", "tolva.gpkg#park", "--distance", "0.1deg", "-o", "x.gpkg"
        )
        self.assertEqual((done.code, "is not: give the distance" in done.words), (2, True))
        for far in ("30000km", "1e14"):
            done = self.run_polygene("buffer", "tolva.gpkg#park", "--distance", far, "-o", "x.gpkg")
            self.assertEqual((done.code, "half round the earth" in done.words), (1, True), done.err)
        self.assert_only("tolva.gpkg", "resurvey.geojson")
        done = self.run_polygene(
            "buffer", "resurvey.geojson", "--distance", "0.001deg", "-o", "x.gpkg"
        )
        self.assertEqual(done.code, 0, done.err)
        done = self.run_polygene(
            "intersect", "resurvey.geojson", "--with", "tolva.gpkg#sectors", "--snap", "5m",
            "--give-slivers", "3m", "-o", "y.gpkg",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("thinner than 5 m", done.words)
        self.assertIn("thinner than 3 m", done.words)
        self.assertNotIn("e-05", done.words)

    def test_coordinates_that_cannot_be_degrees(self):
        ring = make.square(1_500_000, 8_000_000, 50_000).tolist()
        feature = {"type": "Feature", "properties": {"a": 1},
                   "geometry": {"type": "Polygon", "coordinates": [ring]}}  # fmt: skip
        collection = {"type": "FeatureCollection", "features": [feature]}
        (self.folder / "pixels.geojson").write_text(json.dumps(collection))
        for words in (
            ("measure", "pixels.geojson", "--area", "km2"),
            ("buffer", "pixels.geojson", "--distance", "1km"),
            ("clip", "tolva.gpkg#sectors", "--with", "pixels.geojson"),
            ("convert", "pixels.geojson"),
            ("merge", "tolva.gpkg#sectors", "pixels.geojson"),
        ):  # fmt: skip
            with self.subTest(words[0]):
                done = self.run_polygene(*words, "-o", "x.gpkg")
                self.assertEqual(done.code, 1, done.err)
                self.assertRegex(
                    done.words, "row 1: coordinates lie outside longitude/latitude .*--crs CODE"
                )
        done = self.run_polygene(
            "measure", "pixels.geojson", "--area", "km2", "--crs", "EPSG:3857", "-o", "x.gpkg"
        )
        self.assertEqual(done.code, 0, done.err)
        found = polygene.read(self.folder / "x.gpkg")
        self.assertEqual(
            (found.table["area_km2"].to_pylist(), crs.label(found.crs)[:9]), ([2500.0], "EPSG:3857")
        )
        own = polygene.read(self.folder / "pixels.geojson", crs="EPSG:3857")
        self.assertEqual(own.crs.to_epsg(), 3857)
        with self.assertRaisesRegex(polygene.PolygeneError, "outside longitude/latitude"):
            polygene.read(self.folder / "pixels.geojson")
        done = self.run_polygene("audit", "pixels.geojson")
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("coordinates lie outside", done.words)
        # Nor are they if somebody says so of a table.
        (self.folder / "u.csv").write_text('k,wkt\n1,"POINT (500000 5700000)"\n')
        done = self.run_polygene("convert", "u.csv", "--crs", "EPSG:4326", "-o", "y.gpkg")
        self.assertEqual((done.code, (self.folder / "y.gpkg").exists()), (1, False))
        self.assertIn("coordinates lie outside longitude/latitude", done.words)
        table = pa.table(polygene.read(self.folder / "u.csv"))
        for given in (lambda: polygene.read(self.folder / "u.csv", crs="EPSG:4326"),
                      lambda: polygene.as_layer(table, crs="OGC:CRS84")):  # fmt: skip
            with self.assertRaisesRegex(polygene.PolygeneError, "outside longitude/latitude"):
                given()
        own = polygene.Layer("u", make.points([[np.array([5e5, 5.7e6])]]), {"k": [1]}, "EPSG:4326")
        with self.assertRaisesRegex(polygene.PolygeneError, "outside longitude/latitude"):
            polygene.measure(own, centroid=True)
        for code, kind in (("EPSG:4978", "geocentric"), ("EPSG:5703", "vertical")):
            with self.assertRaisesRegex(polygene.PolygeneError, f"is a {kind} CRS"):
                polygene.read(self.folder / "u.csv", crs=code)
        # One wrong row among others can be left out.
        shape = {"type": "Polygon", "coordinates": [make.square(10, 50, 1).tolist()]}
        feature = {**feature, "properties": {"a": 2}, "geometry": shape}
        collection["features"].append(feature)
        (self.folder / "pixels.geojson").write_text(json.dumps(collection))
        done = self.run_polygene("convert", "pixels.geojson", "--where", "a = 2", "-o", "y.gpkg")
        self.assertEqual(done.code, 0, done.err)
        done = self.run_polygene("convert", "pixels.geojson", "-o", "z.gpkg")
        self.assertIn("leave such features out with --where", done.words)

    def test_longitudes_that_count_on_beyond_180(self):
        """As many ocean layers do: the same places as in layers that begin anew there."""
        for name, lon in (("ocean", (170.0, 200.0)), ("area", (-175.0, -165.0))):
            (low, high), lats = lon, (-9.0, 9.0)
            ring = [
                (low, lats[0]),
                (high, lats[0]),
                (high, lats[1]),
                (low, lats[1]),
                (low, lats[0]),
            ]
            feature = {"type": "Feature", "properties": {"n": 1}, "geometry": {
                "type": "Polygon", "coordinates": [ring]}}  # fmt: skip
            (self.folder / f"{name}.geojson").write_text(json.dumps(feature))
        done = self.run_polygene("clip", "ocean.geojson", "--with", "area.geojson", "-o", "c.gpkg")
        self.assertEqual(done.code, 1)
        self.assertIn("say --crs OGC:CRS84 if longitudes are meant that count on", done.words)
        asked = ("--crs", "OGC:CRS84", "--json", "--replace")
        for more in ((), ("--tasks", "2")):
            done = self.run_polygene(
                "clip", "ocean.geojson", "--with", "area.geojson", "-o", "c.gpkg", *asked, *more
            )
            self.assertEqual(done.code, 0, done.err)
            (result,) = json.loads(done.out)["results"]
            (facts,) = result["summary"]["brought"]
            self.assertEqual((facts["turned"], facts["longitudes"]), (1, [0, 360]))
            found = polygene.read(self.folder / "c.gpkg").geometry.extent()
            self.assertEqual(found, (185.0, -9.0, 195.0, 9.0))
        self.assertIn("count longitudes from different meridians", done.out)
        done = self.run_polygene("convert", "c.gpkg", "-o", "e.kml")
        self.assertIn("longitudes from 185 to 195 are written as they are", done.words)
        done = self.run_polygene("reproject", "c.gpkg", "--to", "EPSG:4326", "-o", "d.geojson")
        self.assertIn("moved by whole turns to longitudes within half a turn of 0", done.words)
        found = polygene.read(self.folder / "d.geojson").geometry.extent()
        self.assertEqual(found, (-175.0, -9.0, -165.0, 9.0))

    def test_a_box_is_read_in_whichever_turn_a_layer_counts(self):
        """By readers that leave out what lies elsewhere, too."""
        steps = np.arange(3000)
        cells = make.points([np.array([(0.12 * k, k % 7 - 3.0)]) for k in steps])
        for name, is_said in (
            ("a.gpkg", True),
            ("a.parquet", True),
            ("a.fgb", True),
            ("folder.parquet/", True),
            ("b.gpkg", False),
            ("b.parquet", False),
        ):
            system = crs.parse("OGC:CRS84") if is_said else None
            polygene.write(make.layer("cells", cells, system, k=steps), self.folder / name)
            for box in ("-10,-9,0.05,9", "350,-9,360.05,9"):
                done = self.run_polygene(
                    "subset", name, f"--box={box}", "-o", "c.gpkg", "--replace",
                    *(() if is_said else ("--crs", "OGC:CRS84")),
                )  # fmt: skip
                self.assertEqual(done.code, 0, done.err)
                self.assertEqual(polygene.read(self.folder / "c.gpkg").n_rows, 84, (name, box))
