"""Overlays across CRS: the OTHERs are brought to INPUT's, and the summary says how."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from polygene.crs import is_same
from polygene.errors import UsageError
from polygene.layer import Layer
from polygene.ops.given import Names, names
from polygene.ops.overlays.how import How, Resolved, as_asked, resolved
from polygene.ops.overlays.laying import lay
from polygene.ops.overlays.scene import check_other
from polygene.ops.places.bridge import Brought, brought
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
    return as_asked(with_bridges(result, found), how)


def brought_for(
    layer: Layer, others: Sequence[Layer], rule: Rule, how: Resolved, all_of_it: bool
) -> list[Brought]:
    """Bring the OTHERs of an overlay to INPUT's CRS.

    Raises
    ------
    DataError
        If one is of the wrong family, has nothing, or cannot be brought there.
    """
    for other in others:
        check_other(layer, other, rule, others[0])
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


def with_bridges(result: OverlayResult, found: Sequence[Brought]) -> OverlayResult:
    """Say in the summary how the OTHERs came to INPUT's CRS, and which of them were mended before."""
    if all(f.facts is None for f in found):
        return result
    summary = result.summary
    sides = [
        side if f.admitted is None else replace(side, admitted=f.admitted)
        for side, f in zip(summary.others, found, strict=True)
    ]
    facts = [f.facts for f in found if f.facts is not None]
    return replace(result, summary=replace(summary, others=sides, brought=facts))
