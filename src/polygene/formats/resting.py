"""Files that are read while others may write them: what is read is one state of them, or is refused."""

from __future__ import annotations

import stat
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from polygene.classes import NamedTuple
from polygene.errors import FileError, PolygeneError
from polygene.formats.base import files_beside
from polygene.formats.beside import place_of

T = TypeVar("T")
TRIES = 4  # of files that are changed again and again
PAUSE = 0.05  # seconds before the second, and more before each after it


class State(NamedTuple):
    """What tells states of files apart: which files they are, and their sizes and times."""

    files: list[tuple[str, int]]
    contents: list[tuple[int, int]]


def at_rest(path: Path, read: Callable[[], T], is_of_pieces: bool) -> tuple[T, State | None]:
    """Return what is read of a file and its parts when nobody changes them, and the state they are in.

    ``is_of_pieces`` says that it is in several files, or is opened several times. Of others a state is
    read well even where a new file takes its place each time.

    Raises
    ------
    FileError
        If they are changed each time.
    """
    for number in range(TRIES):
        time.sleep(PAUSE * number)
        before = state_of(path)
        try:
            found = read()
        except (PolygeneError, FileNotFoundError):
            if before is None or state_of(path) == before:
                raise
            continue
        after = state_of(path)
        if before is None or after == before:
            return found, before
        is_another = after is None or after.files != before.files
        if number == TRIES - 1 and is_another and not is_of_pieces:
            return found, before
    raise FileError(
        f"{path} was changed while it was read, {TRIES} times; start again when it rests"
    )


def state_of(path: Path) -> State | None:
    """Return the state of files; None of what cannot be read twice.

    Of a folder its own: what replaces a part of it, or all, changes the folder too.
    """
    files, contents = [], []
    try:
        if not stat.S_ISREG(path.stat().st_mode) and not path.is_dir():
            return None
        lineage = place_of(path)
        for part in (*files_beside(path), *([lineage] if lineage.exists() else [])):
            told = part.stat()
            files.append((part.name, told.st_ino))
            contents.append((told.st_size, told.st_mtime_ns))
    except OSError:  # it goes away, or comes: reading says so
        pass
    return State(files, contents)
