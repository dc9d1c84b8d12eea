"""Rows dealt out in sheets, in each of which few lie over each other.

Borders of n rows that all lie over each other cross about n² times, and each of as many faces is
covered by about as many rows as there are. Where it is not asked what they are to each other, each
sheet of them is looked at by itself.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import I64Array
from polygene.geometry import Family, GeometryColumn
from polygene.plane.signatures import signatures
from polygene.plane.squares import squares_of

DEEP = 16  # rows about as large in one place, on average, above which they are dealt out
THIN = 6  # and up to which they are not dealt out further


def sheets_of(
    column: GeometryColumn,
    deep: int | None = None,
    thin: int | None = None,
    most: int | None = None,
) -> I64Array:
    """Return the sheet (n_rows,) of each row: 0 for all, unless they lie over each other very deep.

    A row's sheet hangs on its own borders, and on how many sheets there are: a power of two, no more
    than ``most``. ``deep`` and ``thin`` are in place of `DEEP` and `THIN`.
    """
    deep, thin = DEEP if deep is None else deep, THIN if thin is None else thin
    nothing = np.zeros(column.n_rows, np.int64)
    if column.family == Family.POINTS or column.n_rows <= deep:
        return nothing
    boxes = column.row_bounds()
    boxes = boxes[np.isfinite(boxes).all(axis=1)]
    if len(boxes) <= deep:
        return nothing
    squares = squares_of(boxes)
    one = np.zeros(len(boxes), np.int64)
    order = squares.order_of(one)
    counts = np.diff(np.append(np.flatnonzero(squares.begins(order, one)), len(order)))
    depth = float((counts * counts).sum() / counts.sum())
    if depth <= deep:
        return nothing
    n_sheets = 1 << max(0, int(np.ceil(np.log2(depth / thin))))
    while most is not None and n_sheets > max(1, most):
        n_sheets //= 2
    return (signatures(column) % np.uint64(n_sheets)).astype(np.int64)
