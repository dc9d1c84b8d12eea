"""The moment in which files go to their places: no request to stop comes between."""

from __future__ import annotations

import contextlib
import signal
import threading
from collections.abc import Iterator

# Signals by which a run is asked to stop: Ctrl-C, `kill`, a terminal that closes.
REQUESTS = [
    getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)
]
putting = threading.Lock()  # held in that moment


@contextlib.contextmanager
def undisturbed() -> Iterator[None]:
    """Let requests to stop wait for the few renames: their handlers run afterwards."""
    came: list[int] = []
    before = {}
    if threading.current_thread() is threading.main_thread():  # no other one is asked
        for request in REQUESTS:
            if callable(signal.getsignal(request)):
                before[request] = signal.signal(request, lambda number, _: came.append(number))
    try:
        with putting:
            yield
    finally:
        for request, handler in before.items():
            signal.signal(request, handler)
        for request in came:
            signal.raise_signal(request)
