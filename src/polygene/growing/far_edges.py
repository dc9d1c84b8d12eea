"""Large polygons near a window: their edges there as they are, and far away as little as will do.

An ocean or a country comes near every task, and need not be copied whole into each. Let W be a window,
and r the map that takes each point to the nearest point of W. An edge whose box does not meet the
inside of W lies beyond one of the four sides, so r takes both its ends onto that side: it is replaced
by the piece of the side between them. At a vertex between an edge that stays and one that is replaced,
the way from the vertex p to r(p) is added.

The ring made so winds round each point inside W as often as the ring given does. For p and r(p), and
the straight way between them, never lie inside W, since W is convex; so the one ring is drawn over into
the other (every replaced edge along such ways) without passing any point inside W, and that does not
change how often a closed curve winds round it. So areas inside W are the same, edges there are the same
to the bit, and the sign of the ring's area is the same or that area is nothing. Where several vertices
follow each other on one side, the first and the last will do.

What comes of it is no valid polygon: it runs along the border of W back and forth. The plane does not
mind, which goes by how often parts wind round its faces.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from, owners
from polygene.geometry import Extent, Family, GeometryColumn

LARGE = 20_000  # vertices of a row; below, it is copied as it is


def reduced(column: GeometryColumn, rows: BoolArray, window: Extent) -> GeometryColumn:
    """Return polygons of which chosen rows (n_rows,) have only what counts inside a window.

    Heights are lost where edges are replaced: NaN.
    """
    if column.family != Family.POLYGONS or not rows.any():
        return column
    chosen = np.flatnonzero(rows)
    some = column.take(chosen)
    xy, offsets = _rings(some, window)
    nothing = np.full(len(xy), np.nan)
    part = replace(
        some,
        xy=xy,
        ring_offsets=offsets,
        z=None if column.z is None else nothing,
        m=None if column.m is None else nothing,
    )
    return column.with_rows(chosen, part)


def _rings(column: GeometryColumn, window: Extent) -> tuple[F64Array, I64Array]:
    """Return the vertices of all rings, replaced, and their offsets."""
    low, high = np.array(window[:2]), np.array(window[2:])
    xy, ring = column.xy, owners(column.ring_offsets)
    counts = np.diff(column.ring_offsets)
    first, last = column.ring_offsets[:-1], column.ring_offsets[1:] - 1
    following = np.arange(1, len(xy) + 1)
    before = np.arange(-1, len(xy) - 1)
    has = counts > 0
    following[last[has]], before[first[has]] = first[has], last[has]
    stays = _meets(xy, xy[following], low, high)  # the edge that begins at each vertex
    came = stays[before]  # and the one that ends there
    at = np.clip(xy, low, high)
    # Up to three places for each vertex: its own before or after, and where r takes it.
    places = np.stack([at, xy, at], axis=1)
    is_there = np.stack([~came & stays, came | stays, came & ~stays], axis=1)
    lone = ~came & ~stays
    is_there[lone, 0] = True
    picked = is_there.reshape(-1)
    new = places.reshape(-1, 2)[picked]
    is_moved = np.tile([True, False, True], len(xy))[picked]
    ring_of = np.repeat(ring, 3)[picked]
    for found in (_repeated, _between):  # one after the other: a corner comes once
        kept = ~found(new, is_moved, ring_of, low, high)
        new, is_moved, ring_of = new[kept], is_moved[kept], ring_of[kept]
    return _closed(new, ring_of, len(counts))


def _meets(a: F64Array, b: F64Array, low: F64Array, high: F64Array) -> BoolArray:
    """Whether the boxes of edges meet the inside of the window."""
    return np.asarray(((np.minimum(a, b) < high) & (np.maximum(a, b) > low)).all(axis=1))


def _repeated(
    xy: F64Array, is_moved: BoolArray, ring: I64Array, low: F64Array, high: F64Array
) -> BoolArray:
    """Return which vertices on sides lie where the one before does."""
    del low, high
    goes = np.zeros(len(xy), bool)
    goes[1:] = (xy[1:] == xy[:-1]).all(axis=1) & is_moved[1:] & is_moved[:-1]
    goes[1:] &= ring[1:] == ring[:-1]
    return goes


def _between(
    xy: F64Array, is_moved: BoolArray, ring: I64Array, low: F64Array, high: F64Array
) -> BoolArray:
    """Return which vertices lie on a side between others on the same."""
    sides = np.zeros(len(xy), np.int64)
    x, y = xy.T
    for bit, is_on in enumerate((x == low[0], x == high[0], y == low[1], y == high[1])):
        sides[is_on & is_moved] |= 1 << bit
    goes = np.zeros(len(xy), bool)
    goes[1:-1] = ((sides[2:] & sides[1:-1] & sides[:-2]) != 0) & (ring[2:] == ring[:-2])
    return goes


def _closed(xy: F64Array, ring: I64Array, n_rings: int) -> tuple[F64Array, I64Array]:
    """Return rings that end where they begin, and their offsets."""
    counts = np.bincount(ring, minlength=n_rings)
    offsets = offsets_from(counts)
    has = np.flatnonzero(counts)
    first, last = offsets[:-1][has], offsets[1:][has] - 1
    is_open = (xy[first] != xy[last]).any(axis=1)
    at = last[is_open] + 1
    closed = np.insert(xy, at, xy[first[is_open]], axis=0)
    counts[has[is_open]] += 1
    return closed, offsets_from(counts)
