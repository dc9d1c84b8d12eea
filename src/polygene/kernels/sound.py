"""Polygons that are plainly valid, found row by row on a small grid of each row's own.

Most rows of most layers are: each ring closed, without repeats, turned the usual way, meeting no other
and not itself, with its holes inside. To say so costs little; what is in doubt is left to others.
"""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.valid import orient
else:
    from polygene.kernels.valid import orient


@cython.cfunc
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
        == _side(xy[k, 0], xy[k, 1], xy[least, 0], xy[least, 1], xy[least + 1, 0], xy[least + 1, 1],
                 sums)
        else 0
    )  # fmt: skip


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _holds(
    xy: cython.double[:, ::1],
    first: cython.longlong,
    last: cython.longlong,
    p: cython.longlong,
    sums: cython.double[::1],
) -> cython.int:
    """Return 1 if the ring from ``first`` to ``last`` has vertex p, which is not on it, inside."""
    k: cython.longlong
    inside: cython.int = 0
    side: cython.int
    for k in range(first, last):
        if (xy[k, 1] > xy[p, 1]) != (xy[k + 1, 1] > xy[p, 1]):
            side = _side(xy[k, 0], xy[k, 1], xy[k + 1, 0], xy[k + 1, 1], xy[p, 0], xy[p, 1], sums)
            if (side > 0) == (xy[k + 1, 1] > xy[k, 1]):
                inside = 1 - inside
    return inside


def find_sound(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    part_offsets: cython.longlong[::1],
    row_offsets: cython.longlong[::1],
    first_row: cython.longlong,
    last_row: cython.longlong,
    most_holes: cython.longlong,
    heads: cython.int[::1],
    links: cython.int[:, ::1],
    sums: cython.double[::1],
    is_sound: cython.uchar[::1],
) -> None:
    """Mark in ``is_sound`` rows from ``first_row`` up to ``last_row`` that are plainly valid.

    They have one part and at most ``most_holes`` holes, no ring open, wrongly turned or with a vertex
    twice in a row. ``heads`` is room for three cells for each vertex of the largest row, all -1 at
    first and again at the end; ``links`` (8 times as many as vertices, and 64, 2) for what is in them.
    A row whose edges crowd together is left.

    Cells are found by floating point that rises with the coordinate, so two edges that meet share the
    cell of the place where they do, whatever is rounded.
    """
    r: cython.longlong
    g: cython.longlong
    h: cython.longlong
    first_ring: cython.longlong
    last_ring: cython.longlong
    base: cython.longlong
    stop: cython.longlong
    k: cython.longlong
    e: cython.longlong
    f: cython.longlong
    n: cython.longlong
    ring_start: cython.longlong
    ring_last: cython.longlong
    n_columns: cython.longlong
    n_lines: cython.longlong
    n_links: cython.int
    n_tests: cython.longlong
    link: cython.int
    i: cython.longlong
    j: cython.longlong
    i0: cython.longlong
    i1: cython.longlong
    j0: cython.longlong
    j1: cython.longlong
    low_x: cython.double
    low_y: cython.double
    high_x: cython.double
    high_y: cython.double
    per_x: cython.double
    per_y: cython.double
    a: cython.double
    b: cython.double
    good: cython.int
    with cython.nogil:
        for r in range(first_row, last_row):
            if row_offsets[r + 1] - row_offsets[r] != 1:
                continue
            first_ring = part_offsets[row_offsets[r]]
            last_ring = part_offsets[row_offsets[r] + 1]
            if last_ring == first_ring or last_ring - first_ring > most_holes + 1:
                continue
            base = ring_offsets[first_ring]
            stop = ring_offsets[last_ring]
            n = stop - base
            good = 1
            if n < 4:
                continue
            low_x = high_x = xy[base, 0]
            low_y = high_y = xy[base, 1]
            for g in range(first_ring, last_ring):
                ring_start = ring_offsets[g]
                ring_last = ring_offsets[g + 1] - 1
                if (
                    ring_last - ring_start < 3
                    or xy[ring_start, 0] != xy[ring_last, 0]
                    or xy[ring_start, 1] != xy[ring_last, 1]
                ):
                    good = 0
                    break
                for k in range(ring_start, ring_last):
                    a = xy[k, 0]
                    b = xy[k, 1]
                    # Not a number is in no range; what is not finite is caught by the width.
                    if not (-1e150 < a < 1e150 and -1e150 < b < 1e150):
                        good = 0
                    if a == xy[k + 1, 0] and b == xy[k + 1, 1]:
                        good = 0
                    if a < low_x:
                        low_x = a
                    if a > high_x:
                        high_x = a
                    if b < low_y:
                        low_y = b
                    if b > high_y:
                        high_y = b
                if not good:
                    break
            # So small that products vanish, or flat: for others to say.
            if not good or not (high_x - low_x > 1e-100 and high_y - low_y > 1e-100):
                continue
            a = high_x - low_x
            b = high_y - low_y
            # Square cells, three for each vertex.
            per_x = a / b * 3.0 * n
            n_columns = cython.cast(cython.longlong, per_x**0.5) if per_x < 1e15 else 3 * n
            n_columns = min(max(n_columns, 1), 3 * n)
            n_lines = max((3 * n) // n_columns, 1)
            per_x = n_columns / a
            per_y = n_lines / b
            n_links = 0
            n_tests = 0
            for g in range(first_ring, last_ring):
                ring_start = ring_offsets[g]
                ring_last = ring_offsets[g + 1] - 1
                for e in range(ring_start, ring_last):
                    a = xy[e, 0]
                    b = xy[e + 1, 0]
                    i0 = cython.cast(cython.longlong, ((a if a < b else b) - low_x) * per_x)
                    i1 = cython.cast(cython.longlong, ((b if a < b else a) - low_x) * per_x)
                    a = xy[e, 1]
                    b = xy[e + 1, 1]
                    j0 = cython.cast(cython.longlong, ((a if a < b else b) - low_y) * per_y)
                    j1 = cython.cast(cython.longlong, ((b if a < b else a) - low_y) * per_y)
                    i0 = min(i0, n_columns - 1)
                    i1 = min(i1, n_columns - 1)
                    j0 = min(j0, n_lines - 1)
                    j1 = min(j1, n_lines - 1)
                    if n_links + (i1 - i0 + 1) * (j1 - j0 + 1) > 8 * n + 64 or n_tests > 64 * n:
                        good = 0
                        break
                    # Its neighbours; the one that follows the last is the first.
                    k = e + 1 if e + 1 < ring_last else ring_start
                    if _turns_back(
                        xy[e, 0], xy[e, 1], xy[k, 0], xy[k, 1], xy[k + 1, 0], xy[k + 1, 1], sums
                    ):
                        good = 0
                        break
                    for j in range(j0, j1 + 1):
                        for i in range(i0, i1 + 1):
                            link = heads[j * n_columns + i]
                            while link >= 0:
                                f = base + links[link, 0]
                                link = links[link, 1]
                                n_tests += 1
                                # Edges come in order: f before e.
                                if f + 1 == e and e != ring_start:
                                    continue
                                if k == ring_start and f == ring_start:
                                    continue
                                if _meet(xy, e, f, sums):
                                    good = 0
                            links[n_links, 0] = cython.cast(cython.int, e - base)
                            links[n_links, 1] = heads[j * n_columns + i]
                            heads[j * n_columns + i] = n_links
                            n_links += 1
                    if not good:
                        break
                if not good:
                    break
            for i in range(n_columns * n_lines):
                heads[i] = -1
            if not good:
                continue
            for g in range(first_ring, last_ring):
                ring_start = ring_offsets[g]
                ring_last = ring_offsets[g + 1] - 1
                if not _is_turned(xy, ring_start, ring_last, 1 if g == first_ring else -1, sums):
                    good = 0
                for h in range(first_ring, last_ring):
                    if g in (first_ring, h):
                        continue
                    # In the outer ring and in no other hole.
                    if _holds(xy, ring_offsets[h], ring_offsets[h + 1] - 1, ring_start, sums) != (
                        1 if h == first_ring else 0
                    ):
                        good = 0
            is_sound[r] = good
