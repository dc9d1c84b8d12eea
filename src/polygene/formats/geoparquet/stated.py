"""What a GeoParquet file states of its geometry: its own metadata, or Parquet's types."""

from __future__ import annotations

import functools
from pathlib import Path
from typing import Any

import orjson
import pyarrow as pa
import pyarrow.parquet as pq

from polygene import crs as crs_module
from polygene import proj
from polygene.errors import FileError
from polygene.formats.definitions import coded_in_json, json_of
from polygene.geometry import Extent, Family, GeometryColumn
from polygene.layer import Layer

_TYPES = {Family.POINTS: "Point", Family.LINES: "LineString", Family.POLYGONS: "Polygon"}
_FAMILIES = {name: family for family, name in _TYPES.items()}


def geometry_in(file: pq.ParquetFile, path: Path) -> tuple[dict[str, Any], str] | None:
    """Return what is stated of the geometry, and its column; None if the file is a plain table."""
    raw = metadata_of(file).get(b"geo")
    native = None if raw else _own_type(file)
    if native is not None:
        return native
    if raw is None:
        return None
    try:
        geo: dict[str, Any] = orjson.loads(raw or b"{}")
        column = str(geo["primary_column"])
        about = geo["columns"][column] = _well_formed(geo["columns"][column])
        if not isinstance(about["encoding"], str):
            raise TypeError("an encoding is a name")
    except (orjson.JSONDecodeError, KeyError, TypeError, AttributeError) as err:
        raise FileError(
            f"{path}: its 'geo' metadata are not those of GeoParquet, so its geometry cannot be found"
        ) from err
    if column not in file.schema_arrow.names:
        raise FileError(f"{path}: its metadata name a geometry column {column!r} that is not there")
    return geo, column


def metadata_of(file: pq.ParquetFile) -> dict[bytes, bytes]:
    """Return the file's key-value metadata, with those that only its Arrow schema has."""
    return {**(file.schema_arrow.metadata or {}), **(file.metadata.metadata or {})}


def _own_type(file: pq.ParquetFile) -> tuple[dict[str, Any], str] | None:
    """Return what GeoParquet would state of the first column of Parquet's own type of geometry.

    Its CRS is a PROJJSON, a key of the metadata with one, or a code; longitude and latitude if it says
    none (Parquet logical types, "GEOMETRY" and "GEOGRAPHY").
    """
    schema, names = file.schema, file.schema_arrow.names
    found = {}
    for k in range(len(schema)):
        kind = schema.column(k).logical_type
        if kind.type in ("GEOMETRY", "GEOGRAPHY") and schema.column(k).path in names:
            found[schema.column(k).path] = _stated_by_type(file, kind)
    first = next(iter(found), None)
    return None if first is None else ({"primary_column": first, "columns": found}, first)


def _stated_by_type(file: pq.ParquetFile, kind: Any) -> dict[str, Any]:
    stated = str(orjson.loads(kind.to_json()).get("crs") or "")
    about: dict[str, Any] = {"encoding": "WKB"}
    if kind.type == "GEOGRAPHY":
        about["edges"] = "spherical"
    how, _, key = stated.partition(":")
    if how.casefold() == "projjson":
        stated = metadata_of(file).get(key.encode(), b"").decode("utf-8", "replace")
    if how.casefold() == "srid":
        stated = f"EPSG:{key}" if key not in ("", "0") else ""
        about["crs"] = stated or None
    elif stated:
        about["crs"] = orjson.loads(stated) if stated.startswith("{") else stated
    return about


def _well_formed(about: dict[str, Any]) -> dict[str, Any]:
    """Return what is stated of a geometry column without those hints that are not of their shape.

    Raises
    ------
    AttributeError
        If it is no object.
    """
    types, bbox, covering = (about.get(key) for key in ("geometry_types", "bbox", "covering"))
    box = covering.get("bbox") if isinstance(covering, dict) else None
    is_well = {
        "geometry_types": isinstance(types, list) and all(isinstance(t, str) for t in types),
        "bbox": isinstance(bbox, list)
        and len(bbox) in (4, 6)
        and all(isinstance(v, (int, float)) for v in bbox),
        "covering": isinstance(box, dict)
        and all(
            isinstance(v, list) and len(v) == 2 and all(isinstance(name, str) for name in v)
            for v in box.values()
        ),
    }
    return {key: value for key, value in about.items() if is_well.get(key, True)}


def own_columns(geo: dict[str, Any], column: str) -> set[str]:
    """Return the columns that are no attributes: the geometry and the box of each row."""
    covering = geo["columns"][column].get("covering") or {}
    box = covering.get("bbox") or {}
    return {column, *(v[0] for v in box.values() if isinstance(v, list) and v)}


def crs_of(about: dict[str, Any]) -> proj.CRS | None:
    if "crs" not in about:
        return crs_module.parse(crs_module.LONGITUDE_LATITUDE)
    if about["crs"] is None:
        return None
    text = about["crs"]
    if isinstance(text, dict) and (known := coded_in_json(text)) is not None:
        return known
    return _parsed(text if isinstance(text, str) else orjson.dumps(text).decode())


# All parts of a folder say the same, and each takes most of a millisecond.
_parsed = functools.lru_cache(16)(crs_module.parse)


def paths_of_box(file: pq.ParquetFile, about: dict[str, Any]) -> list[tuple[str, str]]:
    """Return where the file keeps the box of each row: four (column, part of it), or nothing."""
    covering = (about.get("covering") or {}).get("bbox") or {}
    paths: list[Any] = [covering.get(corner) for corner in ("xmin", "ymin", "xmax", "ymax")]
    schema = file.schema_arrow
    for path in paths:
        is_path = isinstance(path, list) and len(path) == 2 and path[0] in schema.names
        if not is_path or not pa.types.is_struct(schema.field(path[0]).type):
            return []
        if schema.field(path[0]).type.get_field_index(path[1]) < 0:
            return []
    return [(path[0], path[1]) for path in paths]


def families_stated(about: dict[str, Any]) -> set[Family]:
    """Return the families of all types that the file says it holds; none if it says nothing of them."""
    names = {
        str(name).split(" ")[0].removeprefix("Multi") for name in about.get("geometry_types") or []
    }
    return {_FAMILIES[name] for name in names} if names <= set(_FAMILIES) else set()


def stated_family(about: dict[str, Any], other: Family | None = None) -> Family:
    """Return the family of what the file says it holds, else another, when no row is left to tell."""
    types = about.get("geometry_types")
    if not types:
        return Family.POLYGONS if other is None else other
    name = str(types[0]).split(" ")[0].removeprefix("Multi")
    return _FAMILIES.get(name, Family.POLYGONS)


def _types(column: GeometryColumn) -> list[str]:
    """Return what is stated of the kinds; nothing with M, for which the standard has no word."""
    if column.m is not None:
        return []
    name = f"{'Multi' if column.is_multi else ''}{_TYPES[column.family]}"
    return [name if column.z is None else f"{name} Z"]


def metadata_for(layer: Layer, geometry: str, box: str, extent: Extent | None) -> dict[str, Any]:
    about: dict[str, Any] = {
        "encoding": "WKB",
        "geometry_types": _types(layer.geometry),
        "crs": None if layer.crs is None else json_of(layer.crs),
        "covering": {"bbox": {k: [box, k] for k in ("xmin", "ymin", "xmax", "ymax")}},
    }
    if extent is not None:
        about["bbox"] = list(extent)
    return {"version": "1.1.0", "primary_column": geometry, "columns": {geometry: about}}
