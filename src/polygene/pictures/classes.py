"""Classes of a field's values, and their colours: fit for colour-blind readers and for print."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    bucket,
    distinct,
    number_pairs,
    owners,
)
from polygene.errors import UsageError
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.notes import NULL_NAME, counted
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
MOST_RELATED = 20_000  # rows whose neighbours are looked for where they share no vertices
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
    """Colours by value, or by where a number lies between breaks, one more of these than colours."""

    values: Mapping[str, str] = field(default_factory=dict)
    breaks: Sequence[float] = ()
    colours: Sequence[str] = ()
    others: str = OTHERS
    null: str = NULL


def classes_of(
    layer: Layer,
    name: str,
    n_classes: int = 5,
    breaks: str = "quantile",
    scheme: Scheme | None = None,
    first_colour: int = 0,
) -> Classes:
    """Sort rows into classes: numbers of more than a few values by breaks, all else by value.

    Of more than ten values the nine commonest have a class each and the rest one together; polygons
    have one for each, and colours are used again so that neighbours differ. Nulls have their own. With
    a scheme the classes are its, and what it does not know is one more. Colours by value are taken from
    ``first_colour`` of the palette on, so that two layers have unlike ones.

    Raises
    ------
    UnknownFieldError
        If the field is not there.
    UsageError
        If a scheme has breaks and the field holds no numbers.
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
    if kind_of(column.type) == "number":
        is_odd = ~is_null & ~np.isfinite(_reals(column))
    if kind_of(column.type) == "number" and _n_finite(column, is_odd) > n_classes:
        number, names, edges = _graded(column, is_null, n_classes, breaks)
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
    )
    if not edges and colours[-1:] == [OTHERS]:
        own = replace(own, values={k: v for k, v in own.values.items() if v != OTHERS})
    if is_null.any():
        number[is_null] = len(names)
        names, colours = [*names, NULL_NAME], [*colours, NULL]
    return Classes(name, number, names, colours, own)


def _reals(column: pa.ChunkedArray) -> F64Array:
    """Return numbers as reals, not a number for null."""
    return np.asarray(pc.fill_null(pc.cast(column, pa.float64(), safe=False), np.nan))


def _n_finite(column: pa.ChunkedArray, is_odd: BoolArray) -> int:
    """Return how many finite values there are that differ."""
    finite = pc.filter(column, pc.column(~is_odd)) if is_odd.any() else column
    return len(pc.unique(pc.drop_null(finite)))


def _by_scheme(name: str, column: pa.ChunkedArray, is_null: BoolArray, scheme: Scheme) -> Classes:
    if scheme.breaks:
        if kind_of(column.type) != "number":
            raise UsageError(f"the style breaks {name!r} by numbers, and it holds {column.type}")
        values = _reals(column)
        edges = np.asarray(scheme.breaks, float)
        number = np.searchsorted(edges, values, side="right") - 1
        number[values == edges[-1]] = len(edges) - 2
        is_out = ~((number >= 0) & (number < len(edges) - 1))
        number[is_out] = len(edges) - 1
        are_whole = pa.types.is_integer(column.type) and bool((edges == np.floor(edges)).all())
        names, colours = _range_names(edges, are_whole), list(scheme.colours)
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


def _range_names(edges: np.ndarray, are_whole: bool) -> list[str]:
    """Return what classes between edges are called; each has its lower edge, the last its upper too."""
    last = len(edges) - 2
    names = []
    for k, (a, b) in enumerate(zip(edges[:-1], edges[1:], strict=True)):
        if are_whole:
            top = b if k == last else b - 1
            names.append(f"{a:,.0f}" if a == top else f"{a:,.0f} to {top:,.0f}")
        else:
            names.append(f"{_plainly(a)} to {'' if k == last else 'below '}{_plainly(b)}")
    return names


def _plainly(value: float) -> str:
    """Return a number as people write it, without powers of ten unless it is very small."""
    return f"{value:,.10g}" if abs(value) < 1e10 else f"{value:,.0f}"


def _roundest(low: float, high: float) -> float:
    """Return the number with the fewest digits that is over ``low`` and at most ``high``."""
    if low < 0 <= high:
        return 0.0
    width = high - low
    power = math.floor(math.log10(max(abs(low), abs(high), width))) + 1
    for k in range(power, power - 18, -1):
        step = 10.0**k
        for part in (5, 2.5, 2, 1) if k < power else (1,):
            found = math.floor(high / (step * part) + 1e-12) * step * part
            if low < found <= high:
                return float(f"{found:.12g}")
    return high


def _rounded(edges: np.ndarray, known: np.ndarray) -> np.ndarray:
    """Return edges as round as the values allow, so that each value stays in its class."""
    values = distinct(known)
    least, most = float(values[0]), float(values[-1])
    inner = []
    for edge in edges[1:-1]:
        k = int(np.searchsorted(values, edge))  # the first value that is not below it
        inner.append(_roundest(float(values[k - 1]), float(values[k])) if k else least)
    # Outer edges have room by how wide their own classes are, of which others may be much wider.
    room = 0.03 * (most - least)
    low = min(room, 0.15 * (min(e for e in [*inner, math.inf] if e > least) - least))
    high = min(room, 0.15 * (most - max(e for e in [*inner, -math.inf] if e < most)))
    first = -_roundest(-least - 1e-9 * abs(least), -least + low) if least else 0.0
    first = first if first <= least else least
    last = _roundest(most - 1e-9 * abs(most), most + high)
    return np.unique([first, *inner, max(last, most)]) + 0.0  # no minus zero


def _equal(least: float, most: float, n_classes: int) -> np.ndarray:
    """Return edges of classes as wide as each other, round ones, about so many."""
    wide = (most - least) / n_classes
    if wide <= 0:
        return np.array([least, most])
    power = 10.0 ** math.floor(math.log10(wide))
    step = next(part * power for part in (1, 2, 2.5, 5, 10) if part * power >= wide * (1 - 1e-9))
    first, last = math.floor(least / step + 1e-9), math.ceil(most / step - 1e-9)
    return np.array([float(f"{k * step:.12g}") for k in range(first, last + 1)])


def _graded(
    column: pa.ChunkedArray, is_null: BoolArray, n_classes: int, breaks: str
) -> tuple[I64Array, list[str], list[float]]:
    values = _reals(column)
    known = values[~is_null & np.isfinite(values)]
    if breaks == "quantile":
        edges = np.quantile(known, np.linspace(0, 1, n_classes + 1))
    elif breaks == "equal":
        edges = _equal(float(known.min()), float(known.max()), n_classes)
    else:
        raise UsageError(f"{breaks!r} is no way to break; there are quantile and equal")
    edges = np.unique(edges)
    if len(edges) > 1 and breaks == "quantile":
        edges = _rounded(edges, known)
    are_whole = bool(pa.types.is_integer(column.type))
    if are_whole:  # between whole numbers an edge may as well be the next one
        edges = np.unique(np.ceil(edges))
    number = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, len(edges) - 2)
    return number.astype(np.int64), _range_names(edges, are_whole), [float(e) for e in edges]


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
    if column.n_rows > MOST_RELATED or column.n_vertices > 50 * MOST_RELATED or extent is None:
        return _bordering(column, number, n)
    size = max(extent[2] - extent[0], extent[3] - extent[1])
    if not 0 < size < np.inf:
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
