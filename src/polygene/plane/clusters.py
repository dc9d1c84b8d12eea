"""Clusters: what has nothing to do with all the rest, as boxes tell."""

from __future__ import annotations

import numpy as np

from polygene import kernels
from polygene.arrays import F64Array, I64Array

MOST_LINKS = 16  # cells that a box covers, on average


def clusters_of(boxes: F64Array, reach: float = 0.0) -> I64Array:
    """Return (n,) clusters of boxes (n, 4) of x, y minimum and maximum, numbered as they are met.

    Boxes that come within ``reach`` of each other are in one cluster, and what they bring together too;
    where boxes crowd, all are in one. What is not finite is alone.
    """
    n = len(boxes)
    parent = np.arange(n)
    known = np.flatnonzero(np.isfinite(boxes).all(axis=1))
    if len(known) > 1:
        parent[known] = known[_roots(boxes[known] + 0.5 * reach * np.array([-1.0, -1.0, 1.0, 1.0]))]
    is_first = parent == np.arange(n)
    return (np.cumsum(is_first) - 1)[parent]


def _roots(boxes: F64Array) -> I64Array:
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
        low,
        side,
        int(most[0]),
        int(most[1]),
        np.full(int((most + 1).prod()), -1, np.int32),
        np.empty((int(np.prod(cells[1] - cells[0] + 1, axis=1).sum()), 2), np.int32),
        parent,
    )
    return parent if is_done else np.zeros(n, np.int64)
