"""Boxes: against a raster of marked cells, of which sums over rectangles are known, and in pairs."""

import cython

if cython.compiled:
    from cython.cimports.libc.math import floor, isfinite
else:
    from math import floor, isfinite


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
@cython.cdivision(True)
def _cell(
    value: cython.double, low: cython.double, side: cython.double, most: cython.longlong
) -> cython.longlong:
    at: cython.double = floor((value - low) / side)
    if at <= 0:
        return 0
    if at >= most:
        return most
    return cython.cast(cython.longlong, at)


def sum_marks(marks: cython.uchar[:, ::1], sums: cython.int[:, ::1]) -> None:
    """Sum up the marks of a raster, 0 or 1, over all that lies below and left of each corner of cells.

    ``sums`` are one row and column larger than the raster, and 0 before.
    """
    r: cython.Py_ssize_t
    c: cython.Py_ssize_t
    running: cython.int
    with cython.nogil:
        for r in range(marks.shape[0]):
            running = 0
            for c in range(marks.shape[1]):
                running += marks[r, c]
                sums[r + 1, c + 1] = sums[r, c + 1] + running


def edge_reach(
    xy: cython.double[:, ::1],
    ring_offsets: cython.longlong[::1],
    rings_of_rows: cython.longlong[::1],
    sums: cython.int[:, ::1],
    low: cython.double[::1],
    side: cython.double,
    found: cython.double[:, ::1],
) -> None:
    """Grow the box (n_rows, 4) of each row by those of its edges that meet a marked cell.

    Edges go from each vertex of a ring to the next, and from the last to the first. ``sums`` are one
    row and column larger than the raster; cells are squares of ``side``, the first at ``low``.
    """
    row: cython.Py_ssize_t
    ring: cython.Py_ssize_t
    k: cython.longlong
    first: cython.longlong
    stop: cython.longlong
    after: cython.longlong
    x0: cython.double
    y0: cython.double
    x1: cython.double
    y1: cython.double
    a: cython.longlong
    b: cython.longlong
    c: cython.longlong
    d: cython.longlong
    most_x: cython.longlong = sums.shape[1] - 2
    most_y: cython.longlong = sums.shape[0] - 2
    low_x: cython.double = low[0]
    low_y: cython.double = low[1]
    high_x: cython.double = low_x + (most_x + 1) * side
    high_y: cython.double = low_y + (most_y + 1) * side
    with cython.nogil:
        for row in range(rings_of_rows.shape[0] - 1):
            for ring in range(rings_of_rows[row], rings_of_rows[row + 1]):
                first = ring_offsets[ring]
                stop = ring_offsets[ring + 1]
                for k in range(first, stop):
                    after = k + 1 if k + 1 < stop else first
                    x0 = min(xy[k, 0], xy[after, 0])
                    y0 = min(xy[k, 1], xy[after, 1])
                    x1 = max(xy[k, 0], xy[after, 0])
                    y1 = max(xy[k, 1], xy[after, 1])
                    if not (x1 >= low_x and y1 >= low_y and x0 <= high_x and y0 <= high_y):
                        continue
                    if not (isfinite(x0) and isfinite(y0) and isfinite(x1) and isfinite(y1)):
                        continue
                    a = _cell(x0, low_x, side, most_x)
                    b = _cell(y0, low_y, side, most_y)
                    c = _cell(x1, low_x, side, most_x) + 1
                    d = _cell(y1, low_y, side, most_y) + 1
                    if sums[d, c] - sums[b, c] - sums[d, a] + sums[b, a] > 0:
                        found[row, 0] = min(found[row, 0], x0)
                        found[row, 1] = min(found[row, 1], y0)
                        found[row, 2] = max(found[row, 2], x1)
                        found[row, 3] = max(found[row, 3], y1)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
@cython.cdivision(True)
def _column(
    value: cython.longlong,
    origin: cython.longlong,
    side: cython.longlong,
    n: cython.longlong,
    after: cython.longlong,
) -> cython.longlong:
    """Return the column of a place, or ``after`` it, 0 to n, of what lies beyond the nearest."""
    if value < origin:
        return 0
    return min((value - origin) // side + after, n)


def rows_hit(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    ring_offsets: cython.longlong[::1],
    rings_of_rows: cython.longlong[::1],
    sums: cython.int[:, ::1],
    origin_x: cython.longlong,
    origin_y: cython.longlong,
    side: cython.longlong,
    is_closed: cython.bint,
    hit: cython.uchar[::1],
) -> None:
    """Tell which rows have an edge whose box meets a marked cell, or that an edge cannot tell.

    That is a ring of one vertex, and, with ``is_closed``, one that ends elsewhere than it begins.
    """
    row: cython.Py_ssize_t
    ring: cython.Py_ssize_t
    k: cython.longlong
    first: cython.longlong
    last: cython.longlong
    a: cython.longlong
    b: cython.longlong
    c: cython.longlong
    d: cython.longlong
    columns: cython.longlong = sums.shape[1] - 1
    rows: cython.longlong = sums.shape[0] - 1
    with cython.nogil:
        for row in range(rings_of_rows.shape[0] - 1):
            for ring in range(rings_of_rows[row], rings_of_rows[row + 1]):
                first = ring_offsets[ring]
                last = ring_offsets[ring + 1] - 1
                if last < first:
                    continue
                if last == first or (is_closed and (x[first] != x[last] or y[first] != y[last])):
                    hit[row] = 1
                k = first
                while k < last and not hit[row]:
                    a = _column(min(x[k], x[k + 1]), origin_x, side, columns, 0)
                    b = _column(min(y[k], y[k + 1]), origin_y, side, rows, 0)
                    c = _column(max(x[k], x[k + 1]), origin_x, side, columns, 1)
                    d = _column(max(y[k], y[k + 1]), origin_y, side, rows, 1)
                    if c > a and d > b and sums[d, c] - sums[b, c] - sums[d, a] + sums[b, a] > 0:
                        hit[row] = 1
                    k += 1


def join_boxes(
    boxes: cython.double[:, ::1],
    group: cython.longlong[::1],
    low: cython.double[::1],
    side: cython.double,
    most_columns: cython.longlong,
    most_lines: cython.longlong,
    heads: cython.int[::1],
    links: cython.int[:, ::1],
    parent: cython.longlong[::1],
) -> cython.bint:
    """Union-find of boxes (n, 4) of one group that have a point in common; the first becomes the root.

    Cells are squares of ``side``, the first at ``low``, ``most_columns`` + 1 in a line. ``heads`` is -1
    for each cell, ``links`` (n_links, 2) room for as many as boxes cover, ``parent`` each box's own
    number at first and the root of its set in the end. Returns whether that was done: not where boxes
    crowd so that there would be more than 256 comparisons for each.
    """
    k: cython.longlong
    i: cython.longlong
    j: cython.longlong
    a: cython.longlong
    b: cython.longlong
    first: cython.longlong
    last: cython.longlong
    cell: cython.longlong
    link: cython.int
    n_links: cython.int = 0
    left: cython.longlong = 256 * boxes.shape[0]
    with cython.nogil:
        for k in range(boxes.shape[0]):
            first = _cell(boxes[k, 0], low[0], side, most_columns)
            last = _cell(boxes[k, 2], low[0], side, most_columns)
            for j in range(
                _cell(boxes[k, 1], low[1], side, most_lines),
                _cell(boxes[k, 3], low[1], side, most_lines) + 1,
            ):
                for i in range(first, last + 1):
                    cell = j * (most_columns + 1) + i
                    link = heads[cell]
                    while link >= 0:
                        a = links[link, 0]
                        link = links[link, 1]
                        left -= 1
                        if (
                            group[a] == group[k]
                            and boxes[a, 0] <= boxes[k, 2]
                            and boxes[k, 0] <= boxes[a, 2]
                            and boxes[a, 1] <= boxes[k, 3]
                            and boxes[k, 1] <= boxes[a, 3]
                        ):
                            b = k
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
                    links[n_links, 0] = cython.cast(cython.int, k)
                    links[n_links, 1] = heads[cell]
                    heads[cell] = n_links
                    n_links += 1
            if left < 0:
                break
        # Parents are never larger than their children, so one rising pass ends at the roots.
        for k in range(boxes.shape[0]):
            parent[k] = parent[parent[k]]
    return left >= 0


def pair_boxes(
    boxes: cython.double[:, ::1],
    turned: cython.double[:, ::1],
    levels: cython.longlong[::1],
    begin: cython.longlong[::1],
    end: cython.longlong[::1],
    first: cython.longlong,
    stop: cython.longlong,
    holds: cython.bint,
    stack: cython.longlong[:, ::1],
    out_a: cython.longlong[::1],
    out_b: cython.longlong[::1],
) -> cython.longlong:
    """Find the boxes b, of all of a tree, for each box a from ``first`` up to ``stop``.

    With ``holds`` those that hold it, else those behind it that have a point in common with it. Level
    l of the tree begins at ``boxes[levels[l]]``; each box of it is about eight that follow each other
    in the level below, 0 the boxes themselves. Those of the group of box a are ``begin[a]:end[a]``.
    Returns how many pairs there are; when it has more than there is room for, it gives up.
    ``stack`` (256, 2) is for the way down. ``turned``, if there are any, are boxes of the same things
    in other axes, which have to hold each other too.
    """
    a: cython.longlong
    k: cython.longlong
    i: cython.longlong
    n: cython.longlong
    has_turned: cython.bint = turned.shape[0] > 0
    level: cython.longlong
    low: cython.longlong
    found: cython.longlong = 0
    x0: cython.double
    y0: cython.double
    x1: cython.double
    y1: cython.double
    with cython.nogil:
        for a in range(first, stop):
            # What has to lie at or below the box's lower corner, and at or above its upper one.
            x0 = boxes[a, 0] if holds else boxes[a, 2]
            y0 = boxes[a, 1] if holds else boxes[a, 3]
            x1 = boxes[a, 2] if holds else boxes[a, 0]
            y1 = boxes[a, 3] if holds else boxes[a, 1]
            low = begin[a] if holds else a + 1
            n = 1
            stack[0, 0] = levels.shape[0] - 1
            stack[0, 1] = 0
            while n > 0:
                n -= 1
                level = stack[n, 0]
                k = stack[n, 1]
                if level == 0:
                    if k != a and not (
                        has_turned
                        and (
                            turned[k, 0] > turned[a, 0]
                            or turned[k, 1] > turned[a, 1]
                            or turned[k, 2] < turned[a, 2]
                            or turned[k, 3] < turned[a, 3]
                        )
                    ):
                        if found < out_a.shape[0]:
                            out_a[found] = a
                            out_b[found] = k
                        found += 1
                    continue
                level -= 1
                for i in range(8 * k, min(8 * k + 8, levels[level + 1] - levels[level])):
                    if (
                        boxes[levels[level] + i, 0] <= x0
                        and boxes[levels[level] + i, 1] <= y0
                        and boxes[levels[level] + i, 2] >= x1
                        and boxes[levels[level] + i, 3] >= y1
                        and i << (3 * level) < end[a]
                        and (i + 1) << (3 * level) > low
                    ):
                        stack[n, 0] = level
                        stack[n, 1] = i
                        n += 1
            if found > out_a.shape[0]:
                break
    return found
