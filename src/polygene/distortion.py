"""How lengths and areas on the plane of a CRS lie to those on the ground."""

from __future__ import annotations

import functools
import math

import numpy as np

from polygene import proj
from polygene.arrays import F64Array
from polygene.classes import NamedTuple
from polygene.crs import degrees_of, ellipsoid, is_geographic, label
from polygene.crs_coded import conversion_of
from polygene.geometry import Extent
from polygene.notes import Warned

WORTH_TELLING = 1.02  # a fiftieth: what CRS of regions keep below where they are for
TRANSVERSE_MERCATOR, SCALE_FACTOR, FALSE_EASTING = "9807", "8805", "8806"  # the EPSG's codes
LEAST_RADIUS = 6.3e6  # metres; no ellipsoid of the earth is curved more
STEPS = 7  # places across and up that are looked at


class Scales(NamedTuple):
    """What a length and an area on the plane are in those on the ground, the least and the most."""

    least_length: float
    most_length: float
    least_area: float
    most_area: float


def scales(crs: proj.CRS | None, extent: Extent | None) -> Scales | None:
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


def is_surely_true(crs: proj.CRS, extent: Extent) -> bool:
    """Whether it is known without PROJ that a map stretches nothing by what is worth telling.

    Of transverse Mercator's maps, of which it is far from the middle only that counts: on a sphere
    the scale is k0 cosh(x / k0 R) (Snyder 1987, eq. 8-4), and a radius below those of curvature
    gives no less than the ellipsoid has.
    """
    conversion = conversion_of(crs)
    if conversion is None or conversion.method != TRANSVERSE_MERCATOR:
        return False
    middle, k0 = (conversion.values.get(code) for code in (FALSE_EASTING, SCALE_FACTOR))
    if middle is None or not k0:
        return False
    if {axis.direction for axis in crs.axis_info} != {"east", "north"}:
        return False
    metre = crs.axis_info[0].unit_conversion_factor
    far = max(abs(x * metre - middle) for x in (extent[0], extent[2])) / (k0 * LEAST_RADIUS)
    if not far < 1:  # not a number, too
        return False
    return max((k0 * math.cosh(far)) ** 2, k0**-2) < WORTH_TELLING


def on_the_ground(crs: proj.CRS | None, x: float, y: float, step: float) -> float | None:
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

    projection: proj.Proj
    back: proj.Transformer
    unit: float

    def degrees(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        lon, lat = self.back.transform(x, y)
        return np.asarray(lon) * self.unit, np.asarray(lat) * self.unit


@functools.lru_cache(maxsize=16)
def _plane(crs: proj.CRS) -> _Plane | None:
    degrees = crs.geodetic_crs
    if degrees is None:
        return None
    try:
        back = proj.Transformer.from_crs(crs, degrees, always_xy=True)
        return _Plane(proj.Proj(crs), back, degrees_of(degrees))
    except proj.ProjError:
        return None


def off_ground(
    crs: proj.CRS | None, extent: Extent | None, *, areas: bool = False, lengths: bool = False
) -> list[str]:
    """Return what there is to say of areas and lengths that are measured on the plane of a CRS."""
    if crs is None or extent is None or is_surely_true(crs, extent):
        return []
    found = scales(crs, extent) if areas or lengths else None
    if found is None:
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
