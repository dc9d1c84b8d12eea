"""Rows of polygons that are plainly valid: most rows of most layers, said row by row."""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import BoolArray
from polygene.geometry import GeometryColumn

MOST_HOLES = 8  # of a row; each is looked at against each


def plainly_sound(column: GeometryColumn) -> BoolArray:
    """Return (n_rows,) rows that have no problem, of most kinds of which that is cheap to say.

    Rows without geometry have none either.
    """
    sound = column.is_empty.astype(np.uint8)
    offsets = column.vertex_offsets_of_rows
    xy = np.ascontiguousarray(column.xy)

    def look(first: int, stop: int) -> None:
        largest = int(np.diff(offsets[first : stop + 1]).max(initial=1))
        kernels.run(
            kernels.sound.find_sound, xy, column.ring_offsets, column.part_offsets,
            column.row_offsets, first, stop, MOST_HOLES, np.full(3 * largest, -1, np.int32),
            np.empty((8 * largest + 64, 2), np.int32), np.zeros(16), sound,
        )  # fmt: skip

    parallel.each(look, parallel.parted(offsets))
    return sound > 0
