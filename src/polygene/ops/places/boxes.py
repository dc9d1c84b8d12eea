"""Boxes as rings and as layers."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from polygene import proj
from polygene.arrays import F64Array
from polygene.crs import turn_of
from polygene.geometry import Extent, Family, GeometryColumn
from polygene.layer import Layer
from polygene.longitudes import sides_of_spans


def ring_round(box: Extent) -> F64Array:
    """Return the ring round a box."""
    x0, y0, x1, y1 = box
    return np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0)], np.float64)


def box_layer(box: Extent, crs: proj.CRS | None) -> Layer:
    """Return a rectangle as a layer of one row; of two parts if it runs over the 180th meridian.

    Raises
    ------
    UsageError
        If its west lies east of its east, and longitudes are none.
    """
    x0, y0, x1, y1 = box
    spans = [own for own in sides_of_spans(x0, x1, turn_of(crs)) if own[0] < own[1] or x0 == x1]
    row = [[ring_round((west, y0, east, y1))] for west, east in spans]
    return Layer("box", GeometryColumn.from_rings([row], Family.POLYGONS), pa.table({}), crs)
