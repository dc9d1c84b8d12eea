"""Cells full of edges: combs, bundles and stars, where crossings are found by sorting."""

from __future__ import annotations

import itertools
import unittest
from unittest import mock

import numpy as np

import polygene
from polygene.measures import row_areas
from polygene.plane import cells, cuts
from polygene.plane.noding import node_edges
from tests.support import exact
from tests.support import generators as make
from tests.support.chance import some_of


def comb(n: int, length: float, angle: float, at=(0.0, 0.0), shuffle=None):
    """Teeth one unit wide and one apart, from the middle of their side, turned about it."""
    teeth = []
    for k in range(n) if shuffle is None else shuffle.permutation(n):
        y = 2.0 * k - n
        ring = np.array([(0, y), (length, y), (length, y + 1), (0, y + 1), (0, y)])
        ring[:, 0] -= length / 2
        turned = ring @ [[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]]
        teeth.append([[turned + at]])
    return make.polygons(teeth)


def crossing_combs(n: int, m: int, angle: float, between: float = np.pi / 2):
    """Two combs, every tooth of one across every tooth of the other."""
    a, b = comb(n, 2 * m + 4.0, angle), comb(m, 2 * n + 4.0, angle + between)
    return (
        make.layer("a", a, ra=np.arange(n)),
        make.layer("b", b, rb=np.arange(m)),
    )


def lattice(column, step: float):
    """Vertices in units of the grid, row by row."""
    return [
        sorted(tuple(round(v / step) for v in p) for part in row for ring in part for p in ring)
        for row in make.rows_of(column)
    ]


class Combs(unittest.TestCase):
    ANGLES = (0.0, 0.4, np.pi / 4, 2.0)

    def test_every_tooth_crosses_every_other(self):
        """Each crossing is one piece of its own two rows, of the area of one square."""
        n, m = 41, 37
        for angle in self.ANGLES:
            with self.subTest(angle=angle):
                a, b = crossing_combs(n, m, angle)
                found = polygene.intersect(a, b).layer
                pairs = list(
                    zip(found.table["ra"].to_pylist(), found.table["rb"].to_pylist(), strict=True)
                )
                self.assertEqual(pairs, list(itertools.product(range(n), range(m))))
                np.testing.assert_allclose(row_areas(found.geometry), 1, atol=1e-3)

    def test_the_union_has_all_that_there_is(self):
        """Areas add up; there are as many pieces of one only and of both as there should be."""
        n, m = 30, 33
        for angle in self.ANGLES:
            a, b = crossing_combs(n, m, angle)
            made = polygene.union(a, b).layer
            in_a, in_b = (np.asarray(made.table[name].is_valid()) for name in ("ra", "rb"))
            self.assertEqual(
                [(in_a & in_b).sum(), (in_a & ~in_b).sum(), (in_b & ~in_a).sum()], [n * m, n, m]
            )
            areas = row_areas(made.geometry)
            whole = row_areas(a.geometry).sum() + row_areas(b.geometry).sum() - n * m
            self.assertAlmostEqual(areas.sum(), whole, delta=0.05)
            # What is left of a tooth is in as many parts as there are gaps, and two ends.
            parts = np.diff(made.geometry.row_offsets)
            self.assertEqual(set(parts[in_a & ~in_b].tolist()), {m + 1})
            self.assertEqual(set(parts[in_b & ~in_a].tolist()), {n + 1})

    def test_upright_combs_are_exact(self):
        """On whole numbers nothing moves: every area is exact, every vertex a given coordinate."""
        a, b = crossing_combs(14, 16, 0.0)
        b = make.layer("b", b.geometry.with_xy(np.round(b.geometry.xy)), rb=np.arange(16))
        made = polygene.union(a, b).layer
        for parts in make.rows_of(made.geometry)[::6]:
            self.assertEqual(exact.faults(parts), [])
        twice = sum(
            exact.twice_area(exact.points_of(ring))
            for row in make.rows_of(made.geometry)
            for part in row
            for ring in part
        )
        self.assertEqual(twice, 2 * (14 * 36 + 16 * 32 - 14 * 16))
        known = {
            (x, y)
            for x in np.unique([*a.geometry.xy[:, 0], *b.geometry.xy[:, 0]])
            for y in np.unique([*a.geometry.xy[:, 1], *b.geometry.xy[:, 1]])
        }
        self.assertLessEqual(set(map(tuple, made.geometry.xy.tolist())), known)

    def test_sharp_angles_and_coarse_grids(self):
        """Teeth at a sharp angle cross in long slivers; on a coarse grid many nodes share a pixel."""
        for angle, between, step in itertools.product((0.0, 0.7), (0.15, 0.6), (1e-4, 0.05, 0.3)):
            with self.subTest(angle=angle, between=between, step=step):
                a, b = crossing_combs(8, 8, angle, between)
                made = polygene.union(a, b, precision=step).layer
                for parts in make.rows_of(made.geometry)[::5]:
                    self.assertEqual(exact.faults(parts), [])
                first = exact_area_on_grid(a.geometry, step), exact_area_on_grid(b.geometry, step)
                both = polygene.intersect(a, b, precision=step).layer
                total = row_areas(made.geometry).sum() + row_areas(both.geometry).sum()
                # Each of the ends and crossings moves by less than a unit of the grid.
                self.assertAlmostEqual(total, sum(first), delta=16 * 80 * step)

    def test_order_of_teeth_does_not_matter(self):
        rng = np.random.default_rng(8)
        for angle in self.ANGLES:
            a, b = crossing_combs(20, 22, angle)
            order = rng.permutation(20)
            mixed = make.layer("a", a.geometry.take(order), ra=order)
            plain, other = (polygene.intersect(x, b).layer for x in (a, mixed))
            keys = [
                list(zip(y.table["ra"].to_pylist(), y.table["rb"].to_pylist(), strict=True))
                for y in (plain, other)
            ]
            shapes = [
                dict(zip(k, lattice(y.geometry, 1e-4), strict=True))
                for k, y in zip(keys, (plain, other), strict=True)
            ]
            self.assertEqual(*shapes)

    def test_moved_by_the_grid_it_is_moved(self):
        """Far out the same comes out, as far out."""
        a, b = crossing_combs(15, 15, 0.4)
        shift = np.array([500_000.0, 6_500_000.0])
        far = [make.layer(y.name, y.geometry.with_xy(y.geometry.xy + shift)) for y in (a, b)]
        home = [make.layer(y.name, y.geometry.with_xy(y.geometry.xy - shift)) for y in far]
        here, there = polygene.union(*home).layer, polygene.union(*far).layer
        self.assertEqual(here.n_rows, there.n_rows)
        np.testing.assert_allclose(here.geometry.xy + shift, there.geometry.xy, atol=1e-4)


def exact_area_on_grid(column, step: float) -> float:
    return row_areas(column.with_xy(np.round(column.xy / step) * step)).sum()


class PartsAndHoles(unittest.TestCase):
    def test_what_begins_in_one_point_has_one_order(self):
        """Parts and holes that touch in their first vertex: in whatever order they were given."""
        fan = [
            np.array([(0, 0), (8, y), (8, y + 1), (0, 0)], float)
            for y in (-4.5, -2.5, -0.5, 1.5, 3.5)
        ]
        cutter = make.layer(
            "b", make.polygons([[[make.square(-1, -9, 7)], [make.square(-1, 0, 7)]]])
        )
        around = make.square(-5, -10, 20)
        found = set()
        for seed in range(6):
            rng = np.random.default_rng(seed)
            rays = [np.roll(fan[k][:-1], rng.integers(3), axis=0) for k in rng.permutation(5)]
            rays = [np.concatenate([ray, ray[:1]]) for ray in rays]
            for rows in ([[[ray] for ray in rays]], [[[around, *(ray[::-1] for ray in rays)]]]):
                layer = make.layer("a", make.polygons(rows))
                for made in (polygene.clip(layer, cutter), polygene.erase(layer, cutter)):
                    found.add((len(rows[0]), str(make.rows_of(made.layer.geometry))))
        self.assertEqual(len(found), 4)


def edges_of_a_kind(rng, kind: int) -> np.ndarray:
    """Return edges (n, 4) in units of a grid that crowd in one way or another."""
    n, size = int(rng.integers(20, 400)), int(rng.choice((60, 5000, 10**9)))
    start = rng.integers(0, size, (n, 2))
    end = rng.integers(0, size, (n, 2))
    if kind == 1:  # nearly along each other
        start = rng.integers(0, max(2, size // 50), (n, 2))
        end = start + rng.integers(1, size, 2) + rng.integers(-3, 4, (n, 2))
    elif kind == 2:  # through one place
        angle, reach = rng.uniform(0, 2 * np.pi, n), rng.uniform(0.1, 1, n) * size
        ray = (np.stack([np.cos(angle), np.sin(angle)]) * reach).T
        start = (start[0] - ray * rng.uniform(0, 1, (n, 1))).astype(np.int64)
        end = (start[0] + ray).astype(np.int64)
    elif kind == 3:  # a heap of short ones, and long ones aslant that pass beside it
        wide, k = int(rng.integers(5, 60)), n // 3
        start = rng.integers(0, wide, (n, 2))
        end = start + rng.integers(-3, 4, (n, 2))
        at, beside = rng.integers(-4 * wide, 4 * wide, k), rng.integers(-3 * wide, 3 * wide, k)
        start[:k] = np.stack([at, beside - at], axis=1)
        end[:k] = start[:k] + 4 * wide * np.array([1, -1])
        end[:k, 1] += rng.integers(-3, 4, k)
    ends = np.concatenate([start, end], axis=1)
    return ends[(start != end).any(axis=1)]


def noded(ends: np.ndarray, crowd: int, bundle: int, per_cell: float) -> list[np.ndarray]:
    """Return nodes with their marks, noded edges, and marks of the edges, whatever their numbers."""
    n = len(ends)
    x, y = (ends - ends.min(axis=0).reshape(2, 2).min(axis=0)[[0, 1, 0, 1]]).reshape(-1, 2).T.copy()
    start = 2 * np.arange(n)
    with (
        mock.patch.object(cells, "PER_CELL", per_cell),
        mock.patch.object(cells, "PER_CELL_OF_LONG", per_cell),
        mock.patch.object(cells, "CROWD", crowd),
        mock.patch.object(cuts, "BUNDLE", bundle),
    ):
        found = node_edges(x, y, start, start + 1, np.ones(n, bool))
    places = np.stack([found.node_x, found.node_y], axis=1)
    nodes = np.column_stack([places, found.stays, found.is_passed])
    edges = np.concatenate([places[found.low], places[found.high]], axis=1)
    both = [part[np.lexsort(part.T)] for part in (nodes, edges)]
    return [*both, found.is_crowded[found.line_of_given]]


class HowCellsAreLaid(unittest.TestCase):
    """The result is the same whatever cells are used, and however full they are."""

    CASES = (
        lambda rng: crossing_combs(14, 17, 0.4),
        lambda rng: crossing_combs(14, 17, 0.0),
        lambda rng: crossing_combs(10, 12, 0.2, 0.1),
        lambda rng: tuple(
            make.layer(name, make.polygons([[[make.star(rng, 150, 60, (50, 50))]]]))
            for name in "ab"
        ),
        lambda rng: tuple(
            make.layer(name, make.coverage(5, 5, 20, np.random.default_rng(seed), 6))
            for name, seed in (("a", 1), ("b", 2))
        ),
    )

    def test_cells_of_any_size_give_the_same(self):
        for k, case in enumerate(self.CASES):
            first, second = case(np.random.default_rng(k))
            wanted = polygene.union(first, second, precision=0.01).layer.geometry
            for per_cell, crowd, bundle in (
                (0.5, 8, 4), (2.0, 64, 24), (40.0, 1024, 24), (1e9, 10**6, 24), (1e9, 10**6, 10**6),
            ):  # fmt: skip
                with (
                    self.subTest(case=k, per_cell=per_cell, crowd=crowd, bundle=bundle),
                    mock.patch.object(cells, "PER_CELL", per_cell),
                    mock.patch.object(cells, "PER_CELL_OF_LONG", per_cell),
                    mock.patch.object(cells, "CROWD", crowd),
                    mock.patch.object(cuts, "BUNDLE", bundle),
                ):
                    found = polygene.union(first, second, precision=0.01).layer.geometry
                np.testing.assert_array_equal(found.xy, wanted.xy)
                np.testing.assert_array_equal(found.row_offsets, wanted.row_offsets)

    def test_edges_of_any_kind_in_cells_of_any_size(self):
        """Bundles, rays, and what passes beside a heap: nodes and edges are the same."""
        for seed in some_of(range(45)):
            ends = edges_of_a_kind(np.random.default_rng(seed), seed % 4)
            wanted = noded(ends, 10**6, 10**6, 2.0)
            for per_cell, crowd, bundle in ((2.0, 64, 4), (8.0, 64, 24), (1e9, 10**6, 4)):
                for own, other in zip(wanted, noded(ends, crowd, bundle, per_cell), strict=True):
                    np.testing.assert_array_equal(own, other, f"{seed} {per_cell} {bundle}")

    def test_long_edges_get_larger_cells(self):
        """Teeth that go through everything are entered in few cells; short ones in small cells."""
        long, short = comb(200, 400.0, 0.1), make.coverage(14, 14, 2, np.random.default_rng(1))
        sides = []
        for column in (long, short):
            x, y = (np.round(column.xy * 1000).astype(np.int64) + 10**6).T.copy()
            start = np.flatnonzero(np.diff(x) != 0)
            ends = cells.edges_between(x, y, start, start + 1)
            laid = cells.build_cells(ends)
            entered = np.diff(laid.offsets)[laid.leaves]
            sides.append(entered.sum() / len(start))
            # Whatever their size, every edge is in the cell of its middle.
            middle = (ends[:, :2] + ends[:, 2:]) // 2
            grouped = cells.points_in_cells(laid, *middle.T)
            for cell in laid.leaves:
                there = grouped.order[grouped.offsets[cell] : grouped.offsets[cell + 1]]
                entries = laid.entries[laid.offsets[cell] : laid.offsets[cell + 1]]
                self.assertLessEqual(set(there.tolist()), set(entries.tolist()))
        self.assertLess(sides[0], 20)
        self.assertLess(sides[1], 3)


if __name__ == "__main__":
    unittest.main()
