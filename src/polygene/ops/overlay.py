"""What all overlays have in common: who takes part, the cut, the balance, the result.

An overlay lays INPUT, of any family, over OTHERs, layers of polygons in INPUT's CRS (or of lines
over lines, points over points, where that has a meaning). Features that no border touches never enter
the plane: they pass through as they are.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple, TypedDict, Unpack

import numpy as np

from polygene.arrays import NONE, BoolArray, F64Array, I64Array, count_by, offsets_from
from polygene.crs import label
from polygene.errors import DataError
from polygene.geometry import (
    Extent,
    Family,
    GeometryColumn,
    concatenate,
    extent_of,
    heights_of,
)
from polygene.layer import Layer
from polygene.measures import Ruler, row_lengths, row_measures, ruler_for
from polygene.ops.attributes import joined, joined_names
from polygene.ops.extents import finite_bounds, grid_for
from polygene.ops.parts import taken_apart
from polygene.ops.slivers import count_slivers, give_away
from polygene.ops.snap import snapped_onto
from polygene.ops.stored import Source, adjusted
from polygene.ops.summary import (
    Balance,
    NamedRows,
    OverlayResult,
    OverlaySummary,
    Side,
    check_sums,
    unit_of,
)
from polygene.plane import members as members_of
from polygene.plane.borders import Outline, outline
from polygene.plane.cutting import Cut, cut
from polygene.plane.grid import Grid
from polygene.plane.heights import with_heights
from polygene.plane.keys import Rule, keyed, order_of
from polygene.plane.members import Members
from polygene.plane.overlay import Overlay, overlay
from polygene.plane.touch import rows_touched
from polygene.progress import SILENT, Progress


class How(TypedDict, total=False):
    """What all overlays can be told.

    precision : step of the grid in map units; 0.0001 or, in degrees, 1e-9 if not given
    snap : move borders of INPUT within this distance of OTHER, in map units, onto it first
    drop_slivers : give parts of the result thinner than this, in map units, to the neighbour with
        the longest shared border
    single_parts : give each part of a result a row of its own
    refresh : fields that hold the area, perimeter or length of their features, to measure anew
    apportion : fields of numbers to multiply by the share of the feature that a row is
    """

    precision: float | None
    snap: float | None
    drop_slivers: float | None
    single_parts: bool
    refresh: Sequence[str]
    apportion: Sequence[str]
    progress: Progress


def lay(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    *,
    whole: bool = False,
    origins: bool = False,
    **how: Unpack[How],
) -> OverlayResult:
    """Lay INPUT over the OTHERs as a rule says.

    Parameters
    ----------
    layer : Layer
        INPUT; polygons only for a union.
    others : sequence of Layer
        In the CRS of INPUT; polygons, and for erase and intersect also what INPUT holds, where
        lines cover what runs along them and points what lies at the same place.
    whole : bool
        Keep every feature of INPUT that meets OTHER as it is; for `Rule.CLIP`.
    origins : bool
        Add the identifiers of the rows that each piece is of.
    how
        See `How`.

    Raises
    ------
    DataError
        If an OTHER is of the wrong family or has nothing, or coordinates are not finite.
    BalanceError
        If area, length or points are not conserved: a bug of ours.
    """
    for other in others:
        _check_other(layer, other, rule, others[0])
    snap, precision = how.get("snap"), how.get("precision")
    told = Told(rule, whole, origins, precision, how.get("progress", SILENT))
    laid = (
        _snapped_first(layer, others, told, snap) if snap is not None else _lay(layer, others, told)
    )
    sources = [layer, *others] if rule.is_keyed_by_other else [layer]
    return finished(laid, sources, how)


class Laid(NamedTuple):
    """A result, and the rows of the sources that its rows are pieces of, NONE for none."""

    result: OverlayResult
    rows: I64Array


def finished(laid: Laid, sources: Sequence[Layer], how: How) -> OverlayResult:
    """Give slivers away, take parts apart, and look after stored measures, as told."""
    (layer, summary), rows = (laid.result.layer, laid.result.summary), laid.rows
    width = how.get("drop_slivers")
    if width is not None:
        layer, given, kept = give_away(layer, width, summary.precision)
        summary, rows = replace(summary, given_away=given), rows[kept]
    if how.get("single_parts"):
        layer, kept = taken_apart(layer)
        rows = rows[kept]
    names = joined_names(sources)
    layer, stored = adjusted(
        layer, [Source(y, rows[:, k], names[k]) for k, y in enumerate(sources)],
        how.get("refresh", ()), how.get("apportion", ()),
    )  # fmt: skip
    return OverlayResult(layer, replace(summary, out=layer.n_rows, stored=stored))


class Told(NamedTuple):
    """What there is to do."""

    rule: Rule
    whole: bool
    origins: bool
    precision: float | None
    progress: Progress


def _snapped_first(layer: Layer, others: Sequence[Layer], told: Told, snap: float) -> Laid:
    """Snap INPUT, lay it over the OTHERs, and compare with what came out without."""
    told.progress.stage(f"{layer.name}: what it is without the snap")
    plain = _lay(layer, others, told).result
    told.progress.stage(f"{layer.name}: snapping to {' and '.join(y.name for y in others)}")
    moved, facts = snapped_onto(layer, others, snap, told.precision)
    done, rows = _lay(moved, others, told)
    n_fell = facts.fell.count
    facts = replace(
        facts,
        slivers_before=count_slivers(plain.layer, snap),
        slivers_after=count_slivers(done.layer, snap),
        crossed=done.summary.input.crossed.count - plain.summary.input.crossed.count,
    )
    summary = replace(
        done.summary,
        snap=facts,
        without_geometry=done.summary.without_geometry - n_fell,
        dropped=done.summary.dropped + n_fell,
    )
    return Laid(OverlayResult(done.layer, summary), rows)


def _lay(layer: Layer, others: Sequence[Layer], told: Told) -> Laid:
    rule, progress = told.rule, told.progress
    verb = rule.name.lower()
    scene = _scene(layer, others, rule, told.precision)
    progress.stage(f"{verb} {layer.name}: {len(scene.own_rows):,} features meet a border")
    plan = overlay(layer.geometry.take(scene.own_rows), scene.cutter, scene.border, scene.grid)
    progress.stage(f"{verb} {layer.name}: cutting")
    done = cut(plan, rule, scene.other_starts, scene.ruler)
    passed = _untouched(layer, scene, plan, rule)
    balance = None
    if told.whole:
        rows = np.sort(np.concatenate([scene.own_rows[done.touches], passed[:, 0]]))
        made = _Made(_input_only(rows, len(others)), layer.geometry.take(rows), len(rows), 0)
    else:
        written = check_cut(done, plan, scene)
        made = _made(layer, scene, plan, done, rule, passed)
        balance = _balance(layer, scene, plan, done, rule, passed, written)
    result = _result_layer(layer, others, rule, made, told.origins)
    summary = _summary(layer, others, rule, scene, plan, done, made, balance)
    return Laid(OverlayResult(result, summary), made.rows)


class _Scene(NamedTuple):
    """Who takes part.

    own_rows : rows of INPUT that enter the plane
    near : (n_other_rows in all,) rows of the OTHERs that do
    cutter : those of all OTHERs in a row
    other_rows : (n cutter rows,) the row of each within its layer
    other_starts : (n OTHERs + 1,) first row of each within the cutter
    """

    grid: Grid
    ruler: Ruler
    own_rows: I64Array
    near: list[BoolArray]
    cutter: GeometryColumn
    border: Outline
    other_rows: I64Array
    other_starts: I64Array


def _scene(layer: Layer, others: Sequence[Layer], rule: Rule, precision: float | None) -> _Scene:
    bounds = finite_bounds(layer)
    other_bounds = [finite_bounds(other) for other in others]
    extent = extent_of(bounds)
    grid = grid_for(layer, [extent, *map(extent_of, other_bounds)], precision)
    # A union keeps OTHER's features that are far from INPUT too.
    keeps_all = rule == Rule.UNION
    near = [_rows_near(b, extent) | (keeps_all & np.isfinite(b[:, 0])) for b in other_bounds]
    rows = [np.flatnonzero(mask) for mask in near]
    cutter = concatenate([other.geometry.take(r) for other, r in zip(others, rows, strict=True)])
    border = outline(cutter, grid)
    if rule == Rule.UNION or cutter.family == Family.POINTS:
        # What lies inside OTHER untouched has to be taken out of it, so it must enter too.
        own_rows = np.flatnonzero(_rows_near(bounds, extent_of(cutter.row_bounds())))
    else:
        own_rows = np.flatnonzero(rows_touched(layer.geometry, bounds, border, grid))
    return _Scene(
        grid, ruler_for(layer.crs), own_rows, near, cutter, border,
        np.concatenate(rows), offsets_from([len(r) for r in rows]),
    )  # fmt: skip


def _check_other(layer: Layer, other: Layer, rule: Rule, first: Layer) -> None:
    own, family = layer.geometry.family, other.geometry.family
    takes_own = rule in (Rule.ERASE, Rule.INTERSECT)
    if family != Family.POLYGONS and not (takes_own and family == own):
        needed = "polygons" + (f" or {own.words}" if takes_own and own != Family.POLYGONS else "")
        raise DataError(
            f"OTHER, layer {other.name!r}, holds {family.words}, and to {rule.name.lower()} "
            f"{own.words} needs {needed}. If you meant it the other way round, exchange INPUT and "
            "OTHER"
        )
    if family != first.geometry.family:
        raise DataError(
            f"the OTHERs must all be alike: layer {first.name!r} holds "
            f"{first.geometry.family.words} and layer {other.name!r} {family.words}"
        )
    if other.geometry.n_vertices == 0:
        what = family.words.removesuffix("s")
        raise DataError(
            f"OTHER, layer {other.name!r}, has no {what}: its {other.n_rows:,} features are all "
            "without geometry"
            if other.n_rows
            else f"OTHER, layer {other.name!r}, has no features"
        )


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


class _Made(NamedTuple):
    """The result's rows and geometry; of INPUT's features how many came out whole and in pieces."""

    rows: I64Array
    geometry: GeometryColumn
    n_whole: int
    n_cut: int
    n_guessed: int = 0


def _input_only(rows: I64Array, n_others: int) -> I64Array:
    return np.concatenate([rows[:, None], np.full((len(rows), n_others), NONE)], axis=1)


def _made(
    layer: Layer, scene: _Scene, plan: Overlay, done: Cut, rule: Rule, passed: I64Array
) -> _Made:
    """Put pieces, whole rows and what never entered the plane together, in order."""
    column = layer.geometry
    rows = _source_rows(done.rows, scene)
    is_own = done.rows[:, 0] != NONE
    whole_own = rows[done.is_whole & is_own]
    whole_other = rows[done.is_whole & ~is_own]
    cut_pieces = np.flatnonzero(~done.is_whole)
    if rule == Rule.UNION:
        pieces, n_guessed = done.geometry, 0
    else:
        pieces, n_guessed = with_heights(plan, done)
    kept = np.concatenate([whole_own, passed])
    table = np.concatenate([kept, rows[cut_pieces], whole_other])
    whole = column if len(kept) else column.take(kept[:, 0])
    sources = [
        (whole, kept[:, 0]),
        (pieces, cut_pieces),
        (scene.cutter, _rows_of_cutter(done.rows[done.is_whole & ~is_own], scene)),
    ]
    sources = [sources[0], *(source for source in sources[1:] if len(source[1]))]
    # Rows are counted through all columns.
    before = offsets_from([source.n_rows for source, _ in sources])
    taken = np.concatenate(
        [n + chosen for n, (_, chosen) in zip(before[:-1], sources, strict=True)]
    )
    both = concatenate([_flat(c) if rule == Rule.UNION else c for c, _ in sources])
    order = order_of(table)
    geometry = both.take(taken[order])
    is_multi = column.is_multi or bool((np.diff(geometry.row_offsets) > 1).any())
    geometry = replace(geometry, is_multi=is_multi)
    # NONE marks the last, which is no row.
    is_cut, is_whole = np.zeros((2, column.n_rows + 1), bool)
    is_cut[rows[cut_pieces, 0]] = True
    is_whole[kept[:, 0]] = True
    n_cut, n_whole = int(is_cut[:-1].sum()), int((is_whole & ~is_cut)[:-1].sum())
    return _Made(table[order], geometry, n_whole, n_cut, n_guessed)


def _flat(column: GeometryColumn) -> GeometryColumn:
    return replace(column, z=None, m=None)


def _source_rows(rows: I64Array, scene: _Scene) -> I64Array:
    """Return the rows of pieces as rows of the layers, not of what entered the plane."""
    found = np.full_like(rows, NONE)
    is_own = rows[:, 0] != NONE
    found[is_own, 0] = scene.own_rows[rows[is_own, 0]]
    for k in range(rows.shape[1] - 1):
        has = rows[:, 1 + k] != NONE
        found[has, 1 + k] = scene.other_rows[scene.other_starts[k] + rows[has, 1 + k]]
    return found


def _rows_of_cutter(rows: I64Array, scene: _Scene) -> I64Array:
    """Return the rows of the cutter of pieces that are each one whole row of one OTHER."""
    layer = np.argmax(rows[:, 1:] != NONE, axis=1)
    return scene.other_starts[layer] + rows[np.arange(len(rows)), 1 + layer]


def _untouched(layer: Layer, scene: _Scene, plan: Overlay, rule: Rule) -> I64Array:
    """Return the pieces of rows that no border touches: each lies where its first vertex does."""
    column = layer.geometry
    is_left = ~column.is_empty
    is_left[scene.own_rows] = False
    rows = np.flatnonzero(is_left)
    if rule == Rule.UNION:
        return _input_only(rows, len(scene.near))
    x, y = plan.grid.to_units(column.xy[column.vertex_offsets_of_rows[:-1][rows]])
    faces: Members = members_of.of_faces(plan)
    members = members_of.of_places(plan, faces, 2 * x, 2 * y)
    found = keyed(rule, rows, members, scene.other_starts)
    pieces = found.rows.copy()
    for k in range(len(scene.near)):
        has = pieces[:, 1 + k] != NONE
        pieces[has, 1 + k] = scene.other_rows[scene.other_starts[k] + pieces[has, 1 + k]]
    return pieces


def check_cut(done: Cut, plan: Overlay, scene: _Scene) -> F64Array:
    """Check that nothing was lost or made; return the measure of each piece as it is written.

    The faces that a row covers add up to the row as it came in, and every piece as it is written to
    the faces that it is made of. Rows whose rings cross are read by a rule, and only the second holds.
    Pieces that are whole rows are not measured again; theirs is what the faces say.
    """
    ruler, own = scene.ruler, plan.own
    step = scene.grid.step * ruler.map_unit
    is_sound = ~done.is_crossed
    own_sound = is_sound[: own.n_rows]
    own_before, own_bound = _measured(own, ruler, step, done.n_steps)
    check_sums(
        done.own_size[own_sound], own_before[own_sound], own_bound[own_sound], "row of INPUT"
    )
    if done.other_size.any():
        sound = is_sound[own.n_rows :]
        before, bound = _measured(scene.cutter, ruler, step, np.zeros(0, np.int64))
        check_sums(done.other_size[sound], before[sound], bound[sound], "row of OTHER")
    n_steps = done.n_steps[np.maximum(done.rows[:, 0], 0)] if len(done.n_steps) else done.n_steps
    size, bound = _measured(done.geometry, ruler, step, n_steps)
    is_cut = ~done.is_whole
    check_sums(size[is_cut], done.size[is_cut], bound[is_cut], "piece")
    return np.where(is_cut, size, done.size)


def _measured(
    column: GeometryColumn, ruler: Ruler, step: float, n_steps: I64Array
) -> tuple[F64Array, F64Array]:
    """Return the measure of each row and how far the grid may have moved it.

    No border moves further than a grid unit, nor does a vertex, cut or crossing of a line.
    """
    size = row_measures(column, ruler)
    bound = np.abs(size) * 1e-9
    if column.family == Family.POLYGONS:
        bound += step * (3 * row_lengths(column, ruler) + 16 * step)
    elif column.family == Family.LINES:
        bound += 2 * step * (4 + n_steps)
    return size, bound


def _balance(
    layer: Layer,
    scene: _Scene,
    plan: Overlay,
    done: Cut,
    rule: Rule,
    passed: I64Array,
    written: F64Array,
) -> Balance:
    """Add up INPUT before, inside OTHER and outside it.

    What a clip or erase keeps is measured on the result, the rest on the faces of the plane.
    """
    column, ruler = layer.geometry, scene.ruler
    before = row_measures(column, ruler)
    crossed = done.is_crossed[: plan.own.n_rows]
    before[scene.own_rows[crossed]] = done.own_size[crossed]
    is_inside = np.zeros(column.n_rows, bool)
    has_other = (passed[:, 1:] != NONE).any(axis=1)
    is_inside[passed[has_other | (rule == Rule.CLIP), 0]] = True
    if rule == Rule.ERASE:
        is_inside[:] = True
        is_inside[passed[:, 0]] = False
    is_inside[scene.own_rows] = False
    is_outside = ~is_inside
    is_outside[scene.own_rows] = False
    kept = float(written.sum())
    cut_inside = kept if rule == Rule.CLIP else float(done.own_covered.sum())
    cut_outside = kept if rule == Rule.ERASE else float((done.own_size - done.own_covered).sum())
    _, bound = _measured(plan.own, ruler, scene.grid.step * ruler.map_unit, done.n_steps)
    is_alone = done.rows[:, 0] == NONE
    return Balance(
        float(before.sum()),
        float(before[is_inside].sum()) + cut_inside,
        float(before[is_outside].sum()) + cut_outside,
        2 * float(bound.sum()) + 1e-9 * float(before.sum()),
        unit_of(column.family, ruler),
        float(done.size[is_alone].sum()) if rule == Rule.UNION else None,
    )


def _result_layer(
    layer: Layer, others: Sequence[Layer], rule: Rule, made: _Made, origins: bool
) -> Layer:
    if not rule.is_keyed_by_other:
        return layer.with_geometry(made.geometry, made.rows[:, 0])
    table = joined([layer, *others], made.rows, origins)
    own = made.rows[:, 0]
    keeps_ids = layer.ids is not None and (np.diff(own) > 0).all() and NONE not in own
    ids = layer.ids[own] if keeps_ids and layer.ids is not None else None
    return replace(layer, geometry=made.geometry, table=table, ids=ids)


def _summary(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    scene: _Scene,
    plan: Overlay,
    done: Cut,
    made: _Made,
    balance: Balance | None,
) -> OverlaySummary:
    n_own, n_plan = layer.n_rows, plan.own.n_rows
    came = np.zeros(n_own + 1, bool)
    came[made.rows[:, 0]] = True  # NONE marks the last, which is no row
    own_crossed = np.zeros(n_own, bool)
    if balance is not None:
        own_crossed[scene.own_rows] = done.is_crossed[:n_plan]
    has_place = _has_place(plan, done)
    own_fell = np.zeros(n_own, bool)
    own_fell[scene.own_rows] = ~has_place[:n_plan] & ~plan.own.is_empty
    sides = []
    for k, other in enumerate(others):
        crossed = np.zeros(other.n_rows, bool)
        start, stop = n_plan + scene.other_starts[[k, k + 1]]
        crossed[scene.near[k]] = done.is_crossed[start:stop]
        fell = np.zeros(other.n_rows, bool)
        fell[scene.near[k]] = ~has_place[start:stop]
        sides.append(_side(other, int(scene.near[k].sum()), crossed, fell))
    has_other = (made.rows[:, 1:] != NONE).any(axis=1)
    has_own = made.rows[:, 0] != NONE
    n_empty = int(layer.geometry.is_empty.sum())
    return OverlaySummary(
        rule.name.lower(),
        _side(layer, n_own, own_crossed & came[:-1], own_fell),
        sides,
        len(made.rows),
        int((has_other & has_own).sum()),
        int((has_own & ~has_other).sum()),
        int((has_other & ~has_own).sum()),
        made.n_whole,
        made.n_cut,
        n_own - n_empty - int(came[:-1].sum()),
        n_empty,
        balance,
        label(layer.crs),
        scene.grid.step,
        _notes(layer, others, rule, scene.grid, made),
    )


def _has_place(plan: Overlay, done: Cut) -> BoolArray:
    """(n_rows,) rows of INPUT, then of OTHER, of which anything is left on the grid."""
    n_own = plan.n_own_rows
    found = count_by(plan.arrangement.labels, n_own + plan.other.n_rows) > 0
    for column, rows in ((plan.own, slice(n_own)), (plan.other, slice(n_own, None))):
        if column.family != Family.POLYGONS:
            found[rows] = True
    if plan.own.family == Family.LINES:
        found[:n_own] = done.n_steps > 0
    return found


def _side(layer: Layer, used: int, crossed: BoolArray, fell: BoolArray) -> Side:
    return Side(
        layer.name, layer.n_total, layer.n_rows, used, layer.geometry.family,
        NamedRows.of(layer, crossed), NamedRows.of(layer, fell),
    )  # fmt: skip


def _notes(layer: Layer, others: Sequence[Layer], rule: Rule, grid: Grid, made: _Made) -> list[str]:
    notes = []
    if grid.is_coarsened:
        notes.append(f"the extent is so large that the grid had to be {grid.step:g} wide")
    all_layers = [layer, *others] if rule == Rule.UNION else [layer]
    kinds = heights_of([y.geometry for y in all_layers])
    if kinds and rule == Rule.UNION:
        notes.append(f"a union has no {' and '.join(kinds)} values; dropped")
    if made.n_guessed:
        notes.append(
            f"{layer.name}: {made.n_guessed:,} vertices along the border of OTHER have no "
            f"{' or '.join(kinds)} of their own; interpolated along the ring"
        )
    return notes
