"""Snap rounding and the arrangement, against plain exact geometry on small lattices."""

from __future__ import annotations

import itertools
import os
import unittest
from unittest import mock

import numpy as np

import polygene
from polygene.plane import cuts
from polygene.plane.arrangement import Borders, arrange
from polygene.plane.cuts import cuts_left
from polygene.plane.noding import node_edges
from tests.support import generators as make
from tests.support.cases import each
from tests.support.exact import on_segment, turn


def random_edges(rng, n, size):
    """Edges on a lattice: crossings, overlaps, shared ends, repeats, edges of no length."""
    xy = rng.integers(0, size, (2 * n, 2))
    return xy[:, 0].copy(), xy[:, 1].copy(), np.arange(0, 2 * n, 2), np.arange(1, 2 * n, 2)


class Noding(unittest.TestCase):
    def test_edges_meet_in_nodes_only(self):
        """On grids from very coarse to fine no two edges cross and no node lies on an edge."""
        for seed, size in itertools.product(range(12), (5, 12, 60, 2000)):
            with self.subTest(seed=seed, size=size):
                rng = np.random.default_rng([seed, size])
                x, y, start, stop = random_edges(rng, 14, size)
                noded = node_edges(x, y, start, stop, np.ones(14, bool))
                node = list(zip(noded.node_x.tolist(), noded.node_y.tolist(), strict=True))
                self.assertEqual(len(set(node)), len(node))
                edges = [(node[a], node[b]) for a, b in zip(noded.low, noded.high, strict=True)]
                self.assertEqual(len(set(edges)), len(edges))
                for (a, b), (c, d) in itertools.combinations(edges, 2):
                    crosses = (
                        turn(a, b, c) * turn(a, b, d) < 0 and turn(c, d, a) * turn(c, d, b) < 0
                    )
                    self.assertFalse(crosses, (a, b, c, d))
                for (a, b), p in itertools.product(edges, node):
                    self.assertTrue(p in (a, b) or not on_segment(p, a, b), (a, b, p))

    def test_steps_lead_from_end_to_end_near_the_edge(self):
        """An edge's steps run from its start to its stop, never further than a unit from it."""
        for seed in range(20):
            rng = np.random.default_rng(seed)
            x, y, start, stop = random_edges(rng, 14, 40)
            noded = node_edges(x, y, start, stop, np.ones(14, bool))
            for k in range(14):
                line = noded.line_of_given[k]
                if line < 0:
                    self.assertEqual((x[start[k]], y[start[k]]), (x[stop[k]], y[stop[k]]))
                    continue
                at = slice(noded.step_offsets[line], noded.step_offsets[line + 1])
                edge, is_back = noded.step_edge[at], noded.is_step_reversed[at]
                first = np.where(is_back, noded.high[edge], noded.low[edge])
                last = np.where(is_back, noded.low[edge], noded.high[edge])
                path = [*first, last[-1]]
                self.assertEqual(first[1:].tolist(), last[:-1].tolist())
                ends = [noded.node_of_vertex[v] for v in (start[k], stop[k])]
                if noded.is_given_reversed[k]:
                    ends.reverse()
                self.assertEqual([path[0], path[-1]], ends)
                a, b = (np.array([noded.node_x[v], noded.node_y[v]], float) for v in ends)
                p = np.stack([noded.node_x[path], noded.node_y[path]], axis=1) - a
                along = b - a
                away = np.abs(along[0] * p[:, 1] - along[1] * p[:, 0]) / np.hypot(*along)
                self.assertLessEqual(away.max(), np.sqrt(0.5) + 1e-9)

    def test_nothing_is_missed_in_cells_that_are_passed_over(self):
        """Where no end comes near another edge pixels are not looked for: that changes nothing."""
        n_passed_over = 0

        def counted(cells, is_quiet, x, y):
            nonlocal n_passed_over
            leaves = busy(cells, is_quiet, x, y)
            n_passed_over += len(cells.leaves) - len(leaves)
            return leaves

        busy, one = cuts._busy_leaves, np.arange(12)
        for seed, size in itertools.product(range(60), (12, 200, 2**40)):
            rng = np.random.default_rng([seed, size])
            a, b, c = rng.integers(5, size, (3, 12, 2))
            # Ends a few units beside the middle of other edges, and places of no edge.
            beside = (a + b) // 2 + rng.integers(-4, 5, (12, 2))
            x, y = np.concatenate([a, b, c, beside, rng.integers(5, size, (3, 2))]).T.copy()
            start, stop = np.concatenate([one, one + 24]), np.concatenate([one + 12, one + 36])
            given = (x, y, start, stop, rng.random(24) < (1 if seed % 2 else 0.7))
            with mock.patch.object(cuts, "_busy_leaves", counted):
                found = node_edges(*given)
            with mock.patch.object(cuts, "_busy_leaves", lambda cells, *_: cells.leaves):
                wanted = node_edges(*given)
            for name, mine, theirs in zip(found._fields, found, wanted, strict=True):
                self.assertEqual(mine.tolist(), theirs.tolist(), (seed, size, name))
        self.assertGreater(n_passed_over, 100)

    def test_what_bounds_nothing_is_cut_by_borders_only(self):
        """Two lines that cross keep their crossing to themselves; a border cuts both."""
        x, y = np.array([0, 8, 0, 8, 2, 2]), np.array([0, 8, 8, 0, -9, 19]) + 20
        ends = np.array([0, 2, 4]), np.array([1, 3, 5])
        for is_border, n_edges in (([0, 0, 0], 3), ([0, 0, 1], 7), ([1, 1, 1], 9)):
            noded = node_edges(x, y, *ends, np.array(is_border, bool))
            self.assertEqual(len(noded.low), n_edges)

    def test_the_self_check_finds_what_is_not_noded(self):
        x, y = np.array([0, 8, 0, 8, 4]), np.array([0, 8, 8, 0, 0])
        self.assertEqual(cuts_left(x, y, np.array([0, 2]), np.array([1, 3])), 1)
        self.assertEqual(cuts_left(x, y, np.array([0]), np.array([3])), 1)
        self.assertEqual(cuts_left(x, y, np.array([0, 1]), np.array([4, 3])), 0)


class Arranging(unittest.TestCase):
    def test_nested_squares_are_nested(self):
        """Rings in rings, none touching: each face is covered by those that enclose it."""
        squares = make.polygons([[[make.square(k, k, 40 - 2 * k)]] for k in range(9)])
        x, y = squares.xy.astype(np.int64).T + 8
        start = np.flatnonzero(np.arange(45) % 5 < 4)
        given, part = np.arange(36, dtype=np.int32), (start // 5).astype(np.int32)
        noded = node_edges(x.copy(), y.copy(), start, start + 1, np.ones(36, bool))
        borders = Borders(given, part, np.ones(36, np.int8), np.arange(9))
        found = arrange(noded, borders, 9)
        covers = [
            found.labels[found.label_offsets[f] : found.label_offsets[f + 1]].tolist()
            for f in range(found.n_faces)
        ]
        self.assertCountEqual(covers, [list(range(k)) for k in range(10)])

    def test_every_overlay_stands_the_self_check(self):
        with mock.patch.dict(os.environ, POLYGENE_SELF_CHECK="1"):
            for _, step, a, b in each(self, 6):
                first, second = make.layer("a", a, ra=np.arange(a.n_rows)), make.layer("b", b)
                polygene.union(first, second, precision=step)
                polygene.dissolve(first, precision=step)


if __name__ == "__main__":
    unittest.main()
