"""The packed index: boxes of features, and of every so many boxes, up to one root."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from polygene.arrays import F64Array, I64Array, distinct, offsets_from, spans
from polygene.geometry import Extent

NODE = np.dtype([("box", "<f8", (4,)), ("offset", "<u8")])
NODE_SIZE = 16


def level_sizes(n_items: int, node_size: int) -> list[int]:
    """Return the number of nodes on each level, from the leaves up to the root."""
    sizes = [n_items]
    while sizes[-1] > 1:
        sizes.append(-(-sizes[-1] // node_size))
    return [1, 1] if n_items == 1 else sizes


def index_bytes(n_items: int, node_size: int) -> int:
    """Return how many bytes the index of so many features takes, 0 without one."""
    if node_size < 2 or n_items == 0:
        return 0
    return sum(level_sizes(n_items, node_size)) * NODE.itemsize


def build(bounds: F64Array, offsets: I64Array) -> np.ndarray:
    """Build the nodes, root first, of features in the order of the file.

    Parameters
    ----------
    bounds : (n, 4) float64
        x and y minimum, x and y maximum; NaN where there is no geometry: that meets no box.
    offsets : (n,) int64
        Bytes from the first feature to each.
    """
    is_none = np.asarray(np.isnan(bounds).any(axis=1))
    leaves = np.zeros(len(bounds), NODE)
    leaves["box"] = np.where(is_none[:, None], (np.inf, np.inf, -np.inf, -np.inf), bounds)
    leaves["offset"] = offsets
    levels = [leaves]
    sizes = level_sizes(len(bounds), NODE_SIZE)
    firsts = offsets_from(sizes[::-1])[:-1][::-1]  # where each level begins in the file
    for size, below in zip(sizes[1:], firsts[:-1], strict=True):
        starts = np.arange(size) * NODE_SIZE
        nodes = np.zeros(size, NODE)
        box = levels[-1]["box"]
        nodes["box"][:, :2] = np.minimum.reduceat(box[:, :2], starts)
        nodes["box"][:, 2:] = np.maximum.reduceat(box[:, 2:], starts)
        nodes["offset"] = below + starts
        levels.append(nodes)
    return np.concatenate(levels[::-1])


def search(
    nodes: np.ndarray,
    n_items: int,
    node_size: int,
    wanted: Sequence[Extent],
    fill: Callable[[I64Array, I64Array], None] | None = None,
) -> I64Array:
    """Return the features, counted in the order of the file, whose boxes meet one that is wanted.

    ``fill`` is told which nodes are looked at next: from, to (n,).

    Raises
    ------
    ValueError
        If the index makes no sense.
    """
    sizes = level_sizes(n_items, node_size)[::-1]
    firsts = offsets_from(sizes)
    found = np.zeros(1, np.int64)
    for level in range(len(sizes)):
        if fill is not None:
            fill(found, found + 1)
        boxes = nodes["box"][found]
        meets = np.zeros(len(boxes), bool)
        for box in wanted:
            meets |= (
                (boxes[:, 0] <= box[2])
                & (boxes[:, 2] >= box[0])
                & (boxes[:, 1] <= box[3])
                & (boxes[:, 3] >= box[1])
            )
        found = found[meets]
        if level == len(sizes) - 1 or len(found) == 0:
            break
        children = nodes["offset"][found].astype(np.int64)
        first, end = firsts[level + 1], firsts[level + 2]
        if (children < first).any() or (children >= end).any():
            raise ValueError("a node of the index leads astray")
        found = distinct(spans(children, np.minimum(node_size, end - children)))
    return found - firsts[-2] if len(found) else found
