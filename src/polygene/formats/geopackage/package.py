"""The file of a GeoPackage as a database that is open for reading."""

from __future__ import annotations

import contextlib
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, cast

from polygene.errors import FileError
from polygene.formats.base import kept_open


@contextlib.contextmanager
def opened(path: Path, is_strict: bool = False) -> Iterator[Package]:
    """Open for reading only, leaving nothing beside the file; word SQLite's complaints.

    Text that is not UTF-8 raises a UnicodeDecodeError if strict, else its letters become U+FFFD.

    Raises
    ------
    FileError
        If the file is no GeoPackage, damaged, or cannot be read.
    """
    kept = kept_open.get()
    key = (path, threading.get_ident())
    connection = kept.pop(key, None) if kept is not None else None
    is_whole = False
    try:
        if connection is None or not cast(Package, connection).is_of(path):
            if connection is not None:
                connection.close()
            connection = _connected(path)
        package = cast(Package, connection)
        package.text_factory = bytes.decode if is_strict else _lenient
        yield package
        is_whole = True
    except sqlite3.DatabaseError as err:
        raise FileError(f"{path} cannot be read: {worded(err)}") from err
    finally:
        if connection is not None:
            may_stay = is_whole and kept is not None and key not in kept
            if may_stay and kept is not None and cast(Package, connection).may_stay:
                kept[key] = connection
            else:
                connection.close()


class Package(sqlite3.Connection):
    """A connection that may stay open for the next layer that is read.

    To open one anew has all of the schema parsed: for each of 1,000 layers, that took half a second.

    file : what the file is known by, if it has no log
    uri : what it was opened by
    may_stay : whether it may stay open: where there are logs, one would stay too
    known : what has been read of its layers, and the number of its version then
    """

    file: tuple[int, ...] = ()
    uri: str = ""
    may_stay: bool = False
    known: tuple[int, list[Any]] = (-1, [])

    def is_of(self, path: Path) -> bool:
        """Whether what is open is still what the path leads to, as it was then."""
        try:
            return self.file == _known_by(path)
        except OSError:
            return False

    def size(self) -> int:
        """Return the bytes that the file had when it was opened, if it is known."""
        return self.file[-1] if self.file else 0

    def version(self) -> int:
        """Return a number that changes when somebody else changes the file."""
        return int(self.execute("PRAGMA data_version").fetchone()[0])


def _known_by(path: Path) -> tuple[int, ...]:
    state = path.stat()
    return state.st_dev, state.st_ino, state.st_mtime_ns, state.st_size


def _connected(path: Path) -> Package:
    # A write-ahead file's readers make side files even if they only read, unless told that nobody
    # writes. That is safe to say when no log lies there.
    uri = path.resolve().as_uri() + "?mode=ro"
    is_ahead, has_log = _is_write_ahead(path), Path(f"{path}-wal").exists()
    if is_ahead and not has_log:
        uri += "&immutable=1"
    seen = _known_by(path)
    connection = sqlite3.connect(uri, uri=True, factory=Package, isolation_level=None)
    try:
        connection.execute("PRAGMA temp_store = MEMORY")
        connection.uri = uri
        if not has_log and seen == _known_by(path):  # nothing took its place before it was open
            connection.file, connection.may_stay = seen, not is_ahead
        if not _has_contents(connection, path):
            raise FileError(
                f"{path} is an SQLite database but no GeoPackage: it has no table gpkg_contents"
            )
    except BaseException:
        connection.close()
        raise
    return connection


@contextlib.contextmanager
def patient(
    connection: sqlite3.Connection, is_view: bool, seconds: float
) -> Iterator[Callable[[], None]]:
    """End a query of a view that does not end by itself, as a recursive one may.

    Gives what is to be called when something has come, to wait as long again.

    Raises
    ------
    sqlite3.OperationalError
        Some seconds after the last call.
    """
    end = time.monotonic() + seconds

    def renew() -> None:
        nonlocal end
        end = time.monotonic() + seconds

    connection.set_progress_handler((lambda: time.monotonic() > end) if is_view else None, 100_000)
    try:
        yield renew
    except sqlite3.OperationalError as err:
        if str(err) != "interrupted":
            raise
        if (
            time.monotonic() <= end
        ):  # a request to stop ended it, and SQLite has kept that for itself
            raise KeyboardInterrupt from err
        raise sqlite3.OperationalError(
            f"its view gives nothing for {seconds:g} s, and may have no end"
        ) from err
    finally:
        connection.set_progress_handler(None, 0)


def _has_contents(connection: sqlite3.Connection, path: Path) -> bool:
    try:
        found = connection.execute(
            "SELECT count(*) FROM sqlite_master WHERE lower(name) = 'gpkg_contents'"
        )
        return bool(found.fetchone()[0])
    except UnicodeDecodeError as err:  # of what SQLite says of a schema that it cannot read
        raise FileError(f"{path} cannot be read: its schema is damaged") from err


def _lenient(text: bytes) -> str:
    return text.decode("utf-8", "replace")


def _is_write_ahead(path: Path) -> bool:
    with path.open("rb") as file:
        return file.read(20)[18:20] == b"\2\2"


def worded(err: sqlite3.Error) -> str:
    """Return what SQLite's complaint means for the file."""
    text = str(err)
    if "malformed" in text or "not a database" in text:
        return "the file is damaged or cut short; take it from a backup or its source again"
    if "locked" in text:
        return "another program is writing to it; try again when that is done"
    if "full" in text:
        return "the disk is full"
    return text
