"""Aggregates of groups of rows: what `--aggregate "name = function(field)"` asks for."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    bucket,
    count_by,
    number_pairs,
    sum_by,
)
from polygene.classes import dataclass
from polygene.errors import ExpressionError, did_you_mean
from polygene.layer import Layer
from polygene.table.agreeing import disagreeing
from polygene.table.casting import as_text
from polygene.table.expression import Expression, computed
from polygene.table.groups import codes_of, some_rows
from polygene.table.ranking import best_of_groups, best_texts, medians, order_keys
from polygene.table.sizes import GEOMETRY_FUNCTIONS
from polygene.table.sums import Addends, as_reals, exact_sums, products, quotients, rounded_sums

if TYPE_CHECKING:
    import lark

_NUMBERS = ("sum", "mean", "median")
_WEIGHTED = ("sum", "mean")
_RANKED = ("largest", "smallest")
FUNCTIONS = {
    "count": "how many features, or with a field how many values that are not null",
    "sum": "the sum; with weight=w of value times w",
    "mean": "the mean; with weight=w the weighted one",
    "min": "the smallest value",
    "max": "the largest value",
    "median": "the middle value, between two the mean of them",
    "first": "the first value that is not null",
    "last": "the last value that is not null",
    "agreed": "the value that all have, null where they differ",
    "list": "the different values as one text, in order of appearance, with ; between",
    "commonest": "the commonest value, null where two are equally common",
    "value": "that of the largest (or smallest) in an expression: value(name, largest = area())",
}


@dataclass(frozen=True)
class Take:
    """``name = function(argument, weight=weight)``, or ``value(argument, largest = rank)``."""

    text: str
    name: str
    function: str
    argument: lark.Tree | None
    weight: lark.Tree | None
    rank: lark.Tree | None = None
    is_smallest: bool = False

    @property
    def trees(self) -> list[lark.Tree]:
        """All that it computes of a feature."""
        return [tree for tree in (self.argument, self.weight, self.rank) if tree is not None]

    @staticmethod
    def parse(text: str) -> Take:
        """Read ``beds = count()`` or ``cover = mean(cover_pct, weight=area)``.

        Without a name it is the function's and the field's, ``mean_cover_pct``.

        Raises
        ------
        ExpressionError
            If it is none, with the place.
        """
        match = re.match(r"\s*(?:(?:\"([^\"]+)\"|([^\W\d][\w.:]*))\s*=)?(?=\s*\w+\s*\()", text)
        if match is None:
            raise ExpressionError("write it as NAME = FUNCTION(FIELD)", text, 0)
        try:
            # Blanks in place of the name keep places in messages right.
            tree = Expression(" " * match.end() + text[match.end() :]).tree
        except ExpressionError as err:
            raise ExpressionError(err.reason, text, err.column) from err
        if tree.data != "call":
            raise ExpressionError("write it as NAME = FUNCTION(FIELD)", text, match.end())
        function = str(tree.children[0]).lower()
        if function not in FUNCTIONS:
            raise ExpressionError(
                f"there is no aggregate {function!r}{did_you_mean(function, list(FUNCTIONS))} "
                f"(there are {', '.join(FUNCTIONS)})",
                text,
                tree.meta.start_pos,
            )
        arguments, weight, rank = list(tree.children[1:]), None, None
        last = _named(arguments[-1]) if arguments else ""
        if last == "weight":
            weight = arguments.pop().children[2]
        elif last in _RANKED and function == "value":
            rank = arguments.pop().children[2]
        if (rank is None) == (function == "value"):
            raise ExpressionError(
                "write it as value(FIELD, largest = EXPRESSION), or smallest",
                text,
                tree.meta.start_pos,
            )
        _check_arguments(text, tree, function, arguments, weight)
        argument = arguments[0] if arguments else None
        name = match[1] or match[2] or _default_name(function, argument)
        return Take(text, name, function, argument, weight, rank, last == "smallest")


def _named(tree: lark.Tree) -> str:
    """Return the name of an argument that is given by one, as ``weight = area``."""
    is_named = tree.data == "compare" and str(tree.children[1]) == "="
    if not is_named or tree.children[0].data != "field":
        return ""
    return str(tree.children[0].children[0]).lower()


def _check_arguments(
    text: str, tree: lark.Tree, function: str, arguments: list[lark.Tree], weight: lark.Tree | None
) -> None:
    if len(arguments) > 1 or (not arguments and function != "count"):
        raise ExpressionError(
            f"{function} takes one field or expression", text, tree.meta.start_pos
        )
    if weight is not None and function not in _WEIGHTED:
        raise ExpressionError(
            f"only {' and '.join(_WEIGHTED)} can be weighted", text, weight.meta.start_pos
        )


def _default_name(function: str, argument: lark.Tree | None) -> str:
    if argument is None:
        return function
    if argument.data == "field":
        return f"{function}_{str(argument.children[0]).strip(chr(34))}"
    return function


@dataclass(frozen=True)
class Entries:
    """Which rows of a layer are in which groups; a row may be in several.

    row, group : (n,) entries, in the order that `first`, `last` and `list` see; without ``row`` they
        are all rows as they stand
    share : (n,) how much of the row counts, 1 for all of it
    splits : whether rows count by their share in counts, sums and means, without being asked to
    """

    row: I64Array | None
    group: I64Array
    n_groups: int
    share: F64Array | None = None
    splits: bool = False

    @property
    def rows(self) -> I64Array:
        """The row of each entry."""
        return np.arange(len(self.group)) if self.row is None else self.row

    def of(self, values: npt.NDArray[Any]) -> npt.NDArray[Any]:
        """Return of values (n_rows,) those of the entries."""
        return values if self.row is None else values[self.row]

    def rows_of(self, entry: I64Array) -> I64Array:
        """Return the rows of some entries; NONE of NONE."""
        if self.row is None:
            return entry
        return np.where(entry == NONE, NONE, self.row[entry] if len(self.row) else NONE)

    def some(self, kept: I64Array) -> Entries:
        """Return some of the entries."""
        share = None if self.share is None else self.share[kept]
        return Entries(self.rows_of(kept), self.group[kept], self.n_groups, share, self.splits)


@dataclass(frozen=True)
class Aggregated:
    """One value a group, and in how many groups the values disagreed or were equally common."""

    field: pa.Field
    data: pa.ChunkedArray
    disagreed: int = 0


def aggregate(take: Take, layer: Layer, groups: Entries) -> Aggregated:
    """Compute one aggregate.

    Nulls are left out; a group without values gives null, except for count and list.

    Raises
    ------
    ExpressionError
        If a field is unknown or of the wrong kind, with the place.
    """
    if take.argument is None:
        return _of_counts(take.name, counts_of(groups))
    found = computed(take.argument, take.text, layer)
    metadata = None
    if take.argument.data == "field":
        name = str(take.argument.children[0]).strip('"')
        metadata = layer.table.schema.field(name).metadata
    column, kind = found.data, found.kind
    if take.function in _NUMBERS and kind not in ("number", "null"):
        raise ExpressionError(
            f"{take.function} needs a number, and this is a {kind}",
            take.text,
            take.argument.meta.start_pos,
        )
    kept: I64Array | slice = slice(None)
    entries = groups
    if column.null_count:
        kept = np.flatnonzero(groups.of(np.asarray(pc.is_valid(column), bool)))
        entries = groups.some(kept)
    if take.function == "count":
        return _of_counts(take.name, counts_of(entries))
    if take.function in _NUMBERS:
        weight = None if take.weight is None else _weights(take, layer, groups)[kept]
        if groups.splits and take.function in _WEIGHTED:
            assert entries.share is not None
            weight = entries.share if weight is None else weight * entries.share
        return _of_numbers(take, column, entries, weight)
    if take.function == "list":
        return _lists(take.name, column, entries)
    if take.function == "agreed":
        rows, disagreed = _agreed(column, groups)
    elif take.rank is not None:
        rows, disagreed = _of_the_largest(take, layer, column, groups)
    else:
        rows, disagreed = _CHOICES[take.function](column, entries)
    data = some_rows(column, rows)
    return Aggregated(pa.field(take.name, data.type, metadata=metadata), data, disagreed)


def without_value(take: Take, layer: Layer) -> int:
    """Return how many rows have no value for an aggregate, so that they count nothing in it."""
    if take.argument is None or take.function in ("agreed", "value"):
        return 0
    return int(computed(take.argument, take.text, layer).data.null_count)


def _weights(take: Take, layer: Layer, groups: Entries) -> F64Array:
    """Return the weight of each entry: ``share`` is what of the row takes part, ``area`` its area."""
    tree = take.weight
    assert tree is not None
    name = str(tree.children[0]) if tree.data == "field" else ""
    if name not in layer.table.column_names:
        if name == "share":
            return np.ones(len(groups.group)) if groups.share is None else groups.share
        if name in GEOMETRY_FUNCTIONS:
            return groups.of(GEOMETRY_FUNCTIONS[name].compute(layer, None))
    found = computed(tree, take.text, layer)
    if found.kind not in ("number", "null"):
        raise ExpressionError("a weight is a number", take.text, tree.meta.start_pos)
    values = pc.fill_null(pc.cast(found.data, pa.float64(), safe=False), float("nan"))
    return groups.of(np.asarray(values, np.float64))


def counts_of(groups: Entries) -> I64Array | F64Array:
    """Return how many rows are in each group; of split ones the shares."""
    if not groups.splits or groups.share is None:
        return count_by(groups.group, groups.n_groups)
    return rounded_sums(groups.group, groups.share, groups.n_groups)


def _of_counts(name: str, counts: I64Array | F64Array) -> Aggregated:
    data = pc.column(counts)
    return Aggregated(pa.field(name, data.type), pa.chunked_array([data]))


def _of_numbers(
    take: Take, column: pa.ChunkedArray, entries: Entries, weight: F64Array | None
) -> Aggregated:
    group, n = entries.group, entries.n_groups
    is_whole = pa.types.is_integer(column.type)
    if pa.types.is_null(column.type):
        column = pc.cast(column, pa.float64())
    values = entries.of(np.asarray(pc.fill_null(column, 0) if column.null_count else column))
    if take.function == "sum" and is_whole and weight is None:
        exact = np.zeros(n, np.int64)
        np.add.at(exact, group, values.astype(np.int64))
        if np.abs(sum_by(group, values.astype(np.float64), n)).max(initial=0) >= 2.0**63:
            raise ExpressionError("the sum of whole numbers grows too large", take.text, 0)
        return _masked(take.name, exact, count_by(group, n) == 0)
    if take.function == "median":
        reals = values.astype(np.float64, copy=False)
        middle = medians(group, reals, n)
        middle[group[np.isnan(reals)]] = np.nan  # where it would stand nobody knows
        return _masked(take.name, middle, count_by(group, n) == 0)
    if weight is None:
        parts = as_reals(values)
        below = Addends(np.arange(n), count_by(group, n).astype(np.float64))
    else:
        known = ~np.isnan(weight)
        group, weight = group[known], weight[known]
        parts = [part for own in as_reals(values[known]) for part in products(weight, own)]
        below = Addends(group, weight)
    above = Addends.of(group, parts)
    if take.function == "sum":
        return _masked(take.name, exact_sums(*above, n).rounded, count_by(group, n) == 0)
    found, heavy = quotients(above, below, n)
    return _masked(take.name, found, heavy.rounded == 0)


def _masked(name: str, values: np.ndarray, is_null: BoolArray) -> Aggregated:
    data = pc.with_nulls(values, is_null)
    return Aggregated(pa.field(name, data.type), pa.chunked_array([data]))


def _extreme(column: pa.ChunkedArray, entries: Entries, wants_most: bool) -> tuple[I64Array, int]:
    """Return a row with the smallest or largest value of each group, NONE for none."""
    if not len(entries.group):
        return np.full(entries.n_groups, NONE), 0
    if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        row, n = entries.rows, entries.n_groups
        return best_texts(column, entries.group, row, n, wants_most), 0
    keys = entries.of(order_keys(column, wants_most))
    best = best_of_groups(entries.group, keys, entries.n_groups, wants_most)
    return entries.rows_of(best), 0


def _smallest(column: pa.ChunkedArray, entries: Entries) -> tuple[I64Array, int]:
    return _extreme(column, entries, wants_most=False)


def _largest(column: pa.ChunkedArray, entries: Entries) -> tuple[I64Array, int]:
    return _extreme(column, entries, wants_most=True)


def _first(column: pa.ChunkedArray, entries: Entries) -> tuple[I64Array, int]:
    del column
    rows = np.full(entries.n_groups, NONE)
    rows[entries.group[::-1]] = entries.rows[::-1]
    return rows, 0


def _last(column: pa.ChunkedArray, entries: Entries) -> tuple[I64Array, int]:
    del column
    rows = np.full(entries.n_groups, NONE)
    rows[entries.group] = entries.rows
    return rows, 0


def _agreed(column: pa.ChunkedArray, groups: Entries) -> tuple[I64Array, int]:
    """Return a row of each group that agrees; null is a value like others."""
    rows, _ = _first(column, groups)
    differs = disagreeing(column, groups.group, rows, groups.row)
    return np.where(differs, NONE, rows), int(differs.sum())


def _of_the_largest(
    take: Take, layer: Layer, column: pa.ChunkedArray, groups: Entries
) -> tuple[I64Array, int]:
    """Return a row of each group that has the value of those that rank first, -1 where these differ."""
    assert take.rank is not None
    found = computed(take.rank, take.text, layer)
    known = np.flatnonzero(groups.of(np.asarray(pc.is_valid(found.data), bool)))
    wants_most = not take.is_smallest
    group, keys = groups.group[known], groups.of(order_keys(found.data, wants_most))[known]
    best = best_of_groups(group, keys, groups.n_groups, wants_most)
    return _agreed(column, groups.some(known[keys == keys[best[group]]]))


def _commonest(column: pa.ChunkedArray, entries: Entries) -> tuple[I64Array, int]:
    pairs = number_pairs(entries.group, entries.of(codes_of(column)))
    times = count_by(pairs.numbers, len(pairs.firsts))
    group, row = entries.group[pairs.firsts], entries.rows_of(pairs.firsts)
    most = np.zeros(entries.n_groups, np.int64)
    np.maximum.at(most, group, times)
    is_most = times == most[group]
    n_most = count_by(group[is_most], entries.n_groups)
    rows = np.full(entries.n_groups, -1)
    rows[group[is_most]] = row[is_most]
    rows[n_most > 1] = -1
    return rows, int((n_most > 1).sum())


def _lists(name: str, column: pa.ChunkedArray, entries: Entries) -> Aggregated:
    """Join the distinct values of each group; null for none."""
    pairs = number_pairs(entries.group, entries.of(codes_of(column)))
    group, row = entries.group[pairs.firsts], entries.rows_of(pairs.firsts)
    grouped = bucket(group, entries.n_groups)
    texts = pc.take(as_text(column), pc.column(row[grouped.order])).combine_chunks()
    if isinstance(texts, pa.ChunkedArray):
        texts = pa.concat_arrays(texts.chunks) if texts.num_chunks else pa.array([], pa.string())
    lists = pa.ListArray.from_arrays(pc.column(grouped.offsets.astype(np.int32)), texts)
    joined = pc.binary_join(lists, "; ")
    is_none = pc.column(np.diff(grouped.offsets) == 0)
    joined = pc.if_else(is_none, pa.scalar(None, pa.string()), joined)
    return Aggregated(pa.field(name, pa.string()), pa.chunked_array([joined]))


_CHOICES: dict[str, Any] = {
    "min": _smallest,
    "max": _largest,
    "first": _first,
    "last": _last,
    "commonest": _commonest,
}
