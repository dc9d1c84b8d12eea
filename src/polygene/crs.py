"""Coordinate reference systems: reading, naming, comparing, transforming (pyproj).

Coordinates are always in the order x, y: easting or longitude first, whatever the CRS says. Formats
that store another order turn them at their own border.
"""

from __future__ import annotations

import numpy as np
import pyproj
from pyproj.exceptions import CRSError, ProjError

from polygene.arrays import F64Array
from polygene.errors import DataError
from polygene.geometry import GeometryColumn

LONGITUDE_LATITUDE = "OGC:CRS84"


def parse(text: str) -> pyproj.CRS:
    """Return the CRS that a user or file means: an authority's code, WKT or PROJJSON.

    Raises
    ------
    DataError
        If it is none that pyproj knows.
    """
    try:
        return pyproj.CRS.from_user_input(text)
    except CRSError as err:
        short = text if len(text) <= 60 else text[:57] + "..."
        raise DataError(
            f"{short!r} is no CRS that is known here; give an authority's code such as EPSG:32633, "
            "or a WKT definition"
        ) from err


def label(crs: pyproj.CRS | None) -> str:
    """Return a short name: the authority's code with the name, or the name alone."""
    if crs is None:
        return "no CRS"
    authority = code(crs)
    return f"{':'.join(authority)} {crs.name}" if authority else crs.name


def code(crs: pyproj.CRS) -> tuple[str, str] | None:
    """Return authority and code if the definition is exactly that one's."""
    found = crs.to_authority(min_confidence=100)
    return (str(found[0]), str(found[1])) if found else None


def is_same(a: pyproj.CRS | None, b: pyproj.CRS | None) -> bool:
    """Whether coordinates mean the same in both; the order of axes does not matter here."""
    if a is None or b is None:
        return a is b
    return a.equals(b, ignore_axis_order=True)


def unit(crs: pyproj.CRS | None) -> tuple[str, float]:
    """Return the name of the coordinates' unit and its size in metres, or in radians."""
    if crs is None or not crs.axis_info:
        return "units", 1.0
    axis = crs.axis_info[0]
    return axis.unit_name, axis.unit_conversion_factor


def transform(
    column: GeometryColumn, source: pyproj.CRS, target: pyproj.CRS, where: str
) -> GeometryColumn:
    """Return the column with its vertices in another CRS; heights are left as they are.

    Raises
    ------
    DataError
        If vertices cannot be transformed (outside the reach of either CRS), naming the first row.
    """
    if column.n_vertices == 0:
        return column
    try:
        transformer = pyproj.Transformer.from_crs(source, target, always_xy=True)
        x, y = transformer.transform(
            np.ascontiguousarray(column.xy[:, 0]), np.ascontiguousarray(column.xy[:, 1])
        )
    except ProjError as err:
        raise DataError(
            f"{where} cannot be brought from {label(source)} to {label(target)}: {err}"
        ) from err
    xy: F64Array = np.stack([x, y], axis=1)
    is_bad = ~np.isfinite(xy).all(axis=1)
    if is_bad.any():
        first = int(np.flatnonzero(is_bad)[0])
        row = int(np.searchsorted(column.vertex_offsets_of_rows, first, side="right"))
        raise DataError(
            f"{where}, row {row}: {column.xy[first, 0]:g}, {column.xy[first, 1]:g} has no place in "
            f"{label(target)}; is the CRS of the layer right ({label(source)})?"
        )
    return column.with_xy(xy)
