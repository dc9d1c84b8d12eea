"""Faces of points among borders of all sizes: cells finer where they are crowded, and finer still."""

import unittest
from unittest import mock

import numpy as np

from polygene.arrays import NONE
from polygene.plane import cells
from polygene.plane.location import FEW_PLACES, Locator
from tests.support.chance import some_of


def scattered(rng: np.random.Generator) -> np.ndarray:
    """Return squares (n, 3) of corner and side, apart or one in another, in places of three sizes."""
    found = [(-(2**38), 2**37, 2**20)]
    for scale, at in ((2**4, 0), (2**12, 2**22), (2**22, 2**32)):
        n = int(rng.integers(6, 12))
        for i, j in np.ndindex(n, n):
            if rng.random() < 0.8:
                side = int(rng.integers(scale // 2, scale - 2))
                x, y = (int(at + k * scale + rng.integers(0, scale - side)) for k in (i, j))
                found.append((x, y, side))
                if side > 4:
                    found.append((x + 1, y + 1, side // 2))
    return np.array(found)


class Located(unittest.TestCase):
    def test_against_all_squares(self):
        for seed in some_of(range(30)):
            rng = np.random.default_rng(seed)
            squares = scattered(rng)
            x, y, side = squares.T
            around_x = np.stack([x, x + side, x + side, x], axis=1)
            around_y = np.stack([y, y, y + side, y + side], axis=1)
            start = np.arange(4 * len(squares))
            stop = start.reshape(-1, 4)[:, [1, 2, 3, 0]].ravel()
            with mock.patch.object(cells, "SMALL_CROWD", int(rng.choice([3, 8, 16]))):
                edges = around_x.ravel(), around_y.ravel(), start, stop
                locator = Locator(*edges)
                self.assertGreater(len(locator._index.cells.boxes), 1)
            # Doubled and odd, so on no border; about corners of all sizes, and beyond all.
            corner = rng.integers(0, len(start), 500)
            off = rng.integers(-1, 2, (2, 500)) * (2 ** rng.integers(0, 40, (2, 500))) + 1
            px = 2 * around_x.ravel()[corner] + off[0] // 2 * 2 + 1
            py = 2 * around_y.ravel()[corner] + off[1] // 2 * 2 + 1
            seen = locator.halfedges_left_of(px, py)
            # An outer border has less than what it holds inside: the innermost square is the face.
            holds = ((2 * x < px[:, None]) & (px[:, None] < 2 * (x + side))
                     & (2 * y < py[:, None]) & (py[:, None] < 2 * (y + side)))  # fmt: skip
            sizes = np.where(holds, side, 2**60)
            wanted = np.where(holds.any(axis=1), sizes.argmin(axis=1), NONE)
            np.testing.assert_array_equal(self.faces(locator, seen, squares), wanted)
            # Few are looked for among all edges, without an index.
            plain = Locator(*edges)
            few = plain.halfedges_left_of(px[:FEW_PLACES], py[:FEW_PLACES])
            self.assertFalse(plain.is_built)
            np.testing.assert_array_equal(self.faces(plain, few, squares), wanted[:FEW_PLACES])

    @staticmethod
    def faces(locator: Locator, seen: np.ndarray, squares: np.ndarray) -> np.ndarray:
        """Return the innermost square about the left side of each half-edge."""
        x, y, side = squares.T
        edge = seen // 2
        ax, ay, bx, by = locator._ends[edge].T
        own = edge // 4
        cx, cy = (2 * k[own] + side[own] for k in (x, y))
        left = (bx - ax) * (cy - 2 * ay) - (by - ay) * (cx - 2 * ax) > 0
        is_inside = left == (seen % 2 == 0)
        about = ((x < x[own][:, None]) & (x + side > (x + side)[own][:, None])
                 & (y < y[own][:, None]) & (y + side > (y + side)[own][:, None]))  # fmt: skip
        outer = np.where(about.any(axis=1), np.where(about, side, 2**60).argmin(axis=1), NONE)
        return np.where(seen == NONE, NONE, np.where(is_inside, own, outer))
