"""Peek: a layer's fields with types, nulls and ranges, and some of its rows."""

from __future__ import annotations

from dataclasses import field
from typing import Any

import numpy as np

from polygene.arrays import I64Array
from polygene.classes import dataclass
from polygene.crs import label
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.ops.given import expression
from polygene.ops.subset import matching, order_of
from polygene.table.describe import FieldDescription, describe, value_counts
from polygene.table.expression import Expression
from polygene.table.types import values_of


@dataclass(frozen=True)
class Peek:
    """What is in a layer.

    of : features in the source, chosen or not; null, empty : those without geometry
    distinct : of the field ``of_field``, how often each value comes, if that was asked for; else
    fields, rows : all fields, and some rows with their number (from 1) and identifier
    """

    layer: str
    geometry: str
    features: int
    of: int
    null: int
    empty: int
    crs: str
    extent: Extent | None
    of_field: str | None = None
    distinct: list[dict[str, Any]] = field(default_factory=list)
    fields: list[FieldDescription] = field(default_factory=list)
    rows: list[dict[str, Any]] = field(default_factory=list)


def peek(
    layer: Layer,
    rows: int | tuple[int, int] = 5,
    *,
    sort: str | None = None,
    distinct: str | None = None,
    where: Expression | str | None = None,
) -> Peek:
    """Return a layer's fields with types, nulls and ranges, and some of its rows.

    Parameters
    ----------
    rows : the first so many, the last so many if negative, or (from, to), counted from 1
    sort : the field to sort by first, nulls last; with a minus in front it falls
    distinct : count the values of this field instead
    where : only features for which it is true

    Raises
    ------
    UnknownFieldError, ExpressionError
        If something does not fit the layer.
    """
    chosen = expression(where)
    if chosen is not None:
        layer = matching(layer, chosen)
    falls = sort is not None and sort.startswith("-") and sort not in layer.table.column_names
    for name in (distinct, sort[1:] if sort and falls else sort):
        if name:
            layer.check_field(name)
    is_null, is_empty = layer.geometry.is_null, layer.geometry.is_empty
    return Peek(
        layer=layer.name,
        geometry=layer.kind,
        features=layer.n_rows,
        of=layer.n_total,
        null=0 if layer.is_table else int(is_null.sum()),
        empty=int((is_empty & ~is_null).sum()),
        crs=label(layer.crs),
        extent=layer.geometry.extent(),
        of_field=distinct,
        distinct=values_of(value_counts(layer.table.column(distinct))) if distinct else [],
        fields=[] if distinct else describe(layer.table),
        rows=[] if distinct else _rows(layer, _chosen(layer, rows, sort)),
    )


def _chosen(layer: Layer, rows: int | tuple[int, int], sort: str | None) -> I64Array:
    order = order_of(layer, [sort]) if sort else np.arange(layer.n_rows)
    if isinstance(rows, tuple):
        return order[rows[0] - 1 : rows[1]]
    return order[rows:] if rows < 0 else order[:rows]


def _rows(layer: Layer, chosen: I64Array) -> list[dict[str, Any]]:
    table = layer.take(chosen).table
    values = values_of(table) if layer.table.num_columns else [{}] * len(chosen)
    identified, numbers = [], layer.numbers
    for row, own in zip(chosen.tolist(), values, strict=True):
        head: dict[str, Any] = {"row": int(numbers[row])}
        if layer.ids is not None:
            head["id"] = int(layer.ids[row])
        identified.append(head | own)
    return identified
