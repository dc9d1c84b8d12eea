"""Crossings of edges, and the hot pixels that they pass, found cell by cell.

Cells are those of `cells`. A crowded one is looked at across the direction that most of its edges have.
"""

import cython

if cython.compiled:
    from cython.cimports.libc.math import sqrt
    from cython.cimports.polygene.kernels.exact import turn
    from cython.cimports.polygene.kernels.wide import int128
else:
    from math import sqrt

    from polygene.kernels.exact import turn

    int128 = int


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
def _crossed(
    room: cython.longlong[:, ::1],
    i: cython.longlong,
    first: cython.longlong,
    stop: cython.longlong,
    found: cython.longlong,
    out_x: cython.longlong[::1],
    out_y: cython.longlong[::1],
) -> cython.longlong:
    """Cross edge i of a cell with those from ``first`` up to ``stop``; return how many are found.

    ``found`` is how many were before.
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
    border: cython.longlong = room[i, 6]
    wide: cython.double = cython.cast(cython.double, bx - ax)
    tall: cython.double = cython.cast(cython.double, by - ay)
    p: cython.double
    q: cython.double
    side: cython.double
    slack: cython.double
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
        if not border and not room[j, 6]:
            continue
        if (
            room[i, 4] == room[j, 4]
            or room[i, 5] == room[j, 5]
            or room[i, 4] == room[j, 5]
            or room[i, 5] == room[j, 4]
        ):
            continue
        cx = room[j, 0]
        dx = room[j, 2]
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
        if found < out_x.shape[0]:
            # e(t) = a + t (b - a), t = num / den by Cramer's rule, made positive.
            num = cython.cast(int128, cx - ax) * (dy - cy) - cython.cast(int128, cy - ay) * (
                dx - cx
            )
            den = cython.cast(int128, bx - ax) * (dy - cy) - cython.cast(int128, by - ay) * (
                dx - cx
            )
            if den < 0:
                num = -num
                den = -den
            out_x[found] = _rounded(ax, bx - ax, num, den)
            out_y[found] = _rounded(ay, by - ay, num, den)
        found += 1
    return found


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _sort_by(
    values: cython.double[:, ::1], order: cython.longlong[::1], n: cython.longlong
) -> cython.void:
    """Sort ``order[:n]`` by the first column of values (Shell 1959)."""
    gap: cython.longlong = 1
    i: cython.longlong
    j: cython.longlong
    item: cython.longlong
    while gap < n // 3:
        gap = 3 * gap + 1
    while gap > 0:
        for i in range(gap, n):
            item = order[i]
            j = i
            while j >= gap and values[order[j - gap], 0] > values[item, 0]:
                order[j] = order[j - gap]
                j -= gap
            order[j] = item
        gap //= 3


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _lie_across(
    cell: cython.longlong,
    boxes: cython.longlong[:, ::1],
    box: cython.longlong,
    entries: cython.longlong[::1],
    first: cython.longlong,
    stop: cython.longlong,
    x0: cython.longlong[::1],
    y0: cython.longlong[::1],
    x1: cython.longlong[::1],
    y1: cython.longlong[::1],
    frame: cython.double[::1],
    ranges: cython.double[:, ::1],
) -> cython.void:
    """Set how far the edges of a cell reach across the direction that most of them have.

    Of each edge only what lies in the cell, or up to five units beside it, counts; ``ranges[k]`` is
    the least and the greatest distance, to the left, from a line through the cell's middle. What
    meets in the cell has ranges that overlap, but for an error far below a grid unit. ``frame``
    becomes the middle and the direction.
    """
    k: cython.longlong
    e: cython.longlong
    side: cython.longlong = boxes[box, 2]
    n_columns: cython.longlong = boxes[box, 3]
    half: cython.double = 0.5 * cython.cast(cython.double, side) + 5.0
    middle_x: cython.longlong = (
        boxes[box, 0] + (cell - boxes[box, 5]) % n_columns * side + side // 2
    )
    middle_y: cython.longlong = (
        boxes[box, 1] + (cell - boxes[box, 5]) // n_columns * side + side // 2
    )
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
    # Directions are the same back and forth: add them up at twice the angle, by length.
    for k in range(first, stop):
        e = entries[k]
        dx = x1[e] - x0[e]
        dy = y1[e] - y0[e]
        size = sqrt(dx * dx + dy * dy)
        along += (dx * dx - dy * dy) / size
        across += 2 * dx * dy / size
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
        ax = x0[e] - middle_x
        ay = y0[e] - middle_y
        dx = x1[e] - x0[e]
        dy = y1[e] - y0[e]
        # Clip to the square about the middle (Liang and Barsky 1984).
        from_t = 0.0
        to_t = 1.0
        if dx > 0:
            from_t = max(from_t, (-half - ax) / dx)
            to_t = min(to_t, (half - ax) / dx)
        if dy > 0:
            from_t = max(from_t, (-half - ay) / dy)
            to_t = min(to_t, (half - ay) / dy)
        elif dy < 0:
            from_t = max(from_t, (half - ay) / dy)
            to_t = min(to_t, (-half - ay) / dy)
        if from_t > to_t:
            ranges[k - first, 0] = 1e300
            ranges[k - first, 1] = -1e300
            continue
        p = cosine * (ay + from_t * dy) - sine * (ax + from_t * dx)
        q = cosine * (ay + to_t * dy) - sine * (ax + to_t * dx)
        ranges[k - first, 0] = p if p < q else q
        ranges[k - first, 1] = q if p < q else p


def cross_edges(
    boxes: cython.longlong[:, ::1],
    leaves: cython.longlong[::1],
    cell_offsets: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
    x0: cython.longlong[::1],
    y0: cython.longlong[::1],
    x1: cython.longlong[::1],
    y1: cython.longlong[::1],
    low_node: cython.longlong[::1],
    high_node: cython.longlong[::1],
    is_border: cython.uchar[::1],
    crowd: cython.longlong,
    room: cython.longlong[:, ::1],
    ranges: cython.double[:, ::1],
    order: cython.longlong[::1],
    frame: cython.double[::1],
    out_x: cython.longlong[::1],
    out_y: cython.longlong[::1],
) -> cython.longlong:
    """Round every proper crossing of two edges to the grid; return how many were found.

    Edges run from their lexicographically smaller end (x0, y0, low_node) to the larger. Two edges
    that are both no border are not crossed with each other. Crossings found in several cells are
    repeated. At most ``len(out_x)`` are stored: call again with more room if more are returned.
    Leaves rise. In those of more than ``crowd`` edges only such are compared as overlap across the
    direction of most: in a bundle, neighbours.

    ``room`` is (edges of the fullest leaf, 7), ``ranges`` as many by 2, ``order`` as many, ``frame`` 4.

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
            for i in range(n):
                order[i] = i
            if n > crowd:
                while b + 1 < boxes.shape[0] and boxes[b + 1, 5] <= cell:
                    b += 1
                _lie_across(
                    cell, boxes, b, cell_entries, cell_offsets[cell], cell_offsets[cell + 1],
                    x0, y0, x1, y1, frame, ranges,
                )  # fmt: skip
                _sort_by(ranges, order, n)
            # The cell's edges side by side: pairs of them would else wait for memory.
            for i in range(n):
                e = cell_entries[cell_offsets[cell] + order[i]]
                room[i, 0] = x0[e]
                room[i, 1] = y0[e]
                room[i, 2] = x1[e]
                room[i, 3] = y1[e]
                room[i, 4] = low_node[e]
                room[i, 5] = high_node[e]
                room[i, 6] = is_border[e]
            if n <= crowd:
                for i in range(1, n):
                    found = _crossed(room, i, 0, i, found, out_x, out_y)
                continue
            for i in range(n):
                reach = ranges[order[i], 1] + 0.125
                k = i + 1
                while k < n and ranges[order[k], 0] <= reach:
                    k += 1
                found = _crossed(room, i, i + 1, k, found, out_x, out_y)
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
    x0: cython.longlong[::1],
    y0: cython.longlong[::1],
    x1: cython.longlong[::1],
    y1: cython.longlong[::1],
    low_node: cython.longlong[::1],
    high_node: cython.longlong[::1],
    is_border: cython.uchar[::1],
    is_border_node: cython.uchar[::1],
    crowd: cython.longlong,
    ranges: cython.double[:, ::1],
    places: cython.double[:, ::1],
    order: cython.longlong[::1],
    frame: cython.double[::1],
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
    of most edges; ``ranges`` is (edges of the fullest leaf, 2), ``places`` (nodes of the fullest, 2),
    ``order`` as many, ``frame`` 4.
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
    middle: cython.longlong
    stop: cython.longlong
    wide: cython.double
    tall: cython.double
    left: cython.double
    right: cython.double
    gap: cython.double
    reach: cython.double = 0.0
    is_sorted: cython.int
    width: int128
    cross: int128
    with cython.nogil:
        for c in range(leaves.shape[0]):
            cell = leaves[c]
            n = node_offsets[cell + 1] - node_offsets[cell]
            if n == 0:
                continue
            first = 0
            stop = n
            is_sorted = n > crowd and cell_offsets[cell + 1] - cell_offsets[cell] > crowd
            for q in range(n):
                order[q] = q
            if is_sorted:
                while b + 1 < boxes.shape[0] and boxes[b + 1, 5] <= cell:
                    b += 1
                _lie_across(
                    cell, boxes, b, cell_entries, cell_offsets[cell], cell_offsets[cell + 1],
                    x0, y0, x1, y1, frame, ranges,
                )  # fmt: skip
                for q in range(n):
                    v = cell_nodes[node_offsets[cell] + q]
                    places[q, 0] = frame[2] * (node_y[v] - frame[1]) - frame[3] * (
                        node_x[v] - frame[0]
                    )
                _sort_by(places, order, n)
            for p in range(cell_offsets[cell], cell_offsets[cell + 1]):
                if is_sorted:
                    # Nodes at most two units from the edge, so at most three across.
                    reach = ranges[p - cell_offsets[cell], 0] - 4.0
                    first = 0
                    stop = n
                    while first < stop:
                        middle = (first + stop) // 2
                        if places[order[middle], 0] < reach:
                            first = middle + 1
                        else:
                            stop = middle
                    reach = ranges[p - cell_offsets[cell], 1] + 4.0
                    stop = n
                e = cell_entries[p]
                ax = x0[e]
                ay = y0[e]
                bx = x1[e]
                by = y1[e]
                low = (ay if ay < by else by) - 2
                high = (by if ay < by else ay) + 2
                wide = cython.cast(cython.double, bx - ax)
                tall = cython.cast(cython.double, by - ay)
                for q in range(first, stop):
                    if is_sorted and places[order[q], 0] > reach:
                        break
                    v = cell_nodes[node_offsets[cell] + order[q]]
                    vx = node_x[v]
                    vy = node_y[v]
                    if vx < ax - 2 or vx > bx + 2 or vy < low or vy > high:
                        continue
                    if v == low_node[e] or v == high_node[e]:
                        continue
                    if not is_border[e] and not is_border_node[v]:
                        continue
                    # Separating axes: the edge's line against the box of half side 2.5 about v. Most
                    # are further off than floating point can be wrong.
                    left = wide * cython.cast(cython.double, vy - ay)
                    right = tall * cython.cast(cython.double, vx - ax)
                    gap = left - right if left > right else right - left
                    left = (left if left > 0 else -left) + (right if right > 0 else -right)
                    if gap > 2.6 * (wide + (tall if tall > 0 else -tall)) + 1e-15 * left:
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
