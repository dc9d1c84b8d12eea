"""The hierarchical grid of cells over a set of edges."""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import (
    NONE,
    BoolArray,
    Buckets,
    I64Array,
    IntArray,
    bucket,
    offsets_from,
    spans,
    sum_by,
)
from polygene.classes import NamedTuple

# Edges of a cell above which it gets a finer box: crowded cells are sorted, so that those of a thousand
# cost no more than entering their edges in finer ones.
CROWD = 1024
BUNDLE = 24  # edges of a cell above which only those that overlap across a direction are compared
# Where what is near a place is asked: small cells to begin with, and smaller ones above so many edges.
PER_SMALL_CELL, SMALL_CROWD = 1.5, 64
# Edges per cell, on average, of the first box.
PER_CELL, PER_CELL_OF_LONG = 4.0, 16.0
# Cells that an edge passes, on average, above which they are larger: else strips side by side, each as
# long as all of them, would be entered once for each of the others.
MOST_PASSED = 64
# How many cells of a finer box an edge is entered in, on average, up to which that is laid anyway.
PASSED_BY_FEW = 1.5
SMALLEST_SIDE = 8  # grid units; below it the margin of a cell is larger than the cell
# Beyond this many the offsets of cells alone would be larger than the edges' own arrays.
MOST_CELLS = 1 << 23
# Each level divides by two to 64, so twelve go below any side there is.
MOST_LEVELS = 12
# Below it threads are not worth starting.
WORTH_SHARING = 200_000  # edges


def edges_between(x: I64Array, y: I64Array, start: IntArray, stop: IntArray) -> I64Array:
    """Return edges between points as the grid wants them.

    Returns
    -------
    (n, 4) int64
        x, y, x, y of each edge, from its lexicographically smaller end.
    """
    ends = np.empty((len(start), 4), np.int64)
    start, stop = np.asarray(start, np.int64), np.asarray(stop, np.int64)

    def lay(first: int, last: int) -> None:
        part = slice(first, last)
        kernels.run(kernels.vertices.lay_edges, x, y, start[part], stop[part], ends[part])

    parallel.each(lay, parallel.split(len(start)))
    return ends


class Cells(NamedTuple):
    """Cells of all levels; the edges of cell c are ``entries[offsets[c]:offsets[c + 1]]``.

    boxes : (n_boxes, 6) x, y, side, columns, rows, first cell
    box_of_cell : (n_cells,) the finer box over a crowded cell, else NONE
    leaves : the cells that have edges and no finer box
    """

    boxes: I64Array
    box_of_cell: I64Array
    offsets: I64Array
    entries: I64Array
    leaves: I64Array


def count_in_cells(
    ends: I64Array, boxes: I64Array, entry_offsets: I64Array, entries: I64Array, n_cells: int
) -> I64Array:
    """Count the edges that `spread` would enter in each of (n_cells,) cells."""
    counts = _counts(ends, _shares(boxes, entry_offsets), entries, n_cells)
    return sum(counts[1:], counts[0])


def _counts(
    ends: I64Array, shares: list[tuple[I64Array, I64Array]], entries: I64Array, n_cells: int
) -> list[I64Array]:
    """Count the edges of each share in each of (n_cells,) cells."""
    unused = np.zeros(1, np.int64)

    def count(share: tuple[I64Array, I64Array]) -> I64Array:
        counts = np.zeros(n_cells, np.int64)
        kernels.run(kernels.cells.spread_edges, ends, *share, entries, 0, counts, unused)
        return counts

    return parallel.each_of(count, shares)


def spread(
    ends: I64Array, boxes: I64Array, entry_offsets: I64Array, entries: I64Array, n_cells: int
) -> Buckets:
    """Enter the edges (n, 4) of each box (n_boxes, 6) in its cells, numbered from 0 for these."""
    # Counted, then filled in place: each thread knows where in each cell its entries go.
    shares = _shares(boxes, entry_offsets)
    counts = _counts(ends, shares, entries, n_cells)
    offsets = offsets_from(sum(counts[1:], counts[0]))
    cell_entries = np.empty(max(1, offsets[-1]), np.int64)
    # Each share has its own stretch of a cell, those of earlier shares before it.
    nexts = [offsets[:-1].copy()]
    for count in counts[:-1]:
        nexts.append(nexts[-1] + count)
    parallel.each_of(
        lambda k: kernels.run(
            kernels.cells.spread_edges, ends, *shares[k], entries, 1, nexts[k], cell_entries
        ),
        range(len(shares)),
    )
    return Buckets(offsets, cell_entries[: offsets[-1]])


def _shares(boxes: I64Array, entry_offsets: I64Array) -> list[tuple[I64Array, I64Array]]:
    """Part the edges of boxes for the threads: boxes and offsets for each share."""
    n = parallel.n_workers() if entry_offsets[-1] >= WORTH_SHARING else 1
    at = entry_offsets[-1] * np.arange(n + 1) // n
    if len(boxes) == 1:
        # A single box parted by edges: threads see all cells, and never write to the same entry.
        return [(boxes, at[k : k + 2]) for k in range(n)]
    # Of several each thread has some: the cells are theirs alone.
    cuts = np.searchsorted(entry_offsets, at[1:-1])
    return [
        (boxes[a:b], entry_offsets[a : b + 1]) for a, b in pairwise([0, *cuts.tolist(), len(boxes)])
    ]


def single_box(ends: I64Array, per_cell: float, most_passed: float = np.inf) -> I64Array:
    """Return the (1, 6) box of square cells over all edges (n, 4), about ``per_cell`` edges a cell.

    Cells are larger where edges would pass more than ``most_passed`` of them on average.
    """
    return _box_over(_measured(ends), len(ends), per_cell, most_passed)


def _box_over(
    measured: I64Array, n_edges: int, per_cell: float, most_passed: float = np.inf
) -> I64Array:
    # Square cells; the side is what gives the wanted number, or the long side parted if it is thin.
    low_x, low_y, high_x, high_y = measured[:4].tolist()
    width, height = high_x - low_x + 1, high_y - low_y + 1
    # Side by side along a thin extent there would else be a cell for every unit across.
    target = min(MOST_CELLS, max(1, int(n_edges / per_cell)))
    least = float(measured[4]) / (most_passed * n_edges)
    side = int(max((width * height / target) ** 0.5, max(width, height) / target, least, 1.0)) + 1
    return np.array([[low_x, low_y, side, -(-width // side), -(-height // side), 0]], np.int64)


def _measured(ends: I64Array) -> I64Array:
    """Return the least x and y of edges, the greatest, and how far they go together."""
    assert len(ends), "no edges to lay cells over"
    found = np.empty(5, np.int64)
    kernels.run(kernels.cells.measure_edges, ends, found)
    return found


def build_cells(ends: I64Array, box: I64Array | None = None, crowd: int | None = None) -> Cells:
    """Enter all edges in cells, refining the crowded ones where that pays.

    Parameters
    ----------
    ends : (n, 4) int64
        As from `edges_between`.
    box : (1, 6) int64
        The first box; else one for finding crossings.
    crowd : int
        Edges of a cell above which it gets a finer box, else `CROWD`.

    Notes
    -----
    Level by level, all crowded cells of a level at once. About 1.5 entries an edge on a coverage.
    A bundle of edges that run alongside each other stays together however small the cells are, so a
    finer box is kept only if it halves the pairs to look at, or hardly any edge passes several cells.
    """
    # boxes, entries and their offsets are those of the level at work; the lists gather all levels.
    boxes = _first_box(ends) if box is None else box
    crowd = CROWD if crowd is None else crowd
    entries = np.arange(len(ends))
    entry_offsets = np.array([0, len(entries)], np.int64)
    all_boxes: list[I64Array] = []
    all_counts: list[I64Array] = []
    all_entries: list[I64Array] = []
    all_children: list[I64Array] = []
    parents = np.zeros(0, np.int64)  # the cell under each box, in all_children[-1]
    n_cells = n_boxes = 0
    for level in range(MOST_LEVELS):
        if level:
            # The first box is always kept; finer ones only if they pay.
            pays = _pays(ends, boxes, entry_offsets, entries)
            chosen = np.flatnonzero(pays)
            sizes = np.diff(entry_offsets)
            entries = entries[spans(entry_offsets[chosen], sizes[chosen])]
            entry_offsets = offsets_from(sizes[chosen])
            boxes, parents = boxes[chosen], parents[chosen]
            if len(boxes) == 0:
                break
            # The crowded cell below learns the number of its finer box.
            all_children[-1][parents] = n_boxes + np.arange(len(boxes))
        n_level = int((boxes[:, 3] * boxes[:, 4]).sum())
        # Cells are numbered from 0 within the level while edges are entered, from n_cells on for
        # ever.
        local = boxes.copy()
        local[:, 5] = offsets_from(boxes[:, 3] * boxes[:, 4])[:-1]
        found = spread(ends, local, entry_offsets, entries, n_level)
        boxes[:, 5] = local[:, 5] + n_cells
        counts = np.diff(found.offsets)
        box_of = np.repeat(np.arange(len(boxes)), boxes[:, 3] * boxes[:, 4])
        all_boxes.append(boxes)
        all_counts.append(counts)
        all_entries.append(found.order)
        all_children.append(np.full(n_level, NONE, np.int64))
        n_cells += n_level
        n_boxes += len(boxes)
        # Where cells are as small as the margin of edges a finer box would hold all of them in each
        # cell.
        parents = np.flatnonzero((counts > crowd) & (boxes[box_of, 2] > SMALLEST_SIDE))
        if len(parents) == 0:
            break
        # Only edges of the crowded cells go down a level.
        entries = found.order[spans(found.offsets[parents], counts[parents])]
        entry_offsets = offsets_from(counts[parents])
        boxes = _finer_boxes(boxes, local, box_of[parents], parents, counts[parents])
    box_of_cell = np.concatenate(all_children)
    offsets = offsets_from(np.concatenate(all_counts))
    # A cell with a finer box over it is not looked at itself: all that meets in it meets in the
    # finer one too, since that is laid over the whole cell.
    leaves = np.flatnonzero((box_of_cell == NONE) & (offsets[:-1] < offsets[1:]))
    return Cells(
        np.concatenate(all_boxes), box_of_cell, offsets, np.concatenate(all_entries), leaves
    )


def small_cells(ends: I64Array, most_passed: float = np.inf) -> Cells:
    """Enter all edges (n, 4) in cells of a few each, to look at those about a place."""
    cells = build_cells(ends, single_box(ends, PER_SMALL_CELL, most_passed), SMALL_CROWD)
    # Kernels take no array of nothing.
    return cells if len(cells.entries) else cells._replace(entries=np.zeros(1, np.int64))


def _first_box(ends: I64Array) -> I64Array:
    # measured[4] is how far all edges go in x and y together: twice a side for each is long.
    measured = _measured(ends)
    box = _box_over(measured, len(ends), PER_CELL)
    if measured[4] > 2 * box[0, 2] * len(ends):
        # Entering long edges in many small cells costs more than sorting a few full ones.
        return _box_over(measured, len(ends), PER_CELL_OF_LONG, MOST_PASSED)
    return box


def _pays(ends: I64Array, boxes: I64Array, entry_offsets: I64Array, entries: I64Array) -> BoolArray:
    """Whether each finer box leaves half as many pairs as its cell has, or else only costs memory.

    It does where hardly any edge passes several of its cells: all may lie in a small part of one, which
    comes out a level or two further down.
    """
    # Counted without being entered: of boxes that do not pay nothing else is done.
    n_per_box = boxes[:, 3] * boxes[:, 4]
    local = boxes.copy()
    local[:, 5] = offsets_from(n_per_box)[:-1]
    counts = count_in_cells(ends, local, entry_offsets, entries, int(n_per_box.sum()))
    box_of = np.repeat(np.arange(len(boxes)), n_per_box)
    # Pairs in floating point: counts reach a million, and their squares the end of 64 bits in a
    # sum.
    left = sum_by(box_of, counts * (counts - 1.0), len(boxes))
    before = np.diff(entry_offsets).astype(np.float64)
    entered = sum_by(box_of, counts.astype(np.float64), len(boxes))
    return (left <= 0.5 * before * (before - 1)) | (entered <= PASSED_BY_FEW * before)


def _finer_boxes(
    boxes: I64Array, local: I64Array, box: I64Array, cell: I64Array, count: I64Array
) -> I64Array:
    """Return a box over each crowded cell, with about four edges a cell."""
    # From the number of a cell to its column and row in its box, and from those to its corner.
    within = cell - local[box, 5]
    column, row = within % boxes[box, 3], within // boxes[box, 3]
    side = boxes[box, 2]
    # As many columns as rows; at least two, at most 64, so that a level is never more than 4,096
    # times finer.
    splits = np.clip(np.ceil(np.sqrt(count / 4)).astype(np.int64), 2, 64)
    fine = np.maximum(-(-side // splits), 2)
    n_fine = -(-side // fine)
    return np.stack(
        [
            boxes[box, 0] + column * side,
            boxes[box, 1] + row * side,
            fine,
            n_fine,
            n_fine,
            np.zeros_like(fine),
        ],
        axis=1,
    )


def cells_of_points(cells: Cells, x: I64Array, y: I64Array) -> I64Array:
    """Return the finest cell that each of (n,) grid points lies in, NONE off the grid."""
    found = np.empty(len(x), np.int64)
    x, y = np.ascontiguousarray(x), np.ascontiguousarray(y)

    def find(first: int, stop: int) -> None:
        part = slice(first, stop)
        kernels.run(
            kernels.cells.find_cells, x[part], y[part], cells.boxes, cells.box_of_cell, found[part]
        )

    parallel.each(find, parallel.split(len(x)))
    return found


def points_in_cells(cells: Cells, x: I64Array, y: I64Array) -> Buckets:
    """Group (n,) grid points by the finest cell they lie in; points off the grid are in none."""
    # Nodes lie in one cell each, edges in several: so each pair of the two is met at most once.
    found = cells_of_points(cells, x, y)
    # Points off the grid go to a bucket behind the last cell, which is then left out.
    n_cells = len(cells.box_of_cell)
    found[found == NONE] = n_cells
    grouped = bucket(found, n_cells + 1)
    return Buckets(grouped.offsets[:-1].copy(), grouped.order)
