"""Which boxes come near any of some others, found on a raster of cells.

The cells that those others cover are marked; sums over rectangles of cells tell in constant time
whether a box meets any (summed-area tables, Crow 1984). A box a cell away may be taken for near.
"""

from __future__ import annotations

import numpy as np

from polygene import kernels
from polygene.arrays import BoolArray, F64Array, I32Array, I64Array
from polygene.geometry import Family, GeometryColumn

MOST_CELLS = 1 << 18
NEAR = 4.0  # grid units within which borders have to do with each other


def reach_of_edges(column: GeometryColumn, cells: NearBoxes) -> F64Array:
    """Return how far edges go that meet some boxes: a box for each row that has such (n, 4)."""
    if column.family == Family.POINTS:
        return np.zeros((0, 4))
    return cells.reach_of(column)


def summed(marks: BoolArray) -> I32Array:
    """Return the (rows + 1, columns + 1) sums of a raster's marks over all that lies below and left."""
    assert marks.size < 1 << 31, "more cells than can be counted"
    sums = np.zeros((marks.shape[0] + 1, marks.shape[1] + 1), np.int32)
    kernels.run(kernels.boxes.sum_marks, np.ascontiguousarray(marks).view(np.uint8), sums)
    return sums


class NearBoxes:
    """Boxes (n, 4) of x, y minimum and maximum, grown by ``reach``; what is not finite has nothing."""

    def __init__(self, boxes: F64Array, reach: float, least_cells: int = 1 << 15) -> None:
        boxes = boxes[np.isfinite(boxes).all(axis=1)]
        self._is_none = len(boxes) == 0
        if self._is_none:
            return
        boxes = boxes + np.array([-reach, -reach, reach, reach])
        self._low, high = boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)
        # Square cells, many to a box, so that what is a box away is not taken for near.
        n_cells = min(MOST_CELLS, max(least_cells, 16 * len(boxes)))
        size = np.maximum(high - self._low, 0.0)
        side = float(max(np.sqrt(size[0] * size[1] / n_cells), size.max() / n_cells)) or 1.0
        self._side = side
        self._n = np.maximum(np.ceil(size / side).astype(np.int64), 1)
        first, last = self._cells(boxes)
        marks = np.zeros((self._n[1] + 1, self._n[0] + 1), np.int32)
        np.add.at(marks, (first[:, 1], first[:, 0]), 1)
        np.add.at(marks, (last[:, 1] + 1, last[:, 0] + 1), 1)
        np.add.at(marks, (first[:, 1], last[:, 0] + 1), -1)
        np.add.at(marks, (last[:, 1] + 1, first[:, 0]), -1)
        covered = marks.cumsum(axis=1, dtype=np.int32).cumsum(axis=0, dtype=np.int32)[:-1, :-1] > 0
        self._sums = summed(covered)

    def _cells(self, boxes: F64Array) -> tuple[I64Array, I64Array]:
        """Return the first and last column and row (n, 2) of boxes, of what lies beyond the nearest."""
        low = np.floor((boxes[:, :2] - self._low) / self._side)
        high = np.floor((boxes[:, 2:] - self._low) / self._side)
        most = self._n - 1
        return (
            np.clip(low, 0, most).astype(np.int64),
            np.clip(high, 0, most).astype(np.int64),
        )

    def reach_of(self, column: GeometryColumn) -> F64Array:
        """Return the boxes (n, 4) about those edges of each row that may meet one, where any does."""
        if self._is_none or not column.n_vertices:
            return np.zeros((0, 4))
        found = np.tile(np.array([np.inf, np.inf, -np.inf, -np.inf]), (column.n_rows, 1))
        kernels.run(
            kernels.boxes.edge_reach,
            np.ascontiguousarray(column.xy),
            column.ring_offsets,
            column.ring_offsets_of_rows,
            self._sums,
            self._low,
            self._side,
            found,
        )
        return found[found[:, 0] <= found[:, 2]]

    def meets(self, boxes: F64Array) -> BoolArray:
        """Return which boxes (n, 4) may meet one of those."""
        found = np.zeros(len(boxes), bool)
        if self._is_none:
            return found
        high = self._low + self._n * self._side
        with np.errstate(invalid="ignore"):
            is_in = np.isfinite(boxes).all(axis=1)
            is_in &= (boxes[:, 2:] >= self._low).all(axis=1) & (boxes[:, :2] <= high).all(axis=1)
        some = np.flatnonzero(is_in)
        first, last = self._cells(boxes[some])
        s = self._sums
        n = (
            s[last[:, 1] + 1, last[:, 0] + 1]
            - s[first[:, 1], last[:, 0] + 1]
            - s[last[:, 1] + 1, first[:, 0]]
            + s[first[:, 1], first[:, 0]]
        )
        found[some] = n > 0
        return found
