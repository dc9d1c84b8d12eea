"""Clip: keep what lies inside OTHER."""

from __future__ import annotations

from polygene.layer import Layer
from polygene.ops.overlay import lay
from polygene.ops.summary import OverlayResult
from polygene.plane.keys import Rule
from polygene.progress import SILENT, Progress


def clip(
    layer: Layer,
    other: Layer,
    *,
    whole: bool = False,
    single_parts: bool = False,
    precision: float | None = None,
    progress: Progress = SILENT,
) -> OverlayResult:
    """Keep what lies inside the polygons of OTHER; on their border counts as inside.

    OTHER's features may overlap: what any of them covers is inside. With ``whole`` every feature
    that meets OTHER is kept as it is instead. For the rest see `polygene.ops.overlay.lay`.
    """
    return lay(
        layer, [other], Rule.CLIP, whole=whole, single_parts=single_parts, precision=precision,
        progress=progress,
    )  # fmt: skip
