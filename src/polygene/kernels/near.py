"""Edges near points, by grids of cells as `cells.spread_edges` fills them.

Distances are in grid units and floating point: differences of grid integers are exact there, so
squares are right to the last few bits.
"""

import cython

if cython.compiled:
    from cython.cimports.libc.math import sqrt
else:
    from math import sqrt

# An edge, where on it the nearest place is (0 at its first end, 1 at the other), its squared distance.
Nearest = cython.struct(edge=cython.longlong, place=cython.double, square=cython.double)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _place(
    px: cython.longlong,
    py: cython.longlong,
    ax: cython.longlong,
    ay: cython.longlong,
    bx: cython.longlong,
    by: cython.longlong,
    sx: cython.double,
    sy: cython.double,
) -> cython.double:
    """Return where on the edge from a to b the point nearest to p lies: 0 at a, 1 at b.

    Grid units count ``sx`` across and ``sy`` up.
    """
    dx: cython.double = (bx - ax) * sx
    dy: cython.double = (by - ay) * sy
    size: cython.double = dx * dx + dy * dy
    if size == 0:
        return 0.0
    t: cython.double = ((px - ax) * sx * dx + (py - ay) * sy * dy) / size
    return 0.0 if t < 0 else (1.0 if t > 1 else t)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _square(
    px: cython.longlong,
    py: cython.longlong,
    ax: cython.longlong,
    ay: cython.longlong,
    bx: cython.longlong,
    by: cython.longlong,
    t: cython.double,
    sx: cython.double,
    sy: cython.double,
) -> cython.double:
    """Return the squared distance from p to the place t of the edge from a to b."""
    dx: cython.double = ((px - ax) - t * (bx - ax)) * sx
    dy: cython.double = ((py - ay) - t * (by - ay)) * sy
    return dx * dx + dy * dy


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def cell_over(
    value: cython.longlong, low: cython.longlong, side: cython.longlong
) -> cython.longlong:
    """Return the number of the cell that a coordinate is in; floor division, below the box too."""
    return (value - low) // side if value >= low else -((low - value + side - 1) // side)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def ranges_apart(
    low: cython.longlong,
    high: cython.longlong,
    first: cython.longlong,
    last: cython.longlong,
) -> cython.double:
    """Return how far the range from ``low`` to ``high`` is from that from ``first`` to ``last``."""
    return cython.cast(cython.double, max(max(first - high, low - last), 0))


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def is_beyond(x: cython.double, y: cython.double, square: cython.double) -> cython.bint:
    """Return whether what is at least x across and y up away is further off than a squared distance.

    What may be as far but for rounding is not.
    """
    return (x * x + y * y) * (1.0 - 1e-12) > square


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def next_in_ring(
    i: cython.longlong,
    low: cython.longlong,
    high: cython.longlong,
    columns: cython.longlong,
    is_whole: cython.int,
) -> cython.longlong:
    """Return the next column of a line of a ring of cells, from ``low`` to ``high``; columns for none.

    ``i`` is the one before, below ``low`` for the first. Of the ring's top and bottom all columns
    are in it, of other lines only the two at the ends.
    """
    if i < low:
        i = low
    elif is_whole:
        i += 1
    else:
        i = high if i < high else high + 1
    if i < 0:
        i = 0 if is_whole else high
    return i if 0 <= i <= high and i < columns else columns


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _is_before(
    e: cython.longlong, f: cython.longlong, ends: cython.longlong[:, ::1]
) -> cython.bint:
    """Return whether an edge comes before another by where it lies; of equals the first."""
    k: cython.int
    for k in range(4):
        if ends[e, k] != ends[f, k]:
            return ends[e, k] < ends[f, k]
    return e < f


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _nearest_in(
    cell: cython.longlong,
    px: cython.longlong,
    py: cython.longlong,
    across: cython.double,
    up: cython.double,
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    so_far: Nearest,
) -> Nearest:
    """Return the nearest edge to a point of those in a cell and one so far; of those at one
    distance the first by where they lie."""
    k: cython.longlong
    e: cython.longlong
    t: cython.double
    found: cython.double
    for k in range(offsets[cell], offsets[cell + 1]):
        e = entries[k]
        t = _place(px, py, ends[e, 0], ends[e, 1], ends[e, 2], ends[e, 3], across, up)
        found = _square(px, py, ends[e, 0], ends[e, 1], ends[e, 2], ends[e, 3], t, across, up)
        if found < so_far.square or (
            found == so_far.square and (so_far.edge < 0 or _is_before(e, so_far.edge, ends))
        ):
            so_far = Nearest(edge=e, place=t, square=found)
    return so_far


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _nearest_under(
    b: cython.longlong,
    px: cython.longlong,
    py: cython.longlong,
    across: cython.double,
    up: cython.double,
    boxes: cython.longlong[:, ::1],
    box_of_cell: cython.longlong[::1],
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    best: Nearest,
) -> Nearest:
    """Return the nearest edge of those in a box of cells and the finer ones over these, and one so far.

    Cells are looked at in squares round the one that is nearest to the point, which lies far off
    perhaps, until all that is left is further off; those that are so themselves are passed over.
    """
    side: cython.longlong = boxes[b, 2]
    columns: cython.longlong = boxes[b, 3]
    rows: cython.longlong = boxes[b, 4]
    ci: cython.longlong = min(max(cell_over(px, boxes[b, 0], side), 0), columns - 1)
    cj: cython.longlong = min(max(cell_over(py, boxes[b, 1], side), 0), rows - 1)
    gap_x: cython.double = ranges_apart(px, px, boxes[b, 0], boxes[b, 0] + columns * side) * across
    gap_y: cython.double = ranges_apart(py, py, boxes[b, 1], boxes[b, 1] + rows * side) * up
    clear: cython.double
    off: cython.double
    ring: cython.longlong
    i: cython.longlong
    j: cython.longlong
    cell: cython.longlong
    low: cython.longlong
    is_whole: cython.int
    for ring in range(max(max(ci, columns - 1 - ci), max(cj, rows - 1 - cj)) + 1):
        # What is not looked at yet lies further than whole cells off, across or up.
        clear = max(ring - 1, 0) * cython.cast(cython.double, side)
        if is_beyond(gap_x + clear * across, gap_y, best.square) and is_beyond(
            gap_x, gap_y + clear * up, best.square
        ):
            break
        for j in range(max(cj - ring, 0), min(cj + ring, rows - 1) + 1):
            low = boxes[b, 1] + j * side
            off = ranges_apart(py, py, low, low + side) * up
            if is_beyond(gap_x, off, best.square):
                continue
            is_whole = j == cj - ring or j == cj + ring
            i = next_in_ring(ci - ring - 1, ci - ring, ci + ring, columns, is_whole)
            while i < columns:
                cell = boxes[b, 5] + j * columns + i
                low = boxes[b, 0] + i * side
                if is_beyond(ranges_apart(px, px, low, low + side) * across, off, best.square):
                    pass
                elif box_of_cell[cell] >= 0:
                    best = _nearest_under(
                        box_of_cell[cell], px, py, across, up,
                        boxes, box_of_cell, offsets, entries, ends, best,
                    )  # fmt: skip
                else:
                    best = _nearest_in(cell, px, py, across, up, offsets, entries, ends, best)
                i = next_in_ring(i, ci - ring, ci + ring, columns, is_whole)
    return best


def nearest_edges(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    across: cython.double[::1],
    up: cython.double[::1],
    reach: cython.double,
    boxes: cython.longlong[:, ::1],
    box_of_cell: cython.longlong[::1],
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    edge: cython.longlong[::1],
    place: cython.double[::1],
    distance: cython.double[::1],
) -> None:
    """Find the nearest edge of each point, no further than ``reach``; -1 where there is none.

    Of several at one distance the first by where they lie is taken. ``place`` is 0 at the edge's first
    end and 1 at its second. A grid unit counts ``across`` and ``up`` (n_points,) at each point, and so
    does ``reach``. ``box_of_cell`` names the finer box over a cell, or -1.
    """
    p: cython.Py_ssize_t
    best: Nearest
    with cython.nogil:
        for p in range(x.shape[0]):
            best = Nearest(edge=-1, place=0.0, square=reach * reach)
            best = _nearest_under(
                0, x[p], y[p], across[p], up[p], boxes, box_of_cell, offsets, entries, ends, best
            )
            edge[p] = best.edge
            place[p] = best.place
            distance[p] = sqrt(best.square) if best.edge >= 0 else -1.0


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _inside_reach(
    px: cython.longlong,
    py: cython.longlong,
    e: cython.longlong,
    across: cython.double,
    up: cython.double,
    limit: cython.double,
    ends: cython.longlong[:, ::1],
) -> cython.double:
    """Return where inside edge e its nearest place to a point is; 0 if not inside, or further off."""
    t: cython.double
    t = _place(px, py, ends[e, 0], ends[e, 1], ends[e, 2], ends[e, 3], across, up)
    if t <= 0 or t >= 1:
        return 0.0
    if _square(px, py, ends[e, 0], ends[e, 1], ends[e, 2], ends[e, 3], t, across, up) > limit:
        return 0.0
    return t


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _pair_under(
    b: cython.longlong,
    p: cython.longlong,
    px: cython.longlong,
    py: cython.longlong,
    across: cython.double,
    up: cython.double,
    reach: cython.double,
    boxes: cython.longlong[:, ::1],
    box_of_cell: cython.longlong[::1],
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    seen: cython.longlong[::1],
    point: cython.longlong[::1],
    edge: cython.longlong[::1],
    place: cython.double[::1],
    n_found: cython.longlong,
) -> cython.longlong:
    """Add pairs of point p and edges in a box of cells and finer ones over these; return how many."""
    side: cython.longlong = boxes[b, 2]
    columns: cython.longlong = boxes[b, 3]
    wide: cython.longlong = cython.cast(cython.longlong, min(reach / across, 1e15)) + 1
    high: cython.longlong = cython.cast(cython.longlong, min(reach / up, 1e15)) + 1
    i0: cython.longlong = max(cell_over(px - wide, boxes[b, 0], side), 0)
    i1: cython.longlong = min(cell_over(px + wide, boxes[b, 0], side), columns - 1)
    j0: cython.longlong = max(cell_over(py - high, boxes[b, 1], side), 0)
    j1: cython.longlong = min(cell_over(py + high, boxes[b, 1], side), boxes[b, 4] - 1)
    i: cython.longlong
    j: cython.longlong
    k: cython.longlong
    e: cython.longlong
    cell: cython.longlong
    t: cython.double
    # Deep, as a loop over lines and columns of cells and their edges is.
    for j in range(j0, j1 + 1):
        for i in range(i0, i1 + 1):
            cell = boxes[b, 5] + j * columns + i
            if box_of_cell[cell] >= 0:
                n_found = _pair_under(
                    box_of_cell[cell], p, px, py, across, up, reach, boxes, box_of_cell,
                    offsets, entries, ends, seen, point, edge, place, n_found,
                )  # fmt: skip
                continue
            for k in range(offsets[cell], offsets[cell + 1]):
                e = entries[k]
                if seen[e] == p:
                    continue
                seen[e] = p
                t = _inside_reach(px, py, e, across, up, reach * reach, ends)
                if t == 0.0:
                    continue
                if n_found < point.shape[0]:
                    point[n_found] = p
                    edge[n_found] = e
                    place[n_found] = t
                n_found += 1
    return n_found


def edges_within(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    across: cython.double[::1],
    up: cython.double[::1],
    reach: cython.double,
    boxes: cython.longlong[:, ::1],
    box_of_cell: cython.longlong[::1],
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    seen: cython.longlong[::1],
    point: cython.longlong[::1],
    edge: cython.longlong[::1],
    place: cython.double[::1],
) -> cython.longlong:
    """Find all edges no further than ``reach`` from each point; return how many pairs there are.

    Pairs are stored as far as there is room. ``seen`` (n_edges,) is -1 at first. Pairs are only those
    whose nearest place lies inside the edge, not at one of its ends. Grid units and cells are as for
    `nearest_edges`.
    """
    p: cython.Py_ssize_t
    n_found: cython.longlong = 0
    with cython.nogil:
        for p in range(x.shape[0]):
            n_found = _pair_under(
                0, p, x[p], y[p], across[p], up[p], reach, boxes, box_of_cell,
                offsets, entries, ends, seen, point, edge, place, n_found,
            )  # fmt: skip
    return n_found
