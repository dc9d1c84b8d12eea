cimport cython


cdef int orient(
    double ax, double ay, double bx, double by, double cx, double cy, double[::1] sums
) noexcept nogil
