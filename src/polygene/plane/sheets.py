"""Rows dealt out in sheets, in each of which few lie over each other.

Borders of n rows that all lie over each other cross about n² times, and each of as many faces is
covered by about as many rows as there are. Where it is not asked what they are to each other, each
sheet of them is looked at by itself.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array
from polygene.geometry import Family, GeometryColumn
from polygene.plane.signatures import mixed, signatures
from polygene.plane.squares import squares_of

DEEP = 16  # rows about as large in one place, on average, above which they are dealt out
THIN = 6  # and up to which they are not dealt out further


def sheets_of(
    column: GeometryColumn,
    deep: int | None = None,
    thin: int | None = None,
    asked: BoolArray | None = None,
) -> I64Array:
    """Return the sheet (n_rows,) of each row: 0, unless it is one of very many over each other.

    A row's sheet hangs on its own borders, and on how many there are, a power of two. ``deep`` and
    ``thin`` are in place of `DEEP` and `THIN`; ``asked`` (n_rows,) are the rows that count.
    """
    deep, thin = DEEP if deep is None else deep, THIN if thin is None else thin
    sheet = np.zeros(column.n_rows, np.int64)
    if column.family == Family.POINTS or column.n_rows <= deep:
        return sheet
    boxes = column.row_bounds()
    rows, counts = _deep_rows(boxes if asked is None else boxes[asked], deep)
    if len(rows) == 0:
        return sheet
    if asked is not None:
        rows = np.flatnonzero(asked)[rows]
    n_sheets = 1 << max(0, int(np.ceil(np.log2(counts.mean() / thin))))
    sheet[rows] = (signatures(column.take(rows)) % np.uint64(n_sheets)).astype(np.int64)
    return sheet


def _deep_rows(boxes: F64Array, deep: int) -> tuple[I64Array, I64Array]:
    """Return the rows of squares with more than ``deep`` of them, and how many are in each one's."""
    rows = np.flatnonzero(np.isfinite(boxes).all(axis=1))
    nothing = np.zeros(0, np.int64)
    if len(rows) <= deep:
        return nothing, nothing
    squares = squares_of(boxes[rows])
    # Counted first by bits of the squares' names: hardly any layer is deep, and this takes no sorting.
    names = mixed(squares.place[:, 0].astype(np.int64).view(np.uint64))
    names = mixed(names ^ squares.place[:, 1].astype(np.int64).view(np.uint64))
    names = mixed(names ^ squares.exponent.view(np.uint64))
    bits = min(22, int(len(rows)).bit_length() + 2)
    bucket = (names >> np.uint64(64 - bits)).astype(np.int64)
    may = np.flatnonzero(np.bincount(bucket, minlength=1 << bits)[bucket] > deep)
    if len(may) == 0:
        return nothing, nothing
    some, one = squares.take(may), np.zeros(len(may), np.int64)
    order = some.order_of(one)
    sizes = np.diff(np.append(np.flatnonzero(some.begins(order, one)), len(order)))
    counts = np.repeat(sizes, sizes)
    is_deep = counts > deep
    return rows[may[order[is_deep]]], counts[is_deep]
