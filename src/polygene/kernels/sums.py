"""Exact sums of areas on the grid, in 128 bits; sums of numbers with what rounding loses.

A sum is kept in two words: ``high * 2**60 + low`` with 0 <= low < 2**60. Grid integers are below
2**41, so twice the triangle of an edge and the origin stays below 2**83, and a thousand million
million of them fit.
"""

import cython

if cython.compiled:
    from cython.cimports.libc.math import fabs, sqrt
    from cython.cimports.polygene.kernels.wide import int128
else:
    from math import fabs, sqrt

    int128 = int


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _cross(
    ax: cython.longlong, ay: cython.longlong, bx: cython.longlong, by: cython.longlong
) -> int128:
    """Return twice the area of the triangle of the origin, a and b."""
    return cython.cast(int128, ax) * by - cython.cast(int128, bx) * ay


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _add(
    amount: int128, high: cython.longlong[::1], low: cython.longlong[::1], k: cython.longlong
) -> cython.void:
    total: int128 = amount + low[k]
    carry: int128 = total >> 60
    high[k] += cython.cast(cython.longlong, carry)
    low[k] = cython.cast(cython.longlong, total - (carry << 60))


def add_numbers(
    group: cython.const[cython.longlong][::1],
    values: cython.const[cython.double][::1],
    first: cython.longlong,
    stop: cython.longlong,
    n_lanes: cython.longlong,
    total: cython.double[:, ::1],
    rest: cython.double[:, ::1],
    off: cython.double[:, ::1],
    counts: cython.longlong[:, ::1],
) -> None:
    """Add numbers first to stop to the total of their group, and what rounding loses there to the rest.

    What is lost in one addition is a number itself, found exactly (Knuth, The Art of Computer
    Programming 2, 4.2.2, theorem B). The rest loses in its turn what ``off`` sums without signs:
    where that is 0, total and rest are the sum. ``counts`` gets how many there are. Each is
    (n_groups, n_lanes): numbers are dealt out over the lanes, a power of two, so that one addition
    need not wait for the one before it.
    """
    i: cython.Py_ssize_t
    g: cython.longlong
    lane: cython.longlong
    before: cython.double
    after: cython.double
    added: cython.double
    lost: cython.double
    with cython.nogil:
        for i in range(first, stop):
            g = group[i]
            lane = i & (n_lanes - 1)
            before = total[g, lane]
            after = before + values[i]
            added = after - before
            lost = (before - (after - added)) + (values[i] - added)
            total[g, lane] = after
            before = rest[g, lane]
            after = before + lost
            added = after - before
            rest[g, lane] = after
            off[g, lane] += fabs((before - (after - added)) + (lost - added))
            counts[g, lane] += 1


def add_faces(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    start: cython.longlong[::1],
    stop: cython.longlong[::1],
    face_of_halfedge: cython.int[::1],
    high: cython.longlong[::1],
    low: cython.longlong[::1],
) -> None:
    """Add twice the triangle of each edge to the face on its left, take it from that on its right."""
    e: cython.Py_ssize_t
    a: cython.longlong
    b: cython.longlong
    area: int128
    with cython.nogil:
        for e in range(start.shape[0]):
            a = face_of_halfedge[2 * e]
            b = face_of_halfedge[2 * e + 1]
            if a == b:
                continue
            area = _cross(x[start[e]], y[start[e]], x[stop[e]], y[stop[e]])
            _add(area, high, low, a)
            _add(-area, high, low, b)


def add_lengths(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    start: cython.longlong[::1],
    stop: cython.longlong[::1],
    face_of_halfedge: cython.int[::1],
    around: cython.double[::1],
) -> None:
    """Add the length of each edge to ``around`` (n_faces,) of the faces on both sides."""
    e: cython.Py_ssize_t
    dx: cython.double
    dy: cython.double
    length: cython.double
    with cython.nogil:
        for e in range(start.shape[0]):
            dx = cython.cast(cython.double, x[stop[e]] - x[start[e]])
            dy = cython.cast(cython.double, y[stop[e]] - y[start[e]])
            length = sqrt(dx * dx + dy * dy)
            around[face_of_halfedge[2 * e]] += length
            around[face_of_halfedge[2 * e + 1]] += length


def add_moves(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    dx: cython.double[::1],
    dy: cython.double[::1],
    start: cython.longlong[::1],
    stop: cython.longlong[::1],
    face_of_halfedge: cython.int[::1],
    moves: cython.double[::1],
) -> None:
    """Add to ``moves`` by how much twice the areas of faces change when nodes move by (dx, dy).

    Ways of a unit or less times coordinates: what is lost is a thousandth of a square unit an edge.
    """
    e: cython.Py_ssize_t
    a: cython.longlong
    b: cython.longlong
    moved: cython.double
    with cython.nogil:
        for e in range(start.shape[0]):
            a = start[e]
            b = stop[e]
            moved = (
                dx[a] * y[b]
                + x[a] * dy[b]
                - dx[b] * y[a]
                - x[b] * dy[a]
                + dx[a] * dy[b]
                - dx[b] * dy[a]
            )
            moves[face_of_halfedge[2 * e]] += moved
            moves[face_of_halfedge[2 * e + 1]] -= moved


def add_shares(
    shares: cython.double[::1],
    face_of_halfedge: cython.int[::1],
    high: cython.longlong[::1],
    low: cython.longlong[::1],
) -> None:
    """Add the whole part of each share to the face left of its edge, take it from that on the right."""
    e: cython.Py_ssize_t
    share: int128
    with cython.nogil:
        for e in range(shares.shape[0]):
            share = cython.cast(int128, shares[e])
            _add(share, high, low, face_of_halfedge[2 * e])
            _add(-share, high, low, face_of_halfedge[2 * e + 1])


def add_rows(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    start: cython.longlong[::1],
    stop: cython.longlong[::1],
    delta_offsets: cython.longlong[::1],
    delta_part: cython.int[::1],
    delta_sign: cython.schar[::1],
    row_of_part: cython.longlong[::1],
    high: cython.longlong[::1],
    low: cython.longlong[::1],
) -> None:
    """Add twice the triangle of each edge to the rows whose borders run over it."""
    e: cython.Py_ssize_t
    k: cython.longlong
    area: int128
    with cython.nogil:
        for e in range(start.shape[0]):
            area = _cross(x[start[e]], y[start[e]], x[stop[e]], y[stop[e]])
            for k in range(delta_offsets[e], delta_offsets[e + 1]):
                _add(area * delta_sign[k], high, low, row_of_part[delta_part[k]])


def add_outline(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    start: cython.int[::1],
    stop: cython.int[::1],
    part: cython.int[::1],
    sign: cython.schar[::1],
    row_of_part: cython.longlong[::1],
    high: cython.longlong[::1],
    low: cython.longlong[::1],
    lengths: cython.double[::1],
) -> None:
    """Add twice the triangle of each edge to its row, and to ``lengths`` its size in x and in y."""
    e: cython.Py_ssize_t
    a: cython.longlong
    b: cython.longlong
    r: cython.longlong
    with cython.nogil:
        for e in range(start.shape[0]):
            a = start[e]
            b = stop[e]
            r = row_of_part[part[e]]
            _add(_cross(x[a], y[a], x[b], y[b]) * sign[e], high, low, r)
            lengths[r] += fabs(cython.cast(cython.double, x[b] - x[a])) + fabs(
                cython.cast(cython.double, y[b] - y[a])
            )


def add_rings(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    origin: cython.int[::1],
    halfedge: cython.int[::1],
    ring_offsets: cython.longlong[::1],
    keeps: cython.uchar[::1],
    piece: cython.longlong[::1],
    high: cython.longlong[::1],
    low: cython.longlong[::1],
    kept_high: cython.longlong[::1],
    kept_low: cython.longlong[::1],
    straightened: cython.double[::1],
) -> None:
    """Add up rings by piece: with all their nodes, and with those kept.

    ``straightened`` gets the size in x and y of the edges that pass over nodes not kept.
    """
    r: cython.Py_ssize_t
    k: cython.longlong
    a: cython.longlong
    b: cython.longlong
    last: cython.longlong
    first: cython.longlong
    stop: cython.longlong
    p: cython.longlong
    skipped: cython.int
    area: int128
    kept_area: int128
    with cython.nogil:
        for r in range(ring_offsets.shape[0] - 1):
            stop = ring_offsets[r + 1]
            p = piece[r]
            area = 0
            kept_area = 0
            first = -1
            last = -1
            skipped = 0
            for k in range(ring_offsets[r], stop):
                a = origin[halfedge[k]]
                b = origin[halfedge[k + 1 if k + 1 < stop else ring_offsets[r]]]
                area += _cross(x[a], y[a], x[b], y[b])
                if not keeps[k]:
                    skipped = 1
                    continue
                if last >= 0:
                    kept_area += _cross(x[last], y[last], x[a], y[a])
                    if skipped:
                        straightened[p] += fabs(cython.cast(cython.double, x[a] - x[last])) + fabs(
                            cython.cast(cython.double, y[a] - y[last])
                        )
                        skipped = 0
                else:
                    first = a
                last = a
            if last >= 0:
                kept_area += _cross(x[last], y[last], x[first], y[first])
                straightened[p] += fabs(cython.cast(cython.double, x[first] - x[last])) + fabs(
                    cython.cast(cython.double, y[first] - y[last])
                )
            _add(area, high, low, p)
            _add(kept_area, kept_high, kept_low, p)


def add_groups(
    group: cython.longlong[::1],
    item: cython.longlong[::1],
    high: cython.longlong[::1],
    low: cython.longlong[::1],
    group_high: cython.longlong[::1],
    group_low: cython.longlong[::1],
) -> None:
    """Add the sums of items to those of groups: ``item[k]`` to ``group[k]``."""
    k: cython.Py_ssize_t
    g: cython.longlong
    total: cython.longlong
    carry: cython.longlong
    with cython.nogil:
        for k in range(group.shape[0]):
            g = group[k]
            total = group_low[g] + low[item[k]]
            carry = total >> 60
            group_high[g] += high[item[k]] + carry
            group_low[g] = total - (carry << 60)
