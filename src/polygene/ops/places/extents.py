"""Bounds of layers, and the grid that they are computed on."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from polygene.arrays import BoolArray, F64Array
from polygene.crs import degrees_of, label
from polygene.errors import GeometryError
from polygene.geometry import Extent
from polygene.layer import SLACK, Layer
from polygene.plane.grid import Grid, default_step
from polygene.plane.problems import LARGEST


def finite_bounds(layer: Layer) -> F64Array:
    """Return the (n_rows, 4) bounds; refuse coordinates that cannot be computed with.

    Raises
    ------
    GeometryError
        If one is not finite, too large, or a latitude beyond the poles; the first such row is named.
    """
    bounds = layer.geometry.row_bounds()
    if _are_plain(bounds, layer):
        return bounds
    has = ~layer.geometry.is_empty
    source = "leave the feature out with `where`, or mend the source"
    is_bad = ~np.isfinite(bounds).all(axis=1) & has
    _refuse(layer, is_bad, lambda row: "a coordinate is not a finite number", source)
    largest = np.abs(bounds).max(axis=1)
    _refuse(
        layer,
        (largest > LARGEST) & has,
        lambda row: f"value {largest[row]:g}, and no more than {LARGEST:g} can be computed with",
        source,
    )
    if layer.crs is not None and layer.crs.is_geographic:
        degrees = float(np.degrees(layer.crs.axis_info[0].unit_conversion_factor))
        latitude = np.abs(bounds[:, [1, 3]]).max(axis=1) * degrees
        _refuse(
            layer,
            (latitude > 90 + 1e-9) & has,
            lambda row: f"a latitude of {latitude[row]:.10g} degrees, beyond the pole",
            "check the order of the coordinates, and the CRS",
        )
    return bounds


def _are_plain(bounds: F64Array, layer: Layer) -> bool:
    """Whether all bounds are of plain numbers: looked at column by column, which is soon done."""
    if not len(bounds):
        return True
    extremes = [end for column in bounds.T for end in (float(column.min()), float(column.max()))]
    most = LARGEST
    if layer.crs is not None and layer.crs.is_geographic:
        most = 90 / degrees_of(layer.crs)  # of longitudes too: beyond that they are looked at
    return all(-most <= end <= most for end in extremes)


def are_in_reach(layer: Layer) -> BoolArray:
    """Return which rows (n_rows,) have coordinates that can be computed with: see `finite_bounds`."""
    bounds = layer.geometry.row_bounds()
    if _are_plain(bounds, layer):
        return np.ones(layer.n_rows, bool)
    most_north = LARGEST
    if layer.crs is not None and layer.crs.is_geographic:
        most_north = (90 + 1e-9) / degrees_of(layer.crs)
    is_in = (np.abs(bounds) <= LARGEST).all(axis=1)  # no number is in it either
    return np.asarray(is_in & (np.abs(bounds[:, [1, 3]]) <= most_north).all(axis=1))


def doubt_of(layer: Layer) -> str:
    """Return why the CRS of a layer cannot be right, in words; nothing if it can."""
    if not layer.doubt or layer.crs is None:
        return ""
    bounds = layer.geometry.row_bounds() * degrees_of(layer.crs)
    most = layer.doubt + SLACK, 90 + SLACK
    with np.errstate(invalid="ignore"):
        is_out = (np.abs(bounds[:, [0, 2]]).max(axis=1) > most[0]) & np.isfinite(bounds[:, 0])
        is_out |= (np.abs(bounds[:, [1, 3]]).max(axis=1) > most[1]) & np.isfinite(bounds[:, 1])
    rows = np.flatnonzero(is_out)
    if len(rows) == 0:
        return ""
    x0, y0, x1, y1 = layer.geometry.row_bounds()[rows[0]].tolist()
    x, y = max(x0, x1, key=abs), max(y0, y1, key=abs)
    which = layer.row_label(int(rows[0]))
    if len(rows) > 1:
        which += f" and {len(rows) - 1:,} more of {layer.n_rows:,}"
    leave = ", or leave such features out with `where`" if len(rows) < layer.n_rows else ""
    code = "CODE"
    extremes = np.abs(bounds[np.isfinite(bounds).all(axis=1)]).max(axis=0, initial=0.0)
    if extremes[[0, 2]].max() <= 360 + SLACK and extremes[[1, 3]].max() <= 90 + SLACK:
        own = label(layer.crs).split()[0]
        code = f"{own} if longitudes are meant that count on beyond {layer.doubt:g}, else CODE"
    return (
        f"layer {layer.name!r}, {which}: coordinates lie outside longitude/latitude ({x:.10g} "
        f"{y:.10g}), which {label(layer.crs)} is: say `crs` {code}{leave}"
    )


def _refuse(layer: Layer, is_bad: BoolArray, reason: Callable[[int], str], advice: str) -> None:
    rows = np.flatnonzero(is_bad)
    if len(rows):
        row = int(rows[0])
        raise GeometryError(f"layer {layer.name!r}", layer.row_label(row), reason(row), advice)


def grid_for(layer: Layer, extents: Sequence[Extent | None], precision: float | None) -> Grid:
    known = [extent for extent in extents if extent is not None]
    if precision is None:
        precision = default_step(None if layer.crs is None else layer.crs.is_geographic, known)
    return Grid.over(known, precision)
