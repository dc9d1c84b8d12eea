"""Crossings of edges, and the hot pixels that they pass, found cell by cell.

Cells are those of `cells`. A crowded one is looked at across the direction that most of its edges have.
"""

import cython

if cython.compiled:
    from cython.cimports.libc.math import sqrt
    from cython.cimports.polygene.kernels.exact import turn
    from cython.cimports.polygene.kernels.wide import int128, prefetch
else:
    from math import sqrt

    from polygene.kernels.exact import turn

    int128 = int

FETCHED = cython.declare(cython.int, 64)  # edges and nodes of a cell whose memory is fetched ahead


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _rounded(
    start: cython.longlong, along: cython.longlong, num: int128, den: int128
) -> cython.longlong:
    """Return floor(start + along * num / den + 1/2): the grid point whose pixel holds it.

    0 < num < den < 2**84 and |along| < 2**41, so the products stay below 2**126.
    """
    product: int128 = cython.cast(int128, along) * num * 2 + den
    double: int128 = den * 2
    if product >= 0:
        return start + cython.cast(cython.longlong, product // double)
    # C cuts towards zero where Python floors; both agree on a positive numerator.
    return start - cython.cast(cython.longlong, (double - 1 - product) // double)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _fetch_edges(
    first: cython.longlong,
    stop: cython.longlong,
    cell_entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
) -> cython.void:
    """Begin to fetch the edges of the cell that will be looked at next."""
    p: cython.longlong
    if cython.compiled:
        for p in range(first, min(stop, first + FETCHED)):
            prefetch(cython.address(ends[cell_entries[p], 0]))


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _fetch_nodes(
    first: cython.longlong,
    stop: cython.longlong,
    cell_nodes: cython.longlong[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
) -> cython.void:
    """Begin to fetch the nodes of the cell that will be looked at next."""
    q: cython.longlong
    if cython.compiled:
        for q in range(first, min(stop, first + FETCHED)):
            prefetch(cython.address(node_x[cell_nodes[q]]))
            prefetch(cython.address(node_y[cell_nodes[q]]))


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _crossed(
    room: cython.longlong[:, ::1],
    i: cython.longlong,
    first: cython.longlong,
    stop: cython.longlong,
    window: cython.double[::1],
    found: cython.longlong,
    out_x: cython.longlong[::1],
    out_y: cython.longlong[::1],
) -> cython.longlong:
    """Cross edge i of a cell with those from ``first`` up to ``stop``; return how many are found.

    ``found`` is how many were before. Crossings more than a unit outside of ``window``, the cell, are
    left to the cells that they lie in.
    """
    j: cython.longlong
    ax: cython.longlong = room[i, 0]
    ay: cython.longlong = room[i, 1]
    bx: cython.longlong = room[i, 2]
    by: cython.longlong = room[i, 3]
    cx: cython.longlong
    cy: cython.longlong
    dx: cython.longlong
    dy: cython.longlong
    low: cython.longlong = ay if ay < by else by
    high: cython.longlong = by if ay < by else ay
    border: cython.longlong = room[i, 4]
    wide: cython.double = cython.cast(cython.double, bx - ax)
    tall: cython.double = cython.cast(cython.double, by - ay)
    p: cython.double
    q: cython.double
    side: cython.double
    slack: cython.double
    t: cython.double
    num: int128
    den: int128
    for j in range(first, stop):
        if room[j, 0] > bx or room[j, 2] < ax:
            continue
        cy = room[j, 1]
        dy = room[j, 3]
        if cy < low and dy < low:
            continue
        if cy > high and dy > high:
            continue
        if not border and not room[j, 4]:
            continue
        cx = room[j, 0]
        dx = room[j, 2]
        if (
            (cx == ax and cy == ay)
            or (dx == bx and dy == by)
            or (dx == ax and dy == ay)
            or (cx == bx and cy == by)
        ):
            continue
        # Most pairs are apart by so much that floating point can tell: differences are exact in
        # it, each product and their difference round by 2**-53 of their size.
        p = wide * cython.cast(cython.double, cy - ay)
        q = tall * cython.cast(cython.double, cx - ax)
        slack = (p if p > 0 else -p) + (q if q > 0 else -q)
        side = p - q
        p = wide * cython.cast(cython.double, dy - ay)
        q = tall * cython.cast(cython.double, dx - ax)
        slack = (slack + (p if p > 0 else -p) + (q if q > 0 else -q)) * 1e-15
        if (side > slack and p - q > slack) or (side < -slack and p - q < -slack):
            continue
        if turn(ax, ay, bx, by, cx, cy) * turn(ax, ay, bx, by, dx, dy) != -1:
            continue
        if turn(cx, cy, dx, dy, ax, ay) * turn(cx, cy, dx, dy, bx, by) != -1:
            continue
        # e(t) = a + t (b - a), t = num / den by Cramer's rule, made positive.
        num = cython.cast(int128, cx - ax) * (dy - cy) - cython.cast(int128, cy - ay) * (dx - cx)
        den = cython.cast(int128, bx - ax) * (dy - cy) - cython.cast(int128, by - ay) * (dx - cx)
        if den < 0:
            num = -num
            den = -den
        # Both are exact, so this is off by 2**-10 units at most.
        t = cython.cast(cython.double, num) / cython.cast(cython.double, den)
        p = ax + t * wide
        q = ay + t * tall
        if p < window[0] - 1 or q < window[1] - 1 or p > window[2] + 1 or q > window[3] + 1:
            continue
        if found < out_x.shape[0]:
            out_x[found] = _rounded(ax, bx - ax, num, den)
            out_y[found] = _rounded(ay, by - ay, num, den)
        found += 1
    return found


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _sort_by(
    values: cython.double[:, ::1],
    column: cython.int,
    n: cython.longlong,
    keys: cython.double[:, ::1],
    order: cython.longlong[:, ::1],
) -> cython.void:
    """Sort a column of values into ``keys[column, :n]``, their order beside them (Shell 1959)."""
    gap: cython.longlong = 1
    i: cython.longlong
    j: cython.longlong
    item: cython.longlong
    key: cython.double
    for i in range(n):
        keys[column, i] = values[i, column]
        order[column, i] = i
    while gap < n // 3:
        gap = 3 * gap + 1
    while gap > 0:
        for i in range(gap, n):
            key = keys[column, i]
            item = order[column, i]
            j = i
            while j >= gap and keys[column, j - gap] > key:
                keys[column, j] = keys[column, j - gap]
                order[column, j] = order[column, j - gap]
                j -= gap
            keys[column, j] = key
            order[column, j] = item
        gap //= 3


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _first_from(
    least: cython.double, keys: cython.double[:, ::1], column: cython.int, n: cython.longlong
) -> cython.longlong:
    """Return where among the sorted ``keys[column, :n]`` those begin that are at least so large."""
    first: cython.longlong = 0
    stop: cython.longlong = n
    middle: cython.longlong
    while first < stop:
        middle = (first + stop) // 2
        if keys[column, middle] < least:
            first = middle + 1
        else:
            stop = middle
    return first


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _look_at(
    cell: cython.longlong,
    boxes: cython.longlong[:, ::1],
    box: cython.longlong,
    window: cython.double[::1],
) -> cython.longlong:
    """Set the window to the square of a cell at or after those of ``box``; return its box."""
    while box + 1 < boxes.shape[0] and boxes[box + 1, 5] <= cell:
        box += 1
    window[0] = boxes[box, 0] + (cell - boxes[box, 5]) % boxes[box, 3] * boxes[box, 2]
    window[1] = boxes[box, 1] + (cell - boxes[box, 5]) // boxes[box, 3] * boxes[box, 2]
    window[2] = window[0] + boxes[box, 2]
    window[3] = window[1] + boxes[box, 2]
    return box


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _lie_across(
    window: cython.double[::1],
    entries: cython.longlong[::1],
    first: cython.longlong,
    stop: cython.longlong,
    ends: cython.longlong[:, ::1],
    frame: cython.double[::1],
    ranges: cython.double[:, ::1],
) -> cython.void:
    """Set how far the edges of a cell reach across and along the direction that most of them have.

    Of each edge only what lies in the cell, or up to five units beside it, counts; ``ranges[k]`` is
    the least distance to the left from the cell's middle, the least ahead, and the greatest of both.
    What meets in the cell has ranges that overlap, but for an error far below a grid unit. ``frame``
    becomes the middle and the direction.
    """
    k: cython.longlong
    e: cython.longlong
    half: cython.double = 0.5 * (window[2] - window[0]) + 5.0
    middle_x: cython.double = 0.5 * (window[0] + window[2])
    middle_y: cython.double = 0.5 * (window[1] + window[3])
    ax: cython.double
    ay: cython.double
    dx: cython.double
    dy: cython.double
    along: cython.double = 0.0
    across: cython.double = 0.0
    size: cython.double
    cosine: cython.double
    sine: cython.double
    from_t: cython.double
    to_t: cython.double
    p: cython.double
    q: cython.double
    # Directions are the same back and forth: add them up at twice the angle, by the square of length.
    for k in range(first, stop):
        e = entries[k]
        dx = ends[e, 2] - ends[e, 0]
        dy = ends[e, 3] - ends[e, 1]
        along += dx * dx - dy * dy
        across += 2 * dx * dy
    size = sqrt(along * along + across * across)
    cosine = sqrt(0.5 + 0.5 * along / size) if size > 0 else 1.0
    sine = sqrt(max(0.5 - 0.5 * along / size, 0.0)) if size > 0 else 0.0
    if across < 0:
        sine = -sine
    frame[0] = middle_x
    frame[1] = middle_y
    frame[2] = cosine
    frame[3] = sine
    for k in range(first, stop):
        e = entries[k]
        ax = ends[e, 0] - middle_x
        ay = ends[e, 1] - middle_y
        dx = ends[e, 2] - ends[e, 0]
        dy = ends[e, 3] - ends[e, 1]
        # Clip to the square about the middle (Liang and Barsky 1984).
        from_t = 0.0
        to_t = 1.0
        if dx > 0:
            p = 1.0 / dx
            from_t = max(from_t, (-half - ax) * p)
            to_t = min(to_t, (half - ax) * p)
        if dy != 0:
            p = 1.0 / dy
            q = half if dy > 0 else -half
            from_t = max(from_t, (-q - ay) * p)
            to_t = min(to_t, (q - ay) * p)
        if from_t > to_t:
            ranges[k - first, 0] = ranges[k - first, 1] = 1e300
            ranges[k - first, 2] = ranges[k - first, 3] = -1e300
            continue
        p = cosine * (ay + from_t * dy) - sine * (ax + from_t * dx)
        q = cosine * (ay + to_t * dy) - sine * (ax + to_t * dx)
        ranges[k - first, 0] = p if p < q else q
        ranges[k - first, 2] = q if p < q else p
        p = cosine * (ax + from_t * dx) + sine * (ay + from_t * dy)
        q = cosine * (ax + to_t * dx) + sine * (ay + to_t * dy)
        ranges[k - first, 1] = p if p < q else q
        ranges[k - first, 3] = q if p < q else p


def cross_edges(
    boxes: cython.longlong[:, ::1],
    leaves: cython.longlong[::1],
    cell_offsets: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    is_border: cython.uchar[::1],
    crowd: cython.longlong,
    room: cython.longlong[:, ::1],
    ranges: cython.double[:, ::1],
    keys: cython.double[:, ::1],
    order: cython.longlong[:, ::1],
    frame: cython.double[::1],
    window: cython.double[::1],
    out_x: cython.longlong[::1],
    out_y: cython.longlong[::1],
) -> cython.longlong:
    """Round every proper crossing of two edges to the grid; return how many were found.

    Edges run from their lexicographically smaller end (``ends``: x, y, x, y) to the larger. Two edges
    that are both no border are not crossed with each other. Crossings on the border of cells are
    repeated. At most ``len(out_x)`` are stored: call again with more room if more are returned.
    Leaves rise. In those of more than ``crowd`` edges only such are compared as overlap across the
    direction of most: in a bundle, neighbours.

    ``room`` is (edges of the fullest leaf, 5), ``ranges`` as many by 4, ``keys`` and ``order`` 1 by as
    many, ``frame`` and ``window`` 4.

    Touching and overlapping edges need no point here: one's end is then a grid point on the other.
    """
    found: cython.longlong = 0
    c: cython.Py_ssize_t
    b: cython.longlong = 0
    i: cython.longlong
    k: cython.longlong
    n: cython.longlong
    e: cython.longlong
    cell: cython.longlong
    reach: cython.double
    with cython.nogil:
        for c in range(leaves.shape[0]):
            cell = leaves[c]
            n = cell_offsets[cell + 1] - cell_offsets[cell]
            b = _look_at(cell, boxes, b, window)
            if c + 1 < leaves.shape[0]:
                e = leaves[c + 1]
                _fetch_edges(cell_offsets[e], cell_offsets[e + 1], cell_entries, ends)
            if n > crowd:
                _lie_across(
                    window, cell_entries, cell_offsets[cell], cell_offsets[cell + 1],
                    ends, frame, ranges,
                )  # fmt: skip
                _sort_by(ranges, 0, n, keys, order)
            # The cell's edges side by side: pairs of them would else wait for memory.
            for i in range(n):
                e = cell_entries[cell_offsets[cell] + (order[0, i] if n > crowd else i)]
                room[i, 0] = ends[e, 0]
                room[i, 1] = ends[e, 1]
                room[i, 2] = ends[e, 2]
                room[i, 3] = ends[e, 3]
                room[i, 4] = is_border[e]
            if n <= crowd:
                for i in range(1, n):
                    found = _crossed(room, i, 0, i, window, found, out_x, out_y)
                continue
            for i in range(n):
                reach = ranges[order[0, i], 2] + 0.125
                k = i + 1
                while k < n and keys[0, k] <= reach:
                    k += 1
                found = _crossed(room, i, i + 1, k, window, found, out_x, out_y)
    return found


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
) -> cython.longlong:
    """Find the hot pixels that edges pass besides their own ends; return how many.

    The nodes of cell c are ``cell_nodes[node_offsets[c]:node_offsets[c + 1]]``; each node lies in
    one cell, so each pair is met once. A node that another edge passes within two units of its
    pixel is marked in ``stays``; if the edge misses the pixel, so are its two ends, and the edge
    itself in ``is_crowded``. Edges that are no border ignore nodes that are on no border.

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
    vx: cython.longlong
    vy: cython.longlong
    ax: cython.longlong
    ay: cython.longlong
    bx: cython.longlong
    by: cython.longlong
    low: cython.longlong
    high: cython.longlong
    b: cython.longlong = 0
    n: cython.longlong
    first: cython.longlong
    k: cython.longlong
    stop: cython.longlong
    wide: cython.double
    tall: cython.double
    left: cython.double
    right: cython.double
    gap: cython.double
    shift: cython.double
    reach: cython.double
    mx: cython.longlong
    my: cython.longlong
    is_sorted: cython.int
    is_sorted_along: cython.int
    column: cython.int
    width: int128
    cross: int128
    with cython.nogil:
        for c in range(leaves.shape[0]):
            cell = leaves[c]
            n = node_offsets[cell + 1] - node_offsets[cell]
            if c + 1 < leaves.shape[0]:
                e = leaves[c + 1]
                if node_offsets[e] < node_offsets[e + 1]:
                    _fetch_edges(cell_offsets[e], cell_offsets[e + 1], cell_entries, ends)
                    _fetch_nodes(node_offsets[e], node_offsets[e + 1], cell_nodes, node_x, node_y)
            if n == 0:
                continue
            first = 0
            stop = n
            is_sorted = n > crowd and cell_offsets[cell + 1] - cell_offsets[cell] > crowd
            is_sorted_along = 0
            column = 0
            # Nodes side by side, from the first one: so near to each other, little is lost in rounding.
            mx = node_x[cell_nodes[node_offsets[cell]]]
            my = node_y[cell_nodes[node_offsets[cell]]]
            for q in range(n):
                v = cell_nodes[node_offsets[cell] + q]
                places[q, 2] = node_x[v] - mx
                places[q, 3] = node_y[v] - my
            if is_sorted:
                b = _look_at(cell, boxes, b, window)
                _lie_across(
                    window, cell_entries, cell_offsets[cell], cell_offsets[cell + 1],
                    ends, frame, ranges,
                )  # fmt: skip
                for q in range(n):
                    left = places[q, 2] + (mx - frame[0])
                    right = places[q, 3] + (my - frame[1])
                    places[q, 0] = frame[2] * right - frame[3] * left
                    places[q, 1] = frame[2] * left + frame[3] * right
                _sort_by(places, 0, n, keys, order)
            for p in range(cell_offsets[cell], cell_offsets[cell + 1]):
                if is_sorted:
                    # Nodes at most two units from the edge, so at most three across.
                    k = p - cell_offsets[cell]
                    column = 0
                    first = _first_from(ranges[k, 0] - 4.0, keys, 0, n)
                    stop = _first_from(ranges[k, 2] + 4.0, keys, 0, n)
                    if stop - first > 4 * crowd:
                        if not is_sorted_along:
                            _sort_by(places, 1, n, keys, order)
                            is_sorted_along = 1
                        low = _first_from(ranges[k, 1] - 4.0, keys, 1, n)
                        high = _first_from(ranges[k, 3] + 4.0, keys, 1, n)
                        if high - low < stop - first:
                            column, first, stop = 1, low, high
                e = cell_entries[p]
                ax = ends[e, 0]
                ay = ends[e, 1]
                bx = ends[e, 2]
                by = ends[e, 3]
                low = (ay if ay < by else by) - 2
                high = (by if ay < by else ay) + 2
                # Separating axes: the edge's line against the box of half side 2.5 about the node. Most
                # are further off than floating point can be wrong.
                wide = cython.cast(cython.double, bx - ax)
                tall = cython.cast(cython.double, by - ay)
                left = wide * cython.cast(cython.double, my - ay)
                right = tall * cython.cast(cython.double, mx - ax)
                shift = left - right
                reach = 2.6 * (wide + (tall if tall > 0 else -tall)) + 1e-15 * (
                    (left if left > 0 else -left) + (right if right > 0 else -right)
                )
                for q in range(first, stop):
                    k = order[column, q] if is_sorted else q
                    gap = wide * places[k, 3] - tall * places[k, 2] + shift
                    if gap > reach or gap < -reach:
                        continue
                    v = cell_nodes[node_offsets[cell] + k]
                    vx = node_x[v]
                    vy = node_y[v]
                    if vx < ax - 2 or vx > bx + 2 or vy < low or vy > high:
                        continue
                    if (vx == ax and vy == ay) or (vx == bx and vy == by):
                        continue
                    if not is_border[e] and not is_border_node[v]:
                        continue
                    width = (bx - ax) + (by - ay if by > ay else ay - by)
                    cross = cython.cast(int128, bx - ax) * (vy - ay) - cython.cast(
                        int128, by - ay
                    ) * (vx - ax)
                    if cross < 0:
                        cross = -cross
                    if 2 * cross > 5 * width:
                        continue
                    stays[v] = 1
                    if 2 * cross <= width and _passes_pixel(
                        2 * (ax - vx), 2 * (ay - vy), 2 * (bx - vx), 2 * (by - vy)
                    ):
                        if found < capacity:
                            out_edge[found] = e
                            out_node[found] = v
                        found += 1
                    else:
                        stays[low_node[e]] = 1
                        stays[high_node[e]] = 1
                        is_crowded[e] = 1
    return found
