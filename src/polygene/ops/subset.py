"""Subset: keep features by their attributes or a box, some of their fields, in an order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.classes import dataclass
from polygene.crs import is_same, label
from polygene.errors import UsageError
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.notes import Warned, counted
from polygene.ops.given import Names, box_of, crs_of, expression, names
from polygene.ops.ground import stretched, stretched_in
from polygene.ops.summary import Bridge
from polygene.progress import SILENT, Progress
from polygene.table.types import kind_of
from polygene.units import Length, map_units, metres, true_metres

if TYPE_CHECKING:
    from pyproj import CRS

    from polygene.ops.places.by_place import Chosen
    from polygene.table.expression import Expression


def told_matching(layer: Layer, expression: Expression) -> tuple[Layer, list[str]]:
    """Do what `matching` does, and say of how many features a condition had no value."""
    rows, lost = expression.truth(layer)
    notes = [
        f"{layer.name}: {counted(n, 'value')} without a result ({why}) in the filter "
        f"{expression.text}; such a condition is not true"
        for why, n in lost.items()
    ]
    # Without numbers: a filter looks at portions of what is large, which must all say the same.
    if stretched_in(layer, [expression.tree]):
        notes.append(
            Warned(
                f"{layer.name}: the filter {expression.text} measures on the plane of "
                f"{label(layer.crs)}, which stretches by more than a fiftieth here; reproject first"
            )
        )
    return replace(layer.take(rows), total=layer.n_total), notes


def matching(layer: Layer, expression: Expression) -> Layer:
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
    """How many features and fields of how many were kept.

    geometry : what the layer holds, ``none`` if it is a table
    metric : that of distances, if any were measured; brought : how OTHER came from another CRS
    """

    name: str
    geometry: str
    total: int
    out: int
    in_box: int | None
    fields: list[str]
    fields_total: int
    notes: list[str]
    metric: str = ""
    brought: list[Bridge] = field(default_factory=list)


@dataclass(frozen=True)
class SubsetResult:
    layer: Layer
    summary: SubsetSummary


def subset(
    layer: Layer,
    where: Expression | str | None = None,
    *,
    other: Layer | None = None,
    relation: str | None = None,
    up_to: Length | None = None,
    of_all: bool = False,
    invert: bool = False,
    box: Extent | None = None,
    box_crs: CRS | str | None = None,
    sort: Names = (),
    limit: int | None = None,
    keep: Names = (),
    drop: Names = (),
    precision: Length | None = None,
    follow: Length | None = None,
    progress: Progress = SILENT,
) -> SubsetResult:
    """Keep some features, some fields, in an order.

    Parameters
    ----------
    where : expression, optional
        Features for which it is true (CQL2 text).
    other, relation, up_to, of_all, invert
        Features that lie so to any feature of OTHER, no further than this (a text, or a number in
        metres), or to all; or the others.
    box : (x, y minimum, x, y maximum), optional
        Features that meet it, in map units.
    box_crs : CRS or its code, optional
        The CRS of the box, in which its edges are straight.
    sort : names
        Fields, each with ``-`` in front to fall; nulls come last.
    limit : int, optional
        The first so many, after sorting.
    keep, drop : names
        The fields to keep, in that order, or to drop; one of the two.
    precision, follow : length, optional
        As in `polygene.ops.overlays.how.How`.

    Raises
    ------
    ExpressionError, UnknownFieldError
        If something does not fit the layer.
    UsageError, DataError
        If it is not said how features are to lie to OTHER, or that has no meaning for the two, or
        ``limit`` is negative, or ``box`` none.
    """
    box = None if box is None else box_of(box)
    if limit is not None and limit < 0:
        raise UsageError(f"`limit` is how many features there are at most, not {limit}")
    chosen, own = layer, expression(where)
    if own is not None:
        chosen = matching(layer, own)
    found = None
    if other is not None or box is not None:
        layer.check_geometry("choosing by place")
    if other is not None:
        progress.stage(f"{layer.name}: how it lies to {other.name}")
        found = _by_place(
            layer=chosen,
            other=other,
            relation=relation,
            up_to=up_to,
            of_all=of_all,
            invert=invert,
            precision=precision,
            follow=follow,
        )
        chosen = found.layer
    elif relation or up_to or of_all:
        raise UsageError("how features lie needs an OTHER that they lie to")
    in_box = None
    if box is not None:
        before = chosen.n_total
        chosen = _in_box(chosen, box, None if box_crs is None else crs_of(box_crs))
        in_box = chosen.n_rows
        chosen = replace(chosen, total=before)
    if sort:
        chosen = chosen.take(order_of(chosen, names(sort))[:limit])
    elif limit is not None:
        chosen = chosen.take(np.arange(min(limit, chosen.n_rows)))
    chosen = with_fields(chosen, names(keep), names(drop))
    return SubsetResult(
        replace(chosen, total=None),
        SubsetSummary(
            name=layer.name,
            geometry=layer.kind,
            total=layer.n_total,
            out=chosen.n_rows,
            in_box=in_box,
            fields=chosen.table.column_names,
            fields_total=layer.table.num_columns,
            notes=[] if up_to is None else stretched(layer, ["distance"]),
            metric="" if found is None else found.metric,
            brought=[] if found is None else found.brought,
        ),
    )


def _by_place(
    layer: Layer,
    other: Layer,
    relation: str | None,
    up_to: Length | None,
    of_all: bool,
    invert: bool,
    precision: Length | None,
    follow: Length | None,
) -> Chosen:
    from polygene.ops.places.by_place import chosen_by_place

    if (relation is None) == (up_to is None):
        raise UsageError("say how features lie to OTHER: give one of `relation` and `up_to`")
    return chosen_by_place(
        layer,
        other,
        relation or "intersects",
        of_all=of_all,
        invert=invert,
        up_to=metres(up_to, layer.crs),
        precision=map_units(precision, layer.crs),
        follow=true_metres(follow),
    )


def _in_box(layer: Layer, box: Extent, box_crs: CRS | None) -> Layer:
    if box_crs is None or is_same(box_crs, layer.crs):
        from polygene.ops.places.in_box import rows_in_box

        return layer.take(rows_in_box(layer, box))
    from polygene.ops.places.boxes import box_layer
    from polygene.ops.places.by_place import chosen_by_place

    return chosen_by_place(layer, box_layer(box, box_crs), "intersects").layer


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


def order_of(layer: Layer, sort: Sequence[str]) -> np.ndarray:
    """Return the rows in the order of fields; with a minus in front one falls. Nulls come last."""
    keys, columns = [], {}
    for k, text in enumerate(sort):
        falls = text.startswith("-") and text not in layer.table.column_names
        name = text[1:] if falls else text
        layer.check_field(name)
        column = layer.table.column(name)
        if kind_of(column.type) == "boolean":
            column = pc.cast(column, pa.int8())
        columns[f"{k}"] = column
        keys.append((f"{k}", "descending" if falls else "ascending"))
    # Arrow's order is stable, and has nulls at the end whichever way it goes.
    order = pc.sort_indices(pa.table(columns), sort_keys=keys)
    return np.asarray(order).astype(np.int64)
