"""What may have to do with each other and what cannot, as boxes tell: pairs, and clusters."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from polygene import kernels
from polygene.arrays import BoolArray, F64Array, I64Array, spans

PAIRS_AT_ONCE = 4_000_000
MOST_LINKS = 16  # cells that a box covers, on average
MOST_PAIRS = 256  # of boxes that begin before another ends, for each


def clusters_of(boxes: F64Array, reach: float = 0.0, group: I64Array | None = None) -> I64Array:
    """Return (n,) clusters of boxes (n, 4) of x, y minimum and maximum, numbered as they are met.

    Boxes that come within ``reach`` of each other are in one cluster, and what they bring together too;
    where boxes crowd, all are in one. What is not finite is alone. Those of each ``group`` (n,), 0 or
    more, have clusters of their own.
    """
    n = len(boxes)
    parent = np.arange(n)
    known = np.flatnonzero(np.isfinite(boxes).all(axis=1))
    if len(known) > 1:
        own = np.zeros(len(known), np.int64) if group is None else group[known]
        grown = boxes[known] + 0.5 * reach * np.array([-1.0, -1.0, 1.0, 1.0])
        parent[known] = known[_roots(grown, own)]
    is_first = parent == np.arange(n)
    return (np.cumsum(is_first) - 1)[parent]


def _roots(boxes: F64Array, group: I64Array) -> I64Array:
    """Return the first box (n,) of each one's cluster."""
    n = len(boxes)
    low, high = boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)
    size = high - low
    width = boxes[:, 2:] - boxes[:, :2]
    # About as many cells as boxes, and larger where these are so large that they would cover many.
    side = float(max(np.sqrt(size[0] * size[1] / n), size.max() / n)) or 1.0
    while np.prod(width / side + 2, axis=1).sum() > MOST_LINKS * n and side < size.max():
        side *= 2
    most = np.floor(size / side).astype(np.int64)
    cells = [
        np.clip(np.floor((corner - low) / side).astype(np.int64), 0, most)
        for corner in (boxes[:, :2], boxes[:, 2:])
    ]
    parent = np.arange(n)
    is_done = kernels.run(
        kernels.boxes.join_boxes,
        boxes,
        np.ascontiguousarray(group),
        low,
        side,
        int(most[0]),
        int(most[1]),
        np.full(int((most + 1).prod()), -1, np.int32),
        np.empty((int(np.prod(cells[1] - cells[0] + 1, axis=1).sum()), 2), np.int32),
        parent,
    )
    if is_done:
        return parent
    # All may be in a few cells because of one that lies far off.
    if _along_x(boxes, group)[1].sum() <= MOST_PAIRS * n:
        parent = np.arange(n)
        kernels.run(
            kernels.pairs.join_roots,
            *pairs_of_boxes(boxes, group, lambda a, b: np.asarray(a < b)),
            parent,
        )
        return parent
    first = np.full(int(group.max()) + 1, n)
    np.minimum.at(first, group, parent)
    return first[group]


def pairs_of_boxes(
    boxes: F64Array, group: I64Array, kept: Callable[[I64Array, I64Array], BoolArray]
) -> tuple[I64Array, I64Array]:
    """Return the pairs of boxes (n, 4) of one group that have a point in common and are ``kept``.

    That is asked for both ways round, for some at a time; they are sorted by the first and the second.
    """
    order, counts = _along_x(boxes, group)
    boxes = boxes[order]
    found = [np.zeros((2, 0), np.int64)]
    portion = np.cumsum(counts) // PAIRS_AT_ONCE
    cuts = np.searchsorted(portion, np.arange(int(portion.max(initial=-1)) + 2))
    for first, stop in zip(cuts[:-1], cuts[1:], strict=True):
        i = np.repeat(np.arange(first, stop), counts[first:stop])
        j = spans(np.arange(first, stop) + 1, counts[first:stop])
        meets = (boxes[i, 1] <= boxes[j, 3]) & (boxes[j, 1] <= boxes[i, 3])
        i, j = order[i[meets]], order[j[meets]]
        for a, b in ((i, j), (j, i)):
            use = kept(a, b)
            found.append(np.stack([a[use], b[use]]))
    a, b = np.concatenate(found, axis=1)
    by_both = np.lexsort((b, a))
    return a[by_both], b[by_both]


def _along_x(boxes: F64Array, group: I64Array) -> tuple[I64Array, I64Array]:
    """Return the order (n,) of boxes by group and where they begin, and how many of those behind each
    in its group begin before it ends.
    """
    n = len(boxes)
    order = np.lexsort((boxes[:, 0], group))
    own, boxes = group[order], boxes[order]
    # How many have begun, of this group or one before it, when each ends; what begins there too.
    ends = np.concatenate([boxes[:, 0], boxes[:, 2]])
    merged = np.lexsort((np.arange(2 * n) >= n, ends, np.tile(own, 2)))
    begun = np.empty(2 * n, np.int64)
    begun[merged] = np.cumsum(merged < n)
    return order, begun[n:] - np.arange(n) - 1
