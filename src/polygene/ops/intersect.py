"""Intersect: the shared pieces, with the attributes of all layers."""

from __future__ import annotations

from typing import Unpack

from polygene.layer import Layer
from polygene.ops.given import Names
from polygene.ops.overlays.across import lay_across
from polygene.ops.overlays.how import How
from polygene.ops.summary import OverlayResult
from polygene.plane.rules import Rule

INTERSECT = Rule("intersect", lambda has: has.all(axis=1), takes_own_kind=True)


def intersect(
    layer: Layer,
    *others: Layer,
    origins: bool = False,
    match: Names = (),
    **how: Unpack[How],
) -> OverlayResult:
    """Return what lies inside a feature of every layer: a row for each combination of features.

    Where features of one layer overlap, the piece comes once with each. With ``match``, as
    ``id = site``, only features of one key share pieces. For the rest see
    `polygene.ops.overlays.how.How`.
    """
    return lay_across(layer, others, INTERSECT, how, origins=origins, match=match)
