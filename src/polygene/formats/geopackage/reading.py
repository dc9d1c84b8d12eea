"""Reading layers of a GeoPackage, column by column."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray, I64Array, U8Array
from polygene.errors import FileError, GeometryError, UnknownLayerError
from polygene.formats import wkb
from polygene.formats.base import Known, Reading, collecting_no_garbage
from polygene.formats.geopackage import metadata
from polygene.formats.geopackage.listing import Table, columns_declared, tables
from polygene.formats.geopackage.package import opened, patient, quoted
from polygene.formats.geopackage.systems import read_crs
from polygene.formats.geopackage.values import CHUNK, arrow_field, sum_of, to_arrow
from polygene.formats.wanted import ALL, Wanted
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer, row_numbers
from polygene.text.assemble import OfFamily, Parts, columns_of

LONG = 120  # seconds to wait for each chunk of a view that is read
_CHOSEN = "temp.polygene_chosen"
ENVELOPE_BYTES = np.array([0, 32, 48, 48, 64, -1, -1, -1])


class _Columns(NamedTuple):
    """The columns that are read: the key, those of fields, and geometry if it is not left out."""

    key: str | None
    fields: list[pa.Field]
    has_geometry: bool = True


def _columns(connection: sqlite3.Connection, table: Table) -> _Columns:
    """Return the key and the attribute fields of a table or view."""
    found = columns_declared(connection, table)
    fields = [arrow_field(name, declared) for name, declared in found.fields]
    return _Columns(found.key, metadata.with_titles(connection, table.name, fields))


def _says(table: Table, own: GeometryColumn) -> bool:
    """Whether a table says that it holds geometry of the type of a column."""
    words = ("POINT", "LINESTRING", "POLYGON")[own.family]
    is_tall = (table.has_z, table.has_m) == (own.z is not None, own.m is not None)
    return is_tall and table.geometry_type == ("MULTI" if own.is_multi else "") + words


class _OtherBytesError(Exception):
    """Geometry is not what it was thought to be."""


def read(path: Path, name: str, wanted: Wanted = ALL, known: Known | None = None) -> Reading:
    """Read one layer; several come back if its geometry has mixed dimensions.

    Of what is not wanted, the rows outside the box are left in the file where there is a spatial
    index, and those that the filter leaves out where it looks at attributes only.

    Raises
    ------
    UnknownLayerError, FileError
    GeometryError
        If a row's geometry cannot be decoded.
    """
    try:
        return _read(path, name, wanted, is_strict=True, known=known)
    except _OtherBytesError:
        return _read(path, name, wanted, is_strict=True)
    except UnicodeDecodeError:
        reading = _read(path, name, wanted, is_strict=False)
        note = f"{name}: some text is not UTF-8; letters that cannot be read became \ufffd"
        return Reading(reading.layers, [*reading.notes, note])


def _read(
    path: Path, name: str, wanted: Wanted, is_strict: bool, known: Known | None = None
) -> Reading:
    with opened(path, is_strict) as connection:
        every = tables(connection)
        table = next((t for t in every if t.name == name), None)
        if table is None:
            raise UnknownLayerError(name, str(path), [t.name for t in every])
        columns = _columns(connection, table)
        looked_at = wanted.looked_at([field.name for field in columns.fields])
        if looked_at is not None and _is_of_one_family(table):
            fields = [field for field in columns.fields if field.name in looked_at]
            columns = _Columns(columns.key, fields, has_geometry=False)
        crs = read_crs(connection, table.srs_id) if table.has_geometry else None
        lineage, others = metadata.read(connection, table.name)
        total = _choose(connection, table, columns, wanted)
        if known is not None and not _says(table, known.geometry):
            known = None
        fetched = _fetch(
            connection, table, columns, path, chosen_only=total is not None, known=known
        )
        numbers = None
        if total is not None and fetched.ids is not None:
            numbers = _numbers(connection, table, columns, fetched.ids, total)
    notes = [f"{name}: field {f} {wrong}; read as text" for f, wrong in fetched.wrong.items()]
    layers = []
    for k, chosen in enumerate(fetched.chosen):
        own = name if len(fetched.chosen) == 1 else f"{name}_{chosen.geometry.family.words}"
        is_all = len(fetched.chosen) == 1
        layers.append(
            Layer(
                name=own,
                geometry=chosen.geometry,
                table=fetched.table if is_all else pc.take(fetched.table, row_numbers(chosen.rows)),
                crs=crs,
                ids=fetched.ids if is_all or fetched.ids is None else fetched.ids[chosen.rows],
                title=table.title if k == 0 and table.title != table.name else "",
                description=table.description,
                total=total,
                rows=_of_kind(numbers, chosen.rows, is_all),
                lineage=lineage,
                metadata=others,
                no_geometry="" if table.has_geometry else "it has attributes only",
            )
        )
    if len(layers) > 1:
        counts = ", ".join(f"{layer.name} ({layer.n_rows:,})" for layer in layers)
        notes.append(f"{name} holds geometry of several dimensions; taken as layers {counts}")
    return Reading(layers, notes)


def _of_kind(numbers: I64Array | None, rows: I64Array, is_all: bool) -> I64Array | None:
    """Return the numbers of the rows of one kind; nothing where a layer has all of the table."""
    if is_all:
        return numbers
    return rows if numbers is None else numbers[rows]


def _numbers(
    connection: sqlite3.Connection,
    table: Table,
    columns: _Columns,
    ids: I64Array,
    total: int,
) -> I64Array:
    """Return which of the ``total`` rows of the table, in the order of their keys, have some keys."""
    key, source = quoted(str(columns.key)), quoted(table.name)
    least, most = _ends(connection, source, key)
    if total and most - least + 1 == total:  # without gaps, as most are
        return ids - least
    keys = connection.execute(f"SELECT {key} FROM {source} ORDER BY {key}").fetchall()
    return np.searchsorted(np.array(keys, np.int64).reshape(-1), ids)


def _ends(connection: sqlite3.Connection, source: str, key: str) -> tuple[int, int]:
    """Return the least key and the greatest: asked for together, SQLite would look at all rows."""
    least, most = (f"(SELECT {what}({key}) FROM {source})" for what in ("min", "max"))
    found: tuple[int, int] = connection.execute(f"SELECT {least}, {most}").fetchone()
    return found


def _spanned(
    connection: sqlite3.Connection, source: str, key: str, span: tuple[int, int], total: int
) -> str:
    """Return the condition that only rows ``span``, in the order of their keys, meet."""
    least, most = _ends(connection, source, key)
    if total and most - least + 1 == total:  # without gaps, as most are
        return f"{key} >= {least + span[0]} AND {key} < {least + span[1]}"
    ends = []
    for at in span:
        found = connection.execute(
            f"SELECT {key} FROM {source} ORDER BY {key} LIMIT 1 OFFSET {int(at)}"
        ).fetchone()
        ends.append(found[0] if found else None)
    first = f"{key} >= {ends[0]}" if ends[0] is not None else "0"
    return first if ends[1] is None else f"{first} AND {key} < {ends[1]}"


class _Fetched(NamedTuple):
    chosen: list[OfFamily]
    table: pa.Table
    ids: I64Array | None
    wrong: dict[str, str]


@collecting_no_garbage()
def _choose(
    connection: sqlite3.Connection, table: Table, columns: _Columns, wanted: Wanted
) -> int | None:
    """Put the keys of the rows wanted in a table of the connection's own; return how many there are.

    None if all are to be read.
    """
    if columns.key is None:
        return None
    source, key = quoted(table.name), quoted(columns.key)
    clauses: list[str] = []
    index = f"rtree_{table.name}_{table.geometry_column}"
    if wanted.box is not None and table.has_geometry and _has_table(connection, index):
        x0, y0, x1, y1 = map(float, wanted.box)
        clauses.append(
            f"{key} IN (SELECT id FROM {quoted(index)} WHERE maxx >= {x0!r} AND minx <= {x1!r} "
            f"AND maxy >= {y0!r} AND miny <= {y1!r})"
        )
    names = wanted.fields([field.name for field in columns.fields])
    if not names and not clauses and wanted.span is None:
        return None
    total = int(connection.execute(f"SELECT count(*) FROM {source}").fetchone()[0])
    if wanted.span is not None:
        names = []
        clauses.append(_spanned(connection, source, key, wanted.span, total))
    place = f" WHERE {' AND '.join(clauses)}" if clauses else ""
    connection.execute("PRAGMA temp_store = MEMORY")
    connection.execute(f"DROP TABLE IF EXISTS {_CHOSEN}")  # of a layer read before
    connection.execute(f"CREATE TEMP TABLE {_CHOSEN} (id INTEGER PRIMARY KEY)")
    if not names:
        connection.execute(f"INSERT INTO {_CHOSEN} SELECT {key} FROM {source}{place}")
        return total
    fields = [field for field in columns.fields if field.name in names]
    listed = ", ".join(quoted(name) for name in (columns.key, *(f.name for f in fields)))
    rows = connection.execute(f"SELECT {listed} FROM {source}{place}").fetchall()
    keys, *values = [[row[k] for row in rows] for k in range(1 + len(fields))]
    arrays = [to_arrow(own, field) for own, field in zip(values, fields, strict=True)]
    if any(wrong for _, wrong in arrays):
        connection.execute(f"DROP TABLE {_CHOSEN}")
        return None
    kept = [f.with_type(a.type) for f, (a, _) in zip(fields, arrays, strict=True)]
    chosen = wanted.rows(pa.table([a for a, _ in arrays], pa.schema(kept)))
    if 2 * chosen.sum() > total:  # looking so many up costs more than reading past the others
        connection.execute(f"DROP TABLE {_CHOSEN}")
        return None
    connection.executemany(
        f"INSERT INTO {_CHOSEN} VALUES (?)", ((keys[k],) for k in np.flatnonzero(chosen).tolist())
    )
    return total


def _has_table(connection: sqlite3.Connection, name: str) -> bool:
    found = "SELECT count(*) FROM sqlite_master WHERE lower(name) = lower(?)"
    return bool(connection.execute(found, (name,)).fetchone()[0])


@collecting_no_garbage()
def _fetch(
    connection: sqlite3.Connection,
    table: Table,
    columns: _Columns,
    path: Path,
    *,
    chosen_only: bool,
    known: Known | None,
) -> _Fetched:
    has_geometry = table.has_geometry and columns.has_geometry
    shapes = [quoted(table.geometry_column)] if has_geometry else ["NULL"]
    names = [field.name for field in columns.fields]
    has_keys = columns.key is not None and known is None
    if has_keys:
        names.append(str(columns.key))
    statement = (
        f"SELECT {', '.join([*shapes, *map(quoted, names)])} FROM {quoted(table.name)}"
        + (f" WHERE {quoted(str(columns.key))} IN {_CHOSEN}" if chosen_only else "")
        + (f" ORDER BY {quoted(columns.key)}" if columns.key else "")
    )
    parts: list[Parts] = []
    is_null: list[BoolArray] = []
    is_multi: list[BoolArray] = []
    keys: list[I64Array] = []
    chunks: list[list[pa.Array]] = [[] for _ in columns.fields]
    wrong: dict[str, str] = {}
    n_rows = 0
    for rows in _chunks(connection, statement, table.is_view):
        # Three times as fast as zip(), which turns thousands of rows by one of each at a time.
        values = [[row[k] for row in rows] for k in range(1 + len(names))]
        if known is not None:
            k = n_rows // CHUNK
            if list(known.sums[k : k + 1]) != [sum_of(values[0])]:
                raise _OtherBytesError
        else:
            blobs = _blobs(values[0], path, table.name)
            found, multi = _decode(blobs, f"{path}#{table.name}", n_rows)
            parts += found
            is_multi.append(multi)
            is_null.append(np.asarray(pc.is_null(blobs)))
        for k, field in enumerate(columns.fields):
            array, complaint = to_arrow(values[1 + k], field)
            chunks[k].append(array)
            if complaint:
                wrong[field.name] = complaint
        if has_keys:
            keys.append(np.array(values[-1], np.int64))
        n_rows += len(rows)
    ids = np.concatenate([np.zeros(0, np.int64), *keys]) if has_keys else None
    fields = _table(columns.fields, chunks, wrong)
    if known is not None:
        if known.geometry.n_rows != n_rows:
            raise _OtherBytesError
        return _Fetched([OfFamily(np.arange(n_rows), known.geometry)], fields, ids, wrong)
    no_rows = np.zeros(0, bool)
    is_multi_row = np.concatenate([no_rows, *is_multi])
    if table.geometry_type.startswith("MULTI"):
        is_multi_row[:] = True
    chosen = columns_of(
        parts,
        n_rows,
        np.concatenate([no_rows, *is_null]),
        is_multi_row,
        _declared_family(table.geometry_type),
    )
    return _Fetched(chosen, fields, ids, wrong)


def _chunks(connection: sqlite3.Connection, statement: str, is_view: bool) -> Iterator[list[Any]]:
    with patient(connection, is_view, LONG) as renew:
        cursor = connection.execute(statement)
        while rows := cursor.fetchmany(CHUNK):
            yield rows
            renew()


def _table(fields: list[pa.Field], chunks: list[list[pa.Array]], wrong: dict[str, str]) -> pa.Table:
    arrays, kept = [], []
    for field, own in zip(fields, chunks, strict=True):
        if field.name in wrong:
            field = pa.field(field.name, pa.string())
            own = [_as_text(chunk) for chunk in own]
        elif any(pa.types.is_float64(chunk.type) for chunk in own):  # more digits than declared
            field = field.with_type(pa.float64())
            own = [pc.cast(chunk, pa.float64()) for chunk in own]
        arrays.append(pa.chunked_array(own, field.type))
        kept.append(field)
    return pa.table(arrays, pa.schema(kept))


def _as_text(chunk: pa.Array) -> pa.Array:
    if pa.types.is_string(chunk.type):
        return chunk
    return pa.array([None if v is None else str(v) for v in chunk.to_pylist()], pa.string())


def _is_of_one_family(table: Table) -> bool:
    """Whether a table says of what family its geometry is, or has none."""
    words = ("POINT", "LINESTRING", "POLYGON")
    return not table.has_geometry or table.geometry_type.removeprefix("MULTI") in words


def _declared_family(geometry_type: str) -> Family:
    if "POINT" in geometry_type:
        return Family.POINTS
    return Family.LINES if "LINE" in geometry_type else Family.POLYGONS


def _blobs(values: list[bytes | None], path: Path, name: str) -> pa.Array:
    try:
        return pa.array(values, pa.large_binary())
    except (pa.ArrowTypeError, pa.ArrowInvalid) as err:
        raise FileError(f"{path}#{name}: a geometry is no blob; the layer is damaged") from err


def _decode(blobs: pa.Array, where: str, first: int) -> tuple[list[Parts], BoolArray]:
    """Decode the standard's geometry blobs: a header, then WKB."""
    data: U8Array
    offsets = np.frombuffer(blobs.buffers()[1], np.int64)[: len(blobs) + 1]
    buffer = blobs.buffers()[2]
    data = np.frombuffer(buffer, np.uint8) if buffer is not None else np.zeros(0, np.uint8)
    starts, stops = offsets[:-1].copy(), offsets[1:]
    has = np.flatnonzero(~np.asarray(pc.is_null(blobs)))

    def refuse(row: int, reason: str) -> GeometryError:
        return GeometryError(
            where,
            f"row {first + row + 1}",
            reason,
            "delete the row or its geometry, or take the layer from its source again",
        )

    at = starts[has]
    is_short = stops[has] - at < 8
    if is_short.any():
        raise refuse(int(has[is_short][0]), "its geometry is cut short")
    is_strange = (data[at] != ord("G")) | (data[at + 1] != ord("P"))
    if is_strange.any():
        raise refuse(int(has[is_strange][0]), "its geometry is no GeoPackage geometry")
    flags = data[at + 3]
    is_extended = (flags & 32) > 0
    if is_extended.any():
        raise refuse(int(has[is_extended][0]), "its geometry is of an extended type")
    size = ENVELOPE_BYTES[(flags >> 1) & 7]
    is_wrong = (size < 0) | (at + 8 + size > stops[has])
    if is_wrong.any():
        raise refuse(int(has[is_wrong][0]), "the envelope of its geometry is damaged")
    starts[has] = at + 8 + size
    try:
        return wkb.parts_of(data, starts, stops, first)
    except wkb.WkbError as err:
        raise refuse(err.row, err.reason) from err
