"""Writing layers into a GeoPackage, new or existing, whole or not at all."""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import parallel
from polygene.arrays import I64Array, U8Array, offsets_from, take_spans
from polygene.classes import NamedTuple
from polygene.commit.together import replacing, until_in_place
from polygene.errors import DataError, FileError
from polygene.formats import wkb
from polygene.formats.base import Way, Written, collecting_no_garbage
from polygene.formats.columns import NotKept
from polygene.formats.geopackage import metadata, package, schema, spatial_index, systems
from polygene.formats.geopackage.putting import Put, putting
from polygene.formats.geopackage.values import (
    CHUNK,
    sql_type,
    sum_of,
    to_sqlite,
)
from polygene.formats.pieces import Pieces
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.provenance import told
from polygene.table.tokens import quoted

OURS = ("id", "geometry")  # key and geometry of a new layer, as in the standard's own examples
# Pages of 16 kB are a tenth faster to write and read back, and wasteful where there is little.
MANY, LARGE_PAGE = 250_000, 16_384  # vertices, bytes
PATIENCE = 5  # seconds to wait for a program that edits the same file
# SQLite itself soon looks once in 100 ms only: who keeps one edit after another would be in each time.
BETWEEN_LOOKS = 0.0002  # seconds
_TYPE_NAMES = {Family.POINTS: "POINT", Family.LINES: "LINESTRING", Family.POLYGONS: "POLYGON"}


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write layers; those of the same name are replaced, others in the file stay.

    The work is done on a copy beside the file, which takes its place at the end: killed at any
    moment, the file is what it was, with no journal beside it. From the copy until it is in place
    the file is locked as SQLite locks: another program's edits are in the copy, or that program is
    told to wait.

    Raises
    ------
    FileError
        If it cannot be written.
    DataError
        If fields have names that SQL takes for the same, or numbers that do not fit.
    """
    added = _write(path, [Pieces.of(layer) for layer in layers])
    sums = {
        layer.name: [s for piece in own.sums for s in piece]
        for layer, own in zip(layers, added, strict=True)
        if not layer.is_table
    }
    way = Way(frozenset[str]().union(*(own.kept.fields for own in added)))
    return Written([note for own in added for note in own.kept.notes], layers, way, sums)


def write_pieces(path: Path, layers: Sequence[Pieces]) -> Written:
    """Write layers piece by piece, as `write` does; the sums are those of each piece.

    Raises
    ------
    FileError, DataError
        As of `write`.
    """
    added = _write(path, layers)
    named = list(zip(layers, added, strict=True))
    sums = {layer.like.name: own.sums for layer, own in named if not layer.like.is_table}
    way = Way(frozenset[str]().union(*(own.kept.fields for own in added)))
    return Written([n for own in added for n in own.kept.notes], [], way, sums_of_pieces=sums)


def _write(path: Path, layers: Sequence[Pieces]) -> list[_Added]:
    exists = path.exists()
    with _worded(path), collecting_no_garbage(), replacing(path) as temporary:
        if exists:
            until_in_place(_locked(path))
            _copy(path, temporary)
        connection = sqlite3.connect(temporary, isolation_level=None)
        try:
            connection.execute("PRAGMA journal_mode = OFF")
            connection.execute("PRAGMA synchronous = OFF")
            connection.execute("PRAGMA foreign_keys = OFF")
            if not exists and sum(layer.n_vertices for layer in layers) > MANY:
                connection.execute(f"PRAGMA page_size = {LARGE_PAGE}")
            connection.execute("BEGIN")
            if not exists:
                schema.create_core(connection)
            names: dict[str, tuple[str, str]] = {}
            for layer in layers if exists else ():
                names[layer.like.name] = _drop(connection, layer.like.name)
            added = []
            with schema.growing(connection, len(layers)) as step:
                for layer in layers:
                    step()
                    wished = names.get(layer.like.name, OURS)
                    added.append(_add(connection, temporary, layer, wished))
            schema.enter(connection, [entry for own in added for entry in own.entries])
            connection.execute("COMMIT")
        finally:
            connection.close()
    return added


@contextlib.contextmanager
def _worded(path: Path) -> Iterator[None]:
    try:
        yield
    except sqlite3.DatabaseError as err:
        raise FileError(f"cannot write {path}: {package.worded(err)}") from err


@contextlib.contextmanager
def _locked(path: Path) -> Iterator[None]:
    """Keep others from writing into a database, if there is one.

    First the file itself takes in its log, for one left beside it would be read as the log of the
    file that takes its place. While another program has it open in that mode, or has changes that are
    not kept yet, this is refused after `PATIENCE` seconds. A program that comes later and has the old
    file open finds it moved when it begins to write (SQLite, SQLITE_READONLY_DBMOVED).
    """
    if not path.exists():
        yield
        return
    # While this lock is held the file must not be opened and closed by other means: closing any
    # handle of a file gives up all locks that the process has on it (POSIX, fcntl).
    connection = sqlite3.connect(path, isolation_level=None, timeout=0)
    try:
        until = time.monotonic() + PATIENCE
        while not _is_taken(connection):
            if time.monotonic() > until:
                raise sqlite3.OperationalError("database is locked")
            time.sleep(BETWEEN_LOOKS)
        yield
    finally:
        connection.close()


def _is_taken(connection: sqlite3.Connection) -> bool:
    """Return whether the lock could be had now, with no log beside the file."""
    try:
        connection.execute("PRAGMA journal_mode = DELETE")
        connection.execute("BEGIN IMMEDIATE")
    except sqlite3.OperationalError as err:
        if err.sqlite_errorcode & 0xFF == sqlite3.SQLITE_BUSY:  # the low byte: whatever the reason
            return False
        raise
    if connection.execute("PRAGMA journal_mode").fetchone()[0] == "wal":
        connection.execute("ROLLBACK")
        return False
    return True


def _copy(path: Path, temporary: Path) -> None:
    """Copy a database as it stands; by a connection of its own, for one that may write cannot."""
    source, target = sqlite3.connect(path), sqlite3.connect(temporary)
    try:
        target.execute("PRAGMA journal_mode = OFF")
        target.execute("PRAGMA synchronous = OFF")
        source.backup(target)
    finally:
        target.close()
        source.close()


def _drop(connection: sqlite3.Connection, name: str) -> tuple[str, str]:
    """Take out a layer with all that hangs on it; return what its key and geometry were called.

    Whatever else knows the file knows these names, so a layer that is replaced keeps them.
    """
    found = connection.execute(
        "SELECT g.table_name, g.column_name FROM gpkg_geometry_columns g "
        "WHERE lower(g.table_name) = lower(?)",
        (name,),
    ).fetchone()
    if found is None:  # a table without geometry, perhaps
        found = connection.execute(
            "SELECT table_name, NULL FROM gpkg_contents WHERE lower(table_name) = lower(?)", (name,)
        ).fetchone()
    if found is None:
        return OURS
    table, column = found
    keys: list[tuple[Any, ...]] = []
    with contextlib.suppress(sqlite3.OperationalError):  # of a view of what is no more
        keys = connection.execute(f"PRAGMA table_xinfo({quoted(table)})").fetchall()
    key = next((str(row[1]) for row in keys if row[5] > 0), OURS[0])
    if column is not None:
        connection.execute(f"DROP TABLE IF EXISTS {quoted(f'rtree_{table}_{column}')}")
    is_view = connection.execute(
        "SELECT count(*) FROM sqlite_master WHERE type = 'view' AND name = ?", (table,)
    ).fetchone()[0]
    connection.execute(f"DROP {'VIEW' if is_view else 'TABLE'} IF EXISTS {quoted(table)}")
    has_extensions = connection.execute(
        "SELECT count(*) FROM sqlite_master WHERE name = 'gpkg_extensions'"
    ).fetchone()[0]
    metadata.forget(connection, table)
    for place, is_there in (
        ("gpkg_geometry_columns", True),
        ("gpkg_contents", True),
        ("gpkg_extensions", has_extensions),
    ):
        if is_there:
            connection.execute(f"DELETE FROM {place} WHERE table_name = ?", (table,))
    return key, column or OURS[1]


class _Added(NamedTuple):
    """What is still to be entered in the database's schema, and what became of the values.

    sums : of the geometry of each piece, as `_put_rows` gives them
    """

    entries: list[schema.Entry]
    sums: list[list[int]]
    kept: NotKept


def _add(
    connection: sqlite3.Connection, path: Path, layer: Pieces, wished: tuple[str, str]
) -> _Added:
    """Add a layer to the database that is open and lies at a path."""
    like = layer.like
    names = _column_names(like, wished)
    srs_id = 0 if like.is_table else systems.ensure_crs(connection, like.crs)
    shapes = [] if like.is_table else [f"{quoted(names.geometry)} {_type_name(like.geometry)}"]
    fields = [f"{quoted(field.name)} {sql_type(field)}" for field in like.table.schema]
    key = f"{quoted(names.key)} INTEGER PRIMARY KEY NOT NULL"
    connection.execute(f"CREATE TABLE {quoted(like.name)} ({', '.join([key, *shapes, *fields])})")
    _register(connection, layer, names.geometry, srs_id)
    # SQLite takes what is no number for null.
    kept = NotKept(like.name, keeps_nan=False, keeps_infinite=True)
    sums: list[list[int]] = []
    ids, bounds = [np.zeros(0, np.int64)], [np.zeros((0, 4))]
    n_rows = 0
    with putting(connection, path, layer.n_rows) as put:
        for piece in layer.each():
            kept.look(piece.table)
            is_all = piece.n_rows == layer.n_rows
            ids.append(_ids(piece) if is_all else _counted(n_rows, piece.n_rows))
            bounds.append(piece.geometry.row_bounds())
            sums.append(_put_rows(put, piece, names, ids[-1], srs_id))
            n_rows += piece.n_rows
    told_so = replace(like, lineage=told(like.lineage, kept.notes))
    metadata.write(connection, told_so)
    metadata.write_titles(connection, like)
    _recount(connection, like.name, n_rows)
    if like.is_table:
        return _Added([], sums, kept)
    entries = _index(
        connection, path, like.name, names, np.concatenate(ids), np.concatenate(bounds, axis=0)
    )
    return _Added(entries, sums, kept)


def _recount(connection: sqlite3.Connection, layer: str, n_rows: int) -> None:
    """Set the number of features in tables that other programs keep of them.

    They hold them up to date by triggers, which have gone with the table that was replaced.
    """
    found = connection.execute(
        "SELECT m.name FROM sqlite_master m JOIN pragma_table_info(m.name) c "
        "WHERE m.type = 'table' AND lower(c.name) IN ('table_name', 'feature_count') "
        "GROUP BY m.name HAVING count(*) = 2"
    ).fetchall()
    for (name,) in found:
        connection.execute(
            f"UPDATE {quoted(name)} SET feature_count = ? WHERE lower(table_name) = lower(?)",
            (n_rows, layer),
        )


class _Names:
    """The names of key and geometry column, chosen so that they clash with no field."""

    def __init__(self, key: str, geometry: str) -> None:
        self.key, self.geometry = key, geometry


def _column_names(layer: Layer, wished: tuple[str, str]) -> _Names:
    folded: dict[str, str] = {}
    for name in layer.table.column_names:
        other = folded.setdefault(name.lower(), name)
        if other is not name:
            raise DataError(
                f"layer {layer.name!r} has fields {other!r} and {name!r}: a GeoPackage takes names "
                "that differ only by case for the same; rename one of them"
            )

    def free(name: str) -> str:
        k, chosen = 1, name
        while chosen.lower() in folded:
            k, chosen = k + 1, f"{name}_{k + 1}"
        folded[chosen.lower()] = chosen
        return chosen

    return _Names(free(wished[0]), free(wished[1]))


def _type_name(column: GeometryColumn) -> str:
    return ("MULTI" if column.is_multi else "") + _TYPE_NAMES[column.family]


def _ids(layer: Layer) -> I64Array:
    """Return the features' own identifiers if they can serve as keys, else 1, 2, 3 ...

    Rows lie in a file in the order of their keys, so only rising ones keep the order.
    """
    if layer.ids is not None and (np.diff(layer.ids) > 0).all():
        return layer.ids
    return _counted(0, layer.n_rows)


def _counted(before: int, n: int) -> I64Array:
    return np.arange(before + 1, before + n + 1, dtype=np.int64)


def _register(connection: sqlite3.Connection, pieces: Pieces, geometry: str, srs_id: int) -> None:
    layer, extent = pieces.like, pieces.extent() or (None,) * 4
    title = layer.title or layer.name
    taken = connection.execute(
        "SELECT count(*) FROM gpkg_contents WHERE identifier = ?", (title,)
    ).fetchone()[0]
    connection.execute(
        "INSERT INTO gpkg_contents (table_name, data_type, identifier, description, "
        "min_x, min_y, max_x, max_y, srs_id) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            layer.name,
            "attributes" if layer.is_table else "features",
            layer.name if taken else title,
            layer.description,
            *extent,
            srs_id,
        ),
    )
    if layer.is_table:
        return
    column = layer.geometry
    has_z, has_m = column.z is not None, column.m is not None
    connection.execute(
        "INSERT INTO gpkg_geometry_columns VALUES (?, ?, ?, ?, ?, ?)",
        (layer.name, geometry, _type_name(column), srs_id, int(has_z), int(has_m)),
    )


class _Chunk(NamedTuple):
    """Columns of some rows as they are put into a table, and a sum of their geometry."""

    columns: list[pa.Array]
    own_sum: int


def _put_rows(put: Put, layer: Layer, names: _Names, ids: I64Array, srs_id: int) -> list[int]:
    """Put rows into the table; return a sum of the geometry of each `CHUNK` of them."""
    fields = layer.table.column_names
    columns = [names.key, *([] if layer.is_table else [names.geometry]), *fields]
    target = f"{quoted(layer.name)} ({', '.join(map(quoted, columns))})"
    sums = []
    with contextlib.closing(parallel.one_ahead(_chunks(layer, ids, srs_id))) as chunks:
        for chunk in chunks:
            put(target, chunk.columns)
            sums.append(chunk.own_sum)
    return [] if layer.is_table else sums


def _chunks(layer: Layer, ids: I64Array, srs_id: int) -> Iterator[_Chunk]:
    bounds = layer.geometry.row_bounds()
    for start in range(0, layer.n_rows, CHUNK):
        stop = min(start + CHUNK, layer.n_rows)
        table = layer.table.slice(start, stop - start)
        try:
            values = [to_sqlite(column) for column in table.columns]
        except OverflowError as err:
            raise DataError(f"layer {layer.name!r}: {err}") from err
        keys = pc.column(ids[start:stop])
        if layer.is_table:
            yield _Chunk([keys, *values], 0)
            continue
        geometry = layer.geometry.slice_rows(start, stop)
        blobs = geometry_blobs(geometry, srs_id, bounds[start:stop])
        yield _Chunk([keys, blobs, *values], sum_of(blobs))


def geometry_blobs(column: GeometryColumn, srs_id: int, bounds: np.ndarray) -> pa.Array:
    """Return the standard's geometry blobs (section 2.1.3): header, envelope, WKB; null for null.

    Points have no envelope; that of an empty geometry is of NaNs.
    """
    is_empty = column.is_empty
    has_envelope = column.family != Family.POINTS
    prefix: U8Array = np.zeros((column.n_rows, 8 + 32 * has_envelope), np.uint8)
    prefix[:, 0:2] = (ord("G"), ord("P"))
    prefix[:, 3] = 1 | (2 if has_envelope else 0) | np.where(is_empty, 16, 0)
    prefix[:, 4:8] = np.array([srs_id], "<i4").view(np.uint8)
    if has_envelope:
        envelope = np.ascontiguousarray(bounds[:, [0, 2, 1, 3]], "<f8")
        envelope[is_empty] = np.nan
        prefix[:, 8:40] = envelope.view(np.uint8).reshape(-1, 32)
    data, offsets = wkb.encode(column, prefix)
    is_null = np.asarray(column.is_null)
    if is_null.any():
        lengths = np.where(is_null, 0, np.diff(offsets))
        data = take_spans(data, offsets[:-1], lengths)
        offsets = offsets_from(lengths)
    return pc.of_bytes(pa.large_binary(), offsets, data, is_null)


def _index(
    connection: sqlite3.Connection,
    path: Path,
    name: str,
    names: _Names,
    ids: I64Array,
    bounds: np.ndarray,
) -> list[schema.Entry]:
    """Build the spatial index; return its entries in the schema, with the standard's triggers."""
    index = f"rtree_{name}_{names.geometry}"
    has_box = np.isfinite(bounds).all(axis=1)
    spatial_index.build(connection, path, index, ids[has_box], bounds[has_box])
    connection.execute(schema.EXTENSIONS_TABLE)
    connection.execute(
        "INSERT INTO gpkg_extensions VALUES (?, ?, ?, ?, ?)",
        (name, names.geometry, *schema.RTREE_EXTENSION),
    )
    entries = [schema.Entry("table", index, index, 0, spatial_index.definition(index))]
    for suffix, body in schema.RTREE_TRIGGERS.items():
        filled = body.format(
            t=quoted(name), c=quoted(names.geometry), i=quoted(names.key), r=quoted(index)
        )
        sql = f"CREATE TRIGGER {quoted(f'{index}_{suffix}')} {filled}"
        entries.append(schema.Entry("trigger", f"{index}_{suffix}", name, 0, sql))
    return entries
