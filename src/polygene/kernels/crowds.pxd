cdef void fetch_edges(
    long long first, long long stop, long long[::1] cell_entries, long long[:, ::1] ends
) noexcept nogil
cdef void fetch_nodes(
    long long first, long long stop, long long[::1] cell_nodes, long long[::1] node_x, long long[::1] node_y
) noexcept nogil
cdef long long look_at(
    long long cell, long long[:, ::1] boxes, long long box, double[::1] window
) noexcept nogil
cdef void lie_across(
    double[::1] window, long long[::1] entries, long long first, long long stop, long long[:, ::1] ends,
    double[::1] frame, double[:, ::1] ranges
) noexcept nogil
cdef void sort_by(
    double[:, ::1] values, int column, long long n, double[:, ::1] keys, long long[:, ::1] order
) noexcept nogil
cdef long long first_from(double least, double[:, ::1] keys, int column, long long n) noexcept nogil
