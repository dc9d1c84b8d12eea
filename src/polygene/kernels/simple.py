"""Polygons whose rings are simple and touch nothing, found row by row in a tree of their chains.

What touches, or is not sound, is left to others.
"""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.chains import (
        Tree,
        are_apart,
        build_tree,
        part_into_chains,
    )
    from cython.cimports.polygene.kernels.valid import side_of
else:
    from polygene.kernels.chains import Tree, are_apart, build_tree, part_into_chains
    from polygene.kernels.valid import side_of


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _bound_rings(
    n_rings: cython.longlong,
    n_leaves: cython.longlong,
    rings: cython.int[:, ::1],
    boxes: cython.double[:, ::1],
    ring_boxes: cython.double[:, ::1],
) -> cython.void:
    """Put a box about the chains of each ring."""
    g: cython.longlong
    i: cython.longlong
    k: cython.longlong
    for g in range(n_rings):
        for i in range(4):
            ring_boxes[g, i] = boxes[rings[g, 3], i]
        for k in range(rings[g, 3] + 1, rings[g + 1, 3] if g + 1 < n_rings else n_leaves):
            ring_boxes[g, 0] = min(ring_boxes[g, 0], boxes[k, 0])
            ring_boxes[g, 1] = min(ring_boxes[g, 1], boxes[k, 1])
            ring_boxes[g, 2] = max(ring_boxes[g, 2], boxes[k, 2])
            ring_boxes[g, 3] = max(ring_boxes[g, 3], boxes[k, 3])


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _is_round(
    xy: cython.double[:, ::1],
    base: cython.longlong,
    p: cython.longlong,
    first: cython.longlong,
    stop: cython.longlong,
    tree: Tree,
    leaves: cython.int[:, ::1],
    boxes: cython.double[:, ::1],
    levels: cython.longlong[::1],
    stack: cython.longlong[:, ::1],
    used: cython.longlong,
    sums: cython.double[::1],
) -> cython.bint:
    """Return whether the ring of chains from ``first`` up to ``stop`` is round vertex p.

    It is if an odd number of its edges lie below. The stack is free from ``used`` on.
    """
    n: cython.longlong = used + 1
    level: cython.longlong
    k: cython.longlong
    i: cython.longlong
    box: cython.longlong
    found: cython.bint = False
    stack[used, 0] = tree.n_levels - 1
    stack[used, 1] = 0
    while n > used:
        n -= 1
        level = stack[n, 0]
        k = stack[n, 1]
        levels[39] -= 1
        if level > 0:
            for i in range(4 * k, min(4 * k + 4, levels[level] - levels[level - 1])):
                box = levels[level - 1] + i
                if (
                    i << (2 * (level - 1)) < stop
                    and (i + 1) << (2 * (level - 1)) > first
                    and boxes[box, 0] <= xy[p, 0] <= boxes[box, 2]
                    and boxes[box, 1] <= xy[p, 1]
                ):
                    stack[n, 0] = level - 1
                    stack[n, 1] = i
                    n += 1
            continue
        for i in range(base + leaves[k, 0], base + leaves[k, 1]):
            if (xy[i, 0] > xy[p, 0]) != (xy[i + 1, 0] > xy[p, 0]) and side_of(
                xy[i, 0], xy[i, 1], xy[i + 1, 0], xy[i + 1, 1], xy[p, 0], xy[p, 1], sums
            ) == (1 if xy[i + 1, 0] > xy[i, 0] else -1):
                found = not found
    return found


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _lies_well(
    xy: cython.double[:, ::1],
    base: cython.longlong,
    ring: cython.longlong,
    n_rings: cython.longlong,
    tree: Tree,
    of_rings: Tree,
    rings: cython.int[:, ::1],
    leaves: cython.int[:, ::1],
    boxes: cython.double[:, ::1],
    ring_boxes: cython.double[:, ::1],
    levels: cython.longlong[::1],
    ring_levels: cython.longlong[::1],
    stack: cython.longlong[:, ::1],
    sums: cython.double[::1],
) -> cython.bint:
    """Return whether a hole lies in its outer ring and in no other hole, and a part in no other.

    Asked for a vertex of it, of the rings whose box it lies in. ``levels[39]`` is how many boxes may
    still be looked at for the rings of the row.
    """
    p: cython.longlong = base + rings[ring, 2]
    n: cython.longlong = 1
    level: cython.longlong
    k: cython.longlong
    i: cython.longlong
    box: cython.longlong
    own: cython.longlong = 0
    others: cython.longlong = 0
    stack[0, 0] = of_rings.n_levels - 1
    stack[0, 1] = 0
    while n > 0:
        n -= 1
        level = stack[n, 0]
        k = stack[n, 1]
        levels[39] -= 1
        if levels[39] < 0:
            return False
        if level > 0:
            for i in range(4 * k, min(4 * k + 4, ring_levels[level] - ring_levels[level - 1])):
                box = ring_levels[level - 1] + i
                if (
                    ring_boxes[box, 0] <= xy[p, 0] <= ring_boxes[box, 2]
                    and ring_boxes[box, 1] <= xy[p, 1] <= ring_boxes[box, 3]
                ):
                    stack[n, 0] = level - 1
                    stack[n, 1] = i
                    n += 1
            continue
        if k == ring or not _is_round(
            xy,
            base,
            p,
            rings[k, 3],
            rings[k + 1, 3] if k + 1 < n_rings else tree.n_leaves,
            tree,
            leaves,
            boxes,
            levels,
            stack,
            n,
            sums,
        ):
            continue
        # All of a ring's turns are looked at, so an outer one is round it once and a hole once less.
        if rings[k, 0] == rings[ring, 0]:
            own += 1 if rings[k, 1] else -1
        else:
            others += 1 if rings[k, 1] else -1
    return own == 1 - rings[ring, 1] and not (rings[ring, 1] and others != 0)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _are_simple(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    part_offsets: cython.longlong[::1],
    first_part: cython.longlong,
    last_part: cython.longlong,
    rings: cython.int[:, ::1],
    leaves: cython.int[:, ::1],
    boxes: cython.double[:, ::1],
    ring_boxes: cython.double[:, ::1],
    levels: cython.longlong[::1],
    ring_levels: cython.longlong[::1],
    stack: cython.longlong[:, ::1],
    sums: cython.double[::1],
) -> cython.bint:
    """Return whether parts from ``first_part`` up to ``last_part`` are valid and touch nowhere."""
    first: cython.longlong = part_offsets[first_part]
    last: cython.longlong = part_offsets[last_part]
    base: cython.longlong = ring_offsets[first]
    g: cython.longlong
    p: cython.longlong
    before: cython.longlong
    root: cython.longlong
    tree: Tree = Tree(n_leaves=0, n_levels=0)
    of_rings: Tree = Tree(n_leaves=last - first, n_levels=0)
    tree.n_leaves = part_into_chains(
        xy, ring_offsets, part_offsets, first_part, last_part, rings, leaves, boxes
    )
    if tree.n_leaves < 0:
        return False
    tree.n_levels = build_tree(tree.n_leaves, boxes, levels)
    # So small that products vanish, or flat: for others to say.
    root = levels[tree.n_levels] - 1
    if not (boxes[root, 2] - boxes[root, 0] > 1e-100 and boxes[root, 3] - boxes[root, 1] > 1e-100):
        return False
    if not are_apart(xy, ring_offsets, first, tree, leaves, boxes, levels, stack, sums):
        return False
    if last - first > 1:
        _bound_rings(last - first, tree.n_leaves, rings, boxes, ring_boxes)
        of_rings.n_levels = build_tree(last - first, ring_boxes, ring_levels)
    levels[39] = 64 * tree.n_leaves + 1024
    for g in range(first, last):
        # An outer ring turns left where it comes furthest left, and a hole right.
        p = base + rings[g - first, 2]
        before = p - 1 if p > ring_offsets[g] else ring_offsets[g + 1] - 2
        if side_of(
            xy[before, 0], xy[before, 1], xy[p, 0], xy[p, 1], xy[p + 1, 0], xy[p + 1, 1], sums
        ) != (1 if rings[g - first, 1] else -1):
            return False
        if last - first > 1 and not _lies_well(
            xy,
            base,
            g - first,
            last - first,
            tree,
            of_rings,
            rings,
            leaves,
            boxes,
            ring_boxes,
            levels,
            ring_levels,
            stack,
            sums,
        ):
            return False
    return True


def find_simple(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    part_offsets: cython.longlong[::1],
    row_offsets: cython.longlong[::1],
    first_row: cython.longlong,
    last_row: cython.longlong,
    rings: cython.int[:, ::1],
    leaves: cython.int[:, ::1],
    boxes: cython.double[:, ::1],
    ring_boxes: cython.double[:, ::1],
    levels: cython.longlong[::1],
    ring_levels: cython.longlong[::1],
    stack: cython.longlong[:, ::1],
    sums: cython.double[::1],
    is_sound: cython.uchar[::1],
) -> cython.longlong:
    """Mark in ``is_sound`` rows from ``first_row`` up to ``last_row`` that are valid and touch nowhere.

    Rows marked already are passed over. ``rings`` and ``leaves`` (vertices, 4), ``boxes`` and
    ``ring_boxes`` (2 x vertices, 4) are room for as many as the largest row has, ``levels`` and
    ``ring_levels`` (40,) and ``stack`` (512, 3) for its trees, ``sums`` (16,) for exact ones. Returns
    how many rows are left unmarked.
    """
    r: cython.longlong
    n_left: cython.longlong = 0
    with cython.nogil:
        for r in range(first_row, last_row):
            if is_sound[r]:
                continue
            if row_offsets[r] < row_offsets[r + 1] and _are_simple(
                xy,
                ring_offsets,
                part_offsets,
                row_offsets[r],
                row_offsets[r + 1],
                rings,
                leaves,
                boxes,
                ring_boxes,
                levels,
                ring_levels,
                stack,
                sums,
            ):
                is_sound[r] = 1
            else:
                n_left += 1
    return n_left
