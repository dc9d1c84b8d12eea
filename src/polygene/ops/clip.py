"""Clip: keep what lies inside OTHER."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array
from polygene.crs import label
from polygene.errors import DataError, GeometryError
from polygene.geometry import Extent, Family, GeometryColumn, concatenate, extent_of
from polygene.layer import Layer
from polygene.measures import Ruler, row_lengths, row_measures, ruler_for
from polygene.ops.parts import single_parts as to_single_parts
from polygene.ops.summary import Balance, NamedRows, Side, check_balance
from polygene.plane.borders import outline
from polygene.plane.grid import DEFAULT_GEOGRAPHIC, DEFAULT_PROJECTED, Grid
from polygene.plane.heights import with_heights
from polygene.plane.inside import CUT_OF_FAMILY, Cut
from polygene.plane.overlay import Overlay, overlay
from polygene.plane.touch import rows_touched
from polygene.progress import SILENT, Progress


@dataclass(frozen=True)
class ClipSummary:
    """What a clip did.

    Features of INPUT are kept ``whole``, ``cut``, or ``dropped`` (nothing of them inside), or have
    no geometry; together they are all of it. ``out`` is the number of rows that came out.
    """

    input: Side
    other: Side
    out: int
    whole: int
    cut: int
    dropped: int
    without_geometry: int
    balance: Balance | None
    crs: str
    precision: float
    notes: list[str]


@dataclass(frozen=True)
class ClipResult:
    layer: Layer
    summary: ClipSummary


def clip(
    layer: Layer,
    other: Layer,
    *,
    whole: bool = False,
    single_parts: bool = False,
    precision: float | None = None,
    progress: Progress = SILENT,
) -> ClipResult:
    """Keep what lies inside the polygons of OTHER; on their border counts as inside.

    Parameters
    ----------
    layer : Layer
        INPUT, of any family.
    other : Layer
        Polygons, in the CRS of INPUT. They may overlap; what any of them covers is inside.
    whole : bool
        Keep every feature that meets OTHER as it is instead of cutting it.
    single_parts : bool
        Give each part of a result a row of its own.
    precision : float, optional
        Step of the grid in map units; 0.0001 or, in degrees, 1e-9 if not given.

    Raises
    ------
    DataError
        If OTHER has no polygons, or coordinates of either are not finite.
    BalanceError
        If area, length or points are not conserved: a bug of ours.
    """
    _check_other(other)
    bounds = _finite_bounds(layer)
    other_bounds = _finite_bounds(other)
    grid = _grid(layer, [extent_of(bounds), extent_of(other_bounds)], precision)
    near = _rows_near(other_bounds, extent_of(bounds))
    cutter = other.geometry.take(np.flatnonzero(near))
    border = outline(cutter, grid)
    progress.stage(f"clipping {layer.name}: finding what the border touches")
    touched = rows_touched(layer.geometry, bounds, border, grid)
    progress.stage(f"clipping {layer.name}: cutting {int(touched.sum()):,} features")
    rows = np.flatnonzero(touched)
    plan = overlay(layer.geometry.take(rows), cutter, border, grid)
    ruler = ruler_for(layer.crs)
    cut = CUT_OF_FAMILY[layer.geometry.family](plan, ruler)
    is_inside = _inside_untouched(layer.geometry, touched, plan)
    is_inside[rows[cut.touches if whole else cut.is_whole]] = True
    cut_rows = rows[:0] if whole else rows[cut.is_cut]
    pieces, n_guessed = with_heights(plan, cut)
    geometry, source = _assembled(layer.geometry, is_inside, cut_rows, pieces, cut)
    balance = None
    if not whole:
        balance = _balance(layer, rows, is_inside, cut, grid, ruler)
    result = layer.with_geometry(geometry, source)
    if single_parts:
        result = to_single_parts(result)
    is_empty = layer.geometry.is_empty
    crossed = np.zeros(layer.n_rows, bool)
    crossed[rows[cut.is_crossed & cut.is_cut]] = not whole
    other_crossed = np.zeros(other.n_rows, bool)
    other_crossed[near] = plan.arrangement.is_crossed[plan.n_own_rows :]
    summary = ClipSummary(
        _side(layer, layer.n_rows, crossed),
        _side(other, int(near.sum()), other_crossed),
        result.n_rows,
        int(is_inside.sum()),
        len(cut_rows),
        int(layer.n_rows - is_empty.sum() - is_inside.sum() - len(cut_rows)),
        int(is_empty.sum()),
        balance,
        label(layer.crs),
        grid.step,
        _notes(layer, grid, n_guessed),
    )
    return ClipResult(result, summary)


def _side(layer: Layer, used: int, crossed: BoolArray) -> Side:
    named = NamedRows.of(layer, crossed)
    return Side(layer.name, layer.n_total, layer.n_rows, used, layer.geometry.family, named)


def _check_other(other: Layer) -> None:
    if other.geometry.family != Family.POLYGONS:
        raise DataError(
            f"OTHER, layer {other.name!r}, holds {other.geometry.family.words}; clipping needs "
            "polygons to cut with. If you meant it the other way round, exchange INPUT and OTHER"
        )
    if other.geometry.n_rings == 0:
        raise DataError(
            f"OTHER, layer {other.name!r}, has no polygon left to cut with "
            f"({other.n_rows} features, all without geometry)"
            if other.n_rows
            else f"OTHER, layer {other.name!r}, has no features to cut with"
        )


def _finite_bounds(layer: Layer) -> F64Array:
    """Return the (n_rows, 4) bounds; refuse coordinates that are not finite."""
    bounds = layer.geometry.row_bounds()
    is_bad = ~np.isfinite(bounds).all(axis=1) & ~layer.geometry.is_empty
    if is_bad.any():
        row = int(np.flatnonzero(is_bad)[0])
        raise GeometryError(
            f"layer {layer.name!r}",
            layer.row_label(row),
            "a coordinate is not a finite number",
            "leave the row out with --where, or mend the source",
        )
    return bounds


def _grid(layer: Layer, extents: Sequence[Extent | None], precision: float | None) -> Grid:
    if precision is None:
        is_geographic = layer.crs is not None and layer.crs.is_geographic
        precision = DEFAULT_GEOGRAPHIC if is_geographic else DEFAULT_PROJECTED
    return Grid.over([extent for extent in extents if extent is not None], precision)


def _rows_near(bounds: F64Array, extent: Extent | None) -> BoolArray:
    """Which boxes meet an extent; empty ones (inf to -inf) meet none."""
    if extent is None:
        return np.zeros(len(bounds), bool)
    low_x, low_y, high_x, high_y = extent
    return (
        (bounds[:, 0] <= high_x)
        & (bounds[:, 2] >= low_x)
        & (bounds[:, 1] <= high_y)
        & (bounds[:, 3] >= low_y)
    )


def _inside_untouched(column: GeometryColumn, touched: BoolArray, plan: Overlay) -> BoolArray:
    """Which rows that no border touches lie inside: all of a row lies where its first vertex does."""
    is_inside = np.zeros(column.n_rows, bool)
    rows = np.flatnonzero(~touched & ~column.is_empty)
    x, y = plan.grid.to_units(column.xy[column.vertex_offsets_of_rows[:-1][rows]])
    is_inside[rows] = plan.covers_points(2 * x, 2 * y)
    return is_inside


def _assembled(
    column: GeometryColumn,
    is_inside: BoolArray,
    cut_rows: I64Array,
    all_pieces: GeometryColumn,
    cut: Cut,
) -> tuple[GeometryColumn, I64Array]:
    """Put whole rows and pieces together in the order of INPUT; return also the row of each."""
    whole_rows = np.flatnonzero(is_inside)
    if len(cut_rows) == 0:
        return column.take(whole_rows), whole_rows
    pieces = all_pieces.take(np.flatnonzero(cut.is_cut))
    both = concatenate([column.take(whole_rows), pieces])
    source = np.concatenate([whole_rows, cut_rows])
    order = np.argsort(source, kind="stable")
    is_multi = column.is_multi or bool((np.diff(both.row_offsets) > 1).any())
    return replace(both.take(order), is_multi=is_multi), source[order]


def _balance(
    layer: Layer, rows: I64Array, is_inside: BoolArray, cut: Cut, grid: Grid, ruler: Ruler
) -> Balance:
    """Check for each row that what is inside and outside adds up to what was there.

    What is inside is measured on the pieces as they are written, what is outside on the faces of
    the plane, and what was there on INPUT, but for rings that cross: those are read by a rule.
    """
    column = layer.geometry
    before = row_measures(column, ruler)
    is_read = cut.is_crossed & ~is_inside[rows]
    before[rows[is_read]] = cut.before[is_read]
    inside = np.where(is_inside, before, 0.0)
    inside[rows[cut.is_cut]] = row_measures(cut.pieces, ruler)[cut.is_cut]
    outside = np.where(is_inside, 0.0, before)
    outside[rows] = cut.outside
    bound = np.abs(before) * 1e-9
    # No border moves further than a grid unit, at no vertex, cut or crossing of a line.
    step = grid.step * ruler.map_unit
    touched = column.take(rows)
    if column.family == Family.POLYGONS:
        edges = row_lengths(touched, ruler) + row_lengths(cut.pieces, ruler)
        bound[rows] += step * (2 * edges + 8 * step)
    elif column.family == Family.LINES:
        bound[rows] += 2 * step * (4 + cut.n_steps)
    check_balance(before, inside, outside, bound, layer)
    unit = {Family.POINTS: "points", Family.LINES: ruler.unit}.get(
        column.family, "m²" if ruler.unit == "m" else "square units"
    )
    return Balance(
        float(before.sum()), float(inside.sum()), float(outside.sum()), float(bound.sum()), unit
    )


def _notes(layer: Layer, grid: Grid, n_guessed: int) -> list[str]:
    notes = []
    if grid.is_coarsened:
        notes.append(f"the extent is so large that the grid had to be {grid.step:g} wide")
    if n_guessed:
        kinds = [k for k, v in (("Z", layer.geometry.z), ("M", layer.geometry.m)) if v is not None]
        notes.append(
            f"{layer.name}: {n_guessed:,} vertices along the border of OTHER have no "
            f"{' or '.join(kinds)} of their own; interpolated along the ring"
        )
    return notes
