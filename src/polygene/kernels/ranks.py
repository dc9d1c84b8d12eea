"""Numbers that rise with values, the best of each group, codes counted and numbered anew."""

import cython

INFINITY = cython.declare(cython.longlong, 0x7FF0000000000000)
MOST = cython.declare(cython.longlong, 0x7FFFFFFFFFFFFFFF)


def order_reals(bits: cython.const[cython.longlong][::1], keys: cython.longlong[::1]) -> None:
    """Make, of the 64 bits of real numbers, integers that rise as these do (IEEE 754, 5.10).

    Equal ones have equal integers, 0 and -0 too; what is no number has the largest.
    """
    i: cython.Py_ssize_t
    value: cython.longlong
    with cython.nogil:
        for i in range(bits.shape[0]):
            value = bits[i]
            if (value & MOST) > INFINITY:
                keys[i] = MOST
            elif value >= 0:
                keys[i] = value
            else:  # the larger the further from nothing; -0 becomes 0
                keys[i] = (value ^ MOST) + 1


def find_best(
    group: cython.const[cython.longlong][::1],
    keys: cython.const[cython.longlong][::1],
    wants_most: cython.bint,
    best: cython.longlong[::1],
    first: cython.longlong,
    stop: cython.longlong,
) -> None:
    """Find the first item with the least key of each group, or the most, of items first to stop.

    ``best`` (n_groups,), -1 at first, gets the items.
    """
    i: cython.Py_ssize_t
    g: cython.longlong
    held: cython.longlong
    with cython.nogil:
        for i in range(first, stop):
            g = group[i]
            held = best[g]
            if held < 0 or (keys[i] > keys[held] if wants_most else keys[i] < keys[held]):
                best[g] = i


def count_keys(
    keys: cython.const[cython.longlong][::1],
    first: cython.longlong,
    stop: cython.longlong,
    n_lanes: cython.longlong,
    counts: cython.longlong[:, ::1],
) -> None:
    """Count how often each key occurs among items first to stop: (n_keys, n_lanes).

    They are dealt out over the lanes, a power of two, so that one need not wait for the one before it.
    """
    i: cython.Py_ssize_t
    with cython.nogil:
        for i in range(first, stop):
            counts[keys[i], i & (n_lanes - 1)] += 1


def number_codes(
    codes: cython.const[cython.longlong][::1],
    known: cython.longlong[::1],
    numbers: cython.longlong[::1],
    originals: cython.longlong[::1],
) -> cython.longlong:
    """Number codes in order of first appearance; return how many there are, -1 if one is none.

    ``known`` has room for every code there may be, all -1; ``numbers`` and ``originals`` are as in
    `pairs.number_firsts`.
    """
    n: cython.longlong = 0
    i: cython.Py_ssize_t
    k: cython.longlong
    with cython.nogil:
        for i in range(codes.shape[0]):
            if codes[i] < 0 or codes[i] >= known.shape[0]:
                n = -1
                break
            k = known[codes[i]]
            if k < 0:
                k = n
                known[codes[i]] = n
                originals[n] = i
                n += 1
            numbers[i] = k
    return n


def order_texts(
    data: cython.const[cython.uchar][::1],
    starts: cython.const[cython.longlong][::1],
    stops: cython.const[cython.longlong][::1],
    keys: cython.longlong[::1],
) -> None:
    """Make integers of the first eight bytes from some places on that rise as these do.

    What of them lies at ``stops`` or beyond counts as nothing.
    """
    i: cython.Py_ssize_t
    at: cython.longlong
    key: cython.longlong
    with cython.nogil:
        for i in range(starts.shape[0]):
            key = 0
            for at in range(starts[i], starts[i] + 8):
                key = key * 256 + (data[at] if at < stops[i] else 0)
                if at == starts[i]:
                    key -= 128  # half of what a byte can be, so that eight fit
            keys[i] = key
