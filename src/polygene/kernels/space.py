"""The nearest among pieces of curves in space, through a tree of boxes.

Pieces are straight, from one end to the other, and stand for curves that leave them by no more than
their ``slack``. What is looked for is the way along the surface of an ellipsoid. Of two places a chord
c apart it is at least ``2 / bend * asin(bend * c / 2)``, where ``bend`` is the least curvature of any
section; at most the same with the greatest, ``steep`` (Schur's theorem), as far as that goes.
"""

import cython

if cython.compiled:
    from cython.cimports.libc.math import asin, sin, sqrt
else:
    from math import asin, sin, sqrt

FEW = cython.declare(cython.longlong, 8)  # children of a node, pieces of a leaf


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _between(low: cython.double, high: cython.double, t: cython.double) -> cython.double:
    return low if t < low else (high if t > high else t)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _gap(
    ends: cython.double[:, ::1],
    p: cython.longlong,
    other: cython.double[:, ::1],
    q: cython.longlong,
) -> cython.double:
    """Return the distance of two straight pieces in space (Ericson 2005, section 5.1.9)."""
    ux: cython.double = ends[p, 3] - ends[p, 0]
    uy: cython.double = ends[p, 4] - ends[p, 1]
    uz: cython.double = ends[p, 5] - ends[p, 2]
    vx: cython.double = other[q, 3] - other[q, 0]
    vy: cython.double = other[q, 4] - other[q, 1]
    vz: cython.double = other[q, 5] - other[q, 2]
    rx: cython.double = ends[p, 0] - other[q, 0]
    ry: cython.double = ends[p, 1] - other[q, 1]
    rz: cython.double = ends[p, 2] - other[q, 2]
    a: cython.double = ux * ux + uy * uy + uz * uz
    e: cython.double = vx * vx + vy * vy + vz * vz
    f: cython.double = vx * rx + vy * ry + vz * rz
    c: cython.double
    b: cython.double
    det: cython.double
    s: cython.double = 0.0
    t: cython.double = 0.0
    if a == 0:
        if e > 0:
            t = _between(0.0, 1.0, f / e)
    else:
        c = ux * rx + uy * ry + uz * rz
        if e == 0:
            s = _between(0.0, 1.0, -c / a)
        else:
            b = ux * vx + uy * vy + uz * vz
            det = a * e - b * b
            if det > 0:
                s = _between(0.0, 1.0, (b * f - c * e) / det)
            t = (b * s + f) / e
            if t < 0:
                t = 0.0
                s = _between(0.0, 1.0, -c / a)
            elif t > 1:
                t = 1.0
                s = _between(0.0, 1.0, (b - c) / a)
    rx = rx + s * ux - t * vx
    ry = ry + s * uy - t * vy
    rz = rz + s * uz - t * vz
    return sqrt(rx * rx + ry * ry + rz * rz)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _box_gap(
    box: cython.double[:, ::1], n: cython.longlong, own: cython.double[::1]
) -> cython.double:
    """Return the squared distance of a node's box to another."""
    k: cython.longlong
    d: cython.double
    total: cython.double = 0.0
    for k in range(3):
        d = box[n, k] - own[3 + k]
        if own[k] - box[n, 3 + k] > d:
            d = own[k] - box[n, 3 + k]
        if d > 0:
            total += d * d
    return total


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _most(chord: cython.double, bend: cython.double, steep: cython.double) -> cython.double:
    """Return the chord that every place as near by its way on the surface is within."""
    way: cython.double
    if chord * steep < 1.7:
        way = 2 / steep * asin(chord * steep / 2)
    else:
        # Beyond a quarter of the way round, ways differ by up to 7.4 % on flattenings up to 1/290.
        way = 1.08 * 2 / bend * asin(_between(0.0, 1.0, chord * bend / 2))
    if way * bend > 3.14:
        return 4 / bend
    return 2 / bend * sin(way * bend / 2)


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _push_children(
    node: cython.longlong,
    level: cython.longlong,
    limit: cython.double,
    boxes: cython.double[:, ::1],
    levels: cython.longlong[::1],
    own: cython.double[::1],
    stack: cython.longlong[::1],
    ways: cython.double[::1],
    depth: cython.longlong,
) -> cython.longlong:
    """Put the children of a node that may hold anything near on the stack, the nearest on top.

    ``ways`` are the squares of how far they are off, ``limit`` the most that counts. Returns how many
    are on the stack then.
    """
    k: cython.longlong
    way: cython.double
    bottom: cython.longlong = depth
    child: cython.longlong = levels[level - 1] + FEW * (node - levels[level])
    last: cython.longlong = min(child + FEW, levels[level])
    while child < last:
        way = _box_gap(boxes, child, own)
        if way <= limit:
            k = depth
            while k > bottom and ways[k - 1] < way:
                ways[k] = ways[k - 1]
                stack[2 * k] = stack[2 * k - 2]
                stack[2 * k + 1] = stack[2 * k - 1]
                k -= 1
            ways[k] = way
            stack[2 * k] = child
            stack[2 * k + 1] = level - 1
            depth += 1
        child += 1
    return depth


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _counts(
    g: cython.longlong,
    row: cython.longlong,
    banned_offsets: cython.longlong[::1],
    banned: cython.longlong[::1],
) -> cython.int:
    """Return 1 unless a row is one that does not count for a group."""
    b: cython.longlong
    for b in range(banned_offsets[g], banned_offsets[g + 1]):
        if banned[b] == row:
            return 0
    return 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _only_near(
    limit: cython.double,
    before: cython.longlong,
    n_found: cython.longlong,
    mine: cython.longlong[::1],
    theirs: cython.longlong[::1],
    least: cython.double[::1],
) -> cython.longlong:
    """Keep of the pairs from ``before`` on those within ``limit``: what came before the nearest was
    known may be too far. Returns how many there are then.
    """
    k: cython.longlong
    kept: cython.longlong = before
    for k in range(before, n_found):
        if least[k] <= limit:
            mine[kept] = mine[k]
            theirs[kept] = theirs[k]
            least[kept] = least[k]
            kept += 1
    return kept


def near_in_space(
    first: cython.longlong,
    stop: cython.longlong,
    ends: cython.double[:, ::1],
    slack: cython.double[::1],
    group: cython.longlong[::1],
    boxes: cython.double[:, ::1],
    levels: cython.longlong[::1],
    others: cython.double[:, ::1],
    other_slack: cython.double[::1],
    row: cython.longlong[::1],
    banned_offsets: cython.longlong[::1],
    banned: cython.longlong[::1],
    bend: cython.double,
    steep: cython.double,
    best: cython.double[::1],
    stack: cython.longlong[::1],
    ways: cython.double[::1],
    own: cython.double[::1],
    mine: cython.longlong[::1],
    theirs: cython.longlong[::1],
    least: cython.double[::1],
) -> cython.longlong:
    """List what may be the nearest of each group; return how many pairs there are, -1 without room.

    Piece q of ``ends`` (n, 6), from ``first`` up to ``stop``, is of ``group[q]``, groups rising.
    ``best`` (n_groups,) is a chord within which the nearest of each lies, and is narrowed. All pairs of
    pieces that may lie within it go to ``mine`` and ``theirs``, group by group, with the least chord
    they may have to ``least``.

    ``boxes`` (n_nodes, 6) hold the others with their slack, level after level from the leaves up:
    node k of a level holds nodes 8 k to 8 k + 7 of the level below, of the lowest as many ``others``.
    ``levels`` (n_levels + 1,) are the offsets of the levels. Those of the rows
    ``banned[banned_offsets[g]:banned_offsets[g + 1]]`` do not count for group g.
    """
    q: cython.longlong
    g: cython.longlong
    k: cython.longlong
    node: cython.longlong
    level: cython.longlong
    child: cython.longlong
    depth: cython.longlong
    n_found: cython.longlong = 0
    n_before: cython.longlong = 0
    top: cython.longlong = levels.shape[0] - 2
    gap: cython.double
    loose: cython.double
    is_full: cython.int = 0
    with cython.nogil:
        for q in range(first, stop):
            g = group[q]
            for k in range(3):
                own[k] = min(ends[q, k], ends[q, 3 + k]) - slack[q]
                own[3 + k] = max(ends[q, k], ends[q, 3 + k]) + slack[q]
            stack[0] = levels[top + 1] - 1
            stack[1] = top
            ways[0] = 0.0
            depth = 1
            while depth > 0:
                depth -= 1
                node = stack[2 * depth]
                level = stack[2 * depth + 1]
                if ways[depth] > best[g] * best[g]:
                    continue
                if level > 0:
                    depth = _push_children(
                        node, level, best[g] * best[g], boxes, levels, own, stack, ways, depth
                    )
                    continue
                for child in range(FEW * node, min(FEW * node + FEW, others.shape[0])):
                    gap = _gap(ends, q, others, child)
                    loose = slack[q] + other_slack[child]
                    if gap - loose > best[g]:
                        continue
                    if not _counts(g, row[child], banned_offsets, banned):
                        continue
                    if gap + loose < best[g]:
                        best[g] = min(best[g], _most(gap + loose, bend, steep))
                    if n_found == mine.shape[0]:
                        is_full = 1
                        continue
                    mine[n_found] = q
                    theirs[n_found] = child
                    least[n_found] = gap - loose
                    n_found += 1
            if q + 1 == stop or group[q + 1] != g:
                n_found = _only_near(best[g], n_before, n_found, mine, theirs, least)
                n_before = n_found
            if is_full:
                break
    return -1 if is_full else n_found
