"""Validity of polygons on doubles, against the independent checker in fractions."""

from __future__ import annotations

import unittest

import numpy as np

from polygene.plane.problems import Problem
from polygene.plane.validity import invalid_rows, problems_of
from tests.support import exact
from tests.support import generators as make
from tests.support.chance import many

C = make.closed


def ring(rng):
    kind = rng.integers(6)
    if kind < 2:
        x, y, w, h = *rng.integers(0, 6, 2), *rng.integers(1, 5, 2)
        found = C(np.array([(x, y), (x + w, y), (x + w, y + h), (x, y + h)], float))
    elif kind == 2:
        found = make.star(rng, 6, 3, rng.uniform(1, 5, 2))
    else:
        found = C(rng.integers(0, 6, (rng.integers(3, 7), 2)).astype(float))
    found = found[::-1] if rng.random() < 0.3 else found
    return np.concatenate([found[:2], found[1:]]) if rng.random() < 0.1 else found


def anything(rng, n):
    """Squares, triangles, stars and tangles as rings, holes and parts of each other."""
    return [
        [
            [make.square(0, 0, 7) if rng.random() < 0.5 else ring(rng)]
            + [ring(rng) for _ in range(rng.integers(0, 3))]
            for _ in range(rng.integers(1, 3))
        ]
        for _ in range(n)
    ]


def turned_right(points, is_outer):
    """Without repeats and turned as the standard has it: harmless, and the checker minds both."""
    kept = [tuple(p) for k, p in enumerate(points) if k == 0 or tuple(p) != tuple(points[k - 1])]
    area = exact.twice_area(exact.points_of(kept))
    return kept if (area > 0) == is_outer else kept[::-1]


def reference(parts):
    faults = exact.faults([[turned_right(r, k == 0) for k, r in enumerate(p)] for p in parts])
    return [f for f in faults if "turned" not in f]


class Validity(unittest.TestCase):
    def test_no_false_alarm_and_no_miss(self):
        rng = np.random.default_rng(11)
        rows = anything(rng, many(1500, 700))
        found = invalid_rows(make.polygons(rows))
        n_valid = 0
        for row, mine in zip(rows, found, strict=True):
            theirs = reference(row)
            n_valid += not theirs
            self.assertEqual(bool(theirs), bool(mine), (theirs, row))
        self.assertGreater(n_valid, many(200, 90))

    def test_it_is_exact_far_out_and_close_by(self):
        for shift, size in ((0, 1e-9), (1e7, 1), (-1e12, 1e3)):
            near = np.array([(0, 0), (4, 0), (4, 4), (2, 1e-15), (0, 4)]) * size
            self.assertFalse(invalid_rows(make.polygons([[[C(near)]]]))[0])
            apart = np.array([(0, 0), (4, 0), (4, 4), (2, 0), (0, 4)], float) * size + shift
            self.assertTrue(invalid_rows(make.polygons([[[C(apart)]]]))[0])
        # A vertex beside a slanting edge by the last digit of a double.
        on = np.array([(0, 0), (0.3, 0.1), (0.3, 1), (0.15, 0.05), (0, 1)])
        off = on.copy()
        off[3, 1] = np.nextafter(0.05, 1)
        exactly = exact.on_segment(*exact.points_of([on[3], on[0], on[1]]))
        self.assertEqual(invalid_rows(make.polygons([[[C(on)]]]))[0], exactly or on[3, 1] < 0.05)
        self.assertFalse(invalid_rows(make.polygons([[[C(off)]]]))[0])

    def test_a_fan_of_parts_that_meet_in_one_point(self):
        """Wherever rings begin, and whether they touch there, along an edge or not at all."""
        angle = np.arange(0, 240) * np.pi / 120
        ends = np.round(1e6 * np.stack([np.cos(angle), np.sin(angle)], axis=1))
        wedges = [C(np.array([(0, 0), ends[k], ends[k + 1]])) for k in range(0, 240, 2)]
        turned = [np.roll(w[:-1], k, axis=0) for k, w in enumerate(wedges)]
        fan = [[C(ring)] for ring in turned]
        beside = [*fan[:7], [C(np.array([(0, 0), ends[13], ends[14]]))], *fan[8:]]
        across = [*fan, [C(np.array([(0, 0), ends[20], ends[23]]))]]
        within = [*fan, [C(np.array([(0, 0), ends[20] / 2, ends[21] / 2]))]]
        hole = [[make.square(-2e6, -2e6, 4e6), *(ring[0][::-1] for ring in fan)]]
        found = problems_of(make.polygons([fan, beside, across, within, hole]))
        told = {(row, kind) for row, kind in zip(found.row.tolist(), found.kind, strict=True)}
        expected = {(row, Problem.PARTS_SHARE) for row in (1, 2, 3)} | {(2, Problem.PARTS_CROSS)}
        self.assertEqual(told, expected)
        thin = [*fan, [C(np.array([(0, 0), ends[20] + [-9, 5], ends[21]]))]]
        self.assertEqual(invalid_rows(make.polygons([fan, thin])).tolist(), [False, True])

    def test_each_kind_with_its_place(self):
        bow = C(np.array([(0, 0), (2, 2), (2, 0), (0, 2)], float))
        spike = C(np.array([(0, 0), (2, 0), (2, 2), (2, 5), (2, 2), (0, 2)], float))
        pinch = C(np.array([(0, 0), (2, 1), (4, 0), (4, 2), (2, 1), (0, 2)], float))
        hole = make.square(1, 1, 1)[::-1]
        big = make.square(0, 0, 4)
        cut = [big, C(np.array([(0, 2), (2, 3), (4, 2), (2, 1)], float))]
        bad = big.copy()
        bad[2] = np.nan
        for rows, kind, place in [
            ([[bow]], Problem.RING_CROSSES, (1, 1)),
            ([[spike]], Problem.RING_ALONG_ITSELF, (2, 5)),
            ([[pinch]], Problem.RING_TOUCHES, (2, 1)),
            ([[big, make.square(3, 1, 2)[::-1]]], Problem.RINGS_CROSS, None),
            ([[big, make.square(0, 1, 1)[::-1]]], Problem.RINGS_SHARE, None),
            ([[big, make.square(6, 6, 1)[::-1]]], Problem.HOLE_OUTSIDE, (6, 6)),
            ([[make.square(0, 0, 9), make.square(1, 1, 5)[::-1], make.square(2, 2, 1)[::-1]]],
             Problem.HOLE_IN_HOLE, None),
            ([[big], [make.square(2, 2, 4)]], Problem.PARTS_CROSS, None),
            ([[big], [make.square(4, 0, 4)]], Problem.PARTS_SHARE, None),
            ([[big], [make.square(1, 1, 1)]], Problem.PARTS_OVERLAP, None),
            ([cut], Problem.CUT_APART, None),
            ([[big[:4]]], Problem.NOT_CLOSED, (0, 0)),
            ([[big[[0, 1, 0]]]], Problem.TOO_FEW_POINTS, (0, 0)),
            ([[bad]], Problem.NOT_FINITE, None),
            ([[big[::-1]]], Problem.WRONG_DIRECTION, None),
            ([[np.concatenate([big[:2], big[1:]])]], Problem.REPEATED_VERTEX, (4, 0)),
        ]:  # fmt: skip
            with self.subTest(kind=kind):
                found = problems_of(make.polygons([rows]))
                self.assertEqual(found.kind.tolist(), [kind])
                if place is not None:
                    np.testing.assert_allclose(found.xy[0], place)
        many = [[[ring + (10 * k, 0) for ring in cut]] for k in range(3)]
        found = problems_of(make.polygons(many))
        self.assertEqual(found.row.tolist(), [0, 1, 2])
        np.testing.assert_array_equal(found.xy - found.xy[0], [(10 * k, 0) for k in range(3)])
        for rows in (
            [[big, hole]],
            [[big], [make.square(4, 4, 2)]],
            [[big, C(np.array([(0, 2), (1, 3), (1, 1)], float))]],  # a hole that touches in a point
            [[make.square(0, 0, 9), make.square(1, 1, 7)[::-1]], [make.square(2, 2, 1)]],
        ):
            self.assertEqual(len(problems_of(make.polygons([rows])).row), 0, rows)


if __name__ == "__main__":
    unittest.main()
