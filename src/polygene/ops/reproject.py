"""Reproject: change the CRS of a layer."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import pyproj

from polygene import crs as crs_module
from polygene.arrays import F64Array, I64Array, offsets_from, owners
from polygene.errors import DataError
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.ops.extents import finite_bounds
from polygene.ops.summary import NamedRows

MOST_ROUNDS = 12


@dataclass(frozen=True)
class ReprojectSummary:
    """From where to where; vertices added so that long edges keep their course within ``tolerance``.

    accuracy : of the transformation in metres, None if it is not known
    outside : rows that lie outside of where the new CRS is meant to be used
    """

    name: str
    features: int
    source: str
    target: str
    added: int
    tolerance: float | None
    accuracy: float | None
    operation: str
    outside: NamedRows
    notes: list[str]


@dataclass(frozen=True)
class ReprojectResult:
    layer: Layer
    summary: ReprojectSummary


def reproject(layer: Layer, target: pyproj.CRS, tolerance: float | None = None) -> ReprojectResult:
    """Bring a layer to another CRS.

    Edges are straight in the CRS that they are drawn in, and bend on the way to another. With
    ``tolerance``, in units of the new CRS, edges are halved until their middles are no further off.

    Raises
    ------
    DataError
        If the layer has no CRS, or coordinates cannot be transformed.
    """
    if layer.crs is None:
        raise DataError(
            f"layer {layer.name!r} has no CRS, so it cannot be brought to another; say with --from "
            "which one its coordinates are in"
        )
    finite_bounds(layer)
    source = layer.crs
    column = layer.geometry
    before = column.n_vertices
    where = f"layer {layer.name!r}"
    if tolerance is not None and column.family != Family.POINTS:
        column = _densified(column, source, target, tolerance, where)
    moved = crs_module.transform(column, source, target, where)
    transformer = pyproj.Transformer.from_crs(source, target, always_xy=True)
    accuracy = transformer.accuracy
    result = replace(layer.with_geometry(moved, np.arange(layer.n_rows)), crs=target)
    return ReprojectResult(
        result,
        ReprojectSummary(
            layer.name, layer.n_rows, crs_module.label(source), crs_module.label(target),
            column.n_vertices - before, tolerance,
            float(accuracy) if accuracy is not None and accuracy >= 0 else None,
            transformer.description or "", NamedRows.of(layer, _outside(layer, target)), [],
        ),
    )  # fmt: skip


def _outside(layer: Layer, target: pyproj.CRS) -> np.ndarray:
    """Return the rows whose middle lies outside the area of use of a CRS."""
    outside = np.zeros(layer.n_rows, bool)
    area = target.area_of_use
    if area is None or layer.crs is None:
        return outside
    bounds = layer.geometry.row_bounds()
    known = np.flatnonzero(np.isfinite(bounds).all(axis=1))
    middle = (bounds[known, :2] + bounds[known, 2:]) / 2
    to_degrees = pyproj.Transformer.from_crs(layer.crs, "OGC:CRS84", always_xy=True)
    lon, lat = (np.asarray(v) for v in to_degrees.transform(*middle.T))
    with np.errstate(invalid="ignore"):
        is_in = (lat >= area.south) & (lat <= area.north)
        if area.west <= area.east:
            is_in &= (lon >= area.west) & (lon <= area.east)
        else:
            is_in &= (lon >= area.west) | (lon <= area.east)
    outside[known] = ~is_in
    return outside


def _densified(
    column: GeometryColumn, source: pyproj.CRS, target: pyproj.CRS, tolerance: float, where: str
) -> GeometryColumn:
    """Halve edges until the middle of each lies within a tolerance of where it is drawn."""
    transformer = pyproj.Transformer.from_crs(source, target, always_xy=True)

    def there(xy: F64Array) -> F64Array:
        return np.stack([np.asarray(v) for v in transformer.transform(*xy.T)], axis=1)

    for _ in range(MOST_ROUNDS):
        ring_of = owners(column.ring_offsets)
        start = np.flatnonzero(ring_of[:-1] == ring_of[1:])
        a, b = column.xy.take(start, axis=0), column.xy.take(start + 1, axis=0)
        ends = there(column.xy)
        middle = there((a + b) / 2)
        with np.errstate(invalid="ignore"):  # what has no place there is told of afterwards
            off = middle - (ends[start] + ends[start + 1]) / 2
        long = start[np.hypot(*off.T) > tolerance]
        if len(long) == 0:
            return column
        column = _with_middles(column, long)
    raise DataError(
        f"{where}: edges bend too much to be drawn within {tolerance:g} of their course; take a larger "
        "tolerance, or check the CRS"
    )


def _with_middles(column: GeometryColumn, start: I64Array) -> GeometryColumn:
    """Put a vertex in the middle of the edges that start at some vertices."""
    at = np.arange(column.n_vertices)
    extra = np.zeros(column.n_vertices, np.int64)
    extra[start] = 1
    place = at + offsets_from(extra)[:-1]
    n = column.n_vertices + len(start)

    def spread(values: F64Array | None) -> F64Array | None:
        if values is None:
            return None
        both = np.empty((n, *values.shape[1:]))
        both[place] = values
        both[place[start] + 1] = (values[start] + values[start + 1]) / 2
        return both

    xy = spread(column.xy)
    assert xy is not None
    grown = offsets_from(extra)[column.ring_offsets]
    return replace(
        column,
        xy=xy,
        ring_offsets=column.ring_offsets + grown,
        z=spread(column.z),
        m=spread(column.m),
    )
