"""How results are laid out for people: tables, labelled lines, notes, progress."""

from __future__ import annotations

import contextvars
import dataclasses
import datetime
import enum
import math
import os
import shutil
import sys
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TextIO

import click

from polygene.progress import SILENT, Progress

GAP = "  "
PATIENCE = 1.0  # seconds before anything is said about progress


def width_of(stream: TextIO) -> int:
    """Return the columns there are: those of the terminal, or 80 elsewhere."""
    return shutil.get_terminal_size((80, 24)).columns if stream.isatty() else 80


def styled(text: str, stream: TextIO, **style: Any) -> str:
    """Return a text with colour or weight if the stream is a terminal that wants it."""
    if not stream.isatty() or os.environ.get("NO_COLOR"):
        return text
    return click.style(text, **style)


def number(value: Any) -> str:
    """Return a value as tables show it; null as a dot."""
    if value is None:
        return "·"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int):
        return str(value)
    if isinstance(value, float):
        return "nan" if math.isnan(value) else f"{value:.10g}"
    if isinstance(value, datetime.datetime):
        return value.strftime("%Y-%m-%d %H:%M:%S").removesuffix(" 00:00:00")
    if isinstance(value, bytes):
        return f"{len(value)} bytes"
    return " ".join(str(value).split())


def counted(n: int, noun: str) -> str:
    """Return a number and what it counts: "1 feature", "2 features"."""
    return f"{n:,} {noun}{'' if n == 1 else 's'}"


def table(
    head: Sequence[str],
    rows: Sequence[Sequence[str]],
    *,
    right: Sequence[int] = (),
    stream: TextIO | None = None,
    flexible: Sequence[int] = (),
    indent: str = GAP,
    has_total: bool = False,
) -> None:
    """Print columns under their heads.

    ``right`` are columns of numbers, ``flexible`` those that may be cut to fit the
    width, the first of them first. With ``has_total`` the last row stands out.
    """
    stream = stream or sys.stdout
    widths = [max(map(len, cells)) for cells in zip(head, *rows, strict=True)]
    room = width_of(stream) - len(indent) - len(GAP) * (len(widths) - 1)
    for column in flexible:
        excess = sum(widths) - room
        if excess > 0:
            widths[column] = max(widths[column] - excess, 8)
    for k, row in enumerate([head, *rows]):
        cells = [
            _fitted(cell, width, column in right)
            for column, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        line = (indent + GAP.join(cells)).rstrip()
        if has_total and k == len(rows):
            line = styled(line, stream, bold=True)
        click.echo(_underlined(cells, indent, stream) if k == 0 else line, file=stream)


def _underlined(cells: Sequence[str], indent: str, stream: TextIO) -> str:
    """Return the head of a table: its words underlined, the gaps between them not."""
    pieces = [
        cell.replace(cell.strip(), styled(cell.strip(), stream, underline=True))
        if cell.strip()
        else cell
        for cell in cells
    ]
    return (indent + GAP.join(pieces)).rstrip()


def _fitted(cell: str, width: int, is_right: bool) -> str:
    if len(cell) > width:
        cell = cell[: width - 1] + "…"
    return cell.rjust(width) if is_right else cell.ljust(width)


def title(text: str, rest: str = "", stream: TextIO | None = None) -> None:
    """Print a heading: the thing in bold, what is said of it behind."""
    stream = stream or sys.stdout
    click.echo(styled(text, stream, bold=True) + (f"{GAP}{rest}" if rest else ""), file=stream)


def line(label: str, text: str, stream: TextIO | None = None, wide: int = 10) -> None:
    """Print a labelled line, wrapped under itself."""
    stream = stream or sys.stdout
    room = max(30, width_of(stream) - len(GAP) - wide - 1)
    head = label.ljust(wide)
    for k, piece in enumerate(_wrapped(text, room)):
        click.echo(f"{GAP}{head if k == 0 else ' ' * wide} {piece}", file=stream)


def note(text: str, stream: TextIO | None = None) -> None:
    """Print something to know, set apart by colour."""
    stream = stream or sys.stderr
    room = max(30, width_of(stream) - len(GAP) - 6)
    for k, piece in enumerate(_wrapped(text, room)):
        head = styled("note", stream, fg="magenta") if k == 0 else "    "
        click.echo(f"{GAP}{head}  {piece}", file=stream)


def _wrapped(text: str, room: int) -> list[str]:
    import textwrap

    return textwrap.wrap(text, room, break_long_words=False, break_on_hyphens=False) or [""]


class _Terminal:
    """Shows the stage at work and its seconds on one line, once the work takes more than one."""

    def __init__(self) -> None:
        self._stage, self._began = "", time.monotonic()
        self._stopped, self._shown = threading.Event(), False
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def stage(self, name: str) -> None:
        self._stage = name

    def _run(self) -> None:
        while not self._stopped.wait(0.2):
            elapsed = time.monotonic() - self._began
            if elapsed > PATIENCE:
                room = width_of(sys.stderr) - 10
                text = f"{elapsed:4.0f} s  {self._stage}"[:room]
                sys.stderr.write(f"\r{text}\x1b[K")
                sys.stderr.flush()
                self._shown = True

    def close(self) -> None:
        self._stopped.set()
        self._thread.join()
        if self._shown:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()


@contextmanager
def progress(quiet: bool) -> Iterator[Progress]:
    """Give something to report stages to: a line on a terminal, nothing elsewhere."""
    if quiet or not sys.stderr.isatty():
        yield SILENT
        return
    terminal = _Terminal()
    try:
        yield terminal
    finally:
        terminal.close()


_kept: contextvars.ContextVar[list[Any] | None] = contextvars.ContextVar("kept", default=None)


@contextmanager
def keeping_facts() -> Iterator[list[Any]]:
    """Keep the facts that commands tell while this lasts, as ``--json`` would print them."""
    kept: list[Any] = []
    token = _kept.set(kept)
    try:
        yield kept
    finally:
        _kept.reset(token)


def facts(
    command: str,
    results: Callable[[], Sequence[Any]],
    as_json: bool,
    *,
    notes: Iterable[str] = (),
    failed: Sequence[dict[str, str]] = (),
    seconds: float | None = None,
) -> None:
    """Tell the facts of a command: print them if they are asked for, keep them if somebody listens.

    All commands tell them in one shape, that of ``docs/output.schema.json``.
    """
    kept = _kept.get()
    if not as_json and kept is None:
        return
    found = document(command, plain(list(results())), list(dict.fromkeys(notes)), list(failed))
    if seconds is not None:
        found["seconds"] = round(seconds, 3)
    if kept is not None:
        kept.append(found)
    if as_json:
        json(found)


SHAPE = 1  # of what --json prints; a larger number where a program that reads it must change


def document(
    command: str, results: list[Any], notes: list[str], failed: list[dict[str, str]]
) -> dict[str, Any]:
    """Return what ``--json`` prints, whatever the command and however it ended."""
    return {
        "polygene": SHAPE,
        "command": command,
        "results": results,
        "failed": failed,
        "notes": notes,
    }


def plain(value: Any) -> Any:
    """Return facts as JSON has them: objects, lists, numbers, texts; families in words."""
    words = getattr(value, "words", None)
    if isinstance(value, enum.Enum) and isinstance(words, str):
        return words
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {f.name: plain(getattr(value, f.name)) for f in dataclasses.fields(value)}
    if isinstance(value, dict):
        return {str(key): plain(item) for key, item in value.items()}
    if isinstance(value, tuple) and hasattr(value, "_asdict"):
        return plain(value._asdict())
    if isinstance(value, (list, tuple)):
        return [plain(item) for item in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if value is None or isinstance(value, (bool, int, float, str)):
        return value
    return value.item() if hasattr(value, "item") else str(value)


_told = False


def has_told() -> bool:
    """Return whether this process has printed a document: a script reads one, not two."""
    return _told


def json(value: Any) -> None:
    """Print a document for scripts."""
    import orjson

    global _told
    _told = True
    click.echo(orjson.dumps(value, option=orjson.OPT_INDENT_2).decode())
