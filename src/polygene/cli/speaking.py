"""Text on its way out: whatever is in it, and whoever still listens."""

from __future__ import annotations

import contextlib
import os
import sys
from typing import TextIO

import click


def say(text: str, stream: TextIO | None = None, colour: bool | None = None) -> None:
    """Print a line; if whoever read us has gone, the work goes on without."""
    stream = stream or sys.stdout
    try:
        click.echo(text, file=stream, color=colour)
    except BrokenPipeError:
        let_go(stream)


def let_go(stream: TextIO) -> None:
    """Write no more into a stream; Python would complain again when it ends."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


def prepare() -> None:
    """Make streams that were closed, or know few letters, such that all can be said."""
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115
        with contextlib.suppress(AttributeError):  # of a test
            getattr(sys, name).reconfigure(errors="backslashreplace")
