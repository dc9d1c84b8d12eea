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
def _past_exponent(data: cython.uchar[::1], at: cython.longlong) -> cython.longlong:
    """Return the end of the power of ten that may stand behind a number, -1 if it has no digits."""
    first: cython.longlong
    if at == data.shape[0] or (data[at] | 32) != 101:  # e
        return at
    at += 1
    if at < data.shape[0] and (data[at] == 43 or data[at] == 45):
        at += 1
    first = at
    at = _past_digits(data, first)
    return -1 if at == first else at


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
    return _past_exponent(data, at)


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _past_literal(data: cython.uchar[::1], at: cython.longlong) -> cython.longlong:
    """Return the end of the number that begins there, without a plus in front, -1 if none does.

    It may be written as 1. and .5, and with noughts in front (OGC 06-103r4, 7.2.1).
    """
    n: cython.longlong
    first: cython.longlong
    if at < data.shape[0] and data[at] == 45:  # minus
        at += 1
    first = at
    at = _past_digits(data, first)
    n = at - first
    if at < data.shape[0] and data[at] == 46:  # point
        first = at + 1
        at = _past_digits(data, first)
        n += at - first
    return _past_exponent(data, at) if n else -1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _put_number(
    data: cython.uchar[::1],
    first: cython.longlong,
    stop: cython.longlong,
    text: cython.uchar[::1],
    ends: cython.int[::1],
    totals: cython.longlong[::1],
) -> cython.void:
    """Take out a number: its bytes behind those of the numbers before it."""
    k: cython.longlong
    for k in range(first, stop):
        text[totals[0]] = data[k]
        totals[0] += 1
    totals[1] += 1
    ends[totals[1]] = cython.cast(cython.int, totals[0])


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
        _put_number(data, first, at, text, ends, totals)
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

    -1 if one is not a list of numbers in 1 to 4 levels, the same throughout and none empty, or if a
    value of ``key`` is a number itself, which would be taken for that of a list. ``rest`` is the
    document with the number of each in its place, ``text`` the numbers' own one behind the other,
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
                    if at < size and 48 <= data[at] <= 57:
                        n = -1
                        break
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


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _past_word(
    data: cython.uchar[::1],
    at: cython.longlong,
    words: cython.uchar[:, ::1],
    which: cython.longlong,
) -> cython.longlong:
    """Return where a word, given in capitals with blanks behind it, ends that begins there, or -1."""
    k: cython.longlong
    for k in range(words.shape[1]):
        if words[which, k] == 32:
            return at + k
        if at + k >= data.shape[0] or (data[at + k] & 223) != words[which, k]:
            return -1
    return at + words.shape[1]


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _past_position(
    data: cython.uchar[::1],
    at: cython.longlong,
    text: cython.uchar[::1],
    ends: cython.int[::1],
    counts: cython.int[:, ::1],
    totals: cython.longlong[::1],
) -> cython.longlong:
    """Take out the two to four numbers that begin there; return their end, -1 if they are no such."""
    n: cython.longlong = 0
    k: cython.longlong
    first: cython.longlong
    while True:
        if at < data.shape[0] and data[at] == 43:  # plus
            at += 1
            if at < data.shape[0] and data[at] == 45:
                return -1
        first = at
        at = _past_literal(data, at)
        if at < 0 or n == 4 or at == data.shape[0]:
            return -1
        _put_number(data, first, at, text, ends, totals)
        n += 1
        k = at
        at = _past_blanks(data, at)
        if at == data.shape[0]:
            return -1
        if data[at] == 44 or data[at] == 41:
            break
        if at == k:
            return -1
    if n < 2:
        return -1
    counts[0, totals[2]] = cython.cast(cython.int, n)
    totals[2] += 1
    return at


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _past_brackets(
    data: cython.uchar[::1],
    at: cython.longlong,
    levels: cython.longlong,
    of_points: cython.bint,
    text: cython.uchar[::1],
    ends: cython.int[::1],
    counts: cython.int[:, ::1],
    totals: cython.longlong[::1],
    open_counts: cython.longlong[::1],
) -> cython.longlong:
    """Take out positions in so many levels of lists; return the end, -1 if they are not so.

    A single point has brackets of its own, and each of several may have.
    """
    n_open: cython.longlong = 0
    level: cython.longlong
    is_wrapped: cython.bint
    while True:
        at = _past_blanks(data, at)
        while n_open < levels:
            if at == data.shape[0] or data[at] != 40:
                return -1
            n_open += 1
            open_counts[n_open] = 0
            at = _past_blanks(data, at + 1)
        is_wrapped = of_points and at < data.shape[0] and data[at] == 40
        if levels == 0 and not is_wrapped:
            return -1
        if is_wrapped:
            at = _past_blanks(data, at + 1)
        at = _past_position(data, at, text, ends, counts, totals)
        if at < 0:
            return -1
        if is_wrapped:
            if data[at] != 41:
                return -1
            at += 1
            if levels == 0:
                return at
            at = _past_blanks(data, at)
        open_counts[levels] += 1
        while at < data.shape[0] and data[at] == 41:
            level = levels - n_open + 1
            counts[level, totals[2 + level]] = cython.cast(cython.int, open_counts[n_open])
            totals[2 + level] += 1
            n_open -= 1
            at += 1
            if n_open == 0:
                return at
            open_counts[n_open] += 1
            at = _past_blanks(data, at)
        if at == data.shape[0] or data[at] != 44:
            return -1
        at += 1


def lift_texts(
    data: cython.uchar[::1],
    starts: cython.longlong[::1],
    words: cython.uchar[:, ::1],
    text: cython.uchar[::1],
    ends: cython.int[::1],
    counts: cython.int[:, ::1],
    lists: cython.int[:, ::1],
    kind: cython.uchar[::1],
    totals: cython.longlong[::1],
    open_counts: cython.longlong[::1],
) -> cython.longlong:
    """Take the numbers out of well-known texts (OGC 06-103r4, 7.2); return how many have any.

    -1 if one is not as they mostly are: a point, line or polygon, or several, without M alone. Row i is
    ``data[starts[i]:starts[i + 1]]``; without a byte it is null. ``words`` (8, 15) are the names of the
    six types, lists nested the deeper the later, EMPTY and ZM, in capitals with blanks behind. ``kind``
    of a row is the number of its type from 1, with 16 more if it is empty, 0 of none.
    For the others see `lift_lists`; ``lists`` are of the rows that have numbers.
    """
    at: cython.longlong
    end: cython.longlong
    row: cython.longlong
    n: cython.longlong = 0
    k: cython.longlong
    which: cython.longlong
    ends[0] = 0
    with cython.nogil:
        for row in range(kind.shape[0]):
            kind[row] = 0
            if starts[row] == starts[row + 1]:
                continue
            at = _past_blanks(data, starts[row])
            which = 0
            end = -1
            while which < 6 and end < 0:
                end = _past_word(data, at, words, which)
                which += 1
            if end < 0:
                n = -1
                break
            kind[row] = cython.cast(cython.uchar, which)
            at = _past_blanks(data, end)
            # Z alone, or with M
            if at < data.shape[0] and (data[at] & 223) == 90:
                at += 1
                if at < data.shape[0] and (data[at] & 223) == 77:
                    at += 1
                at = _past_blanks(data, at)
            end = _past_word(data, at, words, 6)
            if end >= 0:
                kind[row] += 16
            else:
                for k in range(4):
                    lists[n, 1 + k] = cython.cast(cython.int, totals[2 + k])
                # Point 1, MultiPoint and LineString 2, MultiLineString and Polygon 3, MultiPolygon 4
                k = which // 2
                lists[n, 0] = cython.cast(cython.int, 1 + k)
                n += 1
                end = _past_brackets(
                    data, at, k, which <= 2, text, ends, counts, totals, open_counts
                )
            if end < 0 or end > starts[row + 1] or _past_blanks(data, end) < starts[row + 1]:
                n = -1
                break
    return n
