"""Dates and times as the text that formats without such types hold (ISO 8601)."""

from __future__ import annotations

from typing import Any

import pyarrow as pa

from polygene import computing as pc
from polygene.notes import counted
from polygene.table.types import beyond_as_text, dates_beyond, in_milliseconds


def finer_than_kept(column: pa.ChunkedArray) -> int:
    """Return how many moments are finer than the milliseconds that are kept of them."""
    if not pa.types.is_timestamp(column.type) or column.type.unit not in ("us", "ns"):
        return 0
    cut = pc.cast(in_milliseconds(column), column.type)
    return int(pc.sum(pc.not_equal(cut, column)).as_py() or 0)


def in_kept_form(column: Any) -> tuple[Any, str]:
    """Return moments to the millisecond in UTC, and what there is to say if some were finer."""
    n_cut = finer_than_kept(column)
    kept = pc.cast(in_milliseconds(column) if n_cut else column, pa.timestamp("ms", tz="UTC"))
    return kept, f"has {counted(n_cut, 'moment')} cut to milliseconds" if n_cut else ""


def as_text(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return dates as 2026-05-31 and times as 2026-05-31T12:00:00.000Z; other columns as they are."""
    kind = column.type
    if dates_beyond(column):
        return beyond_as_text(column)
    if pa.types.is_date(kind):
        return pc.cast(pc.cast(column, pa.date32()), pa.string())
    if pa.types.is_timestamp(kind):
        utc = pc.cast(in_milliseconds(column), pa.timestamp("ms", tz="UTC"))
        return pc.strftime(utc, format="%Y-%m-%dT%H:%M:%SZ")
    return column


def from_texts(texts: pa.Array) -> tuple[pa.Array, str]:
    """Return texts as moments to the millisecond, and what there is to say if some were finer.

    Those that say no zone are those of UTC.

    Raises
    ------
    pyarrow.ArrowInvalid
        If one is none.
    """
    has_zone = pc.match_substring_regex(texts, r"[T ].*(Z|[+-][0-9]{2}:?[0-9]{2})$")
    whole = pc.if_else(has_zone, texts, pc.binary_join_element_wise(texts, "Z", ""))
    cut = pc.replace_substring_regex(whole, r"(\.[0-9]{9})[0-9]+", r"\1")
    try:  # in nanoseconds there are three hundred years each way
        found = pc.cast(cut, pa.timestamp("us", tz="UTC"))
    except pa.ArrowInvalid:
        found = pc.cast(cut, pa.timestamp("ns", tz="UTC"))
    return in_kept_form(found)
