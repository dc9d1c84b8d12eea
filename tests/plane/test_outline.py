"""From coordinates to grid integers and edges, and the measures that are taken on the way."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from polygene import crs
from polygene.arrays import number_codes, number_pairs, offsets_from
from polygene.errors import DataError
from polygene.geometry import Family, GeometryColumn, bounds_of_groups
from polygene.measures import (
    PlaneRuler,
    row_areas,
    row_areas_and_lengths,
    row_lengths,
    ruler_for,
)
from polygene.plane.borders import outline
from polygene.plane.cells import edges_between
from polygene.plane.grid import Grid, default_step
from tests.support import exact
from tests.support import generators as make

STEPS = st.sampled_from([1e-9, 1e-4, 0.001, 0.25, 0.5, 1.0, 10.0, 1000.0])


class OnTheGrid(unittest.TestCase):
    def test_what_no_grid_can_hold_is_refused(self):
        for extent in ((0, 0, 1e301, 1), (0, 0, 1e-318, 1e-318)):
            with self.subTest(extent=extent), self.assertRaisesRegex(DataError, "coordinates as"):
                Grid.over([extent], default_step(None, [extent]))

    @given(st.lists(st.tuples(*[st.floats(-1e7, 1e7)] * 2), min_size=1, max_size=9), STEPS)
    @settings(max_examples=200, deadline=None)
    def test_the_nearest_integer_and_back(self, points, step):
        """No coordinate moves further than half a step; what lies on the grid stays, bit for bit."""
        xy = np.array(points)
        low, high = xy.min(axis=0), xy.max(axis=0)
        grid = Grid.over([(*low.tolist(), *high.tolist())], step)
        x, y = grid.to_units(xy)
        self.assertGreaterEqual(min(x.min(), y.min()), 0)
        there = grid.to_map(x, y)
        for before, after in zip(xy.ravel().tolist(), there.ravel().tolist(), strict=True):
            far = abs(Fraction(after) - Fraction(before))
            # Half a step, and the last digits of the two floats.
            self.assertLessEqual(far, Fraction(grid.step) / 2 + Fraction(2 * math.ulp(before)))
        again = grid.to_units(there)
        np.testing.assert_array_equal(again, (x, y))
        np.testing.assert_array_equal(grid.to_map(*again), there)

    def test_decimals_come_back_as_they_were(self):
        """0.1 mm far from the origin: integers a unit apart, and the same floats."""
        values = np.array([6_500_000.0001, 6_500_000.0002, 0.3, 0.1 + 0.2])
        xy = np.stack([values, values], axis=1)
        grid = Grid.over([(0.0, 0.0, 6_600_000.0, 6_600_000.0)], 1e-4)
        x, _ = grid.to_units(xy)
        self.assertEqual(x[1] - x[0], 1)
        self.assertEqual(x[2], x[3])
        np.testing.assert_array_equal(grid.to_map(x, x)[:3, 0], values[:3])


class Edges(unittest.TestCase):
    def column(self, rng):
        """Rings closed and open, turned both ways, empty ones between."""
        rows = []
        for k in range(12):
            ring = make.star(rng, 7, 30, rng.uniform(0, 300, 2))
            ring = ring if k % 3 else ring[:-1]
            hole = make.star(rng, 5, 3, ring[0])
            rows.append([[ring[::-1] if k % 2 else ring, hole]] if k % 4 else [])
        return make.polygons(rows)

    def test_each_ring_is_walked_once_round(self):
        """Edges of a ring lead from vertex to vertex and back to the first, whatever was given."""
        for seed in range(5):
            column = self.column(np.random.default_rng(seed))
            grid = Grid.over([column.extent()], 1e-4)
            found = outline(column, grid)
            ring = np.searchsorted(column.ring_offsets, found.start, side="right") - 1
            for r in range(column.n_rings):
                at = ring == r
                walk = list(zip(found.start[at].tolist(), found.stop[at].tolist(), strict=True))
                first, last = column.ring_offsets[r], column.ring_offsets[r + 1]
                wanted = list(zip(range(first, last - 1), range(first + 1, last), strict=True))
                is_open = bool((column.xy[first] != column.xy[last - 1]).any())
                self.assertCountEqual(walk, wanted + ([(last - 1, first)] if is_open else []))

    def test_signs_tell_which_way_a_ring_is_turned(self):
        """+1 where an outer ring runs counter-clockwise or a hole clockwise, by exact areas."""
        for seed in range(5):
            column = self.column(np.random.default_rng(seed))
            found = outline(column, Grid.over([column.extent()], 1e-4))
            of_ring = np.searchsorted(column.ring_offsets, found.start, side="right") - 1
            k = 0
            for row in make.rows_of(column):
                for part in row:
                    for place, ring in enumerate(part):
                        twice = exact.twice_area(exact.points_of([*ring, ring[0]]))
                        wanted = 1 if (twice > 0) == (place == 0) else -1
                        self.assertEqual(set(found.sign[of_ring == k].tolist()), {wanted})
                        self.assertEqual(len(set(found.part[of_ring == k].tolist())), 1)
                        k += 1

    def test_lines_have_no_sign_and_points_no_edges(self):
        lines = make.lines([[make.path(np.random.default_rng(1), 5, 100, 10)], [], []])
        found = outline(lines, Grid.over([lines.extent()], 1e-4))
        self.assertEqual((len(found.start), found.sign.any()), (4, False))
        points = GeometryColumn.from_points(np.array([(1.0, 2), (3, 4)]))
        self.assertEqual(len(outline(points, Grid.over([points.extent()], 1e-4)).start), 0)

    @given(st.lists(st.tuples(*[st.integers(0, 3)] * 4), min_size=1, max_size=12))
    @settings(max_examples=100, deadline=None)
    def test_ends_come_in_order(self, pairs):
        xy = np.array(pairs).reshape(-1, 2)
        start = np.arange(0, len(xy), 2)
        ends = edges_between(xy[:, 0].copy(), xy[:, 1].copy(), start, start + 1)
        for (a, b, c, d), (x0, y0, x1, y1) in zip(pairs, ends.tolist(), strict=True):
            self.assertEqual([(x0, y0), (x1, y1)], sorted([(a, b), (c, d)]))


class Sums(unittest.TestCase):
    def test_bounds_of_groups(self):
        """As the minimum and maximum of each; empty groups exclude everything, NaN stays NaN."""
        for seed, n in ((1, 50), (2, 60_000)):
            rng = np.random.default_rng(seed)
            xy = rng.normal(0, 1e6, (n, 2))
            xy[rng.integers(0, n, 3), 1] = np.nan
            offsets = offsets_from(rng.multinomial(n, np.ones(n // 3) / (n // 3)))
            found = bounds_of_groups(xy, offsets)
            for k in range(0, len(offsets) - 1, 1 + n // 500):
                some = xy[offsets[k] : offsets[k + 1]]
                if len(some):
                    wanted = [*some.min(axis=0), *some.max(axis=0)]
                else:
                    wanted = [np.inf, np.inf, -np.inf, -np.inf]
                np.testing.assert_array_equal(found[k], wanted)
            self.assertEqual(np.isnan(found).sum(), 2 * np.isnan(xy).any(axis=1).sum())

    def test_areas_and_lengths_together_as_one_by_one(self):
        rng = np.random.default_rng(4)
        column = make.coverage(6, 6, 0.2, rng)
        for ruler in (PlaneRuler(), ruler_for(crs.parse("EPSG:4326"))):
            areas, lengths = row_areas_and_lengths(column, ruler)
            np.testing.assert_array_equal(areas, row_areas(column, ruler))
            np.testing.assert_array_equal(lengths, row_lengths(column, ruler))
        exact_areas = [
            float(sum(abs(exact.twice_area(ring)) for part in row for ring in part) / 2)
            for row in (exact.row_points(parts) for parts in make.rows_of(column))
        ]
        np.testing.assert_allclose(row_areas(column), exact_areas, rtol=1e-12)

    def test_rows_replaced_and_sliced(self):
        """Rows put in place of others come back; a slice is what taking those rows is."""
        rng = np.random.default_rng(6)
        column, other = make.coverage(4, 4, 10, rng), make.coverage(1, 3, 7, rng)
        column = replace(column, is_null=np.zeros(16, bool))
        found = column.with_rows(np.array([2, 15, 7]), other)
        for k, row in ((2, 0), (15, 1), (7, 2)):
            same = make.rows_of(found)[k], make.rows_of(other)[row]
            self.assertEqual(*map(str, same))
        part = column.slice_rows(5, 9)
        np.testing.assert_array_equal(part.xy, column.take(np.arange(5, 9)).xy)
        self.assertEqual(part.family, Family.POLYGONS)

    @given(
        st.lists(
            st.tuples(
                st.integers(-2, 4), st.one_of(st.integers(-3, 3), st.integers(-(2**63), 2**60))
            ),
            max_size=60,
        )
    )
    @settings(max_examples=100, deadline=None)
    def test_pairs_are_numbered_as_they_appear(self, pairs):
        first, second = np.array(pairs, np.int64).reshape(-1, 2).T
        found = number_pairs(first, second)
        seen: dict = {}
        self.assertEqual(found.numbers.tolist(), [seen.setdefault(p, len(seen)) for p in pairs])
        self.assertEqual([pairs[k] for k in found.firsts], list(seen))
        for wrong in (-1, 3):
            with self.assertRaisesRegex(ValueError, "3 codes are from 0 to 2"):
                number_codes(np.array([0, wrong]), 3)


if __name__ == "__main__":
    unittest.main()
