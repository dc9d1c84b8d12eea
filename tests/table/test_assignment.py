"""Pairs of the largest sum, against another implementation."""

from __future__ import annotations

import unittest

import numpy as np
from scipy.optimize import linear_sum_assignment

from polygene.table.assignment import best_pairs


class Assignment(unittest.TestCase):
    def test_the_sum_is_the_largest(self):
        rng = np.random.default_rng(1)
        for k in range(300):
            shape = rng.integers(0, 9, 2)
            weights = rng.integers(0, 4, shape) * 1.0 if k % 2 else rng.uniform(-1, 1, shape)
            rows, columns = best_pairs(weights)
            with self.subTest(k=k):
                self.assertEqual(len(rows), min(shape))
                self.assertEqual(len(set(rows.tolist())), len(rows))
                self.assertEqual(len(set(columns.tolist())), len(columns))
                self.assertTrue((np.diff(rows) > 0).all())
                best = weights[linear_sum_assignment(weights, maximize=True)].sum()
                self.assertAlmostEqual(weights[rows, columns].sum(), best, 9)


if __name__ == "__main__":
    unittest.main()
