"""Writing GeoJSON: RFC 7946, one feature a line."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import orjson
import pyarrow as pa

from polygene import computing as pc
from polygene import crs as crs_module
from polygene.between import check_places, way_between
from polygene.commit.together import replacing
from polygene.errors import DataError
from polygene.formats import moments
from polygene.formats.base import Way, Written, collecting_no_garbage, only_one
from polygene.formats.columns import check_finite, not_kept
from polygene.geometry import Family, GeometryColumn
from polygene.globe.meridian import heights_lost, on_the_globe
from polygene.layer import Layer
from polygene.longitudes import goes_beyond
from polygene.notes import Changed, Lost, Warned, counted
from polygene.table.casting import as_text
from polygene.table.types import is_blob
from polygene.text.nested import JSON, joined, nested
from polygene.winding import turned

CHUNK = 20_000  # features turned into text at a time
DECIMALS = 9  # of transformed degrees: a tenth of a millimetre
_NAMES = {Family.POINTS: "Point", Family.LINES: "LineString", Family.POLYGONS: "Polygon"}


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write the one layer, whole or not at all.

    Raises
    ------
    DataError
        If there are several, or the layer has no CRS.
    FileError
        If it cannot be written.
    """
    written, chunks = chunks_of(path, layers)
    with replacing(path) as temporary, temporary.open("wb") as file, collecting_no_garbage():
        file.write(b'{"type":"FeatureCollection","features":[')
        for k, features in enumerate(chunks):
            file.write(b",\n" if k else b"\n")
            file.write(b",\n".join(features))
        file.write(b"\n]}\n")
    return written


def chunks_of(path: Path, layers: Sequence[Layer]) -> tuple[Written, Iterator[Iterator[bytes]]]:
    """Return what is to be told, and the texts of features some thousands at a time.

    Raises
    ------
    DataError
        If there are several layers, or it has no CRS.
    """
    layer, notes = to_degrees(only_one(path, layers, "a GeoJSON file"))
    geometry = turned(layer.geometry, outer_is_counter_clockwise=True)  # section 3.1.6
    kept = not_kept(layer, keeps_nan=False, keeps_infinite=False)
    notes += kept.notes
    if geometry.m is not None:
        geometry = replace(geometry, m=None)
        notes.append(Lost(f"{layer.name}: M values dropped, GeoJSON has no place for them"))

    def chunks() -> Iterator[Iterator[bytes]]:
        for start in range(0, layer.n_rows, CHUNK):
            stop = min(start + CHUNK, layer.n_rows)
            table = layer.table.slice(start, stop - start)
            ids = None if layer.ids is None else layer.ids[start:stop].tolist()
            yield texts_of_features(geometry.slice_rows(start, stop), table, ids, stop - start)

    way = Way(kept.fields, keeps_types=False)
    return Written(notes, [replace(layer, geometry=geometry)], way), chunks()


def to_degrees(layer: Layer, format_name: str = "GeoJSON") -> tuple[Layer, list[str]]:
    """Return a layer in longitude and latitude, and what there is to say about that.

    Raises
    ------
    DataError
        If it has no CRS.
    """
    target = crs_module.parse(crs_module.LONGITUDE_LATITUDE)
    if layer.crs is None:
        raise DataError(
            f"layer {layer.name!r} has no CRS, and {format_name} is longitude and latitude; "
            "say with `crs` which one its coordinates are in"
        )
    check_finite(layer, format_name)
    if crs_module.is_same(layer.crs, target):
        return layer, _told_beyond(layer, layer.geometry, format_name)
    own = layer.geometry
    way = way_between(layer.crs, own.extent(), target)
    there = way.there(own.xy)
    check_places(own, there, way, f"layer {layer.name!r}")
    column = on_the_globe(own, there, way)
    column = column.with_xy(np.round(column.xy, DECIMALS))
    said = f"{layer.name}: brought from {crs_module.label(layer.crs)} to longitude and latitude"
    notes: list[str] = [Changed(said)]
    lost = heights_lost(own, column)
    if lost:
        notes.append(
            Lost(
                f"{layer.name}: {counted(lost, 'feature')} parted at 180 degrees lost Z or M values"
            )
        )
    notes += _told_beyond(layer, column, format_name)
    return replace(layer.with_geometry(column, np.arange(layer.n_rows)), crs=target), notes


def _told_beyond(layer: Layer, degrees: GeometryColumn, format_name: str) -> list[str]:
    """Return what there is to say of longitudes that count on beyond the 180th meridian."""
    extent = degrees.extent()
    if extent is None or not goes_beyond(extent, crs_module.parse(crs_module.LONGITUDE_LATITUDE)):
        return []
    return [
        Warned(
            f"{layer.name}: longitudes from {extent[0]:.10g} to {extent[2]:.10g} are written as they "
            f"are, and {format_name} has none beyond 180; reproject to {crs_module.LONGITUDE_LATITUDE} "
            "brings them within"
        )
    ]


def texts_of_features(
    column: GeometryColumn, table: pa.Table, ids: list[int] | None, n_rows: int
) -> Iterator[bytes]:
    """Return the text of each feature."""
    opening = b'{"type":"Feature",'
    heads: Iterable[bytes] = [opening] * n_rows
    if ids is not None:
        heads = (b'%s"id":%d,' % (opening, key) for key in ids)
    middle, end = b',"properties":', b"}"
    rows = zip(heads, geometries_of(column), _properties(table, n_rows), strict=True)
    return (head + geometry + middle + own + end for head, geometry, own in rows)


def _properties(table: pa.Table, n_rows: int) -> Iterable[bytes]:
    if table.num_columns == 0:
        return [b"{}"] * n_rows
    columns = []
    for k, name in enumerate(table.column_names):
        lead = (b"{" if k == 0 else b",") + orjson.dumps(name) + b":"
        columns.append(map(lead.__add__, _values(table.column(k))))
    return (b"".join(values) + b"}" for values in zip(*columns, strict=True))


def _values(column: pa.ChunkedArray) -> list[bytes]:
    """Return each value as JSON: all at once for numbers, whose text holds no comma."""
    kind = column.type
    column = as_text(column) if is_blob(kind) else moments.as_text(column)
    values = column.to_pylist()
    if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        return list(map(orjson.dumps, values))
    return orjson.dumps(values, default=str)[1:-1].split(b",") if values else []


def geometries_of(column: GeometryColumn) -> list[bytes]:
    """Return the geometry member of each row."""
    name = ("Multi" if column.is_multi else "") + _NAMES[column.family]
    lead = f'"geometry":{{"type":"{name}","coordinates":'
    texts = joined(lead, pc.fill_null(nested(column, JSON), "[]"), "}")
    null = pa.scalar('"geometry":null', texts.type)
    return pc.cast(pc.if_else(column.is_null, null, texts), pa.large_binary()).to_pylist()
