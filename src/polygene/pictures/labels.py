"""Labels on a map: within their features if there is room, and never over each other."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from polygene.arrays import F64Array, I64Array
from polygene.classes import NamedTuple
from polygene.geometry import Extent, Family, GeometryColumn
from polygene.layer import Layer
from polygene.notes import counted, visible
from polygene.pictures.lettering import width_of
from polygene.pictures.looks import INK
from polygene.places import inside_points
from polygene.table.telling import shown

MOST = 400
LETTER = 0.7  # sizes of its type that a letter takes
MOST_TRIED = 2000  # features: what is far smaller than those has no room
MOST_LOOKED = 20_000  # vertices of a feature whose borders are looked at for room
LEVELS = (
    0.5,
    0.42,
    0.58,
    0.34,
    0.66,
    0.26,
    0.74,
    0.18,
    0.82,
)  # of a feature's height, the middle first


class Type(NamedTuple):
    """How much a label takes in map units: a letter of `LETTER` across, a line up."""

    letter: float
    line: float


def write_labels(
    axes: Any, layer: Layer, name: str, type_: Type, taken: list[Extent], most: int = MOST
) -> list[str]:
    """Write labels of a field, of the largest features first; return what there is to say.

    What they take is added to ``taken``, boxes where no label may stand.

    Raises
    ------
    UnknownFieldError
        If the field is not there.
    """
    layer.check_field(name)
    low, high = axes.get_xlim(), axes.get_ylim()
    view = (low[0], high[0], low[1], high[1])
    texts = layer.table.column(name).to_pylist()
    spots: F64Array = inside_points(layer.geometry)
    rows = _candidates(layer, texts, spots, view)
    n = 0
    for row in rows[:MOST_TRIED].tolist():
        if n >= most:
            break
        text = visible(shown(texts[row]))
        box = _free_place(layer.geometry, row, text, spots[row], type_, view, taken)
        if box is None:
            continue
        n += 1
        taken.append(box)
        _write(axes, (box[0] + box[2]) / 2, (box[1] + box[3]) / 2, text)
    n_left = len(rows) - n
    if n_left == 0:
        return []
    return [f"{layer.name}: {counted(n_left, 'label')} left out that would lie over others"]


def _candidates(layer: Layer, texts: list[Any], spots: F64Array, view: Extent) -> I64Array:
    """Return the rows that have something to write in the view, the largest first."""
    bounds = layer.geometry.row_bounds()
    with np.errstate(invalid="ignore"):
        size = (bounds[:, 2] - bounds[:, 0]) * (bounds[:, 3] - bounds[:, 1])
        is_in = (bounds[:, 2] >= view[0]) & (bounds[:, 0] <= view[2])
        is_in &= (bounds[:, 3] >= view[1]) & (bounds[:, 1] <= view[3])
    if layer.geometry.family != Family.POLYGONS:  # of these another part may be in view
        is_in &= np.array([_is_within(spot, view) for spot in spots], bool)
    has = np.array([text is not None for text in texts], bool)
    order = np.argsort(-np.nan_to_num(size, nan=-1, neginf=-1), kind="stable")
    return order[(is_in & has)[order]]


def _free_place(
    column: GeometryColumn,
    row: int,
    text: str,
    spot: F64Array,
    type_: Type,
    view: Extent,
    taken: list[Extent],
) -> Extent | None:
    """Return the first box for a text that lies over no other, None if there is none."""
    # Some letters are wider than others, and all are counted as the widest of most texts.
    n_letters = max(len(text), width_of(text) / LETTER)
    half, line = type_.letter * n_letters / 2, type_.line
    for x, y in _places(column, row, spot, 2 * half, line, view):
        # What would stand over the frame is moved inside it.
        x = min(max(x, view[0] + 1.1 * half), view[2] - 1.1 * half)
        y = min(max(y, view[1] + 0.7 * line), view[3] - 0.7 * line)
        box = (x - half, y - line / 2, x + half, y + line / 2)
        if not any(
            box[0] < b[2] and box[2] > b[0] and box[1] < b[3] and box[3] > b[1] for b in taken
        ):
            return box
    return None


def _places(
    column: GeometryColumn, row: int, spot: F64Array, wide: float, line: float, view: Extent
) -> Iterator[tuple[float, float]]:
    """Yield where a label may stand: of polygons first where no border crosses it."""
    x, y = float(spot[0]), float(spot[1])
    if column.family == Family.POINTS:
        yield x, y + 0.9 * line
        return
    if column.family == Family.POLYGONS:
        yield from _roomy(column, row, wide, line, view)
    if _is_within(spot, view):
        yield x, y


def _is_within(spot: F64Array, view: Extent) -> bool:
    return bool(view[0] <= spot[0] <= view[2] and view[1] <= spot[1] <= view[3])


def _roomy(
    column: GeometryColumn, row: int, wide: float, line: float, view: Extent
) -> Iterator[tuple[float, float]]:
    """Yield the middles of stretches of a polygon, as high as a line, that no border crosses."""
    one = column.slice_rows(row, row + 1)
    if one.n_vertices > MOST_LOOKED:
        return
    is_edge = np.ones(max(one.n_vertices - 1, 0), bool)
    is_edge[one.ring_offsets[1:-1] - 1] = False
    a, b = one.xy[:-1][is_edge], one.xy[1:][is_edge]
    x0, y0, x1, y1 = one.row_bounds()[0]
    left, right = max(x0, view[0]), min(x1, view[2])
    bottom, top = max(y0, view[1]), min(y1, view[3])
    if right - left < wide or top - bottom < line:
        return
    for share in LEVELS:
        level = bottom + share * (top - bottom)
        middles = _stretches(a, b, (left, right), level, wide, line)
        yield from ((float(x), level) for x in middles)


def _stretches(
    a: F64Array, b: F64Array, seen: tuple[float, float], level: float, wide: float, line: float
) -> F64Array:
    """Return the middles of stretches wide enough, the widest first, within a strip about a level."""
    low, high = np.minimum(a[:, 1], b[:, 1]), np.maximum(a[:, 1], b[:, 1])
    near = np.flatnonzero((low < level + line / 2) & (high > level - line / 2))
    a, b = a[near], b[near]
    rise = np.where(b[:, 1] == a[:, 1], 1.0, b[:, 1] - a[:, 1])
    cuts = [
        np.clip((level + up * line / 2 - a[:, 1]) / rise, 0, 1) * (b - a)[:, 0] + a[:, 0]
        for up in (-1, 1)
    ]
    is_flat = a[:, 1] == b[:, 1]
    start = np.where(is_flat, np.minimum(a[:, 0], b[:, 0]), np.minimum(*cuts))
    stop = np.where(is_flat, np.maximum(a[:, 0], b[:, 0]), np.maximum(*cuts))
    order = np.argsort(start)
    start, stop = start[order], np.maximum.accumulate(stop[order])
    low, high = np.maximum(stop[:-1], seen[0]), np.minimum(start[1:], seen[1])
    middles, gaps = (low + high) / 2, high - low
    crosses = (a[:, 1] <= level) != (b[:, 1] <= level)
    at = a[crosses, 0] + (level - a[crosses, 1]) / rise[crosses] * (b - a)[crosses, 0]
    is_inside = (at[None, :] < middles[:, None]).sum(axis=1) % 2 == 1
    fits = np.flatnonzero(is_inside & (gaps >= wide))
    return middles[fits[np.argsort(-gaps[fits], kind="stable")]]


def _write(axes: Any, x: float, y: float, text: str) -> None:
    written = axes.text(x, y, text, fontsize=8, ha="center", va="center", color=INK, zorder=90)
    written.set_path_effects(halo())


def halo() -> list[Any]:
    """Return what keeps text readable on any colour."""
    from matplotlib import patheffects

    return [patheffects.withStroke(linewidth=2.2, foreground="#ffffff", alpha=0.9)]
