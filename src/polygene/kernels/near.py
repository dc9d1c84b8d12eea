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
Edge = cython.struct(ax=cython.longlong, ay=cython.longlong, bx=cython.longlong, by=cython.longlong)


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
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _cell_of(
    value: cython.longlong, low: cython.longlong, side: cython.longlong
) -> cython.longlong:
    """Return the number of the cell that a coordinate is in; floor division, below the box too."""
    return (value - low) // side if value >= low else -((low - value + side - 1) // side)


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _apart(
    low: cython.longlong,
    high: cython.longlong,
    first: cython.longlong,
    last: cython.longlong,
) -> cython.double:
    """Return how far the range from ``low`` to ``high`` is from that from ``first`` to ``last``."""
    return cython.cast(cython.double, max(max(first - high, low - last), 0))


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _is_beyond(x: cython.double, y: cython.double, square: cython.double) -> cython.bint:
    """Return whether what is at least x across and y up away is further off than a squared distance.

    What may be as far but for rounding is not.
    """
    return (x * x + y * y) * (1.0 - 1e-12) > square


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _next_in_ring(
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
    ci: cython.longlong = min(max(_cell_of(px, boxes[b, 0], side), 0), columns - 1)
    cj: cython.longlong = min(max(_cell_of(py, boxes[b, 1], side), 0), rows - 1)
    gap_x: cython.double = _apart(px, px, boxes[b, 0], boxes[b, 0] + columns * side) * across
    gap_y: cython.double = _apart(py, py, boxes[b, 1], boxes[b, 1] + rows * side) * up
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
        if _is_beyond(gap_x + clear * across, gap_y, best.square) and _is_beyond(
            gap_x, gap_y + clear * up, best.square
        ):
            break
        for j in range(max(cj - ring, 0), min(cj + ring, rows - 1) + 1):
            low = boxes[b, 1] + j * side
            off = _apart(py, py, low, low + side) * up
            if _is_beyond(gap_x, off, best.square):
                continue
            is_whole = j == cj - ring or j == cj + ring
            i = _next_in_ring(ci - ring - 1, ci - ring, ci + ring, columns, is_whole)
            while i < columns:
                cell = boxes[b, 5] + j * columns + i
                low = boxes[b, 0] + i * side
                if _is_beyond(_apart(px, px, low, low + side) * across, off, best.square):
                    pass
                elif box_of_cell[cell] >= 0:
                    best = _nearest_under(
                        box_of_cell[cell], px, py, across, up,
                        boxes, box_of_cell, offsets, entries, ends, best,
                    )  # fmt: skip
                else:
                    best = _nearest_in(cell, px, py, across, up, offsets, entries, ends, best)
                i = _next_in_ring(i, ci - ring, ci + ring, columns, is_whole)
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
    i0: cython.longlong = max(_cell_of(px - wide, boxes[b, 0], side), 0)
    i1: cython.longlong = min(_cell_of(px + wide, boxes[b, 0], side), columns - 1)
    j0: cython.longlong = max(_cell_of(py - high, boxes[b, 1], side), 0)
    j1: cython.longlong = min(_cell_of(py + high, boxes[b, 1], side), boxes[b, 4] - 1)
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


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _to_edge(
    px: cython.longlong,
    py: cython.longlong,
    ax: cython.longlong,
    ay: cython.longlong,
    bx: cython.longlong,
    by: cython.longlong,
) -> cython.double:
    """Return the squared distance from p to the edge from a to b."""
    t: cython.double = _place(px, py, ax, ay, bx, by, 1.0, 1.0)
    return _square(px, py, ax, ay, bx, by, t, 1.0, 1.0)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _gap(
    ax: cython.longlong,
    ay: cython.longlong,
    bx: cython.longlong,
    by: cython.longlong,
    cx: cython.longlong,
    cy: cython.longlong,
    dx: cython.longlong,
    dy: cython.longlong,
) -> cython.double:
    """Return the squared distance of two edges that do not cross: from an end of one to the other."""
    least: cython.double = _to_edge(ax, ay, cx, cy, dx, dy)
    least = min(least, _to_edge(bx, by, cx, cy, dx, dy))
    least = min(least, _to_edge(cx, cy, ax, ay, bx, by))
    return min(least, _to_edge(dx, dy, ax, ay, bx, by))


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _is_banned(
    g: cython.longlong,
    row: cython.longlong,
    banned_offsets: cython.longlong[::1],
    banned: cython.longlong[::1],
) -> cython.int:
    """Return 1 if a row does not count for a group."""
    b: cython.longlong
    for b in range(banned_offsets[g], banned_offsets[g + 1]):
        if banned[b] == row:
            return 1
    return 0


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _narrow(
    cell: cython.longlong,
    q: cython.longlong,
    g: cython.longlong,
    a: Edge,
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    row: cython.longlong[::1],
    banned_offsets: cython.longlong[::1],
    banned: cython.longlong[::1],
    best: cython.double[::1],
    best_edge: cython.longlong[::1],
    best_mine: cython.longlong[::1],
    is_tied: cython.uchar[::1],
) -> cython.void:
    """Compare edge q, which is ``a``, of group g with the edges of a cell, and note what is nearer."""
    k: cython.longlong
    e: cython.longlong
    found: cython.double
    is_equal: cython.int
    for k in range(offsets[cell], offsets[cell + 1]):
        e = entries[k]
        found = _gap(a.ax, a.ay, a.bx, a.by, ends[e, 0], ends[e, 1], ends[e, 2], ends[e, 3])
        if found > best[g]:
            continue
        is_equal = found == best[g] and best_edge[g] >= 0
        if is_equal and row[e] == row[best_edge[g]]:
            continue
        if _is_banned(g, row[e], banned_offsets, banned):
            continue
        is_tied[g] = is_equal
        if is_equal and row[e] > row[best_edge[g]]:
            continue
        best[g] = found
        best_edge[g] = e
        best_mine[g] = q


def nearest_of_edges(
    first: cython.longlong,
    stop: cython.longlong,
    ax: cython.longlong[::1],
    ay: cython.longlong[::1],
    bx: cython.longlong[::1],
    by: cython.longlong[::1],
    group: cython.longlong[::1],
    box: cython.longlong[::1],
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    row: cython.longlong[::1],
    banned_offsets: cython.longlong[::1],
    banned: cython.longlong[::1],
    best: cython.double[::1],
    best_edge: cython.longlong[::1],
    best_mine: cython.longlong[::1],
    is_tied: cython.uchar[::1],
) -> None:
    """Find for each group of edges the nearest edge of another set.

    Edge q, from ``first`` up to ``stop``, from a to b, is of ``group[q]``. ``best`` starts as the
    squared limit of each group and ends as the least squared distance, ``best_edge`` as the edge found
    (-1 for none) and ``best_mine`` as the group's own edge. Edges of the rows
    ``banned[banned_offsets[g]:banned_offsets[g + 1]]`` do not count. Of several rows at one distance
    the lowest wins, and the group is marked in ``is_tied`` (0 before). Crossings are not seen to.

    ``box`` is x, y, side, columns and rows of square cells, whose edges ``entries`` has; after its last
    cell comes one with edges that are in none, for all to be held to.
    """
    q: cython.longlong
    g: cython.longlong
    ring: cython.longlong
    i: cython.longlong
    j: cython.longlong
    i_low: cython.longlong
    i_high: cython.longlong
    j_low: cython.longlong
    j_high: cython.longlong
    low: cython.longlong
    x0: cython.longlong
    x1: cython.longlong
    y0: cython.longlong
    y1: cython.longlong
    is_whole: cython.int
    side: cython.longlong = box[2]
    columns: cython.longlong = box[3]
    rows: cython.longlong = box[4]
    clear: cython.double
    gap_x: cython.double
    gap_y: cython.double
    off: cython.double
    a: Edge
    with cython.nogil:
        for q in range(first, stop):
            g = group[q]
            a = Edge(ax=ax[q], ay=ay[q], bx=bx[q], by=by[q])
            _narrow(
                columns * rows,
                q,
                g,
                a,
                offsets,
                entries,
                ends,
                row,
                banned_offsets,
                banned,
                best,
                best_edge,
                best_mine,
                is_tied,
            )
            x0 = min(a.ax, a.bx)
            x1 = max(a.ax, a.bx)
            y0 = min(a.ay, a.by)
            y1 = max(a.ay, a.by)
            # The cells that its box lies in, or those next to it if it lies off them all.
            i_low = min(max(_cell_of(x0, box[0], side), 0), columns - 1)
            i_high = min(max(_cell_of(x1, box[0], side), 0), columns - 1)
            j_low = min(max(_cell_of(y0, box[1], side), 0), rows - 1)
            j_high = min(max(_cell_of(y1, box[1], side), 0), rows - 1)
            gap_x = _apart(x0, x1, box[0], box[0] + columns * side)
            gap_y = _apart(y0, y1, box[1], box[1] + rows * side)
            for ring in range(
                max(max(i_low, columns - 1 - i_high), max(j_low, rows - 1 - j_high)) + 1
            ):
                # What is not looked at yet lies further than whole cells off, across or up.
                clear = max(ring - 1, 0) * cython.cast(cython.double, side)
                if _is_beyond(gap_x + clear, gap_y, best[g]) and _is_beyond(
                    gap_x, gap_y + clear, best[g]
                ):
                    break
                for j in range(max(j_low - ring, 0), min(j_high + ring, rows - 1) + 1):
                    low = box[1] + j * side
                    off = _apart(y0, y1, low, low + side)
                    if _is_beyond(gap_x, off, best[g]):
                        continue
                    # Ring 0 is all cells of the edge's own box.
                    is_whole = ring == 0 or j == j_low - ring or j == j_high + ring
                    i = _next_in_ring(
                        i_low - ring - 1, i_low - ring, i_high + ring, columns, is_whole
                    )
                    while i < columns:
                        low = box[0] + i * side
                        if not _is_beyond(_apart(x0, x1, low, low + side), off, best[g]):
                            _narrow(
                                j * columns + i,
                                q,
                                g,
                                a,
                                offsets,
                                entries,
                                ends,
                                row,
                                banned_offsets,
                                banned,
                                best,
                                best_edge,
                                best_mine,
                                is_tied,
                            )
                        i = _next_in_ring(i, i_low - ring, i_high + ring, columns, is_whole)


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _off_edge(
    px: cython.double,
    py: cython.double,
    ax: cython.double,
    ay: cython.double,
    bx: cython.double,
    by: cython.double,
) -> cython.double:
    """Return the squared distance from p to the edge from a to b."""
    dx: cython.double = bx - ax
    dy: cython.double = by - ay
    length: cython.double = dx * dx + dy * dy
    t: cython.double = 0.0
    if length > 0:
        t = ((px - ax) * dx + (py - ay) * dy) / length
        t = min(max(t, 0.0), 1.0)
    dx = px - (ax + t * dx)
    dy = py - (ay + t * dy)
    return dx * dx + dy * dy


def farthest_off(
    points: cython.double[:, ::1],
    point_offsets: cython.longlong[::1],
    edges: cython.double[:, ::1],
    edge_offsets: cython.longlong[::1],
    farthest: cython.double[::1],
) -> cython.void:
    """Write of each pair the largest distance of a point of its first to the edges of its second.

    ``points[point_offsets[k]:point_offsets[k + 1]]`` and ``edges[...]`` (x, y of both ends) are those
    of pair k. The directed Hausdorff distance, each point left as soon as an edge is nearer than the
    farthest so far (Taha and Hanbury 2015), the search begun where the one before ended. Zero without
    points; there must be an edge.
    """
    far: cython.double = 1.7976931348623157e308
    n: cython.longlong = point_offsets.shape[0] - 1
    k: cython.longlong
    p: cython.longlong
    e: cython.longlong
    i: cython.longlong
    low: cython.longlong
    size: cython.longlong
    begin: cython.longlong
    most: cython.double
    least: cython.double
    off: cython.double
    with cython.nogil:
        for k in range(n):
            most = 0.0
            low = edge_offsets[k]
            size = edge_offsets[k + 1] - low
            begin = 0
            for p in range(point_offsets[k], point_offsets[k + 1]):
                least = far
                for i in range(size):
                    e = begin + i
                    if e >= size:
                        e -= size
                    off = _off_edge(
                        points[p, 0], points[p, 1],
                        edges[low + e, 0], edges[low + e, 1], edges[low + e, 2], edges[low + e, 3],
                    )  # fmt: skip
                    if off < least:
                        least = off
                        if least <= most:
                            begin = e
                            break
                if least > most:
                    most = least
            farthest[k] = most**0.5
