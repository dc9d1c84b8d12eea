"""What a table's fields hold: type, nulls, range, commonest values."""

from __future__ import annotations

from dataclasses import field
from typing import Any

import pyarrow as pa

from polygene import computing as pc
from polygene.classes import dataclass
from polygene.table.types import beyond_as_text, dates_beyond, is_blob, type_words, values_of

MOST_COMMON = 3


@dataclass(frozen=True)
class FieldDescription:
    """``low`` and ``high`` for what has an order that means something; ``common`` for the rest.

    common : (value, times) of the most frequent values; distinct : how many there are
    """

    name: str
    type: str
    nulls: int
    low: Any = None
    high: Any = None
    distinct: int | None = None
    common: list[tuple[Any, int]] = field(default_factory=list)


def describe(table: pa.Table) -> list[FieldDescription]:
    """Describe every field."""
    return [_describe(arrow_field, table.column(k)) for k, arrow_field in enumerate(table.schema)]


def _describe(arrow_field: pa.Field, column: pa.ChunkedArray) -> FieldDescription:
    kind, words = column.type, type_words(arrow_field)
    has_range = (
        pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_temporal(kind)
    )
    if has_range:
        bounds = pc.min_max(column)
        if dates_beyond(column):  # Python has none such
            ends = pa.chunked_array([pa.array([bounds["min"], bounds["max"]], kind)])
            low, high = beyond_as_text(ends).to_pylist()
        else:
            low, high = bounds["min"].as_py(), bounds["max"].as_py()
        return FieldDescription(arrow_field.name, words, column.null_count, low, high)
    if is_blob(kind):
        n_distinct = int(pc.count_distinct(pc.drop_null(column)).as_py())
        return FieldDescription(arrow_field.name, words, column.null_count, distinct=n_distinct)
    counts = value_counts(pc.drop_null(column))
    return FieldDescription(
        arrow_field.name,
        words,
        column.null_count,
        distinct=counts.num_rows,
        common=[(row["value"], row["count"]) for row in values_of(counts.slice(0, MOST_COMMON))],
    )


def value_counts(column: pa.ChunkedArray) -> pa.Table:
    """Return the distinct values and how often each occurs, the commonest first; null is one."""
    counts = pc.value_counts(column)
    values, times = counts.field("values"), counts.field("counts")
    table = pa.table({"value": values, "count": times})
    if is_blob(values.type):
        keys = [("count", "descending")]
    else:
        keys = [("count", "descending"), ("value", "ascending")]
    return pc.take(table, pc.sort_indices(table, sort_keys=keys))
