"""How far the grid can move things: bounds with their reasons, all in grid units.

Coordinates are rounded to the grid: half a unit in x and in y. Snap rounding then leads an edge through
the middles of the pixels that it passes, so no place of it moves by more than half the diagonal of a
pixel (Hobby 1999, theorem 3). What is written keeps the coordinates it was given wherever nothing is
near, so both together is the most that any border lies off its course.
"""

from __future__ import annotations

import math

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array

HALF_DIAGONAL = math.sqrt(0.5)
MOST_MOVED = 2 * HALF_DIAGONAL
EPSILON = float(np.finfo(np.float64).eps)


def twice_moved_by_noding(sizes: F64Array, is_crossed: BoolArray) -> F64Array:
    """Return the most that twice the area of rows can change by being noded.

    ``sizes`` (n_rows,) is the size of their borders in x and y, at least their length. A band of half a
    diagonal on either side holds all of it, and so does the area that rings enclose otherwise than
    once where rounding made them cross.
    """
    per_length = np.where(is_crossed, 4 * MOST_MOVED, MOST_MOVED)
    return per_length * sizes + 16


def twice_moved_by_straightening(sizes: F64Array) -> F64Array:
    """Return the (n,) most that twice areas can change when nodes near straight lines go.

    Both the nodes and the ends of the line lie within half a diagonal of it; ``sizes`` as above.
    """
    return 2 * MOST_MOVED * sizes


def area_moved(lengths: F64Array, step: float) -> F64Array:
    """Return the (n,) most that a grid of ``step`` map units changes areas with borders so long."""
    return MOST_MOVED * step * (lengths + 8 * step)


def length_error(lengths: F64Array, n_steps: I64Array, step: float) -> F64Array:
    """Return how far (n_rows,) lengths can differ before and after being cut into steps.

    Each cut lies within `MOST_MOVED` of the line, so it may lengthen it twice as much; sums of n
    lengths are right within n + 3 roundings (Higham 2002, section 4.2).
    """
    return 2 * MOST_MOVED * step * (n_steps + 2) + EPSILON * (n_steps + 3) * lengths
