"""The spatial functions of CQL2 (OGC 21-065r2, 7.6): features against a written geometry."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from polygene.arrays import BoolArray
from polygene.geometry import Family, GeometryColumn
from polygene.plane.grid import Grid, default_step
from polygene.plane.relating import relate
from polygene.plane.relations import has_meaning, holds

if TYPE_CHECKING:
    from polygene.layer import Layer

FUNCTIONS = {
    "s_intersects": "intersects",
    "s_within": "within",
    "s_contains": "contains",
    "s_touches": "touches",
    "s_crosses": "crosses",
    "s_overlaps": "overlaps",
    "s_equals": "equals",
    "s_disjoint": "disjoint",
}
# What a relation is when its two sides change places.
TURNED = {"within": "contains", "contains": "within"}


def box(x0: float, y0: float, x1: float, y1: float) -> GeometryColumn:
    """Return a rectangle as a column of one row."""
    ring = np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0)])
    return GeometryColumn.from_rings([[[ring]]], Family.POLYGONS)


def related_rows(layer: Layer, literal: GeometryColumn, relation: str) -> BoolArray:
    """Return (n_rows,) features that lie in a relation to a geometry in the layer's CRS."""
    if relation == "disjoint":
        return ~related_rows(layer, literal, "intersects") & ~layer.geometry.is_empty
    found = np.zeros(layer.n_rows, bool)
    families = (layer.geometry.family, literal.family)
    extents = [e for e in (layer.geometry.extent(), literal.extent()) if e is not None]
    if not has_meaning(relation, *families) or len(extents) < 2:
        return found
    grid = Grid.over(
        extents, default_step(None if layer.crs is None else layer.crs.is_geographic, extents)
    )
    bounds, other = layer.geometry.row_bounds(), extents[1]
    near = np.flatnonzero(
        (bounds[:, 0] <= other[2])
        & (bounds[:, 2] >= other[0])
        & (bounds[:, 1] <= other[3])
        & (bounds[:, 3] >= other[1])
    )
    pairs = relate(layer.geometry.take(near), literal, grid)
    found[near[pairs.first[holds(relation, pairs, *families)]]] = True
    return found
