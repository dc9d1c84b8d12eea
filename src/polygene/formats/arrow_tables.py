"""Arrow tables from elsewhere: which column is geometry, how it is written, in which CRS."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pyarrow as pa

from polygene import crs as crs_module
from polygene import proj, provenance
from polygene.arrow import ABOUT, NAME, PREFIX
from polygene.classes import NamedTuple
from polygene.errors import FileError, PolygeneError
from polygene.formats.arrow_types import plain
from polygene.formats.base import Reading
from polygene.formats.columns import bytes_of, distinct_columns, from_bytes, layers_of, table_of
from polygene.formats.geoarrow import from_lists
from polygene.formats.geometry_said import said_of
from polygene.formats.wkb_systems import in_system_of_wkb
from polygene.notes import Warned
from polygene.text.assemble import OfFamily

WKB_NAMES = ("wkb", "ogc.wkb")
_USUAL = ("geometry", "geom", "wkb_geometry", "wkb", "shape", "the_geom")


_UNREADABLE = "unreadable"  # no member that GeoArrow has


class _Geometry(NamedTuple):
    """A column of geometry: how it is encoded, and what is said of it."""

    name: str
    encoding: str
    about: dict[str, Any]


def layers_from(table: pa.Table, path: Path) -> Reading:
    """Return the layers of a table; ``path`` names them and is for messages.

    Geometry is the column with a GeoArrow extension type (the first, if several), else the one that the
    table's ``geo`` metadata name, else one of WKB with a usual name, or the only binary one. Without
    any it is a table without geometry.

    Raises
    ------
    FileError
        If its encoding is not known.
    GeometryError
        If a row cannot be decoded.
    """
    table = _without_extensions(table)
    notes: list[str] = []
    table = distinct_columns(table, path, notes)
    found = _geometry_of(table)
    if found is None:
        why = "no column is of a GeoArrow type, and none is WKB"
        return _with_lineage(table_of(path, plain(table, notes, path), why, notes), table)
    column = table.column(found.name)
    others = [f.name for f in table.schema if _encoding_said(f) and f.name != found.name]
    notes += said_of(found.about, others, path)
    if found.about.get(_UNREADABLE):
        words = "what is said of its geometry, as of a CRS, is no JSON object; read without"
        notes.append(Warned(f"{path.name}: {words}"))
    crs = _crs(found.about, path)
    if found.encoding == "wkb":
        held = bytes_of(column)
        geometries = from_bytes(held, path)
        crs = in_system_of_wkb(held, crs, path, notes)
    elif found.encoding == "wkt":
        from polygene.formats.wkt_columns import from_wkt

        geometries, crs = from_wkt(column, path, notes, crs)
    else:
        geometry = from_lists(column, found.encoding, path)
        geometries = [OfFamily(np.arange(geometry.n_rows), geometry)]
    attributes = plain(table.drop_columns([found.name]), notes, path)
    reading = layers_of(
        path=path, geometries=geometries, table=attributes, crs=crs, ids=None,
        notes=notes,
    )  # fmt: skip
    return _with_lineage(reading, table)


def _with_lineage(reading: Reading, table: pa.Table) -> Reading:
    own = provenance.parse((table.schema.metadata or {}).get(b"lineage", b""))
    if own is None:
        return reading
    return Reading([replace(layer, lineage=own) for layer in reading.layers], reading.notes)


def _without_extensions(table: pa.Table) -> pa.Table:
    """Return a table of plain columns; what registered types say goes to the fields' metadata."""
    for k, field in enumerate(table.schema):
        kind = field.type
        if isinstance(kind, pa.BaseExtensionType):
            said = {NAME: kind.extension_name.encode(), ABOUT: kind.__arrow_ext_serialize__()}
            stored = [chunk.storage for chunk in table.column(k).chunks]
            column = pa.chunked_array(stored, kind.storage_type)
            own = pa.field(
                field.name, kind.storage_type, metadata={**(field.metadata or {}), **said}
            )
            table = table.set_column(k, own, column)
    return table


def _geometry_of(table: pa.Table) -> _Geometry | None:
    for field in table.schema:
        encoding = _encoding_said(field)
        if encoding:
            return _Geometry(field.name, encoding, _about(field))
    stated = _stated(table)
    if stated is not None:
        return stated
    binary = [f.name for f in table.schema if pa.types.is_binary(f.type) or _is_large(f.type)]
    usual = [name for name in binary if name.casefold() in _USUAL]
    if usual or (len(binary) == 1 and _begins_like_wkb(table.column(binary[0]))):
        return _Geometry((usual or binary)[0], "wkb", {"crs": None})
    return None


def _encoding_said(field: pa.Field) -> str:
    """Return how a column of an extension type for geometry is encoded, nothing for others."""
    own = str((field.metadata or {}).get(NAME, b"").decode())
    if own in WKB_NAMES:
        return "wkb"
    return own.removeprefix(PREFIX) if own.startswith(PREFIX) else ""


def _begins_like_wkb(column: pa.ChunkedArray) -> bool:
    """Whether the first value that is there has the order of bytes and a kind, as WKB has."""
    first = next((v.as_py() for v in column if v.is_valid), b"")
    order = {0: "big", 1: "little"}.get(first[0] if first else -1)
    if order is None or len(first) < 9:
        return False
    kind = int.from_bytes(first[1:5], order) & 0x0FFFFFFF  # type: ignore[arg-type]
    return 1 <= kind % 1000 <= 7


def is_attribute(field: pa.Field) -> bool:
    """Whether a column cannot be geometry, by its type and what is said of it."""
    kind = field.type
    if isinstance(kind, pa.BaseExtensionType) or NAME in (field.metadata or {}):
        return False
    return not (pa.types.is_binary(kind) or _is_large(kind))


def _is_large(kind: pa.DataType) -> bool:
    return bool(pa.types.is_large_binary(kind) or pa.types.is_binary_view(kind))


def _about(field: pa.Field) -> dict[str, Any]:
    try:
        found = orjson.loads((field.metadata or {}).get(ABOUT, b"") or b"{}")
    except orjson.JSONDecodeError:
        found = None
    return found if isinstance(found, dict) else {_UNREADABLE: True}


def _stated(table: pa.Table) -> _Geometry | None:
    """Return what the metadata of GeoParquet say, which some programs leave in the table."""
    try:
        geo = orjson.loads((table.schema.metadata or {}).get(b"geo", b"{}"))
        name = geo["primary_column"]
        about = geo["columns"][name]
        encoding = str(about["encoding"])
    except (orjson.JSONDecodeError, KeyError, TypeError):
        return None
    if name not in table.column_names:
        return None
    if "crs" not in about:
        about = {**about, "crs": crs_module.LONGITUDE_LATITUDE}
    return _Geometry(name, encoding.lower(), about)


def _crs(about: dict[str, Any], path: Path) -> proj.CRS | None:
    given = about.get("crs")
    if given is None:
        return None
    try:
        text = given if isinstance(given, str) else orjson.dumps(given).decode()
        return crs_module.parse(text)
    except PolygeneError as err:
        raise FileError(f"{path}: its CRS cannot be read: {str(err).splitlines()[0]}") from err
