cimport cython


cdef int orient(
    double ax, double ay, double bx, double by, double cx, double cy, double[::1] sums
) noexcept nogil
cdef int is_within(
    double px, double py, double ax, double ay, double bx, double by
) noexcept nogil
