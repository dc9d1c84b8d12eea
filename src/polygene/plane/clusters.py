"""What may have to do with each other and what cannot, as boxes tell: pairs, and clusters."""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import F64Array, I64Array
from polygene.geometry import bounds_of_groups

MOST_LINKS = 16  # cells that a box covers, on average
MOST_PAIRS = 64  # of boxes that have a point in common, for each


def clusters_of(boxes: F64Array, reach: float = 0.0, group: I64Array | None = None) -> I64Array:
    """Return (n,) clusters of boxes (n, 4) of x, y minimum and maximum, numbered as they are met.

    Boxes that come within ``reach`` of each other are in one cluster, and what they bring together too;
    where boxes crowd, all are in one. What is not finite is alone. Those of each ``group`` (n,), 0 or
    more, have clusters of their own.
    """
    n = len(boxes)
    parent = np.arange(n)
    known = _finite(boxes)
    if len(known) > 1:
        own = np.zeros(len(known), np.int64) if group is None else group[known]
        some = boxes if len(known) == n else boxes[known]
        grown = some + 0.5 * reach * np.array([-1.0, -1.0, 1.0, 1.0]) if reach else some
        parent[known] = known[_roots(np.ascontiguousarray(grown), own)]
    is_first = parent == np.arange(n)
    return (np.cumsum(is_first) - 1)[parent]


def _finite(boxes: F64Array) -> I64Array:
    """Return the boxes all of whose sides are somewhere."""
    # Column by column: along rows of four NumPy takes several times as long, here and below.
    return np.flatnonzero(np.logical_and.reduce([np.isfinite(side) for side in boxes.T]))


def _roots(boxes: F64Array, group: I64Array) -> I64Array:
    """Return the first box (n,) of each one's cluster."""
    n = len(boxes)
    sides = [np.ascontiguousarray(side) for side in boxes.T]
    low = np.array([side.min() for side in sides[:2]])
    size = np.array([side.max() for side in sides[2:]]) - low
    width, height = sides[2] - sides[0], sides[3] - sides[1]
    # About as many cells as boxes, and larger where these are so large that they would cover many.
    side = float(max(np.sqrt(size[0] * size[1] / n), size.max() / n)) or 1.0
    while ((width / side + 2) * (height / side + 2)).sum() > MOST_LINKS * n and side < size.max():
        side *= 2
    most = np.floor(size / side).astype(np.int64)
    n_links = np.ones(n, np.int64)
    for axis in (0, 1):
        first, last = (
            np.clip(np.floor((corner - low[axis]) / side).astype(np.int64), 0, most[axis])
            for corner in sides[axis::2]
        )
        n_links *= last - first + 1
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
        np.empty((int(n_links.sum()), 2), np.int32),
        parent,
    )
    if is_done:
        return parent
    # All may be in a few cells because of one that lies far off.
    pairs = pairs_of_boxes(boxes, group, most=MOST_PAIRS * n)
    if pairs is not None:
        parent = np.arange(n)
        kernels.run(kernels.pairs.join_roots, *pairs, parent)
        return parent
    first = np.full(int(group.max()) + 1, n)
    np.minimum.at(first, group, parent)
    return first[group]


def rings_within(xy: F64Array, offsets: I64Array, group: I64Array) -> tuple[I64Array, I64Array]:
    """Return pairs (a, b) of rings of one group of which b may hold a, in any order.

    Those are all but where the boxes of both, upright or turned by 45 degrees, say that it cannot.
    """
    # What is needle-shaped lies in few boxes of both kinds. Sums rise with what is rounded, so the box
    # of what lies inside is inside whatever is rounded.
    turned = bounds_of_groups(np.stack([xy.sum(axis=1), xy[:, 0] - xy[:, 1]], axis=1), offsets)
    pairs = pairs_of_boxes(bounds_of_groups(xy, offsets), group, holds=True, turned=turned)
    assert pairs is not None, "it has all, however many"
    return pairs


def pairs_of_boxes(
    boxes: F64Array,
    group: I64Array,
    holds: bool = False,
    most: int | None = None,
    turned: F64Array | None = None,
) -> tuple[I64Array, I64Array] | None:
    """Return the pairs of boxes (n, 4) of one group that have a point in common, in any order.

    With ``holds`` those of which the second holds the first, and in the axes of ``turned`` (n, 4) too.
    None if there are more than ``most``.
    What is not finite is in no pair. Found by a packed tree of boxes (Kamel and Faloutsos 1993), along
    a curve of places by rank, so that one far off changes nothing.
    """
    known = _finite(boxes)
    if len(known) < 2:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    order = known[np.lexsort((_along_curve(boxes[known]), group[known]))]
    _, begin, at, counts = np.unique(
        group[order], return_index=True, return_inverse=True, return_counts=True
    )
    begin, end = begin[at], (begin + counts)[at]
    tree, levels = _packed(np.ascontiguousarray(boxes[order]))
    also = np.empty((0, 4)) if turned is None else np.ascontiguousarray(turned[order])

    def find(first: int, stop: int) -> tuple[I64Array, I64Array]:
        room = 16 * (stop - first) + 64
        while True:
            a, b = np.empty((2, room), np.int64)
            asked = (begin, end, first, stop, holds, np.empty((256, 2), np.int64))
            n = kernels.run(kernels.boxes.pair_boxes, tree, also, levels, *asked, a, b)
            if n <= room or (most is not None and room > most):
                return order[a[:n]], order[b[:n]]
            room *= 4

    found = parallel.each(find, parallel.split(len(order)))
    a, b = (np.concatenate(columns) for columns in zip(*found, strict=True))
    return None if most is not None and len(a) > most else (a, b)


def _along_curve(boxes: F64Array) -> I64Array:
    """Return where boxes (n, 4) come along a curve of Z (Morton 1966) by the ranks of their middles."""
    ranks = np.empty((2, len(boxes)), np.int64)
    for axis in (0, 1):
        middle = 0.5 * boxes[:, axis] + 0.5 * boxes[:, axis + 2]
        ranks[axis, np.argsort(middle, kind="stable")] = np.arange(len(boxes))
    return interleaved(*ranks)


def interleaved(x: I64Array, y: I64Array) -> I64Array:
    """Return where places (n,) of less than 2**31 come along a curve of Z (Morton 1966)."""
    places = np.zeros(len(x), np.int64)
    for axis, value in enumerate((x, y)):
        for shift, mask in ((16, 0x0000FFFF0000FFFF), (8, 0x00FF00FF00FF00FF),
                            (4, 0x0F0F0F0F0F0F0F0F), (2, 0x3333333333333333),
                            (1, 0x5555555555555555)):  # fmt: skip
            value = (value | value << shift) & mask
        places |= value << axis
    return places


def _packed(boxes: F64Array) -> tuple[F64Array, I64Array]:
    """Return a tree of boxes about each eight that follow each other, and where its levels begin."""
    levels = [boxes]
    while len(levels[-1]) > 1 or len(levels) == 1:
        firsts = np.arange(0, len(levels[-1]), 8)
        least = np.minimum.reduceat(levels[-1][:, :2], firsts)
        most = np.maximum.reduceat(levels[-1][:, 2:], firsts)
        levels.append(np.concatenate([least, most], axis=1))
    return np.concatenate(levels), np.cumsum([0, *(len(level) for level in levels[:-1])])
