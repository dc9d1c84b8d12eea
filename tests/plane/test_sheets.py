"""Rows that lie over each other very deep, dealt out: what they are to each other stays."""

import unittest
from unittest import mock

import numpy as np

import polygene
from polygene.geometry import Family, GeometryColumn, concatenate
from polygene.measures import ring_areas
from polygene.ops import joining
from polygene.ops.overlays import laying, shallow, sheeted
from polygene.plane import sheets
from polygene.plane.buffering import left_over
from polygene.plane.grid import Grid
from polygene.plane.relating import relate
from polygene.plane.validity import invalid_rows
from tests.support import generators as make
from tests.support.chance import some_of

GRID = Grid.over([(-1000.0, -1000.0, 1000.0, 1000.0)], 1e-8)


def pile(rng: np.random.Generator, n: int, family: Family) -> GeometryColumn:
    """Return rows over each other, some equal, some with whole corners, so that they touch."""
    angle = np.linspace(0, 2 * np.pi, 9)[:-1]
    rows = []
    for _ in range(n):
        ring = rng.uniform(5, 60) * np.stack([np.cos(angle), np.sin(angle)], axis=1)
        ring = ring + rng.uniform(-40, 40, 2)
        if rng.random() < 0.5:
            x, y = rng.integers(-4, 4, 2) * 20.0
            side = 20.0 * rng.integers(1, 4)
            ring = np.array([(x, y), (x + side, y), (x + side, y + side), (x, y + side)])
        rows.append([[np.concatenate([ring, ring[:1]])]])
        if family == Family.LINES:
            rows[-1] = [[ring[: int(rng.integers(2, len(ring) + 1))]]]
    rows += [rows[int(k)] for k in rng.integers(0, n, 3)]
    return GeometryColumn.from_rings(rows, family)


def overlays(own, a, b):
    """Return those that are done sheet by sheet, on a fine grid, each to be called."""
    return (
        lambda: polygene.clip(own, a, precision=1e-8),
        lambda: polygene.erase(own, a, precision=1e-8),
        lambda: polygene.clip(own, a, whole=True, precision=1e-8),
        lambda: polygene.intersect(own, a, b, precision=1e-8),
        lambda: polygene.intersect(own, a, precision=1e-8),
        lambda: polygene.intersect(b, a, precision=1e-8),
        lambda: polygene.imprint(own, a, precision=1e-8),
    )


class Sheets(unittest.TestCase):
    def test_relations_are_the_same(self):
        for seed in some_of(range(24)):
            rng = np.random.default_rng(seed)
            families = rng.choice([Family.POLYGONS, Family.LINES], 2)
            first, second = (pile(rng, int(rng.integers(2, 40)), Family(f)) for f in families)
            with mock.patch.object(sheets, "DEEP", 10**9):
                wanted = relate(first, second, GRID)
            with mock.patch.multiple(sheets, DEEP=1, THIN=1):
                self.assertGreater(sheets.sheets_of(pile(rng, 40, Family.POLYGONS)).max(), 0)
                found = relate(first, second, GRID)
            for name in ("first", "second", "matrix"):
                np.testing.assert_array_equal(
                    getattr(found, name), getattr(wanted, name), str(seed)
                )
            np.testing.assert_allclose(found.shared, wanted.shared, rtol=1e-7)

    def test_nothing_meets_what_is_deep(self):
        deep = pile(np.random.default_rng(5), 90, Family.POLYGONS)
        self.assertGreater(sheets.sheets_of(deep).max(), 0)
        for nothing in (make.polygons([]), make.polygons([[], []]), make.lines([])):
            self.assertEqual(len(relate(deep, nothing, GRID).first), 0)
            self.assertEqual(len(relate(nothing, deep, GRID).first), 0)

    def test_overlays_are_the_same(self):
        """Of polygons and lines by few features: rows, bytes and what is told."""
        # In the last borders of OTHER overlap in one line, and others of INPUT end there.
        for seed in (*some_of(range(16)), 142):
            rng = np.random.default_rng(seed)
            family = Family(rng.choice([Family.POLYGONS, Family.LINES]))
            own = make.layer("own", pile(rng, int(rng.integers(5, 40)), family))
            n_dealt = 0
            own = own.take(rng.permutation(own.n_rows))
            others = [make.layer(n, pile(rng, 4, Family.POLYGONS)) for n in "ab"]
            for work in overlays(own, *others):
                wanted = work()
                with (
                    mock.patch.multiple(sheeted, DEEP=1, THIN=1),
                    mock.patch.object(
                        laying, "made_in_sheets", side_effect=sheeted.made_in_sheets
                    ) as dealt,
                ):
                    found = work()
                n_dealt += dealt.called
                self.assertEqual(found.layer.table, wanted.layer.table)
                a, b = found.layer.geometry, wanted.layer.geometry
                np.testing.assert_array_equal(a.xy, b.xy, str(seed))
                np.testing.assert_array_equal(a.row_offsets, b.row_offsets)
                for name in ("out", "both", "input_only", "whole", "cut", "dropped", "proved",
                             "without_geometry", "others", "input", "notes"):  # fmt: skip
                    self.assertEqual(getattr(found.summary, name), getattr(wanted.summary, name))
                if wanted.summary.balance:
                    for name in ("before", "inside", "outside"):
                        x, y = (getattr(r.summary.balance, name) for r in (found, wanted))
                        self.assertAlmostEqual(x, y, delta=1e-6 * (1 + abs(y)))
            if family == Family.POLYGONS:
                self.assertGreater(n_dealt, 2, seed)

    def test_others_are_joined_first(self):
        """What only has to be covered or not: the same is cut off, and the same is told of OTHER."""
        for seed in some_of(range(12)):
            rng = np.random.default_rng(seed)
            family = Family(rng.choice([Family.POLYGONS, Family.LINES]))
            own = make.layer("own", pile(rng, 6, family))
            other = make.layer("over", pile(rng, int(rng.integers(10, 60)), Family.POLYGONS))
            for work in overlays(own, other, other)[:3]:
                wanted = work()
                with (
                    mock.patch.object(joining, "JOINED", (1, 1)),
                    mock.patch.object(shallow, "JOINED", (1, 1)),
                    mock.patch.object(
                        joining, "joined_areas", side_effect=joining.joined_areas
                    ) as joins,
                ):
                    found = work()
                self.assertTrue(joins.called)
                self.assertEqual(found.layer.table, wanted.layer.table)
                self.assertEqual(found.summary.others, wanted.summary.others)
                self.assertEqual(found.summary.input, wanted.summary.input)
                a, b = found.summary.balance, wanted.summary.balance
                if a and b:
                    self.assertAlmostEqual(a.inside, b.inside, delta=1e-5)
                    self.assertAlmostEqual(a.outside, b.outside, delta=1e-5)
                for x, y in ((found, wanted), (wanted, found)):
                    if family == Family.POLYGONS:
                        rest = left_over(x.layer.geometry, y.layer.geometry, GRID)
                        self.assertLess(np.abs(ring_areas(rest.xy, rest.ring_offsets)).sum(), 1e-4)

    def test_dissolves_are_the_same(self):
        for seed in some_of(range(16)):
            rng = np.random.default_rng(seed)
            n = int(rng.integers(10, 60))
            layer = make.layer("own", pile(rng, n, Family.POLYGONS), k=rng.integers(0, 4, n + 3))
            for by in ((), ["k"]):
                wanted = polygene.dissolve(layer, by, precision=1e-8)
                few = int(rng.integers(2, 9))
                with mock.patch.multiple(joining, JOINED=(1, 1), FEW=few):
                    found = polygene.dissolve(layer, by, precision=1e-8)
                self.assertEqual(found.layer.table, wanted.layer.table)
                a, b = found.layer.geometry, wanted.layer.geometry
                # As areas: a vertex that others have on a straight border may be there or not.
                self.assertFalse(invalid_rows(a).any())
                for large, small in ((a, b), (b, a)):
                    rest = left_over(large, small, GRID)
                    sizes = np.abs(ring_areas(rest.xy, rest.ring_offsets))
                    self.assertLess(sizes.sum(), 1e-4, seed)
                for name in ("area", "overlap", "out", "proved", "input", "without_geometry"):
                    x, y = getattr(found.summary, name), getattr(wanted.summary, name)
                    if isinstance(x, float):
                        self.assertAlmostEqual(x, y, delta=1e-6 * (1 + abs(y)))
                    else:
                        self.assertEqual(x, y)

    def test_side_by_side_is_not_deep(self):
        """Strips, across or aslant, share a place and not the ground; rows over each other do."""
        turn = np.array([[3.0, 2.0], [-2.0, 3.0]])
        strips = [make.square(0, 0, 1) * [5000, 1] + [0, k] for k in range(400)]
        for name, rings in (("across", strips), ("aslant", [ring @ turn for ring in strips])):
            column = make.polygons([[[ring]] for ring in rings])
            self.assertFalse(sheets.sheets_of(column).any(), name)
        over = make.polygons([[[make.square(k % 20, k // 20, 100)]] for k in range(400)])
        self.assertGreater(len(np.unique(sheets.sheets_of(over))), 8)
        # Few of many rows, and only these.
        apart = make.polygons([[[make.square(1000 + 200 * k, 0, 100)]] for k in range(2000)])
        dealt = sheets.sheets_of(concatenate([apart, over]))
        self.assertFalse(dealt[:2000].any())
        self.assertGreater(len(np.unique(dealt[2000:])), 8)

    def test_equal_rows_lie_in_one(self):
        column = pile(np.random.default_rng(3), 100, Family.POLYGONS)
        dealt = sheets.sheets_of(column)
        np.testing.assert_array_equal(
            dealt[::-1], sheets.sheets_of(column.take(np.arange(103)[::-1]))
        )
        bits = [column.take(np.array([k])).xy.tobytes() for k in range(103)]
        for k in range(100, 103):
            self.assertEqual(dealt[k], dealt[bits.index(bits[k])])


if __name__ == "__main__":
    unittest.main()
