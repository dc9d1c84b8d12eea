"""The spatial functions of CQL2 (OGC 21-065r2, 7.6): features against a written geometry."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np

from polygene.arrays import BoolArray
from polygene.classes import NamedTuple
from polygene.errors import UsageError
from polygene.geometry import Family, GeometryColumn
from polygene.longitudes import goes_beyond, sides_of_spans, turns_onto
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


class Written(NamedTuple):
    """How written geometry is to be read where it is not in the layer's CRS.

    turn : units of longitude that go round the earth, 0 on a plane
    begins_north : whether the first of two coordinates points north
    bring : from that CRS, x first, to the layer's
    """

    turn: float
    begins_north: bool
    bring: Callable[[GeometryColumn], GeometryColumn]

    def here(self, column: GeometryColumn) -> GeometryColumn:
        """Return what is written in the layer's CRS."""
        if self.begins_north:
            column = column.with_xy(np.ascontiguousarray(column.xy[:, ::-1]))
        return self.bring(column)

    def box(self, sides: Sequence[float]) -> list[GeometryColumn]:
        """Return a rectangle in the layer's CRS; see `box`."""
        if self.begins_north:
            sides = [sides[k] for k in (1, 0, 3, 2)]
        return [self.bring(one) for one in box(sides, self.turn)]


def box(sides: Sequence[float], turn: float = 0.0) -> list[GeometryColumn]:
    """Return a rectangle as columns of one row each; without width or height it is a line or a point.

    Parameters
    ----------
    sides : x and y minimum, x and y maximum
    turn : float
        Units of longitude that go round the earth, 0 on a plane. There the west may lie east of the
        east: the rectangle then runs over the meridian where longitudes begin anew, and is of two
        parts (OGC 21-065r2, 7.6).

    Raises
    ------
    UsageError
        If a side is not finite, or the lower corner is not first.
    """
    x0, y0, x1, y1 = sides
    if not np.isfinite(sides).all():
        raise UsageError("the sides of a box are numbers")
    if y0 > y1:
        raise UsageError(f"a box begins at its lower left corner, not at {x0:g} {y0:g}")
    spans = sides_of_spans(x0, x1, turn)
    # What has a width and what has none are of two families.
    parts = [[own for own in spans if (own[0] < own[1]) == is_wide] for is_wide in (True, False)]
    return [_rectangles(some, y0, y1) for some in parts if some]


def _rectangles(spans: Sequence[tuple[float, float]], y0: float, y1: float) -> GeometryColumn:
    """Return rectangles over some spans of x, all with a width or all without, as parts of one row."""
    is_wide = spans[0][0] < spans[0][1]
    family = Family(int(is_wide) + int(y0 < y1))
    corners = {
        Family.POLYGONS: ((0, y0), (1, y0), (1, y1), (0, y1), (0, y0)),
        Family.LINES: ((0, y0), (1, y1)),
        Family.POINTS: ((0, y0),),
    }[family]
    rings = [np.array([(span[k], y) for k, y in corners]) for span in spans]
    return GeometryColumn.from_rings([[[ring] for ring in rings]], family)


def in_turns(column: GeometryColumn, layer: Layer) -> list[GeometryColumn]:
    """Return a geometry where its places lie in a layer's longitudes: 190 in one is -170 in the other.

    Several times if the layer has them in several turns, or counts from a longitude within it.
    """
    own, theirs = column.extent(), layer.geometry.extent()
    if not (goes_beyond(own, layer.crs) or goes_beyond(theirs, layer.crs)):
        return [column]
    steps = turns_onto(own, theirs, layer.crs)
    return [column.with_xy(column.xy + (step, 0.0)) for step in steps] or [column]


def are_cut(turns: Sequence[GeometryColumn], layer: Layer) -> bool:
    """Whether a geometry is there several times because the layer counts from a longitude within it."""
    theirs = layer.geometry.extent()
    extents = [column.extent() for column in turns]
    return len(turns) > 1 and any(
        own is not None and theirs is not None and (own[0] < theirs[0] or own[2] > theirs[2])
        for own in extents
    )


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
