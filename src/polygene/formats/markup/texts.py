"""Values of XML, which are texts, to columns: by a schema if there is one, else by their looks."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array, distinct
from polygene.formats import moments
from polygene.formats.markup.positions import NUMBER
from polygene.notes import Warned, counted
from polygene.table.written import numbers_in

BETWEEN = "has whole numbers that no real number is; read as text"
_WHOLE = r"^-?(0|[1-9][0-9]{0,17})$"  # 007 is a code, and so is +49
_REAL = r"^-?([0-9]+\.[0-9]*|\.[0-9]+|0|[1-9][0-9]*)([eE][+-]?[0-9]+)?$"
_DATE = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$"
_MOMENT = (
    r"^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]+)?)?"
    r"(Z|[+-][0-9]{2}:[0-9]{2})?$"
)
_TIME = pa.timestamp("ms", tz="UTC")
_SPACE = " \t\r\n"


def column_of(rows: I64Array, texts: Sequence[str | None], n_rows: int) -> pa.Array:
    """Return texts as a column of rows, null where there is none; the first of a row counts."""
    if len(rows) == n_rows and (rows == np.arange(n_rows)).all():
        return pa.array(texts, pa.string())
    at = np.full(n_rows, -1)
    at[rows[::-1]] = np.arange(len(rows))[::-1]
    return pc.take(pa.array(texts, pa.string()), pc.with_nulls(at, at < 0))


def passed_over(
    where: str, rows: I64Array, texts: Sequence[str | None], n_rows: int, column: pa.Array
) -> list[str]:
    """Return what there is to say of texts that are neither the first of their row nor like it.

    ``column`` is what `column_of` made of them; ``where`` says which they are.
    """
    if len(rows) <= n_rows and len(distinct(rows)) == len(rows):
        return []
    first = pc.take(column, pa.array(rows))
    is_same = pc.fill_null(pc.equal(first, pa.array(texts, pa.string())), False)
    n = sum(text is not None for text in texts) - int(pc.sum(is_same).as_py() or 0)
    what = f"{counted(n, 'value')} beside another of the same feature, left out"
    return [Warned(f"{where}: {what}")] if n > 0 else []


def guessed(column: pa.Array) -> tuple[pa.Array, str]:
    """Return a column of the narrowest type that all its texts are written as, and what is to be said.

    Numbers written as codes are (007, +49, 1E5) stay text.
    """
    texts = pc.utf8_trim(column, _SPACE)
    texts = pc.if_else(pc.equal(texts, ""), pa.scalar(None, texts.type), texts)
    if texts.null_count == len(texts):
        return column, ""
    for pattern, kind in (
        (_WHOLE, pa.int64()),
        (_REAL, pa.float64()),
        (r"^(true|false)$", pa.bool_()),
        (_DATE, pa.date32()),
        (_MOMENT, _TIME),
    ):
        if not pc.all(pc.match_substring_regex(texts, pattern)).as_py():
            continue
        if kind == pa.float64():
            if not pc.any(pc.match_substring(texts, ".")).as_py():
                continue
            if numbers_in(texts).is_between.any():
                return column, BETWEEN
        try:
            return moments.from_texts(texts) if kind == _TIME else (pc.cast(texts, kind), "")
        except pa.ArrowInvalid:
            return column, ""
    return column, ""


def typed(column: pa.Array, kind: pa.DataType) -> tuple[pa.Array, str]:
    """Return a column in the type that a schema states, and what there is to say if it cannot be."""
    if pa.types.is_string(kind):
        return column, ""
    texts = pc.utf8_trim(column, _SPACE)
    texts = pc.if_else(pc.equal(texts, ""), pa.scalar(None, texts.type), texts)
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        texts = pc.utf8_ltrim(texts, "+")
    try:
        if pa.types.is_timestamp(kind):
            return moments.from_texts(texts)
        if pa.types.is_boolean(kind):
            texts = pc.replace_substring_regex(pc.utf8_lower(texts), "^1$", "true")
            texts = pc.replace_substring_regex(texts, "^0$", "false")
        typed_so = pc.cast(texts, kind)
    except pa.ArrowInvalid:
        return column, f"has values that are no {kind}; read as text"
    if pa.types.is_floating(kind) and numbers_in(texts).is_between.any():
        return column, BETWEEN
    return typed_so, ""


def of_whole(text: Any) -> str:
    """Return all text within an element that has others in it."""
    return "".join(text.itertext())


def numbers_or_none(column: pa.Array, name: str, what: str, notes: list[str]) -> Any:
    """Return texts as (n,) numbers, NaN where there is none; what is no number is counted."""
    texts = pc.utf8_ltrim(pc.utf8_trim(column, _SPACE), "+")
    is_number = pc.fill_null(pc.match_substring_regex(texts, NUMBER), False)
    n_odd = len(texts) - texts.null_count - (pc.sum(is_number).as_py() or 0)
    if n_odd:
        notes.append(f"{name}: {counted(n_odd, what)} that is no number, left out")
    kept = pc.if_else(is_number, texts, pa.scalar(None, texts.type))
    return np.array(pc.fill_null(pc.cast(kept, pa.float64()), float("nan")))  # not Arrow's own
