"""What must add up in an overlay, and what its summary tells."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from polygene.arrays import NONE, BoolArray, F64Array, I64Array, count_by
from polygene.classes import NamedTuple
from polygene.crs import label
from polygene.geometry import (
    Family,
    heights_of,
)
from polygene.layer import Layer
from polygene.measures import row_areas_and_lengths, row_measures
from polygene.notes import Warned, counted
from polygene.ops.overlays.asked_rows import Asked
from polygene.ops.overlays.pieces import MadePieces, Passed
from polygene.ops.overlays.scene import Scene
from polygene.ops.summary import (
    Balance,
    NamedRows,
    OverlaySummary,
    Side,
    check_sums,
    unit_of,
)
from polygene.plane import bounds
from polygene.plane.cutting import Cut
from polygene.plane.grid import Grid
from polygene.plane.overlay import Overlay
from polygene.plane.rules import Rule
from polygene.units import length_worded


def check_lengths(done: Cut, plan: Overlay, scene: Scene) -> None:
    """Check that lines are as long as their steps, before and after; the rest is proved exactly.

    Raises
    ------
    BalanceError
        If a row or a piece is not, within what `plane.bounds` allows.
    """
    if plan.own.family != Family.LINES:
        return
    ruler, n_steps = scene.ruler, done.n_steps
    step = scene.grid.step * ruler.map_unit
    before = row_measures(plan.own, ruler)
    check_sums(
        done.own_size, before, bounds.length_error(before, n_steps, step), "length of row of INPUT"
    )
    written = row_measures(done.geometry, ruler)
    is_cut = ~done.is_whole
    bound = bounds.length_error(written, n_steps[done.rows[:, 0]], step)
    check_sums(written[is_cut], done.size[is_cut], bound[is_cut], "length of piece")


def balance_of(
    layer: Layer, asked: Asked, scene: Scene, done: Cut, rule: Rule, passed: Passed
) -> Balance:
    """Add up INPUT before, inside OTHER and outside it; on the grid that is an equality, proved."""
    column, ruler = layer.geometry, scene.ruler
    lengths = np.zeros(0)
    if column.family == Family.POLYGONS:
        before, lengths = row_areas_and_lengths(column, ruler)
    else:
        before = row_measures(column, ruler)
    before[~asked.core] = 0.0
    rows = scene.own_rows[asked.own]
    is_inside = np.zeros(column.n_rows, bool)
    has_other = (passed.own[:, 1:] != NONE).any(axis=1)
    is_inside[passed.own[has_other, 0]] = True
    if not rule.is_keyed_by_other:
        is_inside[passed.own[:, 0]] = True
        is_inside ^= not rule.keeps_covered
    is_inside[rows] = False
    is_outside = ~is_inside
    is_outside[rows] = False
    other_only = None
    if rule.keeps_other:
        other_only = float(done.size[done.rows[:, 0] == NONE].sum())
        other_only += float(row_measures(passed.column, ruler).sum())
    return Balance(
        before=float(before.sum()),
        inside=float(before[is_inside].sum()) + float(done.own_covered.sum()),
        outside=float(before[is_outside].sum()) + float((done.own_size - done.own_covered).sum()),
        bound=_most_moved(
            before[rows], lengths[rows] if len(lengths) else lengths, scene, done.n_steps[asked.own]
        ),
        unit=unit_of(column.family, ruler),
        other_only=other_only,
        moved=bounds.MOST_MOVED * scene.grid.step * ruler.map_unit,
    )


def _most_moved(sizes: F64Array, lengths: F64Array, scene: Scene, n_steps: I64Array) -> float:
    """Return by how much the grid may have changed the measures of all rows that were laid.

    ``sizes`` are their measures, ``lengths`` those of the borders of polygons.
    """
    step = scene.grid.step * scene.ruler.map_unit
    if len(lengths):
        return float(bounds.area_moved(lengths, step).sum())
    if len(n_steps) and n_steps.any():
        return float(bounds.length_error(sizes, n_steps, step).sum())
    return 0.0


class Counts(NamedTuple):
    """Rows of a result by the layers they are of, and INPUT's features by what became of them."""

    out: int
    both: int
    input_only: int
    other_only: int
    whole: int
    cut: int
    dropped: int
    without_geometry: int

    @staticmethod
    def of(
        rows: I64Array,
        is_made: BoolArray,
        is_empty: BoolArray,
        core: BoolArray | None = None,
    ) -> Counts:
        """Count rows (n, layers) of a result, and of INPUT's features those that came out.

        ``is_made`` (n,) are rows that are not as they were; ``is_empty`` (n_own_rows,) have nothing.
        Of INPUT's those are counted that the work is for, ``core`` (n_own_rows,).
        """
        if core is None:
            core = np.ones(len(is_empty), bool)
        has_other = (rows[:, 1:] != NONE).any(axis=1)
        own = rows[:, 0]
        is_own = own != NONE
        came, is_cut = np.zeros((2, len(is_empty)), bool)
        came[own[is_own]] = True
        is_cut[own[is_own & is_made]] = True
        return Counts(
            out=len(rows),
            both=int((has_other & is_own).sum()),
            input_only=int((is_own & ~has_other).sum()),
            other_only=int((has_other & ~is_own).sum()),
            whole=int((came & ~is_cut).sum()),
            cut=int(is_cut.sum()),
            dropped=int((~came & ~is_empty & core).sum()),
            without_geometry=int((is_empty & core).sum()),
        )


def summary_of(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    asked: Asked,
    scene: Scene,
    has_place: BoolArray,
    made: MadePieces,
    balance: Balance | None,
) -> OverlaySummary:
    """Say what came of it; ``has_place`` as `has_place_of` says."""
    n_plan = len(scene.own_rows)
    own_fell = np.zeros(layer.n_rows, bool)
    own_fell[scene.own_rows] = ~has_place[:n_plan] & asked.own
    own_fell &= ~layer.geometry.is_empty
    sides = []
    for k, other in enumerate(others):
        start, stop = n_plan + scene.other_starts[[k, k + 1]]
        fell = np.zeros(other.n_rows, bool)
        fell[scene.near[k]] = ~has_place[start:stop]
        core = asked.others[k]
        used = (scene.near[k] | scene.far[k]) & core
        sides.append(_side(other, core, int(used.sum()), fell & core))
    counts = Counts.of(made.rows, made.is_made, layer.geometry.is_empty, asked.core)
    return OverlaySummary(
        rule.name,
        _side(layer, asked.core, int(asked.core.sum()), own_fell),
        sides,
        *counts,
        balance,
        label(layer.crs),
        scene.grid.step,
        notes_of(layer, others, rule, scene.grid, made),
        proved=len(made.rows) if layer.geometry.family == Family.POLYGONS else 0,
    )


def has_place_of(plan: Overlay, done: Cut) -> BoolArray:
    """(n_rows,) rows of INPUT, then of OTHER, of which anything is left on the grid."""
    n_own = plan.n_own_rows
    found = count_by(plan.arrangement.labels, n_own + plan.other.n_rows) > 0
    for column, rows in ((plan.own, slice(n_own)), (plan.other, slice(n_own, None))):
        if column.family != Family.POLYGONS:
            found[rows] = True
    if plan.own.family == Family.LINES:
        found[:n_own] = done.n_steps > 0
    return found


def _side(layer: Layer, core: BoolArray, used: int, fell: BoolArray) -> Side:
    n_core = int(core.sum())
    return Side(
        layer.name,
        layer.n_total if n_core == layer.n_rows else n_core,
        n_core,
        used,
        layer.geometry.family,
        fell=NamedRows.of(layer, fell),
    )


def notes_of(
    layer: Layer, others: Sequence[Layer], rule: Rule, grid: Grid, made: MadePieces
) -> list[str]:
    """Return what there is to say beside the figures."""
    notes: list[str] = []
    if grid.is_coarsened:
        notes.append(
            Warned(
                f"the extent is so large that the grid had to be "
                f"{length_worded(grid.step, layer.crs)} wide"
            )
        )
    all_layers = [layer, *others] if rule.keeps_other else [layer]
    kinds = heights_of([y.geometry for y in all_layers])
    if kinds and rule.keeps_other:
        notes.append(Warned(f"a {rule.name} has no {' and '.join(kinds)} values; dropped"))
    if made.n_guessed:
        notes.append(
            f"{layer.name}: {counted(made.n_guessed, 'vertex', 'vertices')} along the border of OTHER "
            f"without {' or '.join(kinds)} there; interpolated along the ring, or the feature's mean"
        )
    return notes
