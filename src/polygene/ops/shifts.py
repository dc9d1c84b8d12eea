"""How far geometry has moved: the largest distance of vertices of one from edges of another."""

from __future__ import annotations

import numpy as np

from polygene import kernels, proj
from polygene.arrays import F64Array, I64Array, offsets_from, owners
from polygene.geometry import GeometryColumn
from polygene.ops.places.courses import Units


def largest_shifts(first: GeometryColumn, second: GeometryColumn, crs: proj.CRS | None) -> F64Array:
    """Return how far the geometry of each row is from that of the same row in another column.

    The larger of both directed distances, of the vertices of either to the edges of the other; in
    metres (map units without a CRS), in longitude and latitude on the plane at the place of the row.

    Returns
    -------
    (n_rows,) float64
        NaN where one of them is empty.
    """
    has = np.flatnonzero(~(first.is_empty | second.is_empty))
    found = np.full(first.n_rows, np.nan)
    a, b = first.take(has), second.take(has)
    size = _size_at(b, crs)
    there, back = _directed(a, b, size), _directed(b, a, size)
    found[has] = np.maximum(there, back)
    return found


def _size_at(column: GeometryColumn, crs: proj.CRS | None) -> F64Array:
    """Return (n_rows, 2) how long a unit of x and one of y is at each row."""
    if crs is None or not crs.axis_info:
        return np.ones((column.n_rows, 2))
    units = Units.of(crs)
    if not units.is_geographic:
        return np.full((column.n_rows, 2), units.size)
    bounds = column.row_bounds()
    middle = np.clip((bounds[:, 1] + bounds[:, 3]) * (units.size / 2), -np.pi / 2, np.pi / 2)
    size = units.size * units.radius
    return np.stack([np.cos(middle) * size, np.full(column.n_rows, size)], axis=1)


def _directed(a: GeometryColumn, b: GeometryColumn, size: F64Array) -> F64Array:
    points = a.xy * size[owners(a.vertex_offsets_of_rows)]
    edges, offsets = _edges(b, size)
    found = np.zeros(a.n_rows)
    kernels.run(
        kernels.gaps.farthest_off,
        np.ascontiguousarray(points), a.vertex_offsets_of_rows, edges, offsets, found,
    )  # fmt: skip
    return found


def _edges(column: GeometryColumn, size: F64Array) -> tuple[F64Array, I64Array]:
    """Return the edges of all rows, x and y of both ends, and where those of each row begin.

    A vertex that is alone, as points are, is an edge of no length.
    """
    ring_of = owners(column.ring_offsets)
    row_of = owners(column.vertex_offsets_of_rows)
    is_lone = np.diff(column.ring_offsets)[ring_of] == 1
    has_next = np.append(ring_of[:-1] == ring_of[1:], False)
    start = np.flatnonzero(has_next | is_lone)
    stop = np.where(is_lone[start], start, start + 1)
    xy = column.xy * size[row_of]
    edges = np.concatenate([xy[start], xy[stop]], axis=1)
    return edges, offsets_from(np.bincount(row_of[start], minlength=column.n_rows))
