"""Rings without order to polygons: which are outer ones, and which holes go where, by geometry."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene import kernels
from polygene.arrays import I64Array, count_by, offsets_from, owners, spans
from polygene.geometry import GeometryColumn, bounds_of_groups
from polygene.measures import ring_areas


def nested(column: GeometryColumn, n_rows: int) -> GeometryColumn:
    """Return a polygon column in which each ring was a part as parts with their holes.

    A ring inside an odd number of others of its row is a hole, of the smallest of them; the others are
    outer rings. Which way they are drawn does not matter, nor their order.
    """
    row_of_ring = owners(column.row_offsets)
    outer_of = _holders(column, row_of_ring)
    is_hole = outer_of >= 0
    if not is_hole.any():
        return column
    home = np.where(is_hole, outer_of, np.arange(column.n_rings))
    order = np.lexsort((np.arange(column.n_rings), is_hole, home, row_of_ring))
    counts = np.diff(column.ring_offsets)[order]
    at = spans(column.ring_offsets[order], counts)
    outers = np.flatnonzero(~is_hole)
    sizes = count_by(home, column.n_rings)[outers]
    return replace(
        column,
        xy=column.xy.take(at, axis=0),
        ring_offsets=offsets_from(counts),
        part_offsets=offsets_from(sizes),
        row_offsets=offsets_from(count_by(row_of_ring[outers], n_rows)),
        z=None if column.z is None else column.z[at],
        m=None if column.m is None else column.m[at],
        is_multi=bool((count_by(row_of_ring[outers], n_rows) > 1).any()),
    )


def _holders(column: GeometryColumn, row_of_ring: I64Array) -> I64Array:
    """Return for each ring the outer ring that it is a hole of, -1 if it is none."""
    holder = np.full(column.n_rings, -1)
    counts = count_by(row_of_ring, column.n_rows)
    several = np.flatnonzero(counts[row_of_ring] > 1)
    if len(several) == 0:
        return holder
    first = column.row_offsets[:-1][row_of_ring[several]]
    n = counts[row_of_ring[several]]
    a, b = np.repeat(several, n), spans(first, n)
    bounds = bounds_of_groups(column.xy, column.ring_offsets)
    area = np.abs(ring_areas(column.xy, column.ring_offsets))
    holds = (a != b) & (bounds[a, 0] >= bounds[b, 0]) & (bounds[a, 1] >= bounds[b, 1])
    holds &= (bounds[a, 2] <= bounds[b, 2]) & (bounds[a, 3] <= bounds[b, 3]) & (area[a] < area[b])
    a, b = a[holds], b[holds]
    inside = _side(column, a, b) > 0
    a, b = a[inside], b[inside]
    depth = count_by(a, column.n_rings)
    # The smallest that holds a ring of odd depth is an outer one of one depth less.
    order = np.lexsort((-area[b], a))
    holder[a[order]] = b[order]
    holder[depth % 2 == 0] = -1
    return holder


def _side(column: GeometryColumn, ring: I64Array, other: I64Array) -> I64Array:
    """Return 1 where a ring lies inside another, else -1, by its first vertex off that one's border."""
    side = np.zeros(len(ring), np.int64)
    longest = int(np.diff(column.ring_offsets)[ring].max(initial=0))
    asked = np.arange(len(ring))
    for k in range(min(longest, 8)):
        at = np.minimum(
            column.ring_offsets[ring[asked]] + k, column.ring_offsets[ring[asked] + 1] - 1
        )
        found = np.empty(len(asked), np.int64)
        kernels.run(
            kernels.valid.locate_in_rings,
            np.ascontiguousarray(column.xy[at, 0]),
            np.ascontiguousarray(column.xy[at, 1]),
            np.ascontiguousarray(other[asked]),
            np.ascontiguousarray(column.xy),
            column.ring_offsets,
            np.zeros(16),
            found,
        )
        side[asked] = found
        asked = asked[found == 0]
        if len(asked) == 0:
            break
    return np.where(side == 0, 1, side)
