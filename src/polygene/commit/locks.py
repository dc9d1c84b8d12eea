"""Runs that write into one folder wait for each other."""

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
