"""Imprint: all of INPUT, split along OTHER."""

from __future__ import annotations

from polygene.layer import Layer
from polygene.ops.overlay import lay
from polygene.ops.summary import OverlayResult
from polygene.plane.keys import Rule
from polygene.progress import SILENT, Progress


def imprint(
    layer: Layer,
    other: Layer,
    *,
    origins: bool = False,
    single_parts: bool = False,
    precision: float | None = None,
    progress: Progress = SILENT,
) -> OverlayResult:
    """Split INPUT along OTHER; pieces inside it get its attributes, the others nulls.

    For the rest see `polygene.ops.overlay.lay`.
    """
    return lay(
        layer, [other], Rule.IMPRINT, origins=origins, single_parts=single_parts,
        precision=precision, progress=progress,
    )  # fmt: skip
