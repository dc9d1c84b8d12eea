"""Rows and their partners in another layer: a row for each pair, or aggregates over the partners."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import NONE, I64Array, bucket, count_by
from polygene.layer import Layer, row_numbers
from polygene.ops.attributes import free_name, joined
from polygene.ops.places.partners import Partners
from polygene.table.aggregate import Entries, Take, aggregate, counts_of


def with_partners(
    layer: Layer, other: Layer, found: Partners, alone: str
) -> tuple[Layer, I64Array]:
    """Return a row for each pair, with the fields of both; ``alone`` is of INPUT without any."""
    lonely = np.flatnonzero(count_by(found.first, layer.n_rows) == 0)
    first, second = found.first, found.second
    if alone == "only":
        first, second = lonely, np.full(len(lonely), NONE)
    elif alone == "keep":
        first = np.concatenate([first, lonely])
        second = np.concatenate([second, np.full(len(lonely), NONE)])
    order = bucket(first, layer.n_rows).order
    first, second = first[order], second[order]
    table = joined([layer, other], np.stack([first, second], axis=1))
    if found.distance is not None and alone != "only":
        distance = np.full(len(order), np.nan)
        distance[np.flatnonzero(order < len(found.first))] = found.distance[
            order[order < len(found.first)]
        ]
        taken = {n.casefold() for n in table.column_names}
        values = pc.with_nulls(distance, np.isnan(distance))
        table = added(table, free_name("distance", other.name, taken), values)
    result = layer.with_geometry(layer.geometry.take(first), first)
    return replace(result, table=table, total=None), first


def with_aggregates(
    layer: Layer, other: Layer, found: Partners, take: Sequence[str], alone: str
) -> tuple[Layer, I64Array, dict[str, int]]:
    """Return INPUT with how many partners each feature has, and aggregates over them."""
    share = None
    if found.shared is not None and found.size is not None:
        of = found.size[found.second]
        share = np.divide(found.shared, of, out=np.zeros(len(of)), where=of > 0)
        share[np.abs(share - 1) < 1e-9] = 1.0
    if found.weight is not None:
        share = found.weight
    is_split = found.weight is not None
    groups = Entries(found.second, found.first, layer.n_rows, share, is_split)
    table, disagreements = aggregated(layer, other, groups, np.arange(layer.n_rows), take)
    matches_of = count_by(found.first, layer.n_rows)
    if found.distance is not None:
        least = np.full(layer.n_rows, np.nan)
        np.fmin.at(least, found.first, found.distance)
        name = free_name("distance", other.name, {n.casefold() for n in table.column_names})
        table = added(table, name, pc.with_nulls(least, np.isnan(least)))
    rows = rows_kept(matches_of, alone)
    return replace(layer, table=table).take(rows), rows, disagreements


def rows_kept(matches_of: I64Array, alone: str) -> I64Array:
    """Return the rows of INPUT that come out, by how many partners each has."""
    if alone == "keep":
        return np.arange(len(matches_of))
    return np.flatnonzero((matches_of > 0) == (alone == "drop"))


def aggregated(
    layer: Layer, other: Layer, groups: Entries, group_of: I64Array, take: Sequence[str]
) -> tuple[pa.Table, dict[str, int]]:
    """Return the fields of INPUT with ``matches`` and aggregates over the group that each row is of.

    Parameters
    ----------
    group_of : (rows of INPUT,) its group, NONE for none

    Returns
    -------
    the table, and in how many groups the values of a new field disagreed
    """
    table, disagreements = layer.table, {}
    taken = {n.casefold() for n in table.column_names}
    is_none = group_of == NONE
    at = row_numbers(group_of)
    # the last is that of no group
    sizes = np.append(counts_of(groups), 0)
    matches_of = sizes[np.where(is_none, groups.n_groups, group_of)]
    table = added(table, free_name("matches", other.name, taken), pc.column(matches_of))
    for text in take:
        item = Take.parse(text)
        result = aggregate(item, other, groups)
        name = free_name(item.name, other.name, taken)
        data = result.data.take(at)
        if item.function == "count":
            data = pc.fill_null(data, 0)
        table = table.append_column(result.field.with_name(name), data)
        if result.disagreed:
            disagreements[name] = result.disagreed
    return table, disagreements


def added(table: pa.Table, name: str, values: pa.Array) -> pa.Table:
    """Return a table with a field more."""
    if table.num_columns == 0:
        return pa.table([values], [name])
    return table.append_column(pa.field(name, values.type), values)
