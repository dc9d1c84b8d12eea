"""Small helpers on offset arrays, used wherever rows, parts, rings and vertices meet."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from polygene import kernels, parallel
from polygene.classes import NamedTuple

F64Array = npt.NDArray[np.float64]
I64Array = npt.NDArray[np.int64]
I32Array = npt.NDArray[np.int32]
I8Array = npt.NDArray[np.int8]
BoolArray = npt.NDArray[np.bool_]
U8Array = npt.NDArray[np.uint8]
IntArray = I64Array | I32Array  # numbers of things, of either size
AnyArray = TypeVar("AnyArray", F64Array, I64Array, I32Array, I8Array)

NONE = -1  # "no such thing" in an index array
AHEAD = 32  # pairs whose memory is fetched ahead
MOST_PARTS = 16  # in which pairs are looked for side by side: each reads all of them
MANY_A_KEY = 4  # items to be grouped, on average, so that each thread may count all keys for itself
WORTH_LOOKING_AT = 500_000  # keys to be grouped, for each thread that looks at all of them
FEW_A_PAIR = 2  # codes for each of some items, up to which a table of all codes is no waste
FEW_KEYS = 512  # of so few keys sums are kept side by side, so that none waits for another
LANES = 8
FEW_SLOTS = 1 << 15  # of a hash table that stays near at hand


def offsets_from(counts: npt.NDArray[np.integer] | list[int]) -> I64Array:
    """Return the (n + 1,) offsets of n groups with these sizes."""
    offsets = np.zeros(len(counts) + 1, np.int64)
    np.cumsum(counts, out=offsets[1:])
    return offsets


def owners(offsets: I64Array) -> I64Array:
    """Return, for each item, the group it is in: the inverse of offsets."""
    return np.repeat(np.arange(len(offsets) - 1), np.diff(offsets))


def spans(starts: I64Array, counts: I64Array) -> I64Array:
    """Return the integers of several ranges in a row: 5, 6, 9 for starts 5, 9 and counts 2, 1."""
    total = int(counts.sum())
    if total == 0:
        return np.zeros(0, np.int64)
    shift = np.asarray(starts, np.int64) - (np.cumsum(counts) - counts)
    return np.arange(total, dtype=np.int64) + np.repeat(shift, counts)


def run_lengths(is_first: BoolArray) -> I64Array:
    """Return how long the runs of items are of which each first one is marked, as the very first is."""
    return np.diff(np.append(np.flatnonzero(is_first), len(is_first)))


class Intervals:
    """Intervals on a line, both ends counting, to be asked which of them hold a number.

    They are put into strips of equal width, so that a number is compared with those of its strip only.
    What is not finite counts as 0.
    """

    def __init__(self, low: F64Array, high: F64Array) -> None:
        self._low, self._high = np.nan_to_num(low), np.nan_to_num(high)
        least, most = float(self._low.min()), float(self._high.max())
        n_strips = max(1, min(len(low), 1 << 16))
        while True:
            self._least, self._n, self._width = least, n_strips, (most - least) / n_strips or 1.0
            first, last = self._strip(self._low), self._strip(self._high)
            counts = last - first + 1
            if n_strips == 1 or int(counts.sum()) <= 6 * (len(low) + n_strips):
                break
            n_strips = max(1, n_strips // 4)
        strips = bucket(spans(first, counts), n_strips)
        self._members = np.repeat(np.arange(len(low)), counts)[strips.order]
        self._offsets = strips.offsets

    def _strip(self, at: F64Array) -> I64Array:
        return np.clip((at - self._least) / self._width, 0, self._n - 1).astype(np.int64)

    def holding(self, at: F64Array) -> tuple[I64Array, I64Array]:
        """Return pairs (number, interval) of those that hold which of some numbers, (n,)."""
        at = np.nan_to_num(at)
        own = self._strip(at)
        counts = np.diff(self._offsets)[own]
        number = np.repeat(np.arange(len(at)), counts)
        interval = self._members[spans(self._offsets[:-1][own], counts)]
        at = np.repeat(at, counts)
        holds = np.flatnonzero((self._low[interval] <= at) & (at <= self._high[interval]))
        return number[holds], interval[holds]


def take_spans(values: np.ndarray, starts: I64Array, counts: I64Array) -> np.ndarray:
    """Return several ranges of rows of ``values``, (n,) or (n, k), in a row, as `spans` names them."""
    values = np.ascontiguousarray(values)
    size = values.itemsize * int(np.prod(values.shape[1:]))
    found = np.empty((int(counts.sum()), *values.shape[1:]), values.dtype)
    if not len(found):
        return found
    data, out = values.reshape(-1).view(np.uint8), found.reshape(-1).view(np.uint8)
    offsets = offsets_from(counts)

    def gather(first: int, stop: int) -> None:
        own = slice(first, stop)
        place = out[offsets[first] * size : offsets[stop] * size]
        kernels.run(kernels.wkb.gather_ranges, data, starts[own] * size, counts[own] * size, place)

    parallel.each(gather, parallel.parted(offsets))
    return found


def appended(first: AnyArray, second: AnyArray, shift: int = 0) -> AnyArray:
    """Return two arrays in a row, the second larger by ``shift``; no copy where it is empty."""
    if len(second) == 0:
        return first
    n = len(first)
    found = np.empty(n + len(second), first.dtype)

    def put(start: int, stop: int) -> None:
        found[start : min(stop, n)] = first[start:stop]
        if stop > n:
            own = slice(max(start, n), stop)
            np.add(second[max(start, n) - n : stop - n], shift, out=found[own])

    parallel.each(put, parallel.split(len(found)))
    return found


class Buckets(NamedTuple):
    """Items grouped by key: those of key k are ``order[offsets[k]:offsets[k + 1]]``."""

    offsets: I64Array
    order: I64Array


def bucket(keys: IntArray, n_keys: int) -> Buckets:
    """Group items by integer key below ``n_keys``, each group in its old order; linear time.

    Raises
    ------
    ValueError
        If a key is negative, or is not below.
    """
    held = np.ascontiguousarray(keys, keys.dtype if keys.dtype == np.int32 else np.int64)
    n_parts = len(parallel.split(len(keys)))
    if n_parts > 1 and n_keys * MANY_A_KEY <= len(keys):
        return _bucket_by_items(held, n_keys)
    offsets, order = np.zeros(n_keys + 1, np.int64), np.empty(len(keys), np.int64)
    # Each thread looks at all of them for its own keys, which pays where these lie far apart.
    n_parts = min(n_parts, len(parallel.split(n_keys)), max(1, len(keys) // WORTH_LOOKING_AT))
    cuts = [n_keys * k // n_parts for k in range(n_parts + 1)]
    ranges = list(pairwise(cuts))
    count, fill = kernels.pairs.count_bucket, kernels.pairs.fill_bucket
    counts = parallel.each(lambda a, b: kernels.run(count, held, a, b, offsets), ranges)
    begins = [0, *np.cumsum(counts).tolist()]
    _check_keys(begins[-1], len(keys), n_keys)
    parallel.each_of(
        lambda part: kernels.run(fill, held, *part[0], part[1], offsets, order),
        list(zip(ranges, begins[:-1], strict=True)),
    )
    return Buckets(offsets, order)


def _bucket_by_items(keys: np.ndarray, n_keys: int) -> Buckets:
    """Group items as `bucket` does, each thread some of them: there are few keys to count for each."""
    parts = parallel.split(len(keys))
    order = np.empty(len(keys), np.int64)

    def count(first: int, stop: int) -> tuple[I64Array, int]:
        counts = np.zeros(n_keys + 1, np.int64)
        part = keys[first:stop]
        return counts, kernels.run(kernels.pairs.count_bucket, part, 0, n_keys, counts)

    found = parallel.each(count, parts)
    _check_keys(sum(n for _, n in found), len(keys), n_keys)
    # The items of a key that one thread has come after those of the threads before it.
    offsets = np.cumsum(sum(counts for counts, _ in found))
    nexts = [offsets[:-1].copy()]
    for counts, _ in found[:-1]:
        nexts.append(nexts[-1] + counts[1:])
    place = kernels.pairs.place_items
    parallel.each_of(
        lambda k: kernels.run(place, keys, *parts[k], nexts[k], order), range(len(parts))
    )
    return Buckets(offsets, order)


def _check_keys(n_counted: int, n: int, n_keys: int) -> None:
    if n_counted != n:
        raise ValueError(f"{n_keys} keys are from 0 to {n_keys - 1}")


class Numbering(NamedTuple):
    """Distinct pairs: ``numbers`` (n,) names the pair of each item, ``firsts`` (m,) an item of each."""

    numbers: I64Array
    firsts: I64Array


def number_codes(codes: IntArray, n_codes: int) -> Numbering:
    """Number the distinct integers below ``n_codes`` in order of first appearance.

    Raises
    ------
    ValueError
        If one is negative, or is not below.
    """
    codes = np.ascontiguousarray(codes, np.int64)
    numbers, firsts = np.empty(len(codes), np.int64), np.empty(min(len(codes), n_codes), np.int64)
    known = np.full(n_codes, NONE)
    n_distinct = kernels.run(kernels.ranks.number_codes, codes, known, numbers, firsts)
    if n_distinct < 0:
        raise ValueError(f"{n_codes} codes are from 0 to {n_codes - 1}")
    return Numbering(numbers, firsts[:n_distinct].copy())


def number_pairs(first: IntArray, second: IntArray) -> Numbering:
    """Number the distinct pairs of integers in order of first appearance."""
    first = np.ascontiguousarray(first, np.int64)
    second = np.ascontiguousarray(second, np.int64)
    n_first, n_second = (int(some.max(initial=0)) + 1 for some in (first, second))
    is_few = n_first * n_second <= FEW_A_PAIR * len(first)
    # Then a table of all that may be is smaller; of what is negative there is none.
    if is_few and min(first.min(initial=0), second.min(initial=0)) == 0:
        return number_codes(
            first * n_second + second if n_first > 1 else second, n_first * n_second
        )
    equals, n_distinct = _first_equals(first, second)
    numbers, firsts = np.empty(len(first), np.int64), np.empty(n_distinct, np.int64)
    kernels.run(kernels.pairs.number_firsts, equals, numbers, firsts)
    return Numbering(numbers, firsts)


class Distinct(NamedTuple):
    """Distinct pairs (m,) of ``first`` and ``second``; ``numbers`` (n,) names the pair of each item."""

    numbers: I32Array
    first: I64Array
    second: I64Array


def distinct_pairs(first: I64Array, second: I64Array) -> Distinct:
    """Number and list the distinct pairs, as `number_pairs` numbers them; for very many."""
    numbers, n_distinct = _first_equals(first, second)
    found = np.empty(n_distinct, np.int64), np.empty(n_distinct, np.int64)
    kernels.run(kernels.pairs.number_distinct, numbers, first, second, *found)
    return Distinct(numbers, *found)


def _first_equals(first: I64Array, second: I64Array) -> tuple[I32Array, int]:
    """Return for each pair (n,) the first that is equal to it, and how many distinct ones there are."""
    n = len(first)
    assert n < 2**31, "more items than the hash table can hold"
    equals = np.empty(n, np.int32)
    n_parts = min(parallel.n_workers(), MOST_PARTS) if n >= parallel.WORTH_A_PART else 1

    # A part has about its share of the pairs, by chance a few more.
    share = n if n_parts == 1 else n // n_parts + n // 16
    found = parallel.each_of(
        lambda part: _enter(first, second, _slots(share), equals, part, n_parts), range(n_parts)
    )
    if min(found) < 0:  # very many are of one part
        return equals, _enter(first, second, _slots(n), equals, 0, 1)
    return equals, sum(found)


def _n_slots(n: int) -> int:
    """Return how many slots a hash table for n items has: half as many again at least."""
    return 1 << max(4, (3 * n // 2).bit_length())


def _slots(n: int) -> I32Array:
    """Return an empty hash table for n items."""
    return np.full(_n_slots(n), NONE, np.int32)


def _enter(
    first: I64Array, second: I64Array, slots: I32Array, equals: I32Array, part: int, n_parts: int
) -> int:
    """Enter pairs of a part in a table; return how many are distinct: see `first_equals`."""
    waiting = np.empty((2, AHEAD), np.int64)
    kernel = kernels.pairs.first_equals
    return int(kernels.run(kernel, first, second, part, n_parts, slots, waiting, equals))


def places_among(
    first: I64Array, second: I64Array, asked_first: I64Array, asked_second: I64Array
) -> I32Array:
    """Return where pairs asked for (n,) are among others (m,), NONE for nowhere; each is there once."""
    found = np.full(len(asked_first), NONE, np.int32)
    slots = _slots(len(asked_first))
    _enter(asked_first, asked_second, slots, found.copy(), 0, 1)

    def look(start: int, stop: int) -> None:
        part = first[start:stop], second[start:stop]
        kernel = kernels.pairs.find_pairs
        kernels.run(kernel, *part, start, asked_first, asked_second, slots, found)

    parallel.each(look, parallel.split(len(first)))
    return found


def number_texts(pieces: Sequence[tuple[U8Array, I64Array]]) -> Numbering:
    """Number the distinct texts of some pieces in order of first appearance.

    Text i of a piece (data, offsets) is ``data[offsets[i]:offsets[i + 1]]``.
    """
    # Mostly there are few: then a small table does, and parts are numbered side by side.
    parts = [
        (data, offsets[a : b + 1])
        for data, offsets in pieces
        for a, b in parallel.split(len(offsets) - 1)
    ]
    found = parallel.each_of(lambda part: _number_texts(*part, FEW_SLOTS), parts)
    known = [one for one in found if one is not None]
    if len(known) == len(found) == 1:
        return known[0]
    ends = offsets_from([len(offsets) - 1 for _, offsets in parts])
    if len(known) < len(found):
        whole = _number_texts(*_in_a_row(parts), _n_slots(int(ends[-1])))
        assert whole is not None, "the table is larger than all there are"
        return whole
    return _numbered_together(parts, known, ends)


def _number_texts(data: U8Array, offsets: I64Array, n_slots: int) -> Numbering | None:
    """Number texts by a table of so many slots; None if there are too many distinct ones for it."""
    n = len(offsets) - 1
    assert n < 2**31, "more items than the hash table can hold"
    numbers, firsts = np.empty(n, np.int64), np.empty(min(n, n_slots), np.int64)
    slots, waiting = np.full(n_slots, NONE, np.int32), np.empty(AHEAD, np.int64)
    kernel = kernels.pairs.number_texts
    n_distinct = kernels.run(kernel, data, offsets, slots, waiting, numbers, firsts)
    return None if n_distinct < 0 else Numbering(numbers, firsts[:n_distinct].copy())


def _in_a_row(parts: Sequence[tuple[U8Array, I64Array]]) -> tuple[U8Array, I64Array]:
    """Return the texts of several pieces as one."""
    held = [data[offsets[0] : offsets[-1]] for data, offsets in parts]
    starts = offsets_from([len(data) for data in held])
    ends = [
        offsets[1:] + (at - offsets[0]) for (_, offsets), at in zip(parts, starts, strict=False)
    ]
    return np.concatenate(held), np.concatenate([np.zeros(1, np.int64), *ends])


def _numbered_together(
    parts: Sequence[tuple[U8Array, I64Array]], known: Sequence[Numbering], ends: I64Array
) -> Numbering:
    """Put the numbers of parts of some texts together, looking at the few distinct ones alone."""
    few = []
    for (data, offsets), own in zip(parts, known, strict=True):
        counts = offsets[own.firsts + 1] - offsets[own.firsts]
        few.append((take_spans(data, offsets[own.firsts], counts), offsets_from(counts)))
    both = _number_texts(*_in_a_row(few), _n_slots(sum(len(own.firsts) for own in known)))
    assert both is not None, "the table is larger than all there are"
    firsts = np.concatenate([own.firsts + at for own, at in zip(known, ends, strict=False)])
    at = offsets_from([len(own.firsts) for own in known])
    numbers = np.empty(int(ends[-1]), np.int64)

    def renumber(k: int) -> None:
        new = both.numbers[at[k] : at[k + 1]]
        np.take(new, known[k].numbers, out=numbers[ends[k] : ends[k + 1]], mode="clip")

    parallel.each_of(renumber, range(len(parts)))
    return Numbering(numbers, firsts[both.firsts])


def looked_up(values: AnyArray, at: IntArray) -> AnyArray:
    """Return ``values[at]``, of many places, looked up side by side."""
    found = np.empty(len(at), values.dtype)

    def look(first: int, stop: int) -> None:
        np.take(values, at[first:stop], out=found[first:stop], mode="clip")

    parallel.each(look, parallel.split(len(at)))
    return found


def distinct(values: AnyArray) -> AnyArray:
    """Return the distinct values, rising; no NaN may be among them.

    By sorting: the hash table of `numpy.unique` takes up to fifty times as long for millions.
    """
    ordered = np.sort(values, axis=None)
    keeps = np.ones(len(ordered), bool)
    keeps[1:] = ordered[1:] != ordered[:-1]
    return ordered[keeps]


def present(values: I64Array, n: int) -> I64Array:
    """Return which of the integers below n are among some values, rising."""
    is_there = np.zeros(n, bool)
    is_there[values] = True
    return np.flatnonzero(is_there)


def reduce_groups(
    ufunc: np.ufunc, values: npt.NDArray[np.generic], offsets: I64Array, empty: float
) -> npt.NDArray[np.generic]:
    """Reduce each group of values along axis 0; a group without items gives ``empty``.

    ``ufunc.reduceat`` gives an empty group its neighbour's value, so those are left out of it.
    """
    result = np.full((len(offsets) - 1, *values.shape[1:]), empty, values.dtype)
    has_items = offsets[:-1] < offsets[1:]
    if has_items.any():
        result[has_items] = ufunc.reduceat(values, offsets[:-1][has_items], axis=0)
    return result


def count_by(keys: IntArray, n_keys: int) -> I64Array:
    """Return the (n_keys,) number of times each key occurs."""
    if n_keys == 1:
        return np.array([len(keys)])
    if n_keys > FEW_KEYS or len(keys) < parallel.WORTH_A_PART or keys.dtype != np.int64:
        return np.bincount(keys, minlength=n_keys).astype(np.int64, copy=False)
    held = np.ascontiguousarray(keys)

    def count(first: int, stop: int) -> I64Array:
        counts = np.zeros((n_keys, LANES), np.int64)
        kernels.run(kernels.ranks.count_keys, held, first, stop, LANES, counts)
        return counts.sum(axis=1)

    return np.sum(parallel.each(count, parallel.split(len(keys))), axis=0)


def sum_by(keys: IntArray, values: npt.NDArray[np.generic], n_keys: int) -> F64Array:
    """Return the (n_keys,) sum of the values of each key, 0 where there are none."""
    return np.bincount(keys, values, minlength=n_keys).astype(np.float64, copy=False)


def put_rows(data: U8Array, at: I64Array, values: np.ndarray) -> None:
    """Write the bytes of each row of values, (n,) or (n, k) of any type, at its place (n,) in data."""
    if len(at) == 0:
        return
    rows = np.ascontiguousarray(values)
    size = rows.nbytes // len(rows)
    windows = np.ndarray((len(data) - size + 1,), f"V{size}", data, strides=(1,))
    windows[at] = rows.view(f"V{size}").reshape(-1)
