"""Column types: SQL's names on one side, Arrow's on the other."""

from __future__ import annotations

import itertools
import sqlite3
import zlib
from collections.abc import Sequence
from typing import Any, TypeAlias

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array
from polygene.formats import moments
from polygene.formats.geopackage.library import BLOB, REAL, TEXT, WHOLE
from polygene.formats.geopackage.types import field_type
from polygene.table.types import is_blob

Values: TypeAlias = "Sequence[Any] | pa.Array"  # as Python's module gives them, or as an array

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


def sum_of(blobs: Values) -> int:
    """Return a checksum (CRC-32) of blobs, with the length of each and which are null."""
    if isinstance(blobs, pa.Array):
        offsets = np.frombuffer(blobs.buffers()[1], np.int64)
        lengths = np.where(np.asarray(pc.is_null(blobs)), -1, np.diff(offsets))
        return sum_of_bytes(blobs.buffers()[2], lengths)
    if None in blobs:
        lengths = np.array([-1 if blob is None else len(blob) for blob in blobs], np.int64)
        blobs = [blob for blob in blobs if blob is not None]
    else:
        lengths = np.fromiter(map(len, blobs), np.int64, len(blobs))
    return sum_of_bytes(b"".join(blobs), lengths)


def sum_of_bytes(whole: bytes | pa.Buffer, lengths: I64Array) -> int:
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


def storage_class(kind: pa.DataType) -> int:
    """Return the class in which SQLite is to have the values of a type that `arrow_field` gives."""
    if pa.types.is_integer(kind) or pa.types.is_boolean(kind):
        return WHOLE
    if pa.types.is_floating(kind):
        return REAL
    return BLOB if is_blob(kind) else TEXT


def to_arrow(values: Values, field: pa.Field) -> tuple[pa.Array, str]:
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


def as_text(values: Values) -> pa.Array:
    """Return values as texts, blobs as hexadecimal digits."""
    texts = [None if v is None else v.hex() if isinstance(v, bytes) else str(v) for v in values]
    return pa.array(texts, pa.string())


def _typed(values: Values, kind: pa.DataType) -> pa.Array:
    if pa.types.is_date(kind):
        return pc.cast(_arrayed(values, pa.string()), kind)
    if pa.types.is_timestamp(kind):
        return _moments(_arrayed(values, pa.string()), kind)
    if pa.types.is_boolean(kind):
        numbers = _arrayed(values, pa.int64())
        if pc.any(pc.or_(pc.less(numbers, 0), pc.greater(numbers, 1))).as_py():
            raise ValueError("no boolean")
        return pc.cast(numbers, kind)
    if pa.types.is_floating(kind):
        # The values may be whole numbers to SQLite, which keeps 64 bits whatever is declared.
        whole = _arrayed(values, pa.float64())
        found = pc.cast(whole, kind, safe=False)
        is_same = pc.all(
            pc.filter(pc.equal(pc.cast(found, pa.float64()), whole), pc.is_finite(whole))
        ).as_py()
        return whole if is_same is False else found
    return _arrayed(values, kind)


def _moments(texts: pa.Array, kind: pa.DataType) -> pa.Array:
    """Return moments from texts, also of SQLite's own functions: without a T or a zone, of UTC."""
    try:
        return pc.cast(texts, kind)
    except pa.ArrowInvalid:
        found, is_cut = moments.from_texts(texts)
    if is_cut:
        raise ValueError("finer than is kept")
    return pc.cast(found, kind)


def _arrayed(values: Values, kind: pa.DataType) -> pa.Array:
    if not isinstance(values, pa.Array):
        return pa.array(values, kind)
    if pa.types.is_string(values.type) != pa.types.is_string(kind):
        raise TypeError(f"no {kind}")  # Arrow would read numbers from texts
    return pc.cast(values, kind)


def to_sqlite(column: pa.ChunkedArray) -> pa.Array:
    """Return a column as SQLite keeps it: of int64, float64, text or bytes.

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
    if pa.types.is_decimal(kind) or pa.types.is_floating(kind):
        column = pc.cast(column, pa.float64())
    elif pa.types.is_integer(column.type):
        try:
            column = pc.cast(column, pa.int64())
        except pa.ArrowInvalid as err:
            raise OverflowError("a whole number is larger than 64 bits with a sign hold") from err
    elif pa.types.is_null(column.type):
        return pa.nulls(len(column), pa.int64())
    elif not _is_of_bytes(column.type):
        texts = [None if value is None else str(value) for value in column.to_pylist()]
        return pa.array(texts, pa.string())
    if column.num_chunks == 1:
        return column.chunk(0)
    if _is_of_bytes(column.type):  # more than 2 GB of them stay apart otherwise
        is_text = pa.types.is_string(column.type) or pa.types.is_large_string(column.type)
        column = pc.cast(column, pa.large_string() if is_text else pa.large_binary())
    return column.combine_chunks()


def _is_of_bytes(kind: pa.DataType) -> bool:
    """Whether values are texts or blobs that lie in a row."""
    tests = (pa.types.is_string, pa.types.is_binary, pa.types.is_large_string)
    return any(test(kind) for test in tests) or pa.types.is_large_binary(kind)


def insert(connection: sqlite3.Connection, target: str, columns: Sequence[pa.Array]) -> None:
    """Put rows, given column by column, into a table, whose quoted name ``target`` is.

    A statement that puts in many rows takes a third less than as many that put in one each.
    """
    n_rows, width = len(columns[0]), len(columns)
    several = max(1, MOST_VALUES // width)
    values = itertools.chain.from_iterable(zip(*map(_listed, columns), strict=True))
    for n in (several, 1):
        n_times = n_rows // n
        n_rows -= n * n_times
        some = itertools.islice(values, n * n_times * width)
        row = f"({', '.join('?' * width)})"
        statement = f"INSERT INTO {target} VALUES {', '.join([row] * n)}"
        connection.executemany(statement, zip(*[some] * (n * width), strict=True))


def _listed(column: pa.Array) -> list[Any]:
    """Return Python's values, None for null: of numbers five times faster than Arrow's own list."""
    if _is_of_bytes(column.type):
        return list(column.to_numpy(zero_copy_only=False))
    if column.null_count == 0:
        return list(column.to_numpy().tolist())
    is_null = np.asarray(pc.is_null(column))
    values = pc.fill_null(column, 0).to_numpy().astype(object)
    values[is_null] = None
    return list(values.tolist())
