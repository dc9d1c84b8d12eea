"""Tally: a table of aggregates by some fields, with totals, shares, and the rest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array, looked_up
from polygene.classes import NamedTuple, dataclass
from polygene.errors import ExpressionError, UsageError, check_choice
from polygene.layer import Layer, distinct_name
from polygene.notes import NULL_NAME
from polygene.ops.given import Names, names
from polygene.ops.ground import stretched_in
from polygene.ops.grouped import fields_of, grouped_by
from polygene.table.aggregate import Entries, Take, aggregate, without_value
from polygene.table.casting import as_text
from polygene.table.expression import fields_alone
from polygene.table.groups import Groups, group_rows, some_rows
from polygene.table.types import kind_of

MOST_COLUMNS = 200
TOTAL, ALL, REST = "total", "all", "the rest"
SHARES = ("rows", "columns", "all")
_ADDITIVE = ("count", "sum")


@dataclass(frozen=True)
class Tally:
    """A table with one row a value of ``by`` (several: a combination), in rising order if not sorted.

    body : the fields of ``by``, then the values
    totals : (one row) the same over all rows; of values that can be summed or not: computed anew
    geometry : what the layer holds, ``none`` if it is a table
    by : how many of the first columns are keys
    total_name : what stands for the totals in the first key column: no value there is called so
    row_totals : columns that are totals of their row, across a second field
    shares : columns of per cent
    rest : values of ``by`` that the last row gathers, if only the top was asked for
    without_value : by aggregate, how many features have no value for it
    notes : what there is to say of areas and lengths on the plane
    """

    body: pa.Table
    totals: pa.Table
    by: int
    features: int
    geometry: str
    total_name: str = ALL
    row_totals: list[str] = field(default_factory=list)
    shares: list[str] = field(default_factory=list)
    rest: int = 0
    without_value: dict[str, int] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)


def tally(
    layer: Layer,
    by: Names = (),
    aggregate: Names = (),
    across: str | None = None,
    *,
    classes: Sequence[float] = (),
    share: str | None = None,
    sort: str | None = None,
    top: int | None = None,
) -> Tally:
    """Aggregate the features of each value of some fields; without any, of all.

    Parameters
    ----------
    by : fields or expressions for the rows of the table
    aggregate : aggregates, ``count()`` if none is given
    across : a field or expression whose values become columns, of each aggregate; the last is the total
    classes : borders of classes, for the one number in ``by``: from one up to below the next
    share : add per cent of each count and sum: of its row's total (with ``across``), of its
        column's, or of ``all``
    sort : a column of the table to sort by, with a minus in front it falls; nulls come last
    top : the first so many rows only; the last gathers the rest, aggregated anew

    Raises
    ------
    UnknownFieldError, ExpressionError
        If something does not fit the layer.
    UsageError
        If ``across`` has more than 200 values, or something is asked for that has no meaning.
    """
    if share is not None:
        check_choice("share", share, SHARES)
    if share == "rows" and across is None:
        raise UsageError("shares of rows need columns to share them out: give `across`")
    layer, by = grouped_by(layer, names(by))
    layer, columns = grouped_by(layer, [across] if across else [])
    if top is not None and not top >= 1:
        raise UsageError(f"`top` is how many rows come first, 1 or more, not {top}")
    if (sort or top) and not by:
        raise UsageError("`sort` and `top` are of rows: give `by`")
    # Aggregates are of the numbers, also of those that are shown as classes.
    given, layer = layer, _classed(layer, by, classes) if classes else layer
    work = _Work(given, [Take.parse(text) for text in (names(aggregate) or ["count()"])])
    groups = group_rows(layer.table, by, layer.n_rows)
    order = _order(layer.table, by, groups)
    keys = [_unsigned(some_rows(layer.table.column(name), groups.firsts[order])) for name in by]
    # All of nothing is one row, as all of some features is.
    rows, n, rest = looked_up(_rank(order), groups.group), groups.n_groups if by else 1, 0
    crossing = None if not columns else _Crossing.of(layer, columns[0])
    if sort:
        order = _sorted(sort, by, keys, work.columns(rows, n, crossing))
        keys, rows = [pc.take(key, pc.column(order)) for key in keys], _rank(order)[rows]
    if top is not None and n > top:
        rest = n - top
        keys = [_with_rest(key.slice(0, top), k, rest) for k, key in enumerate(keys)]
        rows, n = np.minimum(rows, top), top + 1
    keys = [_decoded(key) for key in keys]
    made = work.columns(rows, n, crossing)
    if share is not None:
        made = _with_shares(made, share)
    made = _named_apart(made, by)
    fields = [pa.field(name, key.type) for name, key in zip(by, keys, strict=True)]
    schema = pa.schema([*fields, *(one.field for one in made)])
    blanks = [pa.chunked_array([pa.nulls(1, key.type)]) for key in keys]
    return Tally(
        pa.table([*keys, *(one.cells for one in made)], schema),
        pa.table([*blanks, *(one.foot for one in made)], schema),
        len(by),
        layer.n_rows,
        layer.kind,
        total_name=_free(ALL, keys[0]) if keys else ALL,
        row_totals=[one.field.name for one in made if one.is_total and not one.is_share],
        shares=[one.field.name for one in made if one.is_share],
        rest=rest,
        without_value={take.name: n for take in work.takes if (n := without_value(take, given))},
        notes=stretched_in(given, (tree for take in work.takes for tree in take.trees)),
    )


def looked_at(
    fields: Sequence[str], by: Names = (), aggregate: Names = (), across: str | None = None
) -> set[str] | None:
    """Return which fields a `tally` looks at; None if it looks at geometry, or does not fit these."""
    try:
        found = set(fields_of(fields, [*names(by), *([across] if across else [])]))
        trees = [tree for text in names(aggregate) for tree in Take.parse(text).trees]
    except (ExpressionError, UsageError):  # which is said where all is known
        return None
    taken = fields_alone(trees, fields)
    return None if taken is None or not found <= set(fields) else found | taken


class _Column(NamedTuple):
    """A column of values with what stands below it; ``is_total`` of its row, across a field."""

    field: pa.Field
    cells: pa.ChunkedArray
    foot: pa.ChunkedArray
    take: Take
    is_total: bool = False
    is_share: bool = False


class _Crossing(NamedTuple):
    """The values of a field as columns: the column of each row, and their names."""

    column: I64Array
    names: list[str]

    @staticmethod
    def of(layer: Layer, across: str) -> _Crossing:
        columns = group_rows(layer.table, [across], layer.n_rows)
        if columns.n_groups > MOST_COLUMNS:
            raise UsageError(
                f"field {across!r} has {columns.n_groups:,} different values, too many for columns; "
                "exchange the fields, or use it in `by`"
            )
        order = _order(layer.table, [across], columns)
        values = _unsigned(some_rows(layer.table.column(across), columns.firsts[order]))
        texts = [NULL_NAME if v is None else v for v in as_text(values).to_pylist()]
        return _Crossing(looked_up(_rank(order), columns.group), _distinct(texts))


class _Work(NamedTuple):
    """What is aggregated, and how."""

    layer: Layer
    takes: list[Take]

    def columns(self, rows: I64Array, n: int, crossing: _Crossing | None) -> list[_Column]:
        """Return the columns of values; ``rows`` (n_features,) is which of ``n`` rows each is in."""
        all_rows = np.zeros(self.layer.n_rows, np.int64)
        made = []
        wholes = []
        for take in self.takes:
            name, cells = self._of(take, rows, n)
            wholes.append(_Column(name, cells, self._of(take, all_rows, 1)[1], take, True))
        if crossing is None:
            return [one._replace(is_total=False) for one in wholes]
        width = len(crossing.names)
        for take, whole in zip(self.takes, wholes, strict=True):
            cells = self._of(take, rows * width + crossing.column, n * width)[1]
            feet = self._of(take, crossing.column, width)[1]
            alone = len(self.takes) == 1
            for k, name in enumerate(crossing.names):
                own = whole.field.with_name(name if alone else f"{name} {take.name}")
                at = pc.column(np.arange(n) * width + k)
                made.append(_Column(own, cells.take(at), pc.take(feet, pa.array([k])), take))
            taken = {one.field.name for one in made}
            total = _outside(TOTAL if alone else f"{TOTAL} {take.name}", taken)
            made.append(whole._replace(field=whole.field.with_name(total)))
        return made

    def _of(self, take: Take, group: I64Array, n: int) -> tuple[pa.Field, pa.ChunkedArray]:
        entries = Entries(None, group, n)
        found = aggregate(take, self.layer, entries)
        return found.field, found.data


def _rank(order: I64Array) -> I64Array:
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    return rank


def _classed(layer: Layer, by: Sequence[str], borders: Sequence[float]) -> Layer:
    """Return a layer whose one number among ``by`` is the class that it is in, numbered in its name."""
    numbers = [n for n in by if kind_of(layer.table.column(n).type) == "number"]
    if len(numbers) != 1:
        raise UsageError(
            "`classes` are of the one number in `by`; there "
            + ("is none" if not numbers else f"are {', '.join(numbers)}")
        )
    edges = np.asarray(borders, np.float64)
    if not len(edges) or (np.diff(edges) <= 0).any():
        raise UsageError("`classes` are numbers that rise, as 0,10,50")
    column = layer.table.column(numbers[0])
    values = np.asarray(pc.fill_null(pc.cast(column, pa.float64(), safe=False), float("nan")))
    place = np.searchsorted(edges, values, side="right")
    shown = [f"{edge:,.10g}" for edge in edges]
    words = [
        f"below {shown[0]}",
        *(f"{a} to below {b}" for a, b in zip(shown[:-1], shown[1:], strict=True)),
        f"{shown[-1]} and more",
    ]
    labels = pa.DictionaryArray.from_arrays(
        pc.with_nulls(place, np.isnan(values)), pc.column(words)
    )
    at = layer.table.column_names.index(numbers[0])
    return replace(layer, table=layer.table.set_column(at, numbers[0], pa.chunked_array([labels])))


def _sorted(
    sort: str, by: Sequence[str], keys: Sequence[pa.ChunkedArray], made: Sequence[_Column]
) -> I64Array:
    """Return the order of rows by a column of the table; rows that are equal stay in theirs."""
    columns = dict(zip(by, map(_plain, keys), strict=True)) | {m.field.name: m.cells for m in made}
    falls = sort.startswith("-") and sort not in columns
    name = sort[1:] if falls else sort
    if name not in columns:
        raise UsageError(
            f"the table has no column {name!r} to sort by; it has {', '.join(columns)}"
        )
    values = _plain(columns[name])
    table = pa.table({"none": pc.cast(pc.is_null(values), pa.int8()), "v": values,
                      "at": np.arange(len(values))})  # fmt: skip
    way = "descending" if falls else "ascending"
    order = pc.sort_indices(table, [("none", "ascending"), ("v", way), ("at", "ascending")])
    return np.asarray(order).astype(np.int64)


def _with_rest(key: pa.ChunkedArray, k: int, rest: int) -> pa.ChunkedArray:
    """Return a column of keys as texts, with one more for the rest."""
    texts = as_text(_decoded(key))
    last = _free(f"{REST} ({rest:,})", texts) if k == 0 else None
    return pa.chunked_array([*texts.chunks, pa.array([last], pa.string())], pa.string())


def _free(name: str, values: pa.ChunkedArray) -> str:
    """Return a name that no value has: itself, or in brackets."""
    return _outside(name, set(as_text(_decoded(values)).to_pylist()))


def _outside(name: str, taken: set[str | None]) -> str:
    while name in taken:
        name = f"({name})"
    return name


def _with_shares(made: Sequence[_Column], share: str) -> list[_Column]:
    """Return columns with per cent behind each count and sum."""
    if not any(one.take.function in _ADDITIVE for one in made):
        raise UsageError("shares are of counts and sums; aggregate with count() or sum()")
    grand = {one.take.name: one for one in made if one.is_total} or {
        one.take.name: one for one in made
    }
    found = []
    for one in made:
        found.append(one)
        if one.take.function not in _ADDITIVE:
            continue
        whole = grand[one.take.name]
        of, below = {
            "rows": (whole.cells, whole.foot),
            "columns": (one.foot, one.foot),
            "all": (whole.foot, whole.foot),
        }[share]
        own = pa.field(f"{one.field.name} %", pa.float64())
        cells, foot = _per_cent(one.cells, of), _per_cent(one.foot, below)
        found.append(one._replace(field=own, cells=cells, foot=foot, is_share=True))
    return found


def _per_cent(part: pa.ChunkedArray, whole: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return 100 part / whole, whole of one value or of as many; null where there is no whole."""
    a = np.asarray(pc.fill_null(pc.cast(part, pa.float64(), safe=False), 0.0))
    b = np.asarray(pc.fill_null(pc.cast(whole, pa.float64(), safe=False), 0.0))
    b = np.broadcast_to(b, a.shape)
    found = np.divide(100.0 * a, b, out=np.zeros(len(a)), where=b != 0)
    return pa.chunked_array([pc.with_nulls(found, b == 0)])


def _named_apart(made: Sequence[_Column], by: Sequence[str]) -> list[_Column]:
    """Return columns of which none is called like a key or another."""
    taken = set(by)
    found = []
    for one in made:
        name = distinct_name(one.field.name, taken)
        taken.add(name)
        found.append(one._replace(field=one.field.with_name(name)))
    return found


def _distinct(names: list[str]) -> list[str]:
    taken: set[str] = set()
    found = []
    for name in names:
        found.append(distinct_name(name, taken))
        taken.add(found[-1])
    return found


def _unsigned(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return values with 0.0 in place of -0.0, which is of one group with it, whichever came first."""
    kind = column.type
    return pc.add(column, pa.scalar(0.0, kind)) if pa.types.is_floating(kind) else column


def _decoded(column: pa.ChunkedArray) -> pa.ChunkedArray:
    is_coded = pa.types.is_dictionary(column.type)
    return pc.cast(column, column.type.value_type) if is_coded else column


def _plain(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return a column in whose order it is to be sorted: classes by their place, truth by number."""
    if pa.types.is_dictionary(column.type):
        chunks = [chunk.indices for chunk in column.chunks]
        return pa.chunked_array(chunks, column.type.index_type)
    return pc.cast(column, pa.int8()) if pa.types.is_boolean(column.type) else column


def _order(table: pa.Table, by: Sequence[str], groups: Groups) -> I64Array:
    """Return the groups in rising order of their values, nulls last."""
    if not by:
        return np.arange(groups.n_groups)
    keys = [_plain(some_rows(table.column(name), groups.firsts)) for name in dict.fromkeys(by)]
    names = [f"k{k}" for k in range(len(keys))]
    keys = pa.table(keys, names)
    order = pc.sort_indices(keys, sort_keys=[(name, "ascending") for name in names])
    return np.asarray(order).astype(np.int64)
