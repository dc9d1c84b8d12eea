"""Longitudes cut open where nothing is: for hulls, centroids and bounds over the 180th meridian.

The rule: of all longitudes that no edge of a group passes, the widest range is where its longitudes
begin and end. What lies beyond it goes once more round the earth, so that -170 follows 170 as 190.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene import proj
from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    offsets_from,
    owners,
    reduce_groups,
    spans,
)
from polygene.classes import NamedTuple
from polygene.crs import degrees_of, is_geographic, turn_of
from polygene.errors import UsageError
from polygene.geometry import Extent, Family, GeometryColumn
from polygene.layer import SLACK, Layer

NOT_BEYOND = 180.0  # degrees of longitude in GeoJSON (RFC 7946, section 4)
ROUND_AGAIN = 540.0  # elsewhere they may go once more round the earth
MOST_TURNS = 4  # two layers whose longitudes go round once more, each to its side


def goes_beyond(extent: Extent | None, crs: proj.CRS | None) -> bool:
    """Whether longitudes count on beyond half a turn, as 190 degrees do; never on a plane."""
    turn = turn_of(crs)
    if extent is None or crs is None or not turn:
        return False
    return max(-extent[0], extent[2]) > turn / 2 + SLACK / degrees_of(crs)


def everywhere(box: Extent, crs: proj.CRS | None) -> list[Extent]:
    """Return a box, and where its places lie in layers that count longitudes from other meridians."""
    x0, y0, x1, y1 = box
    turn = turn_of(crs)
    if crs is None or not turn:
        return [box]
    most = ROUND_AGAIN / degrees_of(crs)
    moved = [(x0 + k * turn, y0, x1 + k * turn, y1) for k in (-2, -1, 1, 2)]
    return [box, *(own for own in moved if own[0] < most and own[2] > -most)]


def turns_onto(extent: Extent | None, onto: Extent | None, crs: proj.CRS | None) -> list[float]:
    """Return by what each of the whole turns moves an extent that bring places of it into another.

    0 among them if it has places there as it is; of two extents with a width borders do not count.
    """
    if crs is None or extent is None or onto is None or not np.isfinite([*extent, *onto]).all():
        return []  # what is not finite others refuse, with the row
    steps = [k * turn_of(crs) for k in range(-MOST_TURNS, MOST_TURNS + 1)]
    have_width = onto[2] > onto[0] and extent[2] > extent[0]
    least = SLACK / degrees_of(crs) if have_width else 0.0
    return [
        step
        for step in steps
        if min(onto[2], extent[2] + step) - max(onto[0], extent[0] + step) >= least
    ]


class Opened(NamedTuple):
    """Geometry whose longitudes run on, which groups go over the 180th meridian, and a whole turn."""

    column: GeometryColumn
    is_over: BoolArray
    turn: float


def opened(layer: Layer, group: I64Array, n_groups: int) -> Opened:
    """Cut the longitudes of each group of rows open; on a plane nothing is changed.

    ``group`` (n_rows,) is the group of each row.
    """
    column = layer.geometry
    nobody = np.zeros(n_groups, bool)
    if not is_geographic(layer.crs) or layer.crs is None:
        return Opened(column, nobody, np.inf)
    turn = turn_of(layer.crs)
    extent = column.extent()
    if extent is None or extent[2] - extent[0] <= turn / 2:
        return Opened(column, nobody, turn)  # all of it lies within half a turn
    start, is_over = _openings(column, group, n_groups, turn)
    group_of_vertex = group[owners(column.vertex_offsets_of_rows)]
    lon = column.xy[:, 0]
    moved = is_over[group_of_vertex] & (lon < start[group_of_vertex])
    xy = column.xy.copy()
    xy[moved, 0] += turn
    return Opened(column.with_xy(xy), is_over, turn)


def _openings(
    column: GeometryColumn, group: I64Array, n_groups: int, turn: float
) -> tuple[F64Array, BoolArray]:
    """Return the longitude at which each group begins, and whether it goes on over the meridian."""
    lon = column.xy[:, 0]
    row = owners(column.vertex_offsets_of_rows)
    ring_of = owners(column.ring_offsets)
    low, high, of = lon, lon, group[row]
    if column.family != Family.POINTS:
        edge = np.flatnonzero(ring_of[:-1] == ring_of[1:])
        low = np.minimum(lon[edge], lon[edge + 1])
        high, of = np.maximum(lon[edge], lon[edge + 1]), of[edge]
    order = np.lexsort((low, of))
    low, high, of = low[order], high[order], of[order]
    # The furthest longitude so far within each group: groups are set far apart for one running maximum.
    apart = of * (4 * turn)
    furthest = np.maximum.accumulate(high + apart) - apart
    counts = np.bincount(of, minlength=n_groups)
    offsets = np.concatenate([[0], np.cumsum(counts)])
    gap = np.full(len(low), -1.0)
    same = np.flatnonzero(of[1:] == of[:-1])
    gap[same + 1] = low[same + 1] - furthest[same]
    widest = reduce_groups(np.maximum, gap, offsets, -1.0).astype(np.float64)
    first = np.zeros(n_groups)
    last = np.zeros(n_groups)
    has = counts > 0
    first[has], last[has] = low[offsets[:-1][has]], furthest[offsets[1:][has] - 1]
    is_over = has & (widest > first + turn - last)
    at = np.flatnonzero(is_over[of] & (gap == widest[of]))
    start = np.full(n_groups, -np.inf)
    start[of[at[::-1]]] = low[at[::-1]]
    return start, is_over


def wrapped(lon: F64Array, turn: float) -> F64Array:
    """Return longitudes that run on within -180 to 180, bit for bit where they are."""
    with np.errstate(invalid="ignore"):  # rows without a place, where nothing turns
        return np.where(lon > turn / 2, lon - turn, lon)


def parted_rings(xy: F64Array, own: F64Array, offsets: I64Array, turn: float) -> GeometryColumn:
    """Return convex rings whose longitudes run on, each parted at the 180th meridian where it passes.

    Parameters
    ----------
    xy : (n_vertices, 2) closed rings, one a row, longitudes running on
    own : the same vertices with the coordinates that they have
    """
    half = turn / 2
    counts = np.diff(offsets) - 1  # without the first once more
    n = len(counts)
    ring, k = np.repeat(np.arange(n), counts), spans(np.zeros(n, np.int64), counts)
    at, following = offsets[ring] + k, offsets[ring] + (k + 1) % counts[ring]
    is_east = xy[:, 0] > half
    # The vertices after which a ring goes over the meridian to the east, and comes back.
    goes, back = np.full((2, n), NONE)
    for found, from_east in ((goes, False), (back, True)):
        is_so = (is_east[at] == from_east) & (is_east[following] != from_east)
        found[ring[is_so]] = k[is_so]
    whole, cut = np.flatnonzero(goes == NONE), np.flatnonzero(goes != NONE)
    pieces = [(own[spans(offsets[whole], counts[whole] + 1)], counts[whole] + 1, whole)]
    heights = [_heights(xy, offsets[cut], counts[cut], v[cut], half) for v in (goes, back)]
    for first, last, side, (begin, end) in (
        (back, goes, half, heights),
        (goes, back, -half, heights[::-1]),
    ):
        m = counts[cut]
        n_chain = (last[cut] - first[cut] - 1) % m + 1
        of = np.repeat(np.arange(len(cut)), n_chain)
        chain = (first[cut][of] + 1 + spans(np.zeros(len(cut), np.int64), n_chain)) % m[of]
        size = n_chain + 3
        part = np.empty((int(size.sum()), 2))
        starts = offsets_from(size)[:-1]
        source = offsets[cut][of] + chain
        place = starts[of] + spans(np.zeros(len(cut), np.int64), n_chain)
        part[place] = own[source]
        part[place[xy[source, 0] == half], 0] = side
        for step, height in ((0, begin), (1, end)):
            part[starts + n_chain + step] = np.stack([np.full(len(cut), side), height], axis=1)
        part[starts + n_chain + 2] = part[starts]
        pieces.append((part, size, cut))
    return _together(pieces, n)


def _heights(
    xy: F64Array, first: I64Array, counts: I64Array, after: I64Array, half: float
) -> F64Array:
    """Return where the edges after some vertices of rings are on the meridian."""
    p, q = xy[first + after], xy[first + (after + 1) % counts]
    return p[:, 1] + (half - p[:, 0]) / (q[:, 0] - p[:, 0]) * (q[:, 1] - p[:, 1])


def _together(pieces: list[tuple[F64Array, I64Array, I64Array]], n_rows: int) -> GeometryColumn:
    """Return parts of one ring each, with their rows, as a column; without repeats and what is flat."""
    xy, size, row = (np.concatenate(v) for v in zip(*pieces, strict=True))
    ring = owners(offsets_from(size))
    is_new = np.ones(len(xy), bool)
    is_new[1:] = (ring[1:] != ring[:-1]) | (xy[1:] != xy[:-1]).any(axis=1)
    size = np.bincount(ring[is_new], minlength=len(size))
    xy, starts = xy[is_new], offsets_from(size)[:-1]
    kept = np.flatnonzero(size >= 4)
    kept = kept[np.argsort(row[kept], kind="stable")]
    steps = np.arange(len(kept) + 1)
    return GeometryColumn.from_parts(
        Family.POLYGONS,
        xy[spans(starts[kept], size[kept])],
        offsets_from(size[kept]),
        steps,
        row[kept],
        n_rows,
    )


def doubted(layer: Layer, furthest: float = ROUND_AGAIN) -> Layer:
    """Note on a layer if its coordinates cannot be the longitudes and latitudes that it states.

    ``furthest`` is the longitude that they may go to, in degrees.
    """
    extent = layer.geometry.extent() if is_geographic(layer.crs) else None
    if extent is None or layer.crs is None:
        return layer
    size = degrees_of(layer.crs)
    x = max(abs(extent[0]), abs(extent[2])) * size
    y = max(abs(extent[1]), abs(extent[3])) * size
    is_right = x <= furthest + SLACK and y <= 90 + SLACK
    return layer if is_right else replace(layer, doubt=furthest)


def sides_of_spans(x0: float, x1: float, turn: float) -> list[tuple[float, float]]:
    """Return the west and east of a box, or of the two that one is which runs over the meridian where
    longitudes begin anew (RFC 7946, 5.2).

    Raises
    ------
    UsageError
        If the west lies east of the east on a plane, or is as far round the earth as that.
    """
    if x0 <= x1:
        return [(x0, x1)]
    if not turn:
        raise UsageError(
            f"a box begins at its lower left corner, not at x {x0:g}, which is more than {x1:g}; "
            "only in longitude and latitude it may, over the 180th meridian"
        )
    high = turn / 2 if x0 <= turn / 2 else turn
    if not (x0 <= high and high - turn <= x1):
        raise UsageError(f"no box over the 180th meridian begins at {x0:g} and ends at {x1:g}")
    return [(x0, high), (high - turn, x1)]
