"""The least and the largest of each group, and the middle: by integers that rise with the values."""

from __future__ import annotations

import itertools

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels, parallel
from polygene.arrays import NONE, F64Array, I64Array, bucket
from polygene.table.groups import bytes_of, numbering_of
from polygene.table.rising import NO_NUMBER, rising, rising_reals

ROUNDS = 8  # of eight bytes by which texts are told apart
LARGE = 64  # a group with this part of all values and more is parted, smaller ones are sorted


def order_keys(column: pa.ChunkedArray, wants_most: bool = False) -> I64Array:
    """Return a number for each value that rises with it, equal for equal ones; of null any.

    What is no number is larger than all that are, or smaller where the largest is looked for: so it is
    found where there is nothing else.
    """
    found = rising(column)
    if found is None:
        return _order_of_codes(column)
    if wants_most and pa.types.is_floating(column.type):
        is_none = found == NO_NUMBER
        found = np.where(is_none, np.iinfo(np.int64).min, found) if is_none.any() else found
    return found


def _order_of_codes(column: pa.ChunkedArray) -> I64Array:
    """Return the same of texts and the like: the distinct ones alone are sorted."""
    found = numbering_of(column)
    distinct = pc.take(column, pc.column(found.firsts))
    ranks = pc.rank(distinct, sort_keys="ascending", tiebreaker="dense")
    return np.asarray(ranks).astype(np.int64)[found.numbers]


def best_of_groups(group: I64Array, keys: I64Array, n_groups: int, wants_most: bool) -> I64Array:
    """Return the first item (n_groups,) with the least key of each group, or the largest; else NONE."""
    group, keys = np.ascontiguousarray(group, np.int64), np.ascontiguousarray(keys, np.int64)

    def find(first: int, stop: int) -> I64Array:
        best = np.full(n_groups, NONE)
        kernels.run(kernels.ranks.find_best, group, keys, wants_most, best, first, stop)
        return best

    found, *others = parallel.each(find, parallel.split_of_groups(len(group), n_groups))
    for other in others:
        own = np.flatnonzero(other != NONE)
        a, b = found[own], other[own]
        is_better = keys[b] > keys[a] if wants_most else keys[b] < keys[a]
        is_better |= a == NONE
        found[own[is_better]] = b[is_better]
    return found


def best_texts(
    column: pa.ChunkedArray, group: I64Array, row: I64Array, n_groups: int, wants_most: bool
) -> I64Array:
    """Return a row (n_groups,) with the least text of each group, or the largest; NONE of none.

    Entry k is row ``row[k]``, which is not null, in group ``group[k]``. Texts are told apart by eight
    bytes at a time: those that are not the best so far are looked at no more.
    """
    whole = column.chunk(0) if column.num_chunks == 1 else pc.cast(column, pa.large_string())
    data, offsets = bytes_of(whole if isinstance(whole, pa.Array) else whole.combine_chunks())
    starts, stops = offsets[row], offsets[row + 1]
    for _ in range(ROUNDS):
        keys = np.empty(len(row), np.int64)
        kernels.run(kernels.ranks.order_texts, data, starts, stops, keys)
        best = best_of_groups(group, keys, n_groups, wants_most)
        alike = np.flatnonzero(keys == keys[best[group]])
        row, group, starts, stops = (v[alike] for v in (row, group, starts, stops))
        starts = starts + 8
        # Of those that have nothing left the shorter ones are less: what is behind them counted as 0.
        if (starts >= stops).all() or len(row) == (best != NONE).sum():
            keys = stops - starts
            break
    else:
        keys = _order_of_codes(pc.take(column, pc.column(row)))
    best = best_of_groups(group, keys, n_groups, wants_most)
    return np.where(best == NONE, NONE, row[best])


def medians(group: I64Array, values: F64Array, n_groups: int) -> F64Array:
    """Return the middle value of each group, between two the mean of them; 0 of none."""
    offsets, order = bucket(group, n_groups)
    starts, counts = offsets[:-1], np.diff(offsets)
    middles = np.stack([starts + (counts - 1) // 2, starts + counts // 2])
    is_large = counts * LARGE > max(len(values), LARGE * LARGE)
    large = np.flatnonzero(is_large).tolist()  # fewer than LARGE
    for g in large:
        own = order[starts[g] : starts[g] + counts[g]]
        own[:] = own[np.argpartition(values[own], middles[:, g] - starts[g])]
    keys = rising_reals(values)
    for first, stop in itertools.pairwise([-1, *large, n_groups]):
        _sort(keys, offsets[first + 1 : stop + 1], order)
    found, has = np.zeros(n_groups), counts > 0
    low, high = values[order[middles[:, has]]]
    found[has] = (low + high) / 2
    return found


def _sort(keys: I64Array, offsets: I64Array, order: I64Array) -> None:
    """Sort the items of some groups by their keys."""

    def sort(first: int, stop: int) -> None:
        kernels.run(kernels.pairs.sort_groups, keys, offsets[first : stop + 1], order)

    parallel.each(sort, parallel.parted(offsets))
