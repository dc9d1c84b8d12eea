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


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _is_meant(
    its: cython.longlong,
    row: cython.longlong,
    piece: cython.longlong,
    rows: cython.longlong[:, ::1],
    starts: cython.longlong[::1],
) -> cython.int:
    """Return 1 if a row is ``row`` or, if that is -1, of a layer that the piece has no row of."""
    n: cython.Py_ssize_t = starts.shape[0]
    if row >= 0:
        return its == row
    while n > 0:
        n -= 1
        if its >= starts[n]:
            return rows[piece, n] < 0
    return 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _has_line(
    e: cython.longlong,
    row: cython.longlong,
    piece: cython.longlong,
    rows: cython.longlong[:, ::1],
    starts: cython.longlong[::1],
    delta_offsets: cython.longlong[::1],
    delta_part: cython.int[::1],
    row_of_part: cython.longlong[::1],
) -> cython.int:
    """Return 1 if an edge is on the border of a row that is meant."""
    i: cython.longlong
    for i in range(delta_offsets[e], delta_offsets[e + 1]):
        if _is_meant(row_of_part[delta_part[i]], row, piece, rows, starts):
            return 1
    return 0


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _least(
    line: cython.longlong,
    step_offsets: cython.longlong[::1],
    step_edge: cython.int[::1],
    low: cython.longlong[::1],
    high: cython.longlong[::1],
    place: cython.longlong[::1],
) -> cython.longlong:
    """Return the least x, or y, of a line: its steps go one way in both, so that is at an end."""
    first: cython.longlong = step_edge[step_offsets[line]]
    last: cython.longlong = step_edge[step_offsets[line + 1] - 1]
    return min(min(place[low[first]], place[high[first]]), min(place[low[last]], place[high[last]]))


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _extent(
    line: cython.longlong,
    step_offsets: cython.longlong[::1],
    step_edge: cython.int[::1],
    low: cython.longlong[::1],
    high: cython.longlong[::1],
    place: cython.longlong[::1],
) -> int128:
    """Return how far the ends of a line are apart in x, or y."""
    first: cython.longlong = step_edge[step_offsets[line]]
    last: cython.longlong = step_edge[step_offsets[line + 1] - 1]
    most: cython.longlong = max(
        max(place[low[first]], place[high[first]]), max(place[low[last]], place[high[last]])
    )
    return most - _least(line, step_offsets, step_edge, low, high, place)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _comes_first(
    line: cython.longlong,
    other: cython.longlong,
    step_offsets: cython.longlong[::1],
    step_edge: cython.int[::1],
    low: cython.longlong[::1],
    high: cython.longlong[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
) -> cython.int:
    """Return 1 if a line is longer than another, or as long and begins further left, or lower."""
    width: int128 = _extent(line, step_offsets, step_edge, low, high, node_x)
    height: int128 = _extent(line, step_offsets, step_edge, low, high, node_y)
    its_width: int128 = _extent(other, step_offsets, step_edge, low, high, node_x)
    its_height: int128 = _extent(other, step_offsets, step_edge, low, high, node_y)
    longer: int128 = (
        width * width + height * height - its_width * its_width - its_height * its_height
    )
    if longer != 0:
        return longer > 0
    # Which of them is numbered first hangs on the order of rows, and counts for nothing.
    at: cython.longlong = _least(line, step_offsets, step_edge, low, high, node_x)
    its: cython.longlong = _least(other, step_offsets, step_edge, low, high, node_x)
    if at != its:
        return at < its
    at = _least(line, step_offsets, step_edge, low, high, node_y)
    its = _least(other, step_offsets, step_edge, low, high, node_y)
    return at < its


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _straight_line(
    e: cython.longlong,
    f: cython.longlong,
    row: cython.longlong,
    piece: cython.longlong,
    rows: cython.longlong[:, ::1],
    starts: cython.longlong[::1],
    best: cython.longlong,
    delta_offsets: cython.longlong[::1],
    delta_part: cython.int[::1],
    delta_line: cython.int[::1],
    row_of_part: cython.longlong[::1],
    is_crowded: cython.uchar[::1],
    step_offsets: cython.longlong[::1],
    step_edge: cython.int[::1],
    low: cython.longlong[::1],
    high: cython.longlong[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
) -> cython.longlong:
    """Return the line that comes first of those of rows that are meant and run over edges e and f, or
    ``best`` if that does; -1 if none of them runs.
    """
    i: cython.longlong
    j: cython.longlong
    line: cython.longlong
    good: cython.int = 0
    for j in range(delta_offsets[f], delta_offsets[f + 1]):
        line = delta_line[j]
        if is_crowded[line]:
            continue
        if not _is_meant(row_of_part[delta_part[j]], row, piece, rows, starts):
            continue
        for i in range(delta_offsets[e], delta_offsets[e + 1]):
            if delta_line[i] == line and _is_meant(
                row_of_part[delta_part[i]], row, piece, rows, starts
            ):
                good = 1
                if best < 0 or _comes_first(
                    line, best, step_offsets, step_edge, low, high, node_x, node_y
                ):
                    best = line
                break
    return best if good else -1


def list_passed(
    first: cython.longlong,
    last: cython.longlong,
    ring_offsets: cython.longlong[::1],
    halfedge: cython.int[::1],
    origin: cython.int[::1],
    is_passed: cython.uchar[::1],
    items: cython.int[::1],
    rings: cython.int[::1],
) -> cython.longlong:
    """List the items of a range of rings that begin in marked nodes, and their rings; return how many.

    Ring r is the items ``ring_offsets[r]`` up to ``ring_offsets[r + 1]``.
    """
    n_found: cython.longlong = 0
    r: cython.longlong
    k: cython.longlong
    with cython.nogil:
        for r in range(first, last):
            for k in range(ring_offsets[r], ring_offsets[r + 1]):
                if is_passed[origin[halfedge[k]]]:
                    items[n_found] = cython.cast(cython.int, k)
                    rings[n_found] = cython.cast(cython.int, r)
                    n_found += 1
    return n_found


def find_straight(
    incoming: cython.int[::1],
    outgoing: cython.int[::1],
    piece: cython.longlong[::1],
    rows: cython.longlong[:, ::1],
    delta_offsets: cython.longlong[::1],
    delta_part: cython.int[::1],
    delta_line: cython.int[::1],
    row_of_part: cython.longlong[::1],
    layer_starts: cython.longlong[::1],
    is_crowded: cython.uchar[::1],
    step_offsets: cython.longlong[::1],
    step_edge: cython.int[::1],
    low: cython.longlong[::1],
    high: cython.longlong[::1],
    node_x: cython.longlong[::1],
    node_y: cython.longlong[::1],
    through: cython.int[::1],
) -> None:
    """Set ``through`` to the longest line that runs over both edges of each item, -1 for none.

    Each row of the item's piece, ``rows[piece[k]]`` with -1 for none, must have a line that does, or no
    line on either edge. If none of them has any, the line is one of other rows: of layers that the
    piece has no row of, whose rows begin at ``layer_starts`` (one for each column of ``rows``), or of
    any if that is empty. Crowded lines do not count. Of equally long ones that counts which begins
    further left, or lower.
    """
    k: cython.Py_ssize_t
    n: cython.Py_ssize_t
    e: cython.longlong
    f: cython.longlong
    row: cython.longlong
    best: cython.longlong
    has_any: cython.int
    has_in: cython.int
    with cython.nogil:
        for k in range(incoming.shape[0]):
            e = incoming[k]
            f = outgoing[k]
            best = -1
            has_any = 0
            # The last time is for the lines of rows that the piece is not of.
            for n in range(rows.shape[1] + 1):
                if n < rows.shape[1]:
                    row = rows[piece[k], n]
                    if row < 0:
                        continue
                elif has_any:
                    break
                else:
                    row = -1
                has_in = _has_line(
                    e, row, piece[k], rows, layer_starts, delta_offsets, delta_part, row_of_part
                )
                if has_in != _has_line(
                    f, row, piece[k], rows, layer_starts, delta_offsets, delta_part, row_of_part
                ):
                    best = -1
                    break
                if not has_in:
                    continue
                has_any = 1
                best = _straight_line(
                    e,
                    f,
                    row,
                    piece[k],
                    rows,
                    layer_starts,
                    best,
                    delta_offsets,
                    delta_part,
                    delta_line,
                    row_of_part,
                    is_crowded,
                    step_offsets,
                    step_edge,
                    low,
                    high,
                    node_x,
                    node_y,
                )
                if best < 0:
                    break
            through[k] = best
