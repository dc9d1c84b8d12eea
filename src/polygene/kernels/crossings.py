"""Crossings of edges, found cell by cell, and rounded to the grid."""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.crowds import fetch_edges, lie_across, look_at, sort_by
    from cython.cimports.polygene.kernels.exact import turn
    from cython.cimports.polygene.kernels.wide import int128
else:
    from polygene.kernels.crowds import fetch_edges, lie_across, look_at, sort_by
    from polygene.kernels.exact import turn

    int128 = int

# How wrong a sum of products of lengths and coordinates in cells can be, for each unit of length. All
# differences of coordinates are exact and below 2**42; products and sums round by 2**-53 of their size.
ROUNDING = cython.declare(cython.double, 2.0**-48 * 2.0**42)
# More than how near a node must come to an edge to count in `pixels`, for each unit of length, and how
# far it may lie from the box about the edge.
NEAR = cython.declare(cython.double, 2.75)
BESIDE = cython.declare(cython.double, 3.0)


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
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _is_beside(
    room: cython.double[:, ::1], i: cython.longlong, x: cython.double, y: cython.double
) -> cython.bint:
    """Return whether a node is in the box about edge i of a cell, or little beside."""
    return (
        (x >= room[i, 0] - BESIDE)
        & (x <= room[i, 2] + BESIDE)
        & (y >= room[i, 5] - BESIDE)
        & (y <= room[i, 6] + BESIDE)
    )


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _crossed(
    room: cython.double[:, ::1],
    i: cython.longlong,
    first: cython.longlong,
    stop: cython.longlong,
    window: cython.double[::1],
    found: cython.longlong,
    out_x: cython.longlong[::1],
    out_y: cython.longlong[::1],
    cell: cython.longlong,
    is_quiet: cython.uchar[::1],
) -> cython.longlong:
    """Cross edge i of a cell with those from ``first`` up to ``stop``; return how many are found.

    ``found`` is how many were before. Crossings more than a unit outside of ``window``, the cell, are
    left to the cells that they lie in. Where others may be, or an end of one comes near the other,
    ``is_quiet[cell]`` becomes 0.
    """
    j: cython.longlong
    ax: cython.double = room[i, 0]
    ay: cython.double = room[i, 1]
    bx: cython.double = room[i, 2]
    by: cython.double = room[i, 3]
    border: cython.double = room[i, 4]
    left: cython.double = ax - BESIDE
    right: cython.double = bx + BESIDE
    low: cython.double = room[i, 5] - BESIDE
    high: cython.double = room[i, 6] + BESIDE
    wide: cython.double = bx - ax
    tall: cython.double = by - ay
    side: cython.double = window[2] - window[0]
    length: cython.double = wide + (tall if tall > 0 else -tall)
    slack: cython.double = ROUNDING * length
    shift: cython.double = wide * ay - tall * ax
    cx: cython.double
    cy: cython.double
    dx: cython.double
    dy: cython.double
    w: cython.double
    h: cython.double
    p: cython.double
    q: cython.double
    u: cython.double
    v: cython.double
    size: cython.double
    margin: cython.double
    # Which ends the two have in common.
    ac: cython.bint
    ad: cython.bint
    bc: cython.bint
    bd: cython.bint
    for j in range(first, stop):
        cx = room[j, 0]
        dx = room[j, 2]
        # Boxes apart: neither do they cross nor does an end come near. Which side it is cannot be
        # foreseen, so there is a single branch, here and below.
        if (right < cx) | (dx < left) | (high < room[j, 5]) | (room[j, 6] < low):
            continue
        cy = room[j, 1]
        dy = room[j, 3]
        w = dx - cx
        h = dy - cy
        # On which sides of the one the ends of the other lie, and how far off.
        p = wide * cy - tall * cx - shift
        q = wide * dy - tall * dx - shift
        u = w * (ay - cy) - h * (ax - cx)
        v = w * (by - cy) - h * (bx - cx)
        size = w + (h if h > 0 else -h)
        ac = (cx == ax) & (cy == ay)
        ad = (dx == ax) & (dy == ay)
        bc = (cx == bx) & (cy == by)
        bd = (dx == bx) & (dy == by)
        if is_quiet[cell] and (
            ((abs(p) <= NEAR * length) & (not (ac | bc)) & _is_beside(room, i, cx, cy))
            | ((abs(q) <= NEAR * length) & (not (ad | bd)) & _is_beside(room, i, dx, dy))
            | ((abs(u) <= NEAR * size) & (not (ac | ad)) & _is_beside(room, j, ax, ay))
            | ((abs(v) <= NEAR * size) & (not (bc | bd)) & _is_beside(room, j, bx, by))
        ):
            is_quiet[cell] = 0
        # Most of these have an end in common, or are apart by so much that floating point can tell:
        # both ends of one to one side of the other.
        margin = ROUNDING * size
        if (
            ((p > slack) & (q > slack))
            | ((p < -slack) & (q < -slack))
            | ((u > margin) & (v > margin))
            | ((u < -margin) & (v < -margin))
            | (ac | ad | bc | bd)
        ):
            continue
        if border == 0 and room[j, 4] == 0:
            continue
        # Where they cross, as far as floating point can tell: far outside of the cell?
        u = p - q
        if u > 4 * slack or u < -4 * slack:
            u = p / u
            margin = 1 + 4 * slack / (p - q if p > q else q - p) * size
            p = cx + u * w
            q = cy + u * h
            if p < -margin or q < -margin or p > side + margin or q > side + margin:
                continue
        is_quiet[cell] = 0
        if _exactly(window, room, i, j, found, out_x, out_y):
            found += 1
    return found


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _exactly(
    window: cython.double[::1],
    room: cython.double[:, ::1],
    i: cython.longlong,
    j: cython.longlong,
    found: cython.longlong,
    out_x: cython.longlong[::1],
    out_y: cython.longlong[::1],
) -> cython.int:
    """Return 1 if edges i and j of a cell cross in it; store where, as far as there is room.

    They have no end in common. Coordinates in ``room`` are whole numbers below 2**42 from the cell's
    corner, so exact as doubles.
    """
    ax: cython.longlong = cython.cast(cython.longlong, room[i, 0])
    ay: cython.longlong = cython.cast(cython.longlong, room[i, 1])
    bx: cython.longlong = cython.cast(cython.longlong, room[i, 2])
    by: cython.longlong = cython.cast(cython.longlong, room[i, 3])
    cx: cython.longlong = cython.cast(cython.longlong, room[j, 0])
    cy: cython.longlong = cython.cast(cython.longlong, room[j, 1])
    dx: cython.longlong = cython.cast(cython.longlong, room[j, 2])
    dy: cython.longlong = cython.cast(cython.longlong, room[j, 3])
    side: cython.double = window[2] - window[0]
    num: int128
    den: int128
    t: cython.double
    p: cython.double
    q: cython.double
    if turn(ax, ay, bx, by, cx, cy) * turn(ax, ay, bx, by, dx, dy) != -1:
        return 0
    if turn(cx, cy, dx, dy, ax, ay) * turn(cx, cy, dx, dy, bx, by) != -1:
        return 0
    # e(t) = a + t (b - a), t = num / den by Cramer's rule, made positive.
    num = cython.cast(int128, cx - ax) * (dy - cy) - cython.cast(int128, cy - ay) * (dx - cx)
    den = cython.cast(int128, bx - ax) * (dy - cy) - cython.cast(int128, by - ay) * (dx - cx)
    if den < 0:
        num = -num
        den = -den
    # Both are exact, so this is off by 2**-10 units at most.
    t = cython.cast(cython.double, num) / cython.cast(cython.double, den)
    p = ax + t * (bx - ax)
    q = ay + t * (by - ay)
    if p < -1 or q < -1 or p > side + 1 or q > side + 1:
        return 0
    if found < out_x.shape[0]:
        out_x[found] = _rounded(cython.cast(cython.longlong, window[0]) + ax, bx - ax, num, den)
        out_y[found] = _rounded(cython.cast(cython.longlong, window[1]) + ay, by - ay, num, den)
    return 1


def cross_edges(
    boxes: cython.longlong[:, ::1],
    leaves: cython.longlong[::1],
    cell_offsets: cython.longlong[::1],
    cell_entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    is_border: cython.uchar[::1],
    crowd: cython.longlong,
    room: cython.double[:, ::1],
    ranges: cython.double[:, ::1],
    keys: cython.double[:, ::1],
    order: cython.longlong[:, ::1],
    frame: cython.double[::1],
    window: cython.double[::1],
    out_x: cython.longlong[::1],
    out_y: cython.longlong[::1],
    is_quiet: cython.uchar[::1],
) -> cython.longlong:
    """Round every proper crossing of two edges to the grid; return how many were found.

    Edges run from their lexicographically smaller end (``ends``: x, y, x, y) to the larger. Two edges
    that are both no border are not crossed with each other. Crossings on the border of cells are
    repeated. At most ``len(out_x)`` are stored: call again with more room if more are returned.
    Leaves rise. In those of more than ``crowd`` edges only such are compared as overlap across the
    direction of most: in a bundle, neighbours.

    ``room`` is (edges of the fullest leaf, 7), ``ranges`` as many by 4, ``keys`` and ``order`` 1 by as
    many, ``frame`` and ``window`` 4.

    Touching and overlapping edges need no point here: one's end is then a grid point on the other.

    ``is_quiet[c]`` becomes 1 where nothing crosses in leaf c and no end of an edge comes near another
    one that it is no end of, so that there are no pixels to be found, but for those of nodes without
    an edge. Of crowded leaves it is not said.
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
            b = look_at(cell, boxes, b, window)
            is_quiet[c] = n <= crowd
            if c + 1 < leaves.shape[0]:
                e = leaves[c + 1]
                fetch_edges(cell_offsets[e], cell_offsets[e + 1], cell_entries, ends)
            if n > crowd:
                lie_across(
                    window,
                    cell_entries,
                    cell_offsets[cell],
                    cell_offsets[cell + 1],
                    ends,
                    frame,
                    ranges,
                )
                sort_by(ranges, 0, n, keys, order)
            # The cell's edges side by side: pairs of them would else wait for memory.
            for i in range(n):
                e = cell_entries[cell_offsets[cell] + (order[0, i] if n > crowd else i)]
                room[i, 0] = ends[e, 0] - window[0]
                room[i, 1] = ends[e, 1] - window[1]
                room[i, 2] = ends[e, 2] - window[0]
                room[i, 3] = ends[e, 3] - window[1]
                room[i, 4] = is_border[e]
                room[i, 5] = min(room[i, 1], room[i, 3])
                room[i, 6] = max(room[i, 1], room[i, 3])
            if n <= crowd:
                for i in range(1, n):
                    found = _crossed(room, i, 0, i, window, found, out_x, out_y, c, is_quiet)
                continue
            for i in range(n):
                reach = ranges[order[0, i], 2] + 0.125
                k = i + 1
                while k < n and keys[0, k] <= reach:
                    k += 1
                found = _crossed(room, i, i + 1, k, window, found, out_x, out_y, c, is_quiet)
    return found
