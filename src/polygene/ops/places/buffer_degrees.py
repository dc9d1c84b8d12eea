"""Buffers in degrees: distances in metres on the ellipsoid, anywhere, right to a stated share.

What is small, and keeps its shape there, is buffered on a plane of its own, inside and all. Of others
the border or line is taken, cut into runs, each buffered on its plane; the runs are put together again
in degrees, where their winding numbers add up, and the polygon itself is added or, where it shrinks,
they are taken from it.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene import parallel, proj
from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from, owners, spans
from polygene.between import EARTH
from polygene.classes import NamedTuple
from polygene.errors import DataError
from polygene.geometry import Family, GeometryColumn
from polygene.globe.round_world import Folded, folded
from polygene.globe.seams import has_seams, true_borders
from polygene.ops.places import local_planes
from polygene.ops.places.local_planes import FOLLOW, MOST_LOCAL, Planes
from polygene.plane.buffering import buffered_rows
from polygene.plane.grid import DEFAULT_GEOGRAPHIC, Grid
from polygene.plane.offsets import Style
from polygene.plane.outlines import Outlines, run_backwards
from polygene.plane.settling import settle
from polygene.plane.validity import invalid_rows
from polygene.winding import turned

MOST_DISTANCE = 18_000_000.0  # metres; further the other side of the earth is near
BESIDE = 1e-7  # degrees: a centimetre, ten steps of the grids on planes
CHORD_ERROR = 5e-4  # of arcs, in distances


class Buffered(NamedTuple):
    """Areas in degrees, valid, a row for each given.

    is_parted : (n_rows,) rows parted at the 180th meridian, or round a pole
    error : the most that distances are wrong by, in distances
    """

    column: GeometryColumn
    is_parted: BoolArray
    error: float


class _Back(NamedTuple):
    """Rings back in degrees, the row each of theirs is of, and -1 where they are taken away."""

    rings: Folded
    row: I64Array
    sign: int


class _Flat(NamedTuple):
    """Rows on planes of their own, which reach so far and follow their course so closely, in metres."""

    column: GeometryColumn
    planes: Planes
    reach: F64Array
    tolerance: F64Array

    def take(self, rows: I64Array) -> _Flat:
        planes, tolerance = self.planes.take(rows), self.tolerance[rows]
        return _Flat(self.column.take(rows), planes, self.reach[rows], tolerance)


class _Piece(NamedTuple):
    """What is buffered on planes together: a column in degrees, the row each of its rows is of.

    sign : -1 where what comes out is taken away
    flat : how it lies on its planes, if that is known
    """

    column: GeometryColumn
    row: I64Array
    distance: F64Array
    style: Style
    is_end: BoolArray | None = None
    sign: int = 1
    flat: _Flat | None = None


def buffered_in_degrees(
    column: GeometryColumn, distance: F64Array, style: Style, geod: proj.Geod, step: float
) -> Buffered:
    """Return everything within distances of rows, in degrees as the rows are.

    Parameters
    ----------
    column : valid polygons, lines or points, with no row empty
    distance : (n_rows,) metres, not 0 for lines and points; negative ones shrink polygons
    step : of the grids on the planes, in metres

    Raises
    ------
    DataError
        If a distance is too large for the earth.
    """
    if len(distance) and float(np.abs(distance).max()) > MOST_DISTANCE:
        raise DataError(
            f"a buffer of {np.abs(distance).max() / 1000:,.0f} km goes round the earth; no more than "
            f"{MOST_DISTANCE / 1000:,.0f} km can be computed in longitude and latitude"
        )
    if style.chord_error is None:
        style = replace(style, chord_error=CHORD_ERROR)
    column = replace(column, z=None, m=None)
    found: list[_Back] = []
    reach = 0.0
    pieces, areas = _pieces(column, distance, style, geod)
    pieces = [piece for piece in pieces if piece.column.n_rows]
    for piece in pieces:
        flat = piece.flat or _laid(
            piece.column, piece.distance, *local_planes.planes_of(piece.column, geod)
        )
        reach = max(reach, float(flat.reach.max(initial=0.0)))
        found += _on_planes(piece, flat, step)
    is_parted = np.zeros(column.n_rows, bool)
    for back in found:
        is_parted[back.row[back.rings.is_parted]] = True
    outlines = _together(found, areas)
    whole = settle(
        outlines,
        column.n_rows,
        Grid.over([(-180, -90, 180, 90)], DEFAULT_GEOGRAPHIC),
        by_sign=True,
        apart=True,
    )
    longest = float(np.abs(distance).max(initial=0.0))
    return Buffered(whole, is_parted, _error(style, reach, longest))


def _error(style: Style, reach: float, distance: float) -> float:
    """Return the most that distances are wrong by, in distances.

    Chords of arcs, edges on their way to the plane and back, and the plane itself: what lies aside of
    its middle by an angle r is seen too large by r² / 6 near it, and from far off, at an angle d, by
    (r / d)² / 2 times 1 - d / tan d (both from the series of the cosine rule).
    """
    aside, angle = reach / EARTH, max(distance / EARTH, 1e-9)
    plane = aside**2 / 6
    if angle > aside:
        plane = max(plane, (aside / angle) ** 2 / 2 * abs(1 - angle / np.tan(angle)))
    return float((style.chord_error or 0.0) + 2 * FOLLOW + plane)


def _pieces(
    column: GeometryColumn, distance: F64Array, style: Style, geod: proj.Geod
) -> tuple[list[_Piece], list[tuple[GeometryColumn, I64Array]]]:
    """Return what to buffer on planes, and polygons to add as they are with the rows they are of."""
    planes, reach = local_planes.planes_of(column, geod)
    is_large = reach > MOST_LOCAL
    # A seam would be eaten away from both sides.
    is_seamed = np.zeros(column.n_rows, bool)
    if column.family == Family.POLYGONS:
        is_seamed = has_seams(column) & (distance < 0)
    is_large |= is_seamed
    small, flat = _whole(column, np.flatnonzero(~is_large), distance, planes, reach)
    pieces = [_Piece(column.take(small), small, distance[small], style, flat=flat)]
    is_large = np.ones(column.n_rows, bool)
    is_large[small] = False
    large = np.flatnonzero(is_large)
    if len(large) == 0:
        return pieces, []
    some = column.take(large)
    row = large[owners(some.row_offsets)]
    parts = some.take_parts(np.arange(some.n_parts), np.arange(some.n_parts), some.n_parts)
    planes, reach = local_planes.planes_of(parts, geod)
    is_near = (reach <= MOST_LOCAL) & ~is_seamed[row]
    alone, flat = _whole(parts, np.flatnonzero(is_near), distance[row], planes, reach)
    pieces.append(_Piece(parts.take(alone), row[alone], distance[row[alone]], style, flat=flat))
    cut = np.setdiff1d(np.arange(parts.n_rows), alone)
    if column.family == Family.LINES:
        runs = local_planes.runs_of(parts.take(cut), geod)
        of = row[cut[runs.row]]
        pieces.append(_Piece(runs.column, of, distance[of], style, runs.is_end))
        return pieces, []
    is_shrunk = distance[row[cut]] < 0
    grown, shrunk = cut[~is_shrunk], cut[is_shrunk]
    for chosen, sign in ((grown, 1), (shrunk, -1)):
        if len(chosen):
            border = turned(parts.take(chosen), outer_is_counter_clockwise=True)
            pieces.append(
                _of_border(
                    border=border,
                    row=row[chosen],
                    distance=distance,
                    style=style,
                    sign=sign,
                    geod=geod,
                )
            )
    return pieces, [(parts.take(cut), row[cut])]


def _laid(column: GeometryColumn, distance: F64Array, planes: Planes, reach: F64Array) -> _Flat:
    tolerance = np.maximum(FOLLOW * np.abs(distance), local_planes.FOLLOW_LEAST)
    return _Flat(local_planes.followed(column, planes, tolerance), planes, reach, tolerance)


def _whole(
    column: GeometryColumn, near: I64Array, distance: F64Array, planes: Planes, reach: F64Array
) -> tuple[I64Array, _Flat]:
    """Return which of the rows that are near their planes' middles are buffered as wholes, laid there.

    Edges follow their course as closely as the distance asks for. What is narrower than that, such as
    the tip of a wedge, may lie there inside out, or be a way there and back: its outside would be
    taken for its inside. Of a polygon that is not valid there the border is taken, from both sides.
    """
    flat = _laid(column.take(near), distance[near], planes.take(near), reach[near])
    if column.family != Family.POLYGONS or not (is_wrong := invalid_rows(flat.column)).any():
        return near, flat
    kept = np.flatnonzero(~is_wrong)
    return near[kept], flat.take(kept)


def _of_border(
    border: GeometryColumn,
    row: I64Array,
    distance: F64Array,
    style: Style,
    sign: int,
    geod: proj.Geod,
) -> _Piece:
    """Return the runs of borders, drawn with their insides on the left, to add or to take away.

    Where corners are round both sides may be taken, since one of them changes nothing; other corners
    only matter on the side that is wanted.
    """
    if style.corners == "round":
        lines, line_row = true_borders(border, row) if sign < 0 else _as_lines(border)
        runs = local_planes.runs_of(lines, geod)
        of, is_end = row[line_row[runs.row]], np.ones((runs.column.n_rows, 2), bool)
        how = replace(style, side="both", caps="round")
    else:
        runs = local_planes.runs_of(_beside_poles(border), geod)
        of, is_end = row[runs.row], np.zeros((runs.column.n_rows, 2), bool)
        how = replace(style, side="right" if sign > 0 else "left", caps="flat")
    return _Piece(
        column=runs.column,
        row=of,
        distance=np.abs(distance[of]),
        style=how,
        is_end=is_end,
        sign=sign,
    )


def _beside_poles(border: GeometryColumn) -> GeometryColumn:
    """Return borders with the vertices at a pole a centimetre beside it.

    A strip along a border that goes through a pole has the pole on its own border, where nothing says
    whether it winds round it.
    """
    xy = border.xy.copy()
    np.clip(xy[:, 1], BESIDE - 90, 90 - BESIDE, out=xy[:, 1])
    return border.with_xy(xy)


def _as_lines(column: GeometryColumn) -> tuple[GeometryColumn, I64Array]:
    """Return rings as lines, and the row of each."""
    steps = np.arange(column.n_rings + 1)
    lines = replace(
        column,
        family=Family.LINES,
        part_offsets=steps,
        row_offsets=steps,
        is_null=np.zeros(column.n_rings, bool),
    )
    return lines, owners(column.ring_offsets_of_rows)


def _on_planes(piece: _Piece, flat: _Flat, step: float) -> list[_Back]:
    """Buffer rows each on its plane, and bring what comes out back into degrees."""
    planes, tolerance = flat.planes, flat.tolerance
    grid = grid_round(flat.column, piece.distance, piece.style, step)
    areas = buffered_rows(flat.column, piece.distance, piece.style, grid, piece.is_end)
    poles = planes.poles()

    def back(first: int, stop: int) -> _Back:
        some, rows = areas.slice_rows(first, stop), slice(first, stop)
        found = local_planes.back_in_degrees(some, planes.of(first, stop), tolerance[rows])
        return _Back(folded(*found, poles[rows]), piece.row[rows], piece.sign)

    parts = parallel.parted(areas.vertex_offsets_of_rows, local_planes.TOGETHER)
    return parallel.each(back, parts)


def grid_round(column: GeometryColumn, d: F64Array, style: Style, step: float) -> Grid:
    """Lay a grid over all that is within the distances (n_rows,), corners and caps too."""
    extent = column.extent()
    if extent is None:
        return Grid(step, 0, 0)
    reach = 1.5 if style.corners != "mitre" else max(1.5, style.mitre_limit)
    reach *= float(np.abs(d).max())
    low_x, low_y, high_x, high_y = extent
    return Grid.over([(low_x - reach, low_y - reach, high_x + reach, high_y + reach)], step)


def _together(
    found: list[_Back],
    areas: list[tuple[GeometryColumn, I64Array]],
) -> Outlines:
    """Return all rings of a row as one part, whose winding numbers add up."""
    xy, counts, of = [np.zeros((0, 2))], [np.zeros(0, np.int64)], [np.zeros(0, np.int64)]
    for rings, row, sign in found:
        xy.append(rings.xy if sign > 0 else run_backwards(rings.xy, rings.ring_offsets))
        counts.append(np.diff(rings.ring_offsets))
        of.append(row[rings.row_of_ring])
    for column, row in areas:
        column = turned(column, outer_is_counter_clockwise=True)
        xy.append(column.xy)
        counts.append(np.diff(column.ring_offsets))
        of.append(row[owners(column.ring_offsets_of_rows)])
    all_xy, all_counts, all_of = np.concatenate(xy), np.concatenate(counts), np.concatenate(of)
    order = np.argsort(all_of, kind="stable")
    starts = offsets_from(all_counts)[:-1][order]
    rows_there, part = np.unique(all_of[order], return_inverse=True)
    return Outlines(
        all_xy[spans(starts, all_counts[order])],
        offsets_from(all_counts[order]),
        part.reshape(-1),
        rows_there,
    )
