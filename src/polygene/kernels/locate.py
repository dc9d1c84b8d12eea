"""Point location among noded edges by a grid of cells, finer where it is crowded.

Coordinates of queries are doubled, so that the middle of an edge is a point too; those of edges
are not. Cell lines lie half a unit below the integers: odd when doubled, so no edge ends on one.
"""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.exact import turn
else:
    from polygene.kernels.exact import turn


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _is_left_of(
    e: cython.longlong,
    qx: cython.longlong,
    qy: cython.longlong,
    ends: cython.longlong[:, ::1],
) -> cython.int:
    """Return 1 if edge e crosses the height just above qy to the left of qx.

    The height is thought to be raised a little, so that ends of edges are no special case.
    """
    ax: cython.longlong = 2 * ends[e, 0]
    ay: cython.longlong = 2 * ends[e, 1]
    bx: cython.longlong = 2 * ends[e, 2]
    by: cython.longlong = 2 * ends[e, 3]
    side: cython.int
    if ay < by:
        if qy < ay or qy >= by:
            return 0
        side = turn(ax, ay, bx, by, qx, qy)
        # On it: a little higher, an edge that leans right (its first end's x is less) has gone past qx.
        return 1 if side < 0 else 0
    if qy < by or qy >= ay:
        return 0
    side = turn(bx, by, ax, ay, qx, qy)
    if side == 0:
        return 1 if bx > ax else 0
    return 1 if side < 0 else 0


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _is_right_of_edge(
    e: cython.longlong,
    f: cython.longlong,
    ends: cython.longlong[:, ::1],
) -> cython.int:
    """Return 1 if e lies right of f at the heights they share. Noded edges never cross."""
    # Low and high end of each.
    e_up: cython.int = ends[e, 1] < ends[e, 3]
    f_up: cython.int = ends[f, 1] < ends[f, 3]
    elx: cython.longlong = ends[e, 0] if e_up else ends[e, 2]
    ely: cython.longlong = ends[e, 1] if e_up else ends[e, 3]
    ehx: cython.longlong = ends[e, 2] if e_up else ends[e, 0]
    ehy: cython.longlong = ends[e, 3] if e_up else ends[e, 1]
    flx: cython.longlong = ends[f, 0] if f_up else ends[f, 2]
    fly: cython.longlong = ends[f, 1] if f_up else ends[f, 3]
    fhx: cython.longlong = ends[f, 2] if f_up else ends[f, 0]
    fhy: cython.longlong = ends[f, 3] if f_up else ends[f, 1]
    side: cython.int
    if ely >= fly:
        side = turn(flx, fly, fhx, fhy, elx, ely)
    else:
        side = -turn(elx, ely, ehx, ehy, flx, fly)
    if side == 0:
        if ehy <= fhy:
            side = turn(flx, fly, fhx, fhy, ehx, ehy)
        else:
            side = -turn(elx, ely, ehx, ehy, fhx, fhy)
    return 1 if side < 0 else 0


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _is_above_edge(
    e: cython.longlong,
    f: cython.longlong,
    ends: cython.longlong[:, ::1],
) -> cython.int:
    """Return 1 if e lies above f where both are met from left to right. Neither is upright."""
    side: cython.int
    if ends[e, 0] >= ends[f, 0]:
        side = turn(ends[f, 0], ends[f, 1], ends[f, 2], ends[f, 3], ends[e, 0], ends[e, 1])
    else:
        side = -turn(ends[e, 0], ends[e, 1], ends[e, 2], ends[e, 3], ends[f, 0], ends[f, 1])
    if side == 0:
        if ends[e, 2] <= ends[f, 2]:
            side = turn(ends[f, 0], ends[f, 1], ends[f, 2], ends[f, 3], ends[e, 2], ends[e, 3])
        else:
            side = -turn(ends[e, 0], ends[e, 1], ends[e, 2], ends[e, 3], ends[f, 2], ends[f, 3])
    return 1 if side > 0 else 0


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _nearest_left(
    start: cython.longlong,
    stop: cython.longlong,
    cell_entries: cython.longlong[::1],
    qx: cython.longlong,
    qy: cython.longlong,
    limit: cython.longlong,
    ends: cython.longlong[:, ::1],
) -> cython.longlong:
    """Return the half-edge seen first to the left of (qx, qy), not beyond ``limit``; or -1."""
    best: cython.longlong = -1
    p: cython.longlong
    e: cython.longlong
    for p in range(start, stop):
        e = cell_entries[p]
        if not _is_left_of(e, qx, qy, ends):
            continue
        if _is_left_of(e, limit, qy, ends):
            continue
        if best < 0 or (e != best and _is_right_of_edge(e, best, ends)):
            best = e
    if best < 0:
        return -1
    # Its right side: left of the half-edge that runs down.
    return 2 * best + 1 if ends[best, 1] < ends[best, 3] else 2 * best


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _topmost(
    start: cython.longlong,
    stop: cython.longlong,
    cell_entries: cython.longlong[::1],
    x: cython.longlong,
    low: cython.longlong,
    high: cython.longlong,
    ends: cython.longlong[:, ::1],
) -> cython.longlong:
    """Return the edge that crosses x last on the way up from ``low`` to ``high``; or -1."""
    best: cython.longlong = -1
    p: cython.longlong
    e: cython.longlong
    for p in range(start, stop):
        e = cell_entries[p]
        if 2 * ends[e, 0] >= x or 2 * ends[e, 2] <= x:
            continue
        if turn(2 * ends[e, 0], 2 * ends[e, 1], 2 * ends[e, 2], 2 * ends[e, 3], x, high) < 0:
            continue
        if turn(2 * ends[e, 0], 2 * ends[e, 1], 2 * ends[e, 2], 2 * ends[e, 3], x, low) >= 0:
            continue
        if best < 0 or (e != best and _is_above_edge(e, best, ends)):
            best = e
    return best


def fill_corners(
    boxes: cython.longlong[:, ::1],
    parents: cython.longlong[::1],
    cell_offsets: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    corners: cython.longlong[::1],
) -> None:
    """Find what the lower left corner of each cell sees to its left: a half-edge, or -1.

    A box is x, y, side, columns, rows, first cell; ``parents`` names the cell it is laid over, of a box
    before it, or -1: to the left of such a box nothing is. Up the first column and along each row, each
    corner from the one before; the first has its answer from the cell below.
    """
    b: cython.Py_ssize_t
    side: cython.longlong
    columns: cython.longlong
    i: cython.longlong
    j: cython.longlong
    cell: cython.longlong
    first: cython.longlong
    seen: cython.longlong
    found: cython.longlong
    left: cython.longlong
    low: cython.longlong
    with cython.nogil:
        for b in range(boxes.shape[0]):
            side = 2 * boxes[b, 2]
            columns = boxes[b, 3]
            first = corners[parents[b]] if parents[b] >= 0 else -1
            for j in range(boxes[b, 4]):
                low = 2 * boxes[b, 1] - 1 + j * side
                seen = first
                for i in range(columns):
                    cell = boxes[b, 5] + j * columns + i
                    corners[cell] = seen
                    if cell_offsets[cell] == cell_offsets[cell + 1]:
                        continue
                    left = 2 * boxes[b, 0] - 1 + i * side
                    found = _nearest_left(
                        cell_offsets[cell],
                        cell_offsets[cell + 1],
                        cell_entries,
                        left + side,
                        low,
                        left,
                        ends,
                    )
                    if found >= 0:
                        seen = found
                if parents[b] >= 0:
                    cell = boxes[b, 5] + j * columns
                    left = 2 * boxes[b, 0] - 1
                    found = _topmost(
                        cell_offsets[cell],
                        cell_offsets[cell + 1],
                        cell_entries,
                        left,
                        low,
                        low + side,
                        ends,
                    )
                    if found >= 0:
                        # An edge runs from left to right: its upper side is that of the even half-edge.
                        first = 2 * found


def locate_points(
    qx: cython.longlong[::1],
    qy: cython.longlong[::1],
    boxes: cython.longlong[:, ::1],
    box_of_cell: cython.longlong[::1],
    cell_offsets: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    corners: cython.longlong[::1],
    seen: cython.longlong[::1],
) -> None:
    """For each point (doubled coordinates, on no edge) find the half-edge it lies left of.

    ``seen[k]`` becomes that half-edge, or -1 for a point outside everything. From the point go
    left to the side of its cell, then down to the corner, whose answer is known: the first edge
    met on the way tells the face. ``box_of_cell`` names the finer box over a cell, or -1.
    """
    k: cython.Py_ssize_t
    b: cython.longlong
    side: cython.longlong
    i: cython.longlong
    j: cython.longlong
    cell: cython.longlong
    left: cython.longlong
    low: cython.longlong
    best: cython.longlong
    with cython.nogil:
        for k in range(qx.shape[0]):
            b = 0
            cell = -1
            left = 0
            low = 0
            while b >= 0:
                side = 2 * boxes[b, 2]
                left = 2 * boxes[b, 0] - 1
                low = 2 * boxes[b, 1] - 1
                # Only the first box has places beyond it: a finer one covers all of its cell.
                if qx[k] < left or qy[k] < low:
                    break
                i = (qx[k] - left) // side
                j = (qy[k] - low) // side
                if i >= boxes[b, 3] or j >= boxes[b, 4]:
                    break
                left += i * side
                low += j * side
                cell = boxes[b, 5] + j * boxes[b, 3] + i
                b = box_of_cell[cell]
            if cell < 0:
                seen[k] = -1
                continue
            best = _nearest_left(
                cell_offsets[cell],
                cell_offsets[cell + 1],
                cell_entries,
                qx[k],
                qy[k],
                left,
                ends,
            )
            if best >= 0:
                seen[k] = best
                continue
            # Crosses the side below the point, above the corner.
            best = _topmost(
                cell_offsets[cell],
                cell_offsets[cell + 1],
                cell_entries,
                left,
                low,
                qy[k],
                ends,
            )
            # An edge runs from left to right, so its upper side is that of the even half-edge.
            seen[k] = 2 * best if best >= 0 else corners[cell]


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _is_near_edge(
    e: cython.longlong,
    x: cython.longlong,
    y: cython.longlong,
    reach: cython.longlong,
    ends: cython.longlong[:, ::1],
) -> cython.int:
    """Return 1 if a point (not doubled) may lie within ``reach`` of an edge."""
    dx: cython.double
    dy: cython.double
    off: cython.double
    if (
        x < ends[e, 0] - reach
        or x > ends[e, 2] + reach
        or y < min(ends[e, 1], ends[e, 3]) - reach
        or y > max(ends[e, 1], ends[e, 3]) + reach
    ):
        return 0
    dx = ends[e, 2] - ends[e, 0]
    dy = ends[e, 3] - ends[e, 1]
    # Differences are exact; what the products are rounded by is far less than half a reach.
    off = dx * (y - ends[e, 1]) - dy * (x - ends[e, 0])
    return 1 if off * off <= 2.0 * reach * reach * (dx * dx + dy * dy) else 0


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _toggle(
    rows: cython.longlong[::1], n: cython.longlong, row: cython.longlong
) -> cython.longlong:
    """Take a row out of n others, or put it in; return how many there are then."""
    k: cython.longlong
    for k in range(n):
        if rows[k] == row:
            rows[k] = rows[n - 1]
            return n - 1
    rows[n] = row
    return n + 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _is_between(
    e: cython.longlong,
    qx: cython.longlong,
    qy: cython.longlong,
    left: cython.longlong,
    low: cython.longlong,
    ends: cython.longlong[:, ::1],
) -> cython.int:
    """Return 1 if an edge crosses the way from the corner of a cell to a point, odd times.

    That goes right along the lower side, thought to be raised a little, and then up, a hair to the left
    of the point.
    """
    ax: cython.longlong = 2 * ends[e, 0]
    bx: cython.longlong = 2 * ends[e, 2]
    found: cython.int = _is_left_of(e, qx, low, ends)
    if found:
        found = 1 - _is_left_of(e, left, low, ends)
    if (
        ax < qx <= bx
        and turn(ax, 2 * ends[e, 1], bx, 2 * ends[e, 3], qx, qy) > 0
        and turn(ax, 2 * ends[e, 1], bx, 2 * ends[e, 3], qx, low) < 0
    ):
        found = 1 - found
    return found


def cover_points(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    grid: cython.longlong[::1],
    first_line: cython.longlong,
    last_line: cython.longlong,
    point_offsets: cython.longlong[::1],
    point_order: cython.longlong[::1],
    cell_offsets: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    row_of_edge: cython.longlong[::1],
    reach: cython.longlong,
    inside: cython.longlong[::1],
    covering: cython.longlong[::1],
    is_near: cython.uchar[::1],
    out_point: cython.longlong[::1],
    out_row: cython.longlong[::1],
) -> cython.longlong:
    """Find which rows of polygons cover points, in lines of cells; return how many pairs there are.

    A row covers what it has an odd number of edges on the way to from outside. Points (n,) are grouped
    by cells as edges (n_edges, 4) are. Those that may lie within ``reach`` of an edge, which cells hold
    edges for, are marked and left. ``grid`` is x, y, side, columns, rows. ``inside`` and ``covering``
    are room for as many rows as cover one place. Pairs without room are counted only.
    """
    side: cython.longlong = 2 * grid[2]
    columns: cython.longlong = grid[3]
    i: cython.longlong
    j: cython.longlong
    k: cython.longlong
    p: cython.longlong
    q: cython.longlong
    e: cython.longlong
    cell: cython.longlong
    left: cython.longlong
    low: cython.longlong
    n: cython.longlong
    n_inside: cython.longlong
    n_found: cython.longlong = 0
    near: cython.int
    with cython.nogil:
        for j in range(first_line, last_line):
            low = 2 * grid[1] - 1 + j * side
            n_inside = 0
            for i in range(columns):
                cell = j * columns + i
                left = 2 * grid[0] - 1 + i * side
                for q in range(point_offsets[cell], point_offsets[cell + 1]):
                    p = point_order[q]
                    near = 0
                    n = n_inside
                    for k in range(n):
                        covering[k] = inside[k]
                    for k in range(cell_offsets[cell], cell_offsets[cell + 1]):
                        e = cell_entries[k]
                        if _is_near_edge(e, x[p], y[p], reach, ends):
                            near = 1
                            break
                        if _is_between(e, 2 * x[p], 2 * y[p], left, low, ends):
                            n = _toggle(covering, n, row_of_edge[e])
                    if near:
                        is_near[p] = 1
                        continue
                    for k in range(n):
                        if n_found < out_point.shape[0]:
                            out_point[n_found] = p
                            out_row[n_found] = covering[k]
                        n_found += 1
                for k in range(cell_offsets[cell], cell_offsets[cell + 1]):
                    e = cell_entries[k]
                    if _is_left_of(e, left + side, low, ends) and not _is_left_of(
                        e, left, low, ends
                    ):
                        n_inside = _toggle(inside, n_inside, row_of_edge[e])
    return n_found
