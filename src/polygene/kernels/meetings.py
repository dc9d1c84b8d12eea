"""Whether the edges of some rings meet as those of valid polygons may: in a vertex, and seldom."""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.lattice import Lattice, cell_at, cell_of
    from cython.cimports.polygene.kernels.valid import side_of
else:
    from polygene.kernels.lattice import Lattice, cell_at, cell_of
    from polygene.kernels.valid import side_of


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _turns_back(
    ax: cython.double,
    ay: cython.double,
    bx: cython.double,
    by: cython.double,
    cx: cython.double,
    cy: cython.double,
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if the way from b to c runs back along that from a to b."""
    if side_of(ax, ay, bx, by, cx, cy, sums) != 0:
        return 0
    if ax != bx:
        return 1 if (bx > ax) != (cx > bx) else 0
    return 1 if (by > ay) != (cy > by) else 0


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _meet(
    xy: cython.double[:, ::1],
    e: cython.longlong,
    f: cython.longlong,
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if the edges from vertex e and from vertex f have a point in common."""
    ax: cython.double = xy[e, 0]
    ay: cython.double = xy[e, 1]
    bx: cython.double = xy[e + 1, 0]
    by: cython.double = xy[e + 1, 1]
    cx: cython.double = xy[f, 0]
    cy: cython.double = xy[f, 1]
    dx: cython.double = xy[f + 1, 0]
    dy: cython.double = xy[f + 1, 1]
    if (cx > ax and cx > bx and dx > ax and dx > bx) or (
        cx < ax and cx < bx and dx < ax and dx < bx
    ):
        return 0
    if (cy > ay and cy > by and dy > ay and dy > by) or (
        cy < ay and cy < by and dy < ay and dy < by
    ):
        return 0
    if side_of(ax, ay, bx, by, cx, cy, sums) * side_of(ax, ay, bx, by, dx, dy, sums) > 0:
        return 0
    if side_of(cx, cy, dx, dy, ax, ay, sums) * side_of(cx, cy, dx, dy, bx, by, sums) > 0:
        return 0
    return 1


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def is_between(
    px: cython.double,
    py: cython.double,
    ax: cython.double,
    ay: cython.double,
    bx: cython.double,
    by: cython.double,
    cx: cython.double,
    cy: cython.double,
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if seen from p the direction of c comes after that of a and before that of b."""
    side: cython.int = side_of(px, py, ax, ay, bx, by, sums)
    if side > 0:
        return (
            1
            if side_of(px, py, ax, ay, cx, cy, sums) > 0
            and side_of(px, py, cx, cy, bx, by, sums) > 0
            else 0
        )
    if side == 0:
        return 1 if side_of(px, py, ax, ay, cx, cy, sums) > 0 else 0
    return (
        0
        if side_of(px, py, bx, by, cx, cy, sums) > 0 and side_of(px, py, cx, cy, ax, ay, sums) > 0
        else 1
    )


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _run_together(
    xy: cython.double[:, ::1],
    p: cython.longlong,
    a: cython.longlong,
    b: cython.longlong,
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if seen from vertex p vertices a and b lie in one direction."""
    if side_of(xy[p, 0], xy[p, 1], xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], sums) != 0:
        return 0
    if xy[a, 0] != xy[p, 0]:
        return 1 if (xy[a, 0] > xy[p, 0]) == (xy[b, 0] > xy[p, 0]) else 0
    return 1 if (xy[a, 1] > xy[p, 1]) == (xy[b, 1] > xy[p, 1]) else 0


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _root(parent: cython.int[::1], k: cython.longlong) -> cython.longlong:
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _touch_well(
    xy: cython.double[:, ::1],
    e: cython.longlong,
    e_next: cython.longlong,
    f: cython.longlong,
    f_next: cython.longlong,
    sums: cython.double[::1],
) -> cython.int:
    """Say how edges of two rings that meet do so: 0 wrongly, 1 in a vertex, 2 in that both end at.

    They do so wrongly if they have more than the vertex in common, or the rings cross in it. Edges go
    from vertices e and f to the next; ``e_next`` and ``f_next`` are those they end at as the start of
    the edges that follow.
    """
    p: cython.longlong
    a: cython.longlong
    b: cython.longlong
    ends: cython.int = 0
    if xy[e + 1, 0] == xy[f + 1, 0] and xy[e + 1, 1] == xy[f + 1, 1]:
        p = e + 1
        a = e
        b = f
        ends = 1
    elif xy[e + 1, 0] == xy[f, 0] and xy[e + 1, 1] == xy[f, 1]:
        p = e + 1
        a = e
        b = f + 1
    elif xy[e, 0] == xy[f + 1, 0] and xy[e, 1] == xy[f + 1, 1]:
        p = e
        a = e + 1
        b = f
    elif xy[e, 0] == xy[f, 0] and xy[e, 1] == xy[f, 1]:
        p = e
        a = e + 1
        b = f + 1
    else:
        return 0
    if _run_together(xy, p, a, b, sums):
        return 0
    if not ends:
        return 1
    a = e_next + 1
    b = f_next + 1
    if (
        _run_together(xy, p, a, b, sums)
        or _run_together(xy, p, e, b, sums)
        or _run_together(xy, p, a, f, sums)
    ):
        return 0
    return (
        2
        if is_between(
            xy[p, 0], xy[p, 1], xy[e, 0], xy[e, 1], xy[a, 0], xy[a, 1], xy[f, 0], xy[f, 1], sums
        )
        == is_between(
            xy[p, 0], xy[p, 1], xy[e, 0], xy[e, 1], xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], sums
        )
        else 0
    )


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _are_neighbours(
    e: cython.longlong, f: cython.longlong, k: cython.longlong, start: cython.longlong
) -> cython.int:
    """Return 1 if edge f, put in before e, leads to e or follows it; ``k`` is where that begins."""
    return 1 if (f + 1 == e and e != start) or (k == start and f == start) else 0


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _meet_well(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    g: cython.longlong,
    e: cython.longlong,
    k: cython.longlong,
    other: cython.longlong,
    f: cython.longlong,
    cell: cython.longlong,
    lattice: Lattice,
    rings: cython.int[:, ::1],
    parent: cython.int[::1],
    points: cython.int[::1],
    touches: cython.uchar[::1],
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if the edge e of ring g may meet an edge f of another ring as it does.

    ``k`` is where the edge after e begins, ``cell`` that in which the two were found. Rings may touch
    in a vertex that both have, rings of one part so that they hang together at one place and enclose
    nothing between them. ``points`` are the vertices that are at one place, as far as is known.
    """
    base: cython.longlong = ring_offsets[first_ring]
    p: cython.longlong
    way: cython.int
    own: cython.longlong
    others: cython.longlong
    p = f + 1
    if p == ring_offsets[first_ring + other + 1] - 1:
        p = ring_offsets[first_ring + other]
    way = _touch_well(xy, e, k, f, p, sums)
    # Each touch once: in the cell it lies in.
    if way < 2 or cell != cell_at(xy, p, lattice):
        return way
    if not touches[k - base]:
        points[k - base] = cython.cast(cython.int, k - base)
    if not touches[p - base]:
        points[p - base] = cython.cast(cython.int, p - base)
    touches[k - base] = touches[p - base] = 1
    if rings[0, other] == rings[0, g - first_ring]:
        own = _root(points, k - base)
        others = _root(points, p - base)
        if own == others:
            return 1  # they hang together here already, by another ring that comes here
        points[own] = cython.cast(cython.int, others)
        own = _root(parent, g - first_ring)
        others = _root(parent, other)
        if own == others:
            return 0
        parent[own] = cython.cast(cython.int, others)
    return 1


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def edges_meet_well(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    last_ring: cython.longlong,
    lattice: Lattice,
    heads: cython.int[::1],
    links: cython.int[:, ::1],
    rings: cython.int[:, ::1],
    parent: cython.int[::1],
    points: cython.int[::1],
    touches: cython.uchar[::1],
    sums: cython.double[::1],
) -> cython.int:
    """Put edge after edge into the cells that it passes, and hold it to those that are there.

    Invariant: all pairs of edges put in so far meet as they may. Where edges crowd together, so that
    there would be more than 8 cells for an edge, or are more than 8 comparisons for each so far and one
    for each that there is, the row is left to others, which do that sooner.
    """
    base: cython.longlong = ring_offsets[first_ring]
    n: cython.longlong = ring_offsets[last_ring] - base
    g: cython.longlong
    e: cython.longlong
    k: cython.longlong
    i: cython.longlong
    j: cython.longlong
    i0: cython.longlong
    i1: cython.longlong
    j0: cython.longlong
    j1: cython.longlong
    cell: cython.longlong
    link: cython.int
    f: cython.longlong
    other: cython.longlong
    n_links: cython.int = 0
    n_tests: cython.longlong = 0
    good: cython.int = 1
    for g in range(first_ring, last_ring):
        for e in range(ring_offsets[g], ring_offsets[g + 1] - 1):
            i0 = cell_of(
                min(xy[e, 0], xy[e + 1, 0]), lattice.low_x, lattice.per_x, lattice.n_columns
            )
            i1 = cell_of(
                max(xy[e, 0], xy[e + 1, 0]), lattice.low_x, lattice.per_x, lattice.n_columns
            )
            j0 = cell_of(min(xy[e, 1], xy[e + 1, 1]), lattice.low_y, lattice.per_y, lattice.n_lines)
            j1 = cell_of(max(xy[e, 1], xy[e + 1, 1]), lattice.low_y, lattice.per_y, lattice.n_lines)
            if n_links + (i1 - i0 + 1) * (j1 - j0 + 1) > 8 * n + 64:
                return 0
            if n_tests > 8 * (e - base) + n + 1024:
                return 0
            # Its neighbours; the one that follows the last is the first.
            k = e + 1 if e + 1 < ring_offsets[g + 1] - 1 else ring_offsets[g]
            if _turns_back(
                xy[e, 0], xy[e, 1], xy[k, 0], xy[k, 1], xy[k + 1, 0], xy[k + 1, 1], sums
            ):
                return 0
            for j in range(j0, j1 + 1):
                for i in range(i0, i1 + 1):
                    cell = j * lattice.n_columns + i
                    # Deeper and longer than elsewhere: a function would be handed all of it for
                    # each cell.
                    link = heads[cell]
                    while link >= 0:
                        f = base + links[link, 0]
                        other = links[link, 2]
                        link = links[link, 1]
                        n_tests += 1
                        if other == g - first_ring and _are_neighbours(e, f, k, ring_offsets[g]):
                            continue
                        if not _meet(xy, e, f, sums):
                            continue
                        if other == g - first_ring or not _meet_well(
                            xy,
                            ring_offsets,
                            first_ring,
                            g,
                            e,
                            k,
                            other,
                            f,
                            cell,
                            lattice,
                            rings,
                            parent,
                            points,
                            touches,
                            sums,
                        ):
                            good = 0
                    links[n_links, 0] = cython.cast(cython.int, e - base)
                    links[n_links, 1] = heads[cell]
                    links[n_links, 2] = cython.cast(cython.int, g - first_ring)
                    heads[cell] = n_links
                    n_links += 1
            if not good:
                return 0
    return 1
