from polygene.kernels.lattice cimport Lattice

cdef int lie_well(
    double[:, ::1] xy, long long[::1] ring_offsets, long long first_ring, long long last_ring,
    Lattice lattice, int[::1] heads, int[:, ::1] links, int[:, ::1] rings, int[::1] lines,
    unsigned char[::1] touches, double[::1] sums
) noexcept nogil
