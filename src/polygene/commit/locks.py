"""Runs that write into one folder wait for each other; of those that do one work, only one goes on."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterator
from contextvars import ContextVar
from pathlib import Path

from polygene.errors import FileError

try:
    import fcntl
except ImportError:  # not on Windows
    fcntl = None  # type: ignore[assignment]

PATIENCE = 60  # seconds to wait for another run to finish writing

_ours: ContextVar[frozenset[Path]] = ContextVar("polygene_folders_locked", default=frozenset())


@contextlib.contextmanager
def alone_in(*folders: Path) -> Iterator[None]:
    """Keep other runs from writing into folders; wait for those that do.

    A lock is the system's own on the folder itself: nothing is left behind, whatever happens. They
    are taken in one order by all, so that no two runs wait for each other for ever.

    Raises
    ------
    FileError
        If another run has not finished writing after a minute.
    """
    wanted = frozenset(Path(os.path.realpath(folder)) for folder in folders) - _ours.get()
    token = _ours.set(_ours.get() | wanted)
    try:
        with contextlib.ExitStack() as stack:
            for folder in sorted(wanted):
                stack.enter_context(_locked(folder))
            yield
    finally:
        _ours.reset(token)


@contextlib.contextmanager
def _locked(folder: Path) -> Iterator[None]:
    handle = None
    if fcntl is not None:
        with contextlib.suppress(OSError):  # a folder that cannot be opened says so when written
            handle = os.open(folder, os.O_RDONLY)
    try:
        if handle is not None:
            _wait(folder, handle)
        yield
    finally:
        if handle is not None:
            os.close(handle)


@contextlib.contextmanager
def only_run(file: Path, words: str) -> Iterator[None]:
    """Keep other runs from a work that is kept on the disk, as long as this one is at it.

    Parameters
    ----------
    file : a file that exists as long as the work is done; the lock on it is the system's own, so that
        one that a killed run has left does not matter
    words : what is worked on, to say so to the others

    Raises
    ------
    FileError
        If another run is at it.
    """
    handle = None if fcntl is None else _taken(file, words)
    try:
        yield
    finally:
        if handle is not None:
            # Before it is free: who gets it then sees that it is gone.
            with contextlib.suppress(OSError):
                file.unlink()
            os.close(handle)


def _taken(file: Path, words: str) -> int | None:
    """Return a locked file; None where there are no locks, or no file can be: writing says why."""
    while True:
        try:
            handle = os.open(file, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o666)
        except OSError:
            return None
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if os.path.samestat(os.fstat(handle), os.stat(file)):
                return handle
        except BlockingIOError as err:
            os.close(handle)
            raise FileError(
                f"{words} is worked on by another run; wait until that has ended"
            ) from err
        except FileNotFoundError:  # that run has ended, and taken its file along
            pass
        except OSError:  # a file system without locks
            os.close(handle)
            with contextlib.suppress(OSError):
                file.unlink()
            return None
        os.close(handle)


def _wait(folder: Path, handle: int) -> None:
    began = time.monotonic()
    while True:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except BlockingIOError as err:
            if time.monotonic() - began > PATIENCE:
                raise FileError(
                    f"another run has been writing in {folder} for {PATIENCE} s; try again later"
                ) from err
            time.sleep(0.05)
        except OSError:  # a file system without locks
            return
