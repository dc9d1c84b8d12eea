"""Borders of chosen faces, traced into rings that never cross, retrace or touch themselves."""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.exact import turn
    from cython.cimports.polygene.kernels.wide import int128
else:
    from polygene.kernels.exact import turn

    int128 = int


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _join(parent: cython.longlong[::1], a: cython.longlong, b: cython.longlong) -> cython.void:
    """Let two entries hang together in a forest; the smaller root is that of both (path halving)."""
    while parent[a] != a:
        parent[a] = parent[parent[a]]
        a = parent[a]
    while parent[b] != b:
        parent[b] = parent[parent[b]]
        b = parent[b]
    if a < b:
        parent[b] = a
    elif b < a:
        parent[a] = b


def find_borders(
    first: cython.longlong,
    last: cython.longlong,
    face_of_halfedge: cython.int[::1],
    entry_offsets: cython.longlong[::1],
    entry_piece: cython.longlong[::1],
    fills: cython.int,
    item_offsets: cython.int[::1],
    item_entry: cython.int[::1],
    item_halfedge: cython.int[::1],
    item_piece: cython.int[::1],
    parent: cython.longlong[::1],
) -> None:
    """Find the half-edges with a piece to their left but not to their right, of a range of edges.

    Face f belongs to the pieces ``entry_piece[entry_offsets[f]:entry_offsets[f + 1]]``, rising. The
    first call (``fills`` 0) counts the border items of half-edge h in ``item_offsets[h + 1]`` and
    joins, in the forest ``parent`` over entries, what belongs to one piece on both sides of an
    edge. The second (1), after summing the counts, stores each item's entry, half-edge and piece.
    """
    e: cython.longlong
    i: cython.longlong
    j: cython.longlong
    k: cython.longlong
    i_stop: cython.longlong
    j_stop: cython.longlong
    n_left: cython.longlong
    n_right: cython.longlong
    left: cython.longlong
    right: cython.longlong
    with cython.nogil:
        for e in range(first, last):
            left = face_of_halfedge[2 * e]
            right = face_of_halfedge[2 * e + 1]
            if left == right:
                continue
            i = entry_offsets[left]
            i_stop = entry_offsets[left + 1]
            j = entry_offsets[right]
            j_stop = entry_offsets[right + 1]
            n_left = 0
            n_right = 0
            while i < i_stop or j < j_stop:
                if j == j_stop or (i < i_stop and entry_piece[i] < entry_piece[j]):
                    if fills:
                        k = item_offsets[2 * e] + n_left
                        item_entry[k] = cython.cast(cython.int, i)
                        item_halfedge[k] = cython.cast(cython.int, 2 * e)
                        item_piece[k] = cython.cast(cython.int, entry_piece[i])
                    n_left += 1
                    i += 1
                elif i == i_stop or entry_piece[j] < entry_piece[i]:
                    if fills:
                        k = item_offsets[2 * e + 1] + n_right
                        item_entry[k] = cython.cast(cython.int, j)
                        item_halfedge[k] = cython.cast(cython.int, 2 * e + 1)
                        item_piece[k] = cython.cast(cython.int, entry_piece[j])
                    n_right += 1
                    j += 1
                else:
                    # In the piece on both sides: no border, and the faces hang together.
                    if not fills:
                        _join(parent, i, j)
                    i += 1
                    j += 1
            if not fills:
                item_offsets[2 * e + 1] = cython.cast(cython.int, n_left)
                item_offsets[2 * e + 2] = cython.cast(cython.int, n_right)


def link_borders(
    first: cython.longlong,
    last: cython.longlong,
    following: cython.int[::1],
    item_offsets: cython.int[::1],
    item_halfedge: cython.int[::1],
    item_piece: cython.int[::1],
    next_item: cython.int[::1],
) -> None:
    """Set the border item that comes after each of a range along the edge of its piece.

    From the end of the half-edge turn clockwise, through the inside of the piece, to the first
    half-edge that is on its border too.
    """
    k: cython.longlong
    g: cython.longlong
    low: cython.longlong
    high: cython.longlong
    middle: cython.longlong
    piece: cython.longlong
    with cython.nogil:
        for k in range(first, last):
            piece = item_piece[k]
            g = following[item_halfedge[k]]
            while True:
                # Items of one half-edge rise with the piece.
                low = item_offsets[g]
                high = item_offsets[g + 1]
                while low < high:
                    middle = (low + high) // 2
                    if item_piece[middle] < piece:
                        low = middle + 1
                    else:
                        high = middle
                if low < item_offsets[g + 1] and item_piece[low] == piece:
                    next_item[k] = low
                    break
                g = following[g ^ 1]


def split_rings(
    next_item: cython.int[::1],
    item_halfedge: cython.int[::1],
    item_entry: cython.int[::1],
    entry_piece: cython.longlong[::1],
    first_piece: cython.longlong,
    last_piece: cython.longlong,
    origin: cython.int[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
    is_done: cython.uchar[::1],
    place_of_node: cython.int[::1],
    stack: cython.int[::1],
    ring_halfedges: cython.int[::1],
    ring_offsets: cython.longlong[::1],
    ring_item: cython.int[::1],
    ring_is_hole: cython.uchar[::1],
) -> cython.longlong:
    """Walk the borders and cut a ring off whenever a node is met again; return how many rings.

    Only those of pieces from ``first_piece`` up to ``last_piece`` are walked; threads may walk others.
    An item is of the entry ``item_entry`` names, and that of the piece ``entry_piece``. Ring r is the
    half-edges ``ring_halfedges[ring_offsets[r]:ring_offsets[r + 1]]``, the first that of the item
    ``ring_item[r]``, starting at its lexicographically smallest node; outer rings run
    counter-clockwise, holes clockwise, which the turn at that node tells. ``place_of_node`` is -1 for
    all nodes, before and after.
    """
    n_rings: cython.longlong = 0
    filled: cython.longlong = 0
    piece: cython.longlong
    top: cython.longlong
    k: cython.Py_ssize_t
    i: cython.longlong
    m: cython.longlong
    v: cython.longlong
    w: cython.longlong
    item: cython.longlong
    base: cython.longlong
    least: cython.longlong
    length: cython.longlong
    with cython.nogil:
        for k in range(next_item.shape[0]):
            if is_done[k]:
                continue
            piece = entry_piece[item_entry[k]]
            if piece < first_piece or piece >= last_piece:
                continue
            item = k
            top = 0
            while True:
                v = origin[item_halfedge[item]]
                if place_of_node[v] >= 0:
                    # The items from the last time at v up to now close a ring.
                    base = place_of_node[v]
                    length = top - base
                    least = base
                    for i in range(base, top):
                        w = origin[item_halfedge[stack[i]]]
                        place_of_node[w] = -1
                        m = origin[item_halfedge[stack[least]]]
                        if node_x[w] < node_x[m] or (
                            node_x[w] == node_x[m] and node_y[w] < node_y[m]
                        ):
                            least = i
                    ring_item[n_rings] = stack[least]
                    for i in range(least, top):
                        ring_halfedges[filled + i - least] = item_halfedge[stack[i]]
                    for i in range(base, least):
                        ring_halfedges[filled + top - least + i - base] = item_halfedge[stack[i]]
                    m = origin[ring_halfedges[filled]]
                    w = origin[ring_halfedges[filled + length - 1]]
                    i = origin[ring_halfedges[filled + 1]]
                    ring_is_hole[n_rings] = (
                        turn(node_x[w], node_y[w], node_x[m], node_y[m], node_x[i], node_y[i]) < 0
                    )
                    filled += length
                    n_rings += 1
                    ring_offsets[n_rings] = filled
                    top = base
                if is_done[item]:
                    break
                is_done[item] = 1
                place_of_node[v] = top
                stack[top] = item
                top += 1
                item = next_item[item]
    return n_rings
