"""Coordinate reference systems: reading, naming, comparing (pyproj).

Coordinates are always in the order x, y: easting or longitude first, whatever the CRS says. Formats
that store another order turn them at their own border.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence

from polygene import proj
from polygene.crs_coded import CodedCRS, coded, is_listed
from polygene.errors import DataError

LONGITUDE_LATITUDE = "OGC:CRS84"
CRS84 = "http://www.opengis.net/def/crs/OGC/1.3/CRS84"  # the same as a URI

# PROJ's words for those that are found by their name.
_NAMED = {"Projected CRS", "Geographic 2D CRS"}


def parse(text: str, definition: str = "") -> proj.CRS:
    """Return the CRS that a user or file means: an authority's code, WKT or PROJJSON.

    ``definition`` is what a file says beside a code; it is kept with the CRS and not looked at.

    Raises
    ------
    DataError
        If it is none that pyproj knows.
    """
    if (known := coded(text, definition)) is not None:
        return known
    short = text if len(text) <= 60 else text[:57] + "..."
    try:
        found = proj.CRS.from_user_input(text)
    except proj.CRSError as err:
        raise DataError(
            f"{short!r} is no CRS that is known here; give an authority's code such as EPSG:32633, "
            "or a WKT definition"
        ) from err
    if not is_of_places(found):
        kind = found.type_name.replace(" CRS", "").lower()
        raise DataError(
            f"{short!r} ({found.name}) is a {kind} CRS, and a layer needs one of a plane, or of "
            "longitude and latitude"
        )
    return found


def is_of_places(crs: proj.CRS) -> bool:
    """Whether the first two coordinates are of a plane, or longitude and latitude."""
    return not crs.is_geocentric and len(crs.axis_info) != 1  # one axis: of heights, or of times


def label(crs: proj.CRS | None) -> str:
    """Return a short name: the authority's code with the name, or the name alone."""
    if crs is None:
        return "no CRS"
    authority = code(crs)
    return f"{':'.join(authority)} {crs.name}" if authority else crs.name


def code(crs: proj.CRS) -> tuple[str, str] | None:
    """Return authority and code if the definition is exactly that one's."""
    if isinstance(crs, CodedCRS):
        return crs.to_authority()
    return _code_by_proj(crs)


@functools.lru_cache(maxsize=64)
def _code_by_proj(crs: proj.CRS) -> tuple[str, str] | None:
    # PROJ looks through all it knows, for half a second, and is sure of no CRS but one that states its
    # code or has the very name of another.
    is_odd = crs.type_name in _NAMED and not is_listed(crs.name)
    if is_odd and not {"id", "ids"} & crs.to_json_dict().keys():
        return None
    found = crs.to_authority(min_confidence=100)
    return (str(found[0]), str(found[1])) if found else None


def of_uri(uri: str) -> proj.CRS:
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


def to_uri(crs: proj.CRS | None) -> str:
    """Return the URI of a CRS; that of longitude and latitude if it has no code."""
    own = None if crs is None else code(crs)
    if own is None or own[0] == "OGC":
        return CRS84
    return f"http://www.opengis.net/def/crs/{own[0]}/0/{own[1]}"


def begins_north(crs: proj.CRS) -> bool:
    """Whether coordinates have the northing, or latitude, first as the authority of a CRS says."""
    axes = crs.axis_info
    return bool(axes) and axes[0].direction.lower() in ("north", "south")


def is_same(a: proj.CRS | None, b: proj.CRS | None) -> bool:
    """Whether coordinates mean the same in both; the order of axes does not matter here."""
    if a is None or b is None:
        return a is b
    return a.equals(b, ignore_axis_order=True)


def unit(crs: proj.CRS | None) -> tuple[str, float]:
    """Return the name of the coordinates' unit and its size in metres, or in radians."""
    if crs is None or not crs.axis_info:
        return "units", 1.0
    axis = crs.axis_info[0]
    return axis.unit_name, axis.unit_conversion_factor


def is_geographic(crs: proj.CRS | None) -> bool:
    """Whether coordinates are longitude and latitude."""
    return crs is not None and bool(crs.axis_info) and crs.is_geographic


def degrees_of(crs: proj.CRS) -> float:
    """Return how many degrees one unit of a geographic CRS is: 1, or 0.9 for gon."""
    return math.degrees(crs.axis_info[0].unit_conversion_factor)


def turn_of(crs: proj.CRS | None) -> float:
    """Return how many units of longitude go round the earth; 0 where coordinates are of a plane."""
    return 360.0 / degrees_of(crs) if crs is not None and is_geographic(crs) else 0.0


def is_from(crs: proj.CRS, methods: Sequence[str]) -> bool:
    """Whether a map is made by a method with one of some names, in small letters, in its own."""
    operation = crs.coordinate_operation
    name = "" if operation is None else (operation.method_name or "").lower()
    return any(method in name for method in methods)


def ellipsoid(crs: proj.CRS) -> proj.Geod:
    """Return the ellipsoid of a CRS; that of WGS 84 where it names none."""
    return crs.get_geod() or proj.Geod(ellps="WGS84")
