"""Column types: SQL's names on one side, Arrow's on the other."""

from __future__ import annotations

import itertools
import sqlite3
import zlib
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array
from polygene.formats import moments
from polygene.formats.geopackage.types import field_type
from polygene.table.types import is_blob

CHUNK = 10_000  # rows put into a table or fetched from it at a time
MOST_VALUES = 400  # put in by one statement; SQLite takes 999 at least (Limits, section 9)

_TYPES = {
    str(kind): kind
    for kind in (
        pa.bool_(),
        *(pa.int8(), pa.int16(), pa.int32(), pa.int64(), pa.float32(), pa.float64()),
        *(pa.date32(), pa.timestamp("ms", tz="UTC"), pa.string(), pa.binary()),
    )
}
_TO_NAME = [
    (pa.types.is_boolean, "BOOLEAN"),
    (pa.types.is_int8, "TINYINT"),
    (lambda t: pa.types.is_int16(t) or pa.types.is_uint8(t), "SMALLINT"),
    (lambda t: pa.types.is_int32(t) or pa.types.is_uint16(t), "MEDIUMINT"),
    (pa.types.is_integer, "INTEGER"),
    (lambda t: pa.types.is_float32(t) or pa.types.is_float16(t), "FLOAT"),
    (pa.types.is_floating, "DOUBLE"),
    (pa.types.is_decimal, "DOUBLE"),
    (pa.types.is_date, "DATE"),
    (pa.types.is_timestamp, "DATETIME"),
    (is_blob, "BLOB"),
]


def sum_of(blobs: Sequence[bytes | None]) -> int:
    """Return a checksum (CRC-32) of blobs, with the length of each and which are null."""
    if None in blobs:
        lengths = np.array([-1 if blob is None else len(blob) for blob in blobs], np.int64)
        blobs = [blob for blob in blobs if blob is not None]
    else:
        lengths = np.fromiter(map(len, blobs), np.int64, len(blobs))  # type: ignore[arg-type]
    return sum_of_bytes(b"".join(blobs), lengths)  # type: ignore[arg-type]


def sum_of_bytes(whole: bytes, lengths: I64Array) -> int:
    """Return the same of blobs that lie in a row, from the length of each."""
    return zlib.crc32(whole, zlib.crc32(lengths.tobytes()))


def arrow_field(name: str, declared: str) -> pa.Field:
    """Return the field for a column by its declared type; its width goes into the metadata."""
    kind, width = field_type(declared)
    keeps_width = width and kind in ("string", "binary")
    return pa.field(name, _TYPES[kind], metadata={"width": width} if keeps_width else None)


def sql_type(field: pa.Field) -> str:
    """Return the declared type to write for a field."""
    name = next((name for test, name in _TO_NAME if test(field.type)), "TEXT")
    width = (field.metadata or {}).get(b"width")
    return f"{name}({width.decode()})" if width and name in ("TEXT", "BLOB") else name


def to_arrow(values: Sequence[Any], field: pa.Field) -> tuple[pa.Array, str]:
    """Return one column as fetched from SQLite, and what is wrong if it had to be read as text.

    SQLite does not hold columns to their type: one that breaks it is read as text, loss-free.
    """
    try:
        return _typed(values, field.type), ""
    except (pa.ArrowInvalid, pa.ArrowTypeError, ValueError, TypeError, OverflowError):
        return as_text(values), breaks(field)


def breaks(field: pa.Field) -> str:
    """Return what is wrong with a column that is not of the type of its field."""
    return f"holds values that are no {sql_type(field)}"


def as_text(values: Sequence[Any]) -> pa.Array:
    """Return values as texts, blobs as hexadecimal digits."""
    texts = [None if v is None else v.hex() if isinstance(v, bytes) else str(v) for v in values]
    return pa.array(texts, pa.string())


def _typed(values: Sequence[Any], kind: pa.DataType) -> pa.Array:
    if pa.types.is_date(kind) or pa.types.is_timestamp(kind):
        return pc.cast(pa.array(values, pa.string()), kind)
    if pa.types.is_boolean(kind):
        numbers = pa.array(values, pa.int64())
        if pc.any(pc.or_(pc.less(numbers, 0), pc.greater(numbers, 1))).as_py():
            raise ValueError("no boolean")
        return pc.cast(numbers, kind)
    if pa.types.is_floating(kind):
        # The values may be whole numbers to SQLite, which keeps 64 bits whatever is declared.
        whole = pa.array(values, pa.float64())
        found = pc.cast(whole, kind, safe=False)
        is_same = pc.all(
            pc.filter(pc.equal(pc.cast(found, pa.float64()), whole), pc.is_finite(whole))
        ).as_py()
        return whole if is_same is False else found
    return pa.array(values, kind)


def insert(connection: sqlite3.Connection, target: str, columns: Sequence[Sequence[Any]]) -> None:
    """Put rows, given column by column, into a table, whose quoted name ``target`` is.

    A statement that puts in many rows takes a third less than as many that put in one each.
    """
    n_rows, width = len(columns[0]), len(columns)
    several = max(1, MOST_VALUES // width)
    values = itertools.chain.from_iterable(zip(*columns, strict=True))
    for n in (several, 1):
        n_times = n_rows // n
        n_rows -= n * n_times
        some = itertools.islice(values, n * n_times * width)
        row = f"({', '.join('?' * width)})"
        statement = f"INSERT INTO {target} VALUES {', '.join([row] * n)}"
        connection.executemany(statement, zip(*[some] * (n * width), strict=True))


def to_sqlite(column: pa.ChunkedArray) -> list[Any]:
    """Return a column as values that SQLite takes.

    Raises
    ------
    OverflowError
        If a whole number does not fit 64 bits with a sign.
    """
    kind = column.type
    if pa.types.is_dictionary(kind):
        column = pc.cast(column, kind.value_type)
        kind = column.type
    column = moments.as_text(column)
    if pa.types.is_boolean(kind):
        column = pc.cast(column, pa.int8())
    elif pa.types.is_decimal(kind) or pa.types.is_floating(kind):
        column = pc.cast(column, pa.float64())
    elif pa.types.is_uint64(kind):
        try:
            column = pc.cast(column, pa.int64())
        except pa.ArrowInvalid as err:
            raise OverflowError("a whole number is larger than 64 bits with a sign hold") from err
    if pa.types.is_integer(column.type) or pa.types.is_floating(column.type):
        return _numbers(column)
    if pa.types.is_string(column.type) or pa.types.is_binary(column.type):
        return list(column.to_numpy())
    if pa.types.is_large_string(column.type) or pa.types.is_large_binary(column.type):
        return list(column.to_numpy())
    if pa.types.is_null(column.type):
        return [None] * len(column)
    return [None if value is None else str(value) for value in column.to_pylist()]


def _numbers(column: pa.ChunkedArray) -> list[Any]:
    """Return Python numbers, None for null: five times faster than Arrow's own list."""
    if column.null_count == 0:
        return list(column.to_numpy().tolist())
    is_null = np.asarray(pc.is_null(column))
    values = pc.fill_null(column, 0).to_numpy().astype(object)
    values[is_null] = None
    return list(values.tolist())
