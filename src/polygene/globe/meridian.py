"""From a plane to longitude and latitude, parted at the 180th meridian as RFC 7946, 3.1.9, asks."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import (
    BoolArray,
    F64Array,
    I64Array,
    offsets_from,
    owners,
    reduce_groups,
    spans,
)
from polygene.between import Way
from polygene.crs import degrees_of, is_geographic
from polygene.geometry import Family, GeometryColumn
from polygene.globe.round_world import Folded, folded, running_on
from polygene.plane.grid import DEFAULT_GEOGRAPHIC, Grid
from polygene.plane.outlines import Outlines
from polygene.plane.settling import settle
from polygene.winding import turned

AT_POLE = 1e-9  # degrees from it


def on_the_globe(column: GeometryColumn, there: F64Array, way: Way) -> GeometryColumn:
    """Return a column with its vertices (n_vertices, 2) brought over a way.

    From a plane to longitude and latitude, edges follow their course over the 180th meridian, where
    lines and areas are parted; areas may hold a pole. Z and M of areas that are parted are not known.
    """
    plain = column.with_xy(there)
    if not is_geographic(way.target) or is_geographic(way.source) or column.n_vertices == 0:
        return plain
    size = degrees_of(way.target)
    if column.family == Family.POINTS:
        return plain
    degrees = column.with_xy(running_on(there * size, column.ring_offsets))
    is_beyond = np.abs(degrees.xy[:, 0]).max() > 180
    if column.family == Family.LINES:
        return _parted_lines(degrees, size) if is_beyond else plain
    is_at_pole = 90 - np.abs(degrees.xy[:, 1]).max() < AT_POLE
    if not is_beyond and not is_at_pole and not _may_hold_pole(column, way):
        return plain
    strip = np.floor((degrees.xy[:, 0] + 180) / 360)
    within = degrees.xy - np.stack([360 * strip, np.zeros(len(strip))], axis=1)
    return _parted_areas(column, column.with_xy(within / size), way)


def _parted_areas(column: GeometryColumn, plain: GeometryColumn, way: Way) -> GeometryColumn:
    """Return areas parted at the 180th meridian, with ways along the poles; the others ``plain``."""
    size = degrees_of(way.target)
    own = turned(column, outer_is_counter_clockwise=True)
    own, there, at_pole = _with_poles(own, way.there(own.xy) * size)
    plane, north = _about_the_pole(own, way)
    north[at_pole] = np.inf  # on the border of such rows, and in the inside of none
    rings = folded(own.with_xy(there), plane, north)
    along = np.flatnonzero(at_pole & ~rings.is_parted)
    if len(along):
        within = own.with_xy(_within(there, own.ring_offsets) / size)
        plain = plain.with_rows(along, within.take(along))
    rows = np.flatnonzero(rings.is_parted)
    return plain.with_rows(rows, _settled(rings, rows, way)) if len(rows) else plain


def _within(degrees: F64Array, ring_offsets: I64Array) -> F64Array:
    """Return rings (n_vertices, 2) that are not parted, moved by whole turns to within 180 degrees."""
    least, most = (
        reduce_groups(way, degrees[:, 0], ring_offsets, 0.0).astype(np.float64)
        for way in (np.minimum, np.maximum)
    )
    turns = np.floor(((least + most) / 2 + 180) / 360)
    return degrees - 360 * np.stack([turns[owners(ring_offsets)], np.zeros(len(degrees))], axis=1)


def heights_lost(before: GeometryColumn, after: GeometryColumn) -> int:
    """Return how many rows have Z or M for fewer vertices than before."""
    lost = np.zeros(before.n_rows, bool)
    for old, new in ((before.z, after.z), (before.m, after.m)):
        if old is not None:
            known = np.zeros(after.n_vertices, bool) if new is None else ~np.isnan(new)
            row = owners(after.vertex_offsets_of_rows)
            lost[row[~known]] = True
            own = owners(before.vertex_offsets_of_rows)
            lost[own[np.isnan(old)]] = False
    return int(lost.sum())


def _with_poles(
    column: GeometryColumn, degrees: F64Array
) -> tuple[GeometryColumn, F64Array, BoolArray]:
    """Return rings with a way along the pole where they pass it, with longitudes that run on.

    A pole has all longitudes. A ring that has a vertex there comes to it at one and leaves at another,
    so it gets two vertices; of the ways round between them that is taken which closes the ring, for a
    pole on the border is not in the inside. Returns also which rows (n_rows,) have such rings.
    """
    is_pole = 90 - np.abs(degrees[:, 1]) < AT_POLE
    at_pole = np.zeros(column.n_rows, bool)
    if not is_pole.any():
        return column, running_on(degrees, column.ring_offsets), at_pole
    at_pole[owners(column.vertex_offsets_of_rows)[is_pole]] = True
    has = np.flatnonzero(np.diff(column.ring_offsets))
    first, last = column.ring_offsets[has], column.ring_offsets[has + 1] - 1
    index = np.arange(len(degrees))
    before, after = index - 1, index + 1
    before[first], after[last] = last - 1, first + 1  # rings are closed
    twice = is_pole.astype(np.int64)
    grown = offsets_from(twice)
    at = np.repeat(index, twice + 1)
    is_second = np.append(False, at[1:] == at[:-1])
    lon = degrees[at, 0].copy()
    comes, goes = is_pole[at] & ~is_second, is_pole[at] & is_second
    lon[comes], lon[goes] = degrees[before[at[comes]], 0], degrees[after[at[goes]], 0]
    lat = np.where(is_pole[at], np.sign(degrees[at, 1]) * 90, degrees[at, 1])
    offsets = column.ring_offsets + grown[column.ring_offsets]
    # A ring that begins at the pole would begin and end with both: it ends as it begins.
    starts, ends = offsets[has], offsets[has + 1] - 1
    lon[ends], lat[ends] = lon[starts], lat[starts]
    found = replace(
        column,
        xy=column.xy[at],
        ring_offsets=offsets,
        z=None if column.z is None else column.z[at],
        m=None if column.m is None else column.m[at],
    )
    running = running_on(np.stack([lon, lat], axis=1), offsets)
    lack = np.zeros(len(offsets) - 1)
    lack[has] = running[ends, 0] - running[starts, 0]
    ring_of = owners(offsets)
    passes = np.flatnonzero(goes)
    once = passes[np.append(True, ring_of[passes[1:]] != ring_of[passes[:-1]])]
    short = np.zeros(len(running))
    short[once] = lack[ring_of[once]]
    shift = np.cumsum(short)
    before_ring = np.append(0.0, shift)[offsets[:-1]]
    shift -= before_ring[ring_of]
    running[:, 0] -= shift
    return found, running, at_pole


def _may_hold_pole(column: GeometryColumn, way: Way) -> bool:
    """Whether the extent of a column on its plane holds a pole."""
    extent = column.extent()
    quarter = 90 / degrees_of(way.target)
    poles = way.back(np.array([(0.0, quarter), (0.0, -quarter)]))
    if extent is None:
        return False
    x, y = poles.T
    with np.errstate(invalid="ignore"):
        inside = (x >= extent[0]) & (x <= extent[2]) & (y >= extent[1]) & (y <= extent[3])
    return bool(inside.any())


def _about_the_pole(column: GeometryColumn, way: Way) -> tuple[GeometryColumn, F64Array]:
    """Return the column on its plane with the north pole at x = 0, and (n_rows,) the pole's y."""
    pole = way.back(np.array([(0.0, 90 / degrees_of(way.target))]))
    comes_back = way.there(pole)[0, 1] * degrees_of(way.target)
    if not np.isfinite(pole).all() or not abs(comes_back - 90) < 1e-6:
        return column, np.full(column.n_rows, np.inf)
    moved = column.with_xy(column.xy - np.array([pole[0, 0], 0.0]))
    return moved, np.full(column.n_rows, pole[0, 1])


def _settled(rings: Folded, rows: I64Array, way: Way) -> GeometryColumn:
    """Return what the rings of some rows wind round, each row on its own."""
    taken = np.flatnonzero(rings.is_parted[rings.row_of_ring])
    counts = np.diff(rings.ring_offsets)[taken]
    xy = rings.xy[spans(rings.ring_offsets[taken], counts)] / degrees_of(way.target)
    place = np.searchsorted(rows, rings.row_of_ring[taken])
    outlines = Outlines(xy, offsets_from(counts), place, np.arange(len(rows)))
    (x0, y0), (x1, y1) = xy.min(axis=0).tolist(), xy.max(axis=0).tolist()
    grid = Grid.over([(x0, y0, x1, y1)], DEFAULT_GEOGRAPHIC)
    return settle(outlines, len(rows), grid, by_sign=True, apart=True, keeps_places=True)


def _parted_lines(degrees: GeometryColumn, size: float) -> GeometryColumn:
    """Return lines whose longitudes run on, parted where they cross the 180th meridian."""
    lon, lat = degrees.xy.T
    strip = np.floor((lon + 180) / 360)
    ring_of = owners(degrees.ring_offsets)
    cross = np.flatnonzero((ring_of[:-1] == ring_of[1:]) & (strip[:-1] != strip[1:]))
    more = np.zeros(len(lon), np.int64)
    more[cross] = 2
    grown = offsets_from(more)
    place = np.arange(len(lon)) + grown[:-1]
    xy = np.empty((len(lon) + 2 * len(cross), 2))
    xy[place] = np.stack([lon - 360 * strip, lat], axis=1)
    border = 360.0 * np.maximum(strip[cross], strip[cross + 1]) - 180
    share = (border - lon[cross]) / (lon[cross + 1] - lon[cross])
    at = lat[cross] + share * (lat[cross + 1] - lat[cross])
    side = np.where(strip[cross + 1] > strip[cross], 180.0, -180.0)

    def spread(values: F64Array | None) -> F64Array | None:
        if values is None:
            return None
        both = np.empty(len(xy))
        both[place] = values
        between = values[cross] + share * (values[cross + 1] - values[cross])
        both[place[cross] + 1] = both[place[cross] + 2] = between
        return both

    xy[place[cross] + 1] = np.stack([side, at], axis=1)
    xy[place[cross] + 2] = np.stack([-side, at], axis=1)
    # A new part begins at the second of the two.
    old = degrees.ring_offsets + grown[degrees.ring_offsets]
    breaks = np.sort(np.concatenate([old, place[cross] + 2]))
    row_of_vertex = owners(degrees.vertex_offsets_of_rows)
    extra = np.zeros(degrees.n_rows, np.int64)
    np.add.at(extra, row_of_vertex[cross], 1)
    steps = np.arange(len(breaks))
    return replace(
        degrees,
        xy=xy / size,
        ring_offsets=breaks,
        part_offsets=steps,
        row_offsets=offsets_from(np.diff(degrees.row_offsets) + extra),
        is_multi=True,
        z=spread(degrees.z),
        m=spread(degrees.m),
    )
