"""Rows of polygons that are plainly valid: most rows of most layers, said row by row."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import BoolArray, I64Array, U8Array, owners
from polygene.geometry import GeometryColumn, bounds_of_groups
from polygene.plane.clusters import clusters_of

MOST_PARTS = 512  # of a row whose boxes are compared each with each
FEW_PARTS = 4  # of a row: of more clusters are looked at, side by side


def plainly_sound(column: GeometryColumn, asked: BoolArray | None = None) -> BoolArray:
    """Return (n_rows,) rows that have no problem, of most kinds of which that is cheap to say.

    Rows without geometry have none either, and those not ``asked`` are not looked at: they are True.
    """
    return _looked_at(column, asked)[0]


def in_doubt(column: GeometryColumn, asked: BoolArray | None) -> tuple[GeometryColumn, I64Array]:
    """Return the rows that are not plainly sound, and their numbers.

    Of rows of many parts only those are there whose cluster is not: the others have nothing to do with
    them, and no problem.
    """
    sound, is_doubtful = _looked_at(column, asked)
    rows, parts = np.flatnonzero(~sound), np.flatnonzero(is_doubtful)
    number = np.cumsum(~sound) - 1
    return column.take_parts(parts, number[owners(column.row_offsets)[parts]], len(rows)), rows


def _looked_at(column: GeometryColumn, asked: BoolArray | None) -> tuple[BoolArray, BoolArray]:
    """Return which rows (n_rows,) are plainly sound, and the parts (n_parts,) why others are not."""
    is_done = column.is_empty if asked is None else column.is_empty | ~asked
    n_parts = np.diff(column.row_offsets)
    is_many = ~is_done & (n_parts > FEW_PARTS)
    marks = (is_done | is_many).astype(np.uint8)
    _look(column, marks)
    sound = marks > 0
    is_doubtful = np.repeat(~sound, n_parts)
    if is_many.any():
        part = np.flatnonzero(np.repeat(is_many, n_parts))
        row = owners(column.row_offsets)[part]
        is_wrong = ~_parts_sound(column, part, row)
        is_doubtful[part] = is_wrong
        sound[row[is_wrong]] = False
    return sound, is_doubtful


def _parts_sound(column: GeometryColumn, part: I64Array, row: I64Array) -> BoolArray:
    """Return which parts (n,), of the rows named beside them, lie in clusters that are plainly sound.

    Those whose boxes lie apart have nothing in common: each cluster of them is looked at as a row.
    """
    is_all = len(part) == len(column.part_offsets) - 1
    some = column if is_all else column.take_parts(part, np.zeros(len(part), np.int64), 1)
    cluster = clusters_of(
        bounds_of_groups(some.xy, some.ring_offsets[some.part_offsets]), group=row
    )
    # Most are alone, and are looked at where they are; the others are brought together.
    is_several = np.bincount(cluster)[cluster] > 1
    marks = is_several.astype(np.uint8)
    each = np.zeros(len(part), bool)
    _look(replace(some, row_offsets=np.arange(len(part) + 1), is_null=each), marks)
    several = np.flatnonzero(is_several)
    if len(several):
        order = several[np.argsort(cluster[several], kind="stable")]
        number = np.cumsum(np.diff(cluster[order], prepend=cluster[order[0]]) > 0, dtype=np.int64)
        apart = some.take_parts(order, number, int(number[-1]) + 1)
        own = np.zeros(apart.n_rows, np.uint8)
        _look(apart, own)
        marks[order] = own[number]
    return marks > 0


def _look(column: GeometryColumn, sound: U8Array) -> None:
    """Mark in ``sound`` (n_rows,) rows that are so, but those marked already."""
    offsets = column.vertex_offsets_of_rows
    xy = np.ascontiguousarray(column.xy)

    def look(first: int, stop: int) -> None:
        largest = int(np.diff(offsets[first : stop + 1]).max(initial=1))
        rows = (xy, column.ring_offsets, column.part_offsets, column.row_offsets, first, stop)
        # Most rows touch themselves nowhere, which is said soonest.
        n_left = kernels.run(
            kernels.simple.find_simple,
            *rows,
            np.empty((largest, 4), np.int32),
            np.empty((largest, 4), np.int32),
            np.empty((2 * largest, 4)),
            np.empty((2 * largest, 4)),
            np.empty(40, np.int64),
            np.empty(40, np.int64),
            np.empty((512, 3), np.int64),
            np.zeros(16),
            sound,
        )
        if not n_left:
            return
        kernels.run(
            kernels.sound.find_sound,
            *rows,
            MOST_PARTS,
            np.full(3 * largest, -1, np.int32),
            np.empty((16 * largest + 128, 3), np.int32),
            np.empty((5, largest), np.int32),
            np.empty(3 * largest, np.int32),
            np.empty(largest, np.int32),
            np.empty(largest, np.int32),
            np.empty(largest, np.uint8),
            np.empty((largest, 4)),
            np.zeros(16),
            sound,
        )

    parallel.each(look, parallel.parted(offsets))
