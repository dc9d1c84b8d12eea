"""Values from one type to another, and which of them that would lose."""

from __future__ import annotations

import functools
import re
from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray
from polygene.classes import NamedTuple
from polygene.errors import LossError, UsageError
from polygene.table.types import (
    beyond_as_text,
    dates_beyond,
    in_milliseconds,
    is_blob,
    kind_of,
    type_words,
    width_of,
)
from polygene.table.written import Written, numbers_in

CODE = r"^\s*(\+|-?0[0-9])"
_TRUE, _FALSE = ["true", "yes", "y", "t", "1"], ["false", "no", "n", "f", "0"]
TRUTH = frozenset((*_TRUE, *_FALSE))  # texts that are read as booleans


class Recast(NamedTuple):
    """A column in another type.

    data : null where a value was lost
    cut : the same with texts cut to the width and fractions cut off instead
    lost : (n_rows,) values that ``data`` does not hold as they were
    """

    data: Any
    cut: Any
    lost: BoolArray


def recast(column: pa.ChunkedArray, field: pa.Field, dates: str | None = None) -> Recast:
    """Bring a column to the type and width of a field.

    ``dates`` is how dates are written in a text, as in ``DD.MM.YYYY``; else as ISO 8601 has it.
    """
    source, target = kind_of(column.type), kind_of(field.type)
    if target == "number" and source in ("number", "text") and column.type != field.type:
        data, cut = _as_numbers(numbers_in(column) if source == "text" else column, field.type)
    elif target in ("date", "time") and source == "text":
        data, cut = _moments(column, field.type, dates)
    else:
        data = cut = _converted(column, source, target, field.type, dates)
    width = width_of(field)
    if target == "text" and width is not None:
        fits = pc.less_equal(pc.utf8_length(data), width)
        cut = pc.utf8_slice_codeunits(data, 0, width)
        data = pc.if_else(fits, data, pa.scalar(None, data.type))
    lost = np.asarray(pc.and_(pc.is_valid(column), pc.is_null(data)), dtype=bool)
    if source == "text" and target != "text":
        # A blank text says as little as a null.
        lost &= ~np.asarray(
            pc.fill_null(pc.equal(pc.utf8_trim_whitespace(column), ""), False), bool
        )
    return Recast(data, cut, lost)


def _converted(
    column: pa.ChunkedArray, source: str, target: str, kind: pa.DataType, dates: str | None
) -> Any:
    if column.type == kind:
        return column
    if source == "null":
        return pa.chunked_array([pa.nulls(len(column), kind)])
    if target == "number" and source == "boolean":
        return pc.cast(pc.cast(column, pa.int8()), kind)
    if target == "text":
        return as_text(column)
    if target in ("date", "time") and source in ("date", "time"):
        return _moment_cast(column, kind)
    if target == "boolean" and source in ("text", "number"):
        if pa.types.is_floating(column.type):
            column = pc.add(column, 0.0)  # -0.0 is no, as 0.0 is
        words = pc.utf8_lower(pc.utf8_trim_whitespace(as_text(column)))
        is_true = pc.is_in(words, pc.column(_TRUE))
        known = pc.or_(is_true, pc.is_in(words, pc.column(_FALSE)))
        return pc.if_else(known, is_true, pa.scalar(None, pa.bool_()))
    return pa.chunked_array([pa.nulls(len(column), kind)])


def as_text(column: Any) -> Any:
    """Return values as texts: whole numbers and dates as they are, reals exactly, blobs as hex."""
    if pa.types.is_string(column.type):
        return column
    if pa.types.is_boolean(column.type):
        return pc.if_else(column, "true", "false")
    if dates_beyond(column):
        return beyond_as_text(column)
    if pa.types.is_timestamp(column.type):
        return pc.strftime(column, format="%Y-%m-%dT%H:%M:%SZ")
    if is_blob(column.type):
        texts = pa.array([None if v is None else v.hex() for v in column.to_pylist()], pa.string())
        return pa.chunked_array([texts]) if isinstance(column, pa.ChunkedArray) else texts
    return pc.cast(column, pa.string())


def rounded_by(column: pa.ChunkedArray, kind: pa.DataType) -> int:
    """Return how many numbers are others as reals of fewer bits, but for infinite ones."""
    if not pa.types.is_float32(kind) or not pa.types.is_float64(column.type):
        return 0
    narrow = pc.cast(column, kind, safe=False)
    is_other = pc.and_(pc.not_equal(pc.cast(narrow, pa.float64()), column), pc.is_finite(narrow))
    return int(pc.sum(is_other).as_py() or 0)


def _as_numbers(given: pa.ChunkedArray | Written, kind: pa.DataType) -> tuple[Any, Any]:
    """Bring numbers, or what texts say, to a type; return them with what is cut off as well."""
    if not pa.types.is_integer(kind):
        real = _read(given, functools.partial(_to_real, kind=kind))
        return real, real
    whole, cut = (
        _read(given, functools.partial(_to_whole, kind=kind, cuts=cuts)) for cuts in (False, True)
    )
    return whole, cut


def _read(given: pa.ChunkedArray | Written, convert: Callable[[Any], Any]) -> Any:
    """Convert numbers; those in texts that are whole as they are written, not as real numbers."""
    if not isinstance(given, Written):
        return convert(given)
    is_whole = pc.is_valid(given.whole)
    if pc.all(is_whole).as_py():
        return convert(given.whole)
    is_known = pc.or_(is_whole, pc.column(given.is_between))
    others = pc.if_else(is_known, pa.scalar(None, pa.float64()), given.real)
    return pc.if_else(is_whole, convert(given.whole), convert(others))


def _to_whole(column: pa.ChunkedArray, kind: pa.DataType, cuts: bool) -> Any:
    low, high = -(2 ** (kind.bit_width - 1)), 2 ** (kind.bit_width - 1) - 1
    none = pa.scalar(None, column.type)
    if pa.types.is_floating(column.type):
        whole = pc.trunc(column)
        column = whole if cuts else pc.if_else(pc.equal(whole, column), column, none)
        # The largest of 64 bits is no double; the next power of two is, and is too large.
        fits = pc.and_(pc.greater_equal(column, float(low)), pc.less(column, float(high + 1)))
    else:
        column, none = pc.cast(column, pa.int64()), pa.scalar(None, pa.int64())
        fits = pc.and_(pc.greater_equal(column, low), pc.less_equal(column, high))
    return pc.cast(pc.if_else(fits, column, none), kind)


def _to_real(column: pa.ChunkedArray, kind: pa.DataType) -> Any:
    real = pc.cast(column, kind, safe=False)
    if pa.types.is_integer(column.type):
        back = pc.cast(real, pa.float64())
        is_in = pc.less(back, 2.0**63)
        again = pc.cast(pc.if_else(is_in, back, 0.0), pa.int64(), safe=False)
        is_same = pc.and_(is_in, pc.equal(again, pc.cast(column, pa.int64())))
        return pc.if_else(is_same, real, pa.scalar(None, kind))
    # Rounding to 32 bits is what was asked for; becoming infinite is a loss.
    is_kept = pc.or_(pc.is_finite(real), pc.invert(pc.is_finite(column)))
    return pc.if_else(is_kept, real, pa.scalar(None, kind))


def date_pattern(words: str) -> str:
    """Return the regular expression of dates written like ``DD.MM.YYYY`` or ``YYYY-MM-DD hh:mm``.

    Raises
    ------
    UsageError
        If it has no day, month or year.
    """
    parts = re.findall("YYYY|YY|MM|DD|hh|mm|ss", words)
    if (
        not {"DD", "MM"} <= set(parts)
        or not {"YYYY", "YY"} & set(parts)
        or len(set(parts)) < len(parts)
    ):
        raise UsageError(
            f"{words!r} is no way to write a date; it has DD, MM and YYYY in it, each once, and for "
            "times hh, mm and ss"
        )
    pattern = re.escape(words)
    for part in parts:
        digits = r"\d{4}" if part == "YYYY" else r"\d{2}" if part == "YY" else r"\d{1,2}"
        pattern = pattern.replace(part, f"(?P<{part}>{digits})", 1)
    return f"^{pattern}$"


# ISO 8601, and RFC 3339 (5.6) with a zone.
_ISO = (
    r"^(?P<YYYY>\d{4})-(?P<MM>\d{2})-(?P<DD>\d{2})"
    r"(?:[Tt ](?P<hh>\d{2}):(?P<mm>\d{2})(?::(?P<ss>\d{2})(?:[.,](?P<fraction>\d+))?)?"
    r"(?:[Zz]|(?P<side>[+-])(?P<east>\d{2})(?::?(?P<minutes>[0-5]\d))?)?)?$"
)


def _moments(column: pa.ChunkedArray, kind: pa.DataType, dates: str | None) -> tuple[Any, Any]:
    """Read dates and times; days and hours that do not exist become null.

    So do times finer than milliseconds; the second of both columns has them cut to those.
    """
    text = pc.utf8_trim_whitespace(column)
    found = pc.extract_regex(text, pattern=_ISO if dates is None else date_pattern(dates))
    found = found.combine_chunks()
    if isinstance(found, pa.ChunkedArray):
        found = pa.concat_arrays(found.chunks) if found.num_chunks else pa.array([], found.type)
    is_read = np.asarray(pc.is_valid(found))
    names = {field.name for field in found.type}

    def part(name: str, default: int) -> np.ndarray:
        if name not in names:
            return np.full(len(found), default)
        digits = pc.struct_field(found, name)
        blank = pc.or_kleene(pc.is_null(digits), pc.equal(digits, ""))
        digits = pc.if_else(pc.fill_null(blank, True), str(default), digits)
        return np.asarray(pc.cast(digits, pa.int64()))

    year = part("YYYY", 0) if "YYYY" in names else 2000 + part("YY", 0)
    if "YYYY" not in names:
        year = np.where(year >= 2070, year - 100, year)
    month, day = part("MM", 1), part("DD", 1)
    months = (year - 1970) * 12 + month - 1
    days = months.astype("M8[M]").astype("M8[D]") + (day - 1)
    hour, minute, second = part("hh", 0), part("mm", 0), part("ss", 0)
    fraction, shift = np.zeros((2, len(found)), np.int64)
    is_finer = np.zeros(len(found), bool)
    if "fraction" in names:
        digits = pc.fill_null(pc.struct_field(found, "fraction"), "")
        padded = pc.utf8_slice_codeunits(pc.utf8_rpad(digits, 3, "0"), 0, 3)
        fraction = np.asarray(pc.cast(padded, pa.int64()))
        is_finer = np.asarray(pc.match_substring_regex(digits, "^...0*[1-9]"), bool)
        side = np.asarray(pc.fill_null(pc.equal(pc.struct_field(found, "side"), "-"), False), bool)
        ahead = 60 * part("east", 0) + part("minutes", 0)
        shift = np.where(side, ahead, -ahead)
    is_real = is_read & (month >= 1) & (month <= 12) & (day >= 1) & (np.abs(shift) < 24 * 60)
    is_real &= days.astype("M8[M]").astype(np.int64) == months
    is_real &= (hour < 24) & (minute < 60) & (second < 60)
    thousandths = ((hour * 60 + minute + shift) * 60 + second) * 1000 + fraction
    moments = days.astype("M8[ms]") + thousandths.astype("m8[ms]")
    whole, cut = (
        pa.chunked_array([pc.with_nulls(moments, is_none, pa.timestamp("ms"))])
        for is_none in (~is_real | is_finer, ~is_real)
    )
    return _moment_cast(whole, kind), _moment_cast(cut, kind)


def _moment_cast(column: Any, kind: pa.DataType) -> Any:
    """Bring dates and times to each other; a time that is no midnight is lost as a date."""
    if pa.types.is_date(kind):
        if pa.types.is_date(column.type):
            return pc.cast(column, kind)
        days = pc.cast(
            pc.cast(column, pa.timestamp("ms", tz="UTC"), safe=False), pa.date32(), safe=False
        )
        back = pc.cast(days, column.type, safe=False)
        return pc.if_else(pc.equal(back, column), days, pa.scalar(None, pa.date32()))
    if kind.unit == "ms" and pa.types.is_timestamp(column.type):
        column = in_milliseconds(column)
    return pc.cast(column, kind, safe=False)


def fitted(
    column: Any, field: pa.Field, on_loss: str, where: Any, dates: str | None = None
) -> tuple[Any, int]:
    """Bring a column to a field's type and width; return it and how many values were lost.

    Parameters
    ----------
    on_loss : {"refuse", "null", "cut"}
        Refuse, put null, or cut: texts to the width, fractions off, zeros in front of codes (null where
        that is no help).
    where : Layer
        For messages: whose rows these are.

    Raises
    ------
    LossError
        If values would be lost and that is to stop it.
    """
    found = recast(column, field, dates)
    if kind_of(column.type) == "text" and kind_of(field.type) == "number":
        # A code would not come back from the number: 01029 as 1029.
        is_code = pc.fill_null(pc.match_substring_regex(column, CODE), False)
        data = pc.if_else(is_code, pa.scalar(None, found.data.type), found.data)
        found = Recast(data, found.cut, found.lost | np.asarray(is_code, bool))
    n_lost = int(found.lost.sum())
    if n_lost and on_loss == "refuse":
        rows = np.flatnonzero(found.lost)[:5]
        values = pc.take(column, pc.column(rows))
        texts = (values if kind_of(column.type) == "text" else as_text(values)).to_pylist()
        texts = map(repr, texts) if kind_of(column.type) == "text" else texts
        samples = [f"{where.row_label(int(r))}: {v}" for r, v in zip(rows, texts, strict=True)]
        raise LossError(where.name, field.name, type_words(field), n_lost, samples)
    return (found.cut if on_loss == "cut" else found.data), n_lost
