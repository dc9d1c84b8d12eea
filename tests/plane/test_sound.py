"""Rows that are said to be plainly valid, and bundles of edges, against slower ways."""

from __future__ import annotations

import itertools
import unittest
from unittest import mock

import numpy as np

from polygene.ops.buffer import buffer
from polygene.plane import cuts, noding, portions, settling, validity
from polygene.plane.cells import edges_between
from polygene.plane.cuts import cuts_left
from polygene.plane.grid import Grid
from polygene.plane.noding import node_edges
from polygene.plane.portions import tiles
from polygene.plane.relating import relate
from polygene.plane.sound import plainly_sound
from polygene.plane.validity import _problems_of_all
from tests.kernels.everything import chains
from tests.plane.test_validity import anything
from tests.support import exact
from tests.support import generators as make
from tests.support.exact import turn

C = make.closed


class Sound(unittest.TestCase):
    def test_what_is_sound_has_no_problem(self):
        """Whatever is said to be sound has not even a ring turned the other way."""
        rng = np.random.default_rng(21)
        column = make.polygons(anything(rng, 4000))
        found = _problems_of_all(column)
        has_problem = np.zeros(column.n_rows, bool)
        has_problem[found.row] = True
        sound = plainly_sound(column)
        self.assertFalse((sound & has_problem).any())
        is_single = np.diff(column.row_offsets) == 1
        # Those with rings that touch in a point are left to the others.
        self.assertGreater(sound[is_single & ~has_problem].mean(), 0.8)
        self.assertGreater(sound.sum(), 300)

    def test_most_rows_of_a_layer_are(self):
        rng = np.random.default_rng(22)
        cells = make.coverage(9, 9, 100, rng, 12)
        for shift, size in ((0, 1), (1e7, 1), (-3e11, 1e3), (0, 1e-9)):
            moved = cells.with_xy(cells.xy * size + shift)
            self.assertTrue(plainly_sound(moved).all(), (shift, size))
        rings = [
            [make.square(0, 0, 50), *(make.square(5 * k + 1, 1, 3)[::-1] for k in range(n))]
            for n in (1, 8, 9)
        ]
        self.assertTrue(plainly_sound(make.polygons([[ring] for ring in rings])).all())

    def test_parts_and_holes_that_touch_in_vertices(self):
        """A board of squares that meet at corners is sound; one that runs along another, or a cycle of
        touching holes, which cuts the inside apart, is not.
        """
        board = [[make.square(x, y, 1)] for x in range(8) for y in range(8) if (x + y) % 2]
        diamond = C([(4, 0), (8, 4), (4, 8), (0, 4)])
        ring_of_holes = [
            make.square(-1, -1, 11),
            *(C([(x, y), (x + 1, y + 1), (x, y + 2), (x - 1, y + 1)])[::-1]
              for x, y in ((3, 2), (5, 2), (5, 4), (3, 4))),
        ]  # fmt: skip
        fan = [C([(0, 0), (x - y, y + x), (x, y)])
               for x, y in ((3, 1), (-1, 3), (-3, -1), (1, -3))]  # fmt: skip
        link = C([(1, 6), (2, 4), (-1, 3)])
        rows = {
            "board": (board, True),
            "with a neighbour along": ([*board, [make.square(0, 0, 1)]], False),
            "a part in a hole that touches it": (
                [[make.square(0, 0, 8), diamond[::-1]], [make.square(2, 2, 4)]], False
            ),
            "free in the hole": (
                [[make.square(-1, -1, 10), diamond[::-1]], [make.square(3, 3, 2)]], True
            ),
            "a diamond in the hole of a diamond": (
                [[make.square(-1, -1, 10), diamond[::-1]], [C([(4, 0), (6, 4), (4, 8), (2, 4)])]], True
            ),
            "twice the same but for two vertices": (
                [[C([(0, 0), (8, 0), (4, 6)])], [C([(0, 0), (4, 2), (8, 0), (4, 5)])]], False
            ),
            "a part in a part": ([[make.square(0, 0, 9)], [make.square(3, 3, 2)]], False),
            "holes in a cycle": ([ring_of_holes], False),
            "all but one of them": ([ring_of_holes[:-1]], True),
            "four holes at one place": ([[make.square(-9, -9, 20), *fan]], True),
            "and at one more": ([[make.square(-9, -9, 20), *fan, link]], False),
        }  # fmt: skip
        column = make.polygons([parts for parts, _ in rows.values()])
        sound = plainly_sound(column)
        for k, (name, (parts, wanted)) in enumerate(rows.items()):
            self.assertEqual(sound[k], wanted, name)
            self.assertEqual(wanted, not exact.faults(parts), name)

    def test_a_row_in_doubt_is_left_to_the_others(self):
        """Stars whose edges crowd, rows without geometry and numbers that are none."""
        rng = np.random.default_rng(23)
        angle = np.sort(rng.uniform(0, 2 * np.pi, 900))
        reach = rng.uniform(0.01, 1, (900, 1))
        needles = C(reach * np.stack([np.cos(angle), np.sin(angle)], axis=1))
        spoilt = make.square(0, 0, 1).astype(float)
        spoilt[1, 0] = np.inf
        column = make.polygons([[[needles]], [], [[spoilt]], [[make.square(0, 0, 1)]]])
        sound = plainly_sound(column)
        self.assertEqual(sound[1:].tolist(), [True, False, True])
        self.assertEqual(set(_problems_of_all(column).row.tolist()), {2})

    def test_sorting_crowded_cells_finds_what_all_pairs_do(self):
        """Needles that cross, touch and run along each other, here and far out: the same problems."""
        rng = np.random.default_rng(25)
        rows = []
        for k in range(12):
            angle = np.sort(rng.uniform(0, 2 * np.pi, 400))
            reach = rng.uniform(0.2, 1, (400, 1))
            star = reach * np.stack([np.cos(angle), np.sin(angle)], axis=1)
            if k % 4 == 1:
                star[[100, 180]] = star[[180, 100]]
            elif k % 4 == 2:
                star[200] = star[50]
            elif k % 4 == 3:
                star[300] = 0.5 * (star[299] + star[298])
            rows.append([[C(star) * (1, 1e3)[k % 2] + (0, 1e7)[k > 5]]])
        column = make.polygons(rows)
        found = _problems_of_all(column)
        self.assertEqual(set(found.row.tolist()), {k for k in range(12) if k % 4})
        with mock.patch.object(validity, "BUNDLE", 10**9):
            pairs = _problems_of_all(column)
        for one, other in zip(found, pairs, strict=True):
            np.testing.assert_array_equal(one, other)

    def test_curves_that_do_not_cross_need_no_arrangement(self):
        """Buffers are the same rings with the short cut and without, some of each kind."""
        rng = np.random.default_rng(24)
        for column, distance in ((chains(rng, 80), 0.4), (make.coverage(6, 6, 9, rng), -0.5)):
            layer = make.layer("x", column)
            quick = buffer(layer, distance).layer.geometry
            none = np.zeros(0, bool)

            def refuse(outlines, x, y, n_rows, grid, none=none):
                del outlines, x, y, grid
                return none, np.zeros(n_rows, bool)

            with mock.patch.object(settling, "_simple_rows", refuse):
                slow = buffer(layer, distance).layer.geometry
            np.testing.assert_array_equal(quick.xy, slow.xy)
            np.testing.assert_array_equal(quick.ring_offsets, slow.ring_offsets)
            np.testing.assert_array_equal(quick.row_offsets, slow.row_offsets)


def crossings(x, y, start, stop):
    """The pairs of edges that cross, by brute force in whole numbers."""
    ends = [
        ((int(x[a]), int(y[a])), (int(x[b]), int(y[b]))) for a, b in zip(start, stop, strict=True)
    ]
    return [
        (i, j)
        for (i, (a, b)), (j, (c, d)) in itertools.combinations(enumerate(ends), 2)
        if turn(a, b, c) * turn(a, b, d) < 0 and turn(c, d, a) * turn(c, d, b) < 0
    ]  # fmt: skip


class Bundles(unittest.TestCase):
    """Many edges through few cells, where only neighbours across the bundle are compared."""

    def bundle(self, rng, n, slope, spread, length):
        """Long edges nearly alongside each other."""
        along = np.array([np.cos(slope), np.sin(slope)])
        across = np.array([-along[1], along[0]])
        middle = rng.uniform(-spread, spread, (n, 1)) * across
        lean = rng.normal(0, spread / 4, (n, 2, 1)) * across
        reach = rng.uniform(0.2, 1, (n, 2, 1)) * np.array([[[-length]], [[length]]]).reshape(2, 1)
        ends = middle[:, None] + lean + reach * along
        return np.rint(ends + 3 * length).astype(np.int64).reshape(-1, 2)

    def test_all_crossings_are_found(self):
        for seed, slope in itertools.product(range(3), (0, 0.2, np.pi / 4, 1.3, np.pi / 2, 2.4)):
            with self.subTest(seed=seed, slope=slope):
                rng = np.random.default_rng([seed, 31])
                xy = self.bundle(rng, 110, slope, 300, 200_000)
                xy = np.concatenate([xy, self.bundle(rng, 12, slope + 1.1, 9000, 200_000)])
                x, y = xy.T.copy()
                start = np.arange(0, len(x), 2, dtype=np.int32)
                nodes = np.arange(len(x), dtype=np.int32)
                low, high, _ = noding._ordered(x, y, start, start + 1, nodes)
                ends = edges_between(x, y, low, high)
                n = len(low)
                one = np.array([[x.min(), y.min(), 10**6, 1, 1, 0]])
                cells = cuts.Cells(
                    one, np.array([-1]), np.array([0, n]), np.arange(n), np.zeros(1, np.int64)
                )
                border = np.ones(n, np.uint8)
                found = cuts._crossings(cells, ends, border)
                self.assertEqual(len(found.x), len(crossings(x, y, low, high)))
                with mock.patch.object(cuts, "BUNDLE", 10**6):
                    plain = cuts._crossings(cells, ends, border)
                self.assertCountEqual(
                    zip(found.x.tolist(), found.y.tolist(), strict=True),
                    zip(plain.x.tolist(), plain.y.tolist(), strict=True),
                )

    def test_and_all_pixels(self):
        """Bundles on a coarse grid, where edges run through each other's ends and crossings."""
        for seed, length in itertools.product(range(4), (40, 900, 60_000)):
            rng = np.random.default_rng([seed, 32])
            xy = self.bundle(rng, 150, rng.uniform(0, np.pi), 12, length)
            x, y = xy.T.copy()
            start = np.arange(0, len(x), 2)
            borders = np.ones(len(start), bool)
            noded = node_edges(x, y, start, start + 1, borders)
            self.assertEqual(cuts_left(noded.node_x, noded.node_y, noded.low, noded.high), 0)
            with mock.patch.object(cuts, "BUNDLE", 10**6):
                plain = node_edges(x, y, start, start + 1, borders)
            self.assertEqual(self.told(noded), self.told(plain))

    def told(self, noded):
        """Edges, and nodes that must stay, by place; in which order they were found does not matter."""
        place = list(zip(noded.node_x.tolist(), noded.node_y.tolist(), strict=True))
        edges = {(place[a], place[b]) for a, b in zip(noded.low, noded.high, strict=True)}
        return edges, {place[v] for v in np.flatnonzero(noded.stays)}, noded.is_crowded.tolist()


class Portions(unittest.TestCase):
    def test_tiles_hold_each_row_once(self):
        rng = np.random.default_rng(41)
        low = rng.uniform(0, 100, (500, 2))
        bounds = np.concatenate([low, low + rng.exponential(3, (500, 2))], axis=1)
        bounds[::50] = (np.inf, np.inf, -np.inf, -np.inf)
        for n in (1, 2, 7, 40):
            found = tiles(bounds, rng.integers(1, 9, 500), n)
            self.assertLessEqual(len(found), n + int(n**0.5) + 1)
            rows = np.sort(np.concatenate(found))
            np.testing.assert_array_equal(rows, np.flatnonzero(np.isfinite(bounds[:, 0])))

    def test_pairs_are_the_same_in_portions(self):
        rng = np.random.default_rng(42)
        cells, others = make.coverage(12, 12, 10, rng), make.coverage(11, 11, 11, rng)
        long = make.lines([[np.array([(0.0, k), (130.0, k + 3)])] for k in range(0, 120, 9)])
        spots = make.points([[p] for p in rng.uniform(0, 120, (900, 2)).round()])
        several = ((cells, others), (cells, spots), (spots, cells), (chains(rng, 90), cells))
        for a, b in (*several, (long, others)):
            grid = Grid.over([c.extent() for c in (a, b)], 1e-4)
            whole = relate(a, b, grid)
            with mock.patch.object(portions, "TILE", 1000):
                n_portions = len(portions.portions(a, b, 1e-3))
                parts = relate(a, b, grid)
            self.assertGreater(n_portions, 1)
            self.assertGreater(len(whole.first), 100)
            for name in ("first", "second", "matrix"):
                np.testing.assert_array_equal(getattr(parts, name), getattr(whole, name))
            np.testing.assert_allclose(parts.shared, whole.shared, atol=1e-6 / grid.step**2)


if __name__ == "__main__":
    unittest.main()
