"""Lengths and areas on planes against those on the ellipsoid, and what is said of them."""

from __future__ import annotations

import itertools
import re
import unittest
from dataclasses import replace

import numpy as np
import pyproj

import polygene
from polygene import crs
from polygene.distortion import on_the_ground, scales
from tests.support import generators as make
from tests.support.cli import InFolder
from tests.support.growing import put

GEOD = pyproj.Geod(ellps="WGS84")
# A code, places that lie in it, and how far lengths and areas there are off at most.
PLANES = (
    ("EPSG:32633", ((12, 60), (18, 80), (15, -5)), 1.002, 1.003),
    ("EPSG:3395", ((0, 1), (100, 60), (-70, -75)), 4.0, 16.0),
    ("EPSG:6933", ((0, 1), (100, 60), (-70, -75)), 3.5, 1.001),
    ("EPSG:3035", ((10, 52), (-20, 65), (30, 36)), 1.05, 1.001),
    ("EPSG:3031", ((0, -80), (77, -65)), 1.2, 1.2),
    # Axes to the south and west, of a meridian and an ellipsoid of its own; and in grads from Paris.
    ("EPSG:2065", ((15, 50), (20, 49)), 1.002, 1.002),
    ("EPSG:27572", ((2.5, 47), (-3, 44)), 1.01, 1.02),
    ("ESRI:54030", ((10, 12), (-120, 57)), 1.6, 1.6),
)
WORDS = (
    r"areas on the plane of EPSG:3395 .* are 3\.98 to 4 times those on the ground in this extent"
)


def sides_of(layer):
    rows = [[ring for (ring,) in parts] for parts in make.rows_of(layer.geometry)]
    return replace(layer, geometry=make.lines([[np.array(r) for r in row] for row in rows]))


class AgainstGeodesics(unittest.TestCase):
    def test_little_pieces_all_round_a_place(self):
        for code, places, most_length, most_area in PLANES:
            plane = crs.parse(code)
            to = pyproj.Transformer.from_crs("OGC:CRS84", plane, always_xy=True)
            for lon, lat in places:
                with self.subTest(code=code, lon=lon, lat=lat):
                    x, y = to.transform(lon, lat)
                    found = scales(plane, (x - 1, y - 1, x + 1, y + 1))
                    angles = np.linspace(0, 360, 24, endpoint=False)
                    ends = GEOD.fwd(np.full(24, lon), np.full(24, lat), angles, np.full(24, 10.0))
                    px, py = to.transform(*ends[:2])
                    lengths = np.hypot(px - x, py - y) / 10
                    self.assertAlmostEqual(found.least_length, lengths.min(), delta=0.02)
                    self.assertAlmostEqual(found.most_length, lengths.max(), delta=0.02)
                    ground = abs(GEOD.polygon_area_perimeter(*ends[:2])[0])
                    there = abs(np.dot(px - x, np.roll(py, -1) - np.roll(py, 1))) / 2
                    self.assertAlmostEqual(
                        found.most_area / (there / ground), 1, delta=0.01
                    )  # PROJ's Robinson is of a sphere
                    self.assertLess(max(lengths.max(), 1 / lengths.min()), most_length)
                    self.assertLess(max(found.most_area, 1 / found.least_area), most_area)
                    across = on_the_ground(plane, x, y, 10.0)
                    inverse = to.transform([x - 5, x + 5], [y, y], direction="INVERSE")
                    apart = GEOD.inv(inverse[0][0], inverse[1][0], inverse[0][1], inverse[1][1])[2]
                    self.assertAlmostEqual(across, apart / 10, delta=1e-4)

    def test_what_has_no_plane_or_no_place(self):
        world = (-180.0, -90.0, 180.0, 90.0)
        self.assertIsNone(scales(None, world))
        self.assertIsNone(scales(crs.parse("OGC:CRS84"), world))
        self.assertIsNone(scales(crs.parse("EPSG:32633"), None))
        self.assertIsNone(scales(crs.parse("EPSG:6933"), (9e8, 9e8, 9e8 + 1, 9e8 + 1)))
        self.assertIsNone(on_the_ground(crs.parse("OGC:CRS84"), 0, 0, 1))


class Told(InFolder):
    in_process = True

    def layer(self, code, lat):
        there = pyproj.Transformer.from_crs("OGC:CRS84", code, always_xy=True)
        x, y = there.transform(15.0, lat)
        cells = itertools.product(range(4), range(4))
        rows = [[[make.square(x + 5000 * i, y + 5000 * j, 4000)]] for i, j in cells]
        return make.layer("cells", make.polygons(rows), crs.parse(code), k=list(range(16)))

    def test_by_whatever_measures_on_a_plane_that_stretches(self):
        far, near = self.layer("EPSG:3395", 60.0), self.layer("EPSG:32633", 60.0)
        lengths = WORDS.replace("areas", "lengths and distances").replace(
            r"3\.98 to 4", r"1\.99 to 2"
        )
        both = WORDS + ", lengths and distances 1\\.99 to 2;"
        for work, words in (
            (lambda y: polygene.measure(y, area="ha").summary, WORDS),
            (lambda y: polygene.measure(y, perimeter="km").summary, lengths),
            (lambda y: polygene.tally(y, "k", "a = sum(area(ha))"), WORDS),
            (lambda y: polygene.fields(y, compute="a = 2 * AREA(ha)").summary, WORDS),
            (lambda y: polygene.dissolve(y, aggregate="a = sum(area(ha))").summary, WORDS),
            (lambda y: polygene.join(y, y, aggregate="a = sum(area())").summary, WORDS),
            (lambda y: polygene.buffer(y, 10.0).summary, both),
            (lambda y: polygene.clip(y, y).summary, WORDS),
            (lambda y: polygene.union(y).summary, WORDS),
            (lambda y: polygene.clip(sides_of(y), y).summary, lengths),
            (lambda y: polygene.dissolve(y).summary, WORDS),
            (lambda y: polygene.hull(y).summary, WORDS),
            (lambda y: polygene.mend(y, coverage=1.0).summary, both),
            (lambda y: polygene.audit(y.take(np.arange(32) % 16), coverage=True), both),
            (lambda y: polygene.ask(y, y), WORDS),
            (lambda y: polygene.compare(y, y).summary, WORDS),
            (lambda y: polygene.join(y, y, "nearest").summary, lengths),
            (lambda y: polygene.subset(y, other=y, up_to=10.0).summary, lengths),
        ):
            self.assertRegex(" ".join(work(far).notes), words)
            self.assertEqual(work(near).notes, [])

    def test_by_what_measures_anew_and_by_filters(self):
        for code, is_told in (("EPSG:3395", True), ("EPSG:32633", False)):
            layer = polygene.measure(self.layer(code, 60.0), area="ha").layer
            half = replace(layer, geometry=layer.geometry.with_xy(layer.geometry.xy + 2000))
            made = polygene.clip(layer, half, refresh="area_ha")
            self.assertEqual(bool(re.search(WORDS, " ".join(made.summary.notes))), is_told)
            for overlay in (polygene.erase, polygene.supersede):
                notes = " ".join(overlay(layer, half, snap=0.5).summary.notes)
                self.assertEqual("lengths and distances 1.99 to 2;" in notes, is_told)
            polygene.write(layer, self.folder / "cells.parquet", on_existing="replace")
            words = ("subset", "cells.parquet", "--where", "area(ha) > 1", "-o", "s.gpkg")
            done = self.run_polygene(*words, "--replace")
            self.assertEqual("the filter area(ha) > 1 measures on the plane" in done.words, is_told)

    def test_in_tasks_as_at_once(self):
        put(self.folder, self.layer("EPSG:3395", 60.0))
        dissolve = ("dissolve", "--by", "k", "--aggregate", "a = sum(area(ha))", "-o")
        for asked in (
            ("measure", "--area", "ha", "-o"),
            ("buffer", "--distance", "5m", "-o"),
            dissolve,
        ):
            told = []
            for more in ((), ("--tasks", "4")):
                words = (asked[0], "cells.parquet", *asked[1:], "o.gpkg", "--replace", "--json")
                done = self.run_polygene(*words, *more)
                self.assertEqual(done.code, 0, done.err)
                told.append([n for n in done.out.split('"') if "times those on the ground" in n])
            self.assertTrue(told[0])
            self.assertEqual(*told)


if __name__ == "__main__":
    unittest.main()
