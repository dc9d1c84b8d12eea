"""Which rows of OTHER may be among the nearest of a task's rows: by boxes alone.

Whatever lies in a box, no point of it is further from a point of another box than the box about both
is long across. So the k-th least of these lengths, over all boxes of OTHER, is a bound: k rows are no
further. What is further than the bound at its least, between the boxes, is none of the nearest k, nor
as near as the last of them. First the boxes of OTHER's groups are asked so, then those of a few rows in
groups that are left, neighbours along the curve, as the core rows are.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, distinct, offsets_from, spans
from polygene.classes import dataclass
from polygene.growing.source import Source

CHUNKS = 256  # core rows are asked for in about so many chunks, neighbours along the curve
LEAST, MOST = 8, 512  # rows of a chunk: with fewer less comes along, and it takes longer
WIDE = 3.0  # times as far across as most
SLICE = 8  # chunks that are looked at side by side
OF_A_CHUNK = 16  # so many times fewer rows of OTHER than of a chunk come or stay together


@dataclass(frozen=True)
class Wish:
    """How many nearest rows are asked for, and how far they may be, in map units."""

    count: int
    limit: float


def may_be_nearest(
    source: Source, core: F64Array, sizes: I64Array, wish: Wish, margin: float
) -> tuple[I64Array, BoolArray]:
    """Return the groups of OTHER with rows that may be nearest to core rows, and which rows these are.

    Parameters
    ----------
    core : (n, 4) boxes of the core rows, NaN where there is nothing
    sizes : how many of them are in each group; groups may lie anywhere
    margin : by how much distances may be off, in map units
    """
    boxes = source.groups().boxes
    has = np.flatnonzero(~np.isnan(boxes[:, 0]))
    nothing = np.zeros(0, np.int64), np.zeros(0, bool)
    if not len(core) or not len(has):
        return nothing
    chunk = min(max(len(core) // CHUNKS, LEAST), MOST)
    block = max(chunk // OF_A_CHUNK, LEAST // 2)
    chunks = _chunks(core, _runs(sizes, chunk)[0])
    if not len(chunks):
        return nothing
    asked = []
    for first in range(0, len(chunks), SLICE):
        some = chunks[first : first + SLICE]
        asked.append((some, has[_near(some, boxes[has], wish, margin)]))
    groups: I64Array = distinct(np.concatenate([own for _, own in asked]))
    counts = np.diff(source.groups().first)[groups]
    starts, blocks = _runs(counts, block)
    n_blocks = np.diff(blocks)
    about = _about(source.boxes(groups), starts)
    is_near = np.zeros(len(about), bool)
    for some, own in asked:
        which = np.searchsorted(groups, own)
        mine = spans(blocks[:-1][which], n_blocks[which])
        mine = mine[np.isfinite(about[mine, 0])]
        is_near[mine[_near(some, about[mine], wish, margin)]] = True
    return groups, np.repeat(is_near, np.diff(starts, append=counts.sum()))


def _runs(counts: I64Array, most: int) -> tuple[I64Array, I64Array]:
    """Cut groups of rows into runs: where each begins, and (n_groups + 1,) the first of each group."""
    n_runs = -(-counts // most)
    first = np.repeat(np.cumsum(counts) - counts, n_runs)
    return first + most * spans(np.zeros_like(n_runs), n_runs), offsets_from(n_runs)


def _chunks(boxes: F64Array, starts: I64Array) -> F64Array:
    """Return the boxes about chunks of rows; one that reaches far is taken apart into its rows.

    So it does where the curve leaves the layer and comes in again elsewhere.
    """
    about = _about(boxes, starts)
    has = np.isfinite(about[:, 0])
    if not has.any():
        return about[has]
    across = np.zeros(len(about))
    across[has] = np.hypot(*(about[has, 2:] - about[has, :2]).T)
    is_wide = across > WIDE * np.median(across[has])
    rows = boxes[np.repeat(is_wide, np.diff(starts, append=len(boxes)))]
    found = np.concatenate([about[~is_wide], rows])
    return found[np.isfinite(found[:, 0])]


def _about(boxes: F64Array, starts: I64Array) -> F64Array:
    """Return the boxes about runs of boxes that begin so, infinite about nothing."""
    low = np.fmin.reduceat(boxes[:, :2], starts, axis=0)
    high = np.fmax.reduceat(boxes[:, 2:], starts, axis=0)
    found = np.hstack([low, high])
    return np.where(np.isnan(found).any(axis=1, keepdims=True), np.inf, found)


def _near(own: F64Array, theirs: F64Array, wish: Wish, margin: float) -> BoolArray:
    """Return which boxes (m,) may hold some of the nearest of any of others (n, 4)."""
    low, high = own[:, None, :2], own[:, None, 2:]
    across = np.maximum(high, theirs[:, 2:]) - np.minimum(low, theirs[:, :2])
    furthest = np.hypot(across[..., 0], across[..., 1])
    bound = np.full(len(own), wish.limit)
    if len(theirs) >= wish.count:
        kth = np.partition(furthest, wish.count - 1, axis=1)[:, wish.count - 1]
        bound = np.minimum(bound, kth)
    between = np.maximum(np.maximum(theirs[:, :2] - high, low - theirs[:, 2:]), 0.0)
    least = np.hypot(between[..., 0], between[..., 1])
    return np.asarray((least <= bound[:, None] + margin).any(axis=0))
