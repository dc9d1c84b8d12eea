"""Snap: bring borders of a layer that nearly coincide with others' onto them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from polygene.geometry import concatenate, extent_of
from polygene.layer import Layer
from polygene.ops.extents import finite_bounds, grid_for
from polygene.ops.summary import NamedRows, Snap
from polygene.plane.borders import outline
from polygene.plane.snapping import snapped


def snapped_onto(
    layer: Layer, others: Sequence[Layer], distance: float, precision: float | None = None
) -> tuple[Layer, Snap]:
    """Move what of INPUT lies within a distance (map units) of the OTHERs onto them.

    Rows stay as they are many; one that falls together becomes empty. See `polygene.plane.snapping`.
    """
    extents = [extent_of(finite_bounds(y)) for y in (layer, *others)]
    grid = grid_for(layer, extents, precision)
    border = concatenate([replace(y.geometry, z=None, m=None) for y in others])
    found = snapped(layer.geometry, border, outline(border, grid), grid, distance / grid.step)
    fell = found.column.is_empty & ~layer.geometry.is_empty
    facts = Snap(
        distance, found.n_moved, found.n_added, found.furthest * grid.step,
        int(found.is_changed.sum()), NamedRows.of(layer, fell),
    )  # fmt: skip
    return layer.with_geometry(found.column, np.arange(layer.n_rows)), facts
