"""Rings of many rows settled at once into valid areas, each row on its own.

Rows that must not see each other are laid apart: each is moved by whole grid units to a place of its
own, all are computed in one arrangement, and moved back. Snap rounding does not mind being moved.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene import kernels
from polygene.arrays import (
    BoolArray,
    I64Array,
    count_by,
    offsets_from,
    owners,
    reduce_groups,
    spans,
)
from polygene.geometry import Family, GeometryColumn, concatenate
from polygene.plane.arrangement import Arrangement, Borders, arrange
from polygene.plane.borders import vertex_homes
from polygene.plane.grid import MAX_UNITS, Grid
from polygene.plane.noding import node_edges
from polygene.plane.outlines import Outlines
from polygene.plane.rings import Pieces, rings_to_column, trace_rings
from polygene.plane.sound import plainly_sound

# More than noding moves anything (half a unit), and than cells' margins reach.
GAP = 32  # grid units between rows laid apart
MOST_EDGES = 3_000_000  # worked on at a time
# Rows of one batch fill squares of this size, two of them at most, and none is longer; shelves take up
# to three times the room.
ROOM = 0.2 * MAX_UNITS


def settle(
    outlines: Outlines,
    n_rows: int,
    grid: Grid,
    *,
    by_sign: bool,
    apart: bool,
    keeps_places: bool = False,
) -> GeometryColumn:
    """Return what each row's rings enclose, as a valid polygon column of ``n_rows`` rows.

    Parameters
    ----------
    by_sign : bool
        A part covers what it winds round more than zero times; else what it winds round an odd number
        of times. A row covers what any of its parts does.
    apart : bool
        Whether rows are laid apart. If not, their rings cross; then few rows should.
    keeps_places : bool
        Whether vertices keep their coordinates, bit for bit, where nothing comes near them; else all
        lie on the grid.
    """
    # Rounded once, here: all that follows is of integers.
    x, y = grid.to_units(outlines.xy)
    # Buffers: most curves are simple, and then they are the result already.
    if by_sign and apart:
        direct, is_simple = _simple_rows(outlines, x, y, n_rows, grid)
        if is_simple.any():
            rest, x, y = _without_rows(outlines, is_simple, x, y)
            others = _settled_all(
                outlines=rest,
                x=x,
                y=y,
                n_rows=n_rows,
                grid=grid,
                by_sign=by_sign,
                apart=apart,
                keeps_places=keeps_places,
            )
            return others.with_rows(np.flatnonzero(is_simple), direct)
    return _settled_all(
        outlines=outlines,
        x=x,
        y=y,
        n_rows=n_rows,
        grid=grid,
        by_sign=by_sign,
        apart=apart,
        keeps_places=keeps_places,
    )


def _simple_rows(
    outlines: Outlines, x: I64Array, y: I64Array, n_rows: int, grid: Grid
) -> tuple[GeometryColumn, BoolArray]:
    """Return rows whose rings are valid as they lie on the grid, and which (n_rows,) those are.

    What is wound round once by an outer ring, and by its holes not at all, needs no arrangement.
    """
    ring_of = owners(outlines.ring_offsets)
    # Vertices that fell on one grid point are one; the exact test would call the ring invalid for
    # it.
    keeps = np.ones(len(x), bool)
    keeps[1:] = (ring_of[1:] != ring_of[:-1]) | (x[1:] != x[:-1]) | (y[1:] != y[:-1])
    x, y = x[keeps], y[keeps]
    n_rings = len(outlines.part_of_ring)
    ring_offsets = offsets_from(count_by(ring_of[keeps], n_rings))
    row_of_ring = outlines.row_of_part[outlines.part_of_ring]
    n_rings_of_row = count_by(row_of_ring, n_rows)
    # The test is of doubles; grid integers are exact as such.
    on_grid = GeometryColumn(
        family=Family.POLYGONS,
        xy=np.stack([x, y], axis=1).astype(np.float64),
        ring_offsets=ring_offsets,
        part_offsets=offsets_from(n_rings_of_row),
        row_offsets=np.arange(n_rows + 1),
        is_null=np.zeros(n_rows, bool),
    )
    is_simple = plainly_sound(on_grid) & (n_rings_of_row > 0)
    # Begun at the lowest left vertex, as traced rings are: the way there must not show.
    order = np.empty(len(x), np.int64)
    kernels.run(kernels.vertices.least_first, x, y, ring_offsets, order)
    turned = replace(on_grid, xy=grid.to_map(x[order], y[order]))
    return turned.take(np.flatnonzero(is_simple)), is_simple


def _without_rows(
    outlines: Outlines, is_out: BoolArray, x: I64Array, y: I64Array
) -> tuple[Outlines, I64Array, I64Array]:
    """Leave out the rings of rows."""
    # Parts stay numbered as they are; those without rings cover nothing.
    rings = np.flatnonzero(~is_out[outlines.row_of_part[outlines.part_of_ring]])
    counts = np.diff(outlines.ring_offsets)[rings]
    at = spans(outlines.ring_offsets[rings], counts)
    kept = Outlines(
        outlines.xy.take(at, axis=0),
        offsets_from(counts),
        outlines.part_of_ring[rings],
        outlines.row_of_part,
    )
    return kept, x[at], y[at]


def _settled_all(
    outlines: Outlines,
    x: I64Array,
    y: I64Array,
    n_rows: int,
    grid: Grid,
    by_sign: bool,
    apart: bool,
    keeps_places: bool,
) -> GeometryColumn:
    if len(outlines.part_of_ring) == 0:
        return GeometryColumn.from_rings([[]] * n_rows, Family.POLYGONS)
    row_of_ring = outlines.row_of_part[outlines.part_of_ring]
    columns = []
    # A batch has room on the grid for all its rows side by side, and bounded memory.
    batches = _batches(outlines, x, y, row_of_ring, n_rows) if apart else [(0, n_rows)]
    for rows in batches:
        rings = slice(*np.searchsorted(row_of_ring, rows))
        columns.append(
            _settled(
                outlines=outlines,
                x=x,
                y=y,
                rings=rings,
                rows=rows,
                grid=grid,
                by_sign=by_sign,
                apart=apart,
                keeps_places=keeps_places,
            )
        )
    return concatenate(columns)


def _batches(
    outlines: Outlines, x: I64Array, y: I64Array, row_of_ring: I64Array, n_rows: int
) -> list[tuple[int, int]]:
    """Part the rows so that each batch has few enough edges and room on the grid, one row at least."""
    # Edges by row, and the room each takes with the gap around it.
    counts = np.bincount(row_of_ring, np.diff(outlines.ring_offsets), minlength=n_rows)
    row_of_vertex = row_of_ring[owners(outlines.ring_offsets)]
    low, high = boxes_of_rows(x, y, row_of_vertex, n_rows)
    width, height = np.where(low[0] <= high[0], high - low + GAP, 0).astype(np.float64)
    room = width * height / (ROOM * ROOM)
    is_alone = np.maximum(width, height) > ROOM
    # A row begins a new batch where either sum passes a whole number.
    place = np.floor(np.cumsum(counts) / MOST_EDGES) + np.floor(np.cumsum(room))
    starts = np.diff(place, prepend=-1) != 0
    # Rows longer than a shelf have a batch of their own, and so has what follows them.
    starts |= is_alone
    starts[1:] |= is_alone[:-1]
    first = np.flatnonzero(starts)
    return [(int(a), int(b)) for a, b in zip(first, [*first[1:], n_rows], strict=True)]


def _settled(
    outlines: Outlines,
    x: I64Array,
    y: I64Array,
    rings: slice,
    rows: tuple[int, int],
    grid: Grid,
    by_sign: bool,
    apart: bool,
    keeps_places: bool,
) -> GeometryColumn:
    # All arrays cut to this batch, numbers counted from its first.
    first, stop = outlines.ring_offsets[[rings.start, rings.stop]]
    offsets = outlines.ring_offsets[rings.start : rings.stop + 1] - first
    part_of_ring = outlines.part_of_ring[rings]
    n_rows = rows[1] - rows[0]
    if len(part_of_ring) == 0:
        return GeometryColumn.from_rings([[]] * n_rows, Family.POLYGONS)
    first_part = int(part_of_ring[0])
    part_of_ring = part_of_ring - first_part
    row_of_part = outlines.row_of_part[first_part : first_part + int(part_of_ring.max()) + 1]
    row_of_part = row_of_part - rows[0]
    x, y = x[first:stop], y[first:stop]
    ring_of = owners(offsets)
    row_of_vertex = row_of_part[part_of_ring[ring_of]]
    # Laid apart by whole units: snap rounding gives the same, moved (Hobby 1999 rounds locally).
    shift_x = shift_y = np.zeros(n_rows, np.int64)
    if apart and n_rows > 1:
        shift_x, shift_y = places_apart(*boxes_of_rows(x, y, row_of_vertex, n_rows))
        x, y = x + shift_x[row_of_vertex], y + shift_y[row_of_vertex]
    # Edges lead from each vertex to the next of its ring.
    start = np.flatnonzero(ring_of[:-1] == ring_of[1:]).astype(np.int32)
    noded = node_edges(x, y, start, start + 1, np.ones(len(start), bool))
    borders = Borders(
        np.arange(len(start), dtype=np.int32),
        part_of_ring[ring_of[start]].astype(np.int32),
        np.ones(len(start), np.int8),
        row_of_part,
    )
    arrangement = arrange(noded, borders, n_rows, by_sign)
    # A piece is a row: all faces that it covers, however its parts overlap.
    row = arrangement.labels
    face = owners(arrangement.label_offsets)
    traced = trace_rings(arrangement, Pieces.of_sorted(face, row, arrangement.n_faces, n_rows))
    row_of_node = _row_of_nodes(arrangement, row_of_part)
    # Moved back before the coordinates are made, so they are what they would be at home.
    xy = grid.to_map(noded.node_x - shift_x[row_of_node], noded.node_y - shift_y[row_of_node])
    if keeps_places:
        xy = vertex_homes([outlines.xy[first:stop]], noded.node_of_vertex, noded.stays, xy)
    # All nodes stay: rows are alone, so there are no strangers.
    keeps = np.ones(len(traced.halfedge), bool)
    return rings_to_column(arrangement, traced, keeps, xy, n_rows)[0]


def _row_of_nodes(arrangement: Arrangement, row_of_part: I64Array) -> I64Array:
    deltas = arrangement.deltas
    edge = owners(deltas.offsets)
    # Rows share no nodes when they are apart; when they are not, the shift is 0 for all.
    row_of_node = np.zeros(len(arrangement.node_x), np.int64)
    row = row_of_part[deltas.part]
    row_of_node[arrangement.low[edge]] = row
    row_of_node[arrangement.high[edge]] = row
    return row_of_node


def boxes_of_rows(
    x: I64Array, y: I64Array, row: I64Array, n_rows: int
) -> tuple[I64Array, I64Array]:
    """Return the lower and upper corners (2, n_rows) of points in rising order of row.

    A row without points has its lower corner above its upper one.
    """
    offsets = offsets_from(np.bincount(row, minlength=n_rows))
    most = np.iinfo(np.int64).max
    low = np.stack([reduce_groups(np.minimum, v, offsets, most) for v in (x, y)])
    high = np.stack([reduce_groups(np.maximum, v, offsets, -most) for v in (x, y)])
    return low, high


def places_apart(low: I64Array, high: I64Array) -> tuple[I64Array, I64Array]:
    """Return by how much rows with boxes (2, n_rows) are moved: to shelves, the highest first."""
    n_rows = low.shape[1]
    has = low[0] <= high[0]
    # Next-fit decreasing height (Coffman et al. 1980): sorted by height, shelf after shelf.
    size = np.where(has, high - low + GAP, 0)
    order = np.argsort(-size[1], kind="stable")
    width, height = size[:, order].astype(np.float64)
    # About as wide as all are high, so that both directions use the grid alike.
    shelf_width = max(width.max(initial=0), np.sqrt((width * height).sum()))
    # Widths run on; what begins within one shelf's width is on that shelf.
    along = np.cumsum(width) - width
    shelf = (along // max(shelf_width, 1)).astype(np.int64)
    starts = np.flatnonzero(np.diff(shelf, prepend=-1))
    lane = np.cumsum(np.diff(shelf, prepend=shelf[:1]) > 0)
    place_x = (along - along[starts][lane]).astype(np.int64) if n_rows else along.astype(np.int64)
    # Each shelf is as high as its first, the highest on it.
    shelf_heights = np.maximum.reduceat(height, starts) if n_rows else height
    place_y = (np.cumsum(shelf_heights) - shelf_heights).astype(np.int64)[lane]
    assert 2 * shelf_width < MAX_UNITS and shelf_heights.sum() < MAX_UNITS, "rows do not fit"
    shift = np.zeros((2, n_rows), np.int64)
    shift[0, order] = place_x + GAP
    shift[1, order] = place_y + GAP
    shift -= np.where(has, low, 0)
    return shift[0], shift[1]
