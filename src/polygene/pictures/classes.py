"""Classes of a field's values, and their colours: fit for colour-blind readers and for print."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import (
    NONE,
    BoolArray,
    I64Array,
    bucket,
    number_pairs,
    owners,
)
from polygene.errors import UsageError
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.notes import NULL_NAME, counted
from polygene.pictures.breaks import days_of, graded, range_names, reals
from polygene.plane.clusters import pairs_of_boxes
from polygene.plane.grid import Grid
from polygene.plane.relating import relate
from polygene.table.casting import as_text
from polygene.table.groups import codes_of
from polygene.table.types import kind_of

# Of unlike lightness in this order, so that they differ in grey too.
QUALITATIVE = (
    "#2b6a8f",
    "#d98a3d",
    "#6fa287",
    "#8a4f7d",
    "#d5c26a",
    "#a5433b",
    "#7ea9c9",
    "#4d5a3a",
    "#c78fb0",
    "#8c7355",
)
GRADED = ("#f2ecd8", "#cfd9b4", "#93bfa5", "#4f9a9b", "#2b6a8f", "#1e3f63", "#132340")
NULL = "#c9c6c0"
OTHERS = "#8d8a84"
ODD = "(no finite number)"
MOST_CLASSES = len(QUALITATIVE)
FEW_COLOURS = 5  # that most maps do with so that neighbours differ
MOST_RELATED = 5000  # rows whose neighbours are looked for where they share no vertices
MOST_NEAR = 6  # neighbours that each may have then
SEEN = 4096.0  # the finest of a map that is seen, to its size


@dataclass(frozen=True)
class Classes:
    """``number`` (n_rows,) of each row's class; ``names`` and ``colours`` of the classes.

    scheme : what they follow, to be used again for other rows
    is_reused : whether there are more classes than colours, so that only neighbours are sure to differ
    """

    title: str
    number: I64Array
    names: list[str]
    colours: list[str]
    scheme: Scheme
    is_reused: bool = False


@dataclass(frozen=True)
class Scheme:
    """Colours by value, or by where a number lies between breaks, one more of these than colours.

    are_days : whether the breaks are days since 1970, and what lies between them dates or times
    """

    values: Mapping[str, str] = field(default_factory=dict)
    breaks: Sequence[float] = ()
    colours: Sequence[str] = ()
    others: str = OTHERS
    null: str = NULL
    are_days: bool = False


def classes_of(
    layer: Layer,
    name: str,
    n_classes: int = 5,
    breaks: str = "quantile",
    scheme: Scheme | None = None,
    first_colour: int = 0,
) -> Classes:
    """Sort rows into classes: numbers and days of more than a few values by breaks, all else by value.

    Of more than ten values the nine commonest have a class each and the rest one together; polygons
    have one for each, and colours are used again so that neighbours differ. Nulls have their own. With
    a scheme the classes are its, and what it does not know is one more. Colours by value are taken from
    ``first_colour`` of the palette on, so that two layers have unlike ones.

    Raises
    ------
    UnknownFieldError
        If the field is not there.
    UsageError
        If a scheme has breaks and the field holds no numbers, or no days.
    """
    layer.check_field(name)
    column = layer.table.column(name)
    if pa.types.is_floating(column.type):
        column = pc.add(column, pa.scalar(0.0, column.type))  # no minus zero beside zero
    is_null = np.asarray(pc.is_null(column), bool)
    if scheme is not None:
        return _by_scheme(name, column, is_null, scheme)
    edges: Sequence[float] = ()
    is_odd = np.zeros(len(column), bool)
    kind = kind_of(column.type)
    numbers = days_of(column) if kind in ("date", "time") else column
    if kind == "number":
        is_odd = ~is_null & ~np.isfinite(reals(column))
    if kind in ("number", "date", "time") and _n_finite(numbers, is_odd) > n_classes:
        number, names, edges = graded(numbers, is_null, n_classes, breaks, kind != "number")
        place = np.linspace(0, len(GRADED) - 1, max(2, len(names))).round().astype(int)
        colours = [GRADED[k] for k in place[: len(names)]]
        if is_odd.any():
            number[is_odd] = len(names)
            names, colours = [*names, ODD], [*colours, OTHERS]
    elif (
        layer.geometry.family == Family.POLYGONS and layer.geometry.n_vertices and _are_many(column)
    ):
        number, names, colours = _apart(layer, column, is_null)
        own = Scheme(dict(zip(names, colours, strict=True)))
        if is_null.any():
            number[is_null] = len(names)
            names, colours = [*names, NULL_NAME], [*colours, NULL]
        return Classes(name, number, names, colours, own, is_reused=True)
    else:
        number, names, has_rest = _by_value(column, is_null)
        colours = [QUALITATIVE[(first_colour + k) % MOST_CLASSES] for k in range(len(names))]
        if has_rest:
            colours[-1] = OTHERS
    own = Scheme(
        {} if edges else dict(zip(names, colours, strict=True)),
        edges,
        colours[: len(edges) - 1] if edges else (),
        are_days=bool(edges) and kind != "number",
    )
    if not edges and colours[-1:] == [OTHERS]:
        own = replace(own, values={k: v for k, v in own.values.items() if v != OTHERS})
    if is_null.any():
        number[is_null] = len(names)
        names, colours = [*names, NULL_NAME], [*colours, NULL]
    return Classes(name, number, names, colours, own)


def _n_finite(column: pa.ChunkedArray, is_odd: BoolArray) -> int:
    """Return how many finite values there are that differ."""
    finite = pc.filter(column, pc.column(~is_odd)) if is_odd.any() else column
    return len(pc.unique(pc.drop_null(finite)))


def _by_scheme(name: str, column: pa.ChunkedArray, is_null: BoolArray, scheme: Scheme) -> Classes:
    if scheme.breaks:
        kind, wanted = kind_of(column.type), "days" if scheme.are_days else "numbers"
        if (kind in ("date", "time")) != scheme.are_days or kind not in ("number", "date", "time"):
            raise UsageError(f"the style breaks {name!r} by {wanted}, and it holds {column.type}")
        column = days_of(column) if scheme.are_days else column
        values = reals(column)
        edges = np.asarray(scheme.breaks, float)
        number = np.searchsorted(edges, values, side="right") - 1
        number[values == edges[-1]] = len(edges) - 2
        is_out = ~((number >= 0) & (number < len(edges) - 1))
        number[is_out] = len(edges) - 1
        are_whole = pa.types.is_integer(column.type) and bool((edges == np.floor(edges)).all())
        names = range_names(edges, are_whole, scheme.are_days)
        colours = list(scheme.colours)
    else:
        texts = as_text(column)
        known = list(scheme.values)
        places = pc.fill_null(pc.index_in(texts, pa.array(known, texts.type)), len(known))
        number = np.asarray(places).astype(np.int64)
        names, colours = known, list(scheme.values.values())
        is_out = number == len(known)
    is_odd = is_out & ~is_null
    if scheme.breaks:
        is_odd &= ~np.isfinite(values)
        is_out &= ~is_odd
    else:
        is_odd[:] = False
    if (is_out & ~is_null).any():
        others = "(others)" if scheme.breaks else _n_others(texts, is_out & ~is_null)
        names, colours = [*names, others], [*colours, scheme.others]
    if is_odd.any():
        number[is_odd] = len(names)
        names, colours = [*names, ODD], [*colours, scheme.others]
    if is_null.any():
        number = np.where(is_null, len(names), number)
        names, colours = [*names, NULL_NAME], [*colours, scheme.null]
    return Classes(name, number.astype(np.int64), names, colours, scheme)


def _n_others(texts: pa.ChunkedArray, is_out: BoolArray) -> str:
    return counted(len(pc.unique(pc.filter(texts, pc.column(is_out)))), "other")


def _are_many(column: pa.ChunkedArray) -> bool:
    return len(pc.unique(pc.drop_null(column))) > MOST_CLASSES


def _apart(
    layer: Layer, column: pa.ChunkedArray, is_null: BoolArray
) -> tuple[I64Array, list[str], list[str]]:
    """Return a class for each value, in their order, coloured so that those that border differ.

    The values with the most neighbours choose first (Welsh and Powell 1967), each of the first few
    colours that none of them has the one that is used least, or else the next.
    """
    texts = as_text(column)
    names = sorted(pc.unique(pc.drop_null(texts)).to_pylist())
    number = np.asarray(pc.fill_null(pc.index_in(texts, pa.array(names, texts.type)), 0), np.int64)
    own = number.copy()
    own[is_null] = len(names)
    beside = _beside(layer, own, len(names) + 1)
    colour = np.full(len(names) + 1, NONE)
    used = [0] * FEW_COLOURS
    counts = np.bincount(beside.ravel(), minlength=len(names) + 1)
    neighbours = bucket(beside[:, 0], len(names) + 1)
    for k in np.argsort(-counts[:-1], kind="stable").tolist():
        near = beside[neighbours.order[neighbours.offsets[k] : neighbours.offsets[k + 1]], 1]
        taken = set(colour[near].tolist())
        free = [c for c in range(FEW_COLOURS) if c not in taken]
        if free:
            colour[k] = min(free, key=used.__getitem__)
            used[colour[k]] += 1
        else:
            colour[k] = next(c for c in range(FEW_COLOURS, len(names) + 1) if c not in taken)
    return number, names, [QUALITATIVE[c % MOST_CLASSES] for c in colour[:-1].tolist()]


def _beside(layer: Layer, number: I64Array, n: int) -> I64Array:
    """Return the pairs (m, 2), both ways round, of classes that lie beside or over each other.

    On a grid of the size of what is seen of a map, so that borders beside each other are one. Where
    there is so much that its parts are hardly seen, of those that have two vertices in common.
    """
    column, extent = layer.geometry, layer.geometry.extent()
    if column.n_rows > MOST_RELATED or column.n_vertices > 100 * MOST_RELATED or extent is None:
        return _bordering(column, number, n)
    size = max(extent[2] - extent[0], extent[3] - extent[1])
    together = np.zeros(column.n_rows, np.int64)
    near = pairs_of_boxes(column.row_bounds(), together, most=MOST_NEAR * column.n_rows)
    if near is None or not 0 < size < np.inf:  # so many over each other have no colours apart
        return _bordering(column, number, n)
    pairs = relate(column, column, Grid.over([extent], size / SEEN))
    meets = (pairs.matrix[:, 0, 0] >= 0) | (pairs.matrix[:, 1, 1] >= 1)
    first, second = number[pairs.first[meets]], number[pairs.second[meets]]
    return np.stack(np.divmod(np.unique(first * n + second), n), axis=1)


def _bordering(column: GeometryColumn, number: I64Array, n: int) -> I64Array:
    """Return the pairs (m, 2), both ways round, of classes that have two vertices in common."""
    bits = np.ascontiguousarray(column.xy + 0.0).view(np.int64) & np.int64(2**63 - 1)
    place = number_pairs(bits[:, 0], bits[:, 1])
    of_vertex = number[owners(column.vertex_offsets_of_rows)]
    seen = number_pairs(place.numbers, of_vertex).firsts  # each class once at each place
    at, own = place.numbers[seen], of_vertex[seen]
    order = np.lexsort((own, at))
    at, own = at[order], own[order]
    # As numbers: rows of pairs are sorted ten times as slowly. Of each pair the smaller comes first.
    found = [np.zeros(0, np.int64)]
    for step in range(1, min(8, len(at))):  # no more meet in one place
        same = at[:-step] == at[step:]
        found.append(own[:-step][same] * n + own[step:][same])
    keys, times = np.unique(np.concatenate(found), return_counts=True)
    pairs = np.stack(np.divmod(keys[times > 1], n), axis=1)
    return np.concatenate([pairs, pairs[:, ::-1]])


def _by_value(column: pa.ChunkedArray, is_null: BoolArray) -> tuple[I64Array, list[str], bool]:
    texts = as_text(column)
    codes = codes_of(texts)
    counts = np.bincount(codes, minlength=1)
    counts[0] = 0
    kinds = np.flatnonzero(counts)
    has_rest = len(kinds) > MOST_CLASSES
    chosen = kinds[np.argsort(-counts[kinds], kind="stable")][: MOST_CLASSES - has_rest]
    first = {int(c): r for r, c in reversed(list(enumerate(codes.tolist())))}
    names = {int(c): texts[first[int(c)]].as_py() for c in chosen}
    order = sorted(names, key=lambda c: names[c])
    rank = np.full(len(counts), len(order))
    rank[order] = np.arange(len(order))
    labels = [names[c] for c in order]
    if has_rest:
        labels.append(counted(len(kinds) - len(chosen), "other"))
    number = rank[codes]
    number[is_null] = 0
    return number.astype(np.int64), labels, has_rest
