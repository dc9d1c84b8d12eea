"""Erase: remove what lies inside OTHER."""

from __future__ import annotations

from typing import Unpack

from polygene.layer import Layer
from polygene.ops.given import Names
from polygene.ops.overlays.across import lay_across
from polygene.ops.overlays.how import How
from polygene.ops.summary import OverlayResult
from polygene.plane import rules


def erase(
    layer: Layer,
    other: Layer,
    *,
    match: Names = (),
    **how: Unpack[How],
) -> OverlayResult:
    """Remove what lies inside the polygons of OTHER, or on their border.

    With `clip` it makes up INPUT. With ``match``, as ``id = site``, each feature gives way only to
    those of OTHER that have its key. For the rest see `polygene.ops.overlays.how.How`.
    """
    return lay_across(layer, [other], rules.ERASE, how, match=match)
