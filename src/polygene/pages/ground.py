"""What the packed numbers of a page mean: a grid of whole numbers, and where it lies on the earth."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from polygene import proj
from polygene.arrays import F64Array, I64Array
from polygene.between import to_degrees
from polygene.classes import NamedTuple
from polygene.crs import LONGITUDE_LATITUDE, degrees_of, is_geographic, label, unit
from polygene.distortion import off_ground
from polygene.errors import DataError
from polygene.geometry import Extent
from polygene.measures import EllipsoidRuler, ruler_for
from polygene.pages.blocks import Blocks

FINEST = 1e-4  # metres
STEPS = 2.0**29  # of the grid in what is shown, at most: whole numbers of 32 bits hold it
AROUND = 0.3  # of what is shown, on each side, that longitude and latitude are known for
NODES = (17, 33, 65, 129)
CLOSE = 1e-9  # degrees, 0.1 mm: no more nodes are needed


class Ground(NamedTuple):
    """``origin``: the lower left corner in map units; ``step``: map units between whole numbers."""

    crs: proj.CRS | None
    origin: tuple[float, float]
    step: float
    extent: Extent

    def packed(self, xy: F64Array) -> I64Array:
        """Return (n, 2) places as whole numbers."""
        return np.rint((xy - self.origin) / self.step).astype(np.int64)


def ground_for(crs: proj.CRS | None, extents: Sequence[Extent]) -> Ground:
    """Return the grid for what is shown: of a tenth of a millimetre, or 2^-29 of its size."""
    if not extents:
        return Ground(crs, (0.0, 0.0), 1.0, (0.0, 0.0, 1.0, 1.0))
    bounds = np.asarray(extents)
    low, high = bounds[:, :2].min(axis=0), bounds[:, 2:].max(axis=0)
    size = float((high - low).max())
    finest = FINEST / (ruler_for(crs).map_unit if crs is not None else 1.0)
    least = max(size / STEPS, finest, float(np.abs(bounds).max()) * 2.0**-50)
    power = 10.0 ** math.floor(math.log10(least))
    step = next(part * power for part in (1, 2, 5, 10) if part * power >= least * (1 - 1e-9))
    extent = (float(low[0]), float(low[1]), float(high[0]), float(high[1]))
    return Ground(crs, (extent[0], extent[1]), step, extent)


def described(
    ground: Ground, blocks: Blocks, is_equal_area: bool
) -> tuple[dict[str, Any], list[str]]:
    """Return what the page's script is told of the ground, and what the reader is."""
    crs = ground.crs
    grid, off = (None, 0.0) if crs is None else _grid(ground, crs, blocks)
    ways = _ways(crs, is_equal_area)
    is_plane = ways["lengths"] == ways["areas"] == "plane"
    stretched = off_ground(crs, ground.extent, areas=True, lengths=True)
    if is_plane and stretched:
        ways["words"] += ", which stretches here (see Facts)"
    is_round = is_equal_area or is_geographic(crs)
    decimals = max(0, -math.floor(math.log10(ground.step)))
    shown = 6 if is_round else max(2, math.ceil(math.log10(1e5 / max(ground.step, 1e-9)) / 2) + 1)
    told = {
        "origin": ground.origin,
        "step": ground.step,
        "near": _near(ground),
        "grid": grid,
        "ways": ways,
        "map": {
            "isGeographic": is_round,
            "unit": _unit(crs),
            "digits": min(2, decimals),
        },
        "digits": {"degrees": 9, "map": decimals, "shown": min(shown, 6)},
    }
    return told, [*_words(ground, grid is not None, off), *(stretched if is_plane else [])]


def _near(ground: Ground) -> int:
    """Return how much of the map is shown of a single point: 100 m, or a part of the whole."""
    x0, y0, x1, y1 = ground.extent
    hundred = 100.0 / ruler_for(ground.crs).map_unit
    size = max(x1 - x0, y1 - y0)
    shown = hundred if ground.crs is not None else max(size / 1000, ground.step * 1000)
    return round(min(shown, size or shown) / ground.step)


def _unit(crs: proj.CRS | None) -> str:
    """Return what coordinates are in, the metre as its symbol."""
    if crs is None:
        return "units"
    name = unit(crs)[0]
    return "m" if name == "metre" else name


def _words(ground: Ground, has_grid: bool, off: float) -> list[str]:
    crs = ground.crs
    words = [f"Places are kept within {ground.step / 2:.2g} {_unit(crs)} of where they are."]
    if has_grid and off > 0:
        # Measured in the middle of cells, where cubics are worst or nearly so.
        words.append(f"Longitude and latitude on WGS 84 are right within {2 * off:.1g}°.")
    return words


def _ways(crs: proj.CRS | None, is_equal_area: bool) -> dict[str, Any]:
    """Return how lengths and areas are measured."""
    ruler = ruler_for(crs)
    if crs is None:
        return {"lengths": "plane", "areas": "plane", "factor": 1.0, "unit": "units", "words": ""}
    geod = crs.get_geod() or proj.Geod(ellps="WGS84")
    found = {"a": geod.a, "f": geod.f, "unit": "m", "factor": ruler.map_unit}
    if isinstance(ruler, EllipsoidRuler):
        degrees = degrees_of(crs)  # of what the coordinates are in
        way = {"lengths": "ellipsoid", "areas": "authalic", "words": "on the ellipsoid"}
        return found | way | {"degrees": degrees}
    if is_equal_area:
        return found | {"lengths": "ellipsoid", "areas": "plane", "words": "on the ellipsoid"}
    return found | {"lengths": "plane", "areas": "plane", "words": f"on the plane of {label(crs)}"}


def _grid(ground: Ground, crs: proj.CRS, blocks: Blocks) -> tuple[dict[str, Any] | None, float]:
    """Return longitudes and latitudes at the nodes of a grid, and by how many degrees cubics between
    them are off at most, measured in the middle of each cell."""
    x0, y0, x1, y1 = ground.extent
    room = AROUND * max(x1 - x0, y1 - y0, ground.step * 100)
    box = (x0 - room, y0 - room, x1 + room, y1 + room)
    try:
        way = to_degrees(crs, LONGITUDE_LATITUDE)
    except DataError:
        return None, 0.0
    for n in NODES:
        nodes = _degrees(way, box, np.linspace(0, 1, n))
        off = _off(nodes, _degrees(way, box, (np.arange(n - 1) + 0.5) / (n - 1)))
        if off <= CLOSE:
            break
    if not np.isfinite(nodes).any():
        return None, 0.0
    low = ground.packed(np.array([box[:2]]))[0].tolist()
    high = ground.packed(np.array([box[2:]]))[0].tolist()
    return {"box": low + high, "wide": n, "tall": n, "block": blocks.add_floats(nodes.ravel())}, off


def _degrees(way: proj.Transformer, box: Extent, shares: F64Array) -> F64Array:
    """Return (n, n, 2) longitude and latitude, row by row; past the 180th meridian they run on."""
    x = box[0] + (box[2] - box[0]) * shares
    y = box[1] + (box[3] - box[1]) * shares
    across, up = np.meshgrid(x, y)
    found = np.stack(way.transform(across, up), axis=-1)
    found[~np.isfinite(found).all(axis=-1)] = np.nan
    for axis in (0, 1):
        turns = np.nan_to_num(np.rint(np.diff(found[..., 0], axis=axis) / 360)).cumsum(axis=axis)
        found[..., 0] -= 360 * np.insert(turns, 0, 0.0, axis=axis)
    return found


def _off(nodes: F64Array, middles: F64Array) -> float:
    """Return how far cubics through nodes are from what is right, in the middle of inner cells."""
    weights = np.array([-1, 9, 9, -1]) / 16

    def along(values: F64Array, axis: int) -> F64Array:
        n = values.shape[axis] - 3
        parts = [np.take(values, np.arange(k, k + n), axis=axis) for k in range(4)]
        return sum(w * part for w, part in zip(weights, parts, strict=True))

    apart = along(along(nodes, 0), 1) - middles[1:-1, 1:-1]
    apart[..., 0] -= 360 * np.rint(apart[..., 0] / 360)
    return float(np.nanmax(np.abs(apart), initial=0.0)) if np.isfinite(apart).any() else 0.0
