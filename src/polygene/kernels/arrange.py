"""Half-edges about nodes, the cycles they form, and the winding of the faces.

Edge e has two half-edges: 2e from its lexicographically smaller end to the larger, 2e + 1 back. A
half-edge's face lies to its left; its twin is ``h ^ 1``.
"""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.exact import angle_before
    from cython.cimports.polygene.kernels.wide import int128
else:
    from polygene.kernels.exact import angle_before

    int128 = int


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _comes_before(
    g: cython.longlong,
    h: cython.longlong,
    origin: cython.int[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
) -> cython.int:
    """Return 1 if g leaves the node that both leave at a smaller angle than h."""
    a: cython.longlong = origin[g]
    b: cython.longlong = origin[g ^ 1]
    c: cython.longlong = origin[h ^ 1]
    return angle_before(
        node_x[b] - node_x[a], node_y[b] - node_y[a], node_x[c] - node_x[a], node_y[c] - node_y[a]
    )


def sort_around(
    node_offsets: cython.longlong[::1],
    leaving: cython.longlong[::1],
    origin: cython.int[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
    spare: cython.longlong[::1],
) -> None:
    """Sort the half-edges that leave each node by exact angle, counter-clockwise, in place.

    Those of node v are ``leaving[node_offsets[v]:node_offsets[v + 1]]``; no two have the same
    direction. ``spare`` is room for as many as leave the busiest node. Merge sort in runs of
    doubling length, after runs of eight are sorted by insertion.
    """
    v: cython.Py_ssize_t
    start: cython.longlong
    stop: cython.longlong
    run: cython.longlong
    low: cython.longlong
    middle: cython.longlong
    high: cython.longlong
    i: cython.longlong
    j: cython.longlong
    k: cython.longlong
    h: cython.longlong
    with cython.nogil:
        for v in range(node_offsets.shape[0] - 1):
            start = node_offsets[v]
            stop = node_offsets[v + 1]
            if stop - start < 3:
                continue
            low = start
            while low < stop:
                high = low + 8 if low + 8 < stop else stop
                for i in range(low + 1, high):
                    h = leaving[i]
                    j = i
                    while j > low and _comes_before(h, leaving[j - 1], origin, node_x, node_y):
                        leaving[j] = leaving[j - 1]
                        j -= 1
                    leaving[j] = h
                low += 8
            run = 8
            while run < stop - start:
                low = start
                while low + run < stop:
                    middle = low + run
                    high = middle + run if middle + run < stop else stop
                    for i in range(low, middle):
                        spare[i - low] = leaving[i]
                    i = 0
                    j = middle
                    k = low
                    while i < middle - low:
                        if j < high and _comes_before(leaving[j], spare[i], origin, node_x, node_y):
                            leaving[k] = leaving[j]
                            j += 1
                        else:
                            leaving[k] = spare[i]
                            i += 1
                        k += 1
                    low += 2 * run
                run *= 2


def link_around(
    node_offsets: cython.longlong[::1],
    leaving: cython.longlong[::1],
    following: cython.int[::1],
) -> None:
    """Set ``following[h]``: the next half-edge of the face to the left of h.

    At the node that h reaches it is the first half-edge clockwise from h's twin.
    """
    v: cython.Py_ssize_t
    i: cython.longlong
    before: cython.longlong
    with cython.nogil:
        for v in range(node_offsets.shape[0] - 1):
            if node_offsets[v] == node_offsets[v + 1]:
                continue
            before = leaving[node_offsets[v + 1] - 1]
            for i in range(node_offsets[v], node_offsets[v + 1]):
                following[leaving[i] ^ 1] = before
                before = leaving[i]


def trace_cycles(following: cython.int[::1], cycle_of: cython.int[::1]) -> cython.longlong:
    """Number the cycles of half-edges in ``cycle_of`` (all -1 before); return how many."""
    n_cycles: cython.longlong = 0
    h: cython.Py_ssize_t
    g: cython.longlong
    with cython.nogil:
        for h in range(following.shape[0]):
            if cycle_of[h] >= 0:
                continue
            g = h
            while cycle_of[g] < 0:
                cycle_of[g] = n_cycles
                g = following[g]
            n_cycles += 1
    return n_cycles


def find_outer(
    roots: cython.longlong[::1],
    node_offsets: cython.longlong[::1],
    leaving: cython.longlong[::1],
    origin: cython.int[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
    outer: cython.longlong[::1],
) -> None:
    """For the lexicographically smallest node of each component, find who sees the outside.

    All half-edges leave such a node to the right or straight up. The outside lies counter-clockwise
    of the steepest, so to its left.
    """
    k: cython.Py_ssize_t
    i: cython.longlong
    g: cython.longlong
    h: cython.longlong
    g_low: cython.int
    h_low: cython.int
    with cython.nogil:
        for k in range(roots.shape[0]):
            g = leaving[node_offsets[roots[k]]]
            for i in range(node_offsets[roots[k]] + 1, node_offsets[roots[k] + 1]):
                h = leaving[i]
                g_low = node_y[origin[g ^ 1]] < node_y[roots[k]]
                h_low = node_y[origin[h ^ 1]] < node_y[roots[k]]
                if (
                    g_low
                    and not h_low
                    or g_low == h_low
                    and _comes_before(g, h, origin, node_x, node_y)
                ):
                    g = h
            outer[k] = g


def list_deltas(
    given: cython.int[::1],
    part: cython.int[::1],
    sign: cython.schar[::1],
    line_of_given: cython.int[::1],
    is_given_reversed: cython.uchar[::1],
    step_offsets: cython.longlong[::1],
    step_edge: cython.int[::1],
    is_step_reversed: cython.uchar[::1],
    fills: cython.int,
    nexts: cython.longlong[::1],
    delta_part: cython.int[::1],
    delta_sign: cython.schar[::1],
    delta_line: cython.int[::1],
) -> None:
    """List by noded edge the parts that it bounds, with the sign of each and the line that it is of.

    With ``fills`` 0 they are counted in ``nexts`` (0 before), by edge; with 1 they are stored from
    ``nexts[edge]`` on, which moves. Given edges without a line (-1) have no length.
    """
    i: cython.Py_ssize_t
    k: cython.longlong
    e: cython.longlong
    line: cython.longlong
    with cython.nogil:
        for i in range(given.shape[0]):
            line = line_of_given[given[i]]
            if line < 0:
                continue
            for k in range(step_offsets[line], step_offsets[line + 1]):
                e = step_edge[k]
                if fills:
                    delta_part[nexts[e]] = part[i]
                    delta_sign[nexts[e]] = cython.cast(
                        cython.schar,
                        -sign[i] if is_given_reversed[given[i]] != is_step_reversed[k] else sign[i],
                    )
                    delta_line[nexts[e]] = cython.cast(cython.int, line)
                nexts[e] += 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _covers(w: cython.longlong, by_sign: cython.int) -> cython.longlong:
    """Return 1 if a part that winds w times round a face covers it."""
    if by_sign:
        return 1 if w > 0 else 0
    return w & 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _crossed(
    h: cython.longlong,
    delta_offsets: cython.longlong[::1],
    delta_part: cython.int[::1],
    delta_sign: cython.schar[::1],
    row_of_part: cython.longlong[::1],
    by_sign: cython.int,
    windings: cython.longlong[::1],
    covers: cython.longlong[:, ::1],
    n_over: cython.longlong,
) -> cython.longlong:
    """Change the windings of parts, and the rows over it, from those of a face to those beyond h.

    ``covers[r]`` is how many parts of row r cover the face, and where it is among the rows that are
    over it, ``covers[:, 2]``; of these there are ``n_over``. Returns how many there are then.
    """
    k: cython.longlong
    p: cython.longlong
    r: cython.longlong
    w: cython.longlong
    last: cython.longlong
    change: cython.longlong
    for k in range(delta_offsets[h >> 1], delta_offsets[(h >> 1) + 1]):
        p = delta_part[k]
        w = windings[p]
        change = -_covers(w, by_sign)
        w += delta_sign[k] if h & 1 else -delta_sign[k]
        windings[p] = w
        change += _covers(w, by_sign)
        if change == 0:
            continue
        r = row_of_part[p]
        covers[r, 0] += change
        if change == 1 and covers[r, 0] == 1:
            covers[r, 1] = n_over
            covers[n_over, 2] = r
            n_over += 1
        elif covers[r, 0] == 0:
            # The last takes its place.
            n_over -= 1
            last = covers[n_over, 2]
            covers[covers[r, 1], 2] = last
            covers[last, 1] = covers[r, 1]
    return n_over


def wind_faces(
    face_of_halfedge: cython.int[::1],
    way_offsets: cython.longlong[::1],
    ways: cython.longlong[::1],
    delta_offsets: cython.longlong[::1],
    delta_part: cython.int[::1],
    delta_sign: cython.schar[::1],
    row_of_part: cython.longlong[::1],
    by_sign: cython.int,
    stack: cython.longlong[:, ::1],
    windings: cython.longlong[::1],
    covers: cython.longlong[:, ::1],
    label_spans: cython.longlong[:, ::1],
    labels: cython.longlong[::1],
    is_crossed: cython.uchar[::1],
) -> cython.longlong:
    """Walk all faces, there and back, with the winding numbers of all parts; return how many labels.

    From face f the tree that is walked leads through the half-edges
    ``ways[way_offsets[f]:way_offsets[f + 1]]``, and back through the twin of each; face 0 is the
    outside, which nothing winds round. Crossing edge e from left to right takes away
    ``delta_sign[delta_offsets[e]:delta_offsets[e + 1]]`` from the winding number of the parts
    named beside them. A part covers where its winding number is odd, or with ``by_sign`` 1 where it is
    above zero; a row where any part does.

    The rows over face f go to ``labels`` from ``label_spans[f, 0]`` on, ``label_spans[f, 1]`` of them,
    unsorted, each once; if there is not room for all, call again with more. A row is marked in
    ``is_crossed`` where one of its parts winds other than 0 or 1 times, or two of them cover a face.

    However many parts are over a face, crossing an edge costs what it changes: ``windings`` (parts) are
    those of the face one stands on, ``covers`` (rows, 3) which rows that makes; both are 0 at first.
    ``stack`` (faces, 2) has for each face on the way the half-edge it was entered by and the next way.
    """
    depth: cython.longlong = 1
    n_over: cython.longlong = 0
    total: cython.longlong = 0
    g: cython.longlong
    h: cython.longlong
    k: cython.longlong
    w: cython.longlong
    next_way: cython.longlong
    entry: cython.longlong
    # Long for the names of what it is given; the loop is one walk, whose state is all of these.
    with cython.nogil:
        label_spans[0, 0] = label_spans[0, 1] = 0
        stack[0, 0] = -1
        stack[0, 1] = way_offsets[0]
        g = 0
        while True:
            entry = stack[depth - 1, 0]
            next_way = stack[depth - 1, 1]
            if next_way < way_offsets[g + 1]:
                stack[depth - 1, 1] = next_way + 1
                h = ways[next_way]
                if h == entry:
                    continue
                g = face_of_halfedge[h ^ 1]
                stack[depth, 0] = h ^ 1
                stack[depth, 1] = way_offsets[g]
                depth += 1
            else:
                depth -= 1
                if depth == 0:
                    break  # back at the outside
                h = entry
                g = face_of_halfedge[h ^ 1]
            n_over = _crossed(
                h,
                delta_offsets,
                delta_part,
                delta_sign,
                row_of_part,
                by_sign,
                windings,
                covers,
                n_over,
            )
            if h == entry:
                continue
            # Asked when all that the edge bounds is changed: several may cancel each other.
            for k in range(delta_offsets[h >> 1], delta_offsets[(h >> 1) + 1]):
                w = windings[delta_part[k]]
                if (w != 0 and w != 1) or covers[row_of_part[delta_part[k]], 0] > 1:
                    is_crossed[row_of_part[delta_part[k]]] = 1
            label_spans[g, 0] = total
            label_spans[g, 1] = n_over
            for k in range(n_over):
                if total < labels.shape[0]:
                    labels[total] = covers[k, 2]
                total += 1
    return total


def find_least(
    root_of_node: cython.longlong[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
    least: cython.longlong[::1],
) -> None:
    """Set ``least[root]`` (-1 before) to the lexicographically smallest node of each component."""
    v: cython.Py_ssize_t
    r: cython.longlong
    w: cython.longlong
    with cython.nogil:
        for v in range(root_of_node.shape[0]):
            r = root_of_node[v]
            w = least[r]
            if w < 0 or node_x[v] < node_x[w] or (node_x[v] == node_x[w] and node_y[v] < node_y[w]):
                least[r] = v


def sign_rings(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    ring_offsets: cython.longlong[::1],
    signs: cython.longlong[::1],
) -> None:
    """Set +1 for rings of positive area (counter-clockwise), -1 for negative, 0 for none. Exact.

    Shoelace about the first vertex; terms stay below 2**85, so 2**40 of them fit.
    """
    r: cython.Py_ssize_t
    k: cython.longlong
    first: cython.longlong
    area: int128
    with cython.nogil:
        for r in range(ring_offsets.shape[0] - 1):
            area = 0
            first = ring_offsets[r]
            for k in range(first + 1, ring_offsets[r + 1] - 1):
                area += cython.cast(int128, x[k] - x[first]) * (y[k + 1] - y[first]) - cython.cast(
                    int128, y[k] - y[first]
                ) * (x[k + 1] - x[first])
            signs[r] = 1 if area > 0 else (-1 if area < 0 else 0)
