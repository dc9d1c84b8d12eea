"""Rows that are put into tables of a file that is being written, from arrays."""

from __future__ import annotations

import contextlib
import ctypes
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import TypeAlias

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels
from polygene.arrays import I64Array
from polygene.formats.geopackage.library import (
    BLOB,
    REAL,
    TEXT,
    WHOLE,
    WRITING,
    NotSoError,
    connected,
    library,
    prepared,
    run,
)
from polygene.formats.geopackage.values import insert

# Puts rows, given column by column as `to_sqlite` gives them, into a table of this quoted name.
Put: TypeAlias = Callable[[str, Sequence[pa.Array]], None]

MANY = 1000  # rows, for which it is worth that the file is opened once more
FAST = ("PRAGMA journal_mode = OFF", "PRAGMA synchronous = OFF")  # of a file that nobody sees yet
_MOST = (1 << 31) - 1  # bytes of a value; SQLite itself takes fewer


@contextlib.contextmanager
def putting(connection: sqlite3.Connection, path: Path, n_rows: int) -> Iterator[Put]:
    """Give what puts rows into tables that are there, of a database that is open and in a transaction.

    Many are put by a second connection; the first one's changes are kept for that, and it may not be
    used meanwhile.

    Raises
    ------
    sqlite3.DatabaseError
        If SQLite refuses a row.
    """
    if n_rows < MANY or library() is None:
        yield partial(insert, connection)
        return
    connection.execute("COMMIT")
    other = None
    with contextlib.ExitStack() as stack:
        with contextlib.suppress(NotSoError):
            place, before = path.resolve().as_uri(), [*FAST, "BEGIN IMMEDIATE"]
            other = stack.enter_context(connected(place, WRITING, before))
        if other is not None:
            yield partial(put_rows, other)
            try:
                run(other, "COMMIT")
            except NotSoError as err:
                raise _complaint(other) from err
    connection.execute("BEGIN")
    if other is None:
        yield partial(insert, connection)


def put_rows(connection: ctypes.c_void_p, target: str, columns: Sequence[pa.Array]) -> None:
    """Put rows into a table of a connection that `connected` gives.

    Raises
    ------
    sqlite3.DatabaseError
    """
    found = library()
    assert found is not None
    statement = f"INSERT INTO {target} VALUES ({', '.join('?' * len(columns))})"
    own = [_Bound(column) for column in columns]
    try:
        with prepared(connection, statement, len(columns)) as handle:
            fault = kernels.run(
                kernels.steps.put_rows,
                found.putting,
                handle,
                np.array([column.kind for column in own], np.int32),
                _places([column.values for column in own]),
                _places([column.offsets for column in own]),
                _places([column.is_null for column in own]),
                len(columns[0]),
            )
            if fault:
                raise _complaint(connection)
    except NotSoError as err:
        raise _complaint(connection) from err


def _places(arrays: Sequence[np.ndarray | None]) -> I64Array:
    return np.array([0 if a is None else a.ctypes.data for a in arrays], np.int64)


def _complaint(connection: ctypes.c_void_p) -> sqlite3.DatabaseError:
    found = library()
    assert found is not None
    text = found.functions.sqlite3_errmsg(connection).decode("utf-8", "replace")
    return sqlite3.OperationalError(text)


class _Bound:
    """The arrays of a column, as the kernel takes them."""

    def __init__(self, column: pa.Array) -> None:
        self.is_null = None
        if column.null_count:
            self.is_null = np.asarray(pc.is_null(column)).view(np.uint8)
        self.offsets: I64Array | None = None
        if pa.types.is_integer(column.type) or pa.types.is_floating(column.type):
            self.kind = WHOLE if pa.types.is_integer(column.type) else REAL
            full = pc.fill_null(column, 0) if column.null_count else column
            kind = np.int64 if self.kind == WHOLE else np.float64
            self.values = np.ascontiguousarray(full.to_numpy(), kind)
            return
        is_text = pa.types.is_string(column.type) or pa.types.is_large_string(column.type)
        is_large = pa.types.is_large_string(column.type) or pa.types.is_large_binary(column.type)
        self.kind = TEXT if is_text else BLOB
        _, offsets, data = column.buffers()
        found = np.frombuffer(offsets, np.int64 if is_large else np.int32)
        self.offsets = found[column.offset : column.offset + len(column) + 1].astype(np.int64)
        if len(column) and int(np.diff(self.offsets).max()) > _MOST:
            raise sqlite3.DataError("string or blob too big")
        # There is an address even where there are no bytes, for none is a null to SQLite.
        has_bytes = data is not None and data.size > 0
        self.values = np.frombuffer(data, np.uint8) if has_bytes else np.zeros(1, np.uint8)
