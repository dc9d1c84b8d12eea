"""Curves at a distance from rings and lines, whose positive winding numbers are the buffer.

A buffer is the union of a rectangle for each edge and a wedge for each vertex. Their borders, added
up, cancel to one closed curve along each track: offset edges, joined by an arc on the outside of a
turn, and on the inside by way of the vertex itself. What the curve winds round more than zero times is
the union, however it crosses itself.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, count_by, offsets_from, owners, spans
from polygene.classes import NamedTuple, dataclass
from polygene.errors import UsageError, check_choice
from polygene.geometry import Family, GeometryColumn
from polygene.measures import ring_areas
from polygene.plane.outlines import Outlines

CAPS = ("round", "flat", "square")
CORNERS = ("round", "mitre", "bevel")
SIDES = ("both", "left", "right")
# Of the distance: 32 chords round a circle, half a per cent inside it at most.
CHORD_ERROR = 0.005


@dataclass(frozen=True)
class Style:
    """How a buffer looks.

    caps : ends of lines; corners : outside of turns
    mitre_limit : how far a mitre may reach, in distances; longer ones are bevelled
    chord_error : how far the chord of an arc may lie inside it, in distances; None for what is usual,
        `CHORD_ERROR` on a plane and less in degrees
    side : of lines, which side

    Raises
    ------
    UsageError
        If caps, corners or side are none of `CAPS`, `CORNERS`, `SIDES`, or a number has no meaning.
    """

    caps: str = "round"
    corners: str = "round"
    mitre_limit: float = 5.0
    chord_error: float | None = None
    side: str = "both"

    def __post_init__(self) -> None:
        check_choice("caps", self.caps, CAPS)
        check_choice("corners", self.corners, CORNERS)
        check_choice("side", self.side, SIDES)
        if not self.mitre_limit >= 1:
            raise UsageError(f"`mitre_limit` is in distances, 1 or more, not {self.mitre_limit}")
        if self.chord_error is not None and not 0 < self.chord_error < 1:
            raise UsageError(f"`chord_error` is a part of a distance, not {self.chord_error}")

    @property
    def largest_step(self) -> float:
        """The angle of the longest chord allowed."""
        error = CHORD_ERROR if self.chord_error is None else self.chord_error
        return float(2 * np.arccos(1 - error))


class _Tracks(NamedTuple):
    """Closed walks with the buffer on their right.

    xy : (n, 2) vertices; the last of a track is followed by its first
    offsets : (n_tracks + 1,)
    distance : (n,) of the edge that starts at each vertex, 0 where that side has none
    is_cap : (n,) the track turns back here at the end of a line
    is_cut : (n,) it turns back here where a line was cut, which is no end
    row : (n_tracks,)
    """

    xy: F64Array
    offsets: I64Array
    distance: F64Array
    is_cap: BoolArray
    is_cut: BoolArray
    row: I64Array


def offset_outlines(
    column: GeometryColumn,
    distance: F64Array,
    style: Style,
    is_end: BoolArray | None = None,
    trims: bool = True,
) -> Outlines:
    """Return curves whose positive winding is everything within ``distance`` (n_rows,) of each row.

    Polygons must be valid; negative distances shrink them. Of lines and points only positive ones
    make sense. A part for each row. ``is_end`` (n_rings, 2) says which first and last vertices of lines
    are ends; the others were cut there and get no cap. All are if it is not given. ``trims`` leaves out
    the end of an edge that lies over the next one.
    """
    if column.family == Family.POINTS:
        xy, offsets, row = _circles(
            column.xy, distance[owners(column.vertex_offsets_of_rows)], style
        )
        row = owners(column.vertex_offsets_of_rows)[row]
    else:
        tracks = (
            _ring_tracks(column, distance)
            if column.family == Family.POLYGONS
            else _line_tracks(column, distance, style, is_end)
        )
        xy, offsets = _offset(tracks, style, trims)
        row = tracks.row
        lone = _lone_points(column) if style.caps != "flat" else np.zeros(0, np.int64)
        if len(lone):
            at = owners(column.ring_offsets_of_rows)[owners(column.ring_offsets)[lone]]
            more, more_offsets, which = _circles(column.xy[lone], distance[at], style)
            xy = np.concatenate([xy, more])
            offsets = np.concatenate([offsets, offsets[-1] + more_offsets[1:]])
            row = np.concatenate([row, at[which]])
    # Rings of a row follow each other, as `Outlines` wants; a row is one part, whose windings add
    # up.
    order = np.argsort(row, kind="stable")
    counts = np.diff(offsets)[order]
    xy = xy[spans(offsets[order], counts)]
    rows, part = np.unique(row[order], return_inverse=True)
    return Outlines(xy, offsets_from(counts), part.reshape(-1), rows)


def _circles(xy: F64Array, distance: F64Array, style: Style) -> tuple[F64Array, I64Array, I64Array]:
    """Return closed circles round points (squares with square caps), and which point each is of."""
    which = np.flatnonzero(distance > 0)
    if style.caps == "square":
        angles = np.pi / 4 + np.arange(5) * np.pi / 2
        reach = np.sqrt(2)
    else:
        n = int(np.ceil(2 * np.pi / style.largest_step))
        angles, reach = np.arange(n + 1) * 2 * np.pi / n, 1.0
    around = reach * np.stack([np.cos(angles), np.sin(angles)], axis=1)
    # Closed to the bit: cosines of 0 and of the full turn differ in the last digit.
    around[-1] = around[0]
    points = xy[which, None] + distance[which, None, None] * around
    return points.reshape(-1, 2), np.arange(len(which) + 1) * len(angles), which


def _lone_points(column: GeometryColumn) -> I64Array:
    """Return the first vertices of lines that are but a point."""
    if column.family != Family.LINES:
        return np.zeros(0, np.int64)
    ring_of = owners(column.ring_offsets)
    first = column.ring_offsets[:-1][ring_of]
    # A line that stands still has no direction; round caps make it a circle, flat ones nothing.
    moves = (column.xy != column.xy[first]).any(axis=1)
    still = (count_by(ring_of[moves], column.n_rings) == 0) & (np.diff(column.ring_offsets) > 0)
    return column.ring_offsets[:-1][still]


def without_repeats(column: GeometryColumn) -> tuple[F64Array, I64Array]:
    """Return vertices and ring offsets without vertices at the place of the one before."""
    ring_of = owners(column.ring_offsets)
    keeps = np.ones(column.n_vertices, bool)
    same_ring = ring_of[1:] == ring_of[:-1]
    keeps[1:] = ~same_ring | (column.xy[1:] != column.xy[:-1]).any(axis=1)
    counts = count_by(ring_of[keeps], column.n_rings)
    return column.xy.compress(keeps, axis=0), offsets_from(counts)


def _ring_tracks(column: GeometryColumn, distance: F64Array) -> _Tracks:
    """Rings with the inside on their left, without the repeat of the first vertex."""
    xy, offsets = without_repeats(column)
    counts = np.diff(offsets)
    # Outer rings run with the inside on their left, holes too: their area is on the outside of
    # them.
    turned = ring_areas(xy, offsets) < 0
    is_hole = np.ones(column.n_rings, bool)
    is_hole[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = False
    backwards = turned != is_hole
    row_of_ring = owners(column.ring_offsets_of_rows)
    # What is fewer encloses nothing, and valid polygons have none.
    kept = np.flatnonzero(counts >= 4)
    n = counts[kept] - 1
    ring = np.repeat(np.arange(len(kept)), n)
    k = np.arange(n.sum()) - offsets_from(n)[:-1][ring]
    start = offsets[kept][ring]
    # Without its last vertex, which repeats the first: tracks are closed by themselves.
    at = start + np.where(backwards[kept][ring], n[ring] - k, k)
    row = row_of_ring[kept]
    none = np.zeros(len(at), bool)
    return _Tracks(
        xy=xy.take(at, axis=0),
        offsets=offsets_from(n),
        distance=distance[row][ring],
        is_cap=none,
        is_cut=none,
        row=row,
    )


def _line_tracks(
    column: GeometryColumn, distance: F64Array, style: Style, is_end: BoolArray | None
) -> _Tracks:
    """Lines there and back; closed ones once each way, for they have no ends."""
    xy, offsets = without_repeats(column)
    counts = np.diff(offsets)
    line = np.flatnonzero(counts >= 2)
    first, n = offsets[line], counts[line]
    row = owners(column.ring_offsets_of_rows)[line]
    # A closed line has a left and a right side and no ends; one that was cut somewhere has.
    closed = (xy[first] == xy[first + n - 1]).all(axis=1) & (n >= 4)
    ends = np.ones((len(line), 2), bool) if is_end is None else is_end[line]
    closed &= ends.all(axis=1)
    # The buffer is on the right of a track: walking there makes the right side, coming back the
    # left.
    goes, comes = style.side != "left", style.side != "right"
    found = []
    if (~closed).any():
        some = ~closed
        found.append(
            _there_and_back(
                xy=xy,
                first=first[some],
                n=n[some],
                row=row[some],
                distance=distance,
                style=style,
                ends=ends[some],
            )
        )
    for wanted, backwards in ((goes, False), (comes, True)):
        if wanted and closed.any():
            found.append(
                _round(
                    xy=xy,
                    first=first[closed],
                    n=n[closed],
                    row=row[closed],
                    distance=distance,
                    backwards=backwards,
                )
            )
    if not found:
        nothing = np.zeros(0, np.int64)
        none = nothing > 0
        return _Tracks(
            xy=np.zeros((0, 2)),
            offsets=np.zeros(1, np.int64),
            distance=np.zeros(0),
            is_cap=none,
            is_cut=none,
            row=nothing,
        )
    sizes = np.concatenate([np.diff(t.offsets) for t in found])
    return _Tracks(
        xy=np.concatenate([t.xy for t in found]),
        offsets=offsets_from(sizes),
        distance=np.concatenate([t.distance for t in found]),
        is_cap=np.concatenate([t.is_cap for t in found]),
        is_cut=np.concatenate([t.is_cut for t in found]),
        row=np.concatenate([t.row for t in found]),
    )


def _there_and_back(
    xy: F64Array,
    first: I64Array,
    n: I64Array,
    row: I64Array,
    distance: F64Array,
    style: Style,
    ends: BoolArray,
) -> _Tracks:
    # There and back: every vertex twice, but the two ends once.
    size = 2 * n - 2
    track = np.repeat(np.arange(len(n)), size)
    k = np.arange(size.sum()) - offsets_from(size)[:-1][track]
    last = n[track] - 1
    # k counts to the far end and back again.
    at = first[track] + np.where(k <= last, k, 2 * last - k)
    is_back = k >= last
    d = distance[row][track]
    # A side that is not asked for has distance 0: the curve runs along the line itself there.
    has_side = np.where(is_back, style.side != "right", style.side != "left")
    is_cap = ((k == 0) & ends[track, 0]) | ((k == last) & ends[track, 1])
    is_cut = ((k == 0) | (k == last)) & ~is_cap
    if style.side != "both":
        # A buffer on one side ends square with its line: a cap would reach to the other side.
        is_cap[:] = False
    return _Tracks(
        xy=xy.take(at, axis=0),
        offsets=offsets_from(size),
        distance=np.where(has_side, d, 0.0),
        is_cap=is_cap,
        is_cut=is_cut,
        row=row,
    )


def _round(
    xy: F64Array, first: I64Array, n: I64Array, row: I64Array, distance: F64Array, backwards: bool
) -> _Tracks:
    """A closed line's one side: with the walk back along itself it encloses that side only."""
    size = n - 1
    track = np.repeat(np.arange(len(n)), size)
    k = np.arange(size.sum()) - offsets_from(size)[:-1][track]
    at = first[track] + (size[track] - k if backwards else k)
    other = first[track] + (k if backwards else size[track] - k)
    sides = _Tracks(
        xy=np.concatenate([xy.take(at, axis=0), xy.take(other, axis=0)]),
        offsets=offsets_from(np.concatenate([size, size])),
        distance=np.concatenate([distance[row][track], np.zeros(len(at))]),
        is_cap=np.zeros(2 * len(at), bool),
        is_cut=np.zeros(2 * len(at), bool),
        row=np.concatenate([row, row]),
    )
    return sides


def _offset(tracks: _Tracks, style: Style, trims: bool) -> tuple[F64Array, I64Array]:
    """Return the closed offset curve of each track: vertices and offsets."""
    # All vertices of all tracks at once; index, following and before are cyclic in each track.
    n = len(tracks.xy)
    track = owners(tracks.offsets)
    index = np.arange(n)
    following, before = index + 1, index - 1
    has = tracks.offsets[:-1] < tracks.offsets[1:]
    following[tracks.offsets[1:][has] - 1] = tracks.offsets[:-1][has]
    before[tracks.offsets[:-1][has]] = tracks.offsets[1:][has] - 1
    step = tracks.xy.take(following, axis=0) - tracks.xy
    length = np.hypot(*step.T)
    # (n, 2) the direction of the edge from each vertex; u0 that of the edge before it
    u1 = step / length[:, None]
    u0, d1 = u1[before], tracks.distance
    d0 = d1[before]
    # Right-hand normals: the track has the buffer on its right.
    n0, n1 = (np.stack([u[:, 1], -u[:, 0]], axis=1) for u in (u0, u1))
    # Sine and cosine of the turn at the vertex.
    cross = u0[:, 0] * u1[:, 1] - u0[:, 1] * u1[:, 0]
    dot = (u0 * u1).sum(axis=1)
    # Straight back: each side's cross product is exactly the other's turned round, so it is 0 on both.
    is_back = (cross == 0) & (dot < 0)
    d = np.where(d0 != 0, d0, d1)
    # Where one side has no distance there is nothing to join: the curve steps out and back in.
    joins = (d0 != 0) & (d1 != 0) & ~tracks.is_cut
    # On the outside of a turn the offset edges part, and what fills the gap is the corner.
    outer = joins & ~tracks.is_cap & ((d * cross > 0) | is_back)
    inner = joins & ~tracks.is_cap & ~outer & (cross != 0)
    # Straight back is half a turn, whichever side: arctan2 of (0, -1) would say the same but for
    # signs.
    angle = np.where(is_back, np.pi, np.abs(np.arctan2(cross, dot)))
    arcs = (tracks.is_cap & (style.caps == "round")) | (outer & (style.corners == "round"))
    squares = tracks.is_cap & (style.caps == "square")
    # A mitre reaches 1 / cos(half the turn) distances.
    reach = 1 / np.maximum(np.cos(angle / 2), 1e-9)
    mitres = outer & (style.corners == "mitre") & (reach <= style.mitre_limit)
    # Inside a turn, offset edges long enough meet in a point; then that is the only corner.
    trim = np.where(inner, np.abs(d) * np.tan(np.minimum(angle, 3.1) / 2), 0.0)
    is_short = trim + trim[following] > length
    meets = inner & ~is_short & ~is_short[before] & (angle < 3.1) & trims
    inner &= ~meets
    # How many vertices each corner has between the end of one offset edge and the start of the
    # next.
    between = np.zeros(n, np.int64)
    between[arcs] = np.ceil(angle[arcs] / style.largest_step).astype(np.int64) - 1
    between[squares] = 2
    between[mitres | inner] = 1
    # (n,) vertices of the curve at each vertex of the track; `place` is where they begin
    counts = np.where(meets, 1, between + 2)
    place = offsets_from(counts)
    xy = np.empty((int(place[-1]), 2))
    xy[place[:-1]] = tracks.xy + d0[:, None] * n0
    xy[place[1:] - 1] = tracks.xy + d1[:, None] * n1
    xy[place[:-1][inner] + 1] = tracks.xy[inner]
    xy[place[:-1][meets]] = tracks.xy[meets] + _mitre(n0, n1, d, dot, meets)
    xy[place[:-1][mitres] + 1] = tracks.xy[mitres] + _mitre(n0, n1, d, dot, mitres)
    # A square cap is the two corners a distance beyond the end, along the line and beside it.
    for corner, (normal, way) in enumerate(((n0, u0), (n1, -u1))):
        there = tracks.xy[squares] + d[squares, None] * (normal[squares] + way[squares])
        xy[place[:-1][squares] + 1 + corner] = there
    # Arcs: the first normal turned by k steps of the whole angle.
    owner = np.repeat(np.flatnonzero(arcs), between[arcs])
    k = np.arange(len(owner)) - np.repeat(offsets_from(between[arcs])[:-1], between[arcs]) + 1
    # Negative distances turn the other way.
    turn = np.sign(d[owner]) * angle[owner] * k / (between[owner] + 1)
    cosine, sine = np.cos(turn), np.sin(turn)
    normal = n0[owner]
    swung = np.stack(
        [cosine * normal[:, 0] - sine * normal[:, 1], sine * normal[:, 0] + cosine * normal[:, 1]],
        1,
    )
    xy[place[:-1][owner] + k] = tracks.xy[owner] + d[owner, None] * swung
    return _closed(xy, offsets_from(np.bincount(track, counts, len(has)).astype(np.int64)))


def _mitre(n0: F64Array, n1: F64Array, d: F64Array, dot: F64Array, at: BoolArray) -> F64Array:
    """Return from the vertex to where its two offset edges meet."""
    return (n0[at] + n1[at]) * (d[at] / (1 + dot[at]))[:, None]


def _closed(xy: F64Array, offsets: I64Array) -> tuple[F64Array, I64Array]:
    """Repeat the first vertex of each ring at its end."""
    counts = np.diff(offsets) + 1
    closed = offsets_from(counts)
    at = spans(offsets[:-1], counts)
    at[closed[1:] - 1] = offsets[:-1]
    return xy.take(at, axis=0), closed
