"""Clip: keep what lies inside OTHER."""

from __future__ import annotations

from typing import Unpack

from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.ops.given import Names, box_of
from polygene.ops.overlays.across import lay_across
from polygene.ops.overlays.how import How
from polygene.ops.summary import OverlayResult
from polygene.plane import rules


def clip(
    layer: Layer,
    other: Layer | Extent,
    *,
    whole: bool = False,
    match: Names = (),
    **how: Unpack[How],
) -> OverlayResult:
    """Keep what lies inside the polygons of OTHER; on their border counts as inside.

    OTHER is a layer, whose features may overlap (what any of them covers is inside), or a box, (x, y
    minimum, x, y maximum) in the CRS of INPUT. With ``whole`` every feature that meets OTHER is kept
    as it is instead. With ``match``, as ``id = site``, each feature is kept where those of OTHER are
    that have its key. For the rest see `polygene.ops.overlays.how.How`.
    """
    if not isinstance(other, Layer):
        from polygene.ops.places.boxes import box_layer

        other = box_layer(box_of(other, "OTHER, if it is no layer,"), layer.crs)
    return lay_across(layer, [other], rules.CLIP, how, whole=whole, match=match)
