"""Subset: keep features by their attributes or a box, some of their fields, in an order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from polygene.crs import is_same
from polygene.errors import UsageError
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.ops.scene import rows_near
from polygene.table.types import kind_of

if TYPE_CHECKING:
    from pyproj import CRS

    from polygene.table.expression import Expression


def where(layer: Layer, expression: Expression) -> Layer:
    """Keep the features for which an expression is true.

    Raises
    ------
    ExpressionError
        If it does not fit the layer's fields.
    """
    chosen = layer.take(expression.true_rows(layer))
    return replace(chosen, total=layer.n_total)


@dataclass(frozen=True)
class SubsetSummary:
    """How many features and fields of how many were kept; ``metric`` is that of distances."""

    name: str
    total: int
    out: int
    in_box: int | None
    fields: list[str]
    fields_total: int
    notes: list[str]
    metric: str = ""


@dataclass(frozen=True)
class SubsetResult:
    layer: Layer
    summary: SubsetSummary


def subset(
    layer: Layer,
    expression: Expression | None = None,
    *,
    box: Extent | None = None,
    box_crs: CRS | None = None,
    sort: Sequence[str] = (),
    limit: int | None = None,
    keep: Sequence[str] = (),
    drop: Sequence[str] = (),
) -> SubsetResult:
    """Keep some features, some fields, in an order.

    Parameters
    ----------
    expression : Expression, optional
        Features for which it is true.
    box : (x, y minimum, x, y maximum), optional
        Features whose own box meets it, in map units.
    box_crs : CRS, optional
        The CRS of the box; if it is another than the layer's, features that meet it themselves, its
        edges straight in its own CRS.
    sort : sequence of str
        Fields, each with ``-`` in front to fall; nulls come last.
    limit : int, optional
        The first so many, after sorting.
    keep, drop : sequences of str
        The fields to keep, in that order, or to drop; one of the two.

    Raises
    ------
    ExpressionError, UnknownFieldError
        If something does not fit the layer.
    """
    chosen = layer if expression is None else where(layer, expression)
    in_box = None
    if box is not None:
        before = chosen.n_total
        chosen = _in_box(chosen, box, box_crs)
        in_box = chosen.n_rows
        chosen = replace(chosen, total=before)
    if sort:
        chosen = chosen.take(_order(chosen, sort))
    if limit is not None:
        chosen = chosen.take(np.arange(min(limit, chosen.n_rows)))
    chosen = with_fields(chosen, keep, drop)
    return SubsetResult(
        replace(chosen, total=None),
        SubsetSummary(
            layer.name,
            layer.n_total,
            chosen.n_rows,
            in_box,
            chosen.table.column_names,
            layer.table.num_columns,
            [],
        ),
    )


def _in_box(layer: Layer, box: Extent, box_crs: CRS | None) -> Layer:
    if box_crs is None or is_same(box_crs, layer.crs):
        return layer.take(rows_near(layer.geometry.row_bounds(), box))
    from polygene.ops.by_place import chosen_by_place
    from polygene.ops.carrying import boxes_of

    rectangle = Layer("box", boxes_of([box]), pa.table({}), box_crs)
    return chosen_by_place(layer, rectangle, "intersects").layer


def with_fields(layer: Layer, keep: Sequence[str] = (), drop: Sequence[str] = ()) -> Layer:
    """Keep only some fields, in the order given, or all but some.

    Raises
    ------
    UnknownFieldError
        If one is not there.
    UsageError
        If both are given.
    """
    if keep and drop:
        raise UsageError("give the fields to keep or those to drop, not both")
    for name in (*keep, *drop):
        layer.check_field(name)
    if keep:
        return replace(layer, table=layer.table.select(list(dict.fromkeys(keep))))
    if drop:
        rest = [name for name in layer.table.column_names if name not in drop]
        return replace(layer, table=layer.table.select(rest))
    return layer


def _order(layer: Layer, sort: Sequence[str]) -> np.ndarray:
    """Return the rows in order; equal ones stay as they came."""
    keys, columns = [], {}
    for k, text in enumerate(sort):
        falls = text.startswith("-") and text not in layer.table.column_names
        name = text[1:] if falls else text
        layer.check_field(name)
        column = layer.table.column(name)
        if kind_of(column.type) == "boolean":
            column = column.cast(pa.int8())
        columns[f"{k} nulls"] = pc.is_null(column).cast(pa.int8())
        columns[f"{k}"] = column
        keys += [(f"{k} nulls", "ascending"), (f"{k}", "descending" if falls else "ascending")]
    table = pa.table({**columns, "row": np.arange(layer.n_rows)})
    return np.asarray(pc.sort_indices(table, sort_keys=[*keys, ("row", "ascending")])).astype(int)
