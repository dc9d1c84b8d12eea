"""Polygons that are plainly valid, found row by row on a small grid of each row's own.

Most rows of most layers are: each ring closed, without repeats, turned the usual way and meeting not
itself, no other but in a vertex that both have, with its holes inside and its parts apart. To say so
costs little; what is in doubt is left to others.
"""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.valid import orient
else:
    from polygene.kernels.valid import orient

# Square cells over a row: where they begin, how many go on a unit of length, columns and lines of them.
Grid = cython.struct(
    low_x=cython.double,
    low_y=cython.double,
    per_x=cython.double,
    per_y=cython.double,
    n_columns=cython.longlong,
    n_lines=cython.longlong,
)


WIDE = cython.declare(
    cython.longlong, 16
)  # columns from which on a ring's edges are listed by line

# How often rings of its own part, and of others, are round a place.
Rounds = cython.struct(own=cython.longlong, others=cython.longlong)


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _side(
    ax: cython.double,
    ay: cython.double,
    bx: cython.double,
    by: cython.double,
    cx: cython.double,
    cy: cython.double,
    sums: cython.double[::1],
) -> cython.int:
    """Return what `orient` does, without a call where floating point can tell."""
    left: cython.double = (ax - cx) * (by - cy)
    right: cython.double = (ay - cy) * (bx - cx)
    size: cython.double = (left if left > 0 else -left) + (right if right > 0 else -right)
    if left - right > 3.3306690738754716e-16 * size:
        return 1
    if right - left > 3.3306690738754716e-16 * size:
        return -1
    return orient(ax, ay, bx, by, cx, cy, sums)


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
    if _side(ax, ay, bx, by, cx, cy, sums) != 0:
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
    if _side(ax, ay, bx, by, cx, cy, sums) * _side(ax, ay, bx, by, dx, dy, sums) > 0:
        return 0
    if _side(cx, cy, dx, dy, ax, ay, sums) * _side(cx, cy, dx, dy, bx, by, sums) > 0:
        return 0
    return 1


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
        == _side(
            xy[k, 0], xy[k, 1], xy[least, 0], xy[least, 1], xy[least + 1, 0], xy[least + 1, 1], sums
        )
        else 0
    )


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _is_between(
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
    side: cython.int = _side(px, py, ax, ay, bx, by, sums)
    if side > 0:
        return (
            1
            if _side(px, py, ax, ay, cx, cy, sums) > 0 and _side(px, py, cx, cy, bx, by, sums) > 0
            else 0
        )
    if side == 0:
        return 1 if _side(px, py, ax, ay, cx, cy, sums) > 0 else 0
    return (
        0
        if _side(px, py, bx, by, cx, cy, sums) > 0 and _side(px, py, cx, cy, ax, ay, sums) > 0
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
    if _side(xy[p, 0], xy[p, 1], xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], sums) != 0:
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
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _cell(
    value: cython.double, low: cython.double, per: cython.double, n: cython.longlong
) -> cython.longlong:
    return min(cython.cast(cython.longlong, (value - low) * per), n - 1)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _cell_at(xy: cython.double[:, ::1], k: cython.longlong, grid: Grid) -> cython.longlong:
    """Return the number of the cell that a vertex lies in."""
    i: cython.longlong = _cell(xy[k, 0], grid.low_x, grid.per_x, grid.n_columns)
    return _cell(xy[k, 1], grid.low_y, grid.per_y, grid.n_lines) * grid.n_columns + i


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
        if _is_between(
            xy[p, 0], xy[p, 1], xy[e, 0], xy[e, 1], xy[a, 0], xy[a, 1], xy[f, 0], xy[f, 1], sums
        )
        == _is_between(
            xy[p, 0], xy[p, 1], xy[e, 0], xy[e, 1], xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], sums
        )
        else 0
    )


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _are_rings(
    ring_offsets: cython.longlong[::1],
    part_offsets: cython.longlong[::1],
    first_part: cython.longlong,
    last_part: cython.longlong,
    rings: cython.int[:, ::1],
    parent: cython.int[::1],
) -> cython.int:
    """Note of each ring its part, whether it is an outer one, and that nothing touches it yet.

    Returns 0 if a part has no ring, or a ring too few vertices to enclose anything.
    """
    g: cython.longlong
    part: cython.longlong
    first_ring: cython.longlong = part_offsets[first_part]
    for part in range(first_part, last_part):
        if part_offsets[part] == part_offsets[part + 1]:
            return 0
        for g in range(part_offsets[part], part_offsets[part + 1]):
            if ring_offsets[g + 1] - ring_offsets[g] < 4:
                return 0
            rings[0, g - first_ring] = cython.cast(cython.int, part - first_part)
            rings[1, g - first_ring] = 1 if g == part_offsets[part] else 0
            rings[2, g - first_ring] = -1
            parent[g - first_ring] = cython.cast(cython.int, g - first_ring)
    return 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _grid_of(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    last_ring: cython.longlong,
    touches: cython.uchar[::1],
) -> Grid:
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
    none: Grid = Grid(low_x=0.0, low_y=0.0, per_x=0.0, per_y=0.0, n_columns=0, n_lines=0)
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
    grid: Grid,
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
    if way < 2 or cell != _cell_at(xy, p, grid):
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
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _edges_meet_well(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    last_ring: cython.longlong,
    grid: Grid,
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
            i0 = _cell(min(xy[e, 0], xy[e + 1, 0]), grid.low_x, grid.per_x, grid.n_columns)
            i1 = _cell(max(xy[e, 0], xy[e + 1, 0]), grid.low_x, grid.per_x, grid.n_columns)
            j0 = _cell(min(xy[e, 1], xy[e + 1, 1]), grid.low_y, grid.per_y, grid.n_lines)
            j1 = _cell(max(xy[e, 1], xy[e + 1, 1]), grid.low_y, grid.per_y, grid.n_lines)
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
                    cell = j * grid.n_columns + i
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
                            grid,
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


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _list_wide(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    last_ring: cython.longlong,
    grid: Grid,
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
    for j in range(grid.n_lines):
        lines[j] = -1
    for g in range(first_ring, last_ring):
        low = high = xy[ring_offsets[g], 0]
        for e in range(ring_offsets[g] + 1, ring_offsets[g + 1] - 1):
            low = min(low, xy[e, 0])
            high = max(high, xy[e, 0])
        e = _cell(low, grid.low_x, grid.per_x, grid.n_columns)
        j = _cell(high, grid.low_x, grid.per_x, grid.n_columns)
        rings[3, g - first_ring] = cython.cast(cython.int, e)
        rings[4, g - first_ring] = cython.cast(cython.int, j)
        if j - e < WIDE:
            continue
        for e in range(ring_offsets[g], ring_offsets[g + 1] - 1):
            for j in range(
                _cell(min(xy[e, 1], xy[e + 1, 1]), grid.low_y, grid.per_y, grid.n_lines),
                _cell(max(xy[e, 1], xy[e + 1, 1]), grid.low_y, grid.per_y, grid.n_lines) + 1,
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
    grid: Grid,
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
    link: cython.int = heads[_cell_at(xy, p, grid)]
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
        n = _is_between(
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
    if (_side(xy[f, 0], a, xy[f + 1, 0], b, xy[p, 0], xy[p, 1], sums) < 0) != (b > a):
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
    grid: Grid,
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
    line: cython.longlong = _cell_at(xy, p, grid) // grid.n_columns
    column: cython.longlong = _cell(xy[p, 0], grid.low_x, grid.per_x, grid.n_columns)
    link: cython.int
    # First the list, then cell after cell.
    i = max(column - WIDE, 0) - 1
    while i <= column:
        link = lines[line] if i < max(column - WIDE, 0) else heads[line * grid.n_columns + i]
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
                or i != _cell(min(xy[f, 0], xy[f + 1, 0]), grid.low_x, grid.per_x, grid.n_columns)
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
    grid: Grid,
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
        found = _round_at_touch(xy, ring_offsets, first_ring, g, grid, heads, links, rings, sums)
    found = _round_from_left(
        xy, ring_offsets, first_ring, g, p, grid, heads, links, rings, lines, sums, found
    )
    return 1 if found.own == 1 - is_outer and not (is_outer and found.others != 0) else 0


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _are_sound(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    part_offsets: cython.longlong[::1],
    first_part: cython.longlong,
    last_part: cython.longlong,
    heads: cython.int[::1],
    links: cython.int[:, ::1],
    rings: cython.int[:, ::1],
    lines: cython.int[::1],
    parent: cython.int[::1],
    points: cython.int[::1],
    touches: cython.uchar[::1],
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if parts from ``first_part`` up to ``last_part`` are together plainly valid.

    Cells are found by floating point that rises with the coordinate, so two edges that meet share the
    cell of the place where they do, whatever is rounded.
    """
    g: cython.longlong
    i: cython.longlong
    first: cython.longlong = part_offsets[first_part]
    last: cython.longlong = part_offsets[last_part]
    grid: Grid
    good: cython.int
    if not _are_rings(ring_offsets, part_offsets, first_part, last_part, rings, parent):
        return 0
    grid = _grid_of(xy, ring_offsets, first, last, touches)
    if grid.n_columns == 0:
        return 0
    good = _edges_meet_well(
        xy, ring_offsets, first, last, grid, heads, links, rings, parent, points, touches, sums
    )
    if good and last - first > 1:
        _list_wide(xy, ring_offsets, first, last, grid, links, rings, lines)
    for g in range(first, last):
        if good:
            good = _lies_well(
                xy, ring_offsets, first, last, g, grid, heads, links, rings, lines, touches, sums
            )
    for i in range(grid.n_columns * grid.n_lines):
        heads[i] = -1  # as it was, for the next row
    return good


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _lie_apart(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    part_offsets: cython.longlong[::1],
    first_part: cython.longlong,
    last_part: cython.longlong,
    boxes: cython.double[:, ::1],
) -> cython.int:
    """Return 1 if the boxes of the outer rings of some parts have no point in common."""
    n: cython.longlong = last_part - first_part
    a: cython.longlong
    b: cython.longlong
    k: cython.longlong
    g: cython.longlong
    for a in range(n):
        if part_offsets[first_part + a] == part_offsets[first_part + a + 1]:
            return 0
        g = part_offsets[first_part + a]
        k = ring_offsets[g]
        if k == ring_offsets[g + 1]:
            return 0
        boxes[a, 0] = boxes[a, 2] = xy[k, 0]
        boxes[a, 1] = boxes[a, 3] = xy[k, 1]
        for k in range(ring_offsets[g], ring_offsets[g + 1]):
            boxes[a, 0] = min(boxes[a, 0], xy[k, 0])
            boxes[a, 1] = min(boxes[a, 1], xy[k, 1])
            boxes[a, 2] = max(boxes[a, 2], xy[k, 0])
            boxes[a, 3] = max(boxes[a, 3], xy[k, 1])
        for b in range(a):
            # Said so that what is not a number lies apart from nothing.
            if not (
                boxes[a, 0] > boxes[b, 2]
                or boxes[a, 2] < boxes[b, 0]
                or boxes[a, 1] > boxes[b, 3]
                or boxes[a, 3] < boxes[b, 1]
            ):
                return 0
    return 1


def find_sound(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    part_offsets: cython.longlong[::1],
    row_offsets: cython.longlong[::1],
    first_row: cython.longlong,
    last_row: cython.longlong,
    most_parts: cython.longlong,
    heads: cython.int[::1],
    links: cython.int[:, ::1],
    rings: cython.int[:, ::1],
    lines: cython.int[::1],
    parent: cython.int[::1],
    points: cython.int[::1],
    touches: cython.uchar[::1],
    boxes: cython.double[:, ::1],
    sums: cython.double[::1],
    is_sound: cython.uchar[::1],
) -> None:
    """Mark in ``is_sound`` rows from ``first_row`` up to ``last_row`` that are plainly valid.

    Rows marked already are passed over. No ring is open, wrongly turned or has a vertex twice in a row;
    rings of a part that touch hang together at one place only. ``heads`` is room for three cells for
    each vertex of the largest row, all -1 at first and again at the end, ``lines`` for as many;
    ``links`` (16 times as many as vertices, and 128, 3) for what is in them; ``rings`` (5, vertices),
    ``parent``, ``points``, ``touches`` and ``boxes`` (vertices, 4) for its rings, vertices and parts. A
    row whose edges crowd together is left.

    Parts whose boxes lie apart, looked for among ``most_parts`` at most, are looked at one by one.
    """
    r: cython.longlong
    part: cython.longlong
    first: cython.longlong
    last: cython.longlong
    good: cython.int
    with cython.nogil:
        for r in range(first_row, last_row):
            first = row_offsets[r]
            last = row_offsets[r + 1]
            if is_sound[r] or first == last:
                continue
            if 1 < last - first <= most_parts and _lie_apart(
                xy, ring_offsets, part_offsets, first, last, boxes
            ):
                good = 1
                for part in range(first, last):
                    good = _are_sound(
                        xy,
                        ring_offsets,
                        part_offsets,
                        part,
                        part + 1,
                        heads,
                        links,
                        rings,
                        lines,
                        parent,
                        points,
                        touches,
                        sums,
                    )
                    if not good:
                        break
            else:
                good = _are_sound(
                    xy,
                    ring_offsets,
                    part_offsets,
                    first,
                    last,
                    heads,
                    links,
                    rings,
                    lines,
                    parent,
                    points,
                    touches,
                    sums,
                )
            if good:
                is_sound[r] = 1
