"""Work on parts of a whole side by side, where the kernels are compiled and let go of the GIL."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Callable, Generator, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from polygene import kernels

Item = TypeVar("Item")
Result = TypeVar("Result")

PARTS_PER_WORKER = 4  # so that one that has more to do does not keep the others waiting
WORTH_A_PART = 20_000  # items
MANY_A_GROUP = (
    16  # items, on average, so that it costs little if each thread has all groups for itself
)


_here = threading.local()


def n_workers() -> int:
    """Return how many threads there are: the processors, or ``POLYGENE_THREADS``, at least one.

    Within work that runs side by side already there is one.
    """
    if not kernels.IS_COMPILED or getattr(_here, "is_busy", False):
        return 1
    asked = os.environ.get("POLYGENE_THREADS", "")
    if asked.isdigit():
        return max(1, int(asked))
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


@cache
def _pool(n: int, process: int) -> ThreadPoolExecutor:
    # A process forked from this one has the pool's object but not its threads, so a pool of its own.
    del process
    return ThreadPoolExecutor(n, "polygene", initializer=_mark_busy)


def _mark_busy() -> None:
    _here.is_busy = True


def each(work: Callable[[int, int], Result], parts: Sequence[tuple[int, int]]) -> list[Result]:
    """Return what ``work(first, stop)`` gives for each range, in the order of the ranges.

    The result must not depend on how the whole was parted.
    """
    return each_of(lambda part: work(*part), parts)


def each_of(work: Callable[[Item], Result], items: Sequence[Item]) -> list[Result]:
    """Return what ``work`` gives for each item, in their order."""
    if len(items) <= 1 or (n := n_workers()) <= 1:
        return [work(item) for item in items]
    futures = [_pool(n, os.getpid()).submit(work, item) for item in items]
    try:
        return [future.result() for future in futures]
    finally:
        # After an error or Ctrl-C what has not begun is not wanted any more.
        for future in futures:
            future.cancel()


def meanwhile(work: Callable[[], Result]) -> Callable[[], Result]:
    """Begin work that is wanted later; call what is returned for its result."""
    if n_workers() <= 1:
        return work
    return _pool(n_workers(), os.getpid()).submit(work).result


class _Guarded(Iterator[Item]):
    """An iterator that gives nothing more after its end, whoever has been told to ask it."""

    def __init__(self, items: Iterator[Item]) -> None:
        self._items, self._in_use, self._is_over = items, threading.Lock(), False

    def __next__(self) -> Item:
        with self._in_use:
            if self._is_over:
                raise StopIteration
            return next(self._items)

    def end(self) -> None:
        """Wait until it is in use no more, and let it give nothing from then on."""
        while not self._is_over:
            with contextlib.suppress(KeyboardInterrupt), self._in_use:  # one is on its way already
                self._is_over = True


def one_ahead(items: Iterator[Item]) -> Generator[Item, None, None]:
    """Yield what an iterator has; while one is used, the next one is made ready in a thread.

    It is not in use any more when this one is closed. That does not hang on what is known of the
    thread's work: a request to stop may come when it has been handed over and nobody knows yet.
    """
    if n_workers() <= 1:
        yield from items
        return
    pool, end, guarded = _pool(n_workers(), os.getpid()), object(), _Guarded(items)
    try:
        coming = pool.submit(next, guarded, end)
        while (item := coming.result()) is not end:
            coming = pool.submit(next, guarded, end)
            yield item  # type: ignore[misc]
    finally:
        guarded.end()


def split(n_items: int) -> list[tuple[int, int]]:
    """Part items into ranges, one for each thread if they are many."""
    n = n_workers() if n_items >= WORTH_A_PART else 1
    return [(n_items * k // n, n_items * (k + 1) // n) for k in range(n)]


def split_of_groups(n_items: int, n_groups: int) -> list[tuple[int, int]]:
    """Part items into ranges, each worked on with all groups for itself, if these are few."""
    return split(n_items) if n_groups * MANY_A_GROUP <= n_items else [(0, n_items)]


def parted(offsets: npt.NDArray[np.int64], most: int | None = None) -> list[tuple[int, int]]:
    """Part groups into ranges of about as many items each, a few for each thread.

    Parameters
    ----------
    offsets : (n_groups + 1,)
        Items of group g are ``offsets[g]:offsets[g + 1]``.
    most : int, optional
        Items that should be worked on at a time, so that memory is bounded.
    """
    n_groups, n_items = len(offsets) - 1, int(offsets[-1] - offsets[0])
    n_parts = n_items // WORTH_A_PART
    if n_parts > 1:  # asking for the processors takes longer than some work
        workers = n_workers()
        n_parts = 1 if workers == 1 else min(workers * PARTS_PER_WORKER, n_parts)
    if most is not None:
        n_parts = max(n_parts, -(-n_items // most))
    if n_parts <= 1:
        return [(0, n_groups)]
    at = offsets[0] + np.arange(1, n_parts) * n_items // n_parts
    cuts = np.unique([0, *np.searchsorted(offsets, at).tolist(), n_groups])
    return list(zip(cuts[:-1].tolist(), cuts[1:].tolist(), strict=True))
