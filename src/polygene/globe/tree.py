"""A tree of boxes over pieces in space, packed from the leaves up."""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import F64Array, I64Array, count_by, offsets_from
from polygene.classes import NamedTuple
from polygene.globe.pieces import EdgePieces

FEW = 8  # as the kernel has it
DEEPEST = 1024  # nodes that wait at a time


class Tree(NamedTuple):
    """Pieces of edges in the order of a curve that fills space, and boxes of eight, of eight boxes ...

    boxes : (n_nodes, 6); levels : offsets of the levels in it, the leaves first
    """

    pieces: EdgePieces
    boxes: F64Array
    levels: I64Array


def tree_of(pieces: EdgePieces) -> Tree:
    """Pack pieces, at least one, into a tree (Morton 1966 for the order)."""
    pieces = pieces.take(along_a_curve((pieces.ends[:, :3] + pieces.ends[:, 3:]) / 2))
    first, last = pieces.ends[:, :3], pieces.ends[:, 3:]
    low = np.minimum(first, last) - pieces.slack[:, None]
    high = np.maximum(first, last) + pieces.slack[:, None]
    boxes: list[F64Array] = []
    counts: list[int] = []
    while not counts or counts[-1] > 1:
        at = np.arange(0, len(low), FEW)
        low, high = np.minimum.reduceat(low, at), np.maximum.reduceat(high, at)
        boxes.append(np.concatenate([low, high], axis=1))
        counts.append(len(low))
    return Tree(pieces, np.ascontiguousarray(np.concatenate(boxes)), offsets_from(counts))


def along_a_curve(places: F64Array) -> I64Array:
    """Return the order of places (n, 3) by their bits in turn."""
    low, high = places.min(axis=0), places.max(axis=0)
    size = max(float((high - low).max()), 1e-9)
    cells = ((places - low) * ((2**21 - 1) / size)).astype(np.uint64)
    key = np.zeros(len(places), np.uint64)
    for axis in range(3):
        key |= _spread_bits(cells[:, axis]) << np.uint64(axis)
    return np.argsort(key, kind="stable")


def _spread_bits(values: np.ndarray) -> np.ndarray:
    """Put two zeros between the 21 bits of each value."""
    for shift, mask in (
        (32, 0x1F00000000FFFF),
        (16, 0x1F0000FF0000FF),
        (8, 0x100F00F00F00F00F),
        (4, 0x10C30C30C30C30C3),
        (2, 0x1249249249249249),
    ):
        values = (values | (values << np.uint64(shift))) & np.uint64(mask)
    return values


class Query(NamedTuple):
    """Pieces that look for the nearest, their groups (n,) rising, and rows that do not count."""

    pieces: EdgePieces
    group: I64Array
    n_groups: int
    banned: I64Array
    banned_offsets: I64Array


def maybe_nearest(
    tree: Tree, asked: Query, bends: tuple[float, float], best: F64Array
) -> tuple[I64Array, I64Array]:
    """Return the pairs of pieces that may be the nearest of their group, group by group.

    ``best`` (n_groups,) are chords within which those lie, ``bends`` the least and greatest curvature
    of the ellipsoid.
    """
    offsets = offsets_from(count_by(asked.group, asked.n_groups))

    def look(first: int, stop: int) -> tuple[I64Array, I64Array]:
        begin, end = offsets[[first, stop]].tolist()
        room = 8 * (end - begin) + 10_000
        while True:
            mine, theirs, narrow = np.empty(room, np.int64), np.empty(room, np.int64), best.copy()
            n = kernels.run(
                kernels.space.near_in_space,
                begin,
                end,
                asked.pieces.ends,
                asked.pieces.slack,
                asked.group,
                tree.boxes,
                tree.levels,
                tree.pieces.ends,
                tree.pieces.slack,
                tree.pieces.row,
                asked.banned_offsets,
                asked.banned,
                *bends,
                narrow,
                np.empty(2 * DEEPEST, np.int64),
                np.empty(DEEPEST),
                np.empty(6),
                mine,
                theirs,
                np.empty(room),
            )
            if n >= 0:
                return mine[:n], theirs[:n]
            room *= 4

    found = parallel.each(look, parallel.parted(offsets))
    mine, theirs = zip(*found, strict=True)
    return np.concatenate(mine), np.concatenate(theirs)
