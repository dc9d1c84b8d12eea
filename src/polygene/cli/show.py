"""How results are laid out for people: tables, labelled lines, notes, progress."""

from __future__ import annotations

import io
import math
import os
import shutil
import sys
import textwrap
import threading
import time
import unicodedata
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TextIO

import click

from polygene.cli import stages
from polygene.cli.speaking import say
from polygene.cli.words.blocks import Block, Fields, Gap, Line, Story, Table, Title, Typed
from polygene.notes import Warned, visible
from polygene.progress import SILENT, Progress

GAP = "  "
WIDEST = 24  # columns that a cell of a layer's rows may take
PATIENCE = 1.0  # seconds before anything is said about progress


class Sheet(io.StringIO):
    """A text that is as wide as a page."""


def width_of(stream: TextIO) -> int:
    """Return the columns that sentences have: those of the terminal or of ``COLUMNS``, else 80."""
    return shutil.get_terminal_size((80, 24)).columns if _is_bounded(stream) else 80


def _room_of(stream: TextIO) -> float:
    """Return the columns that tables have: no end of them in a pipe or a log.

    What is cut there cannot be read on, and names are what one types next.
    """
    return width_of(stream) if _is_bounded(stream) or isinstance(stream, Sheet) else math.inf


def _is_bounded(stream: TextIO) -> bool:
    return stream.isatty() or os.environ.get("COLUMNS", "").isdigit()


def columns_of(text: str) -> int:
    """Return the columns that a text takes on a terminal (Unicode Standard Annex 11)."""
    if text.isascii():
        return len(text)
    return sum(
        0 if unicodedata.combining(c) else 2 if unicodedata.east_asian_width(c) in "WF" else 1
        for c in text
    )


def styled(text: str, stream: TextIO, **style: Any) -> str:
    """Return a text with colour or weight if the stream is a terminal that wants it."""
    if not stream.isatty() or os.environ.get("NO_COLOR"):
        return text
    return click.style(text, **style)


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
    head = [visible(cell) for cell in head]
    rows = [[visible(cell) for cell in row] for row in rows]
    widths = [max(map(columns_of, cells)) for cells in zip(head, *rows, strict=True)]
    room = _room_of(stream) - len(indent) - len(GAP) * (len(widths) - 1)
    for column in flexible:
        excess = sum(widths) - room
        if excess > 0:
            widths[column] = max(widths[column] - int(excess), 8)
    for k, row in enumerate([head, *rows]):
        cells = [
            _fitted(cell, width, column in right)
            for column, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        line = (indent + GAP.join(cells)).rstrip()
        if has_total and k == len(rows):
            line = styled(line, stream, bold=True)
        say(_underlined(cells, indent, stream) if k == 0 else line, stream)


def lay_out(blocks: Sequence[Block], stream: TextIO) -> None:
    """Print what words are made of."""
    for block in blocks:
        match block:
            case Title():
                title(block.text, block.rest, stream)
            case Line():
                line(block.label, block.text, stream, block.wide)
            case Gap():
                say("", stream)
            case Table():
                table(
                    block.head,
                    block.rows,
                    right=block.right,
                    stream=stream,
                    flexible=block.flexible,
                    has_total=block.has_total,
                )
            case Fields():
                _fields(block, stream)
            case Typed():
                say(f"{GAP}{visible(block.text)}", stream)
            case Story():
                _story(block, stream)


def text_of(blocks: Sequence[Block]) -> str:
    """Return what `lay_out` prints, as wide as where there is no terminal."""
    stream = Sheet()
    lay_out(blocks, stream)
    return stream.getvalue()


def _fields(block: Fields, stream: TextIO) -> None:
    """Print as many fields side by side as the width has room for, and name the others."""
    room = _room_of(stream) - len(GAP)
    chosen: list[str] = []
    for name in block.names:
        width = min(max(map(columns_of, [name, *block.cells[name]])), WIDEST) + len(GAP)
        if room < width and chosen:
            break
        room -= width
        chosen.append(name)
    if block.last and block.last not in chosen:
        chosen[-1] = block.last
    numeric = [k for k, name in enumerate(chosen) if name in block.numeric]
    columns = [block.cells[name] for name in chosen]
    rows = [
        [_fitted(cell, WIDEST, False).rstrip() for cell in row]
        for row in zip(*columns, strict=True)
    ]
    table(chosen, rows, right=numeric, stream=stream)
    left = [name for name in block.names if name not in chosen]
    if left:
        line("not shown", ", ".join(left), stream)


def _story(block: Story, stream: TextIO) -> None:
    """Print a table of which nothing in the second column is cut off: it goes on below."""
    others = [k for k in range(len(block.head)) if k != 1]
    taken = sum(max(len(row[k]) for row in [block.head, *block.rows]) for k in others)
    room = max(24, width_of(stream) - taken - 4 * len(GAP))
    rows: list[list[str]] = []
    for name, how, *rest in block.rows:
        first, *more = textwrap.wrap(how, room, subsequent_indent="  ") or [""]
        rows += [[name, first, *rest], *(["", text, *("" for _ in rest)] for text in more)]
    table(block.head, rows, right=block.right, stream=stream, flexible=[0])


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
    if columns_of(cell) > width:
        while columns_of(cell) >= width:
            cell = cell[:-1]
        cell += "…"
    blanks = " " * (width - columns_of(cell))
    return blanks + cell if is_right else cell + blanks


def title(text: str, rest: str = "", stream: TextIO | None = None) -> None:
    """Print a heading: the thing in bold, what is said of it behind, wrapped under the thing."""
    stream = stream or sys.stdout
    text = visible(text)
    before = columns_of(text) + len(GAP)
    pieces = _wrapped(rest, width_of(stream), " " * before, 2 * GAP) if rest else [""]
    say(styled(text, stream, bold=True) + (GAP + pieces[0][before:] if rest else ""), stream)
    for piece in pieces[1:]:
        say(piece, stream)


def line(label: str, text: str, stream: TextIO | None = None, wide: int = 10) -> None:
    """Print a labelled line, wrapped under itself."""
    stream = stream or sys.stdout
    room = max(30, width_of(stream) - len(GAP) - wide - 1)
    head = visible(label).ljust(wide)
    for k, piece in enumerate(_wrapped(text, room)):
        say(f"{GAP}{head if k == 0 else ' ' * wide} {piece}", stream)


def note(text: str, stream: TextIO | None = None) -> None:
    """Print something to know, set apart by colour; a warning by its name too."""
    stream = stream or sys.stderr
    label, colour = ("warning", "red") if isinstance(text, Warned) else ("note", "magenta")
    room = max(30, width_of(stream) - len(GAP) - len(label) - 2)
    for k, piece in enumerate(_wrapped(text, room)):
        head = styled(label, stream, fg=colour) if k == 0 else " " * len(label)
        say(f"{GAP}{head}  {piece}", stream)


def _wrapped(text: str, room: int, first: str = "", later: str = "") -> list[str]:
    """Return the lines of a text, with what they begin with."""
    text = visible(text, keeps="\n\t")
    return textwrap.wrap(
        text,
        room,
        initial_indent=first,
        subsequent_indent=later,
        break_long_words=False,
        break_on_hyphens=False,
    ) or [first]


class _Terminal:
    """Shows the stage at work and its seconds on one line, once the work takes more than one."""

    def __init__(self) -> None:
        self._stage, self._began = "", time.monotonic()
        self._stopped, self._shown = threading.Event(), False
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def stage(self, name: str) -> None:
        self._stage = visible(name)

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
    """Give something to report stages to: a line on a terminal, what listens to them, or nothing."""
    listening = stages.current()
    if quiet or not sys.stderr.isatty():
        yield listening or SILENT
        return
    terminal = _Terminal()
    if listening is not None:
        listening.shows = terminal
    try:
        yield listening or terminal
    finally:
        terminal.close()


@contextmanager
def stages_at_the_end(is_wanted: bool) -> Iterator[None]:
    """Tell in the end of each stage that there was, whatever became of the work."""
    if not is_wanted:
        yield
        return
    own = None
    try:
        with stages.listening() as own:
            yield
    finally:
        if own is not None:
            _stages(own.done)


def _stages(done: Sequence[stages.Stage]) -> None:
    total = stages.Stage(
        "all", sum(s.seconds for s in done), sum(s.busy for s in done), done[-1].most
    )
    rows = [
        [own.name, f"{own.seconds:.2f}", f"{own.busy:.2f}", f"{own.most / 1e6:,.0f}"]
        for own in [*done, total]
    ]
    head = ["stage", "seconds", "processor", "MB at most"]
    sys.stdout.flush()
    table(head, rows, right=[1, 2, 3], flexible=[0], stream=sys.stderr)
