"""What can be wrong with polygons, and where it is in which rows."""

from __future__ import annotations

import enum

import numpy as np

from polygene.arrays import F64Array, I64Array
from polygene.classes import NamedTuple

LARGEST = 1e150  # products of larger ones are not finite


class Problem(enum.IntEnum):
    """What can be wrong with a polygon; the value orders them."""

    NOT_FINITE = 1
    TOO_FEW_POINTS = 2
    NOT_CLOSED = 3
    RING_CROSSES = 4
    RING_ALONG_ITSELF = 5
    RING_TOUCHES = 6
    RINGS_CROSS = 7
    RINGS_SHARE = 8
    PARTS_CROSS = 9
    PARTS_SHARE = 10
    HOLE_OUTSIDE = 11
    HOLE_IN_HOLE = 12
    PARTS_OVERLAP = 13
    CUT_APART = 14
    WRONG_DIRECTION = 15
    REPEATED_VERTEX = 16

    @property
    def words(self) -> str:
        return _WORDS[self]

    @property
    def is_fault(self) -> bool:
        """Whether the standard calls such a polygon invalid; direction and repeats do no harm."""
        return self < Problem.WRONG_DIRECTION


_WORDS = {
    Problem.NOT_FINITE: "a coordinate is not a finite number that can be computed with",
    Problem.TOO_FEW_POINTS: "a ring has fewer than three different points in a row",
    Problem.NOT_CLOSED: "a ring does not end where it begins",
    Problem.RING_CROSSES: "a ring crosses itself",
    Problem.RING_ALONG_ITSELF: "a ring runs along itself, as a spike does",
    Problem.RING_TOUCHES: "a ring touches itself",
    Problem.RINGS_CROSS: "a hole crosses its outer ring or another hole",
    Problem.RINGS_SHARE: "a hole runs along its outer ring or another hole",
    Problem.PARTS_CROSS: "two parts cross",
    Problem.PARTS_SHARE: "two parts run along each other",
    Problem.HOLE_OUTSIDE: "a hole lies outside its outer ring",
    Problem.HOLE_IN_HOLE: "a hole lies in another hole",
    Problem.PARTS_OVERLAP: "a part lies inside another",
    Problem.CUT_APART: "holes that touch cut the inside apart",
    Problem.WRONG_DIRECTION: "a ring is drawn the other way round than the standard has it",
    Problem.REPEATED_VERTEX: "a vertex is there twice in a row",
}


class Problems(NamedTuple):
    """One entry for each kind of problem of a row, at one of its places.

    row, kind : (n,) int64; xy : (n, 2)
    """

    row: I64Array
    kind: I64Array
    xy: F64Array


class Found:
    """Collects problems."""

    def __init__(self) -> None:
        self.rows: list[I64Array] = []
        self.kinds: list[I64Array] = []
        self.places: list[F64Array] = []

    def add(self, kind: Problem, rows: I64Array, xy: F64Array) -> None:
        if len(rows):
            self.rows.append(np.asarray(rows, np.int64))
            self.kinds.append(np.full(len(rows), int(kind)))
            self.places.append(np.asarray(xy, np.float64).reshape(-1, 2))

    def sorted(self) -> Problems:
        if not self.rows:
            nothing = np.zeros(0, np.int64)
            return Problems(nothing, nothing, np.zeros((0, 2)))
        row, kind = np.concatenate(self.rows), np.concatenate(self.kinds)
        xy = np.concatenate(self.places)
        # A problem is told once a row, at the first place by x, then y: whatever it was found with.
        order = np.lexsort((xy[:, 1], xy[:, 0], kind, row))
        row, kind, xy = row[order], kind[order], xy[order]
        is_first = np.ones(len(row), bool)
        is_first[1:] = (row[1:] != row[:-1]) | (kind[1:] != kind[:-1])
        return Problems(row[is_first], kind[is_first], xy[is_first])
