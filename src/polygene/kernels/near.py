"""Edges near points, by a uniform grid of cells as `cells.spread_edges` fills it.

Distances are in grid units and floating point: differences of grid integers are exact there, so
squares are right to the last few bits.
"""

import cython

if cython.compiled:
    from cython.cimports.libc.math import sqrt
else:
    from math import sqrt


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _place(
    px: cython.longlong,
    py: cython.longlong,
    ax: cython.longlong,
    ay: cython.longlong,
    bx: cython.longlong,
    by: cython.longlong,
    sx: cython.double,
    sy: cython.double,
) -> cython.double:
    """Return where on the edge from a to b the point nearest to p lies: 0 at a, 1 at b.

    Grid units count ``sx`` across and ``sy`` up.
    """
    dx: cython.double = (bx - ax) * sx
    dy: cython.double = (by - ay) * sy
    size: cython.double = dx * dx + dy * dy
    if size == 0:
        return 0.0
    t: cython.double = ((px - ax) * sx * dx + (py - ay) * sy * dy) / size
    return 0.0 if t < 0 else (1.0 if t > 1 else t)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _square(
    px: cython.longlong,
    py: cython.longlong,
    ax: cython.longlong,
    ay: cython.longlong,
    bx: cython.longlong,
    by: cython.longlong,
    t: cython.double,
    sx: cython.double,
    sy: cython.double,
) -> cython.double:
    """Return the squared distance from p to the place t of the edge from a to b."""
    dx: cython.double = ((px - ax) - t * (bx - ax)) * sx
    dy: cython.double = ((py - ay) - t * (by - ay)) * sy
    return dx * dx + dy * dy


def nearest_edges(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    across: cython.double[::1],
    up: cython.double[::1],
    reach: cython.double,
    box: cython.longlong[::1],
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    edge: cython.longlong[::1],
    place: cython.double[::1],
    distance: cython.double[::1],
) -> None:
    """Find the nearest edge of each point, no further than ``reach``; -1 where there is none.

    Cells are looked at in squares round the point's own, until all that is left is further off than
    what was found. Of several at one distance the first edge is taken. ``place`` is 0 at the edge's
    first end and 1 at its second. A grid unit
    counts ``across`` and ``up`` (n_points,) at each point, and so does ``reach``.
    """
    p: cython.Py_ssize_t
    k: cython.longlong
    e: cython.longlong
    ring: cython.longlong
    i: cython.longlong
    j: cython.longlong
    ci: cython.longlong
    cj: cython.longlong
    i_step: cython.longlong
    cell: cython.longlong
    side: cython.longlong = box[2]
    columns: cython.longlong = box[3]
    rows: cython.longlong = box[4]
    first_ring: cython.longlong
    last_ring: cython.longlong
    best: cython.double
    limit: cython.double = reach * reach
    found: cython.double
    clear: cython.double
    inner: cython.double
    t: cython.double
    with cython.nogil:
        for p in range(x.shape[0]):
            edge[p] = -1
            place[p] = 0.0
            distance[p] = -1.0
            best = limit
            # Floor division that is right for points below the box too.
            ci = (
                (x[p] - box[0]) // side if x[p] >= box[0] else -((box[0] - x[p] + side - 1) // side)
            )
            cj = (
                (y[p] - box[1]) // side if y[p] >= box[1] else -((box[1] - y[p] + side - 1) // side)
            )
            first_ring = 0
            first_ring = max(first_ring, -ci, -cj, ci - columns + 1, cj - rows + 1)
            last_ring = max(max(ci, columns - 1 - ci), max(cj, rows - 1 - cj))
            # The least distance from the point to the border of its own cell.
            inner = min(
                min(x[p] - box[0] - ci * side, box[0] + (ci + 1) * side - x[p]),
                min(y[p] - box[1] - cj * side, box[1] + (cj + 1) * side - y[p]),
            )
            for ring in range(first_ring, last_ring + 1):
                if ring > 0:
                    clear = (ring - 1) * cython.cast(cython.double, side) + inner
                    clear *= min(across[p], up[p])
                    if clear > 0 and clear * clear > best:
                        break
                for j in range(max(cj - ring, 0), min(cj + ring, rows - 1) + 1):
                    i_step = 1 if (j == cj - ring or j == cj + ring or ring == 0) else 2 * ring
                    i = ci - ring
                    while i <= ci + ring:
                        if i < 0 and i_step == 1:
                            i = 0
                        if i < 0 or i >= columns:
                            if i >= columns:
                                break
                            i += i_step
                            continue
                        cell = j * columns + i
                        for k in range(offsets[cell], offsets[cell + 1]):
                            e = entries[k]
                            t = _place(
                                x[p],
                                y[p],
                                ends[e, 0],
                                ends[e, 1],
                                ends[e, 2],
                                ends[e, 3],
                                across[p],
                                up[p],
                            )
                            found = _square(
                                x[p],
                                y[p],
                                ends[e, 0],
                                ends[e, 1],
                                ends[e, 2],
                                ends[e, 3],
                                t,
                                across[p],
                                up[p],
                            )
                            if found < best or (found == best and (edge[p] < 0 or e < edge[p])):
                                best = found
                                edge[p] = e
                                place[p] = t
                        i += i_step
            if edge[p] >= 0:
                distance[p] = sqrt(best)


def edges_within(
    x: cython.longlong[::1],
    y: cython.longlong[::1],
    across: cython.double[::1],
    up: cython.double[::1],
    reach: cython.double,
    box: cython.longlong[::1],
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    seen: cython.longlong[::1],
    point: cython.longlong[::1],
    edge: cython.longlong[::1],
    place: cython.double[::1],
) -> cython.longlong:
    """Find all edges no further than ``reach`` from each point; return how many pairs there are.

    Pairs are stored as far as there is room. ``seen`` (n_edges,) is -1 at first. Pairs are only those
    whose nearest place lies inside the edge, not at one of its ends. Grid units count as for
    `nearest_edges`.
    """
    p: cython.Py_ssize_t
    k: cython.longlong
    e: cython.longlong
    i: cython.longlong
    j: cython.longlong
    i0: cython.longlong
    i1: cython.longlong
    j0: cython.longlong
    j1: cython.longlong
    cell: cython.longlong
    side: cython.longlong = box[2]
    columns: cython.longlong = box[3]
    rows: cython.longlong = box[4]
    n_found: cython.longlong = 0
    limit: cython.double = reach * reach
    wide: cython.longlong
    high: cython.longlong
    t: cython.double
    with cython.nogil:
        for p in range(x.shape[0]):
            wide = cython.cast(cython.longlong, min(reach / across[p], 1e15)) + 1
            high = cython.cast(cython.longlong, min(reach / up[p], 1e15)) + 1
            if (
                x[p] + wide < box[0]
                or y[p] + high < box[1]
                or x[p] - wide >= box[0] + columns * side
                or y[p] - high >= box[1] + rows * side
            ):
                continue
            i0 = 0 if x[p] - wide < box[0] else (x[p] - wide - box[0]) // side
            i1 = min((x[p] + wide - box[0]) // side, columns - 1)
            j0 = 0 if y[p] - high < box[1] else (y[p] - high - box[1]) // side
            j1 = min((y[p] + high - box[1]) // side, rows - 1)
            for j in range(j0, j1 + 1):
                for i in range(i0, i1 + 1):
                    cell = j * columns + i
                    for k in range(offsets[cell], offsets[cell + 1]):
                        e = entries[k]
                        if seen[e] == p:
                            continue
                        seen[e] = p
                        t = _place(
                            x[p],
                            y[p],
                            ends[e, 0],
                            ends[e, 1],
                            ends[e, 2],
                            ends[e, 3],
                            across[p],
                            up[p],
                        )
                        if t <= 0 or t >= 1:
                            continue
                        if (
                            _square(
                                x[p],
                                y[p],
                                ends[e, 0],
                                ends[e, 1],
                                ends[e, 2],
                                ends[e, 3],
                                t,
                                across[p],
                                up[p],
                            )
                            > limit
                        ):
                            continue
                        if n_found < point.shape[0]:
                            point[n_found] = p
                            edge[n_found] = e
                            place[n_found] = t
                        n_found += 1
    return n_found


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _to_edge(
    px: cython.longlong,
    py: cython.longlong,
    ax: cython.longlong,
    ay: cython.longlong,
    bx: cython.longlong,
    by: cython.longlong,
) -> cython.double:
    """Return the squared distance from p to the edge from a to b."""
    t: cython.double = _place(px, py, ax, ay, bx, by, 1.0, 1.0)
    return _square(px, py, ax, ay, bx, by, t, 1.0, 1.0)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _gap(
    ax: cython.longlong,
    ay: cython.longlong,
    bx: cython.longlong,
    by: cython.longlong,
    cx: cython.longlong,
    cy: cython.longlong,
    dx: cython.longlong,
    dy: cython.longlong,
) -> cython.double:
    """Return the squared distance of two edges that do not cross: from an end of one to the other."""
    least: cython.double = _to_edge(ax, ay, cx, cy, dx, dy)
    least = min(least, _to_edge(bx, by, cx, cy, dx, dy))
    least = min(least, _to_edge(cx, cy, ax, ay, bx, by))
    return min(least, _to_edge(dx, dy, ax, ay, bx, by))


def nearest_of_edges(
    first: cython.longlong,
    stop: cython.longlong,
    ax: cython.longlong[::1],
    ay: cython.longlong[::1],
    bx: cython.longlong[::1],
    by: cython.longlong[::1],
    group: cython.longlong[::1],
    box: cython.longlong[::1],
    offsets: cython.longlong[::1],
    entries: cython.longlong[::1],
    ends: cython.longlong[:, ::1],
    row: cython.longlong[::1],
    banned_offsets: cython.longlong[::1],
    banned: cython.longlong[::1],
    best: cython.double[::1],
    best_edge: cython.longlong[::1],
    best_mine: cython.longlong[::1],
    is_tied: cython.uchar[::1],
) -> None:
    """Find for each group of edges the nearest edge of another set.

    Edge q, from ``first`` up to ``stop``, from a to b, is of ``group[q]``. ``best`` starts as the
    squared limit of each group and ends as the least squared distance, ``best_edge`` as the edge found
    (-1 for none) and ``best_mine`` as the group's own edge. Edges of the rows
    ``banned[banned_offsets[g]:banned_offsets[g + 1]]`` do not count. Of several rows at one distance
    the lowest wins, and the group is marked in ``is_tied`` (0 before). Crossings are not seen to.
    """
    q: cython.longlong
    g: cython.longlong
    k: cython.longlong
    e: cython.longlong
    b: cython.longlong
    ring: cython.longlong
    first_ring: cython.longlong
    last_ring: cython.longlong
    i: cython.longlong
    j: cython.longlong
    i_low: cython.longlong
    i_high: cython.longlong
    j_low: cython.longlong
    j_high: cython.longlong
    step: cython.longlong
    cell: cython.longlong
    side: cython.longlong = box[2]
    columns: cython.longlong = box[3]
    rows: cython.longlong = box[4]
    low_x: cython.longlong
    high_x: cython.longlong
    low_y: cython.longlong
    high_y: cython.longlong
    found: cython.double
    clear: cython.double
    is_banned: cython.int
    with cython.nogil:
        for q in range(first, stop):
            g = group[q]
            low_x = min(ax[q], bx[q]) - box[0]
            high_x = max(ax[q], bx[q]) - box[0]
            low_y = min(ay[q], by[q]) - box[1]
            high_y = max(ay[q], by[q]) - box[1]
            # Floor division that is right below zero too.
            i_low = low_x // side if low_x >= 0 else -((side - 1 - low_x) // side)
            i_high = high_x // side if high_x >= 0 else -((side - 1 - high_x) // side)
            j_low = low_y // side if low_y >= 0 else -((side - 1 - low_y) // side)
            j_high = high_y // side if high_y >= 0 else -((side - 1 - high_y) // side)
            first_ring = 0
            first_ring = max(first_ring, -i_high, -j_high, i_low - columns + 1, j_low - rows + 1)
            last_ring = max(max(i_high, columns - 1 - i_low), max(j_high, rows - 1 - j_low))
            for ring in range(first_ring, last_ring + 1):
                # What is not looked at yet lies further than whole cells off.
                clear = (ring - 1) * cython.cast(cython.double, side)
                if ring > 1 and clear * clear > best[g]:
                    break
                for j in range(max(j_low - ring, 0), min(j_high + ring, rows - 1) + 1):
                    step = 1
                    if ring > 0 and j > j_low - ring and j < j_high + ring:
                        step = i_high - i_low + 2 * ring
                    i = i_low - ring
                    while i <= i_high + ring:
                        if i < 0 and step == 1:
                            i = 0
                        if i >= columns:
                            break
                        if i < 0:
                            i += step
                            continue
                        cell = j * columns + i
                        for k in range(offsets[cell], offsets[cell + 1]):
                            e = entries[k]
                            found = _gap(
                                ax[q],
                                ay[q],
                                bx[q],
                                by[q],
                                ends[e, 0],
                                ends[e, 1],
                                ends[e, 2],
                                ends[e, 3],
                            )
                            if found > best[g]:
                                continue
                            if (
                                found == best[g]
                                and best_edge[g] >= 0
                                and row[e] == row[best_edge[g]]
                            ):
                                continue
                            is_banned = 0
                            for b in range(banned_offsets[g], banned_offsets[g + 1]):
                                if banned[b] == row[e]:
                                    is_banned = 1
                                    break
                            if is_banned:
                                continue
                            if found == best[g] and best_edge[g] >= 0:
                                is_tied[g] = 1
                                if row[e] > row[best_edge[g]]:
                                    continue
                            else:
                                is_tied[g] = 0
                            best[g] = found
                            best_edge[g] = e
                            best_mine[g] = q
                        i += step
