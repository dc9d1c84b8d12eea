"""Rings parted into chains of edges, in a tree of boxes, to find in it whether any of them meet.

Each ring is parted into short chains that go one way all along, right, left, up or down: none of them
can meet itself. Four boxes each time go into a larger one, as they follow each other on the rings, and
only edges whose boxes, and all those about them, overlap are held to each other. What touches, or is
not sound, is left to others.
"""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.valid import side_of
else:
    from polygene.kernels.valid import side_of

LONGEST = cython.declare(cython.longlong, 8)  # edges of a chain

if not cython.compiled:  # compiled it is that of the .pxd, which `simple` has too
    # The leaves and levels of a tree.
    Tree = cython.struct(n_leaves=cython.longlong, n_levels=cython.longlong)


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _side(
    xy: cython.double[:, ::1],
    a: cython.longlong,
    b: cython.longlong,
    c: cython.longlong,
    sums: cython.double[::1],
) -> cython.int:
    """Return what `orient` does of three vertices."""
    return side_of(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1], sums)


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _ways(ax: cython.double, ay: cython.double, bx: cython.double, by: cython.double) -> cython.int:
    """Return the ways that lead from a to b, right 1, left 2, up 4 and down 8; 0 if they are equal."""
    return (
        (1 if bx > ax else 0)
        | (2 if bx < ax else 0)
        | (4 if by > ay else 0)
        | (8 if by < ay else 0)
    )


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _turns_back(
    xy: cython.double[:, ::1],
    a: cython.longlong,
    b: cython.longlong,
    c: cython.longlong,
    sums: cython.double[::1],
) -> cython.bint:
    """Return whether the edge from b to c runs back over that from a to b."""
    if _side(xy, a, b, c, sums) != 0:
        return False
    # On one line: it goes on if it goes the same way.
    return (
        _ways(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1])
        & _ways(xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1])
    ) == 0


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _overlap(boxes: cython.double[:, ::1], a: cython.longlong, b: cython.longlong) -> cython.bint:
    """Return whether two boxes have a point in common."""
    # Not `and`: four comparisons cost less than a branch taken wrongly.
    return (
        (boxes[a, 0] <= boxes[b, 2])
        & (boxes[b, 0] <= boxes[a, 2])
        & (boxes[a, 1] <= boxes[b, 3])
        & (boxes[b, 1] <= boxes[a, 3])
    )


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _reaches(
    xy: cython.double[:, ::1], e: cython.longlong, boxes: cython.double[:, ::1], b: cython.longlong
) -> cython.bint:
    """Return whether the box of the edge from vertex e has a point in common with a box."""
    return (
        (min(xy[e, 0], xy[e + 1, 0]) <= boxes[b, 2])
        & (boxes[b, 0] <= max(xy[e, 0], xy[e + 1, 0]))
        & (min(xy[e, 1], xy[e + 1, 1]) <= boxes[b, 3])
        & (boxes[b, 1] <= max(xy[e, 1], xy[e + 1, 1]))
    )


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _meet(
    xy: cython.double[:, ::1], e: cython.longlong, f: cython.longlong, sums: cython.double[::1]
) -> cython.bint:
    """Return whether the edges from vertex e and from vertex f have a point in common."""
    if (
        (min(xy[e, 0], xy[e + 1, 0]) > max(xy[f, 0], xy[f + 1, 0]))
        | (min(xy[f, 0], xy[f + 1, 0]) > max(xy[e, 0], xy[e + 1, 0]))
        | (min(xy[e, 1], xy[e + 1, 1]) > max(xy[f, 1], xy[f + 1, 1]))
        | (min(xy[f, 1], xy[f + 1, 1]) > max(xy[e, 1], xy[e + 1, 1]))
    ):
        return False
    if _side(xy, e, e + 1, f, sums) * _side(xy, e, e + 1, f + 1, sums) > 0:
        return False
    return _side(xy, f, f + 1, e, sums) * _side(xy, f, f + 1, e + 1, sums) <= 0


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _end_chain(
    n: cython.longlong,
    last: cython.longlong,
    ways: cython.int,
    low_x: cython.double,
    low_y: cython.double,
    high_x: cython.double,
    high_y: cython.double,
    leaves: cython.int[:, ::1],
    boxes: cython.double[:, ::1],
) -> cython.void:
    """End chain n in a vertex."""
    leaves[n, 1] = cython.cast(cython.int, last)
    leaves[n, 3] = ways
    boxes[n, 0] = low_x
    boxes[n, 1] = low_y
    boxes[n, 2] = high_x
    boxes[n, 3] = high_y


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def part_into_chains(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    part_offsets: cython.longlong[::1],
    first_part: cython.longlong,
    last_part: cython.longlong,
    rings: cython.int[:, ::1],
    leaves: cython.int[:, ::1],
    boxes: cython.double[:, ::1],
) -> cython.longlong:
    """Part rings into chains; return how many, or -1 for rings that are not sound.

    Not sound is a ring that is open, too short, stands still, or has coordinates out of the range in
    which products neither overflow nor vanish.
    """
    first_ring: cython.longlong = part_offsets[first_part]
    base: cython.longlong = ring_offsets[first_ring]
    part: cython.longlong
    g: cython.longlong
    k: cython.longlong
    last: cython.longlong
    least: cython.longlong
    n: cython.longlong = -1
    room: cython.longlong
    ways: cython.int
    way: cython.int
    x: cython.double
    y: cython.double
    last_x: cython.double
    last_y: cython.double
    low_x: cython.double
    low_y: cython.double
    high_x: cython.double
    high_y: cython.double
    for part in range(first_part, last_part):
        if part_offsets[part] == part_offsets[part + 1]:
            return -1
        for g in range(part_offsets[part], part_offsets[part + 1]):
            least = ring_offsets[g]
            last = ring_offsets[g + 1] - 1
            if last - least < 3 or xy[least, 0] != xy[last, 0] or xy[least, 1] != xy[last, 1]:
                return -1
            n += 1
            rings[g - first_ring, 3] = cython.cast(cython.int, n)
            leaves[n, 0] = cython.cast(cython.int, least - base)
            leaves[n, 2] = cython.cast(cython.int, g - first_ring)
            ways = 15
            room = LONGEST
            last_x = low_x = high_x = xy[least, 0]
            last_y = low_y = high_y = xy[least, 1]
            for k in range(ring_offsets[g], last):
                x = xy[k + 1, 0]
                y = xy[k + 1, 1]
                # Not a number is in no range. The last vertex is the first.
                if not (-1e150 < x < 1e150 and -1e150 < y < 1e150):
                    return -1
                way = _ways(last_x, last_y, x, y)
                if way == 0:
                    return -1
                if ways & way == 0 or room == 0:
                    _end_chain(n, k - base, ways, low_x, low_y, high_x, high_y, leaves, boxes)
                    n += 1
                    leaves[n, 0] = cython.cast(cython.int, k - base)
                    leaves[n, 2] = cython.cast(cython.int, g - first_ring)
                    ways = 15
                    room = LONGEST
                    low_x = high_x = last_x
                    low_y = high_y = last_y
                room -= 1
                ways &= way
                low_x = min(low_x, x)
                low_y = min(low_y, y)
                high_x = max(high_x, x)
                high_y = max(high_y, y)
                if x < xy[least, 0] or (x == xy[least, 0] and y < xy[least, 1]):
                    least = k + 1
                last_x = x
                last_y = y
            _end_chain(n, last - base, ways, low_x, low_y, high_x, high_y, leaves, boxes)
            rings[g - first_ring, 0] = cython.cast(cython.int, part - first_part)
            rings[g - first_ring, 1] = 1 if g == part_offsets[part] else 0
            rings[g - first_ring, 2] = cython.cast(cython.int, least - base)
    return n + 1


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def build_tree(
    n: cython.longlong, boxes: cython.double[:, ::1], levels: cython.longlong[::1]
) -> cython.longlong:
    """Put boxes about each four that follow each other, up to one; return how many levels there are.

    Those of level l begin at ``levels[l]``, the chains' own at 0.
    """
    n_levels: cython.longlong = 1
    first: cython.longlong = 0
    k: cython.longlong
    i: cython.longlong
    levels[0] = 0
    while n > 1:
        levels[n_levels] = first + n
        for k in range((n + 3) >> 2):
            for i in range(4):
                boxes[first + n + k, i] = boxes[first + 4 * k, i]
            for i in range(first + 4 * k + 1, first + min(4 * k + 4, n)):
                boxes[first + n + k, 0] = min(boxes[first + n + k, 0], boxes[i, 0])
                boxes[first + n + k, 1] = min(boxes[first + n + k, 1], boxes[i, 1])
                boxes[first + n + k, 2] = max(boxes[first + n + k, 2], boxes[i, 2])
                boxes[first + n + k, 3] = max(boxes[first + n + k, 3], boxes[i, 3])
        first += n
        n = (n + 3) >> 2
        n_levels += 1
    levels[n_levels] = first + 1
    return n_levels


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _chains_apart(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    leaves: cython.int[:, ::1],
    boxes: cython.double[:, ::1],
    a: cython.longlong,
    b: cython.longlong,
    sums: cython.double[::1],
) -> cython.bint:
    """Return whether two chains have nothing in common but where one leads on to the other."""
    base: cython.longlong = ring_offsets[first_ring]
    g: cython.longlong = first_ring + leaves[a, 2]
    begin: cython.longlong = ring_offsets[g]
    end: cython.longlong = ring_offsets[g + 1] - 1
    e: cython.longlong
    f: cython.longlong
    is_one_ring: cython.bint = leaves[a, 2] == leaves[b, 2]
    # The first of a ring follows its last.
    leads_on: cython.bint = is_one_ring and leaves[a, 1] == leaves[b, 0]
    leads_back: cython.bint = (
        is_one_ring and base + leaves[b, 1] == end and base + leaves[a, 0] == begin
    )
    if (leads_on or leads_back) and leaves[a, 3] & leaves[b, 3]:
        return True  # one chain that goes one way, parted for its length
    for e in range(base + leaves[a, 0], base + leaves[a, 1]):
        if not _reaches(xy, e, boxes, b):
            continue
        for f in range(base + leaves[b, 0], base + leaves[b, 1]):
            if leads_on and e + 1 == f:
                if _turns_back(xy, e, f, f + 1, sums):
                    return False
            elif leads_back and f + 1 == end and e == begin:
                if _turns_back(xy, f, e, e + 1, sums):
                    return False
            elif _meet(xy, e, f, sums):
                return False
    return True


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def are_apart(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    first_ring: cython.longlong,
    tree: Tree,
    leaves: cython.int[:, ::1],
    boxes: cython.double[:, ::1],
    levels: cython.longlong[::1],
    stack: cython.longlong[:, ::1],
    sums: cython.double[::1],
) -> cython.bint:
    """Return whether no chains have anything in common but where they lead on to each other.

    Where boxes overlap so much that there are more than eight pairs for each chain looked at so far,
    and one for each that there is, this is not said: others do that sooner.
    """
    left: cython.longlong = tree.n_leaves + 256
    n: cython.longlong = 1
    level: cython.longlong
    a: cython.longlong
    b: cython.longlong
    i: cython.longlong
    j: cython.longlong
    below: cython.longlong
    last: cython.longlong
    stack[0, 0] = tree.n_levels - 1
    stack[0, 1] = stack[0, 2] = 0
    while n > 0:
        n -= 1
        level = stack[n, 0]
        a = stack[n, 1]
        b = stack[n, 2]
        if level == 0:
            left -= 1
            if left < 0 or (
                a != b
                and not _chains_apart(xy, ring_offsets, first_ring, leaves, boxes, a, b, sums)
            ):
                return False
            continue
        if level == 1 and a == b:
            left += 32
        below = levels[level - 1]
        last = levels[level] - below
        for i in range(4 * a, min(4 * a + 4, last)):
            for j in range(i if a == b else 4 * b, min(4 * b + 4, last)):
                # A chain has nothing to do with itself.
                if (i == j and level > 1) or (i != j and _overlap(boxes, below + i, below + j)):
                    stack[n, 0] = level - 1
                    stack[n, 1] = i
                    stack[n, 2] = j
                    n += 1
    return True
