"""Square cells over some rings of one row, to find in them what is near what."""

import cython

if not cython.compiled:  # compiled they are those of the .pxd, which other kernels have too
    # Where cells begin, how many go on a unit of length, columns and lines of them.
    Lattice = cython.struct(
        low_x=cython.double,
        low_y=cython.double,
        per_x=cython.double,
        per_y=cython.double,
        n_columns=cython.longlong,
        n_lines=cython.longlong,
    )

    def cell_of(value: float, low: float, per: float, n: int) -> int:
        """Return the column or line of cells that a coordinate lies in."""
        return min(int((value - low) * per), n - 1)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def cell_at(xy: cython.double[:, ::1], k: cython.longlong, lattice: Lattice) -> cython.longlong:
    """Return the number of the cell that a vertex lies in."""
    i: cython.longlong = cell_of(xy[k, 0], lattice.low_x, lattice.per_x, lattice.n_columns)
    return cell_of(xy[k, 1], lattice.low_y, lattice.per_y, lattice.n_lines) * lattice.n_columns + i


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def lattice_of(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    last_ring: cython.longlong,
    touches: cython.uchar[::1],
) -> Lattice:
    """Lay square cells over some rings, three for each vertex; no columns if one of them is not sound.

    Not sound is a ring that is open, stands still, or has coordinates out of the range in which
    products neither overflow nor vanish.
    """
    g: cython.longlong
    k: cython.longlong
    base: cython.longlong = ring_offsets[first_ring]
    n: cython.longlong = ring_offsets[last_ring] - base
    x: cython.double
    y: cython.double
    low_x: cython.double = xy[base, 0]
    low_y: cython.double = xy[base, 1]
    high_x: cython.double = low_x
    high_y: cython.double = low_y
    wide: cython.double
    n_columns: cython.longlong
    none: Lattice = Lattice(low_x=0.0, low_y=0.0, per_x=0.0, per_y=0.0, n_columns=0, n_lines=0)
    for g in range(first_ring, last_ring):
        k = ring_offsets[g + 1] - 1
        if xy[ring_offsets[g], 0] != xy[k, 0] or xy[ring_offsets[g], 1] != xy[k, 1]:
            return none
        for k in range(ring_offsets[g], ring_offsets[g + 1] - 1):
            x = xy[k, 0]
            y = xy[k, 1]
            touches[k - base] = 0
            # Not a number is in no range; what is not finite is caught by the width.
            if not (-1e150 < x < 1e150 and -1e150 < y < 1e150):
                return none
            if x == xy[k + 1, 0] and y == xy[k + 1, 1]:
                return none
            low_x = min(low_x, x)
            low_y = min(low_y, y)
            high_x = max(high_x, x)
            high_y = max(high_y, y)
    # So small that products vanish, or flat: for others to say.
    if not (high_x - low_x > 1e-100 and high_y - low_y > 1e-100):
        return none
    wide = (high_x - low_x) / (high_y - low_y) * 3.0 * n
    n_columns = cython.cast(cython.longlong, wide**0.5) if wide < 1e15 else 3 * n
    n_columns = min(max(n_columns, 1), 3 * n)
    none.low_x = low_x
    none.low_y = low_y
    none.n_columns = n_columns
    none.n_lines = max((3 * n) // n_columns, 1)
    none.per_x = n_columns / (high_x - low_x)
    none.per_y = none.n_lines / (high_y - low_y)
    return none
