"""Writing shapefiles: several files that are one layer, names of ten characters."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import proj
from polygene.classes import NamedTuple
from polygene.commit.together import removing, replacing, together
from polygene.crs import label
from polygene.errors import DataError
from polygene.formats import definitions, moments
from polygene.formats.base import Way, Written, collecting_no_garbage, only_one
from polygene.formats.columns import without_zero_signs
from polygene.formats.shapefile import laying
from polygene.formats.shapefile.laying import FieldOf
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.notes import Changed, Lost, counted
from polygene.table.types import beyond_as_text, dates_beyond, kind_of, width_of
from polygene.winding import turned

_MOST_FIELDS, _LONGEST_RECORD = 2_046, 65_535  # what the header of a .dbf can say
_LARGEST = 2**31 - 1  # bytes that a part file can have


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write the one layer: .shp, .shx, .dbf, .cpg and, if the CRS is known, .prj.

    Raises
    ------
    DataError
        If there are several layers, or it would be larger than the format can be.
    FileError
        If it cannot be written.
    """
    layer, notes = without_zero_signs(only_one(path, layers, "a shapefile"))
    layer = _with_all_heights(layer, notes)
    fields, columns, meant, declared = _fields(layer, notes)
    _check_size(path, layer, fields)
    endings = [".shx", ".dbf", ".cpg", *([] if layer.crs is None else [".prj"])]
    with together(), _all_replacing(path, endings) as places, collecting_no_garbage():
        if not fields:
            rows = list(range(1, layer.n_rows + 1))
            fields, columns = [FieldOf("row", "N", 10, 0)], [rows]
            meant = pa.table({"row": pa.array(rows, pa.int64())})
        code = _code(layer.geometry)
        column = turned(layer.geometry, outer_is_counter_clockwise=False)
        shp, shx = laying.shapes(column, code)
        pieces = laying.table(fields, columns, layer.n_rows)
        for ending, parts in ((".shp", [shp.data]), (".shx", [shx.data]), (".dbf", pieces)):
            with places[ending].open("wb") as file:
                for part in parts:
                    file.write(part)
        places[".cpg"].write_text("UTF-8", encoding="ascii")
        if layer.crs is None:
            removing(path.with_suffix(".prj"))
        else:
            text = _prj(layer.name, layer.crs, notes)
            places[".prj"].write_text(text, encoding="utf-8")
    n_empty = int((column.is_empty & ~column.is_null).sum())
    if n_empty:
        notes.append(
            Lost(f"{layer.name}: {counted(n_empty, 'feature')} with an empty geometry, null there")
        )
    column = turned(layer.geometry, outer_is_counter_clockwise=True)  # as they are read
    column = replace(column, is_null=column.is_empty)
    way = Way(frozenset(declared), has_loose_rings=layer.geometry.family == Family.POLYGONS)
    return Written(notes, [replace(layer, geometry=column, table=meant)], way)


def _with_all_heights(layer: Layer, notes: list[str]) -> Layer:
    """Return a layer in which every vertex has a height or none has; that those that had none are 0
    is said.

    What is no number may not stand in a shapefile, and that there is no value only for M (ESRI
    Shapefile Technical Description, numeric types).
    """
    z = layer.geometry.z
    if z is None or not (is_open := np.isnan(z)).any():
        return layer
    filled = None if is_open.all() else np.where(is_open, 0.0, z)
    if filled is not None:
        n, of = counted(int(is_open.sum()), "vertex", "vertices"), f"{len(z):,}"
        notes.append(Lost(f"{layer.name}: {n} of {of} without a height, which is 0 there"))
    return replace(layer, geometry=replace(layer.geometry, z=filled))


def _prj(name: str, crs: proj.CRS, notes: list[str]) -> str:
    """Return a CRS as .prj files have it; what is lost by that is said."""
    if known := definitions.prj_of(crs):
        return known
    if crs.is_bound:
        notes.append(
            Lost(
                f"{name}: a .prj has no place for the shift of the datum of {label(crs)}; left out"
            )
        )
    older: list[Any] = [version for version in proj.WktVersion if version.name.startswith("WKT1")]
    for version in ("WKT1_ESRI", *older):
        try:
            text = crs.to_wkt(version)
        except proj.CRSError:
            continue
        if text:
            return str(text)
    notes.append(
        Changed(f"{name}: {label(crs)} has no form that .prj files have; it is written as WKT 2")
    )
    return str(crs.to_wkt())


@contextlib.contextmanager
def _all_replacing(path: Path, endings: Sequence[str]) -> Iterator[dict[str, Path]]:
    """Replace all files of a shapefile at the end."""
    with contextlib.ExitStack() as stack:
        places = {".shp": stack.enter_context(replacing(path))}
        for ending in endings:
            places[ending] = stack.enter_context(replacing(path.with_suffix(ending)))
        yield places


def _code(column: GeometryColumn) -> int:
    base = {Family.POINTS: 8 if column.is_multi else 1, Family.LINES: 3, Family.POLYGONS: 5}
    return base[column.family] + (10 if column.z is not None else 20 if column.m is not None else 0)


def _check_size(path: Path, layer: Layer, fields: Sequence[FieldOf]) -> None:
    record = 1 + sum(width for _, _, width, _ in fields)
    if len(fields) > _MOST_FIELDS or record > _LONGEST_RECORD:
        raise DataError(
            f"{path}: a shapefile holds {_MOST_FIELDS:,} fields and {_LONGEST_RECORD:,} bytes of "
            f"them a feature; layer {layer.name!r} has {len(fields):,} with {record:,} bytes. Write a "
            "GeoPackage or GeoParquet instead, or drop fields"
        )
    column = layer.geometry
    dims = 2 + (column.z is not None) + (column.m is not None or column.z is not None)
    shp = 100 + 76 * layer.n_rows + 4 * column.n_rings + 8 * dims * column.n_vertices
    dbf = 33 + 32 * len(fields) + layer.n_rows * record
    for size, ending in ((shp, ".shp"), (dbf, ".dbf")):
        if size > _LARGEST:
            raise DataError(
                f"{path}: its {ending} would have {size / 1e9:.1f} GB, and a shapefile ends at 2 GB; "
                "write a GeoPackage or GeoParquet instead"
            )


class _Fields(NamedTuple):
    """The fields with their values, as a table too, and those of which it is told what changed."""

    fields: list[FieldOf]
    columns: list[list[Any]]
    meant: pa.Table
    declared: set[str]


def _fields(layer: Layer, notes: list[str]) -> _Fields:
    """Return name, type, width and decimals of each field, and its values; say what had to change."""
    fields, columns = [], []
    kept: dict[str, pa.ChunkedArray] = {}
    declared: set[str] = set()
    taken: set[str] = set()
    for arrow_field in layer.table.schema:
        column = layer.table.column(arrow_field.name)
        name = _short(arrow_field.name, taken)
        if name != arrow_field.name:
            notes.append(
                Changed(f"{layer.name}: field {arrow_field.name} is called {name} in a shapefile")
            )
        n_before = len(notes)
        kind, width, decimals, values = _typed(layer, arrow_field, column, notes)
        if len(notes) > n_before:
            declared.add(name)
        if kind is not None:
            kept[name] = column
            fields.append(FieldOf(name, kind, width, decimals))
            columns.append(values)
    return _Fields(fields, columns, pa.table(kept), declared)


def _short(name: str, taken: set[str]) -> str:
    """Return a name of ten bytes that is not taken."""
    name = name.strip(" \x00") or "field"  # blanks fill a name up, and are none of it
    short = name.encode("utf-8")[:10].decode("utf-8", errors="ignore").rstrip()
    k = 1
    while short.casefold() in taken:
        k += 1
        tail = f"_{k}"
        room = 10 - len(tail)
        short = name.encode("utf-8")[:room].decode("utf-8", errors="ignore") + tail
    taken.add(short.casefold())
    return short


def _typed(
    layer: Layer, field: pa.Field, column: pa.ChunkedArray, notes: list[str]
) -> tuple[str | None, int, int, list[Any]]:
    kind = kind_of(field.type)
    where = f"{layer.name}: field {field.name}"
    if kind == "boolean":
        return "L", 1, 0, column.to_pylist()
    if kind == "date":
        if dates_beyond(column):
            notes.append(
                Changed(f"{where} holds dates outside the years 1 to 9999; written as text")
            )
            return "C", 16, 0, pc.fill_null(beyond_as_text(column), "").to_pylist()
        return "D", 8, 0, column.to_pylist()
    if kind == "time":
        notes.append(Changed(f"{where} holds times, which a shapefile has not; written as text"))
        texts = moments.as_text(column)
        values = pc.fill_null(texts, "").to_pylist()
        return "C", max(24, *map(len, values)) if values else 24, 0, values
    if kind == "number" and pa.types.is_integer(field.type):
        width = {8: 4, 16: 6, 32: 11, 64: 18}[field.type.bit_width]
        values = column.to_pylist()
        if any(v is not None and len(str(v)) > width for v in values):
            width = 20
        return "N", width, 0, values
    if kind == "number":
        return _reals(where, column.to_pylist(), notes)
    if kind == "text":
        longest = int(pc.max(pc.binary_length(column)).as_py() or 1)
        width = min(254, max(1, width_of(field) or 0, longest))
        if longest > 254:
            n = int(pc.sum(pc.greater(pc.binary_length(column), 254)).as_py() or 0)
            notes.append(Lost(f"{where}: {counted(n, 'text')} longer than 254 bytes cut"))
        return "C", width, 0, [_cut(v, width) for v in column.to_pylist()]
    notes.append(Lost(f"{where} is {field.type}, which a shapefile has not; left out"))
    return None, 0, 0, []


def _reals(
    where: str, values: list[float | None], notes: list[str]
) -> tuple[str, int, int, list[float | None]]:
    """Return numbers as 24 characters hold them; count those that are rounded or too large."""
    finite = [abs(v) for v in values if v is not None and math.isfinite(v) and abs(v) < 1e20]
    digits = len(str(int(max(finite, default=0.0))))
    decimals = max(0, min(15, 21 - digits))
    kept = [v if v is not None and math.isfinite(v) and abs(v) < 1e20 else None for v in values]
    lost = sum(v is not None and k is None for v, k in zip(values, kept, strict=True))
    rounded = sum(k is not None and float(f"{k:.{decimals}f}") != k for k in kept)
    if lost:
        what = f"{counted(lost, 'number')} too large for a shapefile, null there"
        notes.append(Lost(f"{where}: {what}"))
    if rounded:
        what = f"{counted(rounded, 'number')} rounded to {decimals} decimals"
        notes.append(Lost(f"{where}: {what}"))
    return "F", 24, decimals, kept


def _cut(text: str | None, width: int) -> str:
    """Return a text of so many bytes; there is no null, so an empty one stands for it."""
    if text is None:
        return ""
    raw = text.encode("utf-8")
    return text if len(raw) <= width else raw[:width].decode("utf-8", errors="ignore")
