"""What all overlays have in common: who takes part, the cut, the balance, the result.

An overlay lays INPUT, of any family, over OTHERs, layers of polygons in INPUT's CRS (or of lines
over lines, points over points, where that has a meaning). Features that no border touches never enter
the plane: they pass through as they are.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from polygene.arrays import NONE, BoolArray, I64Array, distinct
from polygene.classes import NamedTuple
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.ops.admit import Admission
from polygene.ops.attributes import joined, joined_names
from polygene.ops.ground import SIZES, stretched
from polygene.ops.overlays.asked_rows import asked_of, only_of
from polygene.ops.overlays.balance import (
    Counts,
    balance_of,
    check_lengths,
    has_place_of,
    summary_of,
)
from polygene.ops.overlays.how import Resolved
from polygene.ops.overlays.matched import keys_of
from polygene.ops.overlays.pieces import MadePieces, input_only, made_of, passed_of
from polygene.ops.overlays.scene import admitted, check_family, scene_of
from polygene.ops.overlays.shallow import shallow
from polygene.ops.overlays.sheeted import Made, made_by_others, made_in_sheets, sheets_for
from polygene.ops.overlays.stored import MeasuredSource, adjusted
from polygene.ops.part import current
from polygene.ops.proved import prove_valid
from polygene.ops.summary import NamedRows, OverlayResult, OverlaySummary
from polygene.plane import selfcheck
from polygene.plane.cutting import cut
from polygene.plane.hairlines import without_hairlines
from polygene.plane.heights import with_heights
from polygene.plane.overlay import overlay
from polygene.plane.rules import CLIP, Rule
from polygene.progress import SILENT, Progress
from polygene.units import map_unit_of

if TYPE_CHECKING:
    from polygene.ops.overlays.slivers import Given
    from polygene.table.keys import Key


def lay(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    how: Resolved,
    *,
    whole: bool = False,
    origins: bool = False,
    match: Sequence[Key] = (),
) -> OverlayResult:
    """Lay INPUT over the OTHERs as a rule says.

    Parameters
    ----------
    layer : Layer
        INPUT; polygons only for a union.
    others : sequence of Layer
        In the CRS of INPUT, without geometry where they are far; polygons, and for erase and
        intersect also what INPUT holds, where lines cover what runs along them and points what
        lies at the same place.
    whole : bool
        Keep every feature of INPUT that meets OTHER as it is; for `rules.CLIP`.
    origins : bool
        Add the identifiers of the rows that each piece is of.
    match : sequence of Key
        Only rows of one key have to do with each other.

    Raises
    ------
    DataError
        If an OTHER is of the wrong family or has nothing, or coordinates are not finite.
    GeometryError
        If there are invalid polygons and they are refused.
    ProofError
        If area, length or points are not conserved, or a row is invalid: a bug of ours.
    """
    laid = laid_over(layer, others, rule, how, whole=whole, origins=origins, match=match)
    return finished(laid, laid.sources if rule.is_keyed_by_other else laid.sources[:1], how)


class Laid(NamedTuple):
    """A result before it is finished.

    rows : (n, layers) the rows of the layers that its rows are pieces of, NONE for none
    is_made : (n,) rows that are pieces rather than whole rows as they were
    sources : the layers, invalid polygons mended, INPUT first
    slivers : places thinner than the snap that one side covers alone
    """

    result: OverlayResult
    rows: I64Array
    is_made: BoolArray
    sources: Sequence[Layer]
    slivers: int = 0


def laid_over(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    how: Resolved,
    *,
    whole: bool = False,
    origins: bool = False,
    keeps_other: bool = False,
    match: Sequence[Key] = (),
) -> Laid:
    """Do what `lay` does, up to what `finished` does.

    With ``keeps_other`` all of the OTHERs is mended, not just what can meet INPUT.
    """
    for other in others:
        check_family(layer, other, rule, others[0])
    progress, snap = how.progress, how.snap
    progress.stage(f"looking at {layer.name}")
    own, theirs = admitted(layer, others, rule, how.invalid, keeps_other, snap or 0.0)
    layer, others = own.layer, [other.layer for other in theirs]
    told = _Task(
        rule=rule,
        whole=whole,
        origins=origins,
        precision=how.precision,
        progress=progress,
        snap=snap,
        match=match,
    )
    thin = shallow(layer, others, rule, how.precision) if _is_plain(told) else None
    laid_on = others if thin is None else thin.others
    laid = _lay(layer, laid_on, told) if snap is None else _snapped_first(layer, others, told, snap)
    if thin is not None:
        summary = thin.corrected(laid.result.summary, others)
        laid = laid._replace(result=replace(laid.result, summary=summary))
    return _with_admitted(laid, own, theirs)


def finished(laid: Laid, sources: Sequence[Layer], how: Resolved) -> OverlayResult:
    """Give slivers away, take parts apart, and look after stored measures, as told.

    Each row of ``sources``, layers by their columns in ``laid.rows``, may have stored measures.
    """
    (layer, summary), rows = (laid.result.layer, laid.result.summary), laid.rows
    if how.give_slivers is not None:
        from polygene.ops.overlays.slivers import give_away

        given = give_away(layer, how.give_slivers, summary.precision, laid.is_made)
        layer, rows = given.layer, rows[given.kept]
        summary = _recounted(summary, laid, given)
    if how.single_parts:
        from polygene.ops.parts import taken_apart

        layer, kept = taken_apart(layer)
        rows = rows[kept]
    names = joined_names(sources)
    layer, stored = adjusted(
        layer,
        [MeasuredSource(y, rows[:, k], names[k]) for k, y in enumerate(sources)],
        how.refresh,
        how.apportion,
    )
    asked = [own.measure for own in stored if own.done == "refreshed"]
    asked += SIZES[layer.geometry.family]
    if how.snap is not None or how.give_slivers is not None:
        asked.append("distance")
    notes = [*summary.notes, *(stretched(sources[0], asked) if sources else [])]
    return OverlayResult(layer, replace(summary, out=layer.n_rows, stored=stored, notes=notes))


def _recounted(summary: OverlaySummary, laid: Laid, given: Given) -> OverlaySummary:
    """Count anew what came out when slivers are given away, and name who went with its last piece."""
    own = laid.sources[0]
    # They had a geometry before they were mended or snapped.
    n_lost = summary.input.admitted.vanished.count
    n_lost += summary.snap.fell.count if summary.snap else 0
    counts = Counts.of(
        laid.rows[given.kept], laid.is_made[given.kept] | given.is_grown, own.geometry.is_empty
    )
    came_before, came = np.zeros((2, own.n_rows), bool)
    before, now = laid.rows[:, 0], laid.rows[given.kept, 0]
    came_before[before[before != NONE]] = True
    came[now[now != NONE]] = True
    counts = counts._replace(
        dropped=counts.dropped + n_lost, without_geometry=counts.without_geometry - n_lost
    )
    facts = replace(
        given.facts, gone=NamedRows.of(own, came_before & ~came), map_unit=map_unit_of(own.crs)
    )
    proved = counts.out if summary.proved else 0
    return replace(summary, given_away=facts, proved=proved, **counts._asdict())


def _with_admitted(laid: Laid, own: Admission, theirs: list[Admission]) -> Laid:
    """Say what became of invalid rows; one that vanished when it was mended had a geometry once."""
    summary = laid.result.summary
    n_vanished = own.facts.vanished.count
    sides = [
        replace(side, admitted=found.facts)
        for side, found in zip((summary.input, *summary.others), (own, *theirs), strict=True)
    ]
    summary = replace(
        summary,
        input=sides[0],
        others=sides[1:],
        without_geometry=summary.without_geometry - n_vanished,
        dropped=summary.dropped + n_vanished,
    )
    return laid._replace(result=replace(laid.result, summary=summary))


class _Task(NamedTuple):
    """What there is to do; with a snap slivers are counted."""

    rule: Rule
    whole: bool
    origins: bool
    precision: float | None
    progress: Progress
    snap: float | None = None
    match: Sequence[Key] = ()


def _snapped_first(layer: Layer, others: Sequence[Layer], told: _Task, snap: float) -> Laid:
    """Snap INPUT, lay it over the OTHERs, and compare with what came out without."""
    from polygene.ops.overlays.snap import snapped_onto

    told.progress.stage(f"{layer.name}: what it is without the snap")
    plain = _lay(layer, others, told)
    told.progress.stage(f"{layer.name}: snapping to {' and '.join(y.name for y in others)}")
    moved, facts = snapped_onto(layer, others, snap, told.precision)
    laid = _lay(moved, others, told)
    summary, n_fell = laid.result.summary, facts.fell.count
    facts = replace(facts, slivers_before=plain.slivers, slivers_after=laid.slivers)
    summary = replace(
        summary,
        snap=facts,
        without_geometry=summary.without_geometry - n_fell,
        dropped=summary.dropped + n_fell,
    )
    return laid._replace(result=replace(laid.result, summary=summary))


def _is_plain(told: _Task) -> bool:
    """Whether features of one layer have nothing to do with each other.

    By key, or where thin places are counted, they have.
    """
    return told.snap is None and not told.match


def _lay(layer: Layer, others: Sequence[Layer], told: _Task) -> Laid:
    rule = told.rule
    sheet = sheets_for(layer, others, rule) if _is_plain(told) else np.zeros(0, np.int64)
    if sheet.any():
        make = _maker(layer, others, _quiet(told, layer, sheet))
        made = made_in_sheets(layer, others, rule, sheet, make, told.precision)
    else:
        made = _maker(layer, others, told)(layer, others)
    pieces = made.pieces
    result = _result_layer(layer, others, rule, pieces, told.origins)
    done = OverlayResult(result, made.summary)
    return Laid(done, pieces.rows, pieces.is_made, [layer, *others], made.slivers)


def _quiet(told: _Task, layer: Layer, sheet: I64Array) -> _Task:
    """Say in how many sheets a layer is laid, and let nothing more be said of each."""
    n = len(distinct(sheet))
    told.progress.stage(f"{told.rule.name}: {layer.name} lies very deep, in {n:,} sheets")
    return told._replace(progress=SILENT)


def _maker(
    layer: Layer, others: Sequence[Layer], told: _Task
) -> Callable[[Layer, Sequence[Layer]], Made]:
    """Return what lays some of INPUT over some of OTHERs: at once, or in sheets of deep OTHERs."""
    rule = told.rule
    if not (_is_plain(told) and rule.is_of_all and len(others) == 1 and current() is None):
        return lambda mine, theirs: _made(mine, theirs, told)
    sheet = sheets_for(others[0], [layer], rule)
    if not sheet.any():
        return lambda mine, theirs: _made(mine, theirs, told)
    quiet = _quiet(told, others[0], sheet)
    joined = shallow(layer, others, CLIP, told.precision).others
    order = np.argsort(others[0].numbers)
    numbers, sheets = others[0].numbers[order], sheet[order]

    def by_others(mine: Layer, theirs: Sequence[Layer]) -> Made:
        some = sheets[np.searchsorted(numbers, theirs[0].numbers)]
        if not some.any():
            return _made(mine, theirs, quiet)
        covered = _made(mine, joined, quiet._replace(rule=CLIP))
        work = lambda a, b: _made(a, b, quiet)  # noqa: E731
        return made_by_others(mine, theirs[0], rule, some, work, covered)

    return by_others


def _made(layer: Layer, others: Sequence[Layer], told: _Task) -> Made:
    rule, progress = told.rule, told.progress
    verb = rule.name
    scene, border = scene_of(layer, others, rule, told.precision)
    progress.stage(f"{verb} {layer.name}: {len(scene.own_rows):,} features meet a border")
    plan = overlay(layer.geometry.take(scene.own_rows), scene.cutter, border, scene.grid)
    if not rule.keeps_other:  # else no layer has precedence
        plan = without_hairlines(plan)
    progress.stage(f"{verb} {layer.name}: cutting")
    keys = keys_of(layer, others, told.match)
    done = cut(plan, rule, scene.other_starts, scene.ruler, keys and keys.in_plan(scene))
    check_lengths(done, plan, scene)
    has_place = has_place_of(plan, done)
    asked = asked_of(layer, others, scene, plan, rule)
    done = only_of(done, asked.own, asked.other, scene.other_starts)
    prove_valid(done.geometry, f"{verb} of {layer.name}", ~done.is_whole)
    passed = passed_of(layer, others, asked, scene, plan, rule, keys and keys.of_all(scene))
    pieces, n_guessed = done.geometry, 0
    if not (rule.keeps_other or told.whole):
        pieces, n_guessed = with_heights(plan, done)
    slivers = 0
    if told.snap is not None and layer.geometry.family == Family.POLYGONS:
        from polygene.ops.overlays.slivers import slivers_between

        slivers = slivers_between(plan, told.snap, scene.ruler)
    # The largest of all there is, and not needed for what follows.
    del plan, border
    balance = None
    if told.whole:
        rows = np.sort(np.concatenate([scene.own_rows[done.touches], passed.own[:, 0]]))
        made = MadePieces(
            input_only(rows, len(others)), layer.geometry.take(rows), np.zeros(len(rows), bool)
        )
    else:
        made = made_of(
            layer=layer,
            scene=scene,
            done=done,
            rule=rule,
            passed=passed,
            pieces=pieces,
            n_guessed=n_guessed,
        )
        balance = balance_of(
            layer=layer, asked=asked, scene=scene, done=done, rule=rule, passed=passed
        )
    summary = summary_of(
        layer=layer,
        others=others,
        rule=rule,
        asked=asked,
        scene=scene,
        has_place=has_place | asked.is_unmet,
        made=made,
        balance=balance,
    )
    if keys is not None:
        notes = [*summary.notes, *keys.said(layer, others)]
        summary = replace(summary, match=[key.text for key in told.match], notes=notes)
    if selfcheck.is_on() and not told.whole:
        from polygene.ops.overlays.sampled import check_overlay

        columns = [y.geometry for y in (layer, *others)]
        check_overlay(columns, rule, made.geometry, made.rows, scene.grid.step, keys and keys.agree)
    return Made(made, summary, slivers, scene.grid)


def _result_layer(
    layer: Layer, others: Sequence[Layer], rule: Rule, made: MadePieces, origins: bool
) -> Layer:
    if not rule.is_keyed_by_other:
        return layer.with_geometry(made.geometry, made.rows[:, 0])
    table = joined([layer, *others], made.rows, origins)
    own = made.rows[:, 0]
    keeps_ids = layer.ids is not None and (np.diff(own) > 0).all() and NONE not in own
    ids = layer.ids[own] if keeps_ids and layer.ids is not None else None
    return replace(layer, geometry=made.geometry, table=table, ids=ids)
