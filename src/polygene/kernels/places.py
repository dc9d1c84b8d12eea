"""Where points lie to rings, and the corners of all round them; exact on doubles, as `valid` is."""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.valid import is_within, orient
else:
    from polygene.kernels.valid import is_within, orient


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _past_edge(
    x: cython.double,
    y: cython.double,
    ax: cython.double,
    ay: cython.double,
    bx: cython.double,
    by: cython.double,
    side: cython.longlong,
    sums: cython.double[::1],
) -> cython.longlong:
    """Return the side of a ring that a point is on, when one more edge is looked at; even-odd.

    It is -1 (outside) at first, and stays 0 once an edge was met that the point lies on.
    """
    turn: cython.int
    if is_within(x, y, ax, ay, bx, by) and orient(ax, ay, bx, by, x, y, sums) == 0:
        return 0
    if (ay > y) != (by > y):
        turn = orient(ax, ay, bx, by, x, y, sums)
        if (by > ay and turn > 0) or (by < ay and turn < 0):
            return -side
    return side


def locate_in_rings(
    x: cython.double[::1],
    y: cython.double[::1],
    ring: cython.longlong[::1],
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    sums: cython.double[::1],
    sides: cython.longlong[::1],
) -> None:
    """Set for each point 1 if it lies inside its ring, 0 on it, -1 outside. Exact; even-odd."""
    p: cython.Py_ssize_t
    k: cython.longlong
    side: cython.longlong
    with cython.nogil:
        for p in range(x.shape[0]):
            side = -1
            for k in range(ring_offsets[ring[p]], ring_offsets[ring[p] + 1] - 1):
                side = _past_edge(
                    x[p], y[p], xy[k, 0], xy[k, 1], xy[k + 1, 0], xy[k + 1, 1], side, sums
                )
                if side == 0:
                    break
            sides[p] = side


def locate_rising(
    x: cython.double[::1],
    y: cython.double[::1],
    ring: cython.longlong[::1],
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    sums: cython.double[::1],
    sides: cython.longlong[::1],
) -> None:
    """Do what `locate_in_rings` does, of points in the order of their rings, and of y within each.

    So an edge is asked only of those that lie as high as it does.
    """
    p: cython.longlong
    first: cython.longlong = 0
    stop: cython.longlong
    low: cython.longlong
    high: cython.longlong
    k: cython.longlong
    least: cython.double
    most: cython.double
    with cython.nogil:
        while first < ring.shape[0]:
            stop = first
            while stop < ring.shape[0] and ring[stop] == ring[first]:
                sides[stop] = -1
                stop += 1
            for k in range(ring_offsets[ring[first]], ring_offsets[ring[first] + 1] - 1):
                least = xy[k, 1] if xy[k, 1] < xy[k + 1, 1] else xy[k + 1, 1]
                most = xy[k, 1] if xy[k, 1] > xy[k + 1, 1] else xy[k + 1, 1]
                low = first
                high = stop
                while low < high:
                    p = (low + high) >> 1
                    if y[p] < least:
                        low = p + 1
                    else:
                        high = p
                while low < stop and y[low] <= most:
                    if sides[low] != 0:
                        sides[low] = _past_edge(
                            x[low],
                            y[low],
                            xy[k, 0],
                            xy[k, 1],
                            xy[k + 1, 0],
                            xy[k + 1, 1],
                            sides[low],
                            sums,
                        )
                    low += 1
            first = stop


def convex_hulls(
    xy: cython.double[:, ::1],
    offsets: cython.longlong[::1],
    sums: cython.double[::1],
    hull: cython.longlong[::1],
    counts: cython.longlong[::1],
) -> None:
    """Find the convex hull of each group of points (Andrew 1979); counter-clockwise, corners only.

    Group g is ``offsets[g]:offsets[g + 1]``, sorted by x and then y, no point twice. Its hull's points
    go to ``hull`` from ``2 * offsets[g]`` on, ``counts[g]`` of them; the first is not repeated.
    """
    g: cython.Py_ssize_t
    k: cython.longlong
    n: cython.longlong
    least: cython.longlong
    base: cython.longlong
    a: cython.longlong
    b: cython.longlong
    with cython.nogil:
        for g in range(offsets.shape[0] - 1):
            base = 2 * offsets[g]
            n = 0
            for k in range(offsets[g], offsets[g + 1]):
                while n >= 2:
                    a = hull[base + n - 2]
                    b = hull[base + n - 1]
                    if orient(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[k, 0], xy[k, 1], sums) > 0:
                        break
                    n -= 1
                hull[base + n] = k
                n += 1
            least = n + 1
            k = offsets[g + 1] - 2
            while k >= offsets[g]:
                while n >= least:
                    a = hull[base + n - 2]
                    b = hull[base + n - 1]
                    if orient(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[k, 0], xy[k, 1], sums) > 0:
                        break
                    n -= 1
                hull[base + n] = k
                n += 1
                k -= 1
            counts[g] = n - 1 if n > 1 else n
