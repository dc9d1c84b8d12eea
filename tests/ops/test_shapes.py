"""Mend, buffer, hull and parts: what is valid stays, what is covered is what the rule says."""

from __future__ import annotations

import datetime
import itertools
import unittest

import numpy as np
import pyproj
from scipy.spatial import ConvexHull

import polygene
from polygene import crs
from polygene.errors import DataError, GeometryError, UsageError
from polygene.measures import row_areas, ruler_for
from polygene.ops.admit import admit
from polygene.ops.audit import audit
from polygene.ops.buffer import buffer
from polygene.ops.hull import hull
from polygene.ops.mend import mend
from polygene.ops.parts import apart, together
from polygene.plane.validity import invalid_rows
from polygene.sample import tolva
from tests.plane.test_validity import anything
from tests.support import ellipsoid, exact
from tests.support import generators as make
from tests.support.chance import some_of


def covers(row, xy):
    return exact.is_covered(row, tuple(map(float, xy))) > 0


def distance(xy, parts):
    """From a point to the nearest vertex or edge of a row."""
    least = np.inf
    for ring in (np.array(r, float) for part in parts for r in part):
        a, b = (ring[:-1], ring[1:]) if len(ring) > 1 else (ring, ring)
        way, size = b - a, np.maximum(((b - a) ** 2).sum(axis=1), 1e-300)
        t = np.clip(((xy - a) * way).sum(axis=1) / size, 0, 1)
        least = min(least, np.hypot(*(xy - a - t[:, None] * way).T).min())
    return least


class Mend(unittest.TestCase):
    def test_valid_by_the_rule_and_nothing_else_changes(self):
        rng = np.random.default_rng(5)
        rows = anything(rng, 250)
        layer = make.layer("any", make.polygons(rows), k=np.arange(250))
        result = mend(layer)
        was_invalid = invalid_rows(layer.geometry)
        self.assertEqual(result.summary.mended, int(was_invalid.sum()))
        before, after = make.rows_of(layer.geometry), make.rows_of(result.layer.geometry)
        for k, (old, new) in enumerate(zip(before, after, strict=True)):
            if not was_invalid[k]:
                self.assertEqual(old, new)
                continue
            self.assertEqual(exact.faults(new), [])
            for xy in rng.uniform(0, 8, (5, 2)):
                self.assertEqual(covers(new, xy), covers(old, xy), (k, xy))
        self.assertEqual(mend(result.layer).summary.mended, 0)
        self.assertEqual(result.layer.table, layer.table)

    def test_stop_skip_and_rows_that_vanish(self):
        flat = make.closed(np.array([(0, 0), (4, 4), (8, 8)], float))
        layer = make.layer("x", make.polygons([[[flat]], [[make.square(0, 0, 1)]]]), k=[1, 2])
        self.assertEqual(mend(layer).summary.vanished.first, ["row 1"])
        self.assertEqual(mend(layer).layer.geometry.is_empty.tolist(), [True, False])
        self.assertEqual(mend(layer, drop_empty=True).layer.table["k"].to_pylist(), [2])
        self.assertEqual(admit(layer, "leave-out").layer.table["k"].to_pylist(), [2])
        self.assertEqual(admit(layer).facts.vanished.first, ["row 1"])
        with self.assertRaisesRegex(GeometryError, "row 1: a ring .*1 of 2 features are invalid"):
            admit(layer, "refuse")


class Buffer(unittest.TestCase):
    def check(self, column, d, rng, slack=0.006):
        result = buffer(make.layer("x", column, k=np.arange(column.n_rows)), d).layer
        found = dict(zip(result.table["k"].to_pylist(), make.rows_of(result.geometry), strict=True))
        inside_of = make.rows_of(column) if column.family == 2 else None
        for k, row in enumerate(make.rows_of(column)):
            parts = found.get(k, [])
            self.assertEqual(exact.faults(parts) if parts else [], [])
            for xy in rng.uniform(-40, 140, (25, 2)):
                far = distance(xy, row)
                if inside_of is not None and covers(inside_of[k], xy):
                    far = -far
                if abs(far - d) > slack * abs(d) + 1e-3:
                    self.assertEqual(covers(parts, xy), far < d, (k, xy, far, d))

    def test_lines_points_and_polygons_against_sampled_distances(self):
        for seed in range(6):
            rng = np.random.default_rng(seed)
            paths = [make.path(rng, int(rng.integers(2, 9)), 100, 10) for _ in range(2)]
            stars = [make.star(rng, 12, 50, rng.uniform(30, 70, 2)) for _ in range(2)]
            with self.subTest(seed=seed):
                d = float(rng.choice([0.5, 6, 25, 60]))
                self.check(make.lines([[paths[0]], [paths[1], paths[0][::-1]]]), d, rng)
                self.check(make.points([list(rng.uniform(0, 100, (3, 2)))]), d, rng)
                hole = make.star(rng, 8, 20, (50, 50))[::-1]
                rows = [[[stars[0]]], [[make.square(0, 0, 100), hole]]]
                self.check(make.polygons(rows), d, rng)
                self.check(make.polygons(rows), -min(d, 20), rng)

    def test_caps_corners_and_sides_of_one_bend(self):
        bend = make.lines([[np.array([(0, 0), (10, 0), (10, 10.0)])]])

        def area(**style):
            return row_areas(buffer(make.layer("b", bend), 1.0, **style).layer.geometry)[0]

        plain = 2 * 20 - 1  # the two rectangles share a square of side 1
        quarter, half = np.pi / 4, np.pi / 2
        self.assertAlmostEqual(area(caps="flat", corners="mitre"), plain + 1, places=6)
        self.assertAlmostEqual(area(caps="flat", corners="bevel"), plain + 0.5, places=6)
        self.assertAlmostEqual(area(caps="square", corners="mitre"), plain + 1 + 4, places=6)
        self.assertAlmostEqual(area(caps="flat", chord_error=1e-4), plain + quarter, places=3)
        self.assertAlmostEqual(area(chord_error=1e-4), plain + quarter + 2 * half, places=2)
        self.assertAlmostEqual(
            area(caps="flat", corners="mitre", mitre_limit=1.1), plain + 0.5, places=6
        )
        self.assertAlmostEqual(area(side="left", corners="mitre"), 19, places=6)
        self.assertAlmostEqual(area(side="right", corners="mitre"), 21, places=6)
        needle = make.lines([[np.array([(0, 0), (10, 0), (0, 0.01)])]])
        tip = buffer(make.layer("n", needle), 1.0, corners="mitre").layer.geometry
        self.assertLess(tip.xy[:, 0].max(), 11.01)

    def test_rings_bands_melting_and_groups(self):
        rng = np.random.default_rng(3)
        spots = make.points([[p] for p in rng.uniform(0, 100, (12, 2))])
        layer = make.layer("s", spots, kind=["a", "b"] * 6)
        nested = buffer(layer, rings=[5.0, 10.0]).layer
        bands = buffer(layer, rings=[5.0, 10.0], bands=True).layer
        self.assertEqual(nested.table["distance"].to_pylist(), [5.0] * 12 + [10.0] * 12)
        sizes = row_areas(nested.geometry)
        np.testing.assert_allclose(
            row_areas(bands.geometry)[12:], sizes[12:] - sizes[:12], rtol=1e-6
        )
        melted = buffer(layer, 15.0, dissolve=True)
        whole = polygene.dissolve(buffer(layer, 15.0).layer).layer
        self.assertAlmostEqual(
            row_areas(melted.layer.geometry)[0], row_areas(whole.geometry)[0], delta=0.01
        )
        self.assertEqual(melted.summary.disagreements, {"kind": 1})
        grouped = buffer(layer, 15.0, by=["kind"]).layer
        self.assertEqual(grouped.table["kind"].to_pylist(), ["a", "b"])
        each = buffer(layer, np.array([1.0, np.nan] * 6))
        self.assertEqual((each.layer.n_rows, each.summary.skipped.count), (6, 6))
        bare = buffer(layer.take(np.zeros(0, np.int64)), rings=[5.0, 10.0], bands=True)
        self.assertEqual((bare.layer.n_rows, bare.summary.distances), (0, [5.0, 10.0]))
        self.assertIn("distance", bare.layer.table.column_names)
        with self.assertRaises(UsageError):
            buffer(layer, rings=[10.0, 5.0])
        with self.assertRaisesRegex(DataError, "row 1: a negative distance shrinks polygons"):
            buffer(layer, -1.0)

    def test_metres_on_degrees_anywhere(self):
        geod = pyproj.Geod(ellps="WGS84")
        places = np.array([(0, 0), (14.5, 66.5), (-70, -55), (179.99, 10), (25, 85)], float)
        spots = make.points([[p] for p in places])
        layer = make.layer("p", spots, crs.parse("OGC:CRS84"), k=np.arange(5))
        result = buffer(layer, 5000.0)
        self.assertEqual(result.summary.notes[0][:19], "1 result parted at ")
        for k, row in enumerate(make.rows_of(result.layer.geometry)):
            self.assertEqual(exact.faults(row), [])
            for ring in (r for part in row for r in part):
                lon, lat = np.array(ring).T
                self.assertLessEqual(np.abs(lon).max(), 180)
                on_border = np.abs(np.abs(lon) - 180) > 1e-9
                n = int(on_border.sum())
                far = geod.inv(*np.tile(places[k], (n, 1)).T, lon[on_border], lat[on_border])[2]
                np.testing.assert_allclose(far, 5000, rtol=1e-3)


class Others(unittest.TestCase):
    def test_hulls_hold_everything_and_are_convex(self):
        rng = np.random.default_rng(8)
        column = make.lines([[rng.integers(0, 9, (k, 2)).astype(float)] for k in (2, 3, 7, 30, 60)])
        line = make.lines([[np.array([(0, 0), (1, 1), (3, 3.0)])]])
        for k in range(5):
            one = hull(make.layer("h", column.take(np.array([k]))), each=True).layer.geometry
            points = column.take(np.array([k])).xy
            if one.n_rows:
                self.assertAlmostEqual(row_areas(one)[0], ConvexHull(points).volume)
                self.assertTrue(np.isin(one.xy.view(complex), points.view(complex)).all())
        flat = hull(make.layer("flat", line))
        self.assertEqual((flat.layer.n_rows, flat.summary.flat.count), (0, 1))
        grouped = hull(make.layer("g", column, k=[1, 1, 2, 2, 2]), by=["k"])
        self.assertEqual(grouped.layer.table["k"].to_pylist(), [1, 2][2 - grouped.layer.n_rows :])

    def test_parts_apart_and_together_again(self):
        islands = next(y for y in tolva.layers() if y.name == "islands")
        result = apart(islands, number="part", source="of").layer
        self.assertEqual(result.n_rows, islands.geometry.n_parts)
        self.assertEqual(result.table["part"].to_pylist().count(2), 1)
        back = together(result, ["of"]).layer
        np.testing.assert_array_equal(back.geometry.xy, islands.geometry.xy)
        self.assertEqual(back.table["name"].to_pylist(), islands.table["name"].to_pylist())


class Audit(unittest.TestCase):
    def test_the_planted_problems_of_the_sample_and_only_they(self):
        found = {y.name: audit(y) for y in tolva.layers()}
        told = {
            name: {f.kind: [int(r) + 1 for r in f.rows] for f in a.findings}
            for name, a in found.items()
        }
        self.assertEqual(
            told["beds_marram"],
            {"ring crosses": [7], "ring along itself": [33], "hole outside": [19]},
        )
        self.assertEqual(
            told["beds_kelda"],
            {"ring crosses": [5], "parts cross": [12], "wrong direction": [28],
             "repeated vertex": [41]},
        )  # fmt: skip
        self.assertEqual(told["buoys"], {"null geometry": [53]})
        self.assertEqual(
            {n for n, a in found.items() if not a.is_sound}, {"beds_marram", "beds_kelda"}
        )

    def test_coverage_key_duplicates_and_values(self):
        boxes = [make.square(0, 0, 10), make.square(10, 0, 10), make.square(0, 10, 10),
                 make.square(9, 10, 11), make.square(0, 20, 20), make.square(0, 0, 10)]  # fmt: skip
        layer = make.layer(
            "c", make.polygons([[[b]] for b in boxes[:5]] + [[[boxes[0]]]]),
            key=[1, 2, 2, None, 5, 6], t=[" a", "b", "c", "d", "e", "f"],
            n=["1", "2", "3", "4", "5", "6"], code=["01", "2", "3", "4", "5", "6"],
            w=["Ã¦", "ok", "x", "y", "z", "u"], same=[7] * 6,
            r=[1.5, np.nan, -np.inf, 2.5, np.nan, 0.0], day=[datetime.date(2026, 5, 1)] * 6,
        )  # fmt: skip
        found = audit(layer, key="key", coverage=True)
        counts = {f.kind: f.count for f in found.findings}
        self.assertEqual(counts["duplicate"], 1)
        self.assertEqual((counts["null key"], counts["key not unique"]), (1, 2))
        overlap = next(f for f in found.findings if f.kind == "overlap")
        self.assertEqual(sorted(overlap.details),
                         ["10 square units, 1 units wide, with row 4",
                          "100 square units, 10 units wide, with row 6",
                          "11 square units, 1 units wide, with row 5"])  # fmt: skip
        reasons = {(f.name, f.reason.split(":")[0]) for f in found.fields}
        self.assertEqual(
            reasons,
            {("t", "blanks before or behind"), ("n", "numbers kept as text"),
             ("same", "the same in all"), ("w", "letters that look wrongly decoded"),
             ("r", "no number (NaN), and not null"), ("r", "infinite"), ("day", "the same in all")},
        )  # fmt: skip
        counts = {f.reason: f.count for f in found.fields}
        self.assertEqual((counts["no number (NaN), and not null"], counts["infinite"]), (2, 1))
        self.assertIn("the same in all: 2026-05-01", counts)
        dented = [(9, 9), (18, 9), (18, 18), (9, 18), (9, 12), (10, 11), (9, 10)]
        boxes = [make.square(x, y, 9) for x, y in ((0, 0), (9, 0), (0, 9))]
        boxes.append(make.closed(np.array(dented, float)))
        ring = make.layer("r", make.polygons([[[b]] for b in boxes]))
        gap = next(f for f in audit(ring, coverage=True).findings if f.kind == "gap")
        self.assertEqual(gap.details, ["1 square units, 0.531 units wide"])


DEGREES = crs.parse("OGC:CRS84")


class RoundTheWorld(unittest.TestCase):
    """Metres on degrees, where longitude means least: at the poles and the 180th meridian."""

    def check(self, column, d, rng, seams=False):
        """Nothing within the distance less 0.1 % is missed, nothing beyond it and 0.1 % taken."""
        layer = make.layer("x", column, DEGREES, k=np.arange(column.n_rows))
        result = buffer(layer, d)
        found = result.layer.geometry
        self.assertLess(result.summary.error, 1e-3)
        self.assertFalse(invalid_rows(found).any())
        self.assertLessEqual(np.abs(found.xy).max(axis=0, initial=0).tolist(), [180, 90])
        rows = dict(zip(result.layer.table["k"].to_pylist(), make.rows_of(found), strict=True))
        for k, row in enumerate(make.rows_of(admit(layer).layer.geometry)):
            for point in ellipsoid.beside(rng, row, d, 40) if row else []:
                far = ellipsoid.to_row(column.family, row, point, seams)
                if abs(far - d) > 1e-3 * abs(d):
                    self.assertEqual(
                        ellipsoid.covers(rows.get(k, []), point), far < d, (k, point, far)
                    )

    def test_sampled_geodesic_distances_anywhere(self):
        first = int(np.random.default_rng().integers(1e6))
        # Where an edge passes beside a crowded cell, of 122, nodes were once looked for without end.
        for seed in (122, *some_of(range(first, first + 24))):
            rng = np.random.default_rng(seed)
            family, size = seed % 3, 10 ** rng.uniform(-2, 1.6)  # degrees
            lat = rng.uniform(-80, 80) if seed % 2 else rng.uniform(84, 90) * rng.choice([-1, 1])
            lon = rng.choice([rng.uniform(-170, 170), rng.choice([-180, 180])])
            d = 10 ** rng.uniform(1, 6.6)
            at = rng.normal(0, size, (4, 2)) + (lon, lat)
            if family == 2:
                at = make.star(rng, 8, size, (lon, lat))
                d = d if rng.random() < 0.6 else -min(d, size * 3e4 * rng.random())
            at = np.clip(at, (-180, -90), (180, 90))
            column = (make.points, make.lines, make.polygons)[family](
                [list(at)] if family == 0 else [[at]] if family == 1 else [[[at]]]
            )
            with self.subTest(seed=seed, family=family, lon=lon, lat=lat, size=size, d=d):
                self.check(column, d, rng)

    def test_what_is_no_wider_than_nothing_on_its_plane(self):
        rng, bit = np.random.default_rng(9), 2.0**-53
        needle = [(-179.6207, 90), (-179.616, 89.9973), (-179.5055, 90)]
        speck = np.array([(0.5, 0.5), (0.5 + bit, 0.5), (0.5, 0.5 + bit)])
        for corners, d in itertools.product(("round", "mitre", "bevel"), (500.0, 13_000.0)):
            for ring in (needle, np.array(needle) * (1, -1), speck):
                layer = make.layer("x", make.polygons([[[make.closed(ring)]]]), DEGREES)
                result = buffer(layer, d, corners=corners)
                length = 301 if ring is not speck else 0
                least = (np.pi if corners == "round" else 0) * d * d + 2 * length * d
                self.assertGreaterEqual(result.summary.area, 0.998 * least, (corners, d))
        self.check(make.polygons([[[make.closed(needle)]], [[make.closed(speck)]]]), 13_000.0, rng)
        square = make.square(0, 0, 1)
        self.check(make.polygons([[[square, make.closed(speck[::-1])]]]), -9_000.0, rng)

    def test_what_is_narrower_than_edges_bend(self):
        """Needles whose two sides would lie on a plane as if one were the other."""
        for seed in some_of(range(40)):
            rng = np.random.default_rng(seed)
            length, width, turn = 10 ** rng.uniform(-1, 0.5), 10 ** rng.uniform(-7, -2.5), 0.0
            if seed % 2:
                turn = rng.uniform(-1, 1)
            x = np.sort(rng.uniform(0, length, (2, 3)))
            sway = width * rng.random((2, 3))
            right = np.stack([x[0], turn * x[0] - sway[0]], axis=1)
            left = np.stack([x[1], turn * x[1] + sway[1]], axis=1)[::-1]
            ring = np.concatenate([[(0, 0)], right, [(length, turn * length)], left])
            ring += rng.uniform((-170, -80), (160, 80))
            d = 10 ** rng.uniform(3.5, 6)
            with self.subTest(seed=seed, d=d):
                self.check(make.polygons([[[make.closed(ring)]]]), d, rng)

    def test_ways_along_a_pole_have_no_length_and_no_direction(self):
        rng = np.random.default_rng(6)
        for side in (1, -1):
            way = np.array([(64, 87.7), (70, 90), (74, 90), (69.7, 83.8)]) * (1, side)
            for d in (2e4, 347_000.0):
                with self.subTest(side=side, d=d):
                    self.check(make.lines([[way]]), d, rng)
            ring = np.array([(10, 90), (80, 90), (80, 60), (10, 60)]) * (1, side)
            for corners, d in itertools.product(("round", "mitre", "bevel"), (1e5, -1e5)):
                with self.subTest(side=side, corners=corners, d=d):
                    areas = []
                    # Whichever vertex is the first, whichever way it runs.
                    for k in some_of(range(8), 3):
                        own = make.closed(np.roll(ring, k, axis=0)[:: 1 if k < 4 else -1])
                        layer = make.layer("r", make.polygons([[[own]]]), DEGREES)
                        areas.append(buffer(layer, d, corners=corners).summary.area)
                    self.assertLess(max(areas) / min(areas), 1 + 2e-6)

    def test_areas_parted_at_the_meridian_or_round_a_pole(self):
        """Their seams are no borders: they are not eaten away when an area shrinks."""

        def box(x0, y0, x1, y1):
            return make.closed(np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1)], float))

        rng = np.random.default_rng(4)
        shapes = (
            [[box(177, 10, 180, 16)], [box(-180, 10, -176, 16)]],
            [[box(-180, 71, 180, 90)]], [[box(-180, -90, 180, -66)]],
        )  # fmt: skip
        for d, rows in some_of(itertools.product((-30_000.0, 30_000.0, -3e5), shapes), 3):
            with self.subTest(d=d, first=rows[0][0][0].tolist()):
                self.check(make.polygons([rows]), d, rng, seams=True)
        # Where the halves do not match, what is left of their sides is a border.
        halves = make.polygons([[[box(177, 10, 180, 14)], [box(-180, 12, -176, 16)]]])
        (row,) = make.rows_of(buffer(make.layer("h", halves, DEGREES), -3e4).layer.geometry)
        for point, wanted in {(179.99, 13): True, (-179.99, 13): True, (179.9, 11): False,
                              (-179.9, 15): False, (179.5, 11): True}.items():  # fmt: skip
            self.assertEqual(ellipsoid.covers(row, point), wanted, point)

    def test_a_box_of_long_edges_lies_within_its_buffer(self):
        corners = np.array([(-109.05, 37), (-102.05, 37), (-102.05, 41), (-109.05, 41)])
        box = make.layer("b", make.polygons([[[make.closed(corners)]]]), DEGREES)
        rest = polygene.erase(box, buffer(box, 100.0).layer).layer
        self.assertEqual(rest.n_rows, 0)

    def test_a_line_that_turns_straight_back_has_a_tip(self):
        for way in ((4.0, 0.0), (3.0, 1.0), (0.1, 0.7)):
            line = np.array([(0, 0), way, np.array(way) / 2])
            (row,) = make.rows_of(buffer(make.layer("l", make.lines([[line]])), 1.0).layer.geometry)
            tip = np.array(way) * (1 + 0.99 / np.hypot(*way))
            self.assertTrue(ellipsoid.covers(row, tip), way)

    def test_a_distance_round_the_earth_is_refused(self):
        spot = make.layer("p", make.points([[np.array([1.0, 2.0])]]), DEGREES)
        with self.assertRaisesRegex(DataError, "19,000 km goes round the earth"):
            buffer(spot, 1.9e7)
        near_all = row_areas(buffer(spot, 1.7e7).layer.geometry, ruler_for(DEGREES))[0]
        self.assertAlmostEqual(
            near_all / (2 * np.pi * 6.371e6**2 * (1 - np.cos(1.7e7 / 6.371e6))), 1, 2
        )

    def test_bands_and_melted_ones_at_a_pole(self):
        at = [[np.array([lon, 89.7])] for lon in (0.0, 120.0, -120.0)]
        layer = make.layer("p", make.points(at), DEGREES)
        ruler = ruler_for(DEGREES)
        rings = buffer(layer, rings=[2e4, 6e4], bands=True).layer.geometry
        self.assertFalse(invalid_rows(rings).any())
        alone = row_areas(buffer(layer, 6e4).layer.geometry, ruler)
        np.testing.assert_allclose(
            row_areas(rings, ruler)[:3] + row_areas(rings, ruler)[3:], alone, rtol=1e-6
        )
        melted = buffer(layer, 6e4, dissolve=True).layer.geometry
        self.assertEqual((melted.n_rows, bool(invalid_rows(melted).any())), (1, False))
        self.assertLess(row_areas(melted, ruler)[0], alone.sum())
        across = make.points([[np.array([179.9, 10.0])], [np.array([-179.9, 10.0])]])
        both = buffer(make.layer("a", across, DEGREES), 3e4, dissolve=True).layer.geometry
        self.assertFalse(invalid_rows(both).any())
        self.assertLess(row_areas(both, ruler)[0], 1.7 * np.pi * 9e8)


if __name__ == "__main__":
    unittest.main()
