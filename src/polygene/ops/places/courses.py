"""Edges on their way to another CRS: straight in their own, bent in the other.

An edge is halved until its pieces, straight in the other CRS, follow its course. Where it is halved
depends on the edge alone, whichever way it is drawn and whatever feature it is of, so features that
share an edge share what becomes of it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from, owners
from polygene.between import Way
from polygene.classes import NamedTuple
from polygene.crs import ellipsoid, is_geographic, turn_of
from polygene.geometry import Extent, Family, GeometryColumn

MOST_ROUNDS = 40
# Edges that a map may be cut across: so many metres long there, or so many times as long as most.
# Halved so often, this share of the length is left if it is.
LONG, UNUSUAL, HALVINGS, TORN = 100_000.0, 10.0, 24, 0.02
# Metres from which on an edge may lead round the earth the long way, and how often such are halved.
ROUND, MOST_TURNS = 1_000_000.0, 12
PROBES = 400  # edges that tell how much others may bend


class Followed(NamedTuple):
    """A column whose edges follow their course, in its own CRS and, (n_vertices, 2), in the other.

    is_torn : (n_vertices,) edges starting there that do not, however short: the other CRS has no
        place for them or is cut there
    """

    column: GeometryColumn
    there: F64Array
    is_torn: BoolArray


def metres_between(crs_units: Units, a: F64Array, b: F64Array) -> F64Array:
    """Return about how far places (n, 2) that are near each other are apart, in metres."""
    off = b - a
    if not crs_units.is_geographic:
        return np.hypot(*off.T) * crs_units.size
    turn = 2 * np.pi / crs_units.size
    off[:, 0] -= turn * np.round(off[:, 0] / turn)
    off[:, 0] *= np.cos(np.clip((a[:, 1] + b[:, 1]) * (crs_units.size / 2), -np.pi / 2, np.pi / 2))
    return np.hypot(*off.T) * (crs_units.size * crs_units.radius)


class Units(NamedTuple):
    """Of coordinates: whether they are longitudes and latitudes; their size in radians or metres."""

    is_geographic: bool
    size: float
    radius: float

    @staticmethod
    def of(crs: object) -> Units:
        factor = crs.axis_info[0].unit_conversion_factor  # type: ignore[attr-defined]
        return Units(is_geographic(crs), float(factor), ellipsoid(crs).a)  # type: ignore[arg-type]


def followed(
    column: GeometryColumn,
    way: Way,
    tolerance: float,
    windows: Sequence[Extent] | None = None,
    there: F64Array | None = None,
) -> Followed:
    """Halve edges until they follow their course within ``tolerance`` metres, measured there.

    An infinite tolerance leaves edges as they are. With ``windows``, boxes in the CRS of the column,
    only edges whose own box meets one are looked at. ``there`` is where the vertices are.

    The places at a quarter, a half and three quarters of each are looked at: a curve that is the same
    both ways about its middle may be on course there and nowhere else.
    """
    units = Units.of(way.target)
    there = way.there(column.xy) if there is None else there
    torn: I64Array = np.zeros(0, np.int64)
    if column.family != Family.POINTS:
        column, there = _round_the_earth(column, there, way)
    if column.family == Family.POINTS or np.isinf(tolerance):
        return Followed(column, there, np.zeros(column.n_vertices, bool))
    # Between places that have none over there, shorter edges than this can have one.
    shortest = min((min(x1 - x0, y1 - y0) / 8 for x0, y0, x1, y1 in windows or []), default=np.inf)
    start = _edges(column)
    start = start[_near(column.xy, start, windows)]
    start = start[_may_bend(column.xy, start, way, units, tolerance)]
    for turn in range(MOST_ROUNDS):
        a, b = column.xy.take(start, axis=0), column.xy.take(start + 1, axis=0)
        middle = (a + b) / 2
        half = way.there(middle)
        ends = there.take(start, axis=0), there.take(start + 1, axis=0)
        off = np.stack(
            [
                _off_course(units, *ends, half),
                _off_course(units, *ends, way.there((a + middle) / 2)),
                _off_course(units, *ends, way.there((middle + b) / 2)),
            ]
        )
        # Whether it is on course is known only where all three have a place.
        is_off = ~(off <= tolerance).all(axis=0)
        is_nowhere = np.isnan(half[:, 0]) & np.isnan(ends[0][:, 0]) & np.isnan(ends[1][:, 0])
        is_nowhere &= np.hypot(*(b - a).T) < shortest
        is_short = (a == middle).all(axis=1) | (b == middle).all(axis=1) | (turn == MOST_ROUNDS - 1)
        stays = is_off & (is_nowhere | is_short)
        torn = np.concatenate([torn, start[stays]])
        goes = np.flatnonzero(is_off & ~stays)
        if len(goes) == 0:
            break
        long = start[goes]
        column, place = with_middles(column, long)
        moved = np.empty((column.n_vertices, 2))
        moved[place] = there
        moved[place[long] + 1] = half[goes]
        there, torn = moved, place[torn]
        start = np.stack([place[long], place[long] + 1], axis=1).ravel()
        start = start[_near(column.xy, start, windows)]
    is_torn = np.zeros(column.n_vertices, bool)
    is_torn[torn] = True
    return Followed(column, there, is_torn)


def _round_the_earth(
    column: GeometryColumn, there: F64Array, way: Way
) -> tuple[GeometryColumn, F64Array]:
    """Halve edges of a plane until two longitudes tell which way round the earth they lead.

    An edge from one end of a map to the other has the same place, or nearly, at both of its ends. Such
    are long, and their middle does not lie between their ends the short way.
    """
    turn = turn_of(way.target)
    if not turn or is_geographic(way.source):
        return column, there
    least = ROUND / Units.of(way.source).size
    start = _edges(column)
    for _ in range(MOST_TURNS):
        a, b = column.xy.take(start, axis=0), column.xy.take(start + 1, axis=0)
        is_long = np.abs(b - a).max(axis=1, initial=0.0) > least
        start, a, b = start[is_long], a[is_long], b[is_long]
        if len(start) == 0:
            break
        half = way.there((a + b) / 2)
        ends = there.take(start, axis=0), there.take(start + 1, axis=0)
        whole, first, second = (
            _short_way(p, q, turn) for p, q in (ends, (ends[0], half), (half, ends[1]))
        )
        with np.errstate(invalid="ignore"):
            goes = (whole > turn / 4) | (first + second > whole + turn / 360)
        if not goes.any():
            break
        long, half = start[goes], half[goes]
        column, place = with_middles(column, long)
        moved = np.empty((column.n_vertices, 2))
        moved[place] = there
        moved[place[long] + 1] = half
        there = moved
        start = np.stack([place[long], place[long] + 1], axis=1).ravel()
    return column, there


def _short_way(a: F64Array, b: F64Array, turn: float) -> F64Array:
    """Return how far places (n, 2) are apart in longitude, the short way round."""
    off = b[:, 0] - a[:, 0]
    return np.abs(off - turn * np.round(off / turn))


def _off_course(units: Units, first: F64Array, last: F64Array, place: F64Array) -> F64Array:
    """Return how many metres places (n, 2) lie from straight edges, wherever along them."""
    way, off = last - first, place - first
    if units.is_geographic:
        turn = 2 * np.pi / units.size
        for off_x in (way[:, 0], off[:, 0]):
            off_x -= turn * np.round(off_x / turn)
        shrink = np.cos(np.clip(place[:, 1] * units.size, -np.pi / 2, np.pi / 2))
        way[:, 0] *= shrink
        off[:, 0] *= shrink
    size = (way**2).sum(axis=1)
    with np.errstate(invalid="ignore"):
        share = np.divide((off * way).sum(axis=1), size, out=np.zeros(len(way)), where=size > 0)
        rest = off - np.clip(share, 0, 1)[:, None] * way
    return np.hypot(*rest.T) * units.size * (units.radius if units.is_geographic else 1.0)


def _edges(column: GeometryColumn) -> I64Array:
    """Return the vertices at which an edge starts."""
    ring_of = owners(column.ring_offsets)
    return np.flatnonzero(ring_of[:-1] == ring_of[1:])


def _near(xy: F64Array, start: I64Array, windows: Sequence[Extent] | None) -> BoolArray:
    """Return which edges have a box that meets one of the windows; all without windows."""
    if windows is None:
        return np.ones(len(start), bool)
    near = np.zeros(len(start), bool)
    (ax, ay), (bx, by) = xy.take(start, axis=0).T, xy.take(start + 1, axis=0).T
    for x0, y0, x1, y1 in windows:
        near |= (
            (np.minimum(ax, bx) <= x1)
            & (np.maximum(ax, bx) >= x0)
            & (np.minimum(ay, by) <= y1)
            & (np.maximum(ay, by) >= y0)
        )
    return near


def _may_bend(xy: F64Array, start: I64Array, way: Way, units: Units, tolerance: float) -> BoolArray:
    """Return which edges are long enough to bend by more than a tolerance.

    The bend grows with the square of the length. How much, some edges of the column tell, made
    longer in turn; four times as much is allowed for. Where the other CRS is longitude and latitude,
    which bend without bound near the poles, all are looked at.
    """
    if len(start) < 4 * PROBES or units.is_geographic:
        return np.ones(len(start), bool)
    a, b = xy.take(start, axis=0), xy.take(start + 1, axis=0)
    length = np.hypot(*(b - a).T)
    some = start[np.linspace(0, len(start) - 1, PROBES).astype(np.int64)]
    reach = max(float(np.median(length)), float(length.max()) / 16, 1e-12)
    steepest = 0.0
    for angle in np.pi * np.arange(4) / 4:
        step = reach * np.array([np.cos(angle), np.sin(angle)])
        ends = way.there(xy[some] - step), way.there(xy[some] + step)
        off = _off_course(units, *ends, way.there(xy[some]))
        if not np.isfinite(off).all():
            return np.ones(len(start), bool)
        steepest = max(steepest, float(off.max()) / (2 * reach) ** 2)
    return 4 * steepest * length**2 > tolerance


def with_middles(column: GeometryColumn, start: I64Array) -> tuple[GeometryColumn, I64Array]:
    """Put a vertex in the middle of the edges that start at some vertices.

    Returns also where (n_vertices,) the old vertices are now.
    """
    extra = np.zeros(column.n_vertices, np.int64)
    extra[start] = 1
    grown = offsets_from(extra)
    place = np.arange(column.n_vertices) + grown[:-1]
    n = column.n_vertices + len(start)

    def spread(values: F64Array | None) -> F64Array | None:
        if values is None:
            return None
        both = np.empty((n, *values.shape[1:]))
        both[place] = values
        both[place[start] + 1] = (values[start] + values[start + 1]) / 2
        return both

    xy = spread(column.xy)
    assert xy is not None
    found = replace(
        column,
        xy=xy,
        ring_offsets=column.ring_offsets + grown[column.ring_offsets],
        z=spread(column.z),
        m=spread(column.m),
    )
    return found, place


def torn_edges(column: GeometryColumn, there: F64Array, way: Way) -> BoolArray:
    """Return (n_vertices,) the edges starting there that a map is cut across.

    Its image would lead over what is no part of the map. An edge that is long there, or much longer
    than most, is halved time and again, each time the half that is longer there: where the map goes on,
    that becomes short.
    """
    is_torn = np.zeros(column.n_vertices, bool)
    if column.family == Family.POINTS or is_geographic(way.target):
        return is_torn
    over_there = Units.of(way.target)
    start, long = _long_edges(column, there, over_there)
    if len(start) == 0:
        return is_torn
    a, b = column.xy.take(start, axis=0), column.xy.take(start + 1, axis=0)
    p, q = there.take(start, axis=0), there.take(start + 1, axis=0)
    before = np.zeros(len(start))
    for k in range(HALVINGS):
        if k == HALVINGS // 2:
            before = metres_between(over_there, p, q)
        middle = (a + b) / 2
        half = way.there(middle)
        is_first = metres_between(over_there, p, half) > metres_between(over_there, half, q)
        is_first = is_first[:, None]
        a, b = np.where(is_first, a, middle), np.where(is_first, middle, b)
        p, q = np.where(is_first, p, half), np.where(is_first, half, q)
    left = metres_between(over_there, p, q)
    # Towards a pole that lies at infinity it becomes shorter too, if slowly.
    is_torn[start[(left > TORN * long) & (left > 0.999 * before)]] = True
    return is_torn


def _long_edges(column: GeometryColumn, there: F64Array, units: Units) -> tuple[I64Array, F64Array]:
    """Return edges, by the vertices they start at, that are long over there, and how long in metres."""
    step = there[1:] - there[:-1]
    square = step[:, 0] ** 2 + step[:, 1] ** 2
    some = np.sort(square[:: max(1, len(square) // PROBES)])
    usual = some[len(some) // 2] if len(some) else 0.0
    least = min(LONG / units.size, UNUSUAL * float(np.sqrt(usual)) if usual > 0 else np.inf)
    with np.errstate(invalid="ignore"):
        start = np.flatnonzero(square > least**2)
    ring_of = np.searchsorted(column.ring_offsets, start, side="right")
    start = start[ring_of == np.searchsorted(column.ring_offsets, start + 1, side="right")]
    return start, np.sqrt(square[start]) * units.size
