"""Polygons that are plainly valid, found row by row on a small grid of each row's own.

Most rows of most layers are: each ring closed, without repeats, turned the usual way and meeting not
itself, no other but in a vertex that both have, with its holes inside and its parts apart. To say so
costs little; what is in doubt is left to others.
"""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.lattice import Lattice, lattice_of
    from cython.cimports.polygene.kernels.meetings import edges_meet_well
    from cython.cimports.polygene.kernels.nesting import lie_well
else:
    from polygene.kernels.lattice import Lattice, lattice_of
    from polygene.kernels.meetings import edges_meet_well
    from polygene.kernels.nesting import lie_well


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
    i: cython.longlong
    first: cython.longlong = part_offsets[first_part]
    last: cython.longlong = part_offsets[last_part]
    lattice: Lattice
    good: cython.int
    if not _are_rings(ring_offsets, part_offsets, first_part, last_part, rings, parent):
        return 0
    lattice = lattice_of(xy, ring_offsets, first, last, touches)
    if lattice.n_columns == 0:
        return 0
    good = edges_meet_well(
        xy, ring_offsets, first, last, lattice, heads, links, rings, parent, points, touches, sums
    ) and lie_well(
        xy, ring_offsets, first, last, lattice, heads, links, rings, lines, touches, sums
    )
    for i in range(lattice.n_columns * lattice.n_lines):
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
