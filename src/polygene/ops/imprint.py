"""Imprint: all of INPUT, split along OTHER."""

from __future__ import annotations

from typing import Unpack

from polygene.layer import Layer
from polygene.ops.overlays.across import lay_across
from polygene.ops.overlays.how import How
from polygene.ops.summary import OverlayResult
from polygene.plane.rules import Rule

IMPRINT = Rule("imprint", lambda has: has[:, 0])


def imprint(
    layer: Layer,
    other: Layer,
    *,
    origins: bool = False,
    **how: Unpack[How],
) -> OverlayResult:
    """Split INPUT along OTHER; pieces inside it get its attributes, the others nulls.

    For the rest see `polygene.ops.overlays.how.How`.
    """
    return lay_across(layer, [other], IMPRINT, how, origins=origins)
