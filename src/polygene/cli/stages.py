"""``--verbose``: what a command did, stage by stage: its seconds, its processors', its memory."""

from __future__ import annotations

import contextlib
import os
import sys
import time
from collections.abc import Iterator
from contextvars import ContextVar
from pathlib import Path

from polygene.classes import NamedTuple
from polygene.progress import Progress

FIRST = "starting"  # all before the first stage that is told of


class Stage(NamedTuple):
    """A stage that is over.

    seconds : by the clock; busy : of all processors together, this process's alone
    most : bytes of memory that the process had at most until then; 0 where that is not told
    """

    name: str
    seconds: float
    busy: float
    most: int


class Stages:
    """Listens to stages, and hands them on to what shows them."""

    def __init__(self) -> None:
        self.done: list[Stage] = []
        self.shows: Progress | None = None
        self._name = FIRST
        self._began, self._busy = time.monotonic() - _age(), 0.0

    def stage(self, name: str) -> None:
        """Begin a stage, which ends the one before."""
        if self.shows is not None:
            self.shows.stage(name)
        self.end(name)

    def end(self, following: str = "") -> None:
        now, busy = time.monotonic(), time.process_time()
        self.done.append(Stage(self._name, now - self._began, busy - self._busy, _most()))
        self._name, self._began, self._busy = following, now, busy


_own: ContextVar[Stages | None] = ContextVar("polygene_stages", default=None)


def current() -> Stages | None:
    """Return what listens to stages, if that was asked for."""
    return _own.get()


@contextlib.contextmanager
def listening() -> Iterator[Stages]:
    """Listen to stages while this lasts."""
    own = Stages()
    token = _own.set(own)
    try:
        yield own
    finally:
        _own.reset(token)
        own.end()


def _age() -> float:
    """Return for how many seconds this process has been there; 0 where the system does not tell."""
    try:
        fields = Path("/proc/self/stat").read_text(encoding="ascii").rpartition(")")[2].split()
        began = int(fields[19]) / os.sysconf("SC_CLK_TCK")  # proc(5): starttime, field 22
        return max(0.0, time.clock_gettime(time.CLOCK_BOOTTIME) - began)
    except (OSError, ValueError, IndexError, AttributeError):
        return 0.0


def _most() -> int:
    try:
        import resource
    except ImportError:  # not a system of this kind
        return 0
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return most if sys.platform == "darwin" else most * 1024
