"""Field types as analysts say them, and as Arrow holds them."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.errors import UsageError

_TYPES = {
    "integer": pa.int64(),
    "integer 32": pa.int32(),
    "integer 16": pa.int16(),
    "integer 8": pa.int8(),
    "real": pa.float64(),
    "real 32": pa.float32(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "date and time": pa.timestamp("ms", tz="UTC"),
    "text": pa.string(),
}
# What a value of each kind is computed as; see `kind_of`.
TYPE_OF_KIND = {
    "number": pa.float64(),
    "text": pa.string(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "time": pa.timestamp("ms", tz="UTC"),
}


def width_of(field: pa.Field) -> int | None:
    """Return the width of a text field, None if it has no limit."""
    width = (field.metadata or {}).get(b"width")
    return int(width) if width else None


def type_words(field: pa.Field) -> str:
    """Return a type as analysts say it: ``text(20)``, ``integer``, ``integer 16``, ``real``."""
    kind = field.type
    width = width_of(field)
    suffix = f"({width})" if width else ""
    if pa.types.is_integer(kind):
        return "integer" if kind.bit_width == 64 else f"integer {kind.bit_width}"
    for test, words in (
        (pa.types.is_boolean, "boolean"),
        (pa.types.is_float64, "real"),
        (pa.types.is_floating, "real 32"),
        (pa.types.is_date, "date"),
        (pa.types.is_timestamp, "date and time"),
        (pa.types.is_string, f"text{suffix}"),
        (pa.types.is_large_string, f"text{suffix}"),
        (is_blob, f"blob{suffix}"),
    ):
        if test(kind):
            return words
    return str(kind)


def is_blob(kind: pa.DataType) -> bool:
    """Whether values are bytes that are no text."""
    return bool(pa.types.is_binary(kind) or pa.types.is_large_binary(kind))


def typed_field(name: str, words: str) -> pa.Field:
    """Return a field of a type in words: what `type_words` says, or ``text(20)``.

    Raises
    ------
    UsageError
        If there is no such type.
    """
    text = " ".join(words.lower().split())
    match = re.fullmatch(r"text ?\( ?(\d+) ?\)", text)
    if match and int(match[1]) > 0:
        return pa.field(name, pa.string(), metadata={"width": match[1]})
    if text not in _TYPES:
        raise UsageError(
            f"there is no type {words!r}; there are {', '.join(_TYPES)} and, with a width, text(20)"
        )
    return pa.field(name, _TYPES[text])


def kind_of(kind: pa.DataType) -> str:
    """Return the kind of value that expressions see: number, text, boolean, date, time, null."""
    for test, name in (
        (pa.types.is_boolean, "boolean"),
        (pa.types.is_date, "date"),
        (pa.types.is_timestamp, "time"),
        (pa.types.is_integer, "number"),
        (pa.types.is_floating, "number"),
        (pa.types.is_decimal, "number"),
        (pa.types.is_string, "text"),
        (pa.types.is_large_string, "text"),
        (pa.types.is_null, "null"),
    ):
        if test(kind):
            return name
    return str(kind)


def null_of(kind: str, alike: pa.DataType | None) -> pa.Scalar:
    """Return a null of a type, or of the type of a kind of values; of other kinds it is a text."""
    return pa.scalar(None, alike or TYPE_OF_KIND.get(kind, pa.string()))


def is_whole(kind: pa.DataType) -> bool:
    return bool(pa.types.is_integer(kind))


def widened(one: pa.Field, other: pa.Field) -> pa.Field | None:
    """Return the narrowest type that holds the values of both without loss, None if there is none.

    Whole numbers widen to larger ones, those without a sign to ones that have room for it, and up to
    32 bits to reals; 64 bits and reals have no type in common that loses nothing. A text's width is the
    larger, or none.
    """
    a, b = one.type, other.type
    if pa.types.is_null(a):
        return other.with_name(one.name)
    if pa.types.is_null(b):
        return one
    kinds = {kind_of(a), kind_of(b)}
    if kinds == {"text"}:
        widths = [width_of(one), width_of(other)]
        known = [w for w in widths if w is not None]
        metadata = {"width": str(max(known))} if len(known) == 2 else None
        return pa.field(one.name, pa.string(), metadata=metadata)
    if a == b:
        return one
    if kinds == {"date", "time"} or kinds == {"time"}:
        is_fine = any(pa.types.is_timestamp(k) and k.unit in ("us", "ns") for k in (a, b))
        return pa.field(one.name, pa.timestamp("us" if is_fine else "ms", tz="UTC"))
    if kinds != {"number"}:
        return None
    if is_whole(a) and is_whole(b):
        wide = _whole(a, b)
        return None if wide is None else pa.field(one.name, wide)
    whole = next((k for k in (a, b) if is_whole(k)), None)
    if whole is not None and whole.bit_width == 64:
        return None
    return pa.field(one.name, pa.float64())


def _whole(a: pa.DataType, b: pa.DataType) -> pa.DataType | None:
    """Return the narrowest type of whole numbers that holds those of both; None if there is none."""
    has_sign = [pa.types.is_signed_integer(kind) for kind in (a, b)]
    if has_sign[0] == has_sign[1]:
        return a if a.bit_width >= b.bit_width else b
    signed, bare = (a, b) if has_sign[0] else (b, a)
    bits = max(signed.bit_width, 2 * bare.bit_width)
    return {16: pa.int16(), 32: pa.int32(), 64: pa.int64()}.get(bits)


def dates_beyond(column: pa.ChunkedArray) -> bool:
    """Whether dates or times lie outside the years 1 to 9999, beyond which Python has none."""
    if pa.types.is_date(column.type):
        days = pc.cast(pc.cast(column, pa.date32()), pa.int32())
        least, most = -719_162, 2_932_896
    elif pa.types.is_timestamp(column.type):
        days = pc.cast(
            pc.cast(column, pa.timestamp("s", tz=column.type.tz), safe=False), pa.int64()
        )
        least, most = -719_162 * 86_400, 2_932_897 * 86_400 - 1
    else:
        return False
    bounds = pc.min_max(days)
    low, high = bounds["min"].as_py(), bounds["max"].as_py()
    return low is not None and (low < least or high > most)


def in_milliseconds(column: Any) -> Any:
    """Return moments without what is finer than milliseconds, before 1970 as after it."""
    kind = pa.timestamp("ms", tz=column.type.tz)
    cut = pc.cast(column, kind, safe=False)  # towards 1970
    if column.type.unit in ("s", "ms"):
        return cut
    is_later = pc.greater(pc.cast(cut, column.type, safe=False), column)
    return pc.if_else(is_later, pc.subtract(cut, pa.scalar(1, pa.duration("ms"))), cut)


def beyond_as_text(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return dates or times, whatever their year, as ISO 8601 has them: 12026-05-31, -0044-03-15.

    Arrow writes those of `dates_beyond` wrongly.
    """
    is_date = pa.types.is_date(column.type)
    kind = pa.date32() if is_date else pa.timestamp("ms")
    moments = np.asarray(pc.cast(column, kind, safe=False))
    texts = np.datetime_as_string(moments).astype(object)
    if not is_date:
        texts = texts + "Z"
    return pa.chunked_array([pc.with_nulls(texts, np.isnat(moments), pa.string())])


def values_of(table: pa.Table) -> list[dict[str, Any]]:
    """Return rows as Python's values; dates that it has not are text."""
    columns = [beyond_as_text(c) if dates_beyond(c) else c for c in table.columns]
    return pa.table(columns, table.column_names).to_pylist()


def rounded_as_real(column: pa.ChunkedArray) -> int:
    """Return how many whole numbers or decimals a real number of 64 bits does not hold exactly."""
    kind = column.type
    is_decimal = pa.types.is_decimal(kind)
    if not (is_decimal and kind.precision > 15) and not pa.types.is_integer(kind):
        return 0
    real = pc.cast(column, pa.float64(), safe=False)
    try:
        back = pc.cast(real, kind, safe=is_decimal)
    except pa.ArrowInvalid:
        return len(column) - column.null_count
    return int(pc.sum(pc.not_equal(back, column)).as_py() or 0)
