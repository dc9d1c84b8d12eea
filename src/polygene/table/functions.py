"""The functions of expressions, beside those of CQL2: text, numbers, dates, and geometry."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from polygene import computing as pc
from polygene.classes import NamedTuple
from polygene.errors import UsageError
from polygene.table.arithmetic import rounded, square_root
from polygene.table.casting import as_text, recast
from polygene.table.temporal import MOMENT
from polygene.table.types import typed_field

if TYPE_CHECKING:
    pass


class Function(NamedTuple):
    """A function of values.

    takes : the kind of each argument; ``any`` is any, ``same`` any but all alike, a last ``...``
        repeats; those behind ``/`` may be left out
    gives : the kind of the result, or ``same``
    """

    takes: str
    gives: str
    does: str
    compute: Callable[..., Any]


def _constant(value: Any, what: str) -> Any:
    if not isinstance(value, pa.Scalar):
        raise UsageError(f"{what} must be the same for all features")
    return value.as_py()


_NO_TEXT = pa.scalar(None, pa.string())
_FAR = 2**31 - 1  # characters: no text that Arrow holds has more


def _count(value: Any, what: str) -> int | None:
    """Return a number of characters or digits that is the same for all; None for null."""
    found = _constant(value, what)
    if found is None or found != found:
        return None
    return int(min(max(found, -_FAR), _FAR))


def _left(text: Any, n: Any) -> Any:
    count = _count(n, "the number of characters")
    return _NO_TEXT if count is None else pc.utf8_slice_codeunits(text, 0, max(0, count))


def _right(text: Any, n: Any) -> Any:
    count = _count(n, "the number of characters")
    if count is None:
        return _NO_TEXT
    return pc.utf8_slice_codeunits(text, -count) if count > 0 else _left(text, pa.scalar(0))


def _middle(text: Any, start: Any, n: Any) -> Any:
    first, count = _count(start, "the first character"), _count(n, "the number")
    if first is None or count is None:
        return _NO_TEXT
    first = max(1, first) - 1
    return pc.utf8_slice_codeunits(text, first, first + max(0, count))


def _replaced(text: Any, old: Any, new: Any) -> Any:
    pattern, replacement = _constant(old, "what is replaced"), _constant(new, "the new text")
    if pattern is None or replacement is None:
        return _NO_TEXT
    # Arrow would look for nothing without end.
    return pc.replace_substring(text, pattern, replacement) if pattern else text


def _extreme(compute: Callable[..., Any]) -> Callable[..., Any]:
    """Return an extreme of several values; of dates and times by the numbers they are."""

    def work(*values: Any) -> Any:
        kinds = {one.type for one in values}
        if all(map(pa.types.is_null, kinds)):
            return values[0]
        if not all(map(pa.types.is_temporal, kinds)):
            return compute(*values)
        if len(kinds) > 1:
            values, kinds = tuple(pc.cast(one, MOMENT) for one in values), {MOMENT}
        (kind,) = kinds
        whole = pa.int32() if pa.types.is_date32(kind) else pa.int64()
        return pc.cast(compute(*(pc.cast(one, whole) for one in values)), kind)

    return work


def _joined(*texts: Any) -> Any:
    """Join texts; a null among them is left out."""
    return pc.binary_join_element_wise(
        *texts, pa.scalar(""), null_handling="replace", null_replacement=""
    )


def _rounded(value: Any, digits: Any = None) -> Any:
    count = 0 if digits is None else _count(digits, "the number of digits")
    return pa.scalar(None, pa.float64()) if count is None else rounded(value, count)


def by_value(change: Callable[[str], str], texts: Any) -> Any:
    """Return texts changed by a function of Python, called once for each that is different."""
    if isinstance(texts, pa.Scalar):
        return texts if texts.as_py() is None else pa.scalar(change(texts.as_py()), pa.string())
    column = texts if isinstance(texts, pa.ChunkedArray) else pa.chunked_array([texts])
    coded = pc.dictionary_encode(pc.cast(column, pa.string())).combine_chunks()
    coded = coded.chunk(0) if isinstance(coded, pa.ChunkedArray) and coded.num_chunks else coded
    if isinstance(coded, pa.ChunkedArray):
        return column
    values = pa.array(list(map(change, coded.dictionary.to_pylist())), pa.string())
    return pa.chunked_array([pc.take(values, coded.indices)])


_WORD = re.compile(r"(?<!\w)[^\W\d_][\w\u0300-\u036f]*(?:['\u2019][^\W\d_][\w\u0300-\u036f]*)*")


def _capitalised(text: str) -> str:
    """Return words with capitals; behind an apostrophe after a single letter only: O'Brien, It's."""

    def word(match: re.Match[str]) -> str:
        first, *rest = re.split(r"(['\u2019])", match[0].lower())
        first = first[:1].upper() + first[1:]
        if rest and len(first) == 1:
            rest = [piece[:1].upper() + piece[1:] for piece in rest]
        return first + "".join(rest)

    return _WORD.sub(word, text)


def _as(words: str) -> Callable[..., Any]:
    field = typed_field("x", words)

    def compute(value: Any, dates: Any = None) -> Any:
        form = None if dates is None else _constant(dates, "the way dates are written")
        if dates is not None and form is None:
            return pa.scalar(None, field.type)
        is_single = isinstance(value, pa.Scalar)
        column = pa.chunked_array([pa.array([value.as_py()], value.type)] if is_single else value)
        data = recast(column, field, form).data
        return data[0] if is_single else data

    return compute


def _of_reals(compute: Callable[[Any], Any]) -> Callable[[Any], Any]:
    """Return a function that leaves whole numbers as they are."""
    return lambda data: data if pa.types.is_integer(data.type) else compute(data)


def _days(start: Any, stop: Any) -> Any:
    dates = [pc.cast(v, pa.timestamp("ms", tz="UTC")) for v in (start, stop)]
    return pc.divide(
        pc.cast(pc.cast(pc.subtract(dates[1], dates[0]), pa.int64()), pa.float64()), 86_400_000.0
    )


def _upper(text: Any) -> Any:
    # Arrow makes the capital of a sharp s, which most code pages have not, and nobody writes.
    return pc.utf8_upper(pc.replace_substring(text, "ß", "SS"))


def _each_capitalised(texts: Any) -> Any:
    return by_value(_capitalised, texts)


FUNCTIONS = {
    "upper": Function("text", "text", "in capitals", _upper),
    "lower": Function("text", "text", "in small letters", pc.utf8_lower),
    "capitalised": Function("text", "text", "Each Word Capitalised", _each_capitalised),
    "trim": Function("text", "text", "without blanks at its ends", pc.utf8_trim_whitespace),
    "characters": Function("text", "number", "how many characters", pc.utf8_length),
    "left": Function("text, number", "text", "the first n characters", _left),
    "right": Function("text, number", "text", "the last n characters", _right),
    "substring": Function("text, number, number", "text", "n characters from a place on", _middle),
    "replace": Function("text, text, text", "text", "every old text by a new one", _replaced),
    "joined": Function(
        "any, ...",
        "text",
        "values one behind the other; nulls are left out",
        lambda *values: _joined(*map(as_text, values)),
    ),
    "text": Function("any", "text", "as text", as_text),
    "number": Function("any", "number", "as a real number, null where it is none", _as("real")),
    "whole": Function("any", "number", "as a whole number, null where it is none", _as("integer")),
    "day_of": Function(
        "any / text", "date", "a date of a text, as in day_of(t, 'DD.MM.YYYY')", _as("date")
    ),
    "round": Function(
        "number / number", "number", "to n decimals, halves away from zero", _rounded
    ),
    "floor": Function("number", "number", "the whole number below", _of_reals(pc.floor)),
    "ceiling": Function("number", "number", "the whole number above", _of_reals(pc.ceil)),
    "abs": Function("number", "number", "without its sign", pc.abs),
    "sqrt": Function("number", "number", "the square root, null below zero", square_root),
    "least": Function(
        "same, ...", "same", "the smallest of several", _extreme(pc.min_element_wise)
    ),
    "greatest": Function(
        "same, ...", "same", "the largest of several", _extreme(pc.max_element_wise)
    ),
    "coalesce": Function("same, ...", "same", "the first that is not null", pc.coalesce),
    "year": Function("date", "number", "the year", pc.year),
    "month": Function("date", "number", "the month, 1 to 12", pc.month),
    "day": Function("date", "number", "the day of the month", pc.day),
    "days": Function("date, date", "number", "days from one to the other", _days),
}


# What functions are called elsewhere, or were here.
FOREIGN = {
    "x": "centroid_x()",
    "y": "centroid_y()",
    "title": "capitalised()",
    "initcap": "capitalised()",
    "concat": "joined()",
    "middle": "substring()",
    "mid": "substring()",
    "substr": "substring()",
    "if": "CASE WHEN condition THEN value ELSE other END",
    "iif": "CASE WHEN condition THEN value ELSE other END",
    "nvl": "coalesce()",
    "ifnull": "coalesce()",
    "isnull": "field IS NULL",
    "ucase": "upper()",
    "lcase": "lower()",
    "len": "characters()",
    "char_length": "characters()",
    "ceil": "ceiling()",
    "int": "whole()",
    "to_number": "number()",
    "float": "number()",
    "str": "text()",
    "to_date": "day_of()",
    "regexp_replace": "not there; replace() changes one text into another",
    "st_area": "area()",
    "st_length": "length()",
    "avg": "an aggregate, mean(): --aggregate 'name = mean(field)'",
    "sum": "an aggregate: --aggregate 'name = sum(field)'",
    "count": "an aggregate: --aggregate 'name = count()'",
    "mean": "an aggregate: --aggregate 'name = mean(field)'",
    "min": "an aggregate; of several fields it is least()",
    "max": "an aggregate; of several fields it is greatest()",
}
