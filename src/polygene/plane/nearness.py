"""Which edges lie near points, by cells over the edges, finer where they are crowded."""

from __future__ import annotations

import numpy as np

from polygene import kernels
from polygene.arrays import NONE, F64Array, I64Array, IntArray
from polygene.classes import NamedTuple
from polygene.plane.cells import edges_between, small_cells


class Metric:
    """What a grid unit counts across and up, at each height of the grid: 1 on a plane."""

    def sizes(self, y: I64Array) -> tuple[F64Array, F64Array]:
        """Return (n,) and (n,) for grid points at heights (n,)."""
        return np.ones(len(y)), np.ones(len(y))


PLAIN = Metric()


class Nearest(NamedTuple):
    """The nearest edge of each point (n_points,), NONE if none is within reach.

    place : 0 at the edge's first end, 1 at its second
    distance : as the metric has it
    """

    edge: I64Array
    place: F64Array
    distance: F64Array


class Within(NamedTuple):
    """Pairs (n_pairs,) of a point and an edge within reach, nearest to it between its ends."""

    point: I64Array
    edge: I64Array
    place: F64Array


class NearEdges:
    """Edges from ``start`` to ``stop``, indices of the grid points ``x``, ``y``; at least one."""

    def __init__(self, x: I64Array, y: I64Array, start: IntArray, stop: IntArray) -> None:
        self._ends = edges_between(x, y, start, stop)
        # Edges are laid from their smaller end; places on them are told from the end the caller
        # began with.
        self._swaps = (self._ends[:, 0] != x[start]) | (self._ends[:, 1] != y[start])
        cells = small_cells(self._ends)
        self._cells = cells.boxes, cells.box_of_cell, cells.offsets, cells.entries

    def nearest(self, x: I64Array, y: I64Array, reach: float, metric: Metric = PLAIN) -> Nearest:
        """Return the nearest edge of each grid point (n,), within ``reach`` as a metric has it."""
        edge = np.empty(len(x), np.int64)
        place, distance = np.empty((2, len(x)))
        kernels.run(
            kernels.near.nearest_edges,
            np.ascontiguousarray(x),
            np.ascontiguousarray(y),
            *metric.sizes(y),
            float(reach),
            *self._cells,
            self._ends,
            edge,
            place,
            distance,
        )
        return Nearest(edge, self._turned(edge, place), distance)

    def within(self, x: I64Array, y: I64Array, reach: float, metric: Metric = PLAIN) -> Within:
        """Return all pairs of points (n,) and edges within ``reach``, as a metric has it."""
        # A guess; with more pairs it is done again with room for all.
        room = max(1024, len(x))
        while True:
            point, edge = np.empty((2, room), np.int64)
            place = np.empty(room)
            n_found = kernels.run(
                kernels.near.edges_within,
                np.ascontiguousarray(x),
                np.ascontiguousarray(y),
                *metric.sizes(y),
                float(reach),
                *self._cells,
                self._ends,
                np.full(len(self._swaps), NONE, np.int64),
                point,
                edge,
                place,
            )
            if n_found <= room:
                point, edge, place = point[:n_found], edge[:n_found], place[:n_found]
                return Within(point, edge, self._turned(edge, place))
            room = n_found

    def _turned(self, edge: I64Array, place: F64Array) -> F64Array:
        """Count places from the start that the caller gave, not from the lower end."""
        return np.where(self._swaps[edge], 1 - place, place)
