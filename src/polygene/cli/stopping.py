"""The end of the process, asked for or not.

Requests to stop, as Ctrl-C, are heard within a second, whatever the program is busy with. Python hears
a signal between two of its own steps, and a compiled loop, a sort of millions or a query of another's
file may be one step of minutes. So a thread listens too; if the program has not ended by itself soon
after, it removes what was begun and ends it.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterator
from typing import Any

from polygene.cli import INTERRUPTED
from polygene.commit import leftovers
from polygene.commit.calm import REQUESTS, putting

SOON = 0.7  # seconds for the program to end by itself
_LONGEST = 10  # seconds for the files that are being put in their places


@contextlib.contextmanager
def heard(tell: Callable[[], None]) -> Iterator[None]:
    """Turn requests to stop into `KeyboardInterrupt`; after a while ``tell`` and end the process.

    One is enough: another one would only disturb what is said and tidied up then.
    """
    reading, writing = os.pipe()
    os.set_blocking(writing, False)
    ended = threading.Event()
    came: list[int] = []

    def interrupt(number: int, _: Any) -> None:
        if not came:
            came.append(number)
            raise KeyboardInterrupt

    def listen() -> None:
        while heard := os.read(reading, 1):
            if heard == b"\0":
                return
            if heard[0] in REQUESTS and not ended.wait(SOON):
                _end(tell)

    handlers = {}
    for request in REQUESTS:
        if signal.getsignal(request) != signal.SIG_IGN:  # as nohup wants
            handlers[request] = signal.signal(request, interrupt)
    before = signal.set_wakeup_fd(writing, warn_on_full_buffer=False)
    listener = threading.Thread(target=listen, name="polygene-stopping", daemon=True)
    listener.start()
    try:
        yield
    finally:
        ended.set()
        signal.set_wakeup_fd(before)
        for request, handler in handlers.items():
            signal.signal(request, handler)
        os.write(writing, b"\0")
        listener.join(SOON)
        for end in (reading, writing):
            os.close(end)


@contextlib.contextmanager
def ending_at_once() -> Iterator[None]:
    """Let the process end with the exit code that this is left with, as soon as all is tidied up.

    Python takes apart all that was imported, piece by piece, before it ends: a fifth of the time of a
    small command (0.59 s, and 0.47 s without). What is registered first to be done at the end is done
    last: threads have been waited for by then, and what others registered has been done.
    """
    code: list[int] = []
    is_watched = sys.gettrace() or sys.getprofile()  # by what writes down later what it saw
    if not is_watched:
        atexit.register(_leave, code)
    try:
        yield
    except SystemExit as end:
        if isinstance(end.code, int):
            code.append(end.code)
        if end.code == INTERRUPTED and not is_watched:
            # Threads are not waited for for ever: one of a pool that was just begun when the request
            # came is not yet among those that Python tells of the end, and waits for work.
            limit = threading.Timer(SOON, _leave, [code])
            limit.daemon = True
            limit.start()
        raise


def _leave(code: list[int]) -> None:
    """End the process, unless its code is not known or something could not be said."""
    if not code:
        return
    with contextlib.suppress(OSError, ValueError):
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code[0])


def _end(tell: Callable[[], None]) -> None:
    putting.acquire(timeout=_LONGEST)
    leftovers.remove_ours()
    tell()
    os._exit(INTERRUPTED)
