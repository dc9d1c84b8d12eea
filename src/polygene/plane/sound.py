"""Rows of polygons that are plainly valid: most rows of most layers, said row by row."""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import BoolArray, I64Array, U8Array
from polygene.geometry import GeometryColumn, bounds_of_groups
from polygene.plane.clusters import clusters_of

MOST_PARTS = 512  # of a row whose boxes are compared each with each
LARGE = 20_000  # vertices of a row of which clusters of parts are looked at side by side


def plainly_sound(column: GeometryColumn, asked: BoolArray | None = None) -> BoolArray:
    """Return (n_rows,) rows that have no problem, of most kinds of which that is cheap to say.

    Rows without geometry have none either, and those not ``asked`` are not looked at: they are True.
    """
    is_done = column.is_empty if asked is None else column.is_empty | ~asked
    sound = is_done.astype(np.uint8)
    is_large = ~is_done & (np.diff(column.vertex_offsets_of_rows) > LARGE)
    is_large &= np.diff(column.row_offsets) > 1
    if not is_large.any():
        _look(column, sound)
        return sound > 0
    sound[is_large] = 1
    _look(column, sound)
    rows = np.flatnonzero(is_large)
    apart, row = _in_clusters(column.take(rows))
    found = np.zeros(apart.n_rows, np.uint8)
    _look(apart, found)
    sound[rows[row[found == 0]]] = 0
    return sound > 0


def _in_clusters(column: GeometryColumn) -> tuple[GeometryColumn, I64Array]:
    """Make a row of each cluster of parts of a row; return also which row (n,) each comes from.

    Parts whose boxes lie apart have nothing in common, so a row is valid if all its clusters are.
    """
    boxes = bounds_of_groups(column.xy, column.ring_offsets[column.part_offsets])
    cluster, n = np.empty(column.n_parts, np.int64), 0
    for first, stop in zip(column.row_offsets[:-1], column.row_offsets[1:], strict=True):
        cluster[first:stop] = clusters_of(boxes[first:stop]) + n
        n += int(cluster[first:stop].max()) + 1 - n
    order = np.argsort(cluster, kind="stable")
    row = np.repeat(np.arange(column.n_rows), np.diff(column.row_offsets))[order]
    is_first = np.diff(cluster[order], prepend=-1) > 0
    return column.take_parts(order, cluster[order], n), row[is_first]


def _look(column: GeometryColumn, sound: U8Array) -> None:
    """Mark in ``sound`` (n_rows,) rows that are so, but those marked already."""
    offsets = column.vertex_offsets_of_rows
    xy = np.ascontiguousarray(column.xy)

    def look(first: int, stop: int) -> None:
        largest = int(np.diff(offsets[first : stop + 1]).max(initial=1))
        rows = (xy, column.ring_offsets, column.part_offsets, column.row_offsets, first, stop)
        # Most rows touch themselves nowhere, which is said soonest.
        n_left = kernels.run(
            kernels.chains.find_simple,
            *rows,
            np.empty((largest, 4), np.int32),
            np.empty((largest, 4), np.int32),
            np.empty((2 * largest, 4)),
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
            np.empty((8 * largest + 64, 3), np.int32),
            np.empty((3, largest), np.int32),
            np.empty(largest, np.int32),
            np.empty(largest, np.uint8),
            np.empty((largest, 4)),
            np.zeros(16),
            sound,
        )

    parallel.each(look, parallel.parted(offsets))
