"""A coverage settled: narrow gaps between features closed, narrow overlaps given to one of them."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, get_args

import numpy as np

from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    number_pairs,
    owners,
    reduce_groups,
    spans,
    sum_by,
)
from polygene.classes import NamedTuple, dataclass
from polygene.crs import label
from polygene.errors import DataError, check_choice
from polygene.geometry import Family, GeometryColumn, extent_of
from polygene.layer import Layer
from polygene.measures import Ruler, row_areas, ruler_for
from polygene.ops.overlays.retracing import meeting, retraced
from polygene.ops.overlays.slivers import widths
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.ops.summary import NamedRows, unit_of
from polygene.plane.overlay import Overlay, face_areas, overlay_alone
from polygene.progress import SILENT, Progress

Prefer = Literal["first", "last", "largest", "smallest"]


class Faces(NamedTuple):
    """What features leave between them, or have in common.

    is_gap, is_overlap : (n_faces,); area, width : of each face, in the ruler's units
    """

    is_gap: BoolArray
    is_overlap: BoolArray
    area: F64Array
    width: F64Array


@dataclass(frozen=True)
class SettleSummary:
    """Gaps closed and overlaps given away, with their area; those that are wider and stay.

    width : ``asked`` is that as it was written
    changed : features that gained or lost by it; met : others that got a vertex where borders meet
    """

    name: str
    features: int
    width: float
    length_unit: str
    prefer: str
    gaps: int
    gap_area: float
    overlaps: int
    overlap_area: float
    gaps_left: int
    overlaps_left: int
    changed: int
    met: int
    vanished: NamedRows
    unit: str
    crs: str
    asked: str = ""


@dataclass(frozen=True)
class SettleResult:
    layer: Layer
    summary: SettleSummary


def lay_out(layer: Layer, precision: float | None) -> Overlay | None:
    """Return the arrangement of a layer's own polygons; None if there are none."""
    bounds = finite_bounds(layer)
    extent = extent_of(bounds)
    if extent is None or layer.geometry.family != Family.POLYGONS:
        return None
    grid = grid_for(layer, [extent], precision)
    return overlay_alone(layer.geometry, grid)


def faces_of(plan: Overlay, ruler: Ruler) -> Faces:
    """Find gaps and overlaps among the faces, with area and width."""
    arrangement, xy = plan.arrangement, plan.node_xy
    depth = np.diff(arrangement.label_offsets)
    areas = face_areas(plan, ruler)
    lengths = ruler.lengths(xy.take(arrangement.low, axis=0), xy.take(arrangement.high, axis=0))
    around = sum_by(arrangement.face_of_halfedge, np.repeat(lengths, 2), arrangement.n_faces)
    is_inside = np.arange(arrangement.n_faces) > 0
    return Faces((depth == 0) & is_inside, depth > 1, areas, widths(areas, around))


def settle_coverage(
    layer: Layer,
    width: float,
    *,
    prefer: Prefer = "first",
    precision: float | None = None,
    progress: Progress = SILENT,
) -> SettleResult:
    """Close gaps that features enclose and take overlaps away, as far as they are narrow.

    An overlap goes to one of the features that share it: the first or last, the largest or smallest
    of them. A gap goes to the feature that it borders most. Width is that of the rectangle of the same
    area and perimeter. Features that gain and lose nothing stay bit for bit.

    Parameters
    ----------
    width : in map units

    Raises
    ------
    DataError
        If the layer is none of polygons, or has coordinates that are not finite.
    UsageError
        If there is no such preference.
    """
    check_choice("prefer", prefer, get_args(Prefer))
    if layer.geometry.family != Family.POLYGONS:
        raise DataError(
            f"layer {layer.name!r} holds {layer.geometry.family.words}; only polygons are a coverage"
        )
    progress.stage(f"laying out {layer.name}")
    ruler = ruler_for(layer.crs)
    unit = unit_of(Family.POLYGONS, ruler)
    plan = lay_out(layer, precision)
    if plan is None:
        none = SettleSummary(
            name=layer.name,
            features=layer.n_rows,
            width=width * ruler.map_unit,
            length_unit=ruler.unit,
            prefer=prefer,
            gaps=0,
            gap_area=0.0,
            overlaps=0,
            overlap_area=0.0,
            gaps_left=0,
            overlaps_left=0,
            changed=0,
            met=0,
            vanished=NamedRows(),
            unit=unit,
            crs=label(layer.crs),
        )
        return SettleResult(layer, none)
    faces = faces_of(plan, ruler)
    is_narrow = faces.width < width * ruler.map_unit
    gaps, overlaps = faces.is_gap & is_narrow, faces.is_overlap & is_narrow
    progress.stage("closing gaps and overlaps")
    face, row = _given(plan, gaps, overlaps, _ranks(layer.geometry, prefer, ruler), ruler)
    column, changed, meets = _rebuilt(plan, face, row, gaps | overlaps)
    vanished = changed & column.is_empty
    summary = SettleSummary(
        name=layer.name,
        features=layer.n_rows,
        width=width * ruler.map_unit,
        length_unit=ruler.unit,
        prefer=prefer,
        gaps=int(gaps.sum()),
        gap_area=float(faces.area[gaps].sum()),
        overlaps=int(overlaps.sum()),
        overlap_area=float(faces.area[overlaps].sum()),
        gaps_left=int((faces.is_gap & ~is_narrow).sum()),
        overlaps_left=int((faces.is_overlap & ~is_narrow).sum()),
        changed=int(changed.sum()),
        met=int(meets.sum()),
        vanished=NamedRows.of(layer, vanished),
        unit=unit,
        crs=label(layer.crs),
    )
    return SettleResult(replace(layer, geometry=column), summary)


def _ranks(column: GeometryColumn, prefer: Prefer, ruler: Ruler) -> I64Array:
    """Return the place of each row in the order of preference, the lowest first."""
    n = column.n_rows
    if prefer == "first":
        return np.arange(n)
    if prefer == "last":
        return np.arange(n)[::-1].copy()
    areas = row_areas(column, ruler)
    order = np.argsort(-areas if prefer == "largest" else areas, kind="stable")
    ranks = np.empty(n, np.int64)
    ranks[order] = np.arange(n)
    return ranks


def _given(
    plan: Overlay, gaps: BoolArray, overlaps: BoolArray, rank: I64Array, ruler: Ruler
) -> tuple[I64Array, I64Array]:
    """Return face and row of all that features have afterwards."""
    arrangement = plan.arrangement
    face, row = owners(arrangement.label_offsets), arrangement.labels
    by_rank = np.argsort(rank)
    best = reduce_groups(np.minimum, rank[row], arrangement.label_offsets, len(rank))
    keeps = ~overlaps[face] | (rank[row] == best[face])
    face, row = face[keeps], row[keeps]
    # What a gap borders, face by face; the rows there are those that have them afterwards.
    halfedge = np.flatnonzero(gaps[arrangement.face_of_halfedge])
    beyond = arrangement.face_of_halfedge[halfedge ^ 1]
    first = np.searchsorted(face, beyond, side="left")
    counts = np.searchsorted(face, beyond, side="right") - first
    neighbour = row[spans(first, counts)]
    gap = np.repeat(arrangement.face_of_halfedge[halfedge], counts)
    edge = np.repeat(halfedge >> 1, counts)
    length = ruler.lengths(
        plan.node_xy[arrangement.low[edge]], plan.node_xy[arrangement.high[edge]]
    )
    pairs = number_pairs(gap, rank[neighbour])
    total = sum_by(pairs.numbers, length, len(pairs.firsts))
    gap, ranks = gap[pairs.firsts], rank[neighbour][pairs.firsts]
    order = np.lexsort((ranks, -total, gap))
    gap, ranks = gap[order], ranks[order]
    is_best = np.diff(gap, prepend=NONE) != 0
    return (
        np.concatenate([face, gap[is_best]]),
        np.concatenate([row, by_rank[ranks[is_best]]]),
    )


def _rebuilt(
    plan: Overlay, face: I64Array, row: I64Array, touched: BoolArray
) -> tuple[GeometryColumn, BoolArray, BoolArray]:
    """Return the column with the rows that gained or lost a face traced anew, and which these are.

    Where their borders meet another row's between its vertices, that row gets a vertex too, for else
    rounding to the grid would leave the thinnest of gaps; those rows are the second mask.
    """
    column, arrangement = plan.own, plan.arrangement
    own_face, own_row = owners(arrangement.label_offsets), arrangement.labels
    before, after = (
        f[touched[f]] * column.n_rows + r[touched[f]] for f, r in ((own_face, own_row), (face, row))
    )
    changed = np.zeros(column.n_rows, bool)
    changed[np.setxor1d(before, after) % column.n_rows] = True
    meets = meeting(plan, face[changed[row]], changed)
    rows = np.flatnonzero(changed | meets)
    grown = retraced(plan, face, row, rows, plan.row_of_part, thins=False)
    return column.with_rows(rows, grown), changed, meets
