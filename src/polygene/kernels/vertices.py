"""Sums over the vertices of rings, and vertices back to where they came from."""

import cython

if cython.compiled:
    from cython.cimports.libc.math import floor, sqrt
else:
    from math import floor, sqrt


def measure_rings(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    areas: cython.double[::1],
    lengths: cython.double[::1],
) -> None:
    """Set the signed area (positive when counter-clockwise) and the length of each ring.

    Ring r is the vertices from ``ring_offsets[r]`` up to ``ring_offsets[r + 1]``. The area is a
    shoelace sum about the first vertex, so that rings far out lose no digits.
    """
    r: cython.Py_ssize_t
    k: cython.longlong
    start: cython.longlong
    stop: cython.longlong
    x0: cython.double
    y0: cython.double
    ax: cython.double
    ay: cython.double
    bx: cython.double
    by: cython.double
    area: cython.double
    length: cython.double
    with cython.nogil:
        for r in range(ring_offsets.shape[0] - 1):
            start = ring_offsets[r]
            stop = ring_offsets[r + 1]
            areas[r] = 0.0
            lengths[r] = 0.0
            if start == stop:
                continue
            x0 = xy[start, 0]
            y0 = xy[start, 1]
            ax = 0.0
            ay = 0.0
            area = 0.0
            length = 0.0
            for k in range(start + 1, stop):
                bx = xy[k, 0] - x0
                by = xy[k, 1] - y0
                area += ax * by - bx * ay
                length += sqrt((bx - ax) * (bx - ax) + (by - ay) * (by - ay))
                ax = bx
                ay = by
            areas[r] = 0.5 * area
            lengths[r] = length


def bound_groups(
    xy: cython.double[:, ::1], offsets: cython.longlong[::1], bounds: cython.double[:, ::1]
) -> None:
    """Set the least x and y of groups of vertices and the greatest.

    Group g is the vertices from ``offsets[g]`` up to ``offsets[g + 1]``. The bounds of an empty one are
    infinite and exclude everything; a coordinate that is not a number makes its bounds so.
    """
    g: cython.Py_ssize_t
    k: cython.longlong
    axis: cython.int
    low: cython.double
    high: cython.double
    value: cython.double
    endless: cython.double = float("inf")
    with cython.nogil:
        for g in range(offsets.shape[0] - 1):
            for axis in range(2):
                low = endless
                high = -endless
                for k in range(offsets[g], offsets[g + 1]):
                    value = xy[k, axis]
                    if value != value:
                        low = high = value
                        break
                    low = value if value < low else low
                    high = value if value > high else high
                bounds[g, axis] = low
                bounds[g, axis + 2] = high


def bring_home(
    map_xy: cython.double[:, ::1],
    node_of_vertex: cython.int[::1],
    homes: cython.double[:, ::1],
    is_home: cython.uchar[::1],
    differs: cython.uchar[::1],
) -> None:
    """Set ``homes`` of each node to the coordinates of the first vertex on it, but 0.0 before -0.0.

    ``is_home`` (all 0 before the first call) marks nodes that have a vertex, ``differs`` (so too) those
    whose vertices do not all agree.
    """
    v: cython.Py_ssize_t
    n: cython.longlong
    with cython.nogil:
        for v in range(node_of_vertex.shape[0]):
            n = node_of_vertex[v]
            if not is_home[n]:
                is_home[n] = 1
                homes[n, 0] = map_xy[v, 0]
                homes[n, 1] = map_xy[v, 1]
            elif homes[n, 0] != map_xy[v, 0] or homes[n, 1] != map_xy[v, 1]:
                differs[n] = 1
            else:
                # Zero and minus zero agree; which of them it is must not hang on who comes first.
                if map_xy[v, 0] == 0.0:
                    homes[n, 0] += map_xy[v, 0]
                if map_xy[v, 1] == 0.0:
                    homes[n, 1] += map_xy[v, 1]


def to_grid(
    xy: cython.double[:, ::1],
    factor: cython.double,
    divides: cython.int,
    origin_x: cython.longlong,
    origin_y: cython.longlong,
    x: cython.longlong[::1],
    y: cython.longlong[::1],
) -> None:
    """Set the grid integers of coordinates times ``factor``, or divided by it; halves go up."""
    k: cython.Py_ssize_t
    with cython.nogil:
        for k in range(xy.shape[0]):
            x[k] = _rounded(xy[k, 0] / factor if divides else xy[k, 0] * factor) - origin_x
            y[k] = _rounded(xy[k, 1] / factor if divides else xy[k, 1] * factor) - origin_y


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _rounded(value: cython.double) -> cython.longlong:
    return cython.cast(cython.longlong, floor(value + 0.5))


def least_first(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    ring_offsets: cython.longlong[::1],
    order: cython.longlong[::1],
) -> None:
    """Set the order of vertices in which each closed ring starts at its lowest left vertex."""
    r: cython.Py_ssize_t
    k: cython.longlong
    start: cython.longlong
    n: cython.longlong
    least: cython.longlong
    at: cython.longlong
    with cython.nogil:
        for r in range(ring_offsets.shape[0] - 1):
            start = ring_offsets[r]
            n = ring_offsets[r + 1] - 1 - start
            least = start
            for k in range(start + 1, start + n):
                if x[k] < x[least] or (x[k] == x[least] and y[k] < y[least]):
                    least = k
            at = least
            for k in range(start, start + n + 1):
                order[k] = at
                at += 1
                if at >= start + n:
                    at = start


def order_ends(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    node_of: cython.int[::1],
    start: cython.int[::1],
    stop: cython.int[::1],
    low: cython.longlong[::1],
    high: cython.longlong[::1],
    is_reversed: cython.uchar[::1],
) -> None:
    """Set the lexicographically smaller and larger end of edges, and whether they changed places.

    Edges run between vertices, whose nodes ``node_of`` tells.
    """
    e: cython.Py_ssize_t
    a: cython.longlong
    b: cython.longlong
    with cython.nogil:
        for e in range(start.shape[0]):
            a = node_of[start[e]]
            b = node_of[stop[e]]
            if x[b] < x[a] or (x[b] == x[a] and y[b] < y[a]):
                low[e] = b
                high[e] = a
                is_reversed[e] = 1
            else:
                low[e] = a
                high[e] = b
                is_reversed[e] = 0


def fill_edges(
    first: cython.longlong,
    last: cython.longlong,
    ring_offsets: cython.longlong[::1],
    edge_offsets: cython.longlong[::1],
    part_of_ring: cython.longlong[::1],
    signs: cython.longlong[::1],
    start: cython.int[::1],
    stop: cython.int[::1],
    part: cython.int[::1],
    sign: cython.schar[::1],
) -> None:
    """Fill in the edges of rings from ``first`` up to ``last``, and the part and sign of their rings.

    Edges of ring r are ``edge_offsets[r]:edge_offsets[r + 1]``, one from each vertex but its last.
    """
    r: cython.longlong
    e: cython.longlong
    shift: cython.longlong
    with cython.nogil:
        for r in range(first, last):
            shift = ring_offsets[r] - edge_offsets[r]
            for e in range(edge_offsets[r], edge_offsets[r + 1]):
                start[e] = e + shift
                stop[e] = e + shift + 1
                part[e] = cython.cast(cython.int, part_of_ring[r])
                sign[e] = cython.cast(cython.schar, signs[r])


def lay_steps(
    first: cython.longlong,
    last: cython.longlong,
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    low: cython.longlong[::1],
    high: cython.longlong[::1],
    offsets: cython.longlong[::1],
    order: cython.longlong[::1],
    node: cython.longlong[::1],
    step_low: cython.longlong[::1],
    step_high: cython.longlong[::1],
    is_reversed: cython.uchar[::1],
) -> None:
    """Lead a range of lines through nodes: line l through ``node[order[offsets[l]:offsets[l + 1]]]``.

    It runs from node ``low[l]`` to ``high[l]``, and its steps begin at ``offsets[l] + l``. Set the
    lexicographically smaller and larger end of each, and whether it runs from the larger one.
    """
    line: cython.longlong
    k: cython.longlong
    s: cython.longlong
    a: cython.longlong
    b: cython.longlong
    is_back: cython.int
    with cython.nogil:
        for line in range(first, last):
            a = low[line]
            for k in range(offsets[line], offsets[line + 1] + 1):
                b = node[order[k]] if k < offsets[line + 1] else high[line]
                s = k + line
                is_back = x[b] < x[a] or (x[b] == x[a] and y[b] < y[a])
                step_low[s] = b if is_back else a
                step_high[s] = a if is_back else b
                is_reversed[s] = is_back
                a = b


def lay_edges(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    start: cython.longlong[::1],
    stop: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
) -> None:
    """Set the x, y, x, y of edges between points, from their lexicographically smaller ends."""
    e: cython.Py_ssize_t
    a: cython.longlong
    b: cython.longlong
    with cython.nogil:
        for e in range(start.shape[0]):
            a = start[e]
            b = stop[e]
            if x[b] < x[a] or (x[b] == x[a] and y[b] < y[a]):
                a = stop[e]
                b = start[e]
            ends[e, 0] = x[a]
            ends[e, 1] = y[a]
            ends[e, 2] = x[b]
            ends[e, 3] = y[b]


def close_rings(
    first: cython.longlong,
    last: cython.longlong,
    offsets: cython.longlong[::1],
    halfedge: cython.int[::1],
    origin: cython.int[::1],
    keeps: cython.uchar[::1],
    node_xy: cython.double[:, ::1],
    closed_offsets: cython.longlong[::1],
    node: cython.int[::1],
    xy: cython.double[:, ::1],
) -> None:
    """List the nodes that each of a range of rings keeps, one at least, then its first one again.

    Those of ring r go to ``node`` and ``xy`` from ``closed_offsets[r]`` on.
    """
    r: cython.longlong
    k: cython.longlong
    n: cython.longlong
    v: cython.longlong
    with cython.nogil:
        for r in range(first, last):
            n = closed_offsets[r]
            for k in range(offsets[r], offsets[r + 1]):
                if keeps[k]:
                    v = origin[halfedge[k]]
                    node[n] = cython.cast(cython.int, v)
                    xy[n, 0] = node_xy[v, 0]
                    xy[n, 1] = node_xy[v, 1]
                    n += 1
            node[n] = node[closed_offsets[r]]
            xy[n, 0] = xy[closed_offsets[r], 0]
            xy[n, 1] = xy[closed_offsets[r], 1]
