"""Longitude and latitude: hulls and places over the 180th meridian, and metres that are metres."""

from __future__ import annotations

import itertools
import unittest

import numpy as np
import pyproj

import polygene
from polygene import crs
from polygene.errors import UsageError
from polygene.measures import row_areas
from tests.support import exact
from tests.support import generators as make

DEGREES, CR4326 = crs.parse("OGC:CRS84"), crs.parse("EPSG:4326")
GEOD = pyproj.Geod(ellps="WGS84")


def turned_by(column, lon):
    """The same geometry further east, longitudes from -180 to 180."""
    xy = column.xy + (lon, 0)
    xy[:, 0] = (xy[:, 0] + 180) % 360 - 180
    return column.with_xy(xy)


def sides(*boxes):
    """Rectangles as one row of parts."""
    return [
        [np.array([(a, c), (b, c), (b, d), (a, d), (a, c)], float)] for a, b, c, d in boxes
    ]  # fmt: skip


class OverTheMeridian(unittest.TestCase):
    def test_hulls_turn_with_what_they_are_of(self):
        """Of points in a bay of longitudes, moved on and on round the earth: the same area, valid."""
        rng = np.random.default_rng(3)
        spots = rng.integers(-40, 40, (60, 2)) / (1.0, 2.0)
        groups = np.repeat(np.arange(6), 10)
        base = make.layer("s", make.points([[p] for p in spots]), DEGREES, g=groups)
        wanted = row_areas(polygene.hull(base, by=["g"]).layer.geometry)
        parted = 0
        for lon in (0, 90, 150, 180, 200, -160, 141):
            moved = make.layer("s", turned_by(base.geometry, lon), DEGREES, g=groups)
            found = polygene.hull(moved, by=["g"])
            column = found.layer.geometry
            np.testing.assert_allclose(row_areas(column), wanted, rtol=1e-12)
            self.assertLessEqual(np.abs(column.xy[:, 0]).max(), 180)
            for rings in make.rows_of(column):
                self.assertEqual(exact.faults(rings), [])
            given = {tuple(p) for p in moved.geometry.xy.tolist()}
            corners = [tuple(p) for p in column.xy.tolist() if abs(p[0]) != 180]
            self.assertLessEqual(set(corners), given)
            parted += int((np.diff(column.row_offsets) == 2).sum())
            self.assertEqual(
                bool(found.summary.notes), bool((np.diff(column.row_offsets) == 2).any())
            )
        self.assertGreater(parted, 10)

    def test_boxes_turn_with_what_is_in_them(self):
        """Cells moved on and on round the earth, a box with them: the same cells, as much of them."""

        def round_earth(lon):
            return (lon + 180) % 360 - 180

        n_over, areas = 0, set()
        for lon in range(0, 360, 15):
            west = [round_earth(k + lon) for k in range(-9, 9)]
            cells = make.polygons([sides((w, w + 1, 10, 11)) for w in west])
            layer = make.layer("c", cells, DEGREES, k=list(range(-9, 9)))
            box = round_earth(lon - 5.5), 10.5, round_earth(lon + 4.25), 12
            n_over += box[0] > box[2]
            found = polygene.subset(layer, box=box).layer
            self.assertEqual(found.table["k"].to_pylist(), list(range(-6, 5)), lon)
            self.assertEqual(polygene.subset(layer, box=box, box_crs=CR4326).layer.n_rows, 11)
            areas.add(float(row_areas(polygene.clip(layer, box).layer.geometry).sum().round(9)))
        self.assertEqual((n_over, areas), (1, {4.875}))
        plane = make.layer("p", cells, crs.parse("EPSG:32633"))
        for made in (polygene.clip, lambda own, box: polygene.subset(own, box=box)):
            with self.assertRaisesRegex(UsageError, "only in longitude and latitude it may"):
                made(plane, (5, 1, -5, 12))
            with self.assertRaisesRegex(UsageError, "no box over the 180th meridian begins at 190"):
                made(layer, (190, 1, -175, 12))

    def test_hulls_that_only_touch_it(self):
        for spots, n_parts, area in (
            ([(-180, 0), (-170, 0), (-175, 5)], 1, 25.0),
            ([(180, 0), (170, 0), (175, 5), (-175, 3)], 2, 43.75),
            ([(-180, 0), (175, 3), (-175, 3), (-180, 6)], 2, 30.0),
            ([(10, 0), (20, 0), (15, 5)], 1, 25.0),
        ):
            layer = make.layer("s", make.points([[np.array(p, float)] for p in spots]), DEGREES)
            column = polygene.hull(layer).layer.geometry
            self.assertEqual(column.n_parts, n_parts, spots)
            if n_parts == 1:
                self.assertAlmostEqual(row_areas(column)[0], area, 9)

    def test_centroids_and_bounds(self):
        rows = [
            sides((170, 180, 0, 10), (-180, -170, 0, 10)),  # one area, parted as RFC 7946 asks
            sides((-170, 170, 0, 10)),  # nearly all round, and not over the meridian
            sides((-180, 180, 60, 90)),
            sides((5, 6, 0, 1)),
        ]
        layer = make.layer("q", make.polygons(rows), DEGREES)
        found = polygene.measure(layer, centroid=True, bounds=True).layer.table.to_pydict()
        self.assertEqual(found["centroid_x"], [180, 0, 0, 5.5])
        self.assertEqual(found["x_min"], [170, -170, -180, 5])
        self.assertEqual(found["x_max"], [-170, 170, 180, 6])
        # The same far from the meridian, turned there.
        base = make.polygons([sides((0, 10, 0, 10)), sides((-3, 3, 5, 7))])
        for lon in (30, 175, -178):
            turned = make.layer("q", turned_by(base, lon), DEGREES)
            # A ring over the meridian that nobody parted runs the long way round.
            if np.ptp(turned.geometry.xy[:, 0]) < 180:
                at = polygene.measure(turned, centroid=True).layer.table["centroid_x"]
                np.testing.assert_allclose(np.asarray(at), [5 + lon, lon])


class Metres(unittest.TestCase):
    """Distances in metres mean metres at each place to 0.1 %."""

    def places(self, at, bearing, metres):
        lon, lat, _ = GEOD.fwd(*np.full((len(metres), 2), at).T, bearing, metres)
        return np.stack([lon, lat], axis=1)

    def test_of_a_snap(self):
        """Spots a little nearer than the snap move onto a border, those a little further stay."""
        for lat, bearing in itertools.product((-70.0, 0.0, 30.0, 60.0, 80.0), (0.0, 90.0, 37.0)):
            corner = np.array([20.0, lat])
            reach = 25.0
            away = reach * np.array([0.5, 0.999, 1.001, 1.5])
            spots = self.places(corner, np.full(4, bearing + 180), away)
            # A triangle whose corner at 20, lat is what they are nearest to.
            way = self.places(corner, np.array([bearing - 40, bearing + 40]), np.full(2, 5e3))
            ring = np.array([corner, way[0], way[1], corner])
            other = make.layer("other", make.polygons([[[ring]]]), DEGREES)
            mine = make.layer("mine", make.points([[p] for p in spots]), DEGREES, k=np.arange(4))
            found = polygene.clip(mine, other, snap=reach / 111_319.49)
            with self.subTest(lat=lat, bearing=bearing):
                self.assertEqual(found.layer.table["k"].to_pylist(), [0, 1])
                moved = found.summary.snap.furthest * found.summary.snap.map_unit
                self.assertAlmostEqual(moved / (0.999 * reach), 1, 3)

    def test_of_slivers(self):
        for lat in (0.0, 45.0, 75.0):
            east = GEOD.fwd(20, lat, 90, 10.0)[0]
            north = GEOD.fwd(20, lat, 0, 3000.0)[1]
            thin = sides((20, east, lat, north))
            wide = sides((east, east + 0.1, lat, north))
            layer = make.layer("both", make.polygons([thin, wide]), DEGREES, k=[1, 2])
            for width, n in ((9.99, 2), (10.02, 1)):
                found = polygene.intersect(
                    make.layer("one", make.polygons([sides((20, east + 0.1, lat, north))]), DEGREES),
                    layer, give_slivers=width / 111_319.49,
                )  # fmt: skip
                self.assertEqual(found.layer.n_rows, n, (lat, width))


if __name__ == "__main__":
    unittest.main()
