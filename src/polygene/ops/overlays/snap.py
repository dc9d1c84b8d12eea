"""Snap: bring borders of a layer that nearly coincide with others' onto them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array
from polygene.crs import degrees_of, ellipsoid, is_geographic
from polygene.geometry import Family, GeometryColumn, concatenate, extent_of
from polygene.layer import Layer
from polygene.measures import ruler_for
from polygene.ops.overlays.retracing import meeting, retraced
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.ops.summary import NamedRows, Snap
from polygene.plane.borders import outline
from polygene.plane.grid import Grid
from polygene.plane.nearness import PLAIN, Metric
from polygene.plane.overlay import overlay_alone
from polygene.plane.snapping import snapped
from polygene.plane.touch import rows_touched
from polygene.plane.validity import invalid_rows
from polygene.units import map_unit_of


def snapped_onto(
    layer: Layer, others: Sequence[Layer], distance: float, precision: float | None = None
) -> tuple[Layer, Snap]:
    """Move what of INPUT lies within a distance of the OTHERs onto them.

    The distance is in map units; in longitude and latitude in those of the equator, and as many metres
    everywhere. Rows stay as they are many; one that falls together becomes empty. See
    `polygene.plane.snapping`. Where the distance is as large as detail, rings may cross when they have
    moved. Such rows are read by the rule of `polygene.ops.mend`; lest a gap open beside them,
    neighbours get the vertices that come of it.
    """
    extents = [extent_of(finite_bounds(y)) for y in (layer, *others)]
    grid = grid_for(layer, extents, precision)
    border = concatenate([replace(y.geometry, z=None, m=None) for y in others])
    metric, unit = _metric(layer, grid)
    found = snapped(
        column=layer.geometry,
        other=border,
        border=outline(border, grid),
        grid=grid,
        reach=distance / unit,
        metric=metric,
    )
    column, is_tangled = found.column, np.zeros(layer.n_rows, bool)
    if column.family == Family.POLYGONS:
        is_tangled = invalid_rows(column, found.is_changed)
        if is_tangled.any():
            column = _untangled(column, is_tangled, grid)
    fell = column.is_empty & ~layer.geometry.is_empty
    n_parts = [np.diff(c.row_offsets) for c in (layer.geometry, column)]
    facts = Snap(
        distance=distance,
        moved=found.n_moved,
        added=found.n_added,
        furthest=found.furthest * unit,
        changed=int(found.is_changed.sum()),
        fell=NamedRows.of(layer, fell),
        tangled=NamedRows.of(layer, is_tangled),
        reshaped=NamedRows.of(layer, (n_parts[0] != n_parts[1]) & ~fell),
        map_unit=map_unit_of(layer.crs),
    )
    return layer.with_geometry(column, np.arange(layer.n_rows)), facts


class _OnEllipsoid(Metric):
    """Grid units of longitude and latitude in metres, at each latitude (Snyder 1987, p. 24-25)."""

    def __init__(self, layer: Layer, grid: Grid) -> None:
        assert layer.crs is not None
        self._geod, self._grid = ellipsoid(layer.crs), grid
        self._size = np.radians(degrees_of(layer.crs)) * grid.step

    def sizes(self, y: I64Array) -> tuple[F64Array, F64Array]:
        latitude = (y + self._grid.origin_y) * self._size
        shrink = 1 - self._geod.es * np.sin(latitude) ** 2
        across = self._geod.a * np.cos(latitude) / np.sqrt(shrink)
        up = self._geod.a * (1 - self._geod.es) / shrink**1.5
        # At a pole all longitudes are one place; a unit must count for something.
        return np.maximum(across, 1e-3) * self._size, up * self._size


def _metric(layer: Layer, grid: Grid) -> tuple[Metric, float]:
    """Return what grid units count for a layer, and the map units of what they count in."""
    if not is_geographic(layer.crs):
        return PLAIN, grid.step
    return _OnEllipsoid(layer, grid), 1 / ruler_for(layer.crs).map_unit


def _untangled(column: GeometryColumn, is_tangled: BoolArray, grid: Grid) -> GeometryColumn:
    """Trace rows anew whose rings cross, and give their neighbours the vertices that come of it."""
    knots = column.take(np.flatnonzero(is_tangled))
    near = np.flatnonzero(
        rows_touched(column, column.row_bounds(), outline(knots, grid), grid) | is_tangled
    )
    some = column.take(near)
    plan = overlay_alone(some, grid)
    face, row = plan.own_labels()
    changed = is_tangled[near]
    rows = np.flatnonzero(changed | meeting(plan, face[changed[row]], changed))
    new = retraced(plan, face, row, rows, plan.row_of_part, thins=False)
    return column.with_rows(near[rows], new)
