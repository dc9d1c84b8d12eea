"""Scan well-known binary (OGC 06-103r4, section 8) of a whole column without building objects."""

import cython

if cython.compiled:
    from cython.cimports.libc.string import memcpy

# What can be wrong with a geometry; 0 is none.
TRUNCATED = 1
BAD_TYPE = 2
BAD_COUNT = 3
BAD_ORDER = 4
TOO_DEEP = 5


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _uint32(data: cython.uchar[::1], at: cython.longlong, little: cython.int) -> cython.longlong:
    """Read four bytes as an unsigned integer."""
    a: cython.longlong = data[at]
    b: cython.longlong = data[at + 1]
    c: cython.longlong = data[at + 2]
    d: cython.longlong = data[at + 3]
    if little:
        return a | (b << 8) | (c << 16) | (d << 24)
    return d | (c << 8) | (b << 16) | (a << 24)


def scan(
    data: cython.uchar[::1],
    starts: cython.longlong[::1],
    stops: cython.longlong[::1],
    fills: cython.int,
    part_row: cython.longlong[::1],
    part_family: cython.uchar[::1],
    part_rings: cython.longlong[::1],
    ring_start: cython.longlong[::1],
    ring_count: cython.longlong[::1],
    ring_layout: cython.uchar[::1],
    row_type: cython.longlong[::1],
    pending: cython.longlong[::1],
    totals: cython.longlong[::1],
) -> cython.longlong:
    """Walk the geometry of each row, ``data[starts[r]:stops[r]]``; an empty range is skipped.

    Counts (``fills`` 0) or stores (1) the simple parts met, at whatever depth: the row, the family
    (0 points, 1 lines, 2 polygons) and number of rings of each part; for each ring the byte where
    its vertices start, their number and layout (bit 0 little-endian, bit 1 has Z, bit 2 has M).
    ``row_type`` is the outermost type code without dimension, negative for a fault as named above.
    ``totals`` becomes (parts, rings). ``pending`` is room for the nesting. Returns the first row
    at fault, or -1.

    Counts are believed only as far as bytes are left for them, so a lying one costs nothing.
    """
    n_parts: cython.longlong = 0
    n_rings: cython.longlong = 0
    first_fault: cython.longlong = -1
    r: cython.Py_ssize_t
    at: cython.longlong
    stop: cython.longlong
    depth: cython.longlong
    code: cython.longlong
    base: cython.longlong
    flags: cython.longlong
    dims: cython.longlong
    n: cython.longlong
    m: cython.longlong
    k: cython.longlong
    little: cython.int
    fault: cython.longlong
    parts_before: cython.longlong
    rings_before: cython.longlong
    for r in range(starts.shape[0]):
        at = starts[r]
        stop = stops[r]
        row_type[r] = 0
        if at == stop:
            continue
        fault = 0
        depth = 0
        pending[0] = 1
        parts_before = n_parts
        rings_before = n_rings
        while fault == 0:
            while depth >= 0 and pending[depth] == 0:
                depth -= 1
            if depth < 0:
                break
            pending[depth] -= 1
            if at + 5 > stop:
                fault = TRUNCATED
                break
            if data[at] > 1:
                fault = BAD_ORDER
                break
            little = data[at]
            code = _uint32(data, at + 1, little)
            at += 5
            # ISO codes add 1000 for Z, 2000 for M; an older habit sets high bits, and may put an
            # SRID after the code.
            flags = 0
            if code & 0x80000000:
                flags |= 2
            if code & 0x40000000:
                flags |= 4
            if code & 0x20000000:
                at += 4
            code = code & 0x1FFFFFFF
            base = code % 1000
            k = code // 1000
            if k > 3 or base < 1 or base > 7:
                fault = BAD_TYPE
                break
            if k == 1 or k == 3:
                flags |= 2
            if k >= 2:
                flags |= 4
            dims = 2 + ((flags >> 1) & 1) + ((flags >> 2) & 1)
            if depth == 0 and row_type[r] == 0:
                row_type[r] = base
            if base == 1:
                if at + 8 * dims > stop:
                    fault = TRUNCATED
                    break
                if fills:
                    part_row[n_parts] = r
                    part_family[n_parts] = 0
                    part_rings[n_parts] = 1
                    ring_start[n_rings] = at
                    ring_count[n_rings] = 1
                    ring_layout[n_rings] = little | flags
                n_parts += 1
                n_rings += 1
                at += 8 * dims
                continue
            if at + 4 > stop:
                fault = TRUNCATED
                break
            n = _uint32(data, at, little)
            at += 4
            if base == 2:
                if n > (stop - at) // (8 * dims):
                    fault = BAD_COUNT
                    break
                if n == 0:
                    continue
                if fills:
                    part_row[n_parts] = r
                    part_family[n_parts] = 1
                    part_rings[n_parts] = 1
                    ring_start[n_rings] = at
                    ring_count[n_rings] = n
                    ring_layout[n_rings] = little | flags
                n_parts += 1
                n_rings += 1
                at += 8 * dims * n
            elif base == 3:
                if n > (stop - at) // 4:
                    fault = BAD_COUNT
                    break
                if n == 0:
                    continue
                if fills:
                    part_row[n_parts] = r
                    part_family[n_parts] = 2
                    part_rings[n_parts] = n
                n_parts += 1
                for k in range(n):
                    if at + 4 > stop:
                        fault = TRUNCATED
                        break
                    m = _uint32(data, at, little)
                    at += 4
                    if m > (stop - at) // (8 * dims):
                        fault = BAD_COUNT
                        break
                    if fills:
                        ring_start[n_rings] = at
                        ring_count[n_rings] = m
                        ring_layout[n_rings] = little | flags
                    n_rings += 1
                    at += 8 * dims * m
            else:
                # A multi geometry or collection: its members are whole geometries.
                if n > (stop - at) // 5:
                    fault = BAD_COUNT
                    break
                if depth + 1 >= pending.shape[0]:
                    fault = TOO_DEEP
                    break
                depth += 1
                pending[depth] = n
        if fault != 0:
            row_type[r] = -fault
            n_parts = parts_before
            n_rings = rings_before
            if first_fault < 0:
                first_fault = r
    totals[0] = n_parts
    totals[1] = n_rings
    return first_fault


def gather_ranges(
    data: cython.uchar[::1],
    starts: cython.longlong[::1],
    lengths: cython.longlong[::1],
    out: cython.uchar[::1],
) -> None:
    """Copy the byte ranges of ``data`` that start so and are so long into ``out``, in a row."""
    i: cython.Py_ssize_t
    at: cython.longlong = 0
    with cython.nogil:
        for i in range(starts.shape[0]):
            if lengths[i] > 0:
                if cython.compiled:
                    memcpy(
                        cython.address(out[at]),
                        cython.address(data[starts[i]]),
                        cython.cast(cython.size_t, lengths[i]),
                    )
                else:
                    out[at : at + lengths[i]] = data[starts[i] : starts[i] + lengths[i]]
                at += lengths[i]


def scatter_ranges(
    source: cython.uchar[::1],
    starts: cython.longlong[::1],
    lengths: cython.longlong[::1],
    data: cython.uchar[::1],
) -> None:
    """Copy ranges that lie in a row in ``source`` to where they start in ``data``."""
    i: cython.Py_ssize_t
    at: cython.longlong = 0
    with cython.nogil:
        for i in range(starts.shape[0]):
            if lengths[i] > 0:
                if cython.compiled:
                    memcpy(
                        cython.address(data[starts[i]]),
                        cython.address(source[at]),
                        cython.cast(cython.size_t, lengths[i]),
                    )
                else:
                    data[starts[i] : starts[i] + lengths[i]] = source[at : at + lengths[i]]
                at += lengths[i]


def follow_sizes(
    data: cython.uchar[::1], first: cython.longlong, places: cython.longlong[::1]
) -> cython.longlong:
    """Note where records begin, each with its size in four bytes in front, from byte ``first`` on.

    Returns how many there are, at most as many as there is room for; -1 if the last is cut short.
    """
    at: cython.longlong = first
    n: cython.longlong = 0
    size: cython.longlong
    stop: cython.longlong = data.shape[0]
    while n < places.shape[0] and at < stop:
        if at + 4 > stop:
            return -1
        size = _uint32(data, at, 1)
        if size == 0 or at + 4 + size > stop:
            return -1
        places[n] = at
        n += 1
        at += 4 + size
    return n
