"""Which rows of a layer a set of borders can touch at all, found without looking at their edges.

Borders are entered in a uniform grid of cells; sums over rectangles of that grid (summed-area
tables, Crow 1984) tell in constant time whether a box holds any.
"""

from __future__ import annotations

import numpy as np

from polygene import kernels
from polygene.arrays import BoolArray, F64Array, I32Array, I64Array, owners
from polygene.geometry import Family, GeometryColumn
from polygene.plane.borders import Outline
from polygene.plane.cells import edges_between, single_box, spread
from polygene.plane.grid import Grid
from polygene.plane.near_boxes import summed

FAR_OFF = -(2**40)  # grid units
# Smaller cells tell more boxes apart and cost memory, and time where edges are very many.
CELLS_PER_EDGE = 2
LEAST_CELLS = 1 << 16


class BorderMap:
    """Cells that the edges of an outline pass."""

    def __init__(self, border: Outline) -> None:
        # The map is of the border alone; asking it costs four look-ups, however long the border is.
        ends = edges_between(border.x, border.y, border.start, border.stop)
        n_edges = len(ends)
        per_cell = min(1 / CELLS_PER_EDGE, n_edges / LEAST_CELLS)
        self.box = single_box(ends, per_cell)
        columns, rows = int(self.box[0, 3]), int(self.box[0, 4])
        found = spread(ends, self.box, np.array([0, n_edges]), np.arange(n_edges), columns * rows)
        # Whether a cell is passed, not how often: the sum over a box is then the cells passed.
        self.sums = summed((found.offsets[1:] > found.offsets[:-1]).reshape(rows, columns))

    def is_touched(self, low: I64Array, high: I64Array) -> BoolArray:
        """Whether boxes (n, 2) to (n, 2), in grid units and inclusive, may hold a border."""
        x, y, side, columns, rows, _ = self.box[0]
        origin, size = np.array([x, y]), np.array([columns, rows])
        # Cells that the box touches, those off the map clipped away.
        first = np.clip((low - origin) // side, 0, size)
        last = np.clip((high - origin) // side + 1, 0, size)
        return _sum_over(self.sums, first, last) > 0

    def rows_hit(self, column: GeometryColumn, x: I64Array, y: I64Array) -> BoolArray:
        """Whether rows (n_rows,) may have an edge that meets a border; ``x``, ``y`` in grid units.

        So may those that have no edge, and polygons with a ring left open.
        """
        origin_x, origin_y, side = (int(v) for v in self.box[0, :3])
        hit = np.zeros(column.n_rows, np.uint8)
        kernels.run(
            kernels.boxes.rows_hit,
            x,
            y,
            column.ring_offsets,
            column.ring_offsets_of_rows,
            self.sums,
            origin_x,
            origin_y,
            side,
            column.family == Family.POLYGONS,
            hit,
        )
        return hit.view(bool)

    def holds_corner(self, corners: I64Array, low: I64Array, high: I64Array) -> BoolArray:
        """Whether boxes may hold one of the points ``corners`` (k, 2)."""
        x, y, side, columns, rows, _ = self.box[0]
        origin, size = np.array([x, y]), np.array([columns, rows])
        cells = np.clip((corners - origin) // side, 0, size - 1)
        # The same table of points, since a ring wholly inside a row has no cell that only a border
        # passes.
        marks = np.zeros((rows, columns), bool)
        marks[cells[:, 1], cells[:, 0]] = True
        first = np.clip((low - origin) // side, 0, size)
        last = np.clip((high - origin) // side + 1, 0, size)
        return _sum_over(summed(marks), first, last) > 0


def _sum_over(sums: I32Array, first: I64Array, last: I64Array) -> I32Array:
    """Return the sums over half-open ranges of columns and rows."""
    last = np.maximum(first, last)
    return (
        sums[last[:, 1], last[:, 0]]
        - sums[first[:, 1], last[:, 0]]
        - sums[last[:, 1], first[:, 0]]
        + sums[first[:, 1], first[:, 0]]
    )


def boxes_in_units(bounds: F64Array, grid: Grid) -> tuple[I64Array, I64Array]:
    """Return the lower and upper corners (n, 2) of map bounds (n, 4) in grid units.

    The box of an empty row is far off, where no border is.
    """
    # Infinite bounds are how empty rows are told.
    is_empty: BoolArray = np.any(~np.isfinite(bounds), axis=1)
    bounds = np.where(is_empty[:, None], 0.0, bounds)
    low = np.stack(grid.to_units(bounds[:, :2]), axis=1)
    high = np.stack(grid.to_units(bounds[:, 2:]), axis=1)
    low[is_empty] = high[is_empty] = FAR_OFF
    return low, high


def rows_touched(
    column: GeometryColumn, bounds: F64Array, border: Outline, grid: Grid
) -> BoolArray:
    """Return which rows of a column a border may touch, cut or lie inside of.

    A row left out has no vertex or edge near any border and holds no border inside, and hangs together
    or lies in a box without any; so all of it lies on one side. ``bounds`` (n_rows, 4) are the finite
    bounds of the rows.
    """
    touched = np.zeros(column.n_rows, bool)
    if len(border.start) == 0 or column.n_rows == 0:
        return touched
    # First by the boxes of rows, then by edges: most rows end at the first.
    cells = BorderMap(border)
    low, high = boxes_in_units(bounds, grid)
    near = np.flatnonzero(cells.is_touched(low, high))
    # A border may pass between the parts of a row.
    n_parts = np.diff(column.row_offsets)[near]
    touched[near[n_parts > 1]] = True
    near = near[n_parts == 1]
    # By edge, for the rows whose box alone does not settle it.
    some = column.take(near)
    x, y = grid.to_units(some.xy)
    # An edge's box, not its cells: what that lets through is cut exactly later, and nothing is
    # lost.
    if column.family == Family.POINTS:
        points = np.stack([x, y], axis=1)
        touched[near[owners(some.vertex_offsets_of_rows)[cells.is_touched(points, points)]]] = True
    else:
        touched[near[cells.rows_hit(some, x, y)]] = True
    if column.family == Family.POLYGONS:
        _mark_holders(cells=cells, border=border, low=low, high=high, near=near, touched=touched)
    return touched


def _mark_holders(
    cells: BorderMap,
    border: Outline,
    low: I64Array,
    high: I64Array,
    near: I64Array,
    touched: BoolArray,
) -> None:
    """Mark rows that may hold a whole ring of the border inside themselves."""
    quiet = near[~touched[near]]
    if len(quiet) == 0:
        return
    # One vertex of each ring stands for it: a ring wholly inside a row lies inside its box.
    # By ring, since what hangs together lies inside or outside as one: where an edge begins at a vertex
    # that the one before does not lead to. Edges that close a ring come last, and once more do no harm.
    is_first = np.ones(len(border.start), bool)
    is_first[1:] = border.start[1:] != border.stop[:-1]
    chosen = border.start[is_first]
    corners = np.stack([border.x[chosen], border.y[chosen]], axis=1)
    touched[quiet[cells.holds_corner(corners, low[quiet], high[quiet])]] = True
