"""Classes of a field's values, and their colours: fit for colour-blind readers and for print."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from polygene.arrays import BoolArray, I64Array
from polygene.errors import UsageError
from polygene.layer import Layer
from polygene.notes import NULL_NAME
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
MOST_CLASSES = len(QUALITATIVE)


@dataclass(frozen=True)
class Classes:
    """``number`` (n_rows,) of each row's class; ``names`` and ``colours`` of the classes.

    scheme : what they follow, to be used again for other rows
    """

    title: str
    number: I64Array
    names: list[str]
    colours: list[str]
    scheme: Scheme


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

    Of more than ten values the nine commonest have a class each and the rest one together; nulls have
    their own. With a scheme the classes are its, and what it does not know is one more. Colours by
    value are taken from ``first_colour`` of the palette on, so that two layers have unlike ones.

    Raises
    ------
    UnknownFieldError
        If the field is not there.
    UsageError
        If a scheme has breaks and the field holds no numbers.
    """
    layer.check_field(name)
    column = layer.table.column(name)
    is_null = np.asarray(pc.is_null(column), bool)
    if scheme is not None:
        return _by_scheme(name, column, is_null, scheme)
    edges: Sequence[float] = ()
    if kind_of(column.type) == "number" and len(pc.unique(column.drop_null())) > n_classes:
        number, names, edges = _graded(column, is_null, n_classes, breaks)
        place = np.linspace(0, len(GRADED) - 1, max(2, len(names))).round().astype(int)
        colours = [GRADED[k] for k in place[: len(names)]]
    else:
        number, names, has_rest = _by_value(column, is_null)
        colours = [QUALITATIVE[(first_colour + k) % MOST_CLASSES] for k in range(len(names))]
        if has_rest:
            colours[-1] = OTHERS
    own = Scheme(
        {} if edges else dict(zip(names, colours, strict=True)), edges, colours if edges else ()
    )
    if not edges and colours[-1:] == [OTHERS]:
        own = replace(own, values={k: v for k, v in own.values.items() if v != OTHERS})
    if is_null.any():
        number[is_null] = len(names)
        names, colours = [*names, NULL_NAME], [*colours, NULL]
    return Classes(name, number, names, colours, own)


def _by_scheme(name: str, column: pa.ChunkedArray, is_null: BoolArray, scheme: Scheme) -> Classes:
    if scheme.breaks:
        if kind_of(column.type) != "number":
            raise UsageError(f"the style breaks {name!r} by numbers, and it holds {column.type}")
        values = np.asarray(pc.fill_null(column.cast(pa.float64(), safe=False), np.nan))
        edges = np.asarray(scheme.breaks, float)
        number = np.searchsorted(edges, values, side="right") - 1
        number[values == edges[-1]] = len(edges) - 2
        is_out = ~((number >= 0) & (number < len(edges) - 1))
        number[is_out] = len(edges) - 1
        names, colours = _range_names(edges), list(scheme.colours)
    else:
        texts = as_text(column)
        known = list(scheme.values)
        places = pc.fill_null(pc.index_in(texts, pa.array(known, texts.type)), len(known))
        number = np.asarray(places).astype(np.int64)
        names, colours = known, list(scheme.values.values())
        is_out = number == len(known)
    if (is_out & ~is_null).any():
        names, colours = [*names, "(others)"], [*colours, scheme.others]
    if is_null.any():
        number = np.where(is_null, len(names), number)
        names, colours = [*names, NULL_NAME], [*colours, scheme.null]
    return Classes(name, number.astype(np.int64), names, colours, scheme)


def _range_names(edges: np.ndarray) -> list[str]:
    return [f"{a:,.4g} to {b:,.4g}" for a, b in zip(edges[:-1], edges[1:], strict=True)]


def _graded(
    column: pa.ChunkedArray, is_null: BoolArray, n_classes: int, breaks: str
) -> tuple[I64Array, list[str], list[float]]:
    values = np.asarray(pc.fill_null(column.cast(pa.float64(), safe=False), np.nan))
    known = values[~is_null & np.isfinite(values)]
    if breaks == "quantile":
        edges = np.quantile(known, np.linspace(0, 1, n_classes + 1))
    elif breaks == "equal":
        edges = np.linspace(known.min(), known.max(), n_classes + 1)
    else:
        raise UsageError(f"{breaks!r} is no way to break; there are quantile and equal")
    edges = np.unique(edges)
    number = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, len(edges) - 2)
    return number.astype(np.int64), _range_names(edges), [float(e) for e in edges]


def _by_value(column: pa.ChunkedArray, is_null: BoolArray) -> tuple[I64Array, list[str], bool]:
    texts = as_text(column)
    codes = codes_of(texts)
    counts = np.bincount(codes)
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
        labels.append(f"{len(kinds) - len(chosen):,} others")
    number = rank[codes]
    number[is_null] = 0
    return number.astype(np.int64), labels, has_rest
