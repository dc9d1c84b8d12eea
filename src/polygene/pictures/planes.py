"""Planes that layers in degrees are shown on: degrees are no lengths, so a map in them is stretched."""

from __future__ import annotations

import numpy as np

from polygene import proj
from polygene.crs import degrees_of, is_geographic
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.longitudes import opened

WIDEST = 120.0  # degrees across or up that a plane is good for
REACH = 75.0  # degrees about its middle


def plane_for(first: Layer, box: Extent | None) -> proj.CRS | None:
    """Return an equal-area plane about the middle of a layer in degrees (Snyder 1987, p. 182).

    None if it is not in degrees, or spans too much of the earth for any plane.
    """
    crs = first.crs
    if crs is None or not is_geographic(crs):
        return None
    extent = box or _extent(first)
    if extent is None:
        return None
    west, south, east, north = (value * degrees_of(crs) for value in extent)
    if east - west > WIDEST or north - south > WIDEST or max(abs(south), abs(north)) > 90:
        return None
    longitude = round((west + east) / 2 + 180, 1) % 360 - 180
    latitude = round((south + north) / 2, 1)
    north_south, east_west = "NS"[latitude < 0], "EW"[longitude < 0]
    where = f"{abs(latitude):g}° {north_south}, {abs(longitude):g}° {east_west}"
    return proj.ProjectedCRS(
        proj.LambertAzimuthalEqualAreaConversion(latitude, longitude),
        name=f"an equal-area plane about {where}",
        geodetic_crs=crs.geodetic_crs,
    )


def reaches(plane: proj.CRS, layer: Layer) -> bool:
    """Whether all of a layer in degrees lies near enough to the middle of a plane."""
    extent = _extent(layer)
    if extent is None or layer.crs is None or not is_geographic(layer.crs):
        return False
    operation = plane.coordinate_operation
    assert operation is not None
    latitude, longitude = [p.value for p in operation.params][:2]
    west, south, east, north = np.array(extent) * degrees_of(layer.crs)
    away = np.array([west, east]) - longitude
    away -= 360 * np.rint(away.mean() / 360)
    up = np.array([south, north]) - latitude
    return bool((np.abs(away) < REACH).all() and (np.abs(up) < REACH).all())


def _extent(layer: Layer) -> Extent | None:
    """Return the extent of a layer, its longitudes cut open where nothing is."""
    found = opened(layer, np.zeros(layer.n_rows, np.int64), 1).column.extent()
    return found
