"""Lines with lines, points with points: on a lattice, where the answer can be counted out."""

from __future__ import annotations

import unittest
from fractions import Fraction

import numpy as np

import polygene
from polygene.errors import DataError
from polygene.measures import row_lengths
from tests.support import generators as make

STEPS = np.array([(1, 0), (0, 1), (1, 1), (1, -1), (-1, 0), (0, -1), (-1, -1), (-1, 1)])


def walk(rng):
    """A line along edges and diagonals of the lattice: runs along others, back on itself, crosses."""
    way = STEPS[rng.integers(0, 8, rng.integers(1, 8))] * rng.integers(1, 3)
    return np.cumsum([rng.integers(2, 6, 2), *way], axis=0).astype(float)


def units(line):
    """Its pieces of one lattice step, each from its smaller end."""
    found = set()
    for a, b in zip(line[:-1], line[1:], strict=True):
        n = int(abs(b - a).max())
        places = [tuple(a + (b - a) * k / n) for k in range(n + 1)]
        found |= {(min(p, q), max(p, q)) for p, q in zip(places[:-1], places[1:], strict=True)}
    return found


def length(pieces):
    return sum(float(np.hypot(b[0] - a[0], b[1] - a[1])) for a, b in pieces)


def crossing(one, other):
    """The point in which two lattice steps meet, if they are not along each other."""
    (ax, ay), (bx, by), (cx, cy), (dx, dy) = *one, *other
    size = (bx - ax) * (dy - cy) - (by - ay) * (dx - cx)
    if size == 0:
        return set(one) & set(other)
    t = Fraction((cx - ax) * (dy - cy) - (cy - ay) * (dx - cx)) / Fraction(size)
    s = Fraction((cx - ax) * (by - ay) - (cy - ay) * (bx - ax)) / Fraction(size)
    inside = 0 <= t <= 1 and 0 <= s <= 1
    return (
        {(float(ax + t * Fraction(bx - ax)), float(ay + t * Fraction(by - ay)))}
        if inside
        else set()
    )


class Lattice(unittest.TestCase):
    def pairs(self, n=40):
        for seed in range(n):
            with self.subTest(seed=seed):
                rng = np.random.default_rng(seed)
                a, b = [walk(rng) for _ in range(3)], [walk(rng) for _ in range(3)]
                yield (
                    make.layer("a", make.lines([[p] for p in a]), a=np.arange(3)),
                    make.layer("b", make.lines([[p] for p in b]), b=np.arange(3)),
                    [units(p) for p in a],
                    [units(p) for p in b],
                )

    def test_erase_and_intersect_by_lines(self):
        for a, b, mine, theirs in self.pairs():
            rest = polygene.erase(a, b)
            shared = polygene.intersect(a, b)
            found = dict.fromkeys(range(3), 0.0)
            found |= zip(
                rest.layer.table["a"].to_pylist(), row_lengths(rest.layer.geometry), strict=True
            )
            both = dict(zip(
                zip(*(shared.layer.table[k].to_pylist() for k in "ab"), strict=True),
                row_lengths(shared.layer.geometry), strict=True,
            ))  # fmt: skip
            for i in range(3):
                # A line that runs twice over a place has it twice.
                twice = row_lengths(a.geometry)[i] > length(mine[i]) + 1e-9
                if not twice:
                    self.assertAlmostEqual(found[i], length(mine[i] - set().union(*theirs)))
                    for j in range(3):
                        self.assertAlmostEqual(both.get((i, j), 0), length(mine[i] & theirs[j]))
            self.assertLess(abs(rest.summary.balance.difference), 1e-9)

    def test_crossings(self):
        for a, b, mine, theirs in self.pairs():
            result = polygene.crossings(a, b).layer
            column, offsets = result.geometry, result.geometry.vertex_offsets_of_rows
            found = {
                pair: {tuple(p) for p in column.xy[offsets[k] : offsets[k + 1]].tolist()}
                for k, pair in enumerate(
                    zip(*(result.table[k].to_pylist() for k in "ab"), strict=True)
                )
            }
            for i, j in np.ndindex(3, 3):
                shared = mine[i] & theirs[j]
                along = {
                    p for one, two in shared for p in (one, two, tuple((np.array(one) + two) / 2))
                }
                wanted = {p for u in mine[i] for v in theirs[j] for p in crossing(u, v)} - along
                self.assertEqual(found.get((i, j), set()), wanted)

    def test_points_with_points(self):
        rng = np.random.default_rng(5)
        xy = {n: rng.integers(0, 6, (k, 2)).astype(float) for n, k in (("a", 50), ("b", 12))}
        a, b = (make.layer(n, make.points([[p] for p in v])) for n, v in xy.items())
        places = set(map(tuple, xy["b"].tolist()))
        kept = [p for p in xy["a"].tolist() if tuple(p) not in places]
        self.assertCountEqual(polygene.erase(a, b).layer.geometry.xy.tolist(), kept)
        n_pairs = int((xy["a"][:, None] == xy["b"]).all(axis=2).sum())
        self.assertEqual(polygene.intersect(a, b).layer.n_rows, n_pairs)

    def test_what_has_no_meaning_is_refused(self):
        line = make.layer("line", make.lines([[np.array([(0, 0), (1, 1.0)])]]))
        area = make.layer("area", make.polygons([[[make.square(0, 0, 1)]]]))
        for work in (
            lambda: polygene.clip(line, line),
            lambda: polygene.erase(area, line),
            lambda: polygene.imprint(area, line),
            lambda: polygene.intersect(line, area, line),
            lambda: polygene.crossings(line, area),
        ):
            with self.assertRaisesRegex(DataError, r"lines|alike"):
                work()


if __name__ == "__main__":
    unittest.main()
