"""Erase: remove what lies inside OTHER."""

from __future__ import annotations

from polygene.layer import Layer
from polygene.ops.overlay import lay
from polygene.ops.summary import OverlayResult
from polygene.plane.keys import Rule
from polygene.progress import SILENT, Progress


def erase(
    layer: Layer,
    other: Layer,
    *,
    single_parts: bool = False,
    precision: float | None = None,
    progress: Progress = SILENT,
) -> OverlayResult:
    """Remove what lies inside the polygons of OTHER, or on their border.

    With `clip` it makes up INPUT. For the rest see `polygene.ops.overlay.lay`.
    """
    return lay(
        layer, [other], Rule.ERASE, single_parts=single_parts, precision=precision,
        progress=progress,
    )  # fmt: skip
