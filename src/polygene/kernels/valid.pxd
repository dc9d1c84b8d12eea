cimport cython


cdef int orient(
    double ax, double ay, double bx, double by, double cx, double cy, double[::1] sums
) noexcept nogil

# What `orient` does, without a call where floating point can tell.
cdef inline int side_of(
    double ax, double ay, double bx, double by, double cx, double cy, double[::1] sums
) noexcept nogil:
    cdef double left = (ax - cx) * (by - cy)
    cdef double right = (ay - cy) * (bx - cx)
    cdef double size = (left if left > 0 else -left) + (right if right > 0 else -right)
    if left - right > 3.3306690738754716e-16 * size:
        return 1
    if right - left > 3.3306690738754716e-16 * size:
        return -1
    return orient(ax, ay, bx, by, cx, cy, sums)

cdef int is_within(
    double px, double py, double ax, double ay, double bx, double by
) noexcept nogil
