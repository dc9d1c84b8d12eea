"""Rings that can be looked at edge by edge: closed, without repeats."""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, count_by, offsets_from, owners, spans
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn


class Clean(NamedTuple):
    """Rings of rows that can be looked at: closed, without repeats.

    xy, offsets : (n_vertices, 2) and (n_rings + 1,); each ring repeats its first vertex
    part, row, is_outer : (n_rings,)
    start, following, ring_of_edge : (n_edges,) the vertex an edge starts at, the next edge of its ring
    """

    xy: F64Array
    offsets: I64Array
    part: I64Array
    row: I64Array
    is_outer: BoolArray
    start: I64Array
    following: I64Array
    ring_of_edge: I64Array

    def outer_of(self, rings: I64Array) -> I64Array:
        """Return the outer ring of the part that each of some rings is of."""
        outers = np.flatnonzero(self.is_outer)
        outer_of_part = np.zeros(int(self.part.max(initial=0)) + 1, np.int64)
        outer_of_part[self.part[outers]] = outers
        return outer_of_part[self.part[rings]]

    @staticmethod
    def of(column: GeometryColumn, is_good: BoolArray, row_of_ring: I64Array) -> Clean:
        part_of_ring = owners(column.part_offsets)
        is_outer = np.zeros(column.n_rings, bool)
        is_outer[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = True
        # Rows with a ring that cannot be looked at are left out whole: nesting has no meaning for
        # them.
        rings = np.flatnonzero(is_good[row_of_ring] & (np.diff(column.ring_offsets) > 0))
        counts = np.diff(column.ring_offsets)[rings]
        # Each ring with its first vertex once more, in case it is open; repeats go.
        at = spans(column.ring_offsets[rings], counts + 1)
        ends = np.cumsum(counts + 1) - 1
        at[ends] = column.ring_offsets[rings]
        ring = np.repeat(np.arange(len(rings)), counts + 1)
        xy = column.xy.take(at, axis=0)
        keeps = np.ones(len(at), bool)
        keeps[1:] = (ring[1:] != ring[:-1]) | (xy[1:] != xy[:-1]).any(axis=1)
        # Minus zero becomes zero: bytes are compared elsewhere.
        xy, ring = xy.compress(keeps, axis=0) + 0.0, ring[keeps]
        offsets = offsets_from(count_by(ring, len(rings)))
        start = np.flatnonzero(ring[:-1] == ring[1:]) if len(ring) else np.zeros(0, np.int64)
        ring_of_edge = ring[start]
        following = np.arange(len(start)) + 1
        edge_offsets = offsets_from(count_by(ring_of_edge, len(rings)))
        # The edge behind a ring's last is its first.
        following[edge_offsets[1:] - 1] = edge_offsets[:-1]
        return Clean(
            xy=xy,
            offsets=offsets,
            part=part_of_ring[rings],
            row=row_of_ring[rings],
            is_outer=is_outer[rings],
            start=start,
            following=following,
            ring_of_edge=ring_of_edge,
        )


class Touches(NamedTuple):
    """Pairs of edges of two rings that have a point in common, which ends one of them.

    first, second : (n,) edges; xy : (n, 2) the point
    """

    first: I64Array
    second: I64Array
    xy: F64Array
