"""Work cluster by cluster gives what it gives of all at once."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np
import pyarrow as pa

from polygene.geometry import bounds_of_groups
from polygene.layer import Layer
from polygene.ops.buffer import buffer
from polygene.plane import clusters, melting, sound
from polygene.plane.clusters import clusters_of
from polygene.plane.validity import _problems_of_all, problems_of
from tests.kernels.everything import chains
from tests.support import generators as make


def in_one(boxes, reach=0.0):
    return np.zeros(len(boxes), np.int64)


class Clusters(unittest.TestCase):
    def test_boxes_of_two_clusters_are_apart(self):
        rng = np.random.default_rng(1)
        for n, size in ((1, 5), (40, 9), (300, 2), (300, 0.1)):
            low = rng.uniform(0, 100, (n, 2))
            boxes = np.concatenate([low, low + rng.uniform(0, size, (n, 2))], axis=1)
            boxes[rng.random(n) < 0.05] = np.nan
            for reach in (0.0, 1.5):
                found = clusters_of(boxes, reach)
                self.assertEqual(sorted(set(found.tolist())), list(range(found.max() + 1)))
                gap = np.maximum(boxes[:, None, :2] - boxes[None, :, 2:], 0)
                is_near = (np.maximum(gap, gap.transpose(1, 0, 2)) <= reach).all(axis=2)
                is_one = found[:, None] == found
                self.assertFalse((is_near & ~is_one).any())
                # And no more than that: each is near another of its cluster, if it has any.
                several = is_one.sum(axis=1) > 1
                is_near[np.arange(n), np.arange(n)] = False
                self.assertTrue((is_near & is_one).any(axis=1)[several].all())

    def test_one_far_off_changes_nothing(self):
        """All the others are in one cell then."""
        rng = np.random.default_rng(7)
        low = rng.uniform(0, 100, (3000, 2))
        boxes = np.concatenate([low, low + rng.uniform(0, 1.5, (3000, 2))], axis=1)
        found = clusters_of(boxes)
        self.assertGreater(found.max(), 900)
        with_one = clusters_of(np.concatenate([boxes, np.full((1, 4), 1e9)]))
        np.testing.assert_array_equal(with_one, [*found, found.max() + 1])

    def test_where_boxes_crowd_all_are_one(self):
        boxes = np.tile([0.0, 0.0, 1.0, 1.0], (2000, 1))
        self.assertEqual(clusters_of(boxes).max(), 0)
        self.assertEqual(len(clusters_of(np.zeros((0, 4)))), 0)
        self.assertEqual(clusters_of(np.tile([3.0, 3.0, 3.0, 3.0], (2, 1))).tolist(), [0, 0])

    def test_pairs_are_all_that_meet_and_all_that_hold_each_other(self):
        """Of one group, where they only touch too, one far off, one with no number."""
        rng = np.random.default_rng(5)
        for n, size, far in ((0, 1, 0), (1, 1, 0), (200, 4, 0), (200, 30, 1e12), (700, 60, 0)):
            low = rng.integers(0, 100, (n, 2)).astype(float)
            boxes = np.concatenate([low, low + rng.integers(0, size + 1, (n, 2))], axis=1)
            boxes[5:6] += far
            boxes[7:8, 2] = np.nan
            group = rng.integers(0, 3, n)
            is_one = (group[:, None] == group) & ~np.eye(n, dtype=bool)
            meets = (boxes[:, None, :2] <= boxes[None, :, 2:]).all(axis=2)
            meets &= meets.T & is_one
            found = clusters.pairs_of_boxes(boxes, group)
            pairs = sorted(tuple(sorted(p)) for p in np.stack(found, axis=1).tolist())
            self.assertEqual(pairs, [(a, b) for a, b in np.argwhere(meets).tolist() if a < b])
            none = clusters.pairs_of_boxes(boxes, group, most=len(pairs) - 1)
            self.assertEqual(none is None, len(pairs) > 0)
            self.assertEqual(
                len(clusters.pairs_of_boxes(boxes, group, most=len(pairs))[0]), len(pairs)
            )
            holds = (boxes[:, None, :2] >= boxes[None, :, :2]).all(axis=2)
            holds &= (boxes[:, None, 2:] <= boxes[None, :, 2:]).all(axis=2) & is_one
            holds &= np.isfinite(boxes).all(axis=1)[:, None]
            within = np.stack(clusters.pairs_of_boxes(boxes, group, holds=True), axis=1)
            self.assertEqual(sorted(within.tolist()), np.argwhere(holds).tolist())

    def test_rings_in_others_are_among_those_that_may_be(self):
        rng = np.random.default_rng(8)
        angle = rng.uniform(0, 2 * np.pi, 150)
        way = np.stack([np.cos(angle), np.sin(angle)], axis=1) * rng.uniform(5, 30, (150, 1))
        middle = rng.uniform(0, 60, (150, 2))
        # Needles, and within half of them one that is smaller.
        corners = np.stack(
            [middle - way, middle + way[:, ::-1] * (-0.03, 0.03), middle + way], axis=1
        )
        inner = corners[:75].mean(axis=1, keepdims=True)
        rings = np.concatenate([corners, inner + 0.3 * (corners[:75] - inner)])
        xy, offsets = rings.reshape(-1, 2), np.arange(len(rings) + 1) * 3
        one = np.zeros(len(rings), np.int64)
        found = {(a, b) for a, b in np.stack(clusters.rings_within(xy, offsets, one)).T.tolist()}
        self.assertLessEqual({(150 + k, k) for k in range(75)}, found)
        boxes = bounds_of_groups(xy, offsets)
        upright = clusters.pairs_of_boxes(boxes, one, holds=True)
        self.assertLess(len(found), 0.7 * len(upright[0]))


class Melted(unittest.TestCase):
    def test_is_what_all_at_once_gives(self):
        """Bit for bit, rows and parts in the same order, whatever is worked on at a time."""
        rng = np.random.default_rng(2)
        column = chains(rng, 400)
        for spread, kinds in ((1.0, 1), (6.0, 1), (6.0, 3), (40.0, 3)):
            moved = column.with_xy(
                column.xy + spread * np.repeat(rng.uniform(0, 100, (400, 2)), 6, 0)
            )
            table = pa.table({"kind": rng.integers(0, kinds, 400)})
            layer = Layer("paths", moved, table, None)

            def melted(layer=layer):
                return buffer(layer, 2.0, by=["kind"], precision=1e-3).layer.geometry

            with mock.patch.object(melting, "clusters_of", in_one):
                whole = melted()
            with mock.patch.object(melting, "MOST_VERTICES", 700):
                for found in (melted(), *(mock.patch.object(clusters, "MOST_LINKS", 1)(melted)(),)):
                    for name in ("xy", "ring_offsets", "part_offsets", "row_offsets"):
                        np.testing.assert_array_equal(getattr(found, name), getattr(whole, name))


class LargeRows(unittest.TestCase):
    def test_are_sound_if_all_their_clusters_are(self):
        """A fault of one part, or of two that meet, is one of the row, and of no other."""
        rng = np.random.default_rng(3)
        squares = [make.square(20 * (k % 20), 20 * (k // 20), 9) for k in range(200)]
        tangle = make.tangle(rng, 9, 9, 1.0) + 500
        rows = [
            [[one] for one in squares],
            [*([one] for one in squares), [tangle]],
            [*([one] for one in squares), [squares[50] + 0.5]],
            [[squares[0]]],
        ]
        column = make.polygons(rows)
        wrong = _problems_of_all(column).row
        self.assertEqual(sorted(set(wrong.tolist())), [1, 2])
        with mock.patch.object(sound, "FEW_PARTS", 1):
            self.assertEqual(sound.plainly_sound(column).tolist(), [True, False, False, True])
            asked = np.array([False, False, True, True])
            self.assertEqual(sound.plainly_sound(column, asked).tolist(), [True, True, False, True])

    def test_problems_are_those_of_all_parts(self):
        """Whatever clusters there are, the same problems at the same places."""
        rng = np.random.default_rng(6)
        rows = []
        for _ in range(40):
            parts = [[make.star(rng, 7, 4, rng.uniform(0, 40, 2)).round(1)] for _ in range(9)]
            parts += [[make.tangle(rng, 6, 6, 1.0) + rng.uniform(0, 40, 2).round()]]
            parts += [
                [make.square(60, 0, 9), make.square(61, 1, 2)[::-1], make.square(63, 3, 2)[::-1]]
            ]
            rows.append(parts)
        column = make.polygons(rows)
        for asked in (None, rng.random(40) < 0.5):
            found = problems_of(column, asked)
            kept = np.ones(40, bool) if asked is None else asked
            wanted = _problems_of_all(column.take(np.flatnonzero(kept)))
            np.testing.assert_array_equal(found.row, np.flatnonzero(kept)[wanted.row])
            np.testing.assert_array_equal(found.kind, wanted.kind)
            np.testing.assert_array_equal(found.xy, wanted.xy)
        self.assertGreater(len(found.row), 15)

    def test_what_touches_nowhere_is_found(self):
        """Islands in lakes, and a row of a hundred islands, need no second look."""
        box = make.square
        nested = [[box(0, 0, 100), box(10, 10, 80)[::-1]], [box(20, 20, 60), box(30, 30, 40)[::-1]]]
        rows = [nested, nested[::-1], [[box(3 * k, 5 * (k % 7), 2)] for k in range(100)]]
        wrong = [
            [[box(0, 0, 9)[::-1]]],  # turned
            [[box(0, 0, 9), box(20, 0, 2)[::-1]]],  # a hole outside
            [[box(0, 0, 9), box(1, 1, 5)[::-1], box(2, 2, 2)[::-1]]],  # in a hole
            [[box(0, 0, 9)], [box(2, 2, 2)]],  # a part in another
            [[box(0, 0, 9)], [box(20, 0, 9), box(2, 2, 2)[::-1]]],  # a hole of another's
        ]
        wrong += [[[]], [[], [box(0, 0, 9)]]]  # without rings
        lakes = [box(10 * k, 10 * j, 5)[::-1] for k in range(20) for j in range(20)]
        sea = [[box(-5, -5, 300), *lakes]]
        rows.append([*sea, *([box(10 * k + 1, 1, 2)] for k in range(20))])
        wrong += [[[box(-5, -5, 300), *lakes, box(31, 41, 2)[::-1]]], [*sea, [box(36, 36, 2)]]]
        column = make.polygons([*rows, *wrong])
        with mock.patch.object(sound.kernels.sound, "find_sound", lambda *_: None):
            self.assertEqual(
                sound.plainly_sound(column).tolist(),
                [True] * 4 + [False] * 5 + [True] + [False] * 3,
            )


if __name__ == "__main__":
    unittest.main()
