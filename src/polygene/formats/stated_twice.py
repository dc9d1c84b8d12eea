"""A CRS that a file states twice: by a code, which is taken, and by a definition beside it."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from polygene import proj
from polygene.arrays import F64Array
from polygene.crs import degrees_of, is_geographic, is_same, label, parse
from polygene.crs_coded import definition_with
from polygene.errors import DataError
from polygene.formats.definitions import is_known
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.notes import Warned
from polygene.units import METRES_PER_DEGREE, metres_worded

SAME_PLACE = 1.0  # metres; definitions differ in the digits of their numbers, and in names


def contradicted(layer: Layer) -> list[str]:
    """Return what there is to say where the definition lays a layer elsewhere than the code does.

    Not where it says the same in other words, cannot be read, or is of another datum only: places are
    compared as each CRS has them on its own ellipsoid.
    """
    given, crs = definition_with(layer.crs), layer.crs
    if crs is None or not given or is_known(crs, given):
        return []
    if not {"[", "{"} & set(given):  # no definition: PROJ would look for such a name, half a second
        return []
    extent = layer.geometry.extent()
    if extent is None:
        return []
    try:
        other = parse(given)
    except DataError:
        return []
    if is_same(crs, other):
        return []
    try:
        here, there = (_places_by(one, extent) for one in (crs, other))
    except proj.ProjError:  # a method that PROJ does not have
        return []
    if not np.isfinite(here).all():
        return []
    is_there = bool(np.isfinite(there).all())
    off = _metres(here, there) if is_there else math.inf
    if off <= SAME_PLACE:
        return []
    where = f"{metres_worded(off)} elsewhere" if is_there else "where no place on the earth is"
    return [
        Warned(
            f"{layer.name}: the file states its CRS twice, as {label(crs)} and by a definition of "
            f"another, {other.name!r}, by which it lies {where}; the code is taken"
        )
    ]


def _places_by(crs: proj.CRS, extent: Extent) -> F64Array:
    """Return longitudes from Greenwich and latitudes, in degrees, of the corners of an extent and of
    its middle, (5, 2), on the ellipsoid of the CRS; not finite where they have none.
    """
    x0, y0, x1, y1 = extent
    x, y = np.array([x0, x1, x1, x0, (x0 + x1) / 2]), np.array([y0, y0, y1, y1, (y0 + y1) / 2])
    geodetic = crs if is_geographic(crs) else crs.geodetic_crs
    if geodetic is None:
        return np.full((5, 2), np.nan)
    if geodetic is not crs:
        x, y = proj.Transformer.from_crs(crs, geodetic, always_xy=True).transform(x, y)
    meridian: Any = geodetic.prime_meridian
    begin = math.degrees(meridian.longitude * meridian.unit_conversion_factor) if meridian else 0.0
    found: F64Array = np.stack([x, y], axis=1) * degrees_of(geodetic) + (begin, 0.0)
    found[np.abs(found[:, 1]) > 90.0 + 1e-9] = np.nan
    return found


def _metres(here: F64Array, there: F64Array) -> float:
    """Return how far places are from those of others at most, about, on a sphere."""
    turn, rise = (there - here).T
    turn = (turn + 180.0) % 360.0 - 180.0
    narrow = np.cos(np.radians(here[:, 1]))
    return float(np.hypot(turn * narrow, rise).max() * METRES_PER_DEGREE)
