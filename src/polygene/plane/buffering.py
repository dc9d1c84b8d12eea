"""Buffers of rows, and of those that lie over themselves many deep, run by run.

A track that goes to and fro, a coast with far more detail than the buffer is wide, a cloud of points:
one curve round each would cross itself as often as there are pairs of places near each other. Such
rows are cut into runs, each with a curve of its own, and these are joined a few at a time.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene import parallel
from polygene.arrays import BoolArray, F64Array, I64Array, owners, sum_by
from polygene.geometry import Family, GeometryColumn, concatenate
from polygene.plane.grid import Grid
from polygene.plane.heaps import melt_heaps
from polygene.plane.melting import settled_in_portions
from polygene.plane.offsets import Style, offset_outlines, without_repeats
from polygene.plane.outlines import Outlines, as_outlines, by_row, joined
from polygene.plane.runs import cut_every, with_second_again
from polygene.plane.settling import settle
from polygene.winding import turned

MOST_VERTICES = 100_000  # buffered at a time
RUN = 8  # edges
MANY = 64  # vertices of a row up to which nobody looks how it lies
# How much rows turn in one place, on average, above which they are cut into runs, in radians.
TURNS = 100.0


def buffered_rows(
    column: GeometryColumn,
    distance: F64Array,
    style: Style,
    grid: Grid,
    is_end: BoolArray | None = None,
) -> GeometryColumn:
    """Return everything within ``distance`` (n_rows,) of each row; see `offset_outlines`."""
    heaped, rest, ends = _heaped(column, distance, style, is_end)
    plain, d = column.take(rest), distance[rest]
    rings_of_rows = plain.ring_offsets_of_rows

    def portion(first: int, stop: int) -> GeometryColumn:
        some = None if ends[0] is None else ends[0][rings_of_rows[first] : rings_of_rows[stop]]
        curves = offset_outlines(plain.slice_rows(first, stop), d[first:stop], style, some)
        return settle(curves, stop - first, grid, by_sign=True, apart=True)

    parts = parallel.parted(plain.vertex_offsets_of_rows, MOST_VERTICES)
    areas = concatenate(parallel.each(portion, parts))
    if len(heaped) == 0:
        return areas
    joins = _joined_runs(column.take(heaped), distance[heaped], style, grid, ends[1])
    both = concatenate([areas, joins])
    return both.take(np.argsort(np.concatenate([rest, heaped]), kind="stable"))


def row_outlines(column: GeometryColumn, distance: F64Array, style: Style, grid: Grid) -> Outlines:
    """Return curves whose positive winding is everything within ``distance`` (n_rows,) of each row.

    As `offset_outlines`, and on the grid, settled already, where a row lies over itself many deep.
    """
    heaped, rest, _ = _heaped(column, distance, style, None)
    plain = _curves(column.take(rest), distance[rest], style)
    if len(heaped) == 0:
        return plain
    areas = _joined_runs(column.take(heaped), distance[heaped], style, grid, None)
    both = joined([plain, as_outlines(areas, 1)], [0, len(rest)])
    return by_row(both, np.concatenate([rest, heaped])[both.row_of_part])


def _curves(
    column: GeometryColumn,
    distance: F64Array,
    style: Style,
    is_end: BoolArray | None = None,
    trims: bool = True,
) -> Outlines:
    """Do what `offset_outlines` does, side by side."""
    rings_of_rows = column.ring_offsets_of_rows

    def portion(first: int, stop: int) -> Outlines:
        some = None if is_end is None else is_end[rings_of_rows[first] : rings_of_rows[stop]]
        rows = column.slice_rows(first, stop)
        return offset_outlines(rows, distance[first:stop], style, some, trims)

    parts = parallel.parted(column.vertex_offsets_of_rows, MOST_VERTICES)
    return joined(parallel.each(portion, parts), [first for first, _ in parts])


def _heaped(
    column: GeometryColumn, distance: F64Array, style: Style, is_end: BoolArray | None
) -> tuple[I64Array, I64Array, list[BoolArray | None]]:
    """Return the rows that lie over themselves, the others, and the ends of the others and of these."""
    is_heaped = _lie_over_themselves(column, distance, style)
    of_ring = is_heaped[owners(column.ring_offsets_of_rows)]
    ends = [None if is_end is None else is_end[of_ring == k] for k in (False, True)]
    return np.flatnonzero(is_heaped), np.flatnonzero(~is_heaped), ends


def _lie_over_themselves(column: GeometryColumn, distance: F64Array, style: Style) -> BoolArray:
    """Return which rows turn so much within their distance that it is worth while to cut them."""
    found = np.zeros(column.n_rows, bool)
    # What of the end of a run reaches past the next edge lies within the distance of the corner, which
    # is all the same where corners are round, and both sides are asked for.
    is_round = style.corners == "round" and (column.family != Family.LINES or style.side == "both")
    if column.family != Family.POINTS and not is_round:
        return found
    large = np.flatnonzero((np.diff(column.vertex_offsets_of_rows) > MANY) & (distance != 0))
    if len(large) == 0:
        return found
    some = column.take(large)
    row = owners(some.vertex_offsets_of_rows)
    exponent = np.frexp(2 * distance[large])[1][row]
    place = np.floor(np.ldexp(some.xy.T, -exponent))
    order = np.lexsort((place[1], place[0], row))
    begins = np.ones(len(order), bool)
    begins[1:] = np.any([np.diff(key[order]) != 0 for key in (row, *place)], axis=0)
    of_place = np.cumsum(begins) - 1
    turns = sum_by(of_place, _turns(some)[order], int(of_place[-1]) + 1)
    row_of_place = row[order[begins]]
    total = sum_by(row_of_place, turns, len(large))
    squares = sum_by(row_of_place, turns * turns, len(large))
    found[large] = squares > TURNS * total
    return found


def _turns(column: GeometryColumn) -> F64Array:
    """Return by how much (n_vertices,) vertices turn, in radians: a point all round, an end half."""
    if column.family == Family.POINTS:
        return np.full(column.n_vertices, 2 * np.pi)
    ring_of = owners(column.ring_offsets)
    step = np.diff(column.xy, axis=0)
    before, after = step[:-1], step[1:]
    cross = before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0]
    turns = np.full(column.n_vertices, np.pi if column.family == Family.LINES else 0.0)
    inner = np.flatnonzero(ring_of[:-2] == ring_of[2:])
    turns[inner + 1] = np.abs(np.arctan2(cross, (before * after).sum(axis=1)))[inner]
    return turns


def _joined_runs(
    column: GeometryColumn,
    distance: F64Array,
    style: Style,
    grid: Grid,
    is_end: BoolArray | None,
) -> GeometryColumn:
    """Buffer rows (n_rows,) by their runs."""
    curves, row = _curves_of_runs(column, distance, style, is_end)
    row = row[curves.row_of_part]  # from here on of parts; what is nowhere has none
    is_grown = distance > 0
    if column.family == Family.POLYGONS:
        column = turned(column, outer_is_counter_clockwise=True)
        inside = np.flatnonzero(is_grown)
        curves = joined([curves, as_outlines(column.take(inside), 1)], [0, 0])
        row = np.concatenate([row, inside])
    parts, row = melt_heaps(curves, row, grid)
    n = column.n_rows
    areas = settled_in_portions(by_row(parts, row), np.arange(n + 1), n, grid)
    if is_grown.all():
        return areas
    shrunk = np.flatnonzero(~is_grown)
    return areas.with_rows(shrunk, left_over(column.take(shrunk), areas.take(shrunk), grid))


def left_over(large: GeometryColumn, small: GeometryColumn, grid: Grid) -> GeometryColumn:
    """Return what of each row of valid polygons those of the other column leave."""
    both = joined([as_outlines(large, 1), as_outlines(small, -1)], [0, large.n_rows])
    # One part a row, whose winding numbers add up: one inside the large and nought in the small too.
    rows = np.arange(large.n_rows)
    one = by_row(both._replace(part_of_ring=both.part_of_ring % len(rows), row_of_part=rows), rows)
    return settle(one, large.n_rows, grid, by_sign=True, apart=True)


def _curves_of_runs(
    column: GeometryColumn, distance: F64Array, style: Style, is_end: BoolArray | None
) -> tuple[Outlines, I64Array]:
    """Return a curve for each run, and the row (n_runs,) it is of."""
    if column.family == Family.POINTS:
        row = owners(column.vertex_offsets_of_rows)
        return _curves(GeometryColumn.from_points(column.xy), distance[row], style), row
    ends = np.ones((column.n_rings, 2), bool) if is_end is None else is_end
    if column.family == Family.POLYGONS:
        # Strips on the side that is wanted; rings have their insides on the left.
        column = turned(column, outer_is_counter_clockwise=True)
        ends = np.zeros((column.n_rings, 2), bool)
    xy, offsets = without_repeats(column)
    counts = np.diff(offsets)
    last = np.maximum(offsets[1:] - 1, 0)
    is_closed = (counts >= 4) & (xy[offsets[:-1] % len(xy)] == xy[last]).all(axis=1)
    # As `offset_outlines` has it: a closed line has no ends, unless it was cut.
    is_closed &= ends.all(axis=1) | (column.family == Family.POLYGONS)
    xy, offsets = with_second_again(xy, offsets, is_closed)
    has = counts > 0
    offsets = np.append(offsets[:-1][has], offsets[-1])
    row_of_ring = owners(column.ring_offsets_of_rows)[has]
    runs = cut_every(RUN, xy, offsets, row_of_ring, (ends & ~is_closed[:, None])[has])
    curves, rows, n = [], [], [0]
    for sign, side in ((1, "right"), (-1, "left")):
        chosen = np.flatnonzero(np.sign(distance[runs.row]) == sign)
        is_strip = column.family == Family.POLYGONS
        how = replace(style, side=side, caps="flat") if is_strip else style
        if len(chosen):
            row = runs.row[chosen]
            of = np.abs(distance[row])
            # Where runs end, an edge may be short, and all of the one before it counts.
            some = runs.column.take(chosen)
            curves.append(_curves(some, of, how, runs.is_end[chosen], trims=False))
            rows.append(row)
            n.append(n[-1] + len(row))
    return joined(curves, n[:-1]), np.concatenate(rows)
