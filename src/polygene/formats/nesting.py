"""Rings without order to polygons: which are outer ones, and which holes go where, by geometry."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import (
    F64Array,
    I64Array,
    Intervals,
    count_by,
    distinct,
    offsets_from,
    owners,
    spans,
)
from polygene.geometry import GeometryColumn, bounds_of_groups, located_in_rings
from polygene.measures import ring_areas

MANY = 32  # rings of a row, above which not all pairs of them are looked at
LONG = 200_000  # tests of a point against an edge, above which a ring's edges are sorted by height


def nested(column: GeometryColumn, n_rows: int) -> GeometryColumn:
    """Return a polygon column in which each ring was a part as parts with their holes.

    A ring inside an odd number of others of its row is a hole, of the smallest of them; the others are
    outer rings. Which way they are drawn does not matter, nor their order. Only where one ring alone is
    drawn clockwise, and lies round the boxes of all others, these are its holes without a further look.
    """
    row_of_ring = owners(column.row_offsets)
    outer_of = _holders(column, row_of_ring)
    is_hole = outer_of >= 0
    if not is_hole.any():
        return column
    home = np.where(is_hole, outer_of, np.arange(column.n_rings))
    order = np.lexsort((np.arange(column.n_rings), is_hole, home, row_of_ring))
    counts = np.diff(column.ring_offsets)[order]
    is_in_order = bool((np.diff(order) > 0).all())
    at = None if is_in_order else spans(column.ring_offsets[order], counts)
    outers = np.flatnonzero(~is_hole)
    sizes = count_by(home, column.n_rings)[outers]
    return replace(
        column,
        xy=column.xy if at is None else column.xy.take(at, axis=0),
        ring_offsets=offsets_from(counts),
        part_offsets=offsets_from(sizes),
        row_offsets=offsets_from(count_by(row_of_ring[outers], n_rows)),
        z=column.z if at is None or column.z is None else column.z[at],
        m=column.m if at is None or column.m is None else column.m[at],
        is_multi=bool((count_by(row_of_ring[outers], n_rows) > 1).any()),
    )


def _holders(column: GeometryColumn, row_of_ring: I64Array) -> I64Array:
    """Return for each ring the outer ring that it is a hole of, -1 if it is none."""
    holder = np.full(column.n_rings, -1)
    counts = count_by(row_of_ring, column.n_rows)
    several = np.flatnonzero(counts[row_of_ring] > 1)
    if len(several) == 0:
        return holder
    bounds = bounds_of_groups(column.xy, column.ring_offsets)
    area = ring_areas(column.xy, column.ring_offsets)
    plain = _by_direction(row_of_ring, area, bounds, column.n_rows)
    several = several[plain[several] < 0]
    is_plain_hole = (plain >= 0) & (plain != np.arange(len(plain)))
    holder[is_plain_hole] = plain[is_plain_hole]
    area = np.abs(area)
    left = np.where(count_by(row_of_ring[several], column.n_rows) > 0, counts, 0)
    a, b = _candidates(column, left, several, bounds)
    holds = (a != b) & (bounds[a, 0] >= bounds[b, 0]) & (bounds[a, 1] >= bounds[b, 1])
    holds &= (bounds[a, 2] <= bounds[b, 2]) & (bounds[a, 3] <= bounds[b, 3]) & (area[a] < area[b])
    a, b = a[holds], b[holds]
    inside = _side(column, a, b) > 0
    a, b = a[inside], b[inside]
    depth = count_by(a, column.n_rings)
    # The smallest that holds a ring of odd depth is an outer one of one depth less.
    order = np.lexsort((-area[b], a))
    holder[a[order]] = b[order]
    holder[(depth % 2 == 0) & ~is_plain_hole] = -1
    return holder


def _by_direction(row_of_ring: I64Array, area: F64Array, bounds: F64Array, n_rows: int) -> I64Array:
    """Return for each ring the one of its row that is drawn as outer rings are; -1 where that is not
    all there is to say.
    """
    is_outer = area < 0
    counts = count_by(row_of_ring, n_rows)
    is_plain = (count_by(row_of_ring[is_outer], n_rows) == 1) & (
        count_by(row_of_ring[area > 0], n_rows) == counts - 1
    )
    outer = np.full(n_rows, -1)
    outer[row_of_ring[is_outer]] = np.flatnonzero(is_outer)
    own = outer[row_of_ring]
    is_in = (bounds[:, :2] >= bounds[own, :2]).all(axis=1)
    is_in &= (bounds[:, 2:] <= bounds[own, 2:]).all(axis=1)
    is_plain &= count_by(row_of_ring[is_in], n_rows) == counts
    return np.where(is_plain[row_of_ring], own, -1)


def _candidates(
    column: GeometryColumn, counts: I64Array, several: I64Array, bounds: F64Array
) -> tuple[I64Array, I64Array]:
    """Return pairs of rings of a row of which the first may lie in the second.

    Of rows with few rings all, of those with many what their heights allow.
    """
    row_of_ring = owners(column.row_offsets)
    few = several[counts[row_of_ring[several]] <= MANY]
    first, n = column.row_offsets[:-1][row_of_ring[few]], counts[row_of_ring[few]]
    inner, outer = [np.repeat(few, n)], [spans(first, n)]
    for row in np.flatnonzero(counts > MANY):
        start, end = int(column.row_offsets[row]), int(column.row_offsets[row + 1])
        heights = Intervals(bounds[start:end, 1], bounds[start:end, 3])
        number, interval = heights.holding(bounds[start:end, 1])
        inner.append(number + start)
        outer.append(interval + start)
    return np.concatenate(inner), np.concatenate(outer)


def _side(column: GeometryColumn, ring: I64Array, other: I64Array) -> I64Array:
    """Return 1 where a ring lies inside another, else -1, by its first vertex off that one's border."""
    side = np.zeros(len(ring), np.int64)
    longest = int(np.diff(column.ring_offsets)[ring].max(initial=0))
    asked = np.arange(len(ring))
    for k in range(min(longest, 8)):
        at = np.minimum(
            column.ring_offsets[ring[asked]] + k, column.ring_offsets[ring[asked] + 1] - 1
        )
        found = _located(column, column.xy[at], other[asked])
        side[asked] = found
        asked = asked[found == 0]
        if len(asked) == 0:
            break
    return np.where(side == 0, 1, side)


def _located(column: GeometryColumn, points: F64Array, ring: I64Array) -> I64Array:
    """Return 1 for points inside their ring, 0 on it, -1 outside; exact.

    Of a ring with many edges that many points are asked of, only the edges at a point's height are
    looked at, each for itself.
    """
    n_edges = np.diff(column.ring_offsets)[ring]
    asks = count_by(ring, column.n_rings)[ring]
    is_long = n_edges * asks > LONG
    found = np.empty(len(ring), np.int64)
    found[~is_long] = located_in_rings(
        column.xy, column.ring_offsets, points[~is_long], ring[~is_long]
    )
    for one in distinct(ring[is_long]):
        own = np.flatnonzero(ring == one)
        xy = column.xy[column.ring_offsets[one] : column.ring_offsets[one + 1]]
        low, high = np.minimum(xy[:-1, 1], xy[1:, 1]), np.maximum(xy[:-1, 1], xy[1:, 1])
        heights = Intervals(low, high)
        for part in np.array_split(own, max(1, len(own) // 2000)):
            number, edge = heights.holding(points[part, 1])
            ends = np.stack([xy[edge], xy[edge + 1]], axis=1).reshape(-1, 2)
            offsets = 2 * np.arange(len(edge) + 1)
            crosses = located_in_rings(ends, offsets, points[part][number], np.arange(len(edge)))
            n_crossed = count_by(number[crosses > 0], len(part))
            is_on = count_by(number[crosses == 0], len(part)) > 0
            found[part] = np.where(is_on, 0, np.where(n_crossed % 2, 1, -1))
    return found
