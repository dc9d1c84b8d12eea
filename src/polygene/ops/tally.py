"""Tally: a table of aggregates by one or two fields, with totals."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from polygene.arrays import I64Array
from polygene.errors import UsageError
from polygene.layer import Layer, distinct_name
from polygene.notes import NULL_NAME
from polygene.ops.given import Names, names
from polygene.table.aggregate import Entries, Take, aggregate
from polygene.table.casting import as_text
from polygene.table.groups import Groups, group_rows

MOST_COLUMNS = 200
TOTAL = "total"


@dataclass(frozen=True)
class Tally:
    """A table with one row a value of ``by`` (several fields: a combination), in rising order.

    body : the fields of ``by``, then the values
    totals : (one row) the same over all rows; of values that can be summed or not: computed anew
    by : how many of the first columns are keys
    """

    body: pa.Table
    totals: pa.Table
    by: int
    features: int


def tally(layer: Layer, by: Names, aggregate: Names = (), across: str | None = None) -> Tally:
    """Aggregate the features of each value of some fields.

    Parameters
    ----------
    by : fields for the rows of the table
    aggregate : aggregates, ``count()`` if none is given
    across : a field whose values become columns, for a single aggregate; the last column is the total

    Raises
    ------
    UnknownFieldError, ExpressionError
        If something does not fit the layer.
    UsageError
        If ``across`` is given with several aggregates, or has more than 200 values.
    """
    by, asked = names(by), names(aggregate)
    for name in (*by, *([across] if across else [])):
        layer.check_field(name)
    takes = [Take.parse(text) for text in (asked or ["count()"])]
    if across is not None and len(takes) > 1:
        raise UsageError("across a second field only one aggregate fits")
    groups = group_rows(layer.table, by, layer.n_rows)
    order = _order(layer.table, by, groups)
    keys = [layer.table.column(name).take(pa.array(groups.firsts[order])) for name in by]
    key_fields = [layer.table.schema.field(name) for name in by]
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    rows = rank[groups.group]
    n = groups.n_groups
    body, totals = [], []
    if across is None:
        for item in takes:
            body.append(_aggregated(item, layer, rows, n))
            totals.append(_aggregated(item, layer, np.zeros(layer.n_rows, np.int64), 1))
    else:
        body, totals = _crossed(layer, takes[0], across, rows, n)
    blanks = [pa.chunked_array([pa.nulls(1, field.type)]) for field in key_fields]
    schema = pa.schema([*key_fields, *(field for field, _ in body)])
    return Tally(
        pa.table([*keys, *(data for _, data in body)], schema),
        pa.table([*blanks, *(data for _, data in totals)], schema),
        len(by),
        layer.n_rows,
    )


Column = tuple[pa.Field, pa.ChunkedArray]


def _aggregated(take: Take, layer: Layer, group: I64Array, n_groups: int) -> Column:
    found = aggregate(take, layer, Entries(np.arange(layer.n_rows), group, n_groups))
    return found.field, found.data


def _crossed(
    layer: Layer, take: Take, across: str, rows: I64Array, n: int
) -> tuple[list[Column], list[Column]]:
    columns = group_rows(layer.table, [across], layer.n_rows)
    if columns.n_groups > MOST_COLUMNS:
        raise UsageError(
            f"field {across!r} has {columns.n_groups:,} different values, too many for columns; "
            "exchange the fields, or use it in `by`"
        )
    order = _order(layer.table, [across], columns)
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    column = rank[columns.group]
    width = len(order)
    field, cells = _aggregated(take, layer, rows * width + column, n * width)
    _, feet = _aggregated(take, layer, column, width)
    names = as_text(layer.table.column(across).take(pa.array(columns.firsts[order]))).to_pylist()
    body, totals = [], []
    for k, name in enumerate(_distinct([NULL_NAME if v is None else v for v in names])):
        body.append((field.with_name(name), cells.take(pa.array(np.arange(n) * width + k))))
        totals.append((field.with_name(name), feet.take(pa.array([k]))))
    named = field.with_name(_distinct([*(f.name for f, _ in body), TOTAL])[-1])
    body.append((named, _aggregated(take, layer, rows, n)[1]))
    totals.append((named, _aggregated(take, layer, np.zeros(layer.n_rows, np.int64), 1)[1]))
    return body, totals


def _distinct(names: list[str]) -> list[str]:
    taken: set[str] = set()
    found = []
    for name in names:
        found.append(distinct_name(name, taken))
        taken.add(found[-1])
    return found


def _order(table: pa.Table, by: Sequence[str], groups: Groups) -> I64Array:
    """Return the groups in rising order of their values, nulls last."""
    if not by:
        return np.arange(groups.n_groups)
    keys = table.select(list(dict.fromkeys(by))).take(pa.array(groups.firsts))
    names = [f"k{k}" for k in range(keys.num_columns)]
    plain = [c.cast(pa.int8()) if pa.types.is_boolean(c.type) else c for c in keys.columns]
    keys = pa.table(plain, names)
    order = pc.sort_indices(keys, sort_keys=[(name, "ascending") for name in names])
    return np.asarray(order).astype(np.int64)
