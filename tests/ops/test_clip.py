"""Clip: what must hold for every input, against slow exact references."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

import polygene
from polygene.errors import GeometryError
from polygene.geometry import Family
from polygene.measures import PlaneRuler, row_areas, row_lengths
from polygene.ops.clip import clip
from tests.support import exact
from tests.support import generators as make
from tests.support.cases import (
    as_given,
    cells_by_stars,
    each,
    ring_inside,
    rows_over,
    squares,
    stars,
    tangles,
)
from tests.support.chance import many, some_of


def clipped(a, b, **options):
    return clip(make.layer("a", a, row=np.arange(a.n_rows)), make.layer("b", b), **options)


class Polygons(unittest.TestCase):
    def test_what_is_cut_is_valid(self):
        """Every row that was cut is valid to the letter of the standard, on any grid."""
        n_checked = 0
        for _, step, a, b in each(self, 16):
            result = clipped(a, b, precision=step)
            untouched = as_given(a)
            for parts in make.rows_of(result.layer.geometry):
                if tuple(map(str, parts)) not in untouched:
                    self.assertEqual(exact.faults(parts), [])
                    n_checked += 1
        self.assertGreater(n_checked, many(150, 40))

    def test_sampled_points_are_covered_by_what_should_cover_them(self):
        """As many rows cover a point as rows of INPUT do where OTHER covers it, else none."""
        for rng, _, a, b in each(self, 6, steps=(1e-4,)):
            mine, theirs = make.rows_of(a), make.rows_of(b)
            out = make.rows_of(clipped(a, b).layer.geometry)
            for x, y in rng.uniform(0, 100, (25, 2)):
                wanted = len(rows_over(mine, x, y)) if rows_over(theirs, x, y) else 0
                self.assertEqual(len(rows_over(out, x, y)), wanted, (x, y))

    def test_inside_and_outside_add_up(self):
        """The pieces of a clean coverage inside a clean OTHER have OTHER's own area."""
        rng = np.random.default_rng(7)
        cells = make.coverage(6, 6, 20, rng)
        hole = make.star(rng, 30, 8, (60, 60))[::-1]
        other = make.polygons([[[make.star(rng, 200, 50, (60, 60)), hole * (1, 1)]]])
        result = clipped(cells, other)
        covered = clipped(other, cells)
        self.assertAlmostEqual(
            row_areas(result.layer.geometry).sum(),
            row_areas(covered.layer.geometry).sum(),
            delta=0.05,
        )
        balance = result.summary.balance
        self.assertLess(abs(balance.difference), 0.01)
        self.assertAlmostEqual(balance.before, row_areas(cells).sum())

    def test_ten_thousand_points_on_a_larger_layer(self):
        """A coverage of 400 cells by a star of 2,000 vertices, against the even-odd rule."""
        rng = np.random.default_rng(3)
        cells = make.coverage(20, 20, 5, rng, detail=8)
        ring = make.star(rng, 2000, 45, (50, 50))
        result = clipped(cells, make.polygons([[[ring]]]))
        points = rng.uniform(5, 95, (10_000, 2))
        points = points[np.argsort(points[:, 1])]

        def crossings(vertices, offsets):
            ring_of = np.repeat(np.arange(len(offsets) - 1), np.diff(offsets))
            is_edge = ring_of[:-1] == ring_of[1:]
            a, b = vertices[:-1][is_edge], vertices[1:][is_edge]
            ends = np.searchsorted(points[:, 1], np.sort([a[:, 1], b[:, 1]], axis=0))
            n = ends[1] - ends[0]  # of points between the heights of the two ends of each edge
            a, b = np.repeat(a, n, axis=0), np.repeat(b, n, axis=0)
            of = np.arange(n.sum()) + np.repeat(ends[0] - np.cumsum(n) + n, n)
            x, y = points[of].T
            at = a[:, 0] + (y - a[:, 1]) * (b[:, 0] - a[:, 0]) / (b[:, 1] - a[:, 1])
            return np.bincount(of[at < x], minlength=len(points))

        wanted = (
            crossings(ring, np.array([0, len(ring)]))
            % 2
            * (crossings(cells.xy, cells.ring_offsets) % 2)
        )
        column = result.layer.geometry
        np.testing.assert_array_equal(crossings(column.xy, column.ring_offsets) % 2, wanted)

    def test_untouched_features_pass_bit_for_bit(self):
        """Rows that no border touches keep every vertex, in order; so do vertices of cut rows."""
        rng = np.random.default_rng(11)
        cells = make.coverage(8, 8, 10, rng).with_xy(
            make.coverage(8, 8, 10, np.random.default_rng(11)).xy + np.pi * 1e5
        )
        other = make.polygons([[[make.star(rng, 40, 30, (40 + np.pi * 1e5,) * 2)]]])
        result = clipped(cells, other, precision=1e-4)
        before = {tuple(map(str, parts)) for parts in make.rows_of(cells)}
        same = [tuple(map(str, parts)) in before for parts in make.rows_of(result.layer.geometry)]
        self.assertEqual(sum(same), result.summary.whole)
        own = set(map(tuple, cells.xy)) | set(map(tuple, other.xy))
        on_grid = np.round(result.layer.geometry.xy * 1e4)
        for vertex, unit in zip(result.layer.geometry.xy, on_grid, strict=True):
            self.assertTrue(
                tuple(vertex) in own or np.allclose(unit / 1e4, vertex, atol=0, rtol=1e-15)
            )

    def test_order_and_direction_do_not_matter(self):
        """Rows in another order, rings turned round or begun elsewhere give the same pieces."""
        for kind in (stars, cells_by_stars, tangles, squares):
            rng = np.random.default_rng(5)
            a, b = kind(rng)

            def scrambled(column, rng=rng):
                rows = make.rows_of(column)
                for parts in rows:
                    for part in parts:
                        for k, ring in enumerate(part):
                            shift = int(rng.integers(len(ring) - 1))
                            turned = ring[shift:-1] + ring[:shift]
                            part[k] = np.array([*turned, turned[0]])[:: rng.choice([1, -1])]
                return make.polygons(rows)

            with self.subTest(kind=kind.__name__):
                # On the grid to begin with: else a vertex may go home to either of two.
                a, b = (c.with_xy(np.round(c.xy, 2)) for c in (a, b))
                order = rng.permutation(a.n_rows)
                plain = clipped(a, b, precision=0.01)
                other = clipped(
                    scrambled(a.take(order)),
                    scrambled(b.take(np.arange(b.n_rows)[::-1])),
                    precision=0.01,
                )
                rows = dict(
                    zip(
                        plain.layer.table["row"].to_pylist(),
                        row_areas(plain.layer.geometry),
                        strict=True,
                    )
                )
                found = dict(
                    zip(
                        order[other.layer.table["row"].to_pylist()].tolist(),
                        row_areas(other.layer.geometry),
                        strict=True,
                    )
                )
                self.assertEqual(rows.keys(), found.keys())
                for row, area in rows.items():
                    self.assertAlmostEqual(area, found[row], 6)

    def test_moving_the_layers_moves_the_result(self):
        """A shift by whole grid units, however far, shifts the result."""
        for shift in [(500_000, 4_200_000), (-20_000_000, 20_000_000)]:
            for kind in (stars, squares, cells_by_stars):
                with self.subTest(shift=shift, kind=kind.__name__):
                    a, b = (
                        c.with_xy(np.round(c.xy * 8) / 8) for c in kind(np.random.default_rng(2))
                    )
                    here = clipped(a, b, precision=0.125).layer.geometry
                    there = clipped(
                        a.with_xy(a.xy + shift), b.with_xy(b.xy + shift), precision=0.125
                    )
                    np.testing.assert_array_equal(here.xy + shift, there.layer.geometry.xy)
                    np.testing.assert_array_equal(
                        here.ring_offsets, there.layer.geometry.ring_offsets
                    )

    def test_clip_twice_is_clip_once(self):
        for rng, _, a, b in each(self, 4, steps=(1e-4,)):
            del rng
            once = clipped(a, b)
            twice = clip(once.layer, make.layer("b", b))
            np.testing.assert_allclose(
                row_areas(twice.layer.geometry).sum(), row_areas(once.layer.geometry).sum(),
                atol=0.05,
            )  # fmt: skip

    def test_invalid_polygons_are_mended_and_named_cut_or_not(self):
        """A bow tie that is cut, a spike that no border cuts, and one far off that has no part."""
        bow = make.closed(np.array([(0, 0), (10, 10), (10, 0), (0, 10.0)]))
        spike = make.closed(np.array([(30, 0), (40, 0), (40, 5), (90, 5), (40, 5), (40, 9.0)]))
        far = make.closed(np.array([(800, 0), (810, 10), (810, 0), (800, 10.0)]))
        rows = make.polygons([[[make.square(0, 0, 10)]], [[bow]], [[spike]], [[far]]])
        other = make.polygons([[[make.square(5, -100, 200)]]])
        result = clipped(rows, other)
        found = result.summary.input.admitted
        self.assertEqual((found.checked, found.mended.count), (3, 2))
        self.assertEqual(found.mended.first, ["row 2", "row 3"])
        self.assertEqual(result.summary.proved, 3)
        np.testing.assert_allclose(row_areas(result.layer.geometry), [50, 25, 45])
        self.assertEqual(result.layer.geometry.row_bounds()[2, 2], 40)
        erased = polygene.erase(make.layer("a", rows), make.layer("b", other)).summary
        self.assertEqual(erased.input.admitted.mended.count, 3)
        with self.assertRaisesRegex(GeometryError, "row 2: a ring .*3 of 4 features are invalid"):
            clipped(rows, other, invalid="refuse")
        left = clipped(rows, other, invalid="leave-out")
        self.assertEqual(left.layer.n_rows, 1)
        self.assertEqual(left.summary.input.admitted.left_out.count, 3)

    def test_parts_on_both_sides_of_a_border_that_is_near_neither(self):
        """A row is not on one side only because its first part is."""
        row = make.polygons([[[make.square(10, 500, 10)], [make.square(-30, 500, 10)]]])
        park = make.polygons([[[make.square(0, 0, 1000)]]])
        result = clipped(row, park)
        self.assertEqual(row_areas(result.layer.geometry).tolist(), [100])
        self.assertEqual((result.summary.whole, result.summary.cut), (0, 1))

    def test_whole_keeps_what_touches(self):
        """One square inside, one cut, one touching in a point, one along an edge, one apart."""
        corners = [(2, 2), (9, 9), (12, 20), (20, 2), (40, 40)]
        rows = make.polygons([[[make.square(x, y, 8)]] for x, y in corners])
        other = make.polygons([[[make.square(0, 0, 20)]]])
        result = clipped(rows, other, whole=True)
        self.assertEqual(result.layer.table["row"].to_pylist(), [0, 1, 2, 3])
        np.testing.assert_array_equal(result.layer.geometry.xy, rows.xy[:20])

    def test_empty_and_null_rows_are_left_out_and_counted(self):
        column = make.polygons([[[make.square(0, 0, 1)]], [], []])
        column = replace(column, is_null=np.array([False, False, True]))
        result = clipped(column, make.polygons([[[make.square(-1, -1, 9)]]]))
        self.assertEqual((result.layer.n_rows, result.summary.without_geometry), (1, 2))

    def test_huge_and_tiny_coordinates(self):
        for scale in (1e-6, 1e9, 1e15):
            with self.subTest(scale=scale):
                a = make.polygons([[[make.square(0, 0, 1) * scale]]])
                b = make.polygons([[[make.square(0.5, 0.5, 1) * scale]]])
                result = clipped(a, b, precision=scale * 1e-9)
                np.testing.assert_allclose(
                    row_areas(result.layer.geometry), [0.25 * scale**2], rtol=1e-6
                )

    def test_a_wrong_area_is_caught(self):
        """The balance is no ornament: were a piece lost, it would say so."""
        from polygene.errors import BalanceError
        from polygene.ops.summary import check_sums

        one, half = np.ones(1), np.full(1, 0.5)
        check_sums(half + half, one, half * 0, "row")
        for found in (half, one + 0.01, one * np.nan):
            with self.assertRaises(BalanceError):
                check_sums(found, one, half * 0.01, "row")


class Lines(unittest.TestCase):
    def test_lengths_against_exact_cutting(self):
        """Lattice lines along, across and through lattice polygons: inside and border count."""
        for seed in some_of(range(28)):
            with self.subTest(seed=seed):
                rng = np.random.default_rng(seed)
                rows = [[make.path(rng, 6, 100, 10) for _ in range(2)] for _ in range(3)]
                a = make.lines(rows)
                b = (squares, ring_inside, stars)[seed % 3](rng)[1]
                result = clipped(a, b)
                theirs = make.rows_of(b)
                wanted = sum(
                    exact.covered_length(exact.points_of(p), theirs) for row in rows for p in row
                )
                self.assertAlmostEqual(row_lengths(result.layer.geometry).sum(), wanted, delta=0.02)
                self.assertLessEqual(
                    abs(result.summary.balance.difference), result.summary.balance.bound
                )

    def test_pieces_are_rejoined_except_at_cuts(self):
        """A line through three touching squares stays one; a loop has no start."""
        squares_in_a_row = make.polygons([[[make.square(x, 0, 10)]] for x in (0, 10, 20)])
        through = make.lines([[np.array([(-5, 5), (12, 5), (35, 5.0)])]])
        result = clipped(through, squares_in_a_row).layer.geometry
        self.assertEqual(make.rows_of(result), [[[[[0, 5], [12, 5], [30, 5]]]]])
        loop = make.closed(np.array([(5, 5), (5, 20), (8, 20), (8, 5.0)]))
        result = clipped(make.lines([[loop]]), squares_in_a_row).layer.geometry
        self.assertEqual(make.rows_of(result), [[[[[8, 10], [8, 5], [5, 5], [5, 10]]]]])

    def test_heights_are_kept_and_interpolated(self):
        line = make.lines([[np.array([(0, 0), (10, 0), (10, 10.0)])]])
        line = replace(line, z=np.array([0, 10, 20.0]), m=np.array([0, 1, 2.0]))
        result = clipped(line, make.polygons([[[make.square(5, -5, 10)]]])).layer.geometry
        np.testing.assert_allclose(result.z, [5, 10, 15])
        np.testing.assert_allclose(result.m, [0.5, 1, 1.5])
        sloping = make.polygons([[[make.square(0, 0, 10)]]])
        sloping = replace(sloping, z=sloping.xy[:, 0] + 2 * sloping.xy[:, 1])
        result = clipped(sloping, make.polygons([[[make.square(-5, -5, 10)]]])).layer.geometry
        # At the corner of OTHER, where INPUT has no edge, halfway between its neighbours' 5 and 10.
        wanted = np.where((result.xy == 5).all(axis=1), 7.5, result.xy[:, 0] + 2 * result.xy[:, 1])
        np.testing.assert_allclose(result.z, wanted)


class Points(unittest.TestCase):
    def test_against_exact_location(self):
        """Lattice points in and on lattice polygons; on a border is inside.

        On the border of a tangle it depends on whether there is area beside it: not asked here.
        """
        for seed in range(30):
            with self.subTest(seed=seed):
                rng = np.random.default_rng(seed)
                xy = rng.integers(0, 21, (80, 2)) * 5.0
                kind = (squares, tangles, stars)[seed % 3]
                b = kind(rng)[1]
                result = clipped(make.points([[p] for p in xy]), b)
                found = np.isin(np.arange(80), result.layer.table["row"])
                theirs = make.rows_of(b)
                for p, is_found in zip(xy, found, strict=True):
                    sides = [exact.is_covered(row, tuple(p.tolist())) for row in theirs]
                    if 0 not in sides or kind is not tangles:
                        self.assertEqual(is_found, max(sides) >= 0, p)

    def test_multipoints_keep_the_parts_inside(self):
        column = make.points([np.array([(1, 1), (5, 5), (11, 1.0)]), np.array([(20, 20.0)])])
        result = clipped(column, make.polygons([[[make.square(0, 0, 10)]]]))
        self.assertEqual(make.rows_of(result.layer.geometry), [[[[[1, 1]]], [[[5, 5]]]]])
        self.assertEqual(result.summary.balance.outside, 2)


class Refusals(unittest.TestCase):
    def test_other_without_polygons_and_coordinates_that_are_none(self):
        from polygene.errors import DataError, GeometryError

        square = make.polygons([[[make.square(0, 0, 1)]]])
        with self.assertRaisesRegex(DataError, "lines"):
            clipped(square, make.lines([[np.zeros((2, 2))]]))
        with self.assertRaisesRegex(GeometryError, "row 1: .* not a finite number"):
            clipped(square.with_xy(square.xy * np.nan), square)

    def test_an_empty_input_gives_an_empty_result(self):
        for family in Family:
            with self.subTest(family=family):
                empty = make.GeometryColumn.from_rings([], family)
                result = clipped(empty, make.polygons([[[make.square(0, 0, 1)]]]))
                self.assertEqual(result.layer.n_rows, 0)
                self.assertEqual(result.layer.table.column_names, ["row"])


class Measures(unittest.TestCase):
    def test_areas_stay_when_the_layer_moves(self):
        """Moving a layer changes no area beyond the rounding of its coordinates."""
        column = make.coverage(3, 3, 10, np.random.default_rng(1))
        for shift in [(0, 0), (5e5, 4.2e6), (-2e7, 2e7)]:
            with self.subTest(shift=shift):
                rounding = 200 * np.spacing(np.abs(shift).max() + 1)
                moved = row_areas(column.with_xy(column.xy + shift), PlaneRuler())
                np.testing.assert_allclose(moved, row_areas(column), atol=rounding)

    def test_the_whole_ellipsoid(self):
        """All of WGS 84 has 510,065,621.7 km²; a meridian to the pole 10,001.966 km."""
        from polygene import crs
        from polygene.measures import ruler_for

        ruler = ruler_for(crs.parse("EPSG:4326"))
        lat = np.linspace(-90, 90, 181)
        belt = [
            [[np.array([(-180, a), (180, a), (180, b), (-180, b), (-180, a)])]]
            for a, b in zip(lat[:-1], lat[1:], strict=True)
        ]
        self.assertAlmostEqual(
            row_areas(make.polygons(belt), ruler).sum() / 1e6, 510_065_621.7, delta=1
        )
        meridian = make.lines([[np.stack([np.zeros(91), np.arange(91.0)], axis=1)]])
        self.assertAlmostEqual(row_lengths(meridian, ruler)[0], 10_001_965.73, delta=0.1)


if __name__ == "__main__":
    unittest.main()
