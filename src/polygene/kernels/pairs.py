"""Hash numbering, counting sort and union-find on integer arrays."""

import cython

if cython.compiled:
    from cython.cimports.polygene.kernels.wide import prefetch, word_at


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _hashed(a: cython.ulonglong, b: cython.ulonglong) -> cython.ulonglong:
    """Mix a pair into 64 bits; odd multipliers from 2**64 / golden ratio and like it."""
    k1: cython.ulonglong = 0x9E3779B97F4A7C15
    k2: cython.ulonglong = 0xC2B2AE3D27D4EB4F
    k3: cython.ulonglong = 0xD6E8FEB86659FD93
    full: cython.ulonglong = 0xFFFFFFFFFFFFFFFF  # where integers have no width
    mixed: cython.ulonglong = (a * k1 + b * k2) & full
    mixed = ((mixed ^ (mixed >> 32)) * k3) & full
    return mixed >> 24


def first_equals(
    first: cython.longlong[::1],
    second: cython.longlong[::1],
    part: cython.longlong,
    n_parts: cython.longlong,
    slots: cython.int[::1],
    waiting: cython.longlong[:, ::1],
    equals: cython.int[::1],
) -> cython.longlong:
    """Set ``equals[i]`` to the first pair that is equal to pair i, for all pairs of one part.

    Return how many distinct pairs the part has. Which part a pair is of, its hash tells; so parts can
    be looked at side by side. ``slots`` is the hash table: a power of two of entries, all -1. If these
    were too few -1 is returned; half as many again as there are pairs always do. Pairs are
    non-negative. Open addressing with linear probing; ``waiting`` (2, k) is room to fetch the memory of
    that many pairs ahead.
    """
    n: cython.longlong = first.shape[0]
    mask: cython.ulonglong = slots.shape[0] - 1
    most: cython.longlong = slots.shape[0] - slots.shape[0] // 8
    known: cython.longlong = 0
    ahead: cython.longlong = waiting.shape[1]
    next_one: cython.longlong = 0
    m: cython.longlong
    w: cython.longlong
    i: cython.longlong
    k: cython.longlong
    hashed: cython.ulonglong
    place: cython.ulonglong
    has_room: cython.int = 1
    with cython.nogil:
        while next_one < n:
            m = 0
            while m < ahead and next_one < n:
                hashed = _hashed(first[next_one], second[next_one])
                # Of the 40 bits the upper eight choose the part, and no slot: tables have up to 2**31.
                # Half of all are of another: they are written over, since to guess costs more.
                waiting[0, m] = hashed & mask
                waiting[1, m] = next_one
                m += cython.cast(cython.longlong, (hashed >> 32) * n_parts >> 8) == part
                next_one += 1
            for w in range(m):
                if cython.compiled:
                    prefetch(cython.address(slots[waiting[0, w]]))
            if known + m > most:
                has_room = 0
                break
            for w in range(m):
                place = waiting[0, w]
                i = waiting[1, w]
                while True:
                    k = slots[place]
                    if k < 0:
                        slots[place] = cython.cast(cython.int, i)
                        equals[i] = cython.cast(cython.int, i)
                        known += 1
                        break
                    if first[k] == first[i] and second[k] == second[i]:
                        equals[i] = cython.cast(cython.int, k)
                        break
                    place = (place + 1) & mask
    return known if has_room else -1


def number_firsts(
    equals: cython.int[::1], numbers: cython.longlong[::1], originals: cython.longlong[::1]
) -> cython.longlong:
    """Number items in order of first appearance, equal ones alike; return how many numbers there are.

    ``equals[i]`` is the first item that is equal to item i. ``numbers[i]`` becomes the number of
    item i, ``originals[k]`` the first item with number k.
    """
    known: cython.longlong = 0
    i: cython.Py_ssize_t
    with cython.nogil:
        for i in range(equals.shape[0]):
            if equals[i] == i:
                originals[known] = i
                numbers[i] = known
                known += 1
            else:
                numbers[i] = numbers[equals[i]]
    return known


def number_distinct(
    numbers: cython.int[::1],
    first: cython.longlong[::1],
    second: cython.longlong[::1],
    found_first: cython.longlong[::1],
    found_second: cython.longlong[::1],
) -> None:
    """Number pairs as `number_firsts` does, in place of their first equals, and list distinct ones."""
    known: cython.longlong = 0
    i: cython.Py_ssize_t
    with cython.nogil:
        for i in range(numbers.shape[0]):
            if numbers[i] == i:
                found_first[known] = first[i]
                found_second[known] = second[i]
                numbers[i] = cython.cast(cython.int, known)
                known += 1
            else:  # what comes before i is numbered already
                numbers[i] = numbers[numbers[i]]


def find_pairs(
    first: cython.longlong[::1],
    second: cython.longlong[::1],
    base: cython.longlong,
    asked_first: cython.longlong[::1],
    asked_second: cython.longlong[::1],
    slots: cython.int[::1],
    found: cython.int[::1],
) -> None:
    """Set ``found[k]`` to ``base + i`` where pair i is pair k of those asked for.

    ``slots`` is the table that `first_equals` made of these; of equal ones it has the first. The pairs
    that are looked through are distinct, so that threads may look through parts of them.
    """
    mask: cython.ulonglong = slots.shape[0] - 1
    i: cython.Py_ssize_t
    k: cython.longlong
    place: cython.ulonglong
    with cython.nogil:
        for i in range(first.shape[0]):
            place = _hashed(first[i], second[i]) & mask
            k = slots[place]
            while k >= 0:
                if asked_first[k] == first[i] and asked_second[k] == second[i]:
                    found[k] = cython.cast(cython.int, base + i)
                    break
                place = (place + 1) & mask
                k = slots[place]


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _word(
    data: cython.const[cython.uchar][::1], at: cython.longlong, n: cython.longlong
) -> cython.ulonglong:
    """Return n bytes, or eight of them if there are more, as one number."""
    word: cython.ulonglong = 0
    if cython.compiled:
        word = word_at(cython.address(data[at]), n, data.shape[0] - at)
    else:
        word = int.from_bytes(bytes(data[at : at + min(n, 8)]), "little")
    return word


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _hashed_text(
    data: cython.const[cython.uchar][::1], start: cython.longlong, stop: cython.longlong
) -> cython.ulonglong:
    """Mix the bytes of a text, eight at a time; the odd multipliers as in `_hashed`."""
    k1: cython.ulonglong = 0x9E3779B97F4A7C15
    k2: cython.ulonglong = 0xD6E8FEB86659FD93
    full: cython.ulonglong = 0xFFFFFFFFFFFFFFFF  # where integers have no width
    mixed: cython.ulonglong = stop - start
    while start < stop:
        mixed = ((mixed ^ _word(data, start, stop - start)) * k1) & full
        mixed ^= mixed >> 32
        start += 8
    return ((mixed * k2) & full) >> 24


@cython.cfunc
@cython.nogil
@cython.exceptval(check=False)
def _same_text(
    data: cython.const[cython.uchar][::1],
    a: cython.longlong,
    b: cython.longlong,
    size: cython.longlong,
) -> cython.bint:
    while size > 0 and _word(data, a, size) == _word(data, b, size):
        a += 8
        b += 8
        size -= 8
    return size <= 0


def number_texts(
    data: cython.const[cython.uchar][::1],
    offsets: cython.const[cython.longlong][::1],
    slots: cython.int[::1],
    waiting: cython.longlong[::1],
    numbers: cython.longlong[::1],
    originals: cython.longlong[::1],
) -> cython.longlong:
    """Number the distinct texts in order of first appearance; return how many there are.

    Text i is the bytes ``data[offsets[i]:offsets[i + 1]]``. ``slots`` is the hash table: a power of two
    of entries, all -1. If these were too few -1 is returned; half as many again as there are texts
    always do. ``waiting`` (k,) is room to fetch the memory of that many ahead; ``numbers`` and
    ``originals`` are as in `number_firsts`.
    """
    n: cython.longlong = offsets.shape[0] - 1
    mask: cython.ulonglong = slots.shape[0] - 1
    ahead: cython.longlong = waiting.shape[0]
    start: cython.longlong = 0
    m: cython.longlong
    i: cython.longlong
    k: cython.longlong
    size: cython.longlong
    known: cython.longlong = 0
    most: cython.longlong = slots.shape[0] - slots.shape[0] // 8
    has_room: cython.int = 1
    place: cython.ulonglong
    with cython.nogil:
        while start < n:
            m = min(ahead, n - start)
            if known + m > most:
                has_room = 0
                break
            for i in range(m):
                place = _hashed_text(data, offsets[start + i], offsets[start + i + 1]) & mask
                waiting[i] = place
                if cython.compiled:
                    prefetch(cython.address(slots[place]))
            for i in range(start, start + m):
                place = waiting[i - start]
                size = offsets[i + 1] - offsets[i]
                while True:
                    k = slots[place]
                    if k < 0:
                        slots[place] = cython.cast(cython.int, i)
                        originals[known] = i
                        numbers[i] = known
                        known += 1
                        break
                    if offsets[k + 1] - offsets[k] == size and _same_text(
                        data, offsets[k], offsets[i], size
                    ):
                        numbers[i] = numbers[k]
                        break
                    place = (place + 1) & mask
            start += m
    return known if has_room else -1


def number_runs(
    order: cython.longlong[::1],
    first: cython.longlong[::1],
    second: cython.longlong[::1],
    numbers: cython.int[::1],
    found_first: cython.longlong[::1],
    found_second: cython.longlong[::1],
) -> cython.longlong:
    """Number and list the distinct pairs, which ``order`` sorts so that equal ones follow each other.

    Return how many there are.
    """
    known: cython.longlong = 0
    k: cython.Py_ssize_t
    i: cython.longlong
    with cython.nogil:
        for k in range(order.shape[0]):
            i = order[k]
            if (
                known == 0
                or first[i] != found_first[known - 1]
                or second[i] != found_second[known - 1]
            ):
                found_first[known] = first[i]
                found_second[known] = second[i]
                known += 1
            numbers[i] = cython.cast(cython.int, known - 1)
    return known


Key = cython.fused_type(cython.int, cython.longlong)


def count_bucket(
    keys: Key[::1],
    first_key: cython.longlong,
    last_key: cython.longlong,
    offsets: cython.longlong[::1],
) -> cython.longlong:
    """Count keys from ``first_key`` up to ``last_key``: those of k in ``offsets[k + 1]``, which was 0.

    Returns how many they are all told.
    """
    i: cython.Py_ssize_t
    k: cython.longlong
    n: cython.longlong = 0
    with cython.nogil:
        for i in range(keys.shape[0]):
            k = keys[i]
            if first_key <= k < last_key:
                offsets[k + 1] += 1
                n += 1
    return n


def fill_bucket(
    keys: Key[::1],
    first_key: cython.longlong,
    last_key: cython.longlong,
    begin: cython.longlong,
    offsets: cython.longlong[::1],
    order: cython.longlong[::1],
) -> None:
    """Put the items of keys of a range, from ``begin`` on, in ``order``, stably; counts become ends.

    ``offsets`` are as `count_bucket` leaves them. Threads may fill ranges side by side.
    """
    i: cython.Py_ssize_t
    k: cython.longlong
    n: cython.longlong
    with cython.nogil:
        for k in range(first_key + 1, last_key + 1):
            n = offsets[k]
            offsets[k] = begin
            begin += n
        for i in range(keys.shape[0]):
            k = keys[i]
            if first_key <= k < last_key:
                order[offsets[k + 1]] = i
                offsets[k + 1] += 1


def place_items(
    keys: Key[::1],
    first: cython.longlong,
    last: cython.longlong,
    nexts: cython.longlong[::1],
    order: cython.longlong[::1],
) -> None:
    """Put items from ``first`` up to ``last`` in ``order``, each at the next place of its key."""
    i: cython.longlong
    k: cython.longlong
    with cython.nogil:
        for i in range(first, last):
            k = keys[i]
            order[nexts[k]] = i
            nexts[k] += 1


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _root(parent: cython.longlong[::1], item: cython.longlong) -> cython.longlong:
    """Return the root of an item, and let those on the way to it hang higher."""
    while parent[item] != item:
        parent[item] = parent[parent[item]]
        item = parent[item]
    return item


@cython.cfunc
@cython.inline
@cython.nogil
@cython.exceptval(check=False)
def _join(
    parent: cython.longlong[::1], left: cython.longlong, right: cython.longlong
) -> cython.bint:
    """Join the sets of two items under the smaller root; return whether they were one already."""
    a: cython.longlong = _root(parent, left)
    b: cython.longlong = _root(parent, right)
    parent[max(a, b)] = min(a, b)
    return a == b


def join_roots(
    left: cython.longlong[::1], right: cython.longlong[::1], parent: cython.longlong[::1]
) -> None:
    """Union-find: join the sets of left[i] and right[i]; the smaller number becomes the root.

    ``parent`` starts as a forest (each item its own parent) and ends with the root of every item.
    """
    i: cython.Py_ssize_t
    with cython.nogil:
        for i in range(left.shape[0]):
            _join(parent, left[i], right[i])
        # Parents are never larger than their children, so one rising pass ends at the roots.
        for i in range(parent.shape[0]):
            parent[i] = parent[parent[i]]


def find_cycles(
    left: Key[:],
    right: Key[:],
    parent: cython.longlong[::1],
    closes: cython.uchar[::1],
) -> None:
    """Do what `join_roots` does; ``closes[i]`` becomes 1 where i joins what hung together before it."""
    i: cython.Py_ssize_t
    with cython.nogil:
        for i in range(left.shape[0]):
            closes[i] = _join(parent, left[i], right[i])
        for i in range(parent.shape[0]):
            parent[i] = parent[parent[i]]


def sort_groups(
    keys: cython.longlong[::1], offsets: cython.longlong[::1], order: cython.longlong[::1]
) -> None:
    """Sort the items ``order[offsets[g]:offsets[g + 1]]`` of each group by key (Shell 1959)."""
    g: cython.Py_ssize_t
    i: cython.longlong
    j: cython.longlong
    base: cython.longlong
    n: cython.longlong
    gap: cython.longlong
    item: cython.longlong
    with cython.nogil:
        for g in range(offsets.shape[0] - 1):
            base = offsets[g]
            n = offsets[g + 1] - base
            gap = 1
            while gap < n // 3:
                gap = 3 * gap + 1
            while gap > 0:
                for i in range(gap, n):
                    item = order[base + i]
                    j = i
                    while j >= gap and keys[order[base + j - gap]] > keys[item]:
                        order[base + j] = order[base + j - gap]
                        j -= gap
                    order[base + j] = item
                gap //= 3
