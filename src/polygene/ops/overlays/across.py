"""Overlays across CRS: the OTHERs are brought to INPUT's, and the summary says how."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from polygene.crs import is_same
from polygene.errors import UsageError
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.notes import Warned, counted
from polygene.ops.given import Names, names
from polygene.ops.overlays.how import How, Resolved, as_asked, resolved
from polygene.ops.overlays.laying import lay
from polygene.ops.overlays.scene import check_family
from polygene.ops.part import current
from polygene.ops.places.bringing import brought
from polygene.ops.places.brought import Brought
from polygene.ops.summary import OverlayResult
from polygene.plane.rules import Rule

if TYPE_CHECKING:
    from polygene.table.keys import Key


def _keys(match: Names) -> list[Key]:
    if not match:
        return []
    from polygene.table.keys import Key  # with all that expressions need

    return [Key.parse(text) for text in names(match)]


def lay_across(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    how: How,
    *,
    whole: bool = False,
    origins: bool = False,
    match: Names = (),
) -> OverlayResult:
    """Lay INPUT over the OTHERs, whatever CRS they are in; see `polygene.ops.overlays.laying.lay`.

    Only what is near INPUT is brought, but in a union all of it. With ``match`` only features of one
    key have to do with each other.

    Raises
    ------
    UsageError
        If a match is asked for together with what looks at all features: ``whole`` or ``snap``.
    """
    told = resolved(how, layer)
    keys = _keys(match)
    if keys and (whole or told.snap is not None):
        raise UsageError("`match` does not go with `whole` or `snap`, which look at all features")
    found = brought_for(layer, others, rule, told, all_of_it=rule.keeps_other)
    theirs = [f.layer for f in found]
    result = lay(layer, theirs, rule, told, whole=whole, origins=origins, match=keys)
    return as_asked(with_bridges(result, found, others), how)


def brought_for(
    layer: Layer, others: Sequence[Layer], rule: Rule, how: Resolved, all_of_it: bool
) -> list[Brought]:
    """Bring the OTHERs of an overlay to INPUT's CRS.

    Raises
    ------
    DataError
        If one is of the wrong family, or cannot be brought there.
    """
    others = _of_one_family(others)
    for other in others:
        check_family(layer, other, rule, others[0])
    if not all(is_same(layer.crs, other.crs) for other in others):
        how.progress.stage(f"bringing layers to the CRS of {layer.name}")
    return [
        brought(
            other,
            layer,
            reach=how.snap or 0.0,
            whole=all_of_it,
            follow=how.follow,
            invalid=how.invalid,
        )
        for other in others
    ]


def _of_one_family(others: Sequence[Layer]) -> list[Layer]:
    """Return them, those of nothing as of the kind of the rest: some formats do not say theirs."""
    known = [other.geometry.family for other in others if other.geometry.n_vertices]
    family = known[0] if known else Family.POLYGONS
    return [
        other
        if other.geometry.n_vertices
        else replace(other, geometry=replace(other.geometry, family=family))
        for other in others
    ]


def _of_nothing(others: Sequence[Layer]) -> list[Warned]:
    """Tell of OTHERs that have nothing to lay; a part of the whole may well have nothing."""
    return [
        Warned(
            f"OTHER, layer {other.name!r}, has nothing to lay on: "
            + (
                f"its {counted(other.n_rows, 'feature')} have no geometry"
                if other.n_rows
                else "no features"
            )
        )
        for other in others
        if current() is None and not other.geometry.n_vertices
    ]


def with_bridges(
    result: OverlayResult, found: Sequence[Brought], others: Sequence[Layer]
) -> OverlayResult:
    """Say in the summary how the OTHERs came to INPUT's CRS, and which of them were mended before.

    And which of them have nothing at all.
    """
    notes = [*result.summary.notes, *_of_nothing(others)]
    result = replace(result, summary=replace(result.summary, notes=notes))
    if all(f.facts is None for f in found):
        return result
    summary = result.summary
    sides = [
        side if f.admitted is None else replace(side, admitted=f.admitted)
        for side, f in zip(summary.others, found, strict=True)
    ]
    facts = [f.facts for f in found if f.facts is not None]
    return replace(result, summary=replace(summary, others=sides, brought=facts))
