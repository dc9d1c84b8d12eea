"""Which rows of OTHER may be among the nearest of a task's rows: by boxes alone.

Whatever lies in a box, no point of it is further from a point of another box than the box about both
is long across. So the k-th least of these lengths, over all boxes of OTHER, is a bound: k rows are no
further. What is further than the bound at its least, between the boxes, is none of the nearest k, nor
as near as the last of them. First the boxes of OTHER's groups are asked so, then those of the rows in
groups that are left.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from, spans
from polygene.growing.source import Source

CHUNK = 64  # core rows, neighbours along the curve, that are asked for together
SLICE = 32  # chunks that are looked at side by side


@dataclass(frozen=True)
class Wish:
    """How many nearest rows are asked for, and how far they may be, in map units."""

    count: int
    limit: float


def may_be_nearest(
    source: Source, core: F64Array, wish: Wish, margin: float
) -> tuple[I64Array, BoolArray]:
    """Return the groups of OTHER with rows that may be nearest to core rows, and which rows these are.

    Parameters
    ----------
    core : (n, 4) boxes of the core rows, NaN where there is nothing
    margin : by how much distances may be off, in map units
    """
    boxes = source.groups().boxes
    has = np.flatnonzero(~np.isnan(boxes[:, 0]))
    core = core[~np.isnan(core[:, 0])]
    if not len(core) or not len(has):
        return np.zeros(0, np.int64), np.zeros(0, bool)
    starts = np.arange(0, len(core), CHUNK)
    chunks = np.hstack(
        [
            np.minimum.reduceat(core[:, :2], starts, axis=0),
            np.maximum.reduceat(core[:, 2:], starts, axis=0),
        ]
    )
    asked = []
    for first in range(0, len(chunks), SLICE):
        some = chunks[first : first + SLICE]
        asked.append((some, has[_near(some, boxes[has], wish, margin)]))
    groups = np.unique(np.concatenate([own for _, own in asked]))
    rows = source.boxes(groups)
    counts = np.diff(source.groups().first)[groups]
    at = offsets_from(counts)
    keeps = np.zeros(len(rows), bool)
    for some, own in asked:
        which = np.searchsorted(groups, own)
        mine = spans(at[:-1][which], counts[which])
        mine = mine[~np.isnan(rows[mine, 0])]
        keeps[mine[_near(some, rows[mine], wish, margin)]] = True
    return groups, keeps


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
