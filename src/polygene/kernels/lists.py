"""Nested lists of numbers taken out of the text of a JSON document (RFC 8259)."""

import cython

DEEPEST = cython.declare(cython.longlong, 4)


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _past_blanks(data: cython.uchar[::1], at: cython.longlong) -> cython.longlong:
    """Return where the next byte that is no blank is, or the end."""
    while at < data.shape[0] and (
        data[at] == 32 or data[at] == 10 or data[at] == 13 or data[at] == 9
    ):
        at += 1
    return at


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _past_digits(data: cython.uchar[::1], at: cython.longlong) -> cython.longlong:
    while at < data.shape[0] and 48 <= data[at] <= 57:
        at += 1
    return at


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _past_number(data: cython.uchar[::1], at: cython.longlong) -> cython.longlong:
    """Return the end of the number (section 6) that begins there, -1 if none does."""
    first: cython.longlong
    if at < data.shape[0] and data[at] == 45:  # minus
        at += 1
    first = at
    at = _past_digits(data, at)
    if at == first or (data[first] == 48 and at - first > 1):
        return -1
    if at < data.shape[0] and data[at] == 46:  # point
        first = at + 1
        at = _past_digits(data, first)
        if at == first:
            return -1
    if at < data.shape[0] and (data[at] | 32) == 101:  # e
        at += 1
        if at < data.shape[0] and (data[at] == 43 or data[at] == 45):
            at += 1
        first = at
        at = _past_digits(data, first)
        if at == first:
            return -1
    return at


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _past_list(
    data: cython.uchar[::1],
    at: cython.longlong,
    text: cython.uchar[::1],
    ends: cython.int[::1],
    counts: cython.int[:, ::1],
    totals: cython.longlong[::1],
    open_counts: cython.longlong[::1],
) -> cython.longlong:
    """Take out the list that begins there; return its end, -1 if it is not as it is wanted."""
    depth: cython.longlong = 0
    deepest: cython.longlong = 0  # once a number has been met
    first: cython.longlong
    level: cython.longlong
    while True:
        # A value begins.
        at = _past_blanks(data, at)
        if at == data.shape[0]:
            return -1
        if data[at] == 91:
            open_counts[depth] += 1
            depth += 1
            if depth > (deepest if deepest else DEEPEST):
                return -1
            open_counts[depth] = 0
            at += 1
            continue
        first = at
        at = _past_number(data, at)
        if at < 0 or depth == 0 or (deepest and depth != deepest):
            return -1
        deepest = depth
        open_counts[depth] += 1
        # A whole number that is minus nothing is nothing.
        if at - first == 2 and data[first] == 45 and data[first + 1] == 48:
            first += 1
        for level in range(first, at):
            text[totals[0]] = data[level]
            totals[0] += 1
        totals[1] += 1
        ends[totals[1]] = cython.cast(cython.int, totals[0])
        # What follows a value: the next one, or the end of its list and of those about it.
        while True:
            at = _past_blanks(data, at)
            if at == data.shape[0]:
                return -1
            if data[at] == 44:
                at += 1
                break
            if data[at] != 93:
                return -1
            at += 1
            level = deepest - depth
            counts[level, totals[2 + level]] = cython.cast(cython.int, open_counts[depth])
            totals[2 + level] += 1
            depth -= 1
            if depth == 0:
                totals[6] = deepest
                return at


def lift_lists(
    data: cython.uchar[::1],
    key: cython.uchar[::1],
    rest: cython.uchar[::1],
    text: cython.uchar[::1],
    ends: cython.int[::1],
    counts: cython.int[:, ::1],
    lists: cython.int[:, ::1],
    totals: cython.longlong[::1],
    open_counts: cython.longlong[::1],
) -> cython.longlong:
    """Take the lists that are values of ``key`` out of a document; return how many there are.

    -1 if one is not a list of numbers in 1 to 4 levels, the same throughout and none empty. ``rest`` is
    the document with the number of each in its place, ``text`` the numbers' own one behind the other,
    number i up to ``ends[i + 1]``; ``counts`` (4, ...) how many numbers the innermost lists have, how
    many such lists those about them, and so on. ``lists`` (n, 5) says of each how deep it is, and how
    many lists of each level were there before it. ``totals`` (8,) are, all 0 at first, the bytes of
    ``text``, the numbers, the lists of each level, how deep the last is, and the bytes of ``rest``;
    ``open_counts`` (6,) is room.
    """
    at: cython.longlong = 0
    first: cython.longlong
    n: cython.longlong = 0
    k: cython.longlong
    size: cython.longlong = data.shape[0]
    put: cython.longlong = 0
    good: cython.bint
    ends[0] = 0
    with cython.nogil:
        while at < size and n >= 0:
            if data[at] != 34:
                rest[put] = data[at]
                put += 1
                at += 1
                continue
            # A text, up to its end.
            first = at
            at += 1
            while at < size and data[at] != 34:
                at += 2 if data[at] == 92 else 1
            at = min(at + 1, size)
            good = at - first == key.shape[0] + 2
            if good:
                for k in range(key.shape[0]):
                    if data[first + 1 + k] != key[k]:
                        good = False
            if good:
                k = _past_blanks(data, at)
                good = k < size and data[k] == 58
                if good:
                    at = _past_blanks(data, k + 1)
                    good = at < size and data[at] == 91
            for k in range(first, at):
                rest[put] = data[k]
                put += 1
            if not good:
                continue
            for k in range(4):
                lists[n, 1 + k] = cython.cast(cython.int, totals[2 + k])
            at = _past_list(data, at, text, ends, counts, totals, open_counts)
            if at < 0:
                n = -1
                break
            lists[n, 0] = cython.cast(cython.int, totals[6])
            # Its number, the last digit first.
            first = put
            k = n
            while True:
                rest[put] = cython.cast(cython.uchar, 48 + k % 10)
                put += 1
                k //= 10
                if k == 0:
                    break
            k = put - 1
            while first < k:
                rest[first], rest[k] = rest[k], rest[first]
                first += 1
                k -= 1
            n += 1
        totals[7] = put
    return n
