"""Exact predicates on grid integers, shared by the kernels.

Grid integers are non-negative and below 2**42 (doubled coordinates included), so differences fit
43 bits and products 86: far inside the 128 bits used here. No epsilon anywhere.
"""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.wide import int128
else:
    int128 = int


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def turn(
    ax: cython.longlong,
    ay: cython.longlong,
    bx: cython.longlong,
    by: cython.longlong,
    cx: cython.longlong,
    cy: cython.longlong,
) -> cython.int:
    """Return +1 if a, b, c turn left, -1 if right, 0 if straight."""
    left: int128 = cython.cast(int128, bx - ax) * (cy - ay)
    right: int128 = cython.cast(int128, by - ay) * (cx - ax)
    if left > right:
        return 1
    if left < right:
        return -1
    return 0


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def angle_before(
    ax: cython.longlong, ay: cython.longlong, bx: cython.longlong, by: cython.longlong
) -> cython.int:
    """Return 1 if direction a comes before b, counted counter-clockwise from the x axis, else 0."""
    a_low: cython.int = 1 if (ay < 0 or (ay == 0 and ax < 0)) else 0
    b_low: cython.int = 1 if (by < 0 or (by == 0 and bx < 0)) else 0
    if a_low != b_low:
        return 1 if a_low < b_low else 0
    if cython.cast(int128, ax) * by > cython.cast(int128, ay) * bx:
        return 1
    return 0
