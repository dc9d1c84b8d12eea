"""Whether rings that meet as they may also lie in each other as those of valid polygons do."""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.lattice import Lattice, cell_at, cell_of
    from cython.cimports.polygene.kernels.meetings import is_between
    from cython.cimports.polygene.kernels.valid import side_of
else:
    from polygene.kernels.lattice import Lattice, cell_at, cell_of
    from polygene.kernels.meetings import is_between
    from polygene.kernels.valid import side_of

# Columns from which on a ring's edges are listed by line.
WIDE = cython.declare(cython.longlong, 16)

# How often rings of its own part, and of others, are round a place.
Rounds = cython.struct(own=cython.longlong, others=cython.longlong)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _is_turned(
    xy: cython.double[:, ::1],
    first: cython.longlong,
    last: cython.longlong,
    sign: cython.int,
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if the simple ring from ``first`` to ``last`` turns ``sign`` at its lowest left."""
    k: cython.longlong
    least: cython.longlong = first
    for k in range(first + 1, last):
        if xy[k, 0] < xy[least, 0] or (xy[k, 0] == xy[least, 0] and xy[k, 1] < xy[least, 1]):
            least = k
    k = least - 1 if least > first else last - 1
    return (
        1
        if sign
        == side_of(
            xy[k, 0], xy[k, 1], xy[least, 0], xy[least, 1], xy[least + 1, 0], xy[least + 1, 1], sums
        )
        else 0
    )


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _list_wide(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    last_ring: cython.longlong,
    lattice: Lattice,
    links: cython.int[:, ::1],
    rings: cython.int[:, ::1],
    lines: cython.int[::1],
) -> cython.void:
    """Note the columns of each ring, and list the edges of wide ones for each line of cells.

    So what is round a place is found without a walk through all cells to the left of it: a ring that is
    not wide has its edges near the place, or is not round it. The lists lie behind those of the cells.
    """
    base: cython.longlong = ring_offsets[first_ring]
    g: cython.longlong
    e: cython.longlong
    j: cython.longlong
    low: cython.double
    high: cython.double
    n_links: cython.int = cython.cast(cython.int, 8 * (ring_offsets[last_ring] - base) + 64)
    for j in range(lattice.n_lines):
        lines[j] = -1
    for g in range(first_ring, last_ring):
        low = high = xy[ring_offsets[g], 0]
        for e in range(ring_offsets[g] + 1, ring_offsets[g + 1] - 1):
            low = min(low, xy[e, 0])
            high = max(high, xy[e, 0])
        e = cell_of(low, lattice.low_x, lattice.per_x, lattice.n_columns)
        j = cell_of(high, lattice.low_x, lattice.per_x, lattice.n_columns)
        rings[3, g - first_ring] = cython.cast(cython.int, e)
        rings[4, g - first_ring] = cython.cast(cython.int, j)
        if j - e < WIDE:
            continue
        for e in range(ring_offsets[g], ring_offsets[g + 1] - 1):
            for j in range(
                cell_of(min(xy[e, 1], xy[e + 1, 1]), lattice.low_y, lattice.per_y, lattice.n_lines),
                cell_of(max(xy[e, 1], xy[e + 1, 1]), lattice.low_y, lattice.per_y, lattice.n_lines)
                + 1,
            ):
                links[n_links, 0] = cython.cast(cython.int, e - base)
                links[n_links, 1] = lines[j]
                links[n_links, 2] = cython.cast(cython.int, g - first_ring)
                lines[j] = n_links
                n_links += 1


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _round_at_touch(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    g: cython.longlong,
    lattice: Lattice,
    heads: cython.int[::1],
    links: cython.int[:, ::1],
    rings: cython.int[:, ::1],
    sums: cython.double[::1],
) -> Rounds:
    """Return how often rings that have the first vertex of ring g are round it as it leaves.

    Outer rings count as one, holes as one less, and each is marked as looked at, so that it is not
    looked at again along the way to the left.
    """
    base: cython.longlong = ring_offsets[first_ring]
    p: cython.longlong = ring_offsets[g]
    f: cython.longlong
    k: cython.longlong
    other: cython.longlong
    n: cython.longlong
    found: Rounds = Rounds(own=0, others=0)
    link: cython.int = heads[cell_at(xy, p, lattice)]
    while link >= 0:
        f = base + links[link, 0]
        other = links[link, 2]
        link = links[link, 1]
        if other == g - first_ring or xy[f + 1, 0] != xy[p, 0] or xy[f + 1, 1] != xy[p, 1]:
            continue
        k = f + 1
        if k == ring_offsets[first_ring + other + 1] - 1:
            k = ring_offsets[first_ring + other]
        rings[2, other] = cython.cast(cython.int, g - first_ring)
        # Left of an outer ring is inside it, right of a hole is inside that.
        n = is_between(
            xy[p, 0],
            xy[p, 1],
            xy[k + 1, 0],
            xy[k + 1, 1],
            xy[f, 0],
            xy[f, 1],
            xy[p + 1, 0],
            xy[p + 1, 1],
            sums,
        )
        n -= 0 if rings[1, other] else 1
        if rings[0, other] == rings[0, g - first_ring]:
            found.own += n
        else:
            found.others += n
    return found


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _passed(
    xy: cython.double[:, ::1],
    f: cython.longlong,
    p: cython.longlong,
    sums: cython.double[::1],
) -> cython.longlong:
    """Return what the edge from vertex f counts if it is left of vertex p: -1 upward, 1 downward."""
    a: cython.double = xy[f, 1]
    b: cython.double = xy[f + 1, 1]
    if (a > xy[p, 1]) == (b > xy[p, 1]):
        return 0
    if (side_of(xy[f, 0], a, xy[f + 1, 0], b, xy[p, 0], xy[p, 1], sums) < 0) != (b > a):
        return 0
    return -1 if b > a else 1


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _round_from_left(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    g: cython.longlong,
    p: cython.longlong,
    lattice: Lattice,
    heads: cython.int[::1],
    links: cython.int[:, ::1],
    rings: cython.int[:, ::1],
    lines: cython.int[::1],
    sums: cython.double[::1],
    found: Rounds,
) -> Rounds:
    """Return ``found`` and how often more rings are round vertex p of ring g.

    Edges to the left of it count, upward ones less, downward ones more: those of wide rings by the list
    of its line of cells, others in the cells of that where they can be. Rings that are marked as looked
    at do not count, nor do those that end left of its column: they are not round it.
    """
    base: cython.longlong = ring_offsets[first_ring]
    f: cython.longlong
    i: cython.longlong
    n: cython.longlong
    other: cython.longlong
    line: cython.longlong = cell_at(xy, p, lattice) // lattice.n_columns
    column: cython.longlong = cell_of(xy[p, 0], lattice.low_x, lattice.per_x, lattice.n_columns)
    link: cython.int
    # First the list, then cell after cell.
    i = max(column - WIDE, 0) - 1
    while i <= column:
        link = lines[line] if i < max(column - WIDE, 0) else heads[line * lattice.n_columns + i]
        while link >= 0:
            f = base + links[link, 0]
            other = links[link, 2]
            link = links[link, 1]
            if other == g - first_ring or rings[2, other] == g - first_ring:
                continue
            if rings[4, other] < column:
                continue
            if i >= max(column - WIDE, 0) and (
                rings[4, other] - rings[3, other] >= WIDE
                # Each edge once: in the leftmost of its cells.
                or i
                != cell_of(
                    min(xy[f, 0], xy[f + 1, 0]), lattice.low_x, lattice.per_x, lattice.n_columns
                )
            ):
                continue
            n = _passed(xy, f, p, sums)
            if rings[0, other] == rings[0, g - first_ring]:
                found.own += n
            else:
                found.others += n
        i += 1
    return found


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _lies_well(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    last_ring: cython.longlong,
    g: cython.longlong,
    lattice: Lattice,
    heads: cython.int[::1],
    links: cython.int[:, ::1],
    rings: cython.int[:, ::1],
    lines: cython.int[::1],
    touches: cython.uchar[::1],
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if ring g turns as it should, a hole lies in its outer ring and in no other hole, and a
    part in no other.

    Where it lies is asked for one vertex that no other ring has, if there is one.
    """
    base: cython.longlong = ring_offsets[first_ring]
    last: cython.longlong = ring_offsets[g + 1] - 1
    p: cython.longlong = ring_offsets[g]
    is_outer: cython.int = rings[1, g - first_ring]
    found: Rounds = Rounds(own=0, others=0)
    if not _is_turned(xy, p, last, 1 if is_outer else -1, sums):
        return 0
    if last_ring - first_ring == 1:
        return 1
    while p < last and touches[p - base]:
        p += 1
    if p == last:
        p = ring_offsets[g]
        found = _round_at_touch(xy, ring_offsets, first_ring, g, lattice, heads, links, rings, sums)
    found = _round_from_left(
        xy, ring_offsets, first_ring, g, p, lattice, heads, links, rings, lines, sums, found
    )
    return 1 if found.own == 1 - is_outer and not (is_outer and found.others != 0) else 0


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def lie_well(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    last_ring: cython.longlong,
    lattice: Lattice,
    heads: cython.int[::1],
    links: cython.int[:, ::1],
    rings: cython.int[:, ::1],
    lines: cython.int[::1],
    touches: cython.uchar[::1],
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if all of some rings, which meet as they may, turn and lie as they should."""
    g: cython.longlong
    if last_ring - first_ring > 1:
        _list_wide(xy, ring_offsets, first_ring, last_ring, lattice, links, rings, lines)
    for g in range(first_ring, last_ring):
        if not _lies_well(
            xy,
            ring_offsets,
            first_ring,
            last_ring,
            g,
            lattice,
            heads,
            links,
            rings,
            lines,
            touches,
            sums,
        ):
            return 0
    return 1
