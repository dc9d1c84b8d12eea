"""Writing KML: version 2.2 (OGC 07-147r2), which readers of 2.3 read; a folder and a schema a layer."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.commit.together import replacing
from polygene.errors import DataError, listed
from polygene.formats import moments
from polygene.formats.base import Way, Written, collecting_no_garbage
from polygene.formats.geojson.writing import CHUNK, to_degrees
from polygene.formats.kml.fields import DESCRIPTION, NAME
from polygene.formats.kml.reading import layer_names
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.notes import Changed, Lost, counted
from polygene.table.casting import as_text
from polygene.text.nested import joined, rings_told, spanned
from polygene.winding import turned

_NAMESPACE = "http://www.opengis.net/kml/2.2"
# What XML 1.0 (2.2) has no place for, not even by number.
_CONTROL = "[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]"
_WIDEST = 2**31  # of the type int
_OUTER = (
    "<outerBoundaryIs><LinearRing><coordinates>",
    "/coordinates></LinearRing></outerBoundaryIs>",
)
_INNER = tuple(tag.replace("outer", "inner") for tag in _OUTER)
_PART = {Family.POINTS: "Point", Family.LINES: "LineString", Family.POLYGONS: "Polygon"}


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write layers, whole or not at all.

    Raises
    ------
    DataError
        If other layers of the file would be lost, or a layer has no CRS.
    FileError
        If it cannot be written.
    """
    if path.exists():
        others = [name for name in layer_names(path) if name not in {y.name for y in layers}]
        if others:
            raise DataError(
                f"{path} has other layers ({listed(others, 5)}), and KML is written anew as a whole; "
                "write to another file"
            )
    notes: list[str] = []
    meant, declared = [], set[str]()
    with replacing(path) as temporary, temporary.open("wb") as file, collecting_no_garbage():
        file.write(
            b'<?xml version="1.0" encoding="UTF-8"?>\n'
            b'<kml xmlns="%s">\n<Document>\n' % _NAMESPACE.encode()
        )
        for k, layer in enumerate(layers, 1):
            own, lost = _writable(layer, notes)
            declared |= lost
            meant.append(own)
            file.write(f'<Schema name={quoteattr(own.name)} id="s{k}">'.encode())
            file.write(_schema(own))
            file.write(f"</Schema>\n<Folder><name>{escape(own.name)}</name>\n".encode())
            for features in _features(own, k):
                file.write(b"\n".join(features))
                file.write(b"\n")
            file.write(b"</Folder>\n")
        file.write(b"</Document>\n</kml>\n")
    return Written(notes, meant, Way(frozenset(declared), keeps_types=False))


def _writable(layer: Layer, notes: list[str]) -> tuple[Layer, set[str]]:
    """Return a layer as KML can hold it, and the fields whose texts it cannot hold whole."""
    layer, said = to_degrees(layer, "KML")
    notes += said
    geometry = turned(layer.geometry, outer_is_counter_clockwise=True)  # 10.8.3
    if geometry.m is not None:
        geometry = replace(geometry, m=None)
        notes.append(Lost(f"{layer.name}: M values dropped, KML has no place for them"))
    if geometry.z is not None and not np.nan_to_num(geometry.z).any():
        geometry = replace(geometry, z=None)
        notes.append(Changed(f"{layer.name}: heights are all 0, which KML does not tell from none"))
    table, declared = layer.table, set()
    for k, own in enumerate(table.schema):
        if not pa.types.is_string(own.type) and not pa.types.is_large_string(own.type):
            continue
        n = pc.sum(pc.match_substring_regex(table.column(k), _CONTROL)).as_py() or 0
        if n:
            clean = pc.replace_substring_regex(table.column(k), _CONTROL, "")
            table = table.set_column(k, own, clean)
            what = f"{counted(n, 'text')} with control characters, left out"
            notes.append(Lost(f"{layer.name}: field {own.name}: {what}"))
            declared.add(own.name)
    return replace(layer, geometry=geometry, table=table), declared


def _data_fields(layer: Layer) -> list[str]:
    """Return the fields that have no element of their own: all but a name and a description."""
    return [
        own.name
        for own, column in zip(layer.table.schema, layer.table.columns, strict=True)
        if not (
            own.name in (NAME, DESCRIPTION)
            and pa.types.is_string(own.type)
            and column.null_count < len(column)
        )
    ]


def _schema(layer: Layer) -> bytes:
    fields = [
        f'<SimpleField name={quoteattr(name)} type="{_type_of(layer.table.column(name))}"/>'
        for name in _data_fields(layer)
    ]
    return "".join(fields).encode()


def _type_of(column: pa.ChunkedArray) -> str:
    """Return the type of a field; whole numbers beyond 32 bits have none there, and are texts."""
    kind = column.type
    if pa.types.is_integer(kind):
        ends = pc.min_max(column).as_py()
        fits = ends["min"] is None or -_WIDEST <= ends["min"] <= ends["max"] < _WIDEST
        return "int" if fits else "string"
    if pa.types.is_floating(kind):
        return "double"
    return "bool" if pa.types.is_boolean(kind) else "string"


def _features(layer: Layer, number: int) -> Iterator[list[bytes]]:
    """Yield the texts of placemarks, some thousands at a time."""
    data = _data_fields(layer)
    for start in range(0, layer.n_rows, CHUNK):
        stop = min(start + CHUNK, layer.n_rows)
        table = layer.table.slice(start, stop - start)
        pieces = [_elements(table, name, name, name) for name in (NAME, DESCRIPTION)
                  if name in table.column_names and name not in data]  # fmt: skip
        if data:
            url = f'<ExtendedData><SchemaData schemaUrl="#s{number}">'
            pieces.append(url)
            pieces += [
                _elements(table, own, f"SimpleData name={quoteattr(own)}", "SimpleData")
                for own in data
            ]
            pieces.append("</SchemaData></ExtendedData>")
        n = stop - start
        columns = [pa.array([p] * n, pa.string()) if isinstance(p, str) else p for p in pieces]
        heads = (
            pc.cast(pc.binary_join_element_wise(*columns, ""), pa.binary()).to_pylist()
            if columns
            else [b""] * n
        )
        shapes = _geometries(layer.geometry.slice_rows(start, stop))
        yield [b"<Placemark>%s%s</Placemark>" % both for both in zip(heads, shapes, strict=True)]


def _elements(table: pa.Table, name: str, opening: str, closing: str) -> pa.Array:
    """Return the values of a field as elements; nothing where there is none."""
    column = table.column(name)
    kind = column.type
    wide = pc.cast(column, pa.float64()) if pa.types.is_floating(kind) else column
    values = pc.cast(as_text(moments.as_text(wide)).combine_chunks(), pa.string())
    if not (pa.types.is_integer(kind) or pa.types.is_floating(kind)):
        for sign, told in (("&", "&amp;"), ("<", "&lt;"), (">", "&gt;"), ("\r", "&#13;")):
            values = pc.replace_substring(values, sign, told)
    joined = pc.binary_join_element_wise(f"<{opening}>", values, f"</{closing}>", "")
    return pc.fill_null(joined, "")


def _geometries(column: GeometryColumn) -> list[bytes]:
    """Return the geometry element of each row, nothing where it is null."""
    texts = rings_told(column, "<")  # what begins the closing tag
    if column.family == Family.POLYGONS:
        is_outer = np.zeros(column.n_rings, bool)
        is_outer[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = True
        opening, closing = (
            pc.if_else(is_outer, *(pa.scalar(b, texts.type) for b in both))
            for both in zip(_OUTER, _INNER, strict=True)
        )
        texts = spanned(joined(opening, texts, closing), column.part_offsets)
    else:
        texts = joined("<coordinates>", texts, "/coordinates>")
    mode = "<altitudeMode>absolute</altitudeMode>" if column.z is not None else ""
    name = _PART[column.family]
    parts = joined(f"<{name}>{mode}", texts, f"</{name}>")
    rows = spanned(parts, column.row_offsets)
    is_plain = (np.diff(column.row_offsets) == 1) & (not column.is_multi)
    rows = pc.if_else(is_plain, rows, joined("<MultiGeometry>", rows, "</MultiGeometry>"))
    nothing = pa.scalar("", rows.type)
    return pc.cast(pc.if_else(column.is_null, nothing, rows), pa.large_binary()).to_pylist()
