"""Which polygons cover points, of points that no border comes near: without noding anything."""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import BoolArray, F64Array, I64Array, bucket, owners
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn
from polygene.plane.cells import edges_between, single_box, spread
from polygene.plane.grid import Grid
from polygene.plane.near_boxes import NEAR
from polygene.plane.portions import tiles

PER_CELL = 1.5  # edges: the way from a corner, whose answer is known, to a point is short
MOST_ASKED = 64  # edges for a point, on average, above which polygons are parted
PARTS = 16


class Covered(NamedTuple):
    """Pairs (n,) of a row of polygons and a point that it covers, and (n_points,) which are left.

    Snapping moves no border as far as those that are not left lie from it, so they are to the rows what
    they are on the grid, whatever else is noded there.
    """

    row: I64Array
    point: I64Array
    is_left: BoolArray


def cover(polygons: GeometryColumn, points: GeometryColumn, grid: Grid) -> Covered:
    """Find the rows of valid polygons that cover points, of rows of one point each.

    Where both crowd in a few cells, as about a town in a layer of the world, tiles of the polygons have
    cells of their own; what crowds in one polygon is left.
    """
    found = _covered(polygons, points, grid)
    if found is not None:
        return found
    nothing = np.zeros(0, np.int64)
    bounds, sizes = polygons.row_bounds(), np.diff(polygons.vertex_offsets_of_rows)
    parts = tiles(bounds, sizes, PARTS)
    if any(len(rows) == polygons.n_rows for rows in parts):
        return Covered(nothing, nothing, np.ones(points.n_vertices, bool))
    is_left = np.zeros(points.n_vertices, bool)
    pairs = [(nothing, nothing)]
    for rows in parts:
        low_x, low_y, high_x, high_y = _box_about(bounds[rows], 4 * NEAR * grid.step)
        x, y = points.xy.T
        near = np.flatnonzero((x >= low_x) & (x <= high_x) & (y >= low_y) & (y <= high_y))
        found = cover(polygons.take(rows), GeometryColumn.from_points(points.xy[near]), grid)
        is_left[near[found.is_left]] = True
        pairs.append((rows[found.row], near[found.point]))
    row, point = (np.concatenate(columns) for columns in zip(*pairs, strict=True))
    told = ~is_left[point]
    return Covered(row[told], point[told], is_left)


def _covered(polygons: GeometryColumn, points: GeometryColumn, grid: Grid) -> Covered | None:
    """Do what `cover` does with one grid of cells; None where too many edges would be asked."""
    n_points = points.n_vertices
    ring_of = owners(polygons.ring_offsets)
    start = np.flatnonzero(ring_of[:-1] == ring_of[1:])
    nothing = np.zeros(0, np.int64)
    if not len(start) or not n_points:
        return Covered(nothing, nothing, np.zeros(n_points, bool))
    ends = edges_between(*grid.to_units(polygons.xy), start, start + 1)
    row_of_edge = owners(polygons.ring_offsets_of_rows)[ring_of[start]]
    box = single_box(ends, PER_CELL)
    n_cells = int(box[0, 3] * box[0, 4])
    edges = spread(ends, box, np.array([0, len(ends)], np.int64), np.arange(len(ends)), n_cells)
    x, y = grid.to_units(points.xy)
    column, line = (x - box[0, 0]) // box[0, 2], (y - box[0, 1]) // box[0, 2]
    is_in = (column >= 0) & (column < box[0, 3]) & (line >= 0) & (line < box[0, 4])
    # What is beyond the cells is near nothing but perhaps their edge.
    is_left = np.zeros(n_points, np.uint8)
    margin = 2 * int(NEAR)
    is_left[~is_in & _is_about(x, y, box[0], margin)] = 1
    grouped = bucket(np.where(is_in, line * box[0, 3] + column, n_cells), n_cells + 1)
    asked = (np.diff(edges.offsets) * np.diff(grouped.offsets)[:-1]).sum()
    if asked > MOST_ASKED * (n_points + len(ends)):
        return None
    entries = edges.order if len(edges.order) else np.zeros(1, np.int64)
    deepest = polygons.n_rows + 1

    def look(first: int, stop: int) -> tuple[I64Array, I64Array]:
        cells = slice(int(first * box[0, 3]), int(stop * box[0, 3]) + 1)
        room = int(np.ptp(grouped.offsets[cells][[0, -1]])) + 1024
        while True:
            point, row = np.empty((2, room), np.int64)
            n = kernels.run(
                kernels.locate.cover_points,
                x,
                y,
                box[0],
                first,
                stop,
                grouped.offsets,
                grouped.order,
                edges.offsets,
                entries,
                ends,
                row_of_edge,
                int(NEAR),
                np.empty(deepest, np.int64),
                np.empty(deepest, np.int64),
                is_left,
                point,
                row,
            )
            if n <= room:
                return row[:n], point[:n]
            room = n

    # Lines of cells by what is in them.
    work = (edges.offsets + grouped.offsets[:-1])[:: box[0, 3]]
    found = parallel.each(look, parallel.parted(np.ascontiguousarray(work)))
    row, point = (np.concatenate(columns) for columns in zip(*found, strict=True))
    return Covered(row, point, is_left > 0)


def _box_about(bounds: F64Array, margin: float) -> list[float]:
    """Return the box about bounds (n, 4), with a margin."""
    low, high = bounds[:, :2].min(axis=0) - margin, bounds[:, 2:].max(axis=0) + margin
    return [*low.tolist(), *high.tolist()]


def _is_about(x: I64Array, y: I64Array, box: I64Array, margin: int) -> BoolArray:
    """Return which places lie in the box of cells with a margin about it."""
    low_x, low_y, side, columns, lines = box[:5].tolist()
    is_about = (x >= low_x - margin) & (x < low_x + side * columns + margin)
    is_about &= (y >= low_y - margin) & (y < low_y + side * lines + margin)
    return np.asarray(is_about)
