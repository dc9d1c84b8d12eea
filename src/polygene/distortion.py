"""How lengths and areas on the plane of a CRS lie to those on the ground."""

from __future__ import annotations

import functools
from typing import NamedTuple

import numpy as np
import pyproj

from polygene.arrays import F64Array
from polygene.crs import degrees_of, ellipsoid, is_geographic, label
from polygene.geometry import Extent
from polygene.notes import Warned

WORTH_TELLING = 1.02  # a fiftieth: what CRS of regions keep below where they are for
STEPS = 7  # places across and up that are looked at


class Scales(NamedTuple):
    """What a length and an area on the plane are in those on the ground, the least and the most."""

    least_length: float
    most_length: float
    least_area: float
    most_area: float


def scales(crs: pyproj.CRS | None, extent: Extent | None) -> Scales | None:
    """Return how a projected CRS stretches lengths and areas within an extent of its own.

    By Tissot's indicatrix (Snyder 1987, p. 20 to 26) at places all over it. None where it is not
    projected, or none of these has a place on the earth.
    """
    if crs is None or extent is None or is_geographic(crs) or not crs.is_projected:
        return None
    plane = _plane(crs)
    if plane is None:
        return None
    x, y = np.meshgrid(
        np.linspace(extent[0], extent[2], STEPS), np.linspace(extent[1], extent[3], STEPS)
    )
    lon, lat = plane.degrees(x.ravel(), y.ravel())
    found = plane.projection.get_factors(lon, lat, errcheck=False)
    with np.errstate(invalid="ignore"):
        long, short, area = (
            np.asarray(values)
            for values in (found.tissot_semimajor, found.tissot_semiminor, found.areal_scale)
        )
        is_known = np.isfinite(long) & np.isfinite(area) & (short > 0) & (area > 0)
    if not is_known.any():
        return None
    least, most = short[is_known].min(), long[is_known].max()
    return Scales(
        float(least), float(most), float(area[is_known].min()), float(area[is_known].max())
    )


def on_the_ground(crs: pyproj.CRS | None, x: float, y: float, step: float) -> float | None:
    """Return how many metres of ground are in one map unit, to the right of a place, within a step.

    None where the CRS is not projected, or the place is none on the earth.
    """
    plane = None if crs is None or not crs.is_projected else _plane(crs)
    if crs is None or plane is None:
        return None
    lon, lat = plane.degrees(np.array([x - step / 2, x + step / 2]), np.array([y, y]))
    if not np.isfinite([*lon, *lat]).all():
        return None
    metres = ellipsoid(crs).inv(lon[0], lat[0], lon[1], lat[1])[2]
    return float(metres) / step if metres > 0 else None


class _Plane(NamedTuple):
    """A projection, the way back from its plane, and what of a degree that gives.

    Degrees are those of its own meridian, which the projection counts from too.
    """

    projection: pyproj.Proj
    back: pyproj.Transformer
    unit: float

    def degrees(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        lon, lat = self.back.transform(x, y)
        return np.asarray(lon) * self.unit, np.asarray(lat) * self.unit


@functools.lru_cache(maxsize=16)
def _plane(crs: pyproj.CRS) -> _Plane | None:
    degrees = crs.geodetic_crs
    if degrees is None:
        return None
    try:
        back = pyproj.Transformer.from_crs(crs, degrees, always_xy=True)
        return _Plane(pyproj.Proj(crs), back, degrees_of(degrees))
    except pyproj.exceptions.ProjError:
        return None


def off_ground(
    crs: pyproj.CRS | None, extent: Extent | None, *, areas: bool = False, lengths: bool = False
) -> list[str]:
    """Return what there is to say of areas and lengths that are measured on the plane of a CRS."""
    found = scales(crs, extent) if areas or lengths else None
    if crs is None or found is None:
        return []
    said = []
    if areas and (by := _told(found.least_area, found.most_area)):
        said.append(("areas", by))
    if lengths and (by := _told(found.least_length, found.most_length)):
        said.append(("lengths and distances", by))
    if not said:
        return []
    (what, by), *more = said
    also = "".join(f", {other} {times}" for other, times in more)
    return [
        Warned(
            f"{what} on the plane of {label(crs)} are {by} times those on the ground in this extent"
            f"{also}; reproject to a CRS for the region, or to OGC:CRS84, in which they are measured "
            "on the ellipsoid"
        )
    ]


def _told(least: float, most: float) -> str:
    """Return how many times something is what it is on the ground; nothing if it is hardly so."""
    if max(most, 1 / least) < WORTH_TELLING:
        return ""
    a, b = (f"{value:.3g}" for value in (least, most))
    return a if a == b else f"{a} to {b}"
