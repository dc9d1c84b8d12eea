"""Shapefile, by way of pyshp: several files that are one layer, names of ten characters."""

from __future__ import annotations

import contextlib
import datetime
import math
import struct
import warnings
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyproj
import shapefile

from polygene import crs as crs_module
from polygene.arrays import I64Array, offsets_from
from polygene.commit.together import removing, replacing, together
from polygene.errors import DataError, FileError, GeometryError, reason_of
from polygene.formats import moments
from polygene.formats.base import Reading, collecting_no_garbage, only_one
from polygene.formats.columns import ADVICE, info_of, layers_of, named
from polygene.formats.nesting import nested
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer, LayerInfo
from polygene.notes import Warned
from polygene.table.types import beyond_as_text, dates_beyond, kind_of, width_of
from polygene.text.assemble import OfFamily
from polygene.winding import turned

NAME = "Shapefile"
ENDINGS = (".shp",)
KEEPS_LINEAGE = False
HOLDS_MANY = False
READS_PART = False
_FAMILY = {1: Family.POINTS, 8: Family.POINTS, 3: Family.LINES, 5: Family.POLYGONS}
_MOST_FIELDS, _LONGEST_RECORD = 2_046, 65_535  # what the header of a .dbf can say
_LARGEST = 2**31 - 1  # bytes that a part file can have
# What pyshp raises over bytes that are no shapefile.
_DAMAGE = (
    shapefile.ShapefileException,
    struct.error,
    ArithmeticError,
    AssertionError,
    EOFError,
    LookupError,
    TypeError,
    ValueError,
)
_NONE = -1e38  # M below it means none


def is_like(head: bytes) -> bool:
    """Whether a file begins with the code of a shapefile."""
    return head[:4] == b"\x00\x00\x27\x0a"


def layer_names(path: Path) -> list[str]:
    return [path.stem]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layer; the file is read for it."""
    return [info_of(layer) for layer in read(path, path.stem).layers]


@collecting_no_garbage()
def read(path: Path, name: str) -> Reading:
    """Read the layer; without a .dbf there are no fields, without a .prj no CRS, and that is said."""
    notes: list[str] = []
    try:
        with (
            warnings.catch_warnings(record=True, action="always") as said,
            _reader(path, notes) as reader,
        ):
            base = reader.shapeType % 10
            if base not in _FAMILY:
                raise FileError(
                    f"{path} holds {reader.shapeTypeName}, which is none of points, lines, polygons"
                )
            shapes = reader.shapes()
            table = pa.table({})
            if _sibling(path, ".dbf") is not None:
                table = _attributes(reader, len(shapes), path, notes)
    except _DAMAGE as err:
        what = str(err).splitlines()[0] if str(err) else type(err).__name__
        raise FileError(f"{path} is damaged or cut short ({what}); {ADVICE}") from err
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    notes += [f"{path.name}: {str(w.message).splitlines()[0]}" for w in said]
    geometry = _geometry(shapes, _FAMILY[base], reader.shapeType, path)
    rows = np.arange(geometry.n_rows)
    crs = _crs(path, notes)
    reading = layers_of(
        path=path,
        geometries=[OfFamily(rows, geometry)],
        table=table,
        crs=crs,
        ids=None,
        notes=notes,
    )
    return named(reading, path, name)


def _sibling(path: Path, ending: str) -> Path | None:
    """Return the file beside the .shp with some ending, in whatever case."""
    for candidate in (path.with_suffix(ending), path.with_suffix(ending.upper())):
        if candidate.exists():
            return candidate
    return None


@contextlib.contextmanager
def _reader(path: Path, notes: list[str]) -> Iterator[Any]:
    """Open the files there are; they are closed whatever happens."""
    dbf, shx = _sibling(path, ".dbf"), _sibling(path, ".shx")
    encoding = _encoding(path, dbf, notes)
    if dbf is None:
        notes.append(Warned(f"{path.name} has no .dbf beside it, so no fields"))
    with contextlib.ExitStack() as stack:
        files = {
            name: stack.enter_context(place.open("rb"))
            for name, place in (("shp", path), ("dbf", dbf), ("shx", shx))
            if place is not None
        }
        yield stack.enter_context(
            shapefile.Reader(**files, encoding=encoding, encodingErrors="replace")
        )


def _encoding(path: Path, dbf: Path | None, notes: list[str]) -> str:
    """Return the code page that the .cpg names, or the .dbf's own mark, or what its bytes allow."""
    cpg = _sibling(path, ".cpg")
    if cpg is not None:
        text = cpg.read_text(encoding="ascii", errors="replace").strip()
        number = "".join(c for c in text if c.isdigit())
        for name in (
            text,
            f"cp{number}",
            f"iso8859-{number[4:]}" if number[:4] == "8859" else text,
        ):
            try:
                "".encode(name)
                return name
            except (LookupError, ValueError):
                continue
        notes.append(Warned(f"{path.name}: the code page {text!r} of its .cpg is not known"))
    if dbf is None:
        return "utf-8"
    data = dbf.read_bytes()
    try:
        data.decode("utf-8")
        return "utf-8"
    except UnicodeDecodeError:
        notes.append(f"{path.name}: no .cpg says how its texts are written; read as Windows-1252")
        return "cp1252"


def _attributes(reader: Any, n_rows: int, path: Path, notes: list[str]) -> pa.Table:
    fields = [f for f in reader.fields if f[0] != "DeletionFlag"]
    records = reader.records()
    if len(records) != n_rows:
        notes.append(
            f"{path.name}: {n_rows:,} geometries and {len(records):,} records; the missing are null"
        )
        blank = [None] * len(fields)
        records = [*records[:n_rows], *([blank] * (n_rows - len(records)))]
    arrays, arrow_fields = [], []
    for k, (name, kind, width, decimals, *_) in enumerate(
        (f.name, f.field_type, f.size, f.decimal) if hasattr(f, "name") else f for f in fields
    ):
        values = [record[k] for record in records]
        array, metadata = _column(values, str(kind), int(width), int(decimals))
        arrays.append(array)
        arrow_fields.append(pa.field(name, array.type, metadata=metadata))
    return pa.table(arrays, pa.schema(arrow_fields))


def _column(
    values: list[Any], kind: str, width: int, decimals: int
) -> tuple[pa.Array, dict[str, str] | None]:
    if kind == "C":
        texts = [None if v is None or v == "" else str(v) for v in values]
        return pa.array(texts, pa.string()), {"width": str(width)}
    if kind == "D":
        days = [v if isinstance(v, datetime.date) else None for v in values]
        return pa.array(days, pa.date32()), None
    if kind == "L":
        return pa.array([v if isinstance(v, bool) else None for v in values], pa.bool_()), None
    numbers = [v if isinstance(v, (int, float)) else None for v in values]
    if (
        kind == "N"
        and decimals == 0
        and all(v is None or (isinstance(v, int) and -(2**63) <= v < 2**63) for v in numbers)
    ):
        narrow = pa.int16() if width <= 4 else pa.int32() if width <= 9 else pa.int64()
        return pa.array(numbers, narrow), None
    return pa.array([None if v is None else float(v) for v in numbers], pa.float64()), None


def _crs(path: Path, notes: list[str]) -> pyproj.CRS | None:
    prj = _sibling(path, ".prj")
    if prj is None:
        notes.append(Warned(f"{path.name} has no .prj beside it, so no CRS"))
        return None
    found = crs_module.parse(prj.read_text(encoding="utf-8", errors="replace").strip())
    known = found.to_epsg(min_confidence=70)
    return pyproj.CRS.from_epsg(known) if known else found


def _geometry(shapes: Sequence[Any], family: Family, code: int, path: Path) -> GeometryColumn:
    n_rows = len(shapes)
    is_null = np.array([s.shapeType == 0 for s in shapes], bool)
    points = [[] if null else s.points for s, null in zip(shapes, is_null, strict=True)]
    counts = np.array([len(p) for p in points], np.int64)
    flat = [p for row in points for p in row]
    xy = np.array([p[:2] for p in flat], np.float64).reshape(-1, 2)
    z = m = None
    if 11 <= code <= 18:
        z = np.array([v for s in shapes if s.shapeType for v in getattr(s, "z", [])], np.float64)
        z = z if len(z) == len(xy) else None
    if 11 <= code <= 28:
        values = [v for s in shapes if s.shapeType for v in getattr(s, "m", [])]
        m = np.array([np.nan if v is None or v < _NONE else v for v in values], np.float64)
        m = None if len(m) != len(xy) or np.isnan(m).all() else m
    vertex_offsets = offsets_from(counts)
    if family == Family.POINTS:
        steps = np.arange(len(xy) + 1)
        is_multi = code % 10 == 8
        return GeometryColumn(
            family=family,
            xy=xy,
            ring_offsets=steps,
            part_offsets=steps,
            row_offsets=vertex_offsets,
            is_null=is_null,
            is_multi=is_multi,
            z=z,
            m=m,
        )
    starts = [np.asarray(s.parts if s.shapeType else [], np.int64) for s in shapes]
    ring_counts = np.array([len(p) for p in starts], np.int64)
    first = np.concatenate([*starts, np.zeros(0, np.int64)]) + np.repeat(
        vertex_offsets[:-1], ring_counts
    )
    rings = np.append(first, len(xy)).astype(np.int64)
    falls = np.diff(rings, prepend=0) < 0
    if falls.any():
        row = int(np.searchsorted(offsets_from(ring_counts), np.flatnonzero(falls)[0]))
        raise GeometryError(
            str(path), f"row {max(row, 1)}", "its parts do not begin one behind the other", ADVICE
        )
    row_offsets = offsets_from(ring_counts)
    parts = np.arange(len(rings))
    is_multi = bool((ring_counts > 1).any())
    column = GeometryColumn(
        family=family,
        xy=xy,
        ring_offsets=rings,
        part_offsets=parts,
        row_offsets=row_offsets,
        is_null=is_null,
        is_multi=is_multi,
        z=z,
        m=m,
    )
    if family == Family.LINES:
        return column
    return turned(nested(column, n_rows), outer_is_counter_clockwise=True)


# Writing


def write(path: Path, layers: Sequence[Layer]) -> list[str]:
    """Write the one layer: .shp, .shx, .dbf, .cpg and, if the CRS is known, .prj.

    Raises
    ------
    DataError
        If there are several layers, or it would be larger than the format can be.
    FileError
        If it cannot be written.
    """
    layer, notes = only_one(path, layers, "a shapefile"), list[str]()
    fields, columns = _fields(layer, notes)
    _check_size(path, layer, fields)
    endings = [".shx", ".dbf", ".cpg", *([] if layer.crs is None else [".prj"])]
    with together(), _all_replacing(path, endings) as places, collecting_no_garbage():
        with (
            places[".shp"].open("w+b") as shp,
            places[".shx"].open("w+b") as shx,
            places[".dbf"].open("w+b") as dbf,
            _writing(shp, shx, dbf, _code(layer.geometry)) as writer,
        ):
            for name, kind, width, decimals in fields:
                writer.field(name, kind, width, decimals)
            if not fields:
                writer.field("row", "N", 10, 0)
                columns = [list(range(1, layer.n_rows + 1))]
            for shape, record in zip(
                _shapes(layer.geometry), zip(*columns, strict=True), strict=True
            ):
                writer.shape(shape)
                writer.record(*record)
        places[".cpg"].write_text("UTF-8", encoding="ascii")
        if layer.crs is None:
            removing(path.with_suffix(".prj"))
        else:
            places[".prj"].write_text(layer.crs.to_wkt("WKT1_ESRI"), encoding="utf-8")
    return notes


@contextlib.contextmanager
def _writing(
    shp: IO[bytes], shx: IO[bytes], dbf: IO[bytes], code: int
) -> Iterator[shapefile.Writer]:
    """Write the headers at the end, but not if something went wrong: the files are no more then."""
    writer = shapefile.Writer(shp=shp, shx=shx, dbf=dbf, shapeType=code, encoding="utf-8")
    try:
        yield writer
        writer.close()
    except BaseException:
        with contextlib.suppress(AttributeError):
            writer.exit_stack.pop_all()
        raise


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


def _check_size(path: Path, layer: Layer, fields: Sequence[tuple[str, str, int, int]]) -> None:
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


def _fields(
    layer: Layer, notes: list[str]
) -> tuple[list[tuple[str, str, int, int]], list[list[Any]]]:
    """Return name, type, width and decimals of each field, and its values; say what had to change."""
    fields, columns = [], []
    taken: set[str] = set()
    for arrow_field in layer.table.schema:
        column = layer.table.column(arrow_field.name)
        name = _short(arrow_field.name, taken)
        if name != arrow_field.name:
            notes.append(f"{layer.name}: field {arrow_field.name} is called {name} in a shapefile")
        kind, width, decimals, values = _typed(layer, arrow_field, column, notes)
        if kind is not None:
            fields.append((name, kind, width, decimals))
            columns.append(values)
    return fields, columns


def _short(name: str, taken: set[str]) -> str:
    """Return a name of ten bytes that is not taken."""
    short = name.encode("utf-8")[:10].decode("utf-8", errors="ignore")
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
            notes.append(f"{where} holds dates outside the years 1 to 9999; written as text")
            return "C", 16, 0, pc.fill_null(beyond_as_text(column), "").to_pylist()
        return "D", 8, 0, column.to_pylist()
    if kind == "time":
        notes.append(f"{where} holds times, which a shapefile has not; written as text")
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
            notes.append(Warned(f"{where}: {n:,} texts are longer than 254 bytes and were cut"))
        return "C", width, 0, [_cut(v, width) for v in column.to_pylist()]
    notes.append(Warned(f"{where} is {field.type}, which a shapefile has not; left out"))
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
        notes.append(Warned(f"{where}: {lost:,} numbers are too large for a shapefile, null there"))
    if rounded:
        notes.append(Warned(f"{where}: {rounded:,} numbers are rounded to {decimals} decimals"))
    return "F", 24, decimals, kept


def _cut(text: str | None, width: int) -> str:
    """Return a text of so many bytes; there is no null, so an empty one stands for it."""
    if text is None:
        return ""
    raw = text.encode("utf-8")
    return text if len(raw) <= width else raw[:width].decode("utf-8", errors="ignore")


def _shapes(column: GeometryColumn) -> Any:
    """Yield what pyshp writes for each row: outer rings clockwise, holes the other way."""
    code = _code(column)
    column = turned(column, outer_is_counter_clockwise=False)
    xy = column.xy.tolist()
    z = None if column.z is None else column.z.tolist()
    m = None if column.m is None else np.where(np.isnan(column.m), -1e39, column.m).tolist()
    rings = column.ring_offsets_of_rows
    starts = column.ring_offsets
    for row in range(column.n_rows):
        first, last = int(starts[rings[row]]), int(starts[rings[row + 1]])
        if first == last:
            yield shapefile.Shape()  # a null shape
            continue
        parts = starts[rings[row] : rings[row + 1]] - first
        own_z, own_m = (None if v is None else v[first:last] for v in (z, m))
        yield _shape(code, xy[first:last], parts, own_z, own_m)


def _shape(code: int, points: list[Any], parts: I64Array, z: Any, m: Any) -> Any:
    more: dict[str, Any] = {}
    if z is not None:
        more["z"] = z
    if m is not None:
        more["m"] = m
    base = code % 10
    given = None if base in (1, 8) else parts.tolist()
    return shapefile.Shape(shapeType=code, points=points, parts=given, **more)
