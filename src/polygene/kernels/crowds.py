"""Looking at crowded cells: their edges and nodes sorted across the direction that most edges have.

Cells are those of `cells`. What is side by side across that direction may meet; what is not, does not:
in a bundle of edges, only neighbours are compared.
"""

import cython

if cython.compiled:
    from cython.cimports.libc.math import sqrt
    from cython.cimports.polygene.kernels.wide import prefetch
else:
    from math import sqrt

FETCHED = cython.declare(cython.int, 64)  # edges and nodes of a cell whose memory is fetched ahead


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def fetch_edges(
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
def fetch_nodes(
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
def look_at(
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
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _direct(
    window: cython.double[::1],
    entries: cython.longlong[::1],
    first: cython.longlong,
    stop: cython.longlong,
    ends: cython.longlong[:, ::1],
    frame: cython.double[::1],
) -> cython.void:
    """Set ``frame`` to the middle of a cell, and the cosine and sine of the direction that most of its
    edges have.

    Directions are the same back and forth: they add up at twice the angle, by the square of length.
    """
    k: cython.longlong
    e: cython.longlong
    dx: cython.double
    dy: cython.double
    along: cython.double = 0.0
    across: cython.double = 0.0
    size: cython.double
    for k in range(first, stop):
        e = entries[k]
        dx = ends[e, 2] - ends[e, 0]
        dy = ends[e, 3] - ends[e, 1]
        along += dx * dx - dy * dy
        across += 2 * dx * dy
    size = sqrt(along * along + across * across)
    frame[0] = 0.5 * (window[0] + window[2])
    frame[1] = 0.5 * (window[1] + window[3])
    frame[2] = sqrt(0.5 + 0.5 * along / size) if size > 0 else 1.0
    frame[3] = sqrt(max(0.5 - 0.5 * along / size, 0.0)) if size > 0 else 0.0
    if across < 0:
        frame[3] = -frame[3]


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def lie_across(
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
    ax: cython.double
    ay: cython.double
    dx: cython.double
    dy: cython.double
    cosine: cython.double
    sine: cython.double
    from_t: cython.double
    to_t: cython.double
    p: cython.double
    q: cython.double
    _direct(window, entries, first, stop, ends, frame)
    cosine = frame[2]
    sine = frame[3]
    for k in range(first, stop):
        e = entries[k]
        ax = ends[e, 0] - frame[0]
        ay = ends[e, 1] - frame[1]
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


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def sort_by(
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
def first_from(
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
