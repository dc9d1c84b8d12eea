"""Parts: multi-part features to single parts, and single parts together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array, owners
from polygene.classes import dataclass
from polygene.errors import UsageError
from polygene.layer import Layer
from polygene.ops.given import Names, names
from polygene.table.agreeing import agreed
from polygene.table.groups import group_rows


@dataclass(frozen=True)
class PartsSummary:
    """Features before and after, and fields that disagreed in so many gathered features."""

    name: str
    total: int
    taken: int
    parts: int
    out: int
    disagreements: dict[str, int]
    notes: list[str]


@dataclass(frozen=True)
class PartsResult:
    layer: Layer
    summary: PartsSummary


def single_parts(layer: Layer) -> Layer:
    """Give each part a row of its own, with the attributes of its feature.

    Rows without parts stay as they are. Identifiers stay only if nothing was taken apart.
    """
    return taken_apart(layer)[0]


def taken_apart(layer: Layer) -> tuple[Layer, I64Array]:
    """Return `single_parts`, and for each of its rows the row it is a part of."""
    column = layer.geometry
    counts = np.diff(column.row_offsets)
    source = np.repeat(np.arange(column.n_rows), np.maximum(counts, 1))
    is_part = counts[source] > 0
    row_of_part = np.flatnonzero(is_part)
    parts = column.take_parts(np.arange(column.n_parts), row_of_part, len(source))
    single = replace(parts, is_null=column.is_null[source], is_multi=False)
    assert (owners(column.row_offsets) == source[row_of_part]).all()
    return layer.with_geometry(single, source), source


def parts(
    layer: Layer,
    *,
    number: str | None = None,
    source: str | None = None,
    gather: Names | None = None,
) -> PartsResult:
    """Take features apart, or ``gather`` those that agree in some fields; see `apart`, `together`.

    Raises
    ------
    UnknownFieldError
        If a field is not there.
    UsageError
        If both are asked for.
    """
    if gather is None:
        return apart(layer, number=number, source=source)
    if number or source:
        raise UsageError("`number` and `source` are for taking features apart")
    return together(layer, names(gather))


def apart(layer: Layer, *, number: str | None = None, source: str | None = None) -> PartsResult:
    """Take features apart, with the number of each part and the identifier of its feature as fields.

    Parameters
    ----------
    number, source : names of fields to add, if wanted; parts are counted from 1

    Raises
    ------
    UsageError
        If there is such a field already.
    """
    taken = {name.casefold() for name in layer.table.column_names}
    for new in filter(None, (number, source)):
        if new.casefold() in taken:
            raise UsageError(f"there is a field {new!r} already; name the new one otherwise")
        taken.add(new.casefold())
    result, row = taken_apart(layer)
    table = result.table
    first = np.searchsorted(row, np.arange(layer.n_rows))
    ids = layer.origins
    for name, values in ((number, np.arange(len(row)) - first[row] + 1), (source, ids[row])):
        if name is not None:
            field = pa.field(name, pa.int64())
            if table.num_columns == 0:
                table = pa.table([pc.column(values)], pa.schema([field]))
            else:
                table = table.append_column(field, pc.column(values))
    result = replace(result, table=table, total=None)
    return PartsResult(
        result,
        PartsSummary(
            name=layer.name,
            total=layer.n_total,
            taken=layer.n_rows,
            parts=layer.geometry.n_parts,
            out=result.n_rows,
            disagreements={},
            notes=[],
        ),
    )


def together(layer: Layer, by: Sequence[str]) -> PartsResult:
    """Gather features that agree in some fields into one each, their parts as they are.

    Unlike `dissolve` nothing is joined: parts that overlap or share a border stay apart.

    Raises
    ------
    UnknownFieldError
        If a field is not there.
    """
    for name in by:
        layer.check_field(name)
    groups = group_rows(layer.table, by, layer.n_rows)
    column = layer.geometry
    group = groups.group[owners(column.row_offsets)]
    order = np.argsort(group, kind="stable")
    gathered = column.take_parts(order, group[order], groups.n_groups)
    found = agreed(layer.table, groups, by)
    result = replace(
        layer, geometry=replace(gathered, is_multi=True), table=found.table, ids=None, total=None
    )
    return PartsResult(
        result,
        PartsSummary(
            name=layer.name,
            total=layer.n_total,
            taken=layer.n_rows,
            parts=column.n_parts,
            out=result.n_rows,
            disagreements=found.disagreements,
            notes=[],
        ),
    )
