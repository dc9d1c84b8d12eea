"""The nearest on the ellipsoid, against geodesics to sampled places all along edges."""

from __future__ import annotations

import itertools
import unittest

import numpy as np
import pyproj

import polygene
from polygene import crs
from polygene.geometry import Family
from polygene.measures import ruler_for
from polygene.ops.admit import admit
from polygene.ops.places.by_place import chosen_by_place
from polygene.ops.places.partners import partners
from tests.support import ellipsoid
from tests.support import generators as make
from tests.support.chance import many, some_of

DEGREES = crs.parse("OGC:CRS84")
GEOD = pyproj.Geod(ellps="WGS84")
SPREADS = {"world": 20.0, "pole": 3.0, "meridian": 1.0, "local": 0.02}


def middles(rng, where, n):
    """Places all over the earth, about a pole, at the 180th meridian, or in one town."""
    lon, lat = rng.uniform(-180, 180, n), np.degrees(np.arcsin(rng.uniform(-1, 1, n)))
    if where == "pole":
        lat = rng.choice([-1, 1], n) * (90 - np.abs(rng.normal(0, 1.5, n)))
    elif where == "meridian":
        lon, lat = (
            rng.choice([-1, 1], n) * (180 - np.abs(rng.normal(0, 1, n))),
            rng.uniform(-60, 70, n),
        )
    elif where == "local":
        lon, lat = rng.uniform(10, 10.5, n), rng.uniform(60, 60.3, n)
    return np.stack([lon, lat], axis=1)


def scattered(rng, family, where, n):
    rows = []
    for at in middles(rng, where, n):
        size = SPREADS[where] * rng.random() * np.array([rng.choice([1, 5]), 1])
        if family == Family.POINTS:
            rows.append([at])
            continue
        k = int(rng.integers(2, 4)) if family == Family.LINES else int(rng.integers(3, 6))
        if family == Family.LINES:
            ring = at + rng.uniform(-1, 1, (k, 2)) * size
        else:
            angle = np.sort(rng.uniform(0, 2 * np.pi, k))
            ring = at + np.stack([np.cos(angle), np.sin(angle)], axis=1) * size
        ring = np.clip(ring, (-180, -90), (180, 90))
        rows.append([ring] if family == Family.LINES else [[np.append(ring, ring[:1], axis=0)]])
    return (make.points, make.lines, make.polygons)[family](rows)


class AgainstBruteForce(unittest.TestCase):
    def test_all_kinds_all_over_the_earth(self):
        looked = 0
        for a, b, where in some_of(itertools.product(Family, Family, SPREADS)):
            rng = np.random.default_rng([a, b, len(where)])
            one, two = (
                admit(make.layer(name, scattered(rng, family, where, n), DEGREES)).layer
                for name, family, n in (("one", a, 3), ("two", b, 4))
            )
            k = int(rng.integers(1, 3))
            found = partners(one, two, "nearest", count=k)
            mine, theirs = make.rows_of(one.geometry), make.rows_of(two.geometry)
            for row in np.flatnonzero(~one.geometry.is_empty).tolist():
                with self.subTest(a=a, b=b, where=where, row=row):
                    wanted = np.array([
                        ellipsoid.between_rows(a, mine[row], b, other) if other else np.inf
                        for other in theirs
                    ])  # fmt: skip
                    at = np.flatnonzero(found.first == row)
                    got = found.distance[at]
                    # What is found is a distance of two places: a sampled one may only be longer.
                    chosen = found.second[at]
                    wanted[chosen] = np.where(
                        got > 0, np.minimum(wanted[chosen], got), wanted[chosen]
                    )
                    np.testing.assert_allclose(np.sort(got), np.sort(wanted)[:k], atol=1e-3)
                    ends = found.mine[at], found.theirs[at]
                    apart = GEOD.inv(*ends[0].T, *ends[1].T)[2]
                    np.testing.assert_allclose(apart[got > 0], got[got > 0], atol=1e-5)
                    looked += len(got)
        self.assertGreater(looked, many(90, 10))

    def test_many_points_by_their_geodesics(self):
        rng = np.random.default_rng(5)
        for where in SPREADS:
            one = make.layer("one", make.points([[p] for p in middles(rng, where, 300)]), DEGREES)
            two = make.layer("two", make.points([[p] for p in middles(rng, where, 200)]), DEGREES)
            a, b = one.geometry.xy, two.geometry.xy
            i, j = (v.ravel() for v in np.meshgrid(range(300), range(200), indexing="ij"))
            wanted = GEOD.inv(*a[i].T, *b[j].T)[2].reshape(300, 200)
            found = partners(one, two, "nearest", count=3)
            np.testing.assert_array_equal(
                found.second.reshape(300, 3), np.argsort(wanted, axis=1)[:, :3]
            )
            np.testing.assert_allclose(
                found.distance.reshape(300, 3), np.sort(wanted)[:, :3], atol=1e-6
            )
            limit = float(np.median(wanted.min(axis=1)))
            kept = chosen_by_place(one, two, "intersects", up_to=limit)
            self.assertEqual(kept.layer.n_rows, int((wanted.min(axis=1) <= limit).sum()))
            self.assertEqual(kept.metric, "on the ellipsoid")


class Ties(unittest.TestCase):
    def test_all_that_are_equally_near_are_named(self):
        """The same places twice, mirrored about a meridian, and a border that two areas share."""
        rng = np.random.default_rng(2)
        spots = middles(rng, "world", 40)
        one = make.layer("one", make.points([[p] for p in middles(rng, "world", 30)]), DEGREES)
        twice = make.layer(
            "two", make.points([[p] for p in np.concatenate([spots, spots])]), DEGREES
        )
        found = polygene.join(one, twice, "nearest")
        self.assertEqual(found.summary.tied.count, 30)
        self.assertTrue((np.asarray(partners(one, twice, "nearest").second) < 40).all())
        middle = make.layer(
            "one", make.points([[np.array([30.0, 10 * k])] for k in range(-8, 9)]), DEGREES
        )
        sides = [[np.array([30.0 + s, lat])] for lat in (-75, -5, 55) for s in (-7, 7)]
        found = polygene.join(middle, make.layer("two", make.points(sides), DEGREES), "nearest")
        self.assertEqual(found.summary.tied.count, 17)
        west, east = make.square(10, 50, 5), make.square(15, 50, 5)
        areas = make.layer("two", make.polygons([[[west]], [[east]]]), DEGREES)
        spots = make.layer(
            "one", make.points([[np.array([15, 60.0])], [np.array([12, 60.0])]]), DEGREES
        )
        found = polygene.join(spots, areas, "nearest")
        self.assertEqual(found.summary.tied.first, ["row 1"])

    def test_on_both_sides_of_the_meridian_and_over_the_pole(self):
        places = ((-179.9, 0.0), (170, 0.0), (0, 89.5), (0, 60.0))
        two = make.layer(
            "two", make.points([[np.array(p)] for p in places]), DEGREES,
            k=["over the meridian", "far", "over the pole", "south"],
        )  # fmt: skip
        one = make.layer(
            "one", make.points([[np.array((179.9, 0.0))], [np.array((180, 89.0))]]), DEGREES
        )
        found = polygene.join(one, two, "nearest").layer.table.to_pydict()
        self.assertEqual(found["k"], ["over the meridian", "over the pole"])
        self.assertAlmostEqual(found["distance"][0], GEOD.inv(179.9, 0, -179.9, 0)[2], 6)
        self.assertAlmostEqual(found["distance"][1], GEOD.inv(180, 89, 0, 89.5)[2], 6)


class Shares(unittest.TestCase):
    def test_of_areas_are_those_on_the_ellipsoid(self):
        """A zone from the equator to 60 degrees, halved at 30: the halves are not equal."""
        halves = [[[make.square(0, 0, 30)]], [[make.square(0, 30, 30)]]]
        zone = np.array([(0, 0), (30, 0), (30, 60), (0, 60), (0, 0)], float)
        whole = make.layer("zone", make.polygons([[[zone]]]), DEGREES, people=[1000.0])
        found = polygene.join(
            make.layer("halves", make.polygons(halves), DEGREES), whole,
            aggregate=["people = sum(people, weight=share)"],
        ).layer.table["people"].to_pylist()  # fmt: skip
        ruler = ruler_for(DEGREES)
        ring = np.array([(0, 0), (30, 0), (30, 30), (0, 30)], float)
        low = ruler.strips(ring, np.roll(ring, -1, axis=0)).sum()
        ring[2:, 1] = 60
        all_of_it = ruler.strips(ring, np.roll(ring, -1, axis=0)).sum()
        self.assertAlmostEqual(found[0], 1000 * low / all_of_it, 6)
        self.assertAlmostEqual(sum(found), 1000, 6)
        self.assertGreater(found[0], 570)


class Rulers(unittest.TestCase):
    def test_long_edges_are_measured_as_they_run(self):
        """Against sums over thousands of short geodesics, twice, to take the rest of the error off."""
        ruler, rng = ruler_for(DEGREES), np.random.default_rng(4)
        edges = [rng.uniform((-180, -90), (180, 90), (2, 2)) for _ in range(10)]
        edges += [np.array([(rng.uniform(-180, 180), 90), (rng.uniform(-180, 180), lat)])
                  for lat in (89.9, 80, 0, -90)]  # fmt: skip
        edges += [np.array([(-180, lat), (180, lat)]) for lat in (89.99, 60, 0)]
        edges += [np.array([(5, 60), (5 + d, 60 + d)]) for d in (1e-4, 0.1, 5)]

        def sums(a, b, n):
            at = a + np.linspace(0, 1, n + 1)[:, None] * (b - a)
            length = GEOD.inv(*at[:-1].T, *at[1:].T)[2].sum()
            down = np.array([(b[0], 0.0)]), np.array([(a[0], 0.0)])
            along = down[0] + np.linspace(0, 1, n + 1)[:, None] * (down[1] - down[0])
            area = GEOD.polygon_area_perimeter(*np.concatenate([at, along]).T)[0]
            return np.array([length, area])

        for a, b in edges:
            coarse, fine = sums(a, b, 4000), sums(a, b, 8000)
            length, area = fine + (fine - coarse) / 3
            self.assertAlmostEqual(ruler.lengths(a[None], b[None])[0] / length, 1, 9)
            if abs(b[0] - a[0]) < 170:  # a geodesic polygon goes the short way
                corners = np.array([a, b, (b[0], 0), (a[0], 0)])
                found = ruler.strips(corners, np.roll(corners, -1, axis=0)).sum()
                self.assertLess(abs(found - area), 1e-9 * abs(area) + 0.1)


if __name__ == "__main__":
    unittest.main()
