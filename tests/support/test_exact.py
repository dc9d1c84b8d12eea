"""The checker that the tests rely on finds every kind of fault, and none where there is none."""

from __future__ import annotations

import unittest

import numpy as np

from tests.support import exact
from tests.support import generators as make


class Faults(unittest.TestCase):
    def test_each_fault_is_found(self):
        big, back = make.square(0, 0, 10), make.square(0, 0, 10)[::-1]
        hole = make.square(2, 2, 2)[::-1]
        bow = make.closed(np.array([(0, 0), (10, 10), (10, 0), (0, 9.0)]))
        spike = make.closed(np.array([(0, 0), (10, 0), (10, 10), (15, 15), (10, 10), (0, 10.0)]))
        diamond = make.closed(np.array([(0, 5), (5, 10), (10, 5), (5, 0.0)]))
        for parts, reason in [
            ([[bow]], "cross"),
            ([[back]], "wrong way"),
            ([[big, hole[::-1]]], "wrong way"),
            ([[big[:-1]]], "open"),
            ([[spike]], "twice"),
            ([[big, hole + 50]], "outside"),
            ([[big, hole, hole * 0.5 + 1.5]], "lies in hole"),
            ([[big, hole + (-1, 0), hole + (0.5, 0.5)]], "cross|overlap"),
            ([[big], [make.square(5, 5, 10)]], "cross"),
            ([[big], [make.square(10, 0, 10)]], "overlap"),
            ([[big], [make.square(3, 3, 2)]], "lies in part"),
            ([[big, diamond]], "cut apart"),
        ]:
            with self.subTest(reason=reason):
                self.assertRegex("; ".join(exact.faults(parts)), reason)

    def test_nothing_is_found_where_nothing_is_wrong(self):
        big, hole = make.square(0, 0, 10), make.square(2, 2, 2)[::-1]
        for parts in (
            [[big]], [[big, hole]], [[big, hole], [make.square(2.5, 2.5, 1)]],
            [[big], [make.square(10, 10, 5)]], [[big, hole, hole + 2]], [[big, hole + (-2, 0)]],
        ):  # fmt: skip
            # The last but one: holes that touch in a point; the last: a hole along the border.
            found = exact.faults(parts)
            if parts[0][-1][:, 0].min() == 0 and len(parts[0]) == 2:
                self.assertRegex("; ".join(found), "overlap")
            else:
                self.assertEqual(found, [])


class PartsThatCrossInVertices(unittest.TestCase):
    def test_no_two_edges_cross_and_yet_the_parts_overlap(self):
        """Each border meets the other in a vertex only: one's corner, the other's edge."""
        leaf = [(2, 0), (4, 2), (3, 2), (1, 5), (0, 2), (2, 0)]
        box = [(3, 1), (4, 1), (4, 4), (3, 4), (3, 1)]
        self.assertEqual(len(exact.faults([[leaf], [box]])), 2)
        self.assertEqual(exact.faults([[leaf], [[(x + 1, y) for x, y in box]]]), [])


if __name__ == "__main__":
    unittest.main()
