"""Layers as Arrow tables: geometry as nested lists of coordinates, told by GeoArrow's extension names.

https://geoarrow.org/format.html and /extension-types.html: the types ``geoarrow.point`` to
``geoarrow.multipolygon`` with separated coordinates, the CRS as PROJJSON.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
import orjson
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array
from polygene.geometry import Family, GeometryColumn

if TYPE_CHECKING:
    from pyproj import CRS

PREFIX = "geoarrow."
NAME, ABOUT = b"ARROW:extension:name", b"ARROW:extension:metadata"
GEOMETRY = "geometry"  # the name of the column, unless a field has it
_NAMES = {Family.POINTS: "point", Family.LINES: "linestring", Family.POLYGONS: "polygon"}


def table_of(
    geometry: GeometryColumn,
    table: pa.Table,
    crs: CRS | None,
    metadata: Mapping[str, str] | None = None,
) -> pa.Table:
    """Return attributes and geometry as one table, the geometry last."""
    about = {} if crs is None else {"crs": crs.to_json_dict(), "crs_type": "projjson"}
    own = {NAME: (PREFIX + encoding_of(geometry)).encode(), ABOUT: orjson.dumps(about)}
    name = GEOMETRY
    while name in table.column_names:
        name += "_"
    lists = lists_of(geometry)
    columns = [*table.columns, lists] if table.num_columns else [lists]
    fields = [*table.schema] if table.num_columns else []
    schema = pa.schema([*fields, pa.field(name, lists.type, metadata=own)], metadata=metadata)
    return pa.table(columns, schema)


def encoding_of(geometry: GeometryColumn) -> str:
    """Return the name of the encoding: ``polygon``, ``multipoint`` ..."""
    return ("multi" if geometry.is_multi else "") + _NAMES[geometry.family]


def lists_of(geometry: GeometryColumn) -> pa.Array:
    """Return geometry as nested lists of coordinates; an empty point is of NaNs."""
    axes = {"x": geometry.xy[:, 0], "y": geometry.xy[:, 1], "z": geometry.z, "m": geometry.m}
    there = {name: np.ascontiguousarray(v) for name, v in axes.items() if v is not None}
    fields = [pa.field(name, pa.float64(), nullable=False) for name in there]
    levels = _levels(geometry)
    mask = pc.column(geometry.is_null)
    if not levels:
        has = np.diff(geometry.row_offsets) > 0
        columns = []
        for values in there.values():
            own = np.full(geometry.n_rows, np.nan)
            own[has] = values
            columns.append(pc.column(own))
        return pa.StructArray.from_arrays(columns, fields=fields, mask=mask)
    coordinates = pa.StructArray.from_arrays([pc.column(v) for v in there.values()], fields=fields)
    found = coordinates
    for offsets in levels[:-1]:
        found = _list(offsets, found)
    return _list(levels[-1], found, mask)


def features_of(geometry: GeometryColumn, table: pa.Table) -> list[dict[str, Any]]:
    """Return rows as the features of GeoJSON's shape, coordinates as they are."""
    kind = {"point": "Point", "linestring": "LineString", "polygon": "Polygon"}
    name = encoding_of(geometry).removeprefix("multi")
    name = ("Multi" if geometry.is_multi else "") + kind[name]
    shapes = [None if own is None else _plain(own) for own in lists_of(geometry).to_pylist()]
    rows = table.to_pylist() if table.num_columns else [{} for _ in shapes]
    return [
        {
            "type": "Feature",
            "properties": row,
            "geometry": None if own is None else {"type": name, "coordinates": own},
        }
        for row, own in zip(rows, shapes, strict=True)
    ]


def _plain(nested: Any) -> Any:
    """Return coordinates as tuples, in lists as they were; an empty point has none."""
    if isinstance(nested, list):
        return [_plain(one) for one in nested]
    return tuple(v for v in nested.values() if v == v)


def _levels(geometry: GeometryColumn) -> list[I64Array]:
    """Return the offsets of the lists round the coordinates, the innermost first."""
    vertices_of_parts = geometry.ring_offsets[geometry.part_offsets]
    if geometry.family == Family.POINTS:
        return [geometry.row_offsets] if geometry.is_multi else []
    if geometry.family == Family.LINES:
        if geometry.is_multi:
            return [vertices_of_parts, geometry.row_offsets]
        return [vertices_of_parts[geometry.row_offsets]]
    if geometry.is_multi:
        return [geometry.ring_offsets, geometry.part_offsets, geometry.row_offsets]
    return [geometry.ring_offsets, geometry.ring_offsets_of_rows]


def _list(offsets: I64Array, values: pa.Array, mask: pa.Array | None = None) -> pa.Array:
    """Return a list array; of 32-bit offsets, as most readers want, where they are enough."""
    is_small = not len(offsets) or int(offsets[-1]) < 2**31
    kind = pa.ListArray if is_small else pa.LargeListArray
    own = pc.column(offsets.astype(np.int32 if is_small else np.int64, copy=False))
    return kind.from_arrays(own, values, mask=mask)
