"""Inside the window a reduced polygon covers what the whole one does, and has the same edges."""

from __future__ import annotations

import unittest
from fractions import Fraction

import numpy as np

from polygene.growing.far_edges import reduced
from tests.support import generators as make
from tests.support.chance import some_of


def winding(rings, x: Fraction, y: Fraction) -> int:
    """How often rings go round a point, exactly; it lies on none of them."""
    turns = 0
    for ring in rings:
        points = [(Fraction(float(a)), Fraction(float(b))) for a, b in ring]
        for (ax, ay), (bx, by) in zip(points, points[1:] + points[:1], strict=True):
            if (ay <= y) != (by <= y):
                side = (bx - ax) * (y - ay) - (x - ax) * (by - ay)
                turns += (1 if side > 0 else 0) if by > ay else (-1 if side < 0 else 0)
    return turns


class Reduced(unittest.TestCase):
    def test_windings_inside_and_edges_there(self):
        rng = np.random.default_rng(1)
        for case in some_of(range(60), 3):
            ring = make.star(rng, 40, 100) if case % 2 else make.tangle(rng, 30, 100, 0.5)
            hole = make.star(rng, 12, 20)[::-1]
            column = make.polygons([[[ring, hole]], [[make.square(0, 0, 5)]]])
            low = rng.uniform(-120, 60, 2)
            window = (*low, *(low + rng.uniform(5, 60, 2)))
            found = reduced(column, np.array([True, False]), window)
            rows = [make.rows_of(c) for c in (column, found)]
            self.assertEqual(str(rows[0][1]), str(rows[1][1]), "not asked for")
            whole, part = (row[0][0] for row in rows)
            with self.subTest(case=case):
                for u, v in rng.uniform(0.001, 0.999, (40, 2)):
                    x = Fraction(float(window[0] + u * (window[2] - window[0])))
                    y = Fraction(float(window[1] + v * (window[3] - window[1])))
                    self.assertEqual(winding(whole, x, y), winding(part, x, y))
                self.assertLessEqual(self.inside(whole, window), self.inside(part, window))

    def inside(self, rings, window) -> set:
        """The edges whose boxes meet the window's inside."""
        found = set()
        for ring in rings:
            points = [tuple(map(float, p)) for p in ring]
            for a, b in zip(points, points[1:], strict=False):
                low, high = np.minimum(a, b), np.maximum(a, b)
                if (low < window[2:]).all() and (high > window[:2]).all() and a != b:
                    found.add((a, b))
        return found

    def test_a_window_far_inside_or_outside_leaves_next_to_nothing(self):
        rng = np.random.default_rng(2)
        ring = make.star(rng, 5_000, 1_000)
        inner = 150 * ring / np.abs(ring).max()
        column = make.polygons([[[ring * 10]], [[inner]]])
        for at, covered in ((0.0, 1), (1e6, 0)):
            window = (at - 10.0, at - 10.0, at + 10.0, at + 10.0)
            found = reduced(column, np.array([True, False]), window)
            (rings,) = make.rows_of(found)[0]
            self.assertLess(sum(map(len, rings)), 12)
            turns = winding(rings, Fraction(at) + Fraction(1, 3), Fraction(at) + Fraction(1, 7))
            self.assertEqual(abs(turns), covered)


if __name__ == "__main__":
    unittest.main()
