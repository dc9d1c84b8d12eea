"""Lines that go straight on through an item of a ring, which then need no vertex there."""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.wide import int128
else:
    int128 = int


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
