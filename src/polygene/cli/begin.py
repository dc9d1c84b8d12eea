"""Where the program begins: it can be asked to stop before it has what it hears that with."""

from __future__ import annotations

import os
import signal
from typing import Any, NoReturn

from polygene.cli import INTERRUPTED


def program() -> NoReturn:
    """Load the program and run it; Ctrl-C meanwhile ends it in words."""
    is_ours = signal.getsignal(signal.SIGINT) == signal.default_int_handler  # not as nohup wants
    if is_ours:
        signal.signal(signal.SIGINT, _end)
    from polygene.cli.main import program as run

    if is_ours:  # before and after it hears for itself; by then all may be written and said
        signal.signal(signal.SIGINT, lambda *_: os._exit(INTERRUPTED))
    run()


def _end(*_: Any) -> NoReturn:
    os.write(2, b"error: interrupted; nothing was written\n")
    os._exit(INTERRUPTED)
