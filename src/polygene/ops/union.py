"""Union: all pieces of all layers, each with the attributes of the features that cover it."""

from __future__ import annotations

from typing import Unpack

from polygene.errors import DataError
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.ops.overlays.across import lay_across
from polygene.ops.overlays.how import How, as_asked, resolved
from polygene.ops.overlays.laying import finished
from polygene.ops.overlays.self_union import laid_over_itself
from polygene.ops.summary import OverlayResult
from polygene.plane.rules import Rule

UNION = Rule("union", lambda has: has.any(axis=1), keeps_other=True)


def union(
    layer: Layer,
    *others: Layer,
    origins: bool = False,
    **how: Unpack[How],
) -> OverlayResult:
    """Return a row for each combination of features, one or none of each layer, that meet in area.

    Fields of layers that have no part in a piece are null there. For the rest see
    `polygene.ops.overlays.how.How`.

    A layer alone is laid over itself: where its features overlap, each of them gets the shared piece
    as a row of its own. The fields ``piece`` and ``features`` say which rows share one, and how many.

    Raises
    ------
    DataError
        If a layer holds no polygons.
    """
    layer = layer.without_geometry_as(Family.POLYGONS)
    if layer.geometry.family != Family.POLYGONS:
        raise DataError(
            f"INPUT, layer {layer.name!r}, holds {layer.geometry.family.words}; a union is of "
            "polygons. imprint splits lines and points along OTHER"
        )
    if not others:
        told = resolved(how, layer)
        laid = laid_over_itself(layer, origins, told)
        return as_asked(finished(laid, laid.sources, told), how)
    return lay_across(layer, others, UNION, how, origins=origins)
