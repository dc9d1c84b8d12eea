"""Where tasks are done: in this process, in several, or by the workers of a cluster.

No scheduling of our own: a pool of processes is Python's, a cluster is Dask's.
"""

from __future__ import annotations

import contextlib
import logging
import os
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from multiprocessing import get_context
from typing import Any, Protocol, TypeVar

from polygene import __version__
from polygene.errors import PolygeneError, UsageError
from polygene.memory import give_back

T = TypeVar("T")
R = TypeVar("R")
PATIENCE = 10  # seconds that a scheduler may take to answer
TRIES = 3  # of a task whose worker was lost, on a cluster


class WorkerError(PolygeneError):
    """A worker was lost, or cannot do the work."""


class Executor(Protocol):
    """Does tasks, in any order, and gives back what each came to."""

    def each(self, work: Callable[[T], R], items: Sequence[T]) -> Iterator[tuple[int, R]]:
        """Yield the number of each item and what ``work`` makes of it, as they are done."""
        ...


class Here:
    """This process, one task after the other."""

    def each(self, work: Callable[[T], R], items: Sequence[T]) -> Iterator[tuple[int, R]]:
        for k, item in enumerate(items):
            yield k, work(item)


class Processes:
    """Processes of this machine that share its processors."""

    def __init__(self, n: int) -> None:
        self.n = n

    def each(self, work: Callable[[T], R], items: Sequence[T]) -> Iterator[tuple[int, R]]:
        give_back()  # what this process keeps is not the others'
        n = min(self.n, len(items))
        threads = max(1, (os.cpu_count() or 1) // max(1, n))
        pool = ProcessPoolExecutor(
            max(1, n),
            mp_context=get_context("spawn"),
            initializer=_begin,
            initargs=(threads, os.getpid()),
        )
        try:
            numbers = {pool.submit(work, item): k for k, item in enumerate(items)}
            for future in as_completed(numbers):
                yield numbers.pop(future), future.result()
        except BrokenProcessPool as err:
            raise WorkerError(
                "a process that worked on a task was killed, perhaps since the memory was not enough; "
                "the same command with `resume` goes on from what is done, with less `memory` in "
                "smaller tasks"
            ) from err
        finally:
            pool.shutdown(wait=True, cancel_futures=True)


def _begin(threads: int, parent: int) -> None:
    import signal

    from polygene.memory import keep_freed_memory

    # Ctrl-C is the business of who gave the tasks.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.environ["POLYGENE_THREADS"] = str(threads)
    keep_freed_memory()
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()


def _end_with(parent: int) -> None:
    """End this process when the one that gives the tasks is gone, however it ended."""
    while os.getppid() == parent:
        time.sleep(1)
    os._exit(1)


class Cluster:
    """The workers of a Dask scheduler that runs already."""

    def __init__(self, address: str) -> None:
        self.address = address

    @contextlib.contextmanager
    def _client(self) -> Iterator[Any]:
        try:
            from distributed import Client
        except ImportError as err:
            raise UsageError(
                "`cluster` needs Dask: install polygene[cluster], here and where the workers run"
            ) from err
        with _without_a_log_of_dask():
            try:
                client: Any = Client(self.address, timeout=PATIENCE, set_as_default=False)
            except (OSError, TimeoutError, ValueError) as err:
                raise WorkerError(
                    f"no scheduler answers at {self.address}; start one with `dask scheduler`, and "
                    "workers with `dask worker ADDRESS`"
                ) from err
            try:
                yield client
            finally:
                with contextlib.suppress(Exception):
                    client.close(timeout=2)

    def each(self, work: Callable[[T], R], items: Sequence[T]) -> Iterator[tuple[int, R]]:
        from concurrent.futures import CancelledError

        with self._client() as client:
            _check_workers(client, self.address)
            from distributed import KilledWorker
            from distributed import as_completed as completed

            numbers = {
                client.submit(work, item, pure=False, retries=TRIES): k
                for k, item in enumerate(items)
            }
            try:
                for future in completed(list(numbers), loop=client.loop):
                    yield numbers.pop(future), _result_of(future)
            except KilledWorker as err:
                raise WorkerError(
                    f"workers of {self.address} were lost over one task again and again, perhaps since "
                    "their memory is not enough for it; say less with `memory`, or give them more"
                ) from err
            except (_LostError, CancelledError, TimeoutError) as err:
                raise WorkerError(
                    f"the scheduler at {self.address} was lost; when it is back, the same command with "
                    "`resume` goes on from what is done"
                ) from err
            finally:
                with contextlib.suppress(Exception):
                    client.cancel(list(numbers))


class _LostError(Exception):
    """Nothing can be fetched any more."""


def _result_of(future: Any) -> Any:
    """Return what a task gave, or raise what it raised; `_LostError` if that cannot be fetched."""
    try:
        return future.result()
    except OSError as err:
        if future.status == "error":  # of the task itself, as when a worker's disk is full
            raise
        raise _LostError from err


@contextlib.contextmanager
def _without_a_log_of_dask() -> Iterator[None]:
    """Keep Dask from logging, with tracebacks, what is told in our own words."""
    known = [
        logging.getLogger(name)
        for name in list(logging.root.manager.loggerDict)
        if name.partition(".")[0] == "distributed"
    ]
    loud = [logger for logger in known if not logger.disabled]
    for logger in loud:
        logger.disabled = True
    try:
        yield
    finally:
        for logger in loud:
            logger.disabled = False


def own_version() -> str:
    """Return the version of polygene where this is called."""
    return __version__


def _check_workers(client: Any, address: str) -> None:
    try:
        found = client.run(own_version, on_error="return")
    except Exception as err:
        raise WorkerError(f"the scheduler at {address} does not answer: {err}") from err
    # One that went away while it was asked is none any more.
    found = {worker: said for worker, said in found.items() if not isinstance(said, OSError)}
    if not found:
        raise WorkerError(
            f"the scheduler at {address} has no worker; start some with `dask worker`"
        )
    for worker, version in found.items():
        if isinstance(version, BaseException):
            raise WorkerError(
                f"the worker {worker} has no polygene {__version__} to work with ({version}); install "
                "it there"
            )
        if version != __version__:
            raise WorkerError(
                f"the worker {worker} has polygene {version} and this is {__version__}; the same must "
                "run everywhere"
            )
