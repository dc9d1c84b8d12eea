"""Points that stand for features: centroids, and points sure to lie inside."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from polygene import parallel
from polygene.arrays import F64Array, I64Array, count_by, offsets_from, owners, sum_by
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.longitudes import opened, wrapped

_TOGETHER = 100_000  # vertices looked at at a time


def _by_rows(column: GeometryColumn, work: Callable[[GeometryColumn], F64Array]) -> F64Array:
    """Return what ``work`` gives (n_rows, 2) for rows that hang on nothing but themselves."""
    parts = parallel.parted(column.vertex_offsets_of_rows, _TOGETHER)
    return np.concatenate(parallel.each(lambda a, b: work(column.slice_rows(a, b)), parts))


def centroids_of(layer: Layer) -> F64Array:
    """Return the (n_rows, 2) centroids of a layer; over the 180th meridian as `opened` has it."""
    running, _, turn = opened(layer, np.arange(layer.n_rows), layer.n_rows)
    xy = centroids(running)
    xy[:, 0] = wrapped(xy[:, 0], turn)
    return xy


def centroids(column: GeometryColumn) -> F64Array:
    """Return the (n_rows, 2) centroids in map units: of area, of length, or of the points.

    NaN for rows without geometry. Where a polygon has no area, or a line no length, the mean of its
    vertices.
    """
    return _by_rows(column, _centroids)


def _centroids(column: GeometryColumn) -> F64Array:
    bounds = column.row_bounds()
    with np.errstate(invalid="ignore"):
        middle = np.where(np.isfinite(bounds[:, :2]), (bounds[:, :2] + bounds[:, 2:]) / 2, np.nan)
    row_of_vertex = owners(column.vertex_offsets_of_rows)
    xy = column.xy - middle[row_of_vertex]  # far-out coordinates would cost digits
    n = column.n_rows
    counts = np.diff(column.vertex_offsets_of_rows)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.stack([sum_by(row_of_vertex, xy[:, k], n) / counts for k in (0, 1)], axis=1)
        if column.family == Family.POINTS:
            return middle + mean
        ring_of = owners(column.ring_offsets)
        is_edge = ring_of[:-1] == ring_of[1:]
        a, b, row = xy[:-1][is_edge], xy[1:][is_edge], row_of_vertex[:-1][is_edge]
        if column.family == Family.LINES:
            weight = np.hypot(*(b - a).T)
            moment = (a + b) / 2 * weight[:, None]
        else:
            weight = _turned(column, ring_of[:-1][is_edge], a[:, 0] * b[:, 1] - b[:, 0] * a[:, 1])
            moment = (a + b) / 3 * weight[:, None]
        total = sum_by(row, weight, n)
        centre = np.stack([sum_by(row, moment[:, k], n) / total for k in (0, 1)], axis=1)
    return middle + np.where(np.isfinite(centre), centre, mean)


def _turned(column: GeometryColumn, ring: I64Array, strips: F64Array) -> F64Array:
    """Count outer rings as positive and holes as negative, whichever way they are turned."""
    area = sum_by(ring, strips, column.n_rings)
    is_hole = np.ones(column.n_rings, bool)
    is_hole[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = False
    return strips * np.where((area < 0) ^ is_hole, -1.0, 1.0)[ring]


def inside_points(column: GeometryColumn) -> F64Array:
    """Return an (n_rows, 2) point inside each row; NaN for rows without geometry.

    Of polygons the middle of the widest stretch on a level line near the middle of the row's height
    that passes no vertex; of lines and points the vertex nearest to the centroid.
    """
    return _by_rows(column, _inside_points)


def _inside_points(column: GeometryColumn) -> F64Array:
    if column.family != Family.POLYGONS:
        return _nearest_vertices(column, _centroids(column))
    row_of_vertex = owners(column.vertex_offsets_of_rows)
    level = _levels(column, row_of_vertex)
    ring_of = owners(column.ring_offsets)
    is_edge = ring_of[:-1] == ring_of[1:]
    a, b, row = column.xy[:-1][is_edge], column.xy[1:][is_edge], row_of_vertex[:-1][is_edge]
    y = level[row]
    cuts = np.flatnonzero((a[:, 1] <= y) != (b[:, 1] <= y))
    a, b, row, y = a[cuts], b[cuts], row[cuts], y[cuts]
    x = a[:, 0] + (y - a[:, 1]) / (b[:, 1] - a[:, 1]) * (b[:, 0] - a[:, 0])
    order = np.lexsort((x, row))
    x, row = x[order], row[order]
    # Crossings come in pairs: in, out.
    first = offsets_from(count_by(row, column.n_rows))[:-1]
    is_in = (np.arange(len(row)) - first[row]) % 2 == 0
    enters = np.flatnonzero(is_in[:-1] & (row[:-1] == row[1:])) if len(row) else np.zeros(0, int)
    width = x[enters + 1] - x[enters]
    order = np.lexsort((width, row[enters]))
    found = np.full((column.n_rows, 2), np.nan)
    # The last of each row in this order is the widest.
    chosen = enters[order]
    found[row[chosen], 0] = (x[chosen] + x[chosen + 1]) / 2
    found[row[chosen], 1] = level[row[chosen]]
    flat = ~column.is_empty & np.isnan(found[:, 0])
    if flat.any():
        found[flat] = _nearest_vertices(column, _centroids(column))[flat]
    return found


def _levels(column: GeometryColumn, row_of_vertex: I64Array) -> F64Array:
    """Return a y between two neighbouring levels of vertices, near the middle of each row."""
    y = column.xy[:, 1]
    order = np.lexsort((y, row_of_vertex))
    y, row = y[order], row_of_vertex[order]
    bounds = column.row_bounds()
    with np.errstate(invalid="ignore"):  # rows without geometry
        middle = (bounds[:, 1] + bounds[:, 3]) / 2
        heights = bounds[:, 3] - bounds[:, 1]
    step = np.flatnonzero((row[:-1] == row[1:]) & (y[:-1] < y[1:]))
    between, row = (y[step] + y[step + 1]) / 2, row[step]
    # A wide gap first: its middle is far from any vertex; then what is nearest to the middle.
    gap = y[step + 1] - y[step]
    height = heights[row]
    off = np.abs(between - middle[row]) - gap
    order = np.lexsort((-off / np.maximum(height, 1e-300), row))
    level = np.full(column.n_rows, np.nan)
    level[row[order]] = between[order]
    return level


def _nearest_vertices(column: GeometryColumn, to: F64Array) -> F64Array:
    row = owners(column.vertex_offsets_of_rows)
    distance = np.hypot(*(column.xy - to[row]).T)
    order = np.lexsort((-distance, row))
    found = np.full((column.n_rows, 2), np.nan)
    found[row[order]] = column.xy.take(order, axis=0)
    return found
