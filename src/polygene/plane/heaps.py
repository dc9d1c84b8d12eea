"""What lies over itself many deep, joined a few at a time.

The borders of n things all over each other cross about n² times in one arrangement. Joined eight at a
time, near ones first, what lies inside is gone before anything crosses it again: that costs about n.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import F64Array, I64Array, offsets_from, owners, spans, sum_by
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn, concatenate
from polygene.measures import ring_areas
from polygene.plane.clusters import interleaved
from polygene.plane.grid import Grid
from polygene.plane.melting import settled_in_portions
from polygene.plane.outlines import Outlines, as_outlines, boxes_of_parts, by_row, cut_rows, joined
from polygene.plane.squares import COVERS, squares_of, times_covered
from polygene.winding import turned

FEW = 8  # parts joined at a time
HEAP = 8  # parts in one place, about as large as each of them, above which they are a heap


class _Heaps(NamedTuple):
    """Heaps one after the other: their parts, near ones following each other, and how many of each."""

    part: I64Array
    sizes: I64Array

    @property
    def first(self) -> I64Array:
        """The first part (n_heaps,) of each."""
        return self.part[offsets_from(self.sizes)[:-1]]


def melt_heaps(outlines: Outlines, owner: I64Array, grid: Grid) -> tuple[Outlines, I64Array]:
    """Join what crowds of each owner (n_parts,); return the parts there are then, and whose they are.

    A part covers what it winds round more than zero times. What comes out is the same but for what is
    rounded to the grid, whatever the order of parts.
    """
    # What a ring winds round twice counts twice: it lies over itself.
    rings = ring_areas(outlines.xy, outlines.ring_offsets)
    areas = sum_by(outlines.part_of_ring, rings, len(owner))
    heaps = _heaps(boxes_of_parts(outlines), areas, owner)
    n_parts, n_heaped = len(owner), len(heaps.part)
    if n_heaped == 0:
        return outlines, owner
    is_other = np.ones(n_parts, bool)
    is_other[heaps.part] = False
    order = np.concatenate([heaps.part, np.flatnonzero(is_other)])
    rank = np.empty(n_parts, np.int64)
    rank[order] = np.arange(n_parts)
    ordered = by_row(outlines, rank)
    ring = int(np.searchsorted(ordered.part_of_ring, n_heaped))
    found = cut_rows(ordered, slice(0, ring), (0, n_heaped))
    others = cut_rows(ordered, slice(ring, len(ordered.part_of_ring)), (n_heaped, n_parts))
    piled = _piled(found, heaps.sizes, grid)
    theirs = np.concatenate([owner[heaps.first], owner[order[n_heaped:]]])
    return joined([as_outlines(piled, 1), others], [0, piled.n_rows]), theirs


def melt_crowds(
    column: GeometryColumn, owner: I64Array, grid: Grid
) -> tuple[GeometryColumn, I64Array]:
    """Do what `melt_heaps` does with rows of valid polygons; what crowds nowhere stays as it is.

    A row comes out part by part: parts on both sides of the 180th meridian have a box round the world.
    """
    owner, steps = owner[owners(column.row_offsets)], np.arange(column.n_parts)
    column = column.take_parts(steps, steps, column.n_parts)
    rings = ring_areas(column.xy, column.ring_offsets)
    areas = np.abs(sum_by(owners(column.ring_offsets_of_rows), rings, column.n_rows))
    heaps = _heaps(column.row_bounds(), areas, owner)
    if len(heaps.part) == 0:
        return column, owner
    found = as_outlines(turned(column.take(heaps.part), outer_is_counter_clockwise=True), 1)
    piled = _piled(found, heaps.sizes, grid)
    is_other = np.ones(column.n_rows, bool)
    is_other[heaps.part] = False
    others = np.flatnonzero(is_other)
    plain = replace(column.take(others), z=None, m=None)
    return concatenate([plain, piled]), np.concatenate([owner[others], owner[heaps.first]])


def _piled(found: Outlines, sizes: I64Array, grid: Grid) -> GeometryColumn:
    """Join the parts of heaps of these sizes, which follow each other; a row for each heap."""
    while True:
        fewer = -(-sizes // FEW)
        nth = spans(np.zeros(len(sizes), np.int64), sizes)
        piece = np.repeat(offsets_from(fewer)[:-1], sizes) + nth // FEW
        n = int(fewer.sum())
        found = found._replace(row_of_part=piece)
        areas = settled_in_portions(found, np.arange(n + 1), n, grid)
        if n == len(sizes):
            return areas
        found, sizes = as_outlines(areas, 1), fewer


def _heaps(boxes: F64Array, areas: F64Array, owner: I64Array) -> _Heaps:
    known = np.flatnonzero(np.isfinite(boxes).all(axis=1))
    squares = squares_of(boxes[known])
    order, sizes = squares.grouped(owner[known])
    if not (sizes > HEAP).any():
        return _Heaps(known[:0], sizes[:0])
    heaped = order[np.repeat(sizes > HEAP, sizes)]
    sizes = sizes[sizes > HEAP]
    times = times_covered(areas[known[heaped]], boxes[known[heaped]], sizes)
    is_heap = times > COVERS * HEAP
    heaped, sizes = heaped[np.repeat(is_heap, sizes)], sizes[is_heap]
    # Near ones follow each other, and what stands first is no matter of the order they came in.
    near = interleaved(*squares.within[heaped].T)
    heap = np.repeat(np.arange(len(sizes)), sizes)
    along = np.lexsort((*boxes[known[heaped]].T, near, heap))
    return _Heaps(known[heaped[along]], sizes)
