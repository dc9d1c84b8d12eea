"""Rows of polygons that are plainly valid: most rows of most layers, said row by row."""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import BoolArray
from polygene.geometry import GeometryColumn

MOST_PARTS = 512  # of a row whose boxes are compared each with each


def plainly_sound(column: GeometryColumn, asked: BoolArray | None = None) -> BoolArray:
    """Return (n_rows,) rows that have no problem, of most kinds of which that is cheap to say.

    Rows without geometry have none either, and those not ``asked`` are not looked at: they are True.
    """
    is_done = column.is_empty if asked is None else column.is_empty | ~asked
    sound = is_done.astype(np.uint8)
    offsets = column.vertex_offsets_of_rows
    xy = np.ascontiguousarray(column.xy)

    def look(first: int, stop: int) -> None:
        largest = int(np.diff(offsets[first : stop + 1]).max(initial=1))
        kernels.run(
            kernels.sound.find_sound,
            xy,
            column.ring_offsets,
            column.part_offsets,
            column.row_offsets,
            first,
            stop,
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
    return sound > 0
