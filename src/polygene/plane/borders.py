"""From geometry columns to the vertices and edges that enter the plane."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import F64Array, I64Array, owners
from polygene.geometry import Family, GeometryColumn
from polygene.plane.grid import Grid


class Outline(NamedTuple):
    """Edges of a column on the grid.

    x, y : (n_vertices,) grid integers of all its vertices
    start, stop : (n_edges,) vertices at the ends of each edge, in ring order
    ring : (n_edges,) the ring each edge is of
    part : (n_edges,) the part each edge is of
    sign : (n_edges,) +1 where the part's area lies to the left of the edge, else -1; 0 for lines
    row_of_part : (n_parts,)
    """

    x: I64Array
    y: I64Array
    start: I64Array
    stop: I64Array
    ring: I64Array
    part: I64Array
    sign: I64Array
    row_of_part: I64Array


def outline(column: GeometryColumn, grid: Grid) -> Outline:
    """Return the edges of a column.

    Rings that do not end where they began are closed. Outer rings count as counter-clockwise and
    holes as clockwise, whichever way they were drawn. Points have no edges.
    """
    x, y = grid.to_units(column.xy)
    part_of_ring, row_of_part = owners(column.part_offsets), owners(column.row_offsets)
    nothing = np.zeros(0, np.int64)
    if column.family == Family.POINTS:
        return Outline(x, y, nothing, nothing, nothing, nothing, nothing, row_of_part)
    # An edge from each vertex of a ring but its last to the next.
    n_vertices = np.diff(column.ring_offsets)
    counts = np.maximum(n_vertices - 1, 0)
    ring = np.repeat(np.arange(column.n_rings), counts)
    start = np.arange(len(ring)) + np.repeat(np.cumsum(n_vertices > 0) - 1, counts)
    stop = start + 1
    if column.family == Family.LINES:
        sign = np.zeros(len(start), np.int64)
        return Outline(x, y, start, stop, ring, part_of_ring[ring], sign, row_of_part)
    opened = _open_rings(column, x, y)
    if len(opened):
        ring = np.concatenate([ring, opened])
        start = np.concatenate([start, column.ring_offsets[opened + 1] - 1])
        stop = np.concatenate([stop, column.ring_offsets[opened]])
    sign = _ring_signs(column, x, y)[ring]
    return Outline(x, y, start, stop, ring, part_of_ring[ring], sign, row_of_part)


def _open_rings(column: GeometryColumn, x: I64Array, y: I64Array) -> I64Array:
    """Return the rings that do not end where they began, on the grid."""
    has = np.flatnonzero(column.ring_offsets[:-1] < column.ring_offsets[1:])
    first, last = column.ring_offsets[has], column.ring_offsets[has + 1] - 1
    return has[(x[first] != x[last]) | (y[first] != y[last])]


def _ring_signs(column: GeometryColumn, x: I64Array, y: I64Array) -> I64Array:
    """Return +1 for rings drawn the usual way (outer counter-clockwise, holes clockwise), else -1."""
    signs = np.empty(column.n_rings, np.int64)

    def look(first: int, stop: int) -> None:
        offsets = column.ring_offsets[first : stop + 1]
        kernels.run(kernels.arrange.sign_rings, x, y, offsets, signs[first:stop])

    parallel.each(look, parallel.parted(column.ring_offsets))
    is_hole = np.ones(column.n_rings, bool)
    is_hole[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = False
    return np.where((signs < 0) ^ is_hole, -1, 1)


def vertex_homes(
    map_xy: F64Array, node_of_vertex: I64Array, stays: np.ndarray, grid_xy: F64Array
) -> F64Array:
    """Return the (n_nodes, 2) map coordinates of nodes.

    A node goes back to the coordinates of the vertices on it, bit for bit, if they all agree and
    nothing passes so near that moving it could make edges cross; else it stays on the grid.
    """
    homes = grid_xy.copy()
    is_home, differs = np.zeros((2, len(grid_xy)), np.uint8)
    map_xy = np.ascontiguousarray(map_xy)
    kernels.run(kernels.vertices.bring_home, map_xy, node_of_vertex, homes, is_home, differs)
    keeps = stays | (differs > 0)
    homes[keeps] = grid_xy[keeps]
    return homes
