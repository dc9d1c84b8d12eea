"""The waters of the earth as a commission that does not exist reports them: areas that cover all of it.

In longitude and latitude, with long edges, parted at the 180th meridian and ending at the poles, as
RFC 7946 asks: what a study area in some projected CRS is laid over in real work.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import crs as crs_module
from polygene.arrays import F64Array
from polygene.formats import geojson
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.ops.dissolve import dissolve
from polygene.sample import shapes

SEED = 20261
COLUMNS, ROWS = 24, 12  # cells of 15 degrees
STEPS = 6  # edges of a border between two corners
AREAS = 40
SWAY = 0.2  # of a cell
_FIRST = ["North", "South", "Outer", "Inner", "Great", "Little", "Cold", "Grey", "Long", "Far"]
_LAST = ["Vaskel", "Osk", "Tolva", "Kelda"]


def waters(columns: int = COLUMNS, rows: int = ROWS, areas: int = AREAS, seed: int = SEED) -> Layer:
    """Return the waters; every place on the earth lies in one, or on the border of some."""
    rng = np.random.default_rng(seed)
    corners = shapes.grid_corners(columns, rows, rng, SWAY)
    size = np.array([360 / columns, 180 / rows])
    corners = corners * size - (180, 90)
    for at, value in ((0, -180), (-1, 180)):
        corners[at, :, 0] = value
    corners[-1, :, 1] = corners[0, :, 1]  # the two sides of the meridian meet
    corners[:, 0, 1], corners[:, -1, 1] = -90, 90
    cells = shapes.lattice(np.round(corners, 4), STEPS, rng).cells
    rings = [[[_straight_at_the_ends(np.round(cell, 4), corners.round(4))]] for cell in cells]
    middles = np.array([ring[0][0][:-1].mean(axis=0) for ring in rings])
    seeds = middles[rng.choice(len(middles), min(areas, len(middles)), replace=False)]
    owner = np.hypot(*(middles[:, None] - seeds[None]).T).argmin(axis=0)
    codes = [f"W{k + 1:02d}" for k in owner]
    names = [f"{_FIRST[k % 10]} {_LAST[k // 10 % 4]} Water" for k in owner]
    layer = Layer(
        "waters",
        GeometryColumn.from_rings(rings, Family.POLYGONS),
        pa.table({"code": codes, "name": names}),
        crs_module.parse(crs_module.LONGITUDE_LATITUDE),
        title="Reporting waters",
    )
    return dissolve(layer, ["code"]).layer


def _straight_at_the_ends(ring: F64Array, corners: F64Array) -> F64Array:
    """Return a cell whose sides at the 180th meridian and the poles have no vertices in between."""
    known = {tuple(p) for p in corners.reshape(-1, 2).tolist()}
    sides = ((0, -180.0), (0, 180.0), (1, -90.0), (1, 90.0))
    is_corner = np.array([tuple(p) in known for p in ring.tolist()])
    keeps = np.ones(len(ring), bool)
    at = np.flatnonzero(is_corner)
    for first, last in zip(at[:-1], at[1:], strict=True):
        for axis, value in sides:
            if ring[first, axis] == value and ring[last, axis] == value:
                keeps[first + 1 : last] = False
    return ring[keeps]


def write(folder: Path) -> Path:
    """Write ``waters.geojson`` into a folder that is there.

    Raises
    ------
    FileError
        If it cannot be written.
    """
    path = folder / "waters.geojson"
    geojson.write(path, [waters()])
    return path
