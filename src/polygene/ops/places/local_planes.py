"""Features in degrees on planes of their own: what is small on one, what is large in pieces.

Each plane is the azimuthal equidistant projection on the ellipsoid (Snyder 1987, chapter 25), by
geodesics: true in distance and direction from its middle. A piece that reaches r from the middle is
buffered on it right to about (r / earth's radius)**2 / 6, however large the distance; so pieces reach
no further than `MOST_LOCAL`. Edges are straight in degrees and bent on a plane, and the other way
round; they get vertices until they follow their course.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene import parallel, proj
from polygene.arrays import (
    BoolArray,
    F64Array,
    I64Array,
    offsets_from,
    owners,
    reduce_groups,
    spans,
)
from polygene.between import EARTH
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn, concatenate
from polygene.globe.round_world import running_on
from polygene.plane.runs import Runs, cut_at, with_second_again

MOST_LOCAL = 200_000.0  # metres from the middle of a plane
RUN = 250_000.0  # metres along a border or line that are one piece
NO_LENGTH = 1e-6  # metres
FOLLOW = 1e-4  # how closely edges are followed, in distances
FOLLOW_LEAST = 1e-3  # metres
MOST_ROUNDS = 12
TOGETHER = 100_000  # vertices that are brought from degrees to planes or back at a time


class Planes(NamedTuple):
    """A plane for each row of a column: its middle in degrees, (n_rows,) each."""

    geod: proj.Geod
    lon: F64Array
    lat: F64Array

    def of(self, first: int, stop: int) -> Planes:
        """Return the planes of rows that follow each other."""
        return Planes(self.geod, self.lon[first:stop], self.lat[first:stop])

    def take(self, rows: I64Array) -> Planes:
        """Return the planes of some rows."""
        return Planes(self.geod, self.lon[rows], self.lat[rows])

    def to_plane(self, degrees: F64Array, row: I64Array) -> F64Array:
        """Return (n, 2) metres east and north of the middles of the rows (n,) they belong to."""
        azimuth, _, distance = self.geod.inv(
            self.lon[row], self.lat[row], degrees[:, 0], degrees[:, 1]
        )
        angle = np.radians(azimuth)
        return np.stack([distance * np.sin(angle), distance * np.cos(angle)], axis=1)

    def to_degrees(self, xy: F64Array, row: I64Array) -> F64Array:
        """Return (n, 2) longitude and latitude, longitudes within half a turn of the middle's."""
        x, y = xy.T
        distance, azimuth = np.hypot(x, y), np.degrees(np.arctan2(x, y))
        middle = self.lon[row]
        lon, lat, _ = self.geod.fwd(middle, self.lat[row], azimuth, distance)
        lon = middle + (np.asarray(lon) - middle + 180) % 360 - 180
        return np.stack([lon, np.asarray(lat)], axis=1)

    def poles(self) -> F64Array:
        """Return the (n_rows,) metres to the north at which each plane has the north pole."""
        _, _, distance = self.geod.inv(self.lon, self.lat, self.lon, np.full(len(self.lat), 90.0))
        return np.asarray(distance)


def planes_of(column: GeometryColumn, geod: proj.Geod) -> tuple[Planes, F64Array]:
    """Return a plane for each row of a column in degrees, and how far each row reaches, in metres.

    The middle is that of the vertices as directions in space, so neither pole nor meridian matters.
    """

    def some(first: int, stop: int) -> tuple[Planes, F64Array]:
        return _planes_of(column.slice_rows(first, stop), geod)

    found = parallel.each(some, parallel.parted(column.vertex_offsets_of_rows, TOGETHER))
    lon, lat = (np.concatenate([getattr(p, name) for p, _ in found]) for name in ("lon", "lat"))
    return Planes(geod, lon, lat), np.concatenate([reach for _, reach in found])


def _planes_of(column: GeometryColumn, geod: proj.Geod) -> tuple[Planes, F64Array]:
    offsets = column.vertex_offsets_of_rows
    row = owners(offsets)
    lon, lat = np.radians(column.xy).T
    ways = np.stack([np.cos(lat) * np.cos(lon), np.cos(lat) * np.sin(lon), np.sin(lat)], axis=1)
    low, high = (reduce_groups(f, ways, offsets, 0.0) for f in (np.minimum, np.maximum))
    x, y, z = np.add(low, high, dtype=np.float64).T
    planes = Planes(geod, np.degrees(np.arctan2(y, x)), np.degrees(np.arctan2(z, np.hypot(x, y))))
    _, _, far = geod.inv(planes.lon[row], planes.lat[row], *column.xy.T)
    reach = reduce_groups(np.maximum, np.asarray(far, np.float64), offsets, 0.0)
    return planes, reach.astype(np.float64)


def followed(column: GeometryColumn, planes: Planes, tolerance: F64Array) -> GeometryColumn:
    """Give edges straight in degrees vertices until those straight on the plane follow them.

    ``tolerance`` (n_rows,) is in metres; the middle of each edge is looked at, and off by four times
    less when it is halved. Returns the column on the planes.
    """

    def some(first: int, stop: int) -> GeometryColumn:
        rows = column.slice_rows(first, stop)
        return _followed(rows, planes.of(first, stop), tolerance[first:stop])

    return concatenate(
        parallel.each(some, parallel.parted(column.vertex_offsets_of_rows, TOGETHER))
    )


def _followed(column: GeometryColumn, planes: Planes, tolerance: F64Array) -> GeometryColumn:
    flat = column
    for _ in range(MOST_ROUNDS):
        row = owners(column.vertex_offsets_of_rows)
        flat = column.with_xy(planes.to_plane(column.xy, row))
        if column.family == Family.POINTS:
            break
        start = _edges(column)
        a, b = column.xy.take(start, axis=0), column.xy.take(start + 1, axis=0)
        start = start[_may_bend(_course_lengths(a, b), a[:, 1], b[:, 1], tolerance[row[start]])]
        middle = (column.xy[start] + column.xy[start + 1]) / 2
        there = planes.to_plane(middle, row[start])
        off = np.hypot(*(there - (flat.xy[start] + flat.xy[start + 1]) / 2).T)
        pieces = _pieces(off, tolerance[row[start]])
        if (pieces == 1).all():
            break
        column = divided(column, start, pieces)
    return flat


def back_in_degrees(
    column: GeometryColumn, planes: Planes, tolerance: F64Array
) -> tuple[GeometryColumn, GeometryColumn]:
    """Return a column on planes in degrees, edges followed as closely, and on the planes as it is then.

    Longitudes run on along a ring rather than jump, so they may be beyond 180.
    """
    for _ in range(MOST_ROUNDS):
        row = owners(column.vertex_offsets_of_rows)
        degrees = planes.to_degrees(column.xy, row)
        start = _edges(column)
        length = np.hypot(*(column.xy[start + 1] - column.xy[start]).T)
        lat = degrees[:, 1]
        start = start[_may_bend(length, lat[start], lat[start + 1], tolerance[row[start]])]
        a, b = degrees.take(start, axis=0), degrees.take(start + 1, axis=0)
        turn = (b[:, 0] - a[:, 0] + 180) % 360 - 180
        flat = (column.xy[start] + column.xy[start + 1]) / 2
        middle = planes.to_degrees(flat, row[start])
        lon, lat = a[:, 0] + turn / 2, (a[:, 1] + b[:, 1]) / 2
        east = ((middle[:, 0] - lon + 180) % 360 - 180) * np.cos(np.radians(lat))
        off = np.radians(np.hypot(east, middle[:, 1] - lat)) * EARTH
        pieces = _pieces(off, tolerance[row[start]])
        if (pieces == 1).all():
            break
        column = divided(column, start, pieces)
    return column.with_xy(running_on(degrees, column.ring_offsets)), column


def _course_lengths(a: F64Array, b: F64Array) -> F64Array:
    """Return at least the metres along edges that are straight in degrees, (n, 2) to (n, 2).

    Not the way from end to end, which is nothing from -180 to 180.
    """
    nearest = np.minimum(np.abs(a[:, 1]), np.abs(b[:, 1]))
    nearest[a[:, 1] * b[:, 1] < 0] = 0  # over the equator
    east = (b[:, 0] - a[:, 0]) * np.cos(np.radians(nearest))
    return np.radians(np.hypot(east, b[:, 1] - a[:, 1])) * 1.01 * EARTH


def _may_bend(length: F64Array, lat0: F64Array, lat1: F64Array, tolerance: F64Array) -> BoolArray:
    """Return which edges, by their metres and latitudes, may bend by more than a tolerance.

    A parallel bends by the tangent of its latitude over the radius, other lines that are straight in
    degrees by no more than twice that; so does a straight line on a plane that is not too far out.
    """
    steepest = np.radians(np.minimum(np.maximum(np.abs(lat0), np.abs(lat1)), 90))
    return length**2 * (2 * np.tan(steepest) + 0.2) / (8 * EARTH) > tolerance


def _edges(column: GeometryColumn) -> I64Array:
    """Return the vertices at which an edge starts."""
    ring_of = owners(column.ring_offsets)
    return np.flatnonzero(ring_of[:-1] == ring_of[1:])


def _pieces(off: F64Array, tolerance: F64Array) -> I64Array:
    """Return into how many pieces to part edges that bend by so much in their middle."""
    return np.clip(np.ceil(np.sqrt(off / tolerance)), 1, 64).astype(np.int64)


def divided(column: GeometryColumn, start: I64Array, pieces: I64Array) -> GeometryColumn:
    """Cut edges, given by the vertices they start at, into so many equal pieces each."""
    per_vertex = np.ones(column.n_vertices, np.int64)
    per_vertex[start] = pieces
    at = np.repeat(np.arange(column.n_vertices), per_vertex)
    nth = spans(np.zeros(len(per_vertex), np.int64), per_vertex)
    stop = np.minimum(at + 1, column.n_vertices - 1)
    share = (nth / per_vertex[at])[:, None]
    first, last = column.xy.take(at, axis=0), column.xy.take(stop, axis=0)
    xy = np.where(nth[:, None] > 0, (1 - share) * first + share * last, first)
    before = offsets_from(per_vertex)
    return replace(column, xy=xy, ring_offsets=before[column.ring_offsets], z=None, m=None)


def runs_of(column: GeometryColumn, geod: proj.Geod) -> Runs:
    """Cut the rings or lines of a column into runs of about `RUN` metres.

    A ring's last run goes on over the first edge once more. Edges longer than a tenth of a run are cut.
    """
    start = _edges(column)
    a, b = column.xy.take(start, axis=0), column.xy.take(start + 1, axis=0)
    pieces = np.maximum(1, np.ceil(_course_lengths(a, b) / (RUN / 10))).astype(np.int64)
    column = divided(column, start, pieces)
    is_ring = column.family == Family.POLYGONS
    xy, ring_offsets = column.xy, column.ring_offsets
    if is_ring:
        is_closed = np.ones(column.n_rings, bool)
        xy, ring_offsets = with_second_again(xy, ring_offsets, is_closed)
    ring_of = owners(ring_offsets)
    step = np.zeros(len(xy))
    same = np.flatnonzero(ring_of[:-1] == ring_of[1:])
    step[same + 1] = geod.inv(*xy[same].T, *xy[same + 1].T)[2]
    along = np.cumsum(step)
    along -= along[ring_offsets[:-1][ring_of]]
    # A run begins at each edge that is first in its stretch, and ends with the next one's first edge.
    # Not at one that has no length, as along a pole: it has no direction for the runs to join in.
    stretch = np.floor(along / RUN)
    is_first = np.append(True, ring_of[same[1:]] != ring_of[same[:-1]])[: len(same)]
    able = same[is_first | (step[same + 1] > NO_LENGTH)]
    starts = np.ones(len(able), bool)
    starts[1:] = (stretch[able[1:]] != stretch[able[:-1]]) | (
        ring_of[able[1:]] != ring_of[able[:-1]]
    )
    first = able[starts]
    row = owners(column.ring_offsets_of_rows)
    ends = np.full((column.n_rings, 2), not is_ring)
    return cut_at(first, xy, ring_offsets, row, ends)
