"""Areas from planes of their own, brought into -180 to 180 degrees: over the meridian, round the poles.

A ring whose longitudes run on is cut where it crosses a multiple of the 180th meridian. From there it
walks along that meridian to the south pole, along the pole to the other side, and back up to where it
goes on. What is walked twice cancels, and the winding numbers of the ring come out as they were, but
for one thing: round the north pole they are 0. A ring that winds round it on its plane gets the whole
world added. Winding numbers add up, so nothing has to be known of which ring is whose hole.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, count_by, offsets_from, owners, spans
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn

DIGITS = 11  # of longitudes: a micrometre
WORLD = np.array([(-180, -90), (180, -90), (180, 90), (-180, 90), (-180, -90)], np.float64)


class Folded(NamedTuple):
    """Closed rings within the world; rings of a row follow each other.

    is_parted : (n_rows,) rows that cross the 180th meridian or go round a pole
    """

    xy: F64Array
    ring_offsets: I64Array
    row_of_ring: I64Array
    is_parted: BoolArray


def folded(degrees: GeometryColumn, plane: GeometryColumn, poles: F64Array) -> Folded:
    """Bring rings whose longitudes run on into the world.

    Parameters
    ----------
    degrees, plane : the same rings in degrees and on planes of their own
    poles : (n_rows,) how far north each row's plane has the north pole
    """
    row_of_ring = owners(degrees.ring_offsets_of_rows)
    offsets = degrees.ring_offsets
    turns = _turns_round(plane, poles[row_of_ring])
    lon, lat = degrees.xy.T
    strip = np.floor((lon + 180) / 360).astype(np.int64)
    ring_of = owners(offsets)
    is_edge = ring_of[:-1] == ring_of[1:]
    cross = np.flatnonzero(is_edge & (strip[:-1] != strip[1:]))
    is_parted = np.zeros(degrees.n_rows, bool)
    is_parted[row_of_ring[ring_of[cross]]] = True
    is_parted[row_of_ring[turns != 0]] = True
    # Rounded as they came: a ring that went round a pole has to end where it began, to the bit.
    inside = np.stack([np.round(lon - 360 * strip, DIGITS), lat], axis=1)
    # Four vertices after each that an edge over the meridian starts at.
    more = np.zeros(len(lon), np.int64)
    more[cross] = 4
    place = np.arange(len(lon)) + offsets_from(more)[:-1]
    xy = np.empty((len(lon) + 4 * len(cross), 2))
    xy[place] = inside
    border = 360.0 * np.maximum(strip[cross], strip[cross + 1]) - 180
    rise = (border - lon[cross]) / (lon[cross + 1] - lon[cross])
    at = lat[cross] + rise * (lat[cross + 1] - lat[cross])
    side = np.where(strip[cross + 1] > strip[cross], 180.0, -180.0)
    south = np.full(len(cross), -90.0)
    for k, (x, y) in enumerate(((side, at), (side, south), (-side, south), (-side, at)), 1):
        xy[place[cross] + k] = np.stack([x, y], axis=1)
    grown = offsets_from(more)[offsets]
    return _with_worlds(xy, offsets + grown, row_of_ring, turns, is_parted)


def _with_worlds(
    xy: F64Array, offsets: I64Array, row_of_ring: I64Array, turns: I64Array, is_parted: BoolArray
) -> Folded:
    """Add the whole world as often as rings wind round the north pole."""
    round_it = np.repeat(np.flatnonzero(turns), np.abs(turns[turns != 0]))
    if len(round_it) == 0:
        return Folded(xy, offsets, row_of_ring, is_parted)
    worlds = np.concatenate([WORLD if turns[r] > 0 else WORLD[::-1] for r in round_it.tolist()])
    row = np.concatenate([row_of_ring, row_of_ring[round_it]])
    counts = np.concatenate([np.diff(offsets), np.full(len(round_it), len(WORLD))])
    order = np.argsort(row, kind="stable")
    starts = offsets_from(counts)[:-1][order]
    both = np.concatenate([xy, worlds])
    return Folded(
        both[spans(starts, counts[order])], offsets_from(counts[order]), row[order], is_parted
    )


def _turns_round(plane: GeometryColumn, north: F64Array) -> I64Array:
    """Return how often each ring (n_rings,) winds round the point (0, north) of its plane."""
    ring_of = owners(plane.ring_offsets)
    x, y = plane.xy.T
    start = np.flatnonzero((ring_of[:-1] == ring_of[1:]) & ((x[:-1] < 0) != (x[1:] < 0)))
    x0, x1, y0, y1 = x[start], x[start + 1], y[start], y[start + 1]
    above = y0 + (y1 - y0) * (-x0 / (x1 - x0)) > north[ring_of[start]]
    start, x1 = start[above], x1[above]
    ring = ring_of[start]
    # Over the ray to the north from right to left is once round, counter-clockwise.
    return count_by(ring[x1 < 0], plane.n_rings) - count_by(ring[x1 >= 0], plane.n_rings)


def running_on(degrees: F64Array, ring_offsets: I64Array) -> F64Array:
    """Return coordinates whose longitude changes by half a turn at most from vertex to vertex."""
    # Whole turns are counted and added at once, to longitudes with room in them for the digits of the
    # turns: so a ring ends in the strip where it began, as many turns further as it has gone.
    lon = np.round(degrees[:, 0], DIGITS)
    turns = np.zeros(len(degrees))
    turns[1:] = -np.floor((np.diff(lon) + 180) / 360)
    has = ring_offsets[:-1] < ring_offsets[1:]
    starts = ring_offsets[:-1][has]
    turns[starts] = 0
    run = np.cumsum(turns)
    at_start = np.zeros(len(ring_offsets) - 1)
    at_start[has] = run[starts]
    lon += 360 * (run - at_start[owners(ring_offsets)])
    return np.stack([lon, degrees[:, 1]], axis=1)
