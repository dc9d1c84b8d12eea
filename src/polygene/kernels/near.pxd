cdef long long cell_over(long long value, long long low, long long side) noexcept nogil
cdef double ranges_apart(long long low, long long high, long long first, long long last) noexcept nogil
cdef bint is_beyond(double x, double y, double square) noexcept nogil
cdef long long next_in_ring(
    long long i, long long low, long long high, long long columns, int is_whole
) noexcept nogil
