"""Edges that are straight in longitude and latitude, as short pieces in space."""

from __future__ import annotations

import numpy as np

from polygene import proj
from polygene.arrays import F64Array, I64Array, owners, spans
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn

MOST_SLACK = 10.0  # metres that a piece may leave the straight line between its ends
ROUNDING = 1e-8  # metres


class EdgePieces(NamedTuple):
    """Pieces of edges; a point is one of no length.

    start, stop : (n, 2) longitude and latitude of their ends in radians
    ends : (n, 6) the same in space, in metres from the middle of the ellipsoid
    slack : (n,) metres that the course between them may be off the straight line at most
    row : (n,) whose they are
    """

    start: F64Array
    stop: F64Array
    ends: F64Array
    slack: F64Array
    row: I64Array

    def take(self, chosen: I64Array) -> EdgePieces:
        return EdgePieces(
            self.start.take(chosen, axis=0),
            self.stop.take(chosen, axis=0),
            self.ends.take(chosen, axis=0),
            self.slack[chosen],
            self.row[chosen],
        )


def pieces_of(column: GeometryColumn, to_radians: float, geod: proj.Geod) -> EdgePieces:
    """Return the edges, or points, of a column in longitude and latitude in pieces, row by row.

    The second derivative of a course over its share of the way bounds how far it leaves the straight
    line: an eighth of the greatest. An edge is parted until that is less than `MOST_SLACK`.
    """
    places = column.xy * to_radians
    row_of_vertex = owners(column.vertex_offsets_of_rows)
    if column.family == Family.POINTS:
        ends = np.tile(places_in_space(places, geod), 2)
        return EdgePieces(places, places, ends, np.full(len(places), ROUNDING), row_of_vertex)
    ring_of = owners(column.ring_offsets)
    start = np.flatnonzero(ring_of[:-1] == ring_of[1:])
    used = np.zeros(column.n_vertices, bool)
    used[start] = used[start + 1] = True
    lone = np.flatnonzero(~used)
    stop = np.concatenate([start + 1, lone])
    start = np.concatenate([start, lone])
    if len(lone):
        order = np.argsort(row_of_vertex[start], kind="stable")
        start, stop = start[order], stop[order]
    a, b, row = places[start], places[stop], row_of_vertex[start]
    slack = _slack(a, b, geod)
    counts = np.ceil(np.sqrt(slack / MOST_SLACK)).astype(np.int64)
    counts = np.maximum(counts, 1)
    if (counts <= 1).all():
        at = places_in_space(places, geod)
        ends = np.concatenate([at.take(start, axis=0), at.take(stop, axis=0)], axis=1)
    else:
        of = np.repeat(np.arange(len(a)), counts)
        nth = spans(np.zeros(len(a), np.int64), counts)
        low, high = ((nth + k) / counts[of] for k in (0, 1))
        way = b[of] - a[of]
        first, last = a[of] + low[:, None] * way, a[of] + high[:, None] * way
        last[nth + 1 == counts[of]] = b  # bit for bit
        a, b, row = first, last, row[of]
        ends = np.concatenate([places_in_space(a, geod), places_in_space(b, geod)], axis=1)
        slack = _slack(a, b, geod)
    return EdgePieces(a, b, ends, slack + ROUNDING, row)


def _slack(a: F64Array, b: F64Array, geod: proj.Geod) -> F64Array:
    """Return a bound on how far courses leave the straight line between their ends."""
    turn, rise = np.abs(b - a).T
    steep = np.maximum(np.abs(a[:, 1]), np.abs(b[:, 1]))
    flat = np.where(a[:, 1] * b[:, 1] <= 0, 0, np.minimum(np.abs(a[:, 1]), np.abs(b[:, 1])))
    second = rise**2 + turn**2 * np.cos(flat) + 2 * turn * rise * np.sin(np.minimum(steep, 1.6))
    # The radii of curvature are less than a hundredth larger than the ellipsoid's.
    return 1.02 * geod.a / 8 * second


class Sines(NamedTuple):
    """Sines and cosines (n,) of longitudes and latitudes."""

    sin_lon: F64Array
    cos_lon: F64Array
    sin_lat: F64Array
    cos_lat: F64Array

    @classmethod
    def of(cls, places: F64Array) -> Sines:
        """Return those of places (n, 2) in radians."""
        (sin_lon, sin_lat), (cos_lon, cos_lat) = np.sin(places).T, np.cos(places).T
        return cls(sin_lon, cos_lon, sin_lat, cos_lat)

    def in_space(self, geod: proj.Geod) -> F64Array:
        """Return (n, 3) metres of the places on the ellipsoid from its middle."""
        across = geod.a / np.sqrt(1 - geod.es * self.sin_lat**2)
        found = np.empty((len(across), 3))
        found[:, 2] = across * (1 - geod.es) * self.sin_lat
        across *= self.cos_lat
        found[:, 0], found[:, 1] = across * self.cos_lon, across * self.sin_lon
        return found


def places_in_space(places: F64Array, geod: proj.Geod) -> F64Array:
    """Return (n, 3) metres of longitudes and latitudes (n, 2) in radians, on the ellipsoid."""
    return Sines.of(places).in_space(geod)
