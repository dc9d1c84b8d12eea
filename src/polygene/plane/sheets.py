"""Rows dealt out in sheets, in each of which few lie over each other.

Borders of n rows that all lie over each other cross about n² times, and each of as many faces is
covered by about as many rows as there are. Where it is not asked what they are to each other, each
sheet of them is looked at by itself.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, owners, sum_by
from polygene.geometry import Family, GeometryColumn
from polygene.measures import ring_areas
from polygene.plane.signatures import mixed, signatures
from polygene.plane.squares import COVERS, squares_of, times_covered

# Rows of polygons about as large in one place, above which they are dealt out if they cover it so many
# times as `COVERS` has it of these; and up to how many they are not dealt out further.
DEEP, THIN = 16, 8
JOINED = 96, 32  # the same where areas are joined, which takes less than an overlay


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
    if column.family != Family.POLYGONS or column.n_rows <= deep:
        return sheet
    boxes = column.row_bounds()
    is_asked = np.isfinite(boxes).all(axis=1)
    if asked is not None:
        is_asked &= asked
    rows, sizes = _crowded(boxes, np.flatnonzero(is_asked), deep)
    if len(rows) == 0:
        return sheet
    some = column.take(rows)
    times = times_covered(_areas(some), boxes[rows], sizes)
    is_deep = np.repeat(times > COVERS * deep, sizes)
    if not is_deep.any():
        return sheet
    depth = float(np.repeat(sizes, sizes)[is_deep].mean())
    n_sheets = 1 << max(0, round(np.log2(depth / thin)))
    found = signatures(some) % np.uint64(n_sheets)
    sheet[rows[is_deep]] = found[is_deep].astype(np.int64)
    return sheet


def _crowded(boxes: F64Array, rows: I64Array, deep: int) -> tuple[I64Array, I64Array]:
    """Return rows whose square has more than ``deep`` of them, by square, and how many each has."""
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
    order, sizes = squares.take(may).grouped(np.zeros(len(may), np.int64))
    is_crowded = np.repeat(sizes > deep, sizes)
    return rows[may[order[is_crowded]]], sizes[sizes > deep]


def _areas(column: GeometryColumn) -> F64Array:
    """Return the area (n_rows,) of each row."""
    areas = np.abs(ring_areas(column.xy, column.ring_offsets))
    is_outer = np.zeros(column.n_rings, bool)
    is_outer[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = True
    row = owners(column.ring_offsets_of_rows)
    return sum_by(row, np.where(is_outer, areas, -areas), column.n_rows)
