"""The hot pixels that edges pass, found cell by cell."""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.crowds import (
        fetch_edges,
        fetch_nodes,
        first_from,
        lie_across,
        look_at,
        sort_by,
    )
    from cython.cimports.polygene.kernels.wide import int128
else:
    from polygene.kernels.crowds import (
        fetch_edges,
        fetch_nodes,
        first_from,
        lie_across,
        look_at,
        sort_by,
    )

    int128 = int

# Sorted nodes from ``first`` up to ``stop``, by column 0 across or 1 along, and if along is sorted yet.
Span = cython.struct(
    column=cython.longlong,
    first=cython.longlong,
    stop=cython.longlong,
    is_sorted_along=cython.int,
)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _passes_pixel(
    ax: cython.longlong, ay: cython.longlong, bx: cython.longlong, by: cython.longlong
) -> cython.int:
    """Return 1 if the edge passes the half-open pixel [-1, 1) x [-1, 1) about the origin.

    Coordinates are doubled and relative to the pixel's centre. Each side of the pixel bounds the
    edge's parameter from below or above, openly or not; the pixel is passed if every lower bound
    lies below every upper one, or meets it where both are closed. Bounds are fractions n / d.
    """
    dx: cython.longlong = bx - ax
    dy: cython.longlong = by - ay
    # Lower and upper bound from x, then from y: numerator, denominator, is it open?
    xl: cython.longlong
    xu: cython.longlong
    xd: cython.longlong
    xl_open: cython.int
    xu_open: cython.int
    yl: cython.longlong
    yu: cython.longlong
    yd: cython.longlong
    yl_open: cython.int
    yu_open: cython.int
    if dx > 0:
        xl, xl_open, xu, xu_open, xd = -1 - ax, 0, 1 - ax, 1, dx
    elif dx < 0:
        xl, xl_open, xu, xu_open, xd = ax - 1, 1, ax + 1, 0, -dx
    else:
        if ax < -1 or ax >= 1:
            return 0
        xl, xl_open, xu, xu_open, xd = 0, 0, 1, 0, 1
    if dy > 0:
        yl, yl_open, yu, yu_open, yd = -1 - ay, 0, 1 - ay, 1, dy
    elif dy < 0:
        yl, yl_open, yu, yu_open, yd = ay - 1, 1, ay + 1, 0, -dy
    else:
        if ay < -1 or ay >= 1:
            return 0
        yl, yl_open, yu, yu_open, yd = 0, 0, 1, 0, 1
    if xl > xd or (xl == xd and xl_open) or xu < 0 or (xu == 0 and xu_open):
        return 0
    if yl > yd or (yl == yd and yl_open) or yu < 0 or (yu == 0 and yu_open):
        return 0
    left: int128 = cython.cast(int128, xl) * yd
    right: int128 = cython.cast(int128, yu) * xd
    if left > right or (left == right and (xl_open or yu_open)):
        return 0
    left = cython.cast(int128, yl) * xd
    right = cython.cast(int128, xu) * yd
    if left > right or (left == right and (yl_open or xu_open)):
        return 0
    return 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _place_nodes(
    cell: cython.longlong,
    node_offsets: cython.longlong[::1],
    cell_nodes: cython.longlong[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
    places: cython.double[:, ::1],
) -> cython.longlong:
    """Put the nodes of a cell side by side, from the first one; return how many there are.

    They are so near to each other that little is lost in rounding.
    """
    q: cython.longlong
    v: cython.longlong
    first: cython.longlong = node_offsets[cell]
    n: cython.longlong = node_offsets[cell + 1] - first
    for q in range(n):
        v = cell_nodes[first + q]
        places[q, 2] = node_x[v] - node_x[cell_nodes[first]]
        places[q, 3] = node_y[v] - node_y[cell_nodes[first]]
    return n


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _place_across(
    n: cython.longlong,
    shift_x: cython.double,
    shift_y: cython.double,
    frame: cython.double[::1],
    places: cython.double[:, ::1],
) -> cython.void:
    """Say where nodes lie across and along the direction of ``frame``, shifted to its origin."""
    q: cython.longlong
    x: cython.double
    y: cython.double
    for q in range(n):
        x = places[q, 2] + shift_x
        y = places[q, 3] + shift_y
        places[q, 0] = frame[2] * y - frame[3] * x
        places[q, 1] = frame[2] * x + frame[3] * y


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _nodes_about(
    k: cython.longlong,
    n: cython.longlong,
    crowd: cython.longlong,
    is_sorted_along: cython.int,
    ranges: cython.double[:, ::1],
    places: cython.double[:, ::1],
    keys: cython.double[:, ::1],
    order: cython.longlong[:, ::1],
) -> Span:
    """Return which of the sorted nodes edge k of a crowded cell may pass.

    Nodes at most two units from the edge are at most three from it across. Where many are, it may run
    across the others itself: then the nodes are sorted along them too, and the narrower range is taken.
    """
    begin: cython.longlong
    end: cython.longlong
    found: Span = Span(
        column=0,
        first=first_from(ranges[k, 0] - 4.0, keys, 0, n),
        stop=first_from(ranges[k, 2] + 4.0, keys, 0, n),
        is_sorted_along=is_sorted_along,
    )
    if found.stop - found.first > 4 * crowd:
        if not is_sorted_along:
            sort_by(places, 1, n, keys, order)
            found.is_sorted_along = 1
        begin = first_from(ranges[k, 1] - 4.0, keys, 1, n)
        end = first_from(ranges[k, 3] + 4.0, keys, 1, n)
        if end - begin < found.stop - found.first:
            found.column = 1
            found.first = begin
            found.stop = end
    return found


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _next_near(
    places: cython.double[:, ::1],
    first: cython.longlong,
    stop: cython.longlong,
    ax: cython.double,
    ay: cython.double,
    bx: cython.double,
    by: cython.double,
) -> cython.longlong:
    """Return the first of some nodes that the edge from a to b may pass, ``stop`` if there is none.

    Separating axes: the edge's line against the box of half side 2.5 about the node. Most nodes are
    further off than floating point can be wrong, or ends of the edge.
    """
    # A function of its own, so that what is needed for each pair stays in registers.
    k: cython.longlong = first
    wide: cython.double = bx - ax
    tall: cython.double = by - ay
    left: cython.double = -wide * ay
    right: cython.double = -tall * ax
    reach: cython.double = 2.6 * (wide + abs(tall)) + 1e-15 * (abs(left) + abs(right))
    x: cython.double
    y: cython.double
    while k < stop:
        x = places[k, 2]
        y = places[k, 3]
        if not (
            (abs(wide * y - tall * x + (left - right)) > reach)
            | ((x == ax) & (y == ay))
            | ((x == bx) & (y == by))
        ):
            break
        k += 1
    return k


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _passes(
    e: cython.longlong,
    v: cython.longlong,
    ends: cython.longlong[:, ::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
) -> cython.int:
    """Say how edge e passes node v: 1 through its pixel, 2 within two units of that, 0 neither.

    Exact. The node is no end of the edge. Who widens it widens NEAR and BESIDE of `crossings`, by which
    cells are passed over.
    """
    x: cython.longlong = node_x[v]
    y: cython.longlong = node_y[v]
    ax: cython.longlong = ends[e, 0]
    ay: cython.longlong = ends[e, 1]
    bx: cython.longlong = ends[e, 2]
    by: cython.longlong = ends[e, 3]
    width: int128
    cross: int128
    if x < ax - 2 or x > bx + 2 or y < min(ay, by) - 2 or y > max(ay, by) + 2:
        return 0
    width = (bx - ax) + (by - ay if by > ay else ay - by)
    cross = cython.cast(int128, bx - ax) * (y - ay) - cython.cast(int128, by - ay) * (x - ax)
    if cross < 0:
        cross = -cross
    if 2 * cross > 5 * width:
        return 0
    if 2 * cross <= width and _passes_pixel(2 * (ax - x), 2 * (ay - y), 2 * (bx - x), 2 * (by - y)):
        return 1
    return 2


def find_pixels(
    boxes: cython.longlong[:, ::1],
    leaves: cython.longlong[::1],
    cell_offsets: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
    node_offsets: cython.longlong[::1],
    cell_nodes: cython.longlong[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    low_node: cython.longlong[::1],
    high_node: cython.longlong[::1],
    is_border: cython.uchar[::1],
    is_border_node: cython.uchar[::1],
    crowd: cython.longlong,
    ranges: cython.double[:, ::1],
    places: cython.double[:, ::1],
    keys: cython.double[:, ::1],
    order: cython.longlong[:, ::1],
    frame: cython.double[::1],
    window: cython.double[::1],
    out_edge: cython.longlong[::1],
    out_node: cython.longlong[::1],
    stays: cython.uchar[::1],
    is_crowded: cython.uchar[::1],
    is_missed: cython.uchar[::1],
) -> cython.longlong:
    """Find the hot pixels that edges pass besides their own ends; return how many.

    The nodes of cell c are ``cell_nodes[node_offsets[c]:node_offsets[c + 1]]``; each node lies in
    one cell, so each pair is met once. A node that another edge passes within two units of its
    pixel is marked in ``stays``; if the edge misses the pixel, so are its two ends, the edge itself in
    ``is_crowded`` and the node in ``is_missed``. Edges that are no border ignore nodes on no border.

    Leaves rise. In those of more than ``crowd`` edges and nodes, nodes are sorted across the direction
    of most edges, and along it for the edges that run across; ``ranges`` is (edges of the fullest leaf,
    4), ``places`` (nodes of the fullest, 4), ``keys`` and ``order`` 2 by as many; ``frame`` and
    ``window`` are 4.
    """
    capacity: cython.longlong = out_edge.shape[0]
    found: cython.longlong = 0
    c: cython.Py_ssize_t
    cell: cython.longlong
    p: cython.longlong
    q: cython.longlong
    e: cython.longlong
    v: cython.longlong
    k: cython.longlong
    n: cython.longlong
    how: cython.int
    b: cython.longlong = 0
    mx: cython.longlong
    my: cython.longlong
    is_sorted: cython.int
    about: Span
    ax: cython.double
    ay: cython.double
    bx: cython.double
    by: cython.double
    # Longer and deeper than functions are here: half of it names what it is given, and what is left is
    # the innermost loop of the noding, cell, edge, node, whose state would all be handed on.
    with cython.nogil:
        for c in range(leaves.shape[0]):
            cell = leaves[c]
            if c + 1 < leaves.shape[0]:
                # What the next cell needs is asked of memory while this one is worked on.
                e = leaves[c + 1]
                if node_offsets[e] < node_offsets[e + 1]:
                    fetch_edges(cell_offsets[e], cell_offsets[e + 1], cell_entries, ends)
                    fetch_nodes(node_offsets[e], node_offsets[e + 1], cell_nodes, node_x, node_y)
            n = _place_nodes(cell, node_offsets, cell_nodes, node_x, node_y, places)
            if n == 0:
                continue
            about = Span(column=0, first=0, stop=n, is_sorted_along=0)
            mx = node_x[cell_nodes[node_offsets[cell]]]
            my = node_y[cell_nodes[node_offsets[cell]]]
            is_sorted = n > crowd and cell_offsets[cell + 1] - cell_offsets[cell] > crowd
            if is_sorted:
                b = look_at(cell, boxes, b, window)
                p = cell_offsets[cell]
                q = cell_offsets[cell + 1]
                lie_across(window, cell_entries, p, q, ends, frame, ranges)
                _place_across(n, mx - frame[0], my - frame[1], frame, places)
                sort_by(places, 0, n, keys, order)
            for p in range(cell_offsets[cell], cell_offsets[cell + 1]):
                if is_sorted:
                    k = p - cell_offsets[cell]
                    about = _nodes_about(
                        k, n, crowd, about.is_sorted_along, ranges, places, keys, order
                    )
                e = cell_entries[p]
                ax = cython.cast(cython.double, ends[e, 0] - mx)
                ay = cython.cast(cython.double, ends[e, 1] - my)
                bx = cython.cast(cython.double, ends[e, 2] - mx)
                by = cython.cast(cython.double, ends[e, 3] - my)
                q = about.first
                while True:
                    if is_sorted:
                        while q < about.stop:
                            k = order[about.column, q]
                            if _next_near(places, k, k + 1, ax, ay, bx, by) == k:
                                break
                            q += 1
                    else:
                        q = k = _next_near(places, q, about.stop, ax, ay, bx, by)
                    if q >= about.stop:  # it begins beyond it for an edge beside the cell
                        break
                    q += 1
                    v = cell_nodes[node_offsets[cell] + k]
                    if not is_border[e] and not is_border_node[v]:
                        continue
                    how = _passes(e, v, ends, node_x, node_y)
                    if how == 0:
                        continue
                    stays[v] = 1
                    if how == 1:
                        if found < capacity:
                            out_edge[found] = e
                            out_node[found] = v
                        found += 1
                    else:
                        stays[low_node[e]] = 1
                        stays[high_node[e]] = 1
                        is_crowded[e] = 1
                        is_missed[v] = 1
    return found
