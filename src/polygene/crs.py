"""Coordinate reference systems: reading, naming, comparing, transforming (pyproj).

Coordinates are always in the order x, y: easting or longitude first, whatever the CRS says. Formats
that store another order turn them at their own border.
"""

from __future__ import annotations

import warnings
from collections.abc import Sequence

import numpy as np
import pyproj
from pyproj.exceptions import CRSError, ProjError
from pyproj.transformer import TransformerGroup

from polygene.arrays import F64Array
from polygene.errors import DataError
from polygene.geometry import GeometryColumn

LONGITUDE_LATITUDE = "OGC:CRS84"
CRS84 = "http://www.opengis.net/def/crs/OGC/1.3/CRS84"  # the same as a URI


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


def of_uri(uri: str) -> pyproj.CRS:
    """Return the CRS that a URI or URN names (OGC 09-048r5).

    Raises
    ------
    DataError
        If it names none.
    """
    parts = uri.rstrip("/").split("/" if "/def/crs/" in uri else ":")
    if not ("/def/crs/" in uri or uri.startswith("urn:ogc:def:crs:")) or len(parts) < 3:
        raise DataError(f"{uri!r} is no URI of a CRS")
    return parse(f"{parts[-3]}:{parts[-1]}")


def to_uri(crs: pyproj.CRS | None) -> str:
    """Return the URI of a CRS; that of longitude and latitude if it has no code."""
    own = None if crs is None else code(crs)
    if own is None or own[0] == "OGC":
        return CRS84
    return f"http://www.opengis.net/def/crs/{own[0]}/0/{own[1]}"


def begins_north(crs: pyproj.CRS) -> bool:
    """Whether coordinates have the northing, or latitude, first as the authority of a CRS says."""
    axes = crs.axis_info
    return bool(axes) and axes[0].direction.lower() in ("north", "south")


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


def is_geographic(crs: pyproj.CRS | None) -> bool:
    """Whether coordinates are longitude and latitude."""
    return crs is not None and bool(crs.axis_info) and crs.is_geographic


def degrees_of(crs: pyproj.CRS) -> float:
    """Return how many degrees one unit of a geographic CRS is: 1, or 0.9 for gon."""
    return float(np.degrees(crs.axis_info[0].unit_conversion_factor))


def ellipsoid(crs: pyproj.CRS) -> pyproj.Geod:
    """Return the ellipsoid of a CRS; that of WGS 84 where it names none."""
    return crs.get_geod() or pyproj.Geod(ellps="WGS84")


def _ways(
    first: pyproj.CRS, second: pyproj.CRS, area: pyproj.aoi.AreaOfInterest | None
) -> tuple[TransformerGroup | None, str]:
    """Return the operations between two CRS for an area; None, and what is wrong, if there are none."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            group = TransformerGroup(first, second, always_xy=True, area_of_interest=area)  # type: ignore[arg-type]
        except ProjError as err:
            return None, f": {err}"
    return (group, "") if group.transformers else (None, "")


class Way:
    """One coordinate operation between two CRS, the same for all coordinates.

    Of several operations that are known, the best for an area (by PROJ's order) is taken for all:
    operations that change from place to place would tear borders.

    Attributes
    ----------
    accuracy : float or None
        In metres, None if it is not known.
    is_best : bool
        Whether there is none better that needs a file which is not here.
    """

    def __init__(
        self, source: pyproj.CRS, target: pyproj.CRS, area: Sequence[float] | None = None
    ) -> None:
        """Find the way; ``area`` is west, south, east and north of what it is for, in degrees."""
        self.source, self.target = source, target
        # What leads there leads back: the order of the two has no part in the choice.
        self._is_turned = source.to_wkt() > target.to_wkt()
        first, second = (target, source) if self._is_turned else (source, target)
        of = None if area is None else pyproj.aoi.AreaOfInterest(*area)
        group, said = _ways(first, second, of)
        if group is None and of is not None:  # none that is meant for there
            group, said = _ways(first, second, None)
        if group is None:
            raise DataError(f"no way is known from {label(source)} to {label(target)}{said}")
        self._operation = group.transformers[0]
        self.is_best = bool(group.best_available)
        accuracy = self._operation.accuracy
        self.accuracy = float(accuracy) if accuracy is not None and accuracy >= 0 else None
        self.description = self._operation.description or ""
        self._keeps_turn = is_geographic(source) and is_geographic(target)

    def there(self, xy: F64Array) -> F64Array:
        """Return (n, 2) coordinates in the target; not finite where they have no place."""
        found = self._moved(xy, "INVERSE" if self._is_turned else "FORWARD")
        if self._keeps_turn:
            # A shift of some metres must not turn 180 into -180.
            to_degrees, turn = degrees_of(self.source), 360 / degrees_of(self.target)
            near = xy[:, 0] * (to_degrees / degrees_of(self.target))
            with np.errstate(invalid="ignore"):
                found[:, 0] -= turn * np.round((found[:, 0] - near) / turn)
        return found

    def back(self, xy: F64Array) -> F64Array:
        """Return (n, 2) coordinates in the source; not finite where they have no place."""
        return self._moved(xy, "FORWARD" if self._is_turned else "INVERSE")

    def _moved(self, xy: F64Array, direction: str) -> F64Array:
        if len(xy) == 0:
            return np.zeros((0, 2))
        x, y = np.ascontiguousarray(xy.T)
        found: F64Array = np.stack(self._operation.transform(x, y, direction=direction), axis=1)
        found[~np.isfinite(found).all(axis=1)] = np.nan
        return found


def way_between(
    source: pyproj.CRS,
    extent: Sequence[float] | None,
    target: pyproj.CRS,
    target_extent: Sequence[float] | None = None,
) -> Way:
    """Return the best way from one CRS to another for what two extents, each in its own, both hold."""
    areas = [
        area
        for crs, own in ((source, extent), (target, target_extent))
        if own is not None and (area := area_of(crs, own)) is not None
    ]
    if not areas:
        return Way(source, target)
    west, south = (max(a[k] for a in areas) for k in (0, 1))
    east, north = (min(a[k] for a in areas) for k in (2, 3))
    if west > east or south > north:
        return Way(source, target, areas[-1])
    return Way(source, target, (west, south, east, north))


def to_degrees(
    crs: pyproj.CRS, geographic: pyproj.CRS | str = LONGITUDE_LATITUDE
) -> pyproj.Transformer:
    """Return the way to longitude and latitude.

    Raises
    ------
    DataError
        If the CRS is not tied to the earth, or so strange that there is none.
    """
    try:
        return pyproj.Transformer.from_crs(crs, geographic, always_xy=True)
    except ProjError as err:
        raise DataError(
            f"no way is known from {label(crs)} to longitude and latitude; if the layer states the "
            "wrong CRS, say the right one with `crs`"
        ) from err


def area_of(crs: pyproj.CRS, extent: Sequence[float]) -> tuple[float, float, float, float] | None:
    """Return west, south, east and north of an extent in a CRS, in degrees; None if it has no place."""
    x0, y0, x1, y1 = extent
    across, up = (v.ravel() for v in np.meshgrid(np.linspace(x0, x1, 9), np.linspace(y0, y1, 9)))
    lon, lat = np.asarray(to_degrees(crs).transform(across, up))
    has = np.isfinite(lon) & np.isfinite(lat)
    if not has.any():
        return None
    lon, lat = lon[has], lat[has]
    return (
        float(max(lon.min(), -180)),
        float(max(lat.min(), -90)),
        float(min(lon.max(), 180)),
        float(min(lat.max(), 90)),
    )


def transform(
    column: GeometryColumn, source: pyproj.CRS, target: pyproj.CRS, where: str
) -> GeometryColumn:
    """Return the column with its vertices in another CRS; heights are left as they are.

    Raises
    ------
    DataError
        If vertices cannot be transformed (outside the reach of either CRS), naming the first row.
    """
    way = way_between(source, column.extent(), target)
    there = way.there(column.xy)
    check_places(column, there, way, where)
    return column.with_xy(there)


def check_places(column: GeometryColumn, there: F64Array, way: Way, where: str) -> None:
    """Refuse vertices that have no place over there, naming the first row.

    Raises
    ------
    DataError
        If there are any.
    """
    at = np.flatnonzero(~np.isfinite(there).all(axis=1))
    if len(at):
        first = int(at[0])
        row = int(np.searchsorted(column.vertex_offsets_of_rows, first, side="right"))
        raise DataError(
            f"{where}, row {row}: {column.xy[first, 0]:g}, {column.xy[first, 1]:g} has no place in "
            f"{label(way.target)}; is the CRS of the layer right ({label(way.source)})?"
        )
