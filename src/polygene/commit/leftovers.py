"""Files that are there for a while: who made them is in their names, so that none outlives its run."""

from __future__ import annotations

import contextlib
import functools
import os
import platform
import re
import shutil
import tempfile
import time
import zlib
from collections.abc import Iterator
from pathlib import Path

NEW, OLD = ".part", ".old"
RECORD = ".polygene.commit"  # see `records.py`
_FOLDER = "polygene."
# A host, its boot and a process, as eight hexadecimal digits each and a decimal number.
_MARK = r"(?P<host>[0-9a-f]{8})-(?P<boot>[0-9a-f]{8})-(?P<process>\d+)-[^./]+"
_FILE = re.compile(rf"\..*\.{_MARK}(?:{re.escape(NEW)}|{re.escape(OLD)})(?P<more>-\w+)?", re.DOTALL)
_UNPACKED = re.compile(rf"{re.escape(_FOLDER)}{_MARK}")
_LONGEST = 100  # bytes of a file's own name in that of its neighbour; names end at 255
_LONG_AGO = 7 * 24 * 3600  # seconds; of another machine nobody here knows whether its run is over


@functools.cache
def _machine() -> tuple[str, str]:
    """Return what tells apart machines that share a disk, or containers, and the times they began."""
    own, boot = platform.node(), ""
    with contextlib.suppress(OSError):
        own += os.readlink("/proc/self/ns/pid")
    with contextlib.suppress(OSError):
        boot = Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii")
    return tuple(f"{zlib.crc32(text.encode()):08x}" for text in (own, boot))  # type: ignore[return-value]


def _mark() -> str:
    return "-".join((*_machine(), f"{os.getpid()}-"))


_ours: set[Path] = set()


def remove_ours() -> None:
    """Remove what this process has made and not put in place; but not what a record names."""
    for path in list(_ours):
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        elif not os.path.lexists(path.parent / RECORD):
            with contextlib.suppress(OSError):
                path.unlink(missing_ok=True)


def neighbour(place: Path, ending: str = NEW) -> Path:
    """Return a new file beside another, empty and for us alone to read.

    Raises
    ------
    OSError
        If there can be none.
    """
    own = place.name.encode("utf-8", "surrogateescape")[:_LONGEST].decode("utf-8", "ignore")
    handle, name = tempfile.mkstemp(prefix=f".{own}.{_mark()}", suffix=ending, dir=place.parent)
    os.close(handle)
    _ours.add(Path(name))
    return Path(name)


def neighbour_folder(place: Path) -> Path:
    """Return a new folder beside another; as `neighbour` otherwise."""
    path = neighbour(place)
    path.unlink()
    path.mkdir()
    return path


def remove(path: Path) -> None:
    """Remove a file or a folder with all that is in it, if it is there."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path)
    else:
        path.unlink(missing_ok=True)


def is_neighbour(name: str) -> bool:
    """Whether a name is one that only `neighbour` gives."""
    found = _FILE.fullmatch(name)
    return found is not None and found["more"] is None


def sweep(folder: Path) -> None:
    """Remove what runs that are gone have left in a folder, with journals of databases beside it.

    What cannot be removed stays.
    """
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            found = _FILE.fullmatch(entry.name) if entry.name[0] == "." else None
            if found is not None and _is_over(entry, found):
                with contextlib.suppress(OSError):
                    remove(Path(entry.path))


def temporary_folder() -> Path:
    """Return a new folder among the system's temporary ones; those of runs that are gone go."""
    with contextlib.suppress(OSError), os.scandir(tempfile.gettempdir()) as entries:
        for entry in entries:
            found = _UNPACKED.fullmatch(entry.name)
            if found is not None and _is_over(entry, found):
                shutil.rmtree(entry.path, ignore_errors=True)
    folder = Path(tempfile.mkdtemp(prefix=f"{_FOLDER}{_mark()}"))
    _ours.add(folder)
    return folder


@contextlib.contextmanager
def passing_folder() -> Iterator[Path]:
    """Give a temporary folder that goes at the end."""
    folder = temporary_folder()
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _is_over(entry: os.DirEntry[str], found: re.Match[str]) -> bool:
    """Whether what has this name is ours and the run that made it is no more."""
    state = entry.stat(follow_symlinks=False)
    if hasattr(os, "geteuid") and state.st_uid != os.geteuid():
        return False
    host, boot = _machine()
    if found["host"] != host:
        return time.time() - state.st_mtime > _LONG_AGO
    if found["boot"] != boot:
        return True
    try:
        os.kill(int(found["process"]), 0)
    except ProcessLookupError:
        return True
    except (OSError, OverflowError):
        return False
    return False
