"""Bounds of layers, and the grid that they are computed on."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from polygene.arrays import F64Array
from polygene.errors import GeometryError
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.plane.grid import DEFAULT_GEOGRAPHIC, DEFAULT_PROJECTED, Grid


def finite_bounds(layer: Layer) -> F64Array:
    """Return the (n_rows, 4) bounds; refuse coordinates that are not finite."""
    bounds = layer.geometry.row_bounds()
    is_bad = ~np.isfinite(bounds).all(axis=1) & ~layer.geometry.is_empty
    if is_bad.any():
        row = int(np.flatnonzero(is_bad)[0])
        raise GeometryError(
            f"layer {layer.name!r}",
            layer.row_label(row),
            "a coordinate is not a finite number",
            "leave the row out with --where, or mend the source",
        )
    return bounds


def grid_for(layer: Layer, extents: Sequence[Extent | None], precision: float | None) -> Grid:
    if precision is None:
        is_geographic = layer.crs is not None and layer.crs.is_geographic
        precision = DEFAULT_GEOGRAPHIC if is_geographic else DEFAULT_PROJECTED
    return Grid.over([extent for extent in extents if extent is not None], precision)
