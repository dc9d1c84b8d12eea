"""Exact predicates on doubles, and how edges of one row meet.

`orient` first asks floating point; where that is in doubt, the determinant is summed up exactly as an
expansion (Shewchuk 1997, "Adaptive precision floating-point arithmetic and fast robust geometric
predicates"). Coordinates must not be so large or small that products over- or underflow.
"""

import cython

if cython.compiled:
    from cython.cimports.libc.math import fabs
    from cython.cimports.polygene.kernels.crowds import lie_across, look_at, sort_by
else:
    from math import fabs

    from polygene.kernels.crowds import lie_across, look_at, sort_by

# Units of the grid of the cells that edges which meet may be apart on it: each end is off by one at
# most in x and in y.
APART = cython.declare(cython.double, 3.0)
# How wrong a determinant of two edges on that grid can be, for each unit that they are long and apart:
# a difference of two ends is off by one, and what floating point rounds is far below the rest of this.
OFF = cython.declare(cython.double, 1.25)
Point = cython.struct(x=cython.double, y=cython.double)
# How two edges meet, 0 for not at all, and a place where they do.
Meeting = cython.struct(kind=cython.longlong, x=cython.double, y=cython.double)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _grow(sums: cython.double[::1], n: cython.int, value: cython.double) -> cython.int:
    """Add a number to an expansion of n numbers, smallest first; return its new length."""
    i: cython.int
    k: cython.int = 0
    total: cython.double
    virtual: cython.double
    error: cython.double
    for i in range(n):
        total = value + sums[i]
        virtual = total - value
        error = (value - (total - virtual)) + (sums[i] - virtual)
        value = total
        if error != 0:
            sums[k] = error
            k += 1
    if value != 0 or k == 0:
        sums[k] = value
        k += 1
    return k


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _add_product(
    sums: cython.double[::1], n: cython.int, a: cython.double, b: cython.double
) -> cython.int:
    """Add a * b to an expansion, exactly (Dekker's product)."""
    splitter: cython.double = 134217729.0
    c: cython.double = splitter * a
    a_high: cython.double = c - (c - a)
    a_low: cython.double = a - a_high
    c = splitter * b
    b_high: cython.double = c - (c - b)
    b_low: cython.double = b - b_high
    product: cython.double = a * b
    error: cython.double = a_low * b_low - (
        ((product - a_high * b_high) - a_low * b_high) - a_high * b_low
    )
    n = _grow(sums, n, error)
    return _grow(sums, n, product)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def orient(
    ax: cython.double,
    ay: cython.double,
    bx: cython.double,
    by: cython.double,
    cx: cython.double,
    cy: cython.double,
    sums: cython.double[::1],
) -> cython.int:
    """Return +1 if a, b, c turn left, -1 if right, 0 if straight. Exact; ``sums`` (16,) is room."""
    left: cython.double = (ax - cx) * (by - cy)
    right: cython.double = (ay - cy) * (bx - cx)
    found: cython.double = left - right
    size: cython.double = (left if left > 0 else -left) + (right if right > 0 else -right)
    n: cython.int = 0
    if found > 3.3306690738754716e-16 * size:
        return 1
    if -found > 3.3306690738754716e-16 * size:
        return -1
    # One end of the other, or all on a line along an axis, as most that are straight are.
    if (ax == cx or by == cy) and (ay == cy or bx == cx):
        return 0
    sums[0] = 0.0
    n = 1
    n = _add_product(sums, n, ax, by)
    n = _add_product(sums, n, -ax, cy)
    n = _add_product(sums, n, -cx, by)
    n = _add_product(sums, n, -ay, bx)
    n = _add_product(sums, n, ay, cx)
    n = _add_product(sums, n, cy, bx)
    if sums[n - 1] > 0:
        return 1
    if sums[n - 1] < 0:
        return -1
    return 0


if not cython.compiled:  # compiled it is that of the .pxd
    side_of = orient


def turns(
    a: cython.double[:, ::1],
    b: cython.double[:, ::1],
    c: cython.double[:, ::1],
    sums: cython.double[::1],
    found: cython.longlong[::1],
) -> None:
    """Set for each a, b, c (n, 2) what `orient` says of them."""
    k: cython.Py_ssize_t
    with cython.nogil:
        for k in range(found.shape[0]):
            found[k] = orient(a[k, 0], a[k, 1], b[k, 0], b[k, 1], c[k, 0], c[k, 1], sums)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def is_within(
    px: cython.double,
    py: cython.double,
    ax: cython.double,
    ay: cython.double,
    bx: cython.double,
    by: cython.double,
) -> cython.int:
    """Return 1 if p lies in the box of a and b."""
    if px < ax and px < bx:
        return 0
    if px > ax and px > bx:
        return 0
    if py < ay and py < by:
        return 0
    if py > ay and py > by:
        return 0
    return 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _on_one_line(
    a: Point, b: Point, c: Point, d: Point, f_follows: cython.int, e_follows: cython.int
) -> Meeting:
    """Say how the edges ab and cd meet, which lie on one line and whose boxes meet.

    They touch (3) where an end of one is an end of the other and they lead away from there; else more
    than a point is in both (2). Neighbours in their ring may touch, and may not run back.
    """
    found: Meeting = Meeting(kind=0, x=0.0, y=0.0)
    size: cython.double = (b.x - a.x) * (d.x - c.x) + (b.y - a.y) * (d.y - c.y)
    if (f_follows or e_follows) and size > 0:
        return found
    if (b.x == c.x and b.y == c.y and size > 0) or (b.x == d.x and b.y == d.y and size < 0):
        found = Meeting(kind=3, x=b.x, y=b.y)
    elif (a.x == d.x and a.y == d.y and size > 0) or (a.x == c.x and a.y == c.y and size < 0):
        found = Meeting(kind=3, x=a.x, y=a.y)
    elif is_within(c.x, c.y, a.x, a.y, b.x, b.y):
        return Meeting(kind=2, x=c.x, y=c.y)
    elif is_within(d.x, d.y, a.x, a.y, b.x, b.y):
        return Meeting(kind=2, x=d.x, y=d.y)
    else:
        return Meeting(kind=2, x=a.x, y=a.y)
    if f_follows or e_follows:
        found.kind = 0
    return found


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _crossing(a: Point, b: Point, c: Point, d: Point) -> Meeting:
    """Return where the edges ab and cd cross, as near as floating point can say."""
    size: cython.double = (b.x - a.x) * (d.y - c.y) - (b.y - a.y) * (d.x - c.x)
    t: cython.double = 0.5
    if size != 0:
        t = ((c.x - a.x) * (d.y - c.y) - (c.y - a.y) * (d.x - c.x)) / size
    return Meeting(kind=1, x=a.x + t * (b.x - a.x), y=a.y + t * (b.y - a.y))


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _meeting(
    a: Point,
    b: Point,
    c: Point,
    d: Point,
    f_follows: cython.int,
    e_follows: cython.int,
    sums: cython.double[::1],
) -> Meeting:
    """Say how the edge e from a to b and the edge f from c to d meet, other than as neighbours may.

    ``f_follows`` and ``e_follows`` say that one is the next of the other in their ring. Exact, but for
    the place of a crossing.
    """
    found: Meeting = Meeting(kind=0, x=0.0, y=0.0)
    c_side: cython.int
    d_side: cython.int
    a_side: cython.int
    b_side: cython.int
    if (
        (c.x > a.x and c.x > b.x and d.x > a.x and d.x > b.x)
        or (c.x < a.x and c.x < b.x and d.x < a.x and d.x < b.x)
        or (c.y > a.y and c.y > b.y and d.y > a.y and d.y > b.y)
        or (c.y < a.y and c.y < b.y and d.y < a.y and d.y < b.y)
    ):
        return found
    c_side = orient(a.x, a.y, b.x, b.y, c.x, c.y, sums)
    d_side = orient(a.x, a.y, b.x, b.y, d.x, d.y, sums)
    if c_side * d_side > 0:
        return found
    a_side = orient(c.x, c.y, d.x, d.y, a.x, a.y, sums)
    b_side = orient(c.x, c.y, d.x, d.y, b.x, b.y, sums)
    if a_side * b_side > 0:
        return found
    if c_side == 0 and d_side == 0:
        return _on_one_line(a, b, c, d, f_follows, e_follows)
    if c_side != 0 and d_side != 0 and a_side != 0 and b_side != 0:
        return _crossing(a, b, c, d)
    # An end of one lies on the line of the other: on the other itself?
    if c_side == 0 and is_within(c.x, c.y, a.x, a.y, b.x, b.y):
        found = Meeting(kind=3, x=c.x, y=c.y)
    elif d_side == 0 and is_within(d.x, d.y, a.x, a.y, b.x, b.y):
        found = Meeting(kind=3, x=d.x, y=d.y)
    elif a_side == 0 and is_within(a.x, a.y, c.x, c.y, d.x, d.y):
        found = Meeting(kind=3, x=a.x, y=a.y)
    elif b_side == 0 and is_within(b.x, b.y, c.x, c.y, d.x, d.y):
        found = Meeting(kind=3, x=b.x, y=b.y)
    if f_follows and found.x == b.x and found.y == b.y:
        found.kind = 0
    if e_follows and found.x == a.x and found.y == a.y:
        found.kind = 0
    return found


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _meet_others(
    i: cython.longlong,
    others: cython.longlong[:, ::1],
    room: cython.double[:, ::1],
    first_other: cython.longlong,
    stop: cython.longlong,
    xy: cython.double[:, ::1],
    start: cython.longlong[::1],
    following: cython.longlong[::1],
    row: cython.longlong[::1],
    sums: cython.double[::1],
    n: cython.longlong,
    first: cython.longlong[::1],
    second: cython.longlong[::1],
    kind: cython.longlong[::1],
    place: cython.double[:, ::1],
) -> cython.longlong:
    """Store how edge i of ``others[0]`` meets some that follow, n found before; return how many are.

    ``room`` are those edges on the grid of the cells, side by side.
    """
    k: cython.longlong
    e: cython.longlong = others[0, i]
    f: cython.longlong
    g: cython.longlong
    found: Meeting
    a: Point
    b: Point
    c: Point
    d: Point
    ax: cython.double = room[i, 0]
    ay: cython.double = room[i, 1]
    wide: cython.double = room[i, 2] - ax
    tall: cython.double = room[i, 3] - ay
    size: cython.double = fabs(wide) + fabs(tall)
    cx: cython.double
    cy: cython.double
    w: cython.double
    h: cython.double
    p: cython.double
    q: cython.double
    u: cython.double
    v: cython.double
    off: cython.double
    for k in range(first_other, stop):
        # Most are so far apart that it can be told on the grid: both ends of one to one side of the
        # other. Which of the four it is cannot be foreseen, so there is a single branch.
        cx = room[k, 0] - ax
        cy = room[k, 1] - ay
        w = room[k, 2] - room[k, 0]
        h = room[k, 3] - room[k, 1]
        off = OFF * (size + fabs(cx) + fabs(cy) + fabs(w) + fabs(h)) + 4
        p = wide * cy - tall * cx
        q = wide * (cy + h) - tall * (cx + w)
        u = h * cx - w * cy
        v = u + w * tall - h * wide
        if (
            ((p > off) & (q > off))
            | ((p < -off) & (q < -off))
            | ((u > off) & (v > off))
            | ((u < -off) & (v < -off))
        ):
            continue
        # The lower first, in whatever order they come: the place hangs on that.
        f = min(e, others[0, k])
        g = max(e, others[0, k])
        if row[f] != row[g]:
            continue
        a = Point(x=xy[start[f], 0], y=xy[start[f], 1])
        b = Point(x=xy[start[f] + 1, 0], y=xy[start[f] + 1, 1])
        c = Point(x=xy[start[g], 0], y=xy[start[g], 1])
        d = Point(x=xy[start[g] + 1, 0], y=xy[start[g] + 1, 1])
        found = _meeting(a, b, c, d, following[f] == g, following[g] == f, sums)
        if found.kind == 0:
            continue
        # Where edges end others begin, which meet there too: of the four pairs at such a point one is
        # enough, or those of many rings in one point would be four times as many.
        if found.kind == 3 and (
            (found.x == b.x and found.y == b.y) or (found.x == d.x and found.y == d.y)
        ):
            continue
        if n < first.shape[0]:
            first[n] = f
            second[n] = g
            kind[n] = found.kind
            place[n, 0] = found.x
            place[n, 1] = found.y
        n += 1
    return n


def find_meetings(
    boxes: cython.longlong[:, ::1],
    leaves: cython.longlong[::1],
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    xy: cython.double[:, ::1],
    start: cython.longlong[::1],
    following: cython.longlong[::1],
    row: cython.longlong[::1],
    crowd: cython.longlong,
    room: cython.double[:, ::1],
    ranges: cython.double[:, ::1],
    keys: cython.double[:, ::1],
    order: cython.longlong[:, ::1],
    frame: cython.double[::1],
    window: cython.double[::1],
    sums: cython.double[::1],
    first: cython.longlong[::1],
    second: cython.longlong[::1],
    kind: cython.longlong[::1],
    place: cython.double[:, ::1],
) -> cython.longlong:
    """Find pairs of edges of one row that meet otherwise than in the vertex between neighbours.

    Edge e runs from vertex ``start[e]`` to the next; ``following[e]`` is the next edge of its ring.
    ``ends`` are the edges on the grid of the cells: they lie less than one and a half units from the
    edges themselves. Leaves rise. In those of more than ``crowd`` edges only such are compared as
    overlap across the direction of most.

    Pairs come once for each cell that both are in, if it is not plain on the grid that they do not
    meet. ``kind`` is 1 where they cross, 2 where they run
    along each other, 3 where one begins on the other, which does not end there; ``place`` (n, 2) is one
    such place, for 3 the exact one. Returns how many there are; stored as far as there is room.

    ``ranges`` and ``room`` are (edges of the fullest leaf, 4), ``keys`` and ``order`` 1 by as many,
    ``frame`` and ``window`` 4, ``sums`` 16.
    """
    leaf: cython.Py_ssize_t
    cell: cython.longlong
    box: cython.longlong = 0
    i: cython.longlong
    k: cython.longlong
    e: cython.longlong
    base: cython.longlong
    size: cython.longlong
    reach: cython.double
    n: cython.longlong = 0
    with cython.nogil:
        for leaf in range(leaves.shape[0]):
            cell = leaves[leaf]
            size = offsets[cell + 1] - offsets[cell]
            base = entries[offsets[cell]] if size > 0 else 0
            if size > crowd:
                box = look_at(cell, boxes, box, window)
                lie_across(window, entries, offsets[cell], offsets[cell + 1], ends, frame, ranges)
                sort_by(ranges, 0, size, keys, order)
            # From here on ``order`` holds edges, no places in the cell.
            for i in range(size):
                k = order[0, i] if size > crowd else i
                if size > crowd:
                    # How far it reaches, in the place of where it begins: that is in the keys.
                    ranges[i, 0] = ranges[k, 2]
                e = entries[offsets[cell] + k]
                order[0, i] = e
                for k in range(4):
                    room[i, k] = cython.cast(cython.double, ends[e, k] - ends[base, k & 1])
            for i in range(size):
                k = size
                if size > crowd:
                    reach = ranges[i, 0] + APART
                    k = i + 1
                    while k < size and keys[0, k] <= reach:
                        k += 1
                n = _meet_others(
                    i, order, room, i + 1, k, xy, start, following, row, sums,
                    n, first, second, kind, place,
                )  # fmt: skip
    return n
