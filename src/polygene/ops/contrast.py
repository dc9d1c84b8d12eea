"""Contrast: what lies in exactly one of the layers, the symmetric difference."""

from __future__ import annotations

from typing import Unpack

from polygene.geometry import Family
from polygene.layer import Layer
from polygene.ops.overlays.across import lay_across
from polygene.ops.overlays.how import How
from polygene.ops.summary import OverlayResult
from polygene.plane.rules import Rule

CONTRAST = Rule("contrast", lambda has: has.sum(axis=1) == 1, keeps_other=True)


def contrast(
    layer: Layer, *others: Layer, origins: bool = False, **how: Unpack[How]
) -> OverlayResult:
    """Return what lies in exactly one of the layers, of polygons, with its attributes.

    Fields of the layers that have no part are null. For the rest see `polygene.ops.overlays.how.How`.
    """
    layer = layer.without_geometry_as(Family.POLYGONS)
    return lay_across(layer, others, CONTRAST, how, origins=origins)
