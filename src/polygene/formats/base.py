"""What every format offers, and what all of them share."""

from __future__ import annotations

import contextlib
import gc
import glob
import os
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Protocol

from polygene import written
from polygene.errors import DataError, ExistsError, FileError
from polygene.layer import Layer, LayerInfo

try:
    import fcntl
except ImportError:  # not on Windows
    fcntl = None  # type: ignore[assignment]

if TYPE_CHECKING:
    from polygene.formats.wanted import Wanted


PATIENCE = 60  # seconds to wait for another run to finish writing


class Reading(NamedTuple):
    """Layers read and what there is to say about it.

    More than one layer comes from one table if its geometry has mixed dimensions.
    """

    layers: list[Layer]
    notes: list[str]


class Format(Protocol):
    """A module that reads and writes one open format."""

    NAME: str
    ENDINGS: tuple[str, ...]
    HOLDS_MANY: bool  # several layers in one file
    KEEPS_LINEAGE: bool  # it has a place for it inside
    READS_PART: bool  # its `read` takes what is `Wanted` of a layer

    def is_like(self, head: bytes) -> bool:
        """Whether a file that begins so may be of this format."""
        ...

    def list_layers(self, path: Path) -> list[LayerInfo]: ...

    def layer_names(self, path: Path) -> list[str]: ...

    def read(self, path: Path, name: str) -> Reading: ...

    def write(self, path: Path, layers: Sequence[Layer]) -> list[str]:
        """Write layers, whole or not at all; those of the same name are replaced, others stay.

        Returns what there is to say about it.
        """
        ...


class PartReader(Protocol):
    """The format of a module that can leave unwanted features in the file."""

    def read(self, path: Path, name: str, wanted: Wanted) -> Reading: ...


@contextlib.contextmanager
def collecting_no_garbage() -> Iterator[None]:
    """Let Python not look for reference cycles while millions of values are made that have none.

    Parsing 190 MB of GeoJSON takes 3 s this way and 9 s otherwise.
    """
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def check_free(path: Path, replaces: bool) -> None:
    """Refuse a file that is there, unless it is to be replaced.

    Raises
    ------
    ExistsError
        Otherwise.
    """
    if path.exists() and not replaces:
        raise ExistsError(f"{path} exists; `replace` overwrites it")


@contextlib.contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """Give a temporary neighbour to write; put it in the place of ``path`` when all went well.

    Killed at any moment, ``path`` is what it was. A rename within a folder is atomic.

    Raises
    ------
    FileError
        If the folder cannot be written.
    """
    target = Path(os.path.realpath(path))  # a link stays a link
    try:
        handle, name = tempfile.mkstemp(
            prefix=f".{target.name}.", suffix=".part", dir=target.parent
        )
        os.close(handle)
    except OSError as err:
        raise FileError(f"cannot write in {target.parent}: {reason_of(err)}") from err
    temporary = Path(name)
    try:
        yield temporary
        with temporary.open("rb") as file:
            os.fsync(file.fileno())
        temporary.chmod(_mode_of(target))
        temporary.replace(target)
        written.note(path)
    except OSError as err:
        raise FileError(f"cannot write {path}: {reason_of(err)}") from err
    finally:
        temporary.unlink(missing_ok=True)


def files_beside(path: Path) -> list[Path]:
    """Return a file with those that are parts of it: a Shapefile is several."""
    if path.suffix.lower() != ".shp":
        return [path]
    return sorted(p for p in path.parent.glob(f"{glob.escape(path.stem)}.*") if p.is_file())


@contextlib.contextmanager
def alone_in(folder: Path) -> Iterator[None]:
    """Keep other runs from writing into a folder; wait for one that does.

    The lock is the system's own on the folder itself: nothing is left behind, whatever happens.

    Raises
    ------
    FileError
        If another run has not finished writing after a minute.
    """
    if fcntl is None:
        yield
        return
    handle = None
    with contextlib.suppress(OSError):  # a folder that cannot be opened says so when it is written
        handle = os.open(folder, os.O_RDONLY)
    try:
        began = time.monotonic()
        while handle is not None:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError as err:
                if time.monotonic() - began > PATIENCE:
                    raise FileError(
                        f"another run has been writing in {folder} for {PATIENCE} s; try again later"
                    ) from err
                time.sleep(0.05)
            except OSError:  # a file system without locks
                break
        yield
    finally:
        if handle is not None:
            os.close(handle)


def _mode_of(target: Path) -> int:
    """Return the permissions the file has, or those a new one would get."""
    with contextlib.suppress(OSError):
        return target.stat().st_mode & 0o777
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


def reason_of(err: OSError) -> str:
    """Return the system's own words without number and path."""
    return (err.strerror or str(err)).lower()


def only_one(path: Path, layers: Sequence[Layer], what: str) -> Layer:
    """Return the one layer that a file of some format can hold.

    Raises
    ------
    DataError
        If there are several.
    """
    if len(layers) != 1:
        raise DataError(
            f"{path}: {what} holds one layer, and there are {len(layers)}; write to a folder or a "
            "GeoPackage"
        )
    return layers[0]
