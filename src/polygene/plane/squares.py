"""Where boxes lie, by squares about as large as they are: those of one square lie over each other."""

from __future__ import annotations

import numpy as np

from polygene.arrays import F64Array, I64Array, offsets_from
from polygene.classes import NamedTuple

# How many times boxes of one size cover the place of so many, if their middles lie within one of them:
# if they lie over each other, and not side by side as strips do.
COVERS = 0.125
WITHIN = 2.0**20  # steps across a square, for an order in it


class Squares(NamedTuple):
    """The square of each box, of all that have such sides the one that its middle lies in.

    Sides are powers of two, so boxes about as large share squares whatever else there is.

    exponent : (n,) of the side
    place : (n, 2) whole numbers, the column and the line
    within : (n, 2) steps from the square's corner to the middle of the box
    """

    exponent: I64Array
    place: F64Array
    within: I64Array

    def take(self, some: I64Array) -> Squares:
        return Squares(self.exponent[some], self.place[some], self.within[some])

    def grouped(self, group: I64Array) -> tuple[I64Array, I64Array]:
        """Return the order (n,) by group, then square, and how many there are of each, in order."""
        keys = (*self.place.T[::-1], self.exponent, group)
        order = np.lexsort(keys)
        begins = np.ones(len(order), bool)
        begins[1:] = np.any([np.diff(key[order]) != 0 for key in keys], axis=0)
        return order, np.diff(np.append(np.flatnonzero(begins), len(order)))


def squares_of(boxes: F64Array) -> Squares:
    """Return the squares of boxes (n, 4), which are finite."""
    low, high = boxes[:, :2], boxes[:, 2:]
    size = (high - low).max(axis=1, initial=0.0)
    exponent = np.frexp(size)[1].astype(np.int64)
    side = np.ldexp(1.0, exponent)[:, None]
    middle = 0.5 * low + 0.5 * high
    place = np.floor(middle / side)
    within = np.floor((middle / side - place) * WITHIN).astype(np.int64)
    return Squares(exponent, place, within)


def times_covered(areas: F64Array, boxes: F64Array, sizes: I64Array) -> F64Array:
    """Return how many times what is in each square covers the box about all of it, on average.

    ``areas`` (n,) and ``boxes`` (n, 4) come by square; ``sizes`` (n_squares,) are how many each has.
    """
    starts = offsets_from(sizes)[:-1]
    low = np.minimum.reduceat(boxes[:, :2], starts, axis=0)
    high = np.maximum.reduceat(boxes[:, 2:], starts, axis=0)
    size = np.maximum((high - low).prod(axis=1), np.finfo(float).tiny)
    return np.asarray(np.add.reduceat(areas, starts) / size)
