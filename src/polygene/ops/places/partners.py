"""Partners: pairs of features of two layers that lie in a relation, or nearest to each other.

On a projected CRS the nearest is that on its plane; in longitude and latitude that on the ellipsoid.
"""

from __future__ import annotations

from dataclasses import field, replace
from typing import Any

import numpy as np

from polygene.arrays import NONE, BoolArray, F64Array, I64Array, count_by
from polygene.classes import dataclass
from polygene.crs import degrees_of, ellipsoid, is_geographic, label
from polygene.errors import UsageError
from polygene.geometry import Family, extent_of
from polygene.globe.nearest import nearest_on_ellipsoid
from polygene.layer import Layer
from polygene.measures import row_areas, ruler_for
from polygene.ops.admit import admit
from polygene.ops.part import extent_of_whole
from polygene.ops.places.bringing import brought
from polygene.ops.places.brought import Brought
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.ops.places.relations import check_relation, related
from polygene.ops.summary import Bridge, NamedRows
from polygene.plane.distances import NearestRows, nearest_rows
from polygene.plane.relations import holds, matches

SHARED_BORDERS = ("first-key", "split")
FARTHER = 8.0  # how much further to look for the nearest if it was not found, across CRS


@dataclass(frozen=True)
class Partners:
    """Pairs of rows, sorted by the first, and what each pair shares or how far it is apart.

    shared : (n,) area of polygons that each pair shares; size : (rows of OTHER,) their own
    distance : (n,) in metres, or map units without a CRS; mine, theirs : (n, 2) from where to where
    tied : rows whose last partner is one of several equally near
    bridge : how OTHER came from another CRS, if it did
    touches : (n,) of points and polygons, whether the point is on the border
    weight : (n,) how much of a point counts in each pair, where those on borders are split
    """

    first: I64Array
    second: I64Array
    shared: F64Array | None = None
    distance: F64Array | None = None
    mine: F64Array | None = None
    theirs: F64Array | None = None
    tied: I64Array = field(default_factory=lambda: np.zeros(0, np.int64))
    size: F64Array | None = None
    bridge: Bridge | None = None
    touches: BoolArray | None = None
    weight: F64Array | None = None

    def on_borders(self, layer: Layer, other: Layer) -> NamedRows:
        """Return the points on a border that several polygons share."""
        if self.touches is None:
            return NamedRows()
        points, row, _ = self._sides(layer, other)
        times = count_by(row[self.touches], points.n_rows)
        return NamedRows.of(points, times > 1)

    def shared_out(self, layer: Layer, other: Layer, how: str) -> Partners:
        """Give points on a border that several polygons share to one, or to all in equal parts."""
        assert self.touches is not None
        points, row, polygon = self._sides(layer, other)
        areas = other if points is layer else layer
        times = count_by(row[self.touches], points.n_rows)
        if how == "split":
            weight = np.ones(len(row))
            weight[self.touches] = 1.0 / times[row[self.touches]]
            return replace(self, weight=weight)
        rank = polygon if areas.ids is None else areas.ids[polygon]
        at = np.flatnonzero(self.touches)
        order = at[np.lexsort((rank[at], row[at]))]
        is_first = np.ones(len(order), bool)
        is_first[1:] = row[order][1:] != row[order][:-1]
        gone = np.zeros(len(row), bool)
        gone[order[~is_first]] = True
        return self.take(np.flatnonzero(~gone))

    def _sides(self, layer: Layer, other: Layer) -> tuple[Layer, I64Array, I64Array]:
        """Return the layer of points, and of each pair the row of it and that of the polygons."""
        if layer.geometry.family == Family.POINTS:
            return layer, self.first, self.second
        return other, self.second, self.first

    def take(self, kept: I64Array) -> Partners:
        def some(values: Any) -> Any:
            return None if values is None else values[kept]

        return Partners(
            first=self.first[kept],
            second=self.second[kept],
            shared=some(self.shared),
            distance=some(self.distance),
            mine=some(self.mine),
            theirs=some(self.theirs),
            tied=self.tied,
            size=self.size,
            bridge=self.bridge,
            touches=some(self.touches),
            weight=some(self.weight),
        )


def partners(
    layer: Layer,
    other: Layer,
    relation: str,
    *,
    count: int = 1,
    up_to: float | None = None,
    precision: float | None = None,
    follow: float | None = None,
) -> Partners:
    """Return the pairs of features that a relation, a pattern or nearness makes.

    Invalid polygons are to each other what they are when mended. OTHER may be in another CRS; its
    edges follow their course within ``follow`` metres, 0.01 if not given.

    Raises
    ------
    UsageError, DataError
        If the relation is unknown, or has no meaning for the two layers.
    """
    layer = admit(layer).layer
    if relation == "nearest":
        return _nearest(
            layer=layer, other=other, count=count, up_to=up_to, precision=precision, follow=follow
        )
    is_pattern = len(relation) == 9 and set(relation.upper()) <= set("TF*012")
    if not is_pattern:
        check_relation(relation, layer, other)
    if relation == "disjoint":
        raise UsageError(
            "disjoint makes a pair of nearly everything; ask for intersects and keep the alone"
        )
    found = beside(layer, other, follow=follow)
    pairs = related(layer, found.layer, precision)
    families = (layer.geometry.family, other.geometry.family)
    mask = matches(pairs, relation) if is_pattern else holds(relation, pairs, *families)
    kept = np.flatnonzero(mask)
    touches = None
    if set(families) == {Family.POINTS, Family.POLYGONS}:
        touches = holds("touches", pairs, *families)[kept]
    return Partners(
        pairs.first[kept],
        pairs.second[kept],
        pairs.shared[kept],
        size=_sizes(found),
        bridge=found.facts,
        touches=touches,
    )


def beside(
    layer: Layer, other: Layer, reach: float = 0.0, whole: bool = False, follow: float | None = None
) -> Brought:
    """Return OTHER in INPUT's CRS as far as it is near, its polygons mended."""
    found = brought(other, layer, reach=reach, whole=whole, follow=follow)
    return found._replace(layer=admit(found.layer).layer)


def _sizes(found: Brought) -> F64Array | None:
    """Return the areas of OTHER's polygons in INPUT's CRS; of those cut, as if all was there."""
    column = found.layer.geometry
    if column.family != Family.POLYGONS:
        return None
    areas = row_areas(
        column, ruler_for(found.layer.crs) if is_geographic(found.layer.crs) else None
    )
    inside = found.inside()
    return np.divide(areas, inside, out=np.zeros(len(areas)), where=inside > 0)


def metric_of(layer: Layer) -> str:
    """Return what distances of a layer are measured on, in words."""
    if is_geographic(layer.crs):
        return "on the ellipsoid"
    return "on the plane" if layer.crs is None else f"on the plane of {label(layer.crs).split()[0]}"


def _nearest(
    layer: Layer,
    other: Layer,
    count: int,
    up_to: float | None,
    precision: float | None,
    follow: float | None,
) -> Partners:
    """Find nearest partners; from another CRS only what may be among them is brought."""
    unit = 1.0
    if layer.crs is not None and layer.crs.axis_info and not is_geographic(layer.crs):
        unit = layer.crs.axis_info[0].unit_conversion_factor
    extent = layer.geometry.extent()
    if is_geographic(layer.crs) or extent is None:
        there = beside(layer, other, whole=is_geographic(layer.crs), follow=follow)
        found = _search(
            layer=layer,
            other=there.layer,
            count=count,
            up_to=up_to,
            precision=precision,
            unit=unit,
        )
        return _as_partners(found, count, there)
    limit = np.inf if up_to is None else up_to / unit
    reach = max(extent[2] - extent[0], extent[3] - extent[1], 1000.0 / unit)
    while True:
        # All that is no further than this from INPUT is brought, so the nearest within it is right.
        reach = min(reach, limit)
        there = beside(layer, other, reach=reach, follow=follow)
        facts = there.facts
        is_all = facts is None or not (facts.far or facts.cut) or reach >= limit
        found = _search(
            layer=layer,
            other=there.layer,
            count=count,
            up_to=up_to if is_all else reach * unit,
            precision=precision,
            unit=unit,
        )
        if is_all or (found.row != NONE)[~layer.geometry.is_empty].all():
            return _as_partners(found, count, there)
        reach *= FARTHER


def _search(
    layer: Layer,
    other: Layer,
    count: int,
    up_to: float | None,
    precision: float | None,
    unit: float,
) -> NearestRows:
    """Return the nearest of two layers in one CRS, in metres, or map units without a CRS."""
    meets = _meeting(layer, other, precision)
    own = [extent_of(finite_bounds(y)) for y in (layer, other)]
    extents = [extent_of_whole(k, extent) for k, extent in enumerate(own)]
    limit = np.inf if up_to is None else up_to
    if is_geographic(layer.crs):
        assert layer.crs is not None
        return nearest_on_ellipsoid(
            column=layer.geometry,
            other=other.geometry,
            to_radians=np.radians(degrees_of(layer.crs)),
            geod=ellipsoid(layer.crs),
            meets=meets,
            k=count,
            limit=limit,
        )
    grid = grid_for(layer, extents, precision)
    found = nearest_rows(
        column=layer.geometry,
        other=other.geometry,
        grid=grid,
        meets=meets,
        k=count,
        limit=limit / unit,
    )
    return found._replace(distance=found.distance * unit)


def _as_partners(found: NearestRows, count: int, there: Brought) -> Partners:
    """Return rows and their partners in a row, the nearest first."""
    at = np.flatnonzero(found.row.ravel() != NONE)
    return Partners(
        first=at // count,
        second=found.row.ravel()[at],
        shared=None,
        distance=found.distance.ravel()[at],
        mine=found.mine.reshape(-1, 2)[at],
        theirs=found.theirs.reshape(-1, 2)[at],
        tied=np.flatnonzero(found.is_tied),
        bridge=there.facts,
    )


def _meeting(layer: Layer, other: Layer, precision: float | None) -> tuple[I64Array, I64Array]:
    """Return the pairs that share a point and may have no end near it: areas, lines that cross."""
    families = {layer.geometry.family, other.geometry.family}
    if families <= {Family.POINTS, Family.LINES} and families != {Family.LINES}:
        nothing = np.zeros(0, np.int64)
        return nothing, nothing
    found = related(layer, other, precision)
    return found.first, found.second
