"""Rings of all rows settled together, cluster by cluster.

Snap rounding is local (Hobby 1999): what lies further from the rest than a few units of the grid comes
out as if it were alone. So clusters are settled side by side, and rows put together of what they give.
"""

from __future__ import annotations

import numpy as np

from polygene import parallel
from polygene.arrays import F64Array, I64Array, count_by, number_pairs, offsets_from, owners
from polygene.geometry import GeometryColumn, concatenate
from polygene.plane.clusters import clusters_of
from polygene.plane.grid import Grid
from polygene.plane.outlines import Outlines, boxes_of_parts, by_row, cut_rows
from polygene.plane.settling import GAP, settle

MOST_VERTICES = 100_000  # worked on side by side; a cluster of more has all threads to itself


def melt(outlines: Outlines, row_of_part: I64Array, n_rows: int, grid: Grid) -> GeometryColumn:
    """Return what the rings of each row enclose, as `settle` does that are not apart, by sign.

    Parameters
    ----------
    row_of_part : (n_parts,)
        Of any order, in place of that of the outlines.
    """
    boxes = boxes_of_parts(outlines)
    cluster = clusters_of(boxes, GAP * grid.step)
    n_clusters = int(cluster.max(initial=-1)) + 1
    if n_clusters < 2:
        return settle(by_row(outlines, row_of_part), n_rows, grid, by_sign=True, apart=False)
    place, is_alone = _places(boxes, cluster, n_clusters)
    # A row for what is of one row and in one cluster; clusters follow each other by their places.
    part_order = np.lexsort((row_of_part, place[cluster]))
    pairs = number_pairs(place[cluster][part_order], row_of_part[part_order])
    piece = np.empty(len(cluster), np.int64)
    piece[part_order] = pairs.numbers
    ordered = by_row(outlines, piece)
    firsts = part_order[pairs.firsts]
    pieces_of = offsets_from(count_by(place[cluster[firsts]], n_clusters))
    column = settled_in_portions(ordered, pieces_of, int(is_alone.sum()), grid)
    return _together(column, row_of_part[firsts], n_rows)


def _places(boxes: F64Array, cluster: I64Array, n: int) -> tuple[I64Array, np.ndarray]:
    """Return the rank (n,) of each cluster, and which are of one part: these come first.

    The others lie in strips, so that those that follow each other are near each other.
    """
    first = np.unique(cluster, return_index=True)[1]
    is_alone = count_by(cluster, n) == 1
    middle = np.nan_to_num(boxes[first, :2], posinf=0.0)
    size = max(float(np.ptp(middle[:, 0])), 1e-300)
    strip = np.floor((middle[:, 0] - middle[:, 0].min()) / size * np.sqrt(n))
    place = np.empty(n, np.int64)
    place[np.lexsort((middle[:, 1], strip, ~is_alone))] = np.arange(n)
    return place, is_alone


def settled_in_portions(
    outlines: Outlines, pieces_of: I64Array, n_alone: int, grid: Grid
) -> GeometryColumn:
    """Settle the pieces of clusters side by side, those of the first ``n_alone`` laid apart."""
    piece_of_ring = outlines.row_of_part[outlines.part_of_ring]
    rings_of = np.searchsorted(piece_of_ring, pieces_of)  # (n_clusters + 1,)
    vertices_of = outlines.ring_offsets[rings_of]

    def portion(first: int, stop: int) -> GeometryColumn:
        rings = slice(int(rings_of[first]), int(rings_of[stop]))
        pieces = int(pieces_of[first]), int(pieces_of[stop])
        part = cut_rows(outlines, rings, pieces)
        return settle(part, pieces[1] - pieces[0], grid, by_sign=True, apart=first < n_alone)

    parts = [
        (first + k, stop + k)
        for k, offsets in ((0, vertices_of[: n_alone + 1]), (n_alone, vertices_of[n_alone:]))
        if len(offsets) > 1
        for first, stop in parallel.parted(offsets, MOST_VERTICES)
    ]
    small = [p for p in parts if vertices_of[p[1]] - vertices_of[p[0]] <= 2 * MOST_VERTICES]
    columns = dict(zip(small, parallel.each(portion, small), strict=True))
    return concatenate([columns[p] if p in columns else portion(*p) for p in parts])


def _together(column: GeometryColumn, row: I64Array, n_rows: int) -> GeometryColumn:
    """Make rows of pieces (n_pieces,), their parts in the order in which rings are traced."""
    row_of_part = row[owners(column.row_offsets)]
    # By the first vertex of the outer ring, then the second: rings may touch in their first.
    first = column.ring_offsets[column.part_offsets[:-1]]
    a, b = column.xy[first], column.xy[first + 1]
    order = np.lexsort((b[:, 1], b[:, 0], a[:, 1], a[:, 0], row_of_part))
    return column.take_parts(order, row_of_part[order], n_rows)
