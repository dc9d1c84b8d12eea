"""Parts: multi-part features to single parts."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import I64Array, owners
from polygene.layer import Layer


def single_parts(layer: Layer) -> Layer:
    """Give each part a row of its own, with the attributes of its feature.

    Rows without parts stay as they are. Identifiers stay only if nothing was taken apart.
    """
    return taken_apart(layer)[0]


def taken_apart(layer: Layer) -> tuple[Layer, I64Array]:
    """Return `single_parts`, and for each of its rows the row it is a part of."""
    column = layer.geometry
    counts = np.diff(column.row_offsets)
    source = np.repeat(np.arange(column.n_rows), np.maximum(counts, 1))
    is_part = counts[source] > 0
    row_of_part = np.flatnonzero(is_part)
    parts = column.take_parts(np.arange(column.n_parts), row_of_part, len(source))
    single = replace(parts, is_null=column.is_null[source], is_multi=False)
    assert (owners(column.row_offsets) == source[row_of_part]).all()
    return layer.with_geometry(single, source), source
