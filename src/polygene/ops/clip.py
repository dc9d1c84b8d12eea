"""Clip: keep what lies inside OTHER."""

from __future__ import annotations

from typing import Unpack

from polygene.layer import Layer
from polygene.ops.across import lay_across
from polygene.ops.overlay import How
from polygene.ops.summary import OverlayResult
from polygene.plane import rules


def clip(
    layer: Layer,
    other: Layer,
    *,
    whole: bool = False,
    **how: Unpack[How],
) -> OverlayResult:
    """Keep what lies inside the polygons of OTHER; on their border counts as inside.

    OTHER's features may overlap: what any of them covers is inside. With ``whole`` every feature
    that meets OTHER is kept as it is instead. For the rest see `polygene.ops.overlay.lay`.
    """
    return lay_across(layer, [other], rules.CLIP, whole=whole, **how)
