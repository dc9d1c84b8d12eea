"""Portions of two layers that can be looked at one without the other.

What two rows are to each other depends on what is near them alone, so one layer is cut in tiles and
each tile looked at with what of both layers comes near it: side by side, with less memory at a time,
and the same portions whatever the machine.
"""

from __future__ import annotations

import itertools

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, distinct
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn
from polygene.plane.near_boxes import NearBoxes
from polygene.plane.sheets import sheets_of

# An arrangement of so many vertices stays in tens of megabytes; larger ones gain nothing.
TILE = 200_000  # vertices of both layers
MOST_REPEATED = 1.5  # times that portions may hold all there is


class Portion(NamedTuple):
    """Rows of the first and of the second layer: (n_first,) and (n_second,) of each.

    own, is_asked : pairs are asked for of those rows of the first (0) or second (1); the others are
        near them only
    """

    first: I64Array
    second: I64Array
    own: int
    is_asked: BoolArray


def portions(first: GeometryColumn, second: GeometryColumn, margin: float) -> list[Portion]:
    """Part two layers so that rows whose boxes come within ``margin`` meet in some portion.

    A row of one layer is in one portion, those of the other in as many as they come near. Where long
    rows would be in many, all is one portion. Where rows of a layer lie over each other very deep, a
    portion has some of them only.
    """
    found = _tiles_of_both(first, second, margin)
    return [part for portion in found for part in _in_sheets(portion, first, second, margin)]


def _in_sheets(
    portion: Portion, first: GeometryColumn, second: GeometryColumn, margin: float
) -> list[Portion]:
    """Part a portion so that few of its rows lie over others of their layer."""
    columns = first.take(portion.first), second.take(portion.second)
    sheets = [sheets_of(column) for column in columns]
    if not any(sheet.any() for sheet in sheets) or not all(len(sheet) for sheet in sheets):
        return [portion]
    bounds = [column.row_bounds() for column in columns]
    found: list[Portion] = []
    for k, m in itertools.product(*(distinct(sheet) for sheet in sheets)):
        mine, theirs = np.flatnonzero(sheets[0] == k), np.flatnonzero(sheets[1] == m)
        # Of what is not deep only what comes near the others.
        mine = mine[NearBoxes(bounds[1][theirs], margin).meets(bounds[0][mine])]
        theirs = theirs[NearBoxes(bounds[0][mine], margin).meets(bounds[1][theirs])]
        if found and not (len(mine) and len(theirs)):
            continue
        is_asked = portion.is_asked[(mine, theirs)[portion.own]]
        found.append(Portion(portion.first[mine], portion.second[theirs], portion.own, is_asked))
    return found


def _tiles_of_both(first: GeometryColumn, second: GeometryColumn, margin: float) -> list[Portion]:
    n_tiles = -(-(first.n_vertices + second.n_vertices) // TILE)
    if n_tiles > 1:
        # Tiles of one layer, with all of the other that comes near: tried both ways round.
        bounds = [first.row_bounds(), second.row_bounds()]
        # Fewer rows are parted sooner.
        order = (0, 1) if first.n_rows <= second.n_rows else (1, 0)
        for own, other in (order, order[::-1]):
            found = _by_tiles((first, second)[own], bounds[own], bounds[other], n_tiles, margin)
            column = (first, second)[other]
            sizes = np.diff(column.vertex_offsets_of_rows)
            # What long rows of the other layer would be looked at again and again is counted first.
            n_vertices = sum(int(sizes[near].sum()) for _, near in found)
            if len(found) > 1 and n_vertices <= MOST_REPEATED * column.n_vertices + TILE:
                return [
                    _with_neighbours(own, bounds[own], rows, near, margin) for rows, near in found
                ]
    every = np.arange(first.n_rows)
    return [Portion(every, np.arange(second.n_rows), 0, every >= 0)]


def _with_neighbours(
    own: int, bounds: F64Array, rows: I64Array, near: I64Array, margin: float
) -> Portion:
    """Return a tile of one layer with rows of the same that come near it, and those of the other."""
    is_near = NearBoxes(bounds[rows], margin).meets(bounds)
    is_near[rows] = True
    mine = np.flatnonzero(is_near)
    is_asked = np.isin(mine, rows)
    first, second = (mine, near) if own == 0 else (near, mine)
    return Portion(first, second, own, is_asked)


def _by_tiles(
    column: GeometryColumn, bounds: F64Array, others: F64Array, n_tiles: int, margin: float
) -> list[tuple[I64Array, I64Array]]:
    """Return the rows of each tile, and the rows of the other layer that come near it."""
    # Columns side by side in memory: this is asked for every tile over all rows.
    low_x, low_y, high_x, high_y = np.ascontiguousarray(others.T)
    found = []
    for rows in tiles(bounds, np.diff(column.vertex_offsets_of_rows), n_tiles):
        low, high = bounds[rows, :2].min(axis=0) - margin, bounds[rows, 2:].max(axis=0) + margin
        is_near = (low_x <= high[0]) & (high_x >= low[0]) & (low_y <= high[1]) & (high_y >= low[1])
        found.append((rows, np.flatnonzero(is_near)))
    return found


def tiles(bounds: F64Array, sizes: I64Array, n_tiles: int) -> list[I64Array]:
    """Part boxes (n, 4) into tiles of about as many vertices; empty boxes are in none.

    Sorted into columns by their middles' x, and those into tiles by y (Leutenegger and others 1997).
    """
    rows = np.flatnonzero(np.isfinite(bounds).all(axis=1))
    # Twice the middle orders as the middle does.
    middle = bounds[rows, :2] + bounds[rows, 2:]
    n_columns = max(1, round(n_tiles**0.5))
    found = []
    for column in _stretches(np.argsort(middle[:, 0], kind="stable"), sizes[rows], n_columns):
        order = column[np.argsort(middle[column, 1], kind="stable")]
        found += [rows[t] for t in _stretches(order, sizes[rows], -(-n_tiles // n_columns))]
    return [np.sort(tile) for tile in found if len(tile)]


def _stretches(order: I64Array, sizes: I64Array, n: int) -> list[I64Array]:
    """Part an order into n stretches of about the same size."""
    reach = np.cumsum(sizes[order])
    total = int(reach[-1]) if len(reach) else 0
    # Cut where the running size passes each share of the whole.
    cuts = np.searchsorted(reach, total * np.arange(1, n) // n)
    return np.split(order, cuts)
