"""Scan well-known binary (OGC 06-103r4, section 8) of a whole column without building objects."""

import cython

if cython.compiled:
    from cython.cimports.libc.string import memcpy

# What can be wrong with a geometry; 0 is none. Words for these numbers has formats/wkb.py.
TRUNCATED = cython.declare(cython.longlong, 1)
BAD_TYPE = cython.declare(cython.longlong, 2)
BAD_COUNT = cython.declare(cython.longlong, 3)
BAD_ORDER = cython.declare(cython.longlong, 4)
TOO_DEEP = cython.declare(cython.longlong, 5)

# How a geometry begins: the byte after that, its type without dimensions, the layout of its vertices,
# the bytes that each of them takes, and what is wrong, if anything is.
Head = cython.struct(
    at=cython.longlong,
    base=cython.longlong,
    layout=cython.uchar,
    size=cython.longlong,
    fault=cython.longlong,
)


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _uint32(
    data: cython.const[cython.uchar][::1], at: cython.longlong, little: cython.int
) -> cython.longlong:
    """Read four bytes as an unsigned integer."""
    a: cython.longlong = data[at]
    b: cython.longlong = data[at + 1]
    c: cython.longlong = data[at + 2]
    d: cython.longlong = data[at + 3]
    if little:
        return a | (b << 8) | (c << 16) | (d << 24)
    return d | (c << 8) | (b << 16) | (a << 24)


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _head(
    data: cython.const[cython.uchar][::1], at: cython.longlong, stop: cython.longlong
) -> Head:
    """Read the byte order and type code that every geometry begins with.

    ISO codes add 1000 for Z, 2000 for M; an older habit sets high bits, and may put an SRID after the
    code.
    """
    code: cython.longlong
    k: cython.longlong
    found: Head = Head(at=at, base=0, layout=0, size=0, fault=0)
    if at + 5 > stop:
        found.fault = TRUNCATED
        return found
    if data[at] > 1:
        found.fault = BAD_ORDER
        return found
    code = _uint32(data, at + 1, data[at])
    found.layout = data[at]
    found.at = at + (9 if (code >> 29) & 1 else 5)
    found.base = (code & 0x1FFFFFFF) % 1000
    k = (code & 0x1FFFFFFF) // 1000
    if k > 3 or found.base < 1 or found.base > 7:
        found.fault = BAD_TYPE
        return found
    if (code >> 31) & 1 or k == 1 or k == 3:
        found.layout |= 2
    if (code >> 30) & 1 or k >= 2:
        found.layout |= 4
    found.size = 8 * (2 + ((found.layout >> 1) & 1) + ((found.layout >> 2) & 1))
    return found


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _rings(
    data: cython.const[cython.uchar][::1],
    head: Head,
    n: cython.longlong,
    stop: cython.longlong,
    fills: cython.int,
    n_rings: cython.longlong,
    ring_start: cython.longlong[::1],
    ring_count: cython.longlong[::1],
    ring_layout: cython.uchar[::1],
) -> Head:
    """Note the ``n`` rings of a polygon, from number ``n_rings`` on; return where it ends."""
    m: cython.longlong
    k: cython.longlong
    for k in range(n):
        if head.at + 4 > stop:
            head.fault = TRUNCATED
            return head
        m = _uint32(data, head.at, head.layout & 1)
        head.at += 4
        if m > (stop - head.at) // head.size:
            head.fault = BAD_COUNT
            return head
        if fills:
            ring_start[n_rings + k] = head.at
            ring_count[n_rings + k] = m
            ring_layout[n_rings + k] = head.layout
        head.at += head.size * m
    return head


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _count(
    data: cython.const[cython.uchar][::1], head: Head, stop: cython.longlong
) -> cython.longlong:
    """Return how many things a geometry other than a point says it has; minus a fault if it cannot.

    A count is believed only as far as bytes are left for it, so a lying one costs nothing.
    """
    n: cython.longlong
    least: cython.longlong = 5  # members of a multi geometry or collection are whole geometries
    if head.at + 4 > stop:
        return -TRUNCATED
    n = _uint32(data, head.at, head.layout & 1)
    if head.base == 2:
        least = head.size
    elif head.base == 3:
        least = 4
    return n if n <= (stop - head.at - 4) // least else -BAD_COUNT


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _walk(
    data: cython.const[cython.uchar][::1],
    at: cython.longlong,
    stop: cython.longlong,
    r: cython.longlong,
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
    """Walk the geometry of row r; return what is wrong with it, 0 for nothing.

    ``pending[d]`` is how many geometries are still to come at depth d of the nesting. ``totals`` is how
    many parts and rings there are so far; it grows with each.
    """
    n: cython.longlong
    depth: cython.longlong = 0
    head: Head
    pending[0] = 1
    while True:
        while depth >= 0 and pending[depth] == 0:
            depth -= 1
        if depth < 0:
            return 0
        pending[depth] -= 1
        head = _head(data, at, stop)
        if head.fault:
            return head.fault
        if depth == 0 and row_type[r] == 0:
            row_type[r] = head.base
        n = 1
        if head.base > 1:
            n = _count(data, head, stop)
            if n < 0:
                return -n
            head.at += 4
        elif head.at + head.size > stop:
            return TRUNCATED
        at = head.at
        if head.base > 3:
            if depth + 1 >= pending.shape[0]:
                return TOO_DEEP
            depth += 1
            pending[depth] = n
            continue
        if n == 0:
            continue
        if fills:
            part_row[totals[0]] = r
            part_family[totals[0]] = cython.cast(cython.uchar, head.base - 1)
            part_rings[totals[0]] = n if head.base == 3 else 1
        totals[0] += 1
        if head.base == 3:
            head = _rings(
                data, head, n, stop, fills, totals[1], ring_start, ring_count, ring_layout
            )
            if head.fault:
                return head.fault
            at = head.at
            totals[1] += n
            continue
        if fills:
            ring_start[totals[1]] = at
            ring_count[totals[1]] = n
            ring_layout[totals[1]] = head.layout
        totals[1] += 1
        at += head.size * n


def scan(
    data: cython.const[cython.uchar][::1],
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
    """
    first_fault: cython.longlong = -1
    r: cython.Py_ssize_t
    fault: cython.longlong
    n_parts: cython.longlong
    n_rings: cython.longlong
    totals[0] = 0
    totals[1] = 0
    with cython.nogil:
        for r in range(starts.shape[0]):
            row_type[r] = 0
            if starts[r] == stops[r]:
                continue
            n_parts = totals[0]
            n_rings = totals[1]
            fault = _walk(
                data,
                starts[r],
                stops[r],
                r,
                fills,
                part_row,
                part_family,
                part_rings,
                ring_start,
                ring_count,
                ring_layout,
                row_type,
                pending,
                totals,
            )
            if fault != 0:
                # What came of the row before the fault does not count.
                row_type[r] = -fault
                totals[0] = n_parts
                totals[1] = n_rings
                if first_fault < 0:
                    first_fault = r
    return first_fault


def gather_ranges(
    data: cython.const[cython.uchar][::1],
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


def take_numbers(
    data: cython.const[cython.uchar][::1],
    at: cython.longlong[::1],
    size: cython.longlong,
    out: cython.uchar[::1],
) -> None:
    """Copy numbers of 1, 2, 4 or 8 bytes that begin at places of ``data`` into ``out``, in a row."""
    i: cython.Py_ssize_t
    if cython.compiled:
        source: cython.p_uchar = cython.cast(cython.p_uchar, cython.address(data[0]))
        target: cython.p_uchar = cython.address(out[0])
    with cython.nogil:
        for i in range(at.shape[0]):
            if not cython.compiled:
                out[i * size : (i + 1) * size] = data[at[i] : at[i] + size]
            # A number known here becomes one instruction.
            elif size == 8:
                memcpy(target + 8 * i, source + at[i], 8)
            elif size == 4:
                memcpy(target + 4 * i, source + at[i], 4)
            elif size == 2:
                memcpy(target + 2 * i, source + at[i], 2)
            else:
                target[i] = source[at[i]]


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
