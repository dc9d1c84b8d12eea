"""The nearest edges of two sets, by a grid of cells, and how far points are off edges at most.

Distances are in grid units, or those of the points, and floating point, as in `near`.
"""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.near import (
        cell_over,
        is_beyond,
        next_in_ring,
        ranges_apart,
    )
else:
    from polygene.kernels.near import cell_over, is_beyond, next_in_ring, ranges_apart

Edge = cython.struct(ax=cython.longlong, ay=cython.longlong, bx=cython.longlong, by=cython.longlong)


@cython.cfunc
@cython.inline
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
    """Return the squared distance from p to the edge from a to b; differences of integers are exact."""
    dx: cython.double = bx - ax
    dy: cython.double = by - ay
    length: cython.double = dx * dx + dy * dy
    t: cython.double = 0.0
    if length > 0:
        t = ((px - ax) * dx + (py - ay) * dy) / length
        t = min(max(t, 0.0), 1.0)
    dx = (px - ax) - t * dx
    dy = (py - ay) - t * dy
    return dx * dx + dy * dy


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
            i_low = min(max(cell_over(x0, box[0], side), 0), columns - 1)
            i_high = min(max(cell_over(x1, box[0], side), 0), columns - 1)
            j_low = min(max(cell_over(y0, box[1], side), 0), rows - 1)
            j_high = min(max(cell_over(y1, box[1], side), 0), rows - 1)
            gap_x = ranges_apart(x0, x1, box[0], box[0] + columns * side)
            gap_y = ranges_apart(y0, y1, box[1], box[1] + rows * side)
            for ring in range(
                max(max(i_low, columns - 1 - i_high), max(j_low, rows - 1 - j_high)) + 1
            ):
                # What is not looked at yet lies further than whole cells off, across or up.
                clear = max(ring - 1, 0) * cython.cast(cython.double, side)
                if is_beyond(gap_x + clear, gap_y, best[g]) and is_beyond(
                    gap_x, gap_y + clear, best[g]
                ):
                    break
                for j in range(max(j_low - ring, 0), min(j_high + ring, rows - 1) + 1):
                    low = box[1] + j * side
                    off = ranges_apart(y0, y1, low, low + side)
                    if is_beyond(gap_x, off, best[g]):
                        continue
                    # Ring 0 is all cells of the edge's own box.
                    is_whole = ring == 0 or j == j_low - ring or j == j_high + ring
                    i = next_in_ring(
                        i_low - ring - 1, i_low - ring, i_high + ring, columns, is_whole
                    )
                    while i < columns:
                        low = box[0] + i * side
                        if not is_beyond(ranges_apart(x0, x1, low, low + side), off, best[g]):
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
                        i = next_in_ring(i, i_low - ring, i_high + ring, columns, is_whole)


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
