"""Coordinate arrays of GeoJSON to parts, flattened level by level without a loop of our own."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import chain
from operator import methodcaller
from typing import Any

import numpy as np

from polygene.arrays import F64Array, I64Array, offsets_from
from polygene.geometry import Family
from polygene.text.assemble import Parts

# Type: family, and whether one geometry holds several parts.
TYPES = {
    "Point": (Family.POINTS, False),
    "MultiPoint": (Family.POINTS, True),
    "LineString": (Family.LINES, False),
    "MultiLineString": (Family.LINES, True),
    "Polygon": (Family.POLYGONS, False),
    "MultiPolygon": (Family.POLYGONS, True),
}
DEEPEST = 32


def parts_of(kind: str, coordinates: Sequence[Any], rows: I64Array) -> Parts:
    """Flatten the coordinates of geometries of one type.

    Raises
    ------
    TypeError, ValueError
        If some are not what the type demands; `fault_of` says which.
    """
    family, is_multi = TYPES[kind]
    parts = list(coordinates)
    if is_multi:
        rows = np.repeat(rows, _lengths(parts))
        parts = _flat(parts)
    else:
        is_full = _lengths(parts) > 0
        if not is_full.all():  # empty geometries
            rows = rows[is_full]
            parts = [part for part in parts if part]
    one = np.ones(len(parts), np.int64)
    if family == Family.POLYGONS:
        ring_counts = _lengths(parts)
        rings = _flat(parts)
        vertex_counts = _lengths(rings)
        positions = _flat(rings)
    elif family == Family.LINES:
        ring_counts, vertex_counts, positions = one, _lengths(parts), _flat(parts)
    else:
        ring_counts, vertex_counts, positions = one, one, parts
    xy, z = _columns(positions)
    n_longer = 0 if z is None else int((_lengths(positions) > 3).sum())
    return Parts(family, rows, ring_counts, vertex_counts, xy, z, n_longer=n_longer)


def _lengths(items: Sequence[Any]) -> I64Array:
    return np.fromiter(map(len, items), np.int64, len(items))


def _flat(items: Iterable[Any]) -> list[Any]:
    return list(chain.from_iterable(items))


def _columns(positions: Sequence[Any]) -> tuple[F64Array, F64Array | None]:
    """Return xy and z of positions; what a position has beyond three numbers is left out."""
    sizes = _lengths(positions)
    total = int(sizes.sum())
    # Conversion alone would let true, null and "12" pass for numbers.
    if not set(map(type, chain.from_iterable(positions))) <= {float, int}:
        raise ValueError("a coordinate that is not a number")
    flat = np.fromiter(chain.from_iterable(positions), np.float64, total)
    if (sizes == 2).all():
        return flat.reshape(-1, 2), None
    if (sizes < 2).any():
        raise ValueError("a position of less than two numbers")
    starts = offsets_from(sizes)[:-1]
    xy = np.stack([flat[starts], flat[starts + 1]], axis=1)
    z = np.full(len(sizes), np.nan)
    z[sizes > 2] = flat[starts[sizes > 2] + 2]
    return xy, z


def fault_of(kind: str, coordinates: Any) -> str | None:
    """Say what is wrong with the coordinates of one geometry; None if nothing is."""
    family, is_multi = TYPES[kind]
    levels = int(family) + is_multi if family != Family.POLYGONS else 2 + is_multi
    return _fault(coordinates, levels)


def _fault(value: Any, levels: int) -> str | None:
    if not isinstance(value, list):
        return "its coordinates are not nested as its type demands"
    if levels:
        return next(filter(None, (_fault(item, levels - 1) for item in value)), None)
    if value and len(value) < 2:
        return "a position has less than two numbers"
    if not all(isinstance(v, (int, float)) and not isinstance(v, bool) for v in value):
        return "a coordinate is not a number"
    return None


def unpacked(geometry: Any, depth: int = 0) -> list[Any]:
    """Return the simple geometries in a collection, at whatever depth."""
    if depth > DEEPEST:
        raise ValueError("collections are nested too deeply")
    if geometry.get("type") != "GeometryCollection":
        return [geometry]
    members = geometry.get("geometries")
    if not isinstance(members, list):
        raise ValueError("a collection has no list of geometries")
    return _flat(unpacked(member, depth + 1) for member in members)


get_type = methodcaller("get", "type")
get_coordinates = methodcaller("get", "coordinates")
get_geometry = methodcaller("get", "geometry")
get_properties = methodcaller("get", "properties")
get_id = methodcaller("get", "id")
