"""Slivers: parts thinner than a width, counted, or given to the neighbour they border most."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene import kernels
from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    distinct,
    number_pairs,
    owners,
    spans,
    sum_by,
)
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn, extent_of
from polygene.layer import Layer
from polygene.measures import Ruler, row_areas_and_lengths, ruler_for
from polygene.ops.overlays.retracing import retraced
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.ops.summary import GivenAway, unit_of
from polygene.plane.borders import Outline, outline
from polygene.plane.grid import Grid
from polygene.plane.overlay import Overlay, face_areas, overlay
from polygene.plane.signatures import signatures
from polygene.plane.touch import rows_touched


def widths(areas: F64Array, perimeters: F64Array) -> F64Array:
    """Return the width of the rectangle of the same area and perimeter; of a square where none is."""
    half = perimeters / 2
    root = np.sqrt(np.maximum(half**2 - 4 * areas, 0.0))
    # (half - root) / 2 would lose all digits of a thin one.
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(half > 0, 2 * areas / (half + root), 0.0)


def _parts(column: GeometryColumn) -> GeometryColumn:
    return column.take_parts(np.arange(column.n_parts), np.arange(column.n_parts), column.n_parts)


def _part_sizes(parts: GeometryColumn, ruler: Ruler) -> tuple[F64Array, F64Array]:
    """Return area and width of each part."""
    areas, lengths = row_areas_and_lengths(parts, ruler)
    return areas, widths(areas, lengths)


def sliver_rows(layer: Layer, width: float) -> I64Array:
    """Return the rows of polygons with parts thinner than a width in map units."""
    if layer.geometry.family != Family.POLYGONS:
        return np.zeros(0, np.int64)
    ruler = ruler_for(layer.crs)
    is_sliver = _part_sizes(_parts(layer.geometry), ruler)[1] < width * ruler.map_unit
    return distinct(owners(layer.geometry.row_offsets)[is_sliver])


def slivers_between(plan: Overlay, width: float, ruler: Ruler) -> int:
    """Return how many places thinner than a width (map units) one side covers and the other does not.

    A place is what hangs together and is covered by the same first row.
    """
    arrangement = plan.arrangement
    n_faces, labels = arrangement.n_faces, arrangement.labels
    face_of_label = owners(arrangement.label_offsets)
    is_own = np.zeros(n_faces, bool)
    is_own[face_of_label[labels < plan.n_own_rows]] = True
    has_one = is_own != plan.is_covered
    first = np.full(n_faces, NONE, np.int64)
    first[has_one] = labels[arrangement.label_offsets[:-1][has_one]]
    left, right = arrangement.face_of_halfedge.reshape(-1, 2).T
    is_inner = (first[left] == first[right]) & has_one[left] & has_one[right]
    place = np.arange(n_faces)
    kernels.run(
        kernels.pairs.join_roots,
        left[is_inner].astype(np.int64),
        right[is_inner].astype(np.int64),
        place,
    )
    lengths = ruler.lengths(
        plan.node_xy.take(arrangement.low, axis=0), plan.node_xy.take(arrangement.high, axis=0)
    )
    around = sum_by(place[left[~is_inner]], lengths[~is_inner], n_faces)
    around += sum_by(place[right[~is_inner]], lengths[~is_inner], n_faces)
    areas = sum_by(place[has_one], face_areas(plan, ruler)[has_one], n_faces)
    is_place = has_one & (place == np.arange(n_faces))
    return int((widths(areas, around) < width * ruler.map_unit)[is_place].sum())


class Given(NamedTuple):
    """A layer whose slivers went to neighbours.

    kept : (n,) rows that are still there; is_grown : (n,) of these, whether it got any
    """

    layer: Layer
    facts: GivenAway
    kept: I64Array
    is_grown: BoolArray


def give_away(layer: Layer, width: float, precision: float, is_made: BoolArray) -> Given:
    """Give each part thinner than a width (map units) to the neighbour with the longest shared border.

    Of several as long it is the largest, and of those as large one by where it lies, in whatever order.
    Only parts of rows that an overlay made (n_rows,) are given; what came out whole is not touched
    but to get some. Slivers beside nothing but slivers follow those that found a neighbour. What has
    none at all stays. What is covered in all stays as it is.
    """
    ruler = ruler_for(layer.crs)
    unit = unit_of(layer.geometry.family, ruler)
    every, none = np.arange(layer.n_rows), np.zeros(layer.n_rows, bool)
    if layer.geometry.family != Family.POLYGONS:
        return Given(
            layer,
            GivenAway(width=width, count=0, area=0.0, unit=unit, left=0, left_area=0.0, rows=0),
            every,
            none,
        )
    column = layer.geometry
    row_of_part = owners(column.row_offsets)
    made = np.flatnonzero(is_made[row_of_part])
    parts = _parts(column)
    areas, thickness = np.zeros(column.n_parts), np.full(column.n_parts, np.inf)
    areas[made], thickness[made] = _part_sizes(parts.take(made), ruler)
    is_sliver = thickness < width * ruler.map_unit
    goal = row_of_part.copy()
    if is_sliver.any():
        bounds = finite_bounds(layer)
        grid = grid_for(layer, [extent_of(bounds)], precision)
        thin = parts.take(np.flatnonzero(is_sliver))
        rows = np.flatnonzero(rows_touched(column, bounds, outline(thin, grid), grid))
        chosen = spans(column.row_offsets[rows], np.diff(column.row_offsets)[rows])
        plan = overlay(parts.take(chosen), *_nothing(parts, grid), grid)
        beside = _neighbours(plan, row_of_part[chosen], is_sliver[chosen], ruler)
        ranks = np.zeros(layer.n_rows, np.int64)
        ranks[rows] = _ranks(column.take(rows), ruler)
        goal[chosen] = _goals(beside, row_of_part[chosen], is_sliver[chosen], ranks)
        column = _joined(layer, plan, chosen, goal)
    moved = goal != row_of_part
    left = is_sliver & ~moved
    facts = GivenAway(
        width=width,
        count=int(moved.sum()),
        area=float(areas[moved].sum()),
        unit=unit,
        left=int(left.sum()),
        left_area=float(areas[left].sum()),
        rows=int((column.is_empty & ~layer.geometry.is_empty).sum()),
    )
    kept = np.flatnonzero(~column.is_empty | layer.geometry.is_empty)
    is_grown = none.copy()
    is_grown[goal[moved]] = True
    return Given(layer.with_geometry(column.take(kept), kept), facts, kept, is_grown[kept])


def _nothing(column: GeometryColumn, grid: Grid) -> tuple[GeometryColumn, Outline]:
    empty = column.take(np.zeros(0, np.int64))
    return empty, outline(empty, grid)


def _ranks(column: GeometryColumn, ruler: Ruler) -> I64Array:
    """Return the place of each row among all, the largest first, whatever order they are in."""
    areas, _ = row_areas_and_lengths(column, ruler)
    order = np.lexsort((signatures(column), -areas))
    ranks = np.empty(len(order), np.int64)
    ranks[order] = np.arange(len(order))
    return ranks


def _goals(beside: _Beside, row: I64Array, is_sliver: BoolArray, ranks: I64Array) -> I64Array:
    """Return the row that each part goes to: its own, or a neighbour's for slivers that have one.

    Of rows (n_rows,) that a sliver borders as much the one of the lowest rank gets it.
    """
    goal = np.where(is_sliver, NONE, row)
    while True:  # as often as slivers lie in a row behind each other
        asks = (goal[beside.sliver] == NONE) & (goal[beside.part] != NONE)
        if not asks.any():
            return np.where(goal == NONE, row, goal)
        sliver, wanted = beside.sliver[asks], goal[beside.part[asks]]
        pairs = number_pairs(sliver, wanted)
        total = sum_by(pairs.numbers, beside.length[asks], len(pairs.firsts))
        sliver, wanted = sliver[pairs.firsts], wanted[pairs.firsts]
        order = np.lexsort((ranks[wanted], -total, sliver))
        sliver, wanted = sliver[order], wanted[order]
        is_best = np.ones(len(sliver), bool)
        is_best[1:] = sliver[1:] != sliver[:-1]
        goal[sliver[is_best]] = wanted[is_best]


class _Beside(NamedTuple):
    """Borders that slivers share with parts of other rows; lengths in thousandths of a grid unit."""

    sliver: I64Array
    part: I64Array
    length: F64Array


def _neighbours(plan: Overlay, row: I64Array, is_sliver: BoolArray, ruler: Ruler) -> _Beside:
    arrangement = plan.arrangement
    deltas = arrangement.deltas
    edge = owners(deltas.offsets)
    mine = np.flatnonzero(is_sliver[deltas.part])
    counts = np.diff(deltas.offsets)[edge[mine]]
    theirs = spans(deltas.offsets[edge[mine]], counts)
    mine = np.repeat(mine, counts)
    # The two lie on opposite sides of the edge.
    is_beside = deltas.sign[mine] == -deltas.sign[theirs]
    is_beside &= row[deltas.part[mine]] != row[deltas.part[theirs]]
    mine, theirs = mine[is_beside], theirs[is_beside]
    at = edge[mine]
    length = ruler.lengths(plan.node_xy[arrangement.low[at]], plan.node_xy[arrangement.high[at]])
    # To a thousandth of the grid, whatever order they are added up in.
    unit = 1e-3 * plan.grid.step * ruler.map_unit
    length = np.round(length / unit)
    return _Beside(deltas.part[mine].astype(np.int64), deltas.part[theirs].astype(np.int64), length)


def _joined(layer: Layer, plan: Overlay, chosen: I64Array, goal: I64Array) -> GeometryColumn:
    """Return the column with slivers where they go; rows that nothing goes to keep what they have."""
    column = layer.geometry
    row_of_part = owners(column.row_offsets)
    moved = np.flatnonzero(goal != row_of_part)
    gains = distinct(goal[moved])
    # What only loses parts.
    stays = np.ones(column.n_parts, bool)
    stays[moved] = False
    stays[np.isin(row_of_part, gains)] = False
    rest = column.take_parts(np.flatnonzero(stays), row_of_part[stays], column.n_rows)
    # What gains some is traced anew.
    face, part = plan.own_labels()
    new_row = goal[chosen]
    grown = retraced(plan, face, new_row[part], gains, new_row[plan.row_of_part])
    rest = replace(rest, is_null=column.is_null, is_multi=column.is_multi)
    return rest.with_rows(gains, grown)
