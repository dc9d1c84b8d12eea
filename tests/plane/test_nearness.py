"""Edges near points, in cells that are finer where edges crowd, against all edges."""

import unittest
from unittest import mock

import numpy as np

from polygene.arrays import NONE
from polygene.plane import cells
from polygene.plane.nearness import NearEdges
from tests.support.chance import some_of


class Near(unittest.TestCase):
    def test_against_all_edges(self):
        for seed in some_of(range(30)):
            rng = np.random.default_rng(seed)
            # Towns of three sizes, and one edge far from all.
            size = np.repeat([2**6, 2**14, 2**26], 40)
            place = np.repeat([0, 2**20, 2**30], 40)
            a = place[:, None] + (rng.random((120, 2)) * size[:, None]).astype(np.int64)
            b = a + (rng.normal(size=(120, 2)) * size[:, None] / 8).astype(np.int64)
            a = np.concatenate([a, [(-(2**39), 2**38)]])
            b = np.concatenate([b, [(5 - 2**39, 2**38)]])
            x, y = np.concatenate([a, b]).T.copy()
            with mock.patch.object(cells, "SMALL_CROWD", 4):
                edges = NearEdges(x, y, np.arange(121), np.arange(121, 242))
            self.assertGreater(len(edges._cells[0]), 2)
            at = rng.integers(0, 121, 60)
            asked = a[at] + (
                rng.normal(size=(60, 2)) * 2.0 ** rng.integers(0, 30, 60)[:, None]
            ).astype(np.int64)
            reach = float(2.0 ** rng.integers(2, 41))
            way = (b - a).astype(float)
            off = (asked[:, None] - a[None]).astype(float)
            length = np.maximum((way**2).sum(axis=1), 1e-300)
            share = (off * way).sum(axis=2) / length
            gap = np.hypot(*np.moveaxis(off - np.clip(share, 0, 1)[..., None] * way, 2, 0))
            found = edges.nearest(*asked.T, reach)
            best = gap.min(axis=1)
            near = best <= reach * (1 - 1e-9) - 1e-6
            np.testing.assert_allclose(found.distance[near], best[near], rtol=1e-9, atol=1e-6)
            self.assertTrue((found.edge[best > reach * (1 + 1e-9) + 1e-6] == NONE).all())
            pairs = edges.within(*asked.T, reach)
            made = set(zip(pairs.point.tolist(), pairs.edge.tolist(), strict=True))
            is_in = (share > 1e-9) & (share < 1 - 1e-9)
            for slack, sign in ((1 - 1e-9, 1), (1 + 1e-9, -1)):
                mask = gap <= reach * slack - sign * 1e-6
                mask &= is_in if sign > 0 else (share > -1e-9) & (share < 1 + 1e-9)
                every = set(zip(*(k.tolist() for k in np.nonzero(mask)), strict=True))
                self.assertTrue(every <= made if sign > 0 else made <= every, seed)


if __name__ == "__main__":
    unittest.main()
