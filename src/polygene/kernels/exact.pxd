from polygene.kernels.wide cimport int128

cdef int turn(long long ax, long long ay, long long bx, long long by, long long cx, long long cy) noexcept nogil
cdef int angle_before(long long ax, long long ay, long long bx, long long by) noexcept nogil
