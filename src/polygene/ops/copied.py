"""A layer as it is, with what a copy tells of it."""

from __future__ import annotations

from polygene.crs import label
from polygene.layer import Layer
from polygene.ops.summary import CopyResult, CopySummary


def copied(layer: Layer) -> CopyResult:
    """Return the layer, and how many features and fields it has."""
    n_fields = layer.table.num_columns
    crs = label(layer.crs)
    return CopyResult(layer, CopySummary(layer.name, layer.kind, layer.n_rows, n_fields, crs))
