"""Intersect: the shared pieces, with the attributes of all layers."""

from __future__ import annotations

from polygene.layer import Layer
from polygene.ops.overlay import lay
from polygene.ops.summary import OverlayResult
from polygene.plane.keys import Rule
from polygene.progress import SILENT, Progress


def intersect(
    layer: Layer,
    *others: Layer,
    origins: bool = False,
    single_parts: bool = False,
    precision: float | None = None,
    progress: Progress = SILENT,
) -> OverlayResult:
    """Return what lies inside a feature of every layer: a row for each combination of features.

    Where features of one layer overlap, the piece comes once with each. For the rest see
    `polygene.ops.overlay.lay`.
    """
    return lay(
        layer, others, Rule.INTERSECT, origins=origins, single_parts=single_parts,
        precision=precision, progress=progress,
    )  # fmt: skip
