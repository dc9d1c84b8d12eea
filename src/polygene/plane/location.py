"""Which face a point lies in, by cells over noded edges, finer where they are crowded."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from polygene import kernels
from polygene.arrays import NONE, I64Array
from polygene.classes import NamedTuple
from polygene.plane.cells import MOST_PASSED, Cells, edges_between, single_box, small_cells

FEW_PLACES = 32  # for which all edges are looked at sooner than an index is built


class _Index(NamedTuple):
    cells: Cells
    corners: I64Array


class Locator:
    """Finds what a point sees to its left among edges that meet only at nodes.

    The index is built at the first question about many.
    """

    def __init__(self, node_x: I64Array, node_y: I64Array, low: I64Array, high: I64Array) -> None:
        self._edges = node_x, node_y, low, high

    @property
    def is_built(self) -> bool:
        """Whether something was asked already, so that the next question costs little."""
        return "_index" in vars(self)

    @cached_property
    def _ends(self) -> I64Array:
        return edges_between(*self._edges)

    @cached_property
    def _index(self) -> _Index:
        ends = self._ends
        # The way from a point to its cell's corner is short, and corners' answers are known.
        cells = small_cells(ends, MOST_PASSED)
        parents = np.full(len(cells.boxes), NONE, np.int64)
        refined = np.flatnonzero(cells.box_of_cell != NONE)
        parents[cells.box_of_cell[refined]] = refined
        corners = np.empty(len(cells.box_of_cell), np.int64)
        # Each corner is found from one before it, so all of them cost one walk over the cells.
        kernels.run(
            kernels.locate.fill_corners,
            cells.boxes,
            parents,
            cells.offsets,
            cells.entries,
            ends,
            corners,
        )
        return _Index(cells, corners)

    @property
    def _all_in_one(self) -> _Index:
        """One cell with all edges in it, to the left of which nothing is."""
        ends = self._ends
        nothing, offsets = np.full(1, NONE, np.int64), np.array([0, len(ends)])
        box, leaves = single_box(ends, len(ends)), np.zeros(1, np.int64)
        return _Index(Cells(box, nothing, offsets, np.arange(len(ends)), leaves), nothing)

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
            is_few = len(double_x) <= FEW_PLACES and not self.is_built
            index = self._all_in_one if is_few else self._index
            kernels.run(
                kernels.locate.locate_points,
                np.ascontiguousarray(double_x),
                np.ascontiguousarray(double_y),
                index.cells.boxes,
                index.cells.box_of_cell,
                index.cells.offsets,
                index.cells.entries,
                self._ends,
                index.corners,
                seen,
            )
        return seen
