# The leaves and levels of a tree.
cdef struct Tree:
    long long n_leaves
    long long n_levels

cdef long long part_into_chains(
    double[:, ::1] xy, long long[::1] ring_offsets, long long[::1] part_offsets,
    long long first_part, long long last_part, int[:, ::1] rings, int[:, ::1] leaves,
    double[:, ::1] boxes
) noexcept nogil
cdef long long build_tree(long long n, double[:, ::1] boxes, long long[::1] levels) noexcept nogil
cdef bint are_apart(
    double[:, ::1] xy, long long[::1] ring_offsets, long long first_ring, Tree tree,
    int[:, ::1] leaves, double[:, ::1] boxes, long long[::1] levels, long long[:, ::1] stack,
    double[::1] sums
) noexcept nogil
