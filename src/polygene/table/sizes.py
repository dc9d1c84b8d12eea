"""The functions of expressions that measure geometry."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from polygene.arrays import F64Array
from polygene.classes import NamedTuple
from polygene.errors import UsageError
from polygene.units import AREAS, METRES

if TYPE_CHECKING:
    from polygene.layer import Layer


class GeometryFunction(NamedTuple):
    """A measure of each feature; with a unit in brackets or without."""

    units: dict[str, float]
    does: str
    compute: Callable[[Layer, str | None], F64Array]


def _areas(layer: Layer, unit: str | None) -> F64Array:
    from polygene.measures import row_areas, ruler_for

    ruler = ruler_for(layer.crs)
    if layer.geometry.family != 2:
        return np.zeros(layer.n_rows)
    return row_areas(layer.geometry, ruler) / _size(AREAS, unit, ruler.unit)


def _lengths(family: int) -> Callable[[Layer, str | None], F64Array]:
    def compute(layer: Layer, unit: str | None) -> F64Array:
        from polygene.measures import row_lengths, ruler_for

        ruler = ruler_for(layer.crs)
        if layer.geometry.family != family:
            return np.zeros(layer.n_rows)
        return row_lengths(layer.geometry, ruler) / _size(METRES, unit, ruler.unit)

    return compute


def _size(units: dict[str, float], unit: str | None, known: str) -> float:
    if unit is None:
        return 1.0
    if known != "m":
        raise UsageError(f"the layer has no CRS, so nothing is known in {unit}; leave the unit out")
    return units[unit]


def _coordinate(axis: int) -> Callable[[Layer, str | None], F64Array]:
    def compute(layer: Layer, unit: str | None) -> F64Array:
        from polygene.places import centroids_of

        return centroids_of(layer)[:, axis]

    return compute


def _vertices(layer: Layer, unit: str | None) -> F64Array:
    return np.diff(layer.geometry.vertex_offsets_of_rows).astype(np.float64)


def _parts(layer: Layer, unit: str | None) -> F64Array:
    return np.diff(layer.geometry.row_offsets).astype(np.float64)


GEOMETRY_FUNCTIONS = {
    "area": GeometryFunction(AREAS, "the area, in square metres or a unit: area(ha)", _areas),
    "length": GeometryFunction(METRES, "the length of lines, in metres: length(km)", _lengths(1)),
    "perimeter": GeometryFunction(METRES, "the length of all rings of a polygon", _lengths(2)),
    "centroid_x": GeometryFunction({}, "the x (or longitude) of the centroid", _coordinate(0)),
    "centroid_y": GeometryFunction({}, "the y (or latitude) of the centroid", _coordinate(1)),
    "vertices": GeometryFunction({}, "how many vertices", _vertices),
    "parts": GeometryFunction({}, "how many parts", _parts),
}
COUNTED = ("vertices", "parts")
