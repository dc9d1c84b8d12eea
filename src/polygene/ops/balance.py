"""What must add up in an overlay, and what its summary tells."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from polygene.arrays import NONE, BoolArray, F64Array, I64Array, count_by
from polygene.crs import label
from polygene.geometry import (
    Family,
    GeometryColumn,
    heights_of,
)
from polygene.layer import Layer
from polygene.measures import Ruler, row_areas_and_lengths, row_measures
from polygene.ops.pieces import Made
from polygene.ops.scene import Scene
from polygene.ops.summary import (
    Balance,
    NamedRows,
    OverlaySummary,
    Side,
    check_sums,
    unit_of,
)
from polygene.plane.cutting import Cut
from polygene.plane.grid import Grid
from polygene.plane.keys import Rule
from polygene.plane.overlay import Overlay


def check_cut(done: Cut, plan: Overlay, scene: Scene) -> F64Array:
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
    if column.family == Family.POLYGONS:
        size, length = row_areas_and_lengths(column, ruler)
        return size, np.abs(size) * 1e-9 + step * (3 * length + 16 * step)
    size = row_measures(column, ruler)
    bound = np.abs(size) * 1e-9
    if column.family == Family.LINES:
        bound += 2 * step * (4 + n_steps)
    return size, bound


def balance_of(
    layer: Layer,
    scene: Scene,
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


def summary_of(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    scene: Scene,
    plan: Overlay,
    done: Cut,
    made: Made,
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


def _notes(layer: Layer, others: Sequence[Layer], rule: Rule, grid: Grid, made: Made) -> list[str]:
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
