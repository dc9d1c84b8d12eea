"""A hierarchical grid of cells over edges: which of them pass which cells, and where points lie.

A *box* is a uniform grid of square cells; a crowded cell is covered by a finer box of its own.
Cells are numbered through all boxes. Cell lines lie half a unit below the integers, so a grid
point is never on one: point x is in column ``(x - box_x) // box_side``.
"""

import cython

MARGIN = cython.declare(cython.longlong, 4)  # units around an edge that count as passed
# A uniform grid: where it begins, the side of its cells, how many there are, the number of the first.
Box = cython.struct(
    x=cython.longlong,
    y=cython.longlong,
    side=cython.longlong,
    columns=cython.longlong,
    rows=cython.longlong,
    first=cython.longlong,
    per_side=cython.double,
)


def measure_edges(ends: cython.longlong[:, ::1], found: cython.longlong[::1]) -> None:
    """Set the least x and y of edges, the greatest, and how far all together go in x and y.

    ``ends`` has x, y, x, y of each, from its lexicographically smaller end; there is one at least. The
    sum stops growing at 2**62.
    """
    e: cython.Py_ssize_t
    a: cython.longlong
    b: cython.longlong
    left: cython.longlong = ends[0, 0]
    right: cython.longlong = ends[0, 0]
    low: cython.longlong = ends[0, 1]
    high: cython.longlong = ends[0, 1]
    reach: cython.longlong = 0
    most: cython.longlong = 1 << 62
    with cython.nogil:
        for e in range(ends.shape[0]):
            a = ends[e, 1] if ends[e, 1] < ends[e, 3] else ends[e, 3]
            b = ends[e, 3] if ends[e, 1] < ends[e, 3] else ends[e, 1]
            left = ends[e, 0] if ends[e, 0] < left else left
            right = ends[e, 2] if ends[e, 2] > right else right
            low = a if a < low else low
            high = b if b > high else high
            if reach < most:
                reach += ends[e, 2] - ends[e, 0] + b - a
        found[0] = left
        found[1] = low
        found[2] = right
        found[3] = high
        found[4] = reach


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _enter(
    e: cython.longlong,
    first: cython.longlong,
    last: cython.longlong,
    fills: cython.int,
    cell_nexts: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
) -> cython.void:
    """Count or store edge e in the cells from ``first`` to ``last``, which lie side by side."""
    cell: cython.longlong
    for cell in range(first, last + 1):
        if fills:
            cell_entries[cell_nexts[cell]] = e
        cell_nexts[cell] += 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _spread(
    e: cython.longlong,
    ends: cython.longlong[:, ::1],
    box: Box,
    fills: cython.int,
    cell_nexts: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
) -> cython.void:
    """Enter edge e in the cells of a box that it passes, line by line of them.

    Ends come in lexicographic order: the first is not to the right of the other.
    """
    i0: cython.longlong
    i1: cython.longlong
    j0: cython.longlong
    j1: cython.longlong
    j: cython.longlong
    left: cython.longlong = ends[e, 0] - MARGIN - box.x
    right: cython.longlong = ends[e, 2] + MARGIN - box.x
    low: cython.longlong = min(ends[e, 1], ends[e, 3]) - MARGIN - box.y
    high: cython.longlong = max(ends[e, 1], ends[e, 3]) + MARGIN - box.y
    slope: cython.double
    xa: cython.double
    xb: cython.double
    t: cython.double
    is_all: cython.int
    if right < 0 or high < 0 or left >= box.columns * box.side or low >= box.rows * box.side:
        return
    # Multiplying is off by far less than the margin, and several times faster.
    i0 = 0 if left < 0 else cython.cast(cython.longlong, left * box.per_side)
    i1 = min(cython.cast(cython.longlong, right * box.per_side), box.columns - 1)
    j0 = 0 if low < 0 else cython.cast(cython.longlong, low * box.per_side)
    j1 = min(cython.cast(cython.longlong, high * box.per_side), box.rows - 1)
    is_all = i0 == i1 or j0 == j1 or ends[e, 1] == ends[e, 3]
    if is_all:
        for j in range(j0, j1 + 1):
            _enter(
                e,
                box.first + j * box.columns + i0,
                box.first + j * box.columns + i1,
                fills,
                cell_nexts,
                cell_entries,
            )
        return
    slope = cython.cast(cython.double, ends[e, 2] - ends[e, 0]) / cython.cast(
        cython.double, ends[e, 3] - ends[e, 1]
    )
    for j in range(j0, j1 + 1):
        # The x range of the edge within this line of cells, a margin wider.
        t = box.y + j * box.side - MARGIN - ends[e, 1]
        xa = ends[e, 0] - box.x + t * slope
        t = box.y + (j + 1) * box.side + MARGIN - ends[e, 1]
        xb = ends[e, 0] - box.x + t * slope
        if xa > xb:
            xa, xb = xb, xa
        xa = max(xa - MARGIN, left)
        xb = min(xb + MARGIN, right)
        if xb < 0 or xa >= box.columns * box.side or xa > xb:
            continue
        i0 = 0 if xa < 0 else cython.cast(cython.longlong, xa * box.per_side)
        i1 = min(cython.cast(cython.longlong, xb * box.per_side), box.columns - 1)
        _enter(
            e,
            box.first + j * box.columns + i0,
            box.first + j * box.columns + i1,
            fills,
            cell_nexts,
            cell_entries,
        )


def spread_edges(
    ends: cython.longlong[:, ::1],
    boxes: cython.longlong[:, ::1],
    entry_offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    fills: cython.int,
    cell_nexts: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
) -> None:
    """Enter edges in the cells they pass, with a margin of a few units; never too few.

    Box b is a row of ``boxes``: x, y, side, columns, rows, first cell; its edges are
    ``entries[entry_offsets[b]:entry_offsets[b + 1]]``. With ``fills`` 0 the edges are counted in
    ``cell_nexts``; with 1 they are stored at ``cell_entries[cell_nexts[cell]]``, which moves on.

    Columns are found in floating point: coordinates below 2**42 are exact there and the error
    of one interpolation is far below the margin.
    """
    b: cython.Py_ssize_t
    k: cython.Py_ssize_t
    box: Box
    with cython.nogil:
        for b in range(boxes.shape[0]):
            box = Box(
                x=boxes[b, 0],
                y=boxes[b, 1],
                side=boxes[b, 2],
                columns=boxes[b, 3],
                rows=boxes[b, 4],
                first=boxes[b, 5],
                per_side=1.0 / boxes[b, 2],
            )
            for k in range(entry_offsets[b], entry_offsets[b + 1]):
                _spread(entries[k], ends, box, fills, cell_nexts, cell_entries)


def find_cells(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    boxes: cython.longlong[:, ::1],
    box_of_cell: cython.longlong[::1],
    cells: cython.longlong[::1],
) -> None:
    """Find the finest cell of each point; -1 outside the first box.

    ``box_of_cell`` names the finer box over a cell, or -1. Half a unit is further from any line of
    cells, in parts of their side, than a product of numbers below 2**42 can be wrong.
    """
    per_side: cython.double
    k: cython.Py_ssize_t
    b: cython.longlong
    dx: cython.longlong
    dy: cython.longlong
    c: cython.longlong
    with cython.nogil:
        for k in range(x.shape[0]):
            b = 0
            c = -1
            while b >= 0:
                dx = x[k] - boxes[b, 0]
                dy = y[k] - boxes[b, 1]
                if (
                    dx < 0
                    or dy < 0
                    or dx >= boxes[b, 2] * boxes[b, 3]
                    or dy >= boxes[b, 2] * boxes[b, 4]
                ):
                    break
                per_side = 1.0 / boxes[b, 2]
                c = (
                    boxes[b, 5]
                    + cython.cast(cython.longlong, (dy + 0.5) * per_side) * boxes[b, 3]
                    + cython.cast(cython.longlong, (dx + 0.5) * per_side)
                )
                b = box_of_cell[c]
            cells[k] = c
