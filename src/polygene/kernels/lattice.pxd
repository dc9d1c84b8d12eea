# Where cells begin, how many go on a unit of length, columns and lines of them.
cdef struct Lattice:
    double low_x
    double low_y
    double per_x
    double per_y
    long long n_columns
    long long n_lines

# The column or line of cells that a coordinate lies in.
cdef inline long long cell_of(double value, double low, double per, long long n) noexcept nogil:
    return min(<long long>((value - low) * per), n - 1)

cdef long long cell_at(double[:, ::1] xy, long long k, Lattice lattice) noexcept nogil
cdef Lattice lattice_of(
    double[:, ::1] xy, long long[::1] ring_offsets, long long first_ring, long long last_ring,
    unsigned char[::1] touches
) noexcept nogil
