"""Which face a point lies in, by a grid of cells over noded edges."""

from __future__ import annotations

from functools import cached_property
from typing import NamedTuple

import numpy as np

from polygene import kernels
from polygene.arrays import NONE, I64Array
from polygene.plane.cells import MOST_PASSED, edges_between, single_box, spread


class _Index(NamedTuple):
    grid: I64Array
    offsets: I64Array
    entries: I64Array
    corners: I64Array


class Locator:
    """Finds what a point sees to its left among edges that meet only at nodes.

    The index is built at the first question.
    """

    def __init__(self, node_x: I64Array, node_y: I64Array, low: I64Array, high: I64Array) -> None:
        self._edges = node_x, node_y, low, high

    @cached_property
    def _ends(self) -> I64Array:
        return edges_between(*self._edges)

    @cached_property
    def _index(self) -> _Index:
        ends = self._ends
        # Small cells: the way from a point to its cell's corner is short, and the corners' answers
        # are known.
        box = single_box(ends, per_cell=1.5, most_passed=MOST_PASSED)
        n_edges = len(ends)
        n_cells = int(box[0, 3] * box[0, 4])
        offsets, entries = spread(
            ends, box, np.array([0, n_edges], np.int64), np.arange(n_edges), n_cells
        )
        entries = entries if len(entries) else np.zeros(1, np.int64)
        corners = np.empty(n_cells, np.int64)
        grid = box[0]
        # Each corner is found from the one before it, so all of them cost one walk over the cells.
        kernels.run(kernels.locate.fill_corners, grid, offsets, entries, ends, corners)
        return _Index(grid, offsets, entries, corners)

    def halfedges_left_of(self, double_x: I64Array, double_y: I64Array) -> I64Array:
        """Return for each point the half-edge that has the point's face to its left, or NONE.

        Parameters
        ----------
        double_x, double_y : (n,) int64
            Twice the grid coordinates. A point on an edge gets a face beside it.

        Returns
        -------
        (n,) int64
            Half-edge 2e or 2e + 1 of edge e; NONE if no edge lies to the left.
        """
        seen = np.full(len(double_x), NONE, np.int64)
        # Without edges all is outside, and there is no box to lay.
        if len(self._edges[2]) and len(double_x):
            index = self._index
            kernels.run(
                kernels.locate.locate_points,
                np.ascontiguousarray(double_x),
                np.ascontiguousarray(double_y),
                index.grid,
                index.offsets,
                index.entries,
                self._ends,
                index.corners,
                seen,
            )
        return seen
