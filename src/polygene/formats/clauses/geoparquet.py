"""GeoParquet 1.0 and 1.1: the metadata under ``geo``, and whether the column is what they say."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pyarrow as pa
import pyarrow.parquet as pq

from polygene import computing as pc
from polygene import crs as crs_module
from polygene import proj
from polygene.errors import PolygeneError
from polygene.formats import geoparquet
from polygene.formats.clauses.finding import Finding, Judged, rows_of
from polygene.geometry import Family, GeometryColumn
from polygene.winding import turned

_VERSIONS = ("1.0.0", "1.1.0")
_ENCODINGS = {
    "1.0.0": ("WKB",),
    "1.1.0": (
        "WKB", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon"
    ),
}  # fmt: skip
_NAMES = ("Point", "LineString", "Polygon")
_TYPES = [f"{multi}{name}{z}" for name in _NAMES for multi in ("", "Multi") for z in ("", " Z")] + [
    "GeometryCollection",
    "GeometryCollection Z",
]


def judge(path: Path) -> Judged:
    """Hold a GeoParquet file to its standard."""
    try:
        file = pq.ParquetFile(path)
    except (pa.ArrowException, OSError, ValueError) as err:
        words = f"it is no Parquet: {str(err).splitlines()[0]}"
        return Judged("GeoParquet", "", [Finding("Parquet", "the file", words, "refused")])
    raw = (file.metadata.metadata or {}).get(b"geo")
    if raw is None:
        words = "its key-value metadata have no 'geo', so it is a table without geometry"
        return Judged("GeoParquet", "", [Finding("Metadata", "the file", words, "misread")])
    try:
        geo = orjson.loads(raw)
        columns = dict(geo["columns"].items())
    except (orjson.JSONDecodeError, KeyError, TypeError, AttributeError):
        words = "its 'geo' is no JSON object with 'columns'"
        return Judged("GeoParquet", "", [Finding("File metadata", "geo", words, "refused")])
    version = str(geo.get("version", ""))
    findings = [*_of_file(geo, columns, file)]
    for name, about in columns.items():
        if isinstance(about, dict) and name in file.schema_arrow.names:
            findings += _of_column(name, about, version, file)
    if not any(finding.weight == "refused" for finding in findings):
        findings += _of_rows(path, columns.get(geo["primary_column"]), geo["primary_column"], file)
    return Judged("GeoParquet", version, findings)


def _of_file(
    geo: dict[str, Any], columns: dict[str, Any], file: pq.ParquetFile
) -> Iterator[Finding]:
    place = "geo"
    if geo.get("version") not in _VERSIONS:
        words = f"its version is {geo.get('version')!r}, none of {', '.join(_VERSIONS)}"
        yield Finding("File metadata", place, words, "form")
    primary = geo.get("primary_column")
    if not isinstance(primary, str) or primary not in columns:
        yield Finding("primary_column", place, "it names none of its columns", "refused")
    if not columns:
        yield Finding("columns", place, "there is none", "refused")
    names = file.schema_arrow.names
    for name, about in columns.items():
        if name not in names:
            yield Finding("columns", f"column {name}", "there is none at the top level", "refused")
        elif names.count(name) > 1:
            yield Finding("columns", f"column {name}", "there are several of that name", "misread")
        if not isinstance(about, dict):
            yield Finding("Column metadata", f"column {name}", "they are no object", "refused")


def _of_column(
    name: str, about: dict[str, Any], version: str, file: pq.ParquetFile
) -> Iterator[Finding]:
    place = f"column {name}"
    encoding = about.get("encoding")
    known = _ENCODINGS.get(version, _ENCODINGS["1.1.0"])
    if encoding not in known:
        yield Finding(
            "encoding", place, f"it is {encoding!r}, none of {', '.join(known)}", "refused"
        )
    kind = file.schema_arrow.field(name).type
    is_binary = pa.types.is_binary(kind) or pa.types.is_large_binary(kind)
    if encoding == "WKB" and not is_binary:
        yield Finding("encoding", place, f"it is WKB in a column of {kind}", "refused")
    types = about.get("geometry_types")
    if not isinstance(types, list):
        yield Finding("geometry_types", place, "they are missing, or no list", "refused")
    else:
        if odd := [t for t in types if t not in _TYPES]:
            yield Finding("geometry_types", place, f"there is no type {odd[0]!r}", "refused")
        if len(set(map(str, types))) < len(types):
            yield Finding("geometry_types", place, "one comes twice", "form")
    if about.get("crs") is not None and (said := _of_crs(about["crs"])):
        yield Finding("crs", place, said, "misread")
    for key, choices in (
        ("edges", ("planar", "spherical")),
        ("orientation", ("counterclockwise",)),
    ):
        if key in about and about[key] not in choices:
            yield Finding(
                key, place, f"it is {about[key]!r}, none of {', '.join(choices)}", "misread"
            )
    box = about.get("bbox")
    if box is not None and not (
        isinstance(box, list)
        and len(box) in (4, 6, 8)
        and all(isinstance(v, (int, float)) for v in box)
    ):
        yield Finding("bbox", place, "it is no list of four, six or eight numbers", "misread")
    if "epoch" in about and not isinstance(about["epoch"], (int, float)):
        yield Finding("epoch", place, "it is no number", "form")
    covering = about.get("covering")
    if covering is not None and (said := _of_covering(covering, file)):
        yield Finding("covering", place, said, "misread")


def _of_crs(given: Any) -> str:
    if not isinstance(given, dict):
        return "it is no PROJJSON object"
    try:
        proj.CRS.from_json_dict(given)
    except proj.CRSError as err:
        return f"it is no PROJJSON that can be read: {str(err).splitlines()[0][:80]}"
    return ""


def _of_covering(covering: Any, file: pq.ParquetFile) -> str:
    box = covering.get("bbox") if isinstance(covering, dict) else None
    if not isinstance(box, dict) or not {"xmin", "ymin", "xmax", "ymax"} <= set(box):
        return "it has no bbox with xmin, ymin, xmax and ymax"
    for key, where in box.items():
        if not (isinstance(where, list) and len(where) == 2 and where[1] == key):
            return f"{key} is no path to a column and its member {key}"
        kind = (
            file.schema_arrow.field(where[0]).type if where[0] in file.schema_arrow.names else None
        )
        if kind is None or not pa.types.is_struct(kind) or kind.get_field_index(key) < 0:
            return f"there is no column {where[0]} with a member {key}"
        if not pa.types.is_floating(kind.field(key).type):
            return f"{key} is no real number"
    return ""


def _of_rows(path: Path, about: Any, name: str, file: pq.ParquetFile) -> Iterator[Finding]:
    """Look whether the geometry is what the metadata say of it."""
    try:
        layers = geoparquet.read(path, path.stem).layers
    except PolygeneError:
        return  # `clauses.judged` tells of it
    place = f"column {name}"
    stated = about.get("geometry_types") or []
    for layer in layers:
        column = layer.geometry
        found = _types_of(column) if column.n_vertices else set()  # empty ones have lost their Z
        if stated and (missing := sorted(found - set(stated))):
            yield Finding("geometry_types", place, f"it has {missing[0]} too", "misread")
        extent = column.extent()
        box = about.get("bbox")
        if isinstance(box, list) and extent is not None and len(box) in (4, 6):
            half = len(box) // 2
            x0, y0, x1, y1 = box[0], box[1], box[half], box[half + 1]
            is_out = extent[1] < y0 or extent[3] > y1
            is_out |= x0 <= x1 and (extent[0] < x0 or extent[2] > x1)
            if is_out:
                yield Finding("bbox", place, "there is geometry outside of it", "misread")
        is_right = about.get("orientation") != "counterclockwise" or np.array_equal(
            turned(column, outer_is_counter_clockwise=True).xy, column.xy
        )
        if not is_right:
            words = "there are rings that run the other way"
            yield Finding("orientation", place, words, "misread")
        is_round = about.get("edges") == "spherical" and layer.crs is not None
        if is_round and not crs_module.is_geographic(layer.crs):
            yield Finding("edges", place, "spherical edges in a CRS of a plane", "misread")
    covering = about.get("covering")
    if len(layers) == 1 and covering is not None and not _of_covering(covering, file):
        yield from _of_boxes(layers[0].geometry, covering["bbox"], file, place)


def _types_of(column: GeometryColumn) -> set[str]:
    if column.is_null.all():
        return set()
    z = " Z" if column.z is not None else ""
    base = _NAMES[Family(column.family)]
    return {f"{'Multi' if column.is_multi else ''}{base}{z}"}


def _of_boxes(
    column: GeometryColumn, box: dict[str, Any], file: pq.ParquetFile, place: str
) -> Iterator[Finding]:
    """Look whether the box of each row holds its geometry; 32-bit boxes may be rounded outwards."""
    own = file.read(columns=[box["xmin"][0]]).column(0).combine_chunks()
    low_x, low_y, high_x, high_y = (
        np.asarray(pc.cast(own.field(key), pa.float64()))
        for key in ("xmin", "ymin", "xmax", "ymax")
    )
    bounds = column.row_bounds()
    has = np.isfinite(bounds).all(axis=1)
    with np.errstate(invalid="ignore"):
        is_in = (low_x <= bounds[:, 0]) & (low_y <= bounds[:, 1])
        is_in &= (high_x >= bounds[:, 2]) & (high_y >= bounds[:, 3])
    if (has & ~is_in).any():
        words = "its covering box does not hold the geometry"
        yield Finding("covering", f"{place}, {rows_of(has & ~is_in)}", words, "misread")
