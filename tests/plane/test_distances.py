"""The nearest rows, where some lie so far off that cells over all would hold everything else in one."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np

from polygene.arrays import NONE
from polygene.plane import distances
from polygene.plane.distances import nearest_rows
from polygene.plane.grid import Grid
from tests.support import generators as make

FAR = np.array([(4e6, 1e6), (-3e6, 2e6), (1e5, -5e6)])


def rows_of(kind: str, rng: np.random.Generator, n: int):
    """Rows close together, and a few that lie far off, as those without a place do at 0, 0."""
    at = np.concatenate([rng.uniform(0, 300, (n, 2)), FAR + rng.uniform(0, 50, FAR.shape)])
    if kind == "points":
        found = make.points([[p] for p in at])
    elif kind == "lines":
        found = make.lines([[np.array([p, p + rng.uniform(-9, 9, 2)])] for p in at])
    else:
        found = make.polygons([[[make.square(*p, 3)]] for p in at])
    return found.take(rng.permutation(found.n_rows))


class FarOff(unittest.TestCase):
    def test_is_what_one_box_over_all_gives(self):
        nothing = np.zeros(0, np.int64), np.zeros(0, np.int64)
        rng = np.random.default_rng(5)
        for kind, other in (("points", "lines"), ("lines", "polygons"), ("polygons", "points")):
            with self.subTest(kind=kind, other=other):
                one, two = rows_of(kind, rng, 90), rows_of(other, rng, 400)
                grid = Grid.over([c.extent() for c in (one, two)], 1e-3)
                given = (one, two, grid, nothing)
                with mock.patch.object(distances, "CROWDED", np.inf):
                    wanted = nearest_rows(*given, k=3)
                own, left_out = distances._cells_of, []

                def watched(ends, is_inside, own=own, left_out=left_out):
                    left_out.append(int((~is_inside).sum()))
                    return own(ends, is_inside)

                with (
                    mock.patch.object(distances, "LEFT_OUT", (3,)),
                    mock.patch.object(distances, "_cells_of", watched),
                ):
                    found = nearest_rows(*given, k=3)
                self.assertGreater(max(left_out), 2)
                self.assertTrue((wanted.row != NONE).all())
                for a, b in zip(found, wanted, strict=True):
                    np.testing.assert_array_equal(a, b)
                middles = [
                    0.5 * (c.row_bounds()[:, :2] + c.row_bounds()[:, 2:]) for c in (one, two)
                ]
                gaps = np.hypot(*(middles[0][:, None] - middles[1][found.row]).transpose(2, 0, 1))
                self.assertLess(np.abs(gaps - found.distance).max(), 16)


if __name__ == "__main__":
    unittest.main()
