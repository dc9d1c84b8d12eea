"""From geometry columns to the vertices and edges that enter the plane."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import F64Array, I8Array, I32Array, I64Array, offsets_from, owners
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn
from polygene.plane.grid import Grid


class Outline(NamedTuple):
    """Edges of a column on the grid.

    x, y : (n_vertices,) grid integers of all its vertices
    start, stop : (n_edges,) int32, vertices at the ends of each edge, in ring order
    part : (n_edges,) int32, the part each edge is of
    sign : (n_edges,) int8, +1 where the part's area lies to the left of the edge, else -1; 0 for lines
    row_of_part : (n_parts,)
    """

    x: I64Array
    y: I64Array
    start: I32Array
    stop: I32Array
    part: I32Array
    sign: I8Array
    row_of_part: I64Array


def outline(column: GeometryColumn, grid: Grid) -> Outline:
    """Return the edges of a column.

    Rings that do not end where they began are closed. Outer rings count as counter-clockwise and
    holes as clockwise, whichever way they were drawn. Points have no edges.
    """
    # All vertices, used by edges or not: nodes of points and of what has no length are numbered
    # too.
    x, y = grid.to_units(column.xy)
    part_of_ring, row_of_part = owners(column.part_offsets), owners(column.row_offsets)
    nothing = np.zeros(0, np.int64)
    if column.family == Family.POINTS:
        return Outline(
            x=x,
            y=y,
            start=nothing.astype(np.int32),
            stop=nothing.astype(np.int32),
            part=nothing.astype(np.int32),
            sign=nothing.astype(np.int8),
            row_of_part=row_of_part,
        )
    is_lines = column.family == Family.LINES
    # Which way a ring turns is asked on the grid, where it is exact; one that has no area there
    # counts as drawn the usual way.
    signs = np.zeros(column.n_rings, np.int64) if is_lines else _ring_signs(column, x, y)
    start, stop, part, sign = _edges(column.ring_offsets, part_of_ring, signs)
    # The closing edge of an open ring is one more edge, at the end, so that the numbers of the
    # others stay.
    opened = nothing if is_lines else _open_rings(column, x, y)
    if len(opened):
        ends = column.ring_offsets[opened + 1] - 1, column.ring_offsets[opened]
        start = np.concatenate([start, ends[0].astype(np.int32)])
        stop = np.concatenate([stop, ends[1].astype(np.int32)])
        part = np.concatenate([part, part_of_ring[opened].astype(np.int32)])
        sign = np.concatenate([sign, signs[opened].astype(np.int8)])
    return Outline(x=x, y=y, start=start, stop=stop, part=part, sign=sign, row_of_part=row_of_part)


def _edges(
    ring_offsets: I64Array, part_of_ring: I64Array, signs: I64Array
) -> tuple[I32Array, I32Array, I32Array, I8Array]:
    """Return start, stop, part and sign of an edge from each vertex but a ring's last."""
    # Numbers of vertices, parts and lines, and signs, are kept small: there are several for each edge.
    assert max(ring_offsets[-1], len(part_of_ring)) < 1 << 31, "more vertices than can be numbered"
    # A ring without vertices has no edges rather than one less.
    edge_offsets = offsets_from(np.maximum(np.diff(ring_offsets) - 1, 0))
    n = int(edge_offsets[-1])
    start, stop = np.empty(n, np.int32), np.empty(n, np.int32)
    part, sign = np.empty(n, np.int32), np.empty(n, np.int8)

    def fill(first: int, last: int) -> None:
        kernels.run(
            kernels.vertices.fill_edges,
            first,
            last,
            ring_offsets,
            edge_offsets,
            part_of_ring,
            signs,
            start,
            stop,
            part,
            sign,
        )

    parallel.each(fill, parallel.parted(ring_offsets))
    return start, stop, part, sign


def _open_rings(column: GeometryColumn, x: I64Array, y: I64Array) -> I64Array:
    """Return the rings that do not end where they began, on the grid."""
    # Asked on the grid: what closes there is closed, whatever the last digits say.
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
    # The first ring of each part that has any is its outer one.
    is_hole = np.ones(column.n_rings, bool)
    is_hole[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = False
    return np.where((signs < 0) ^ is_hole, -1, 1)


def vertex_homes(
    map_xy: Sequence[F64Array], node_of_vertex: I32Array, stays: np.ndarray, grid_xy: F64Array
) -> F64Array:
    """Return the (n_nodes, 2) map coordinates of nodes; those of vertices come in several arrays.

    A node goes back to the coordinates of the vertices on it, bit for bit, if they all agree and
    nothing passes so near that moving it could make edges cross; else it stays on the grid.
    """
    # Nodes without a vertex are crossings; they have only the grid.
    homes = grid_xy.copy()
    is_home, differs = np.zeros((2, len(grid_xy)), np.uint8)
    first = 0
    for xy in map_xy:
        nodes = node_of_vertex[first : first + len(xy)]
        xy = np.ascontiguousarray(xy)
        kernels.run(kernels.vertices.bring_home, xy, nodes, homes, is_home, differs)
        first += len(xy)
    # Vertices that differ by less than a unit share a node; none of them has more right to it.
    keeps = stays | (differs > 0)
    homes[keeps] = grid_xy[keeps]
    return homes
