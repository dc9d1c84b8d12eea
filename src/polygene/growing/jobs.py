"""What all tasks of a work have in common, and what they keep on the disk for each other."""

from __future__ import annotations

import functools
import os
import pickle
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from polygene import __version__
from polygene.classes import dataclass
from polygene.errors import FileError, reason_of
from polygene.formats import geoparquet
from polygene.growing.calls import Call
from polygene.growing.nearest import Wish
from polygene.growing.source import Source

T = TypeVar("T")


@dataclass(frozen=True)
class Job:
    """What all tasks of a work have in common.

    folder : where they put what they make
    reach : how far from a core row others have to do with it, in map units
    counts_invalid : whether invalid rows of the result are told
    nearest : rows of OTHER that are needed however far they are
    """

    call: Call
    sources: tuple[Source, ...]
    folder: Path
    reach: float = 0.0
    counts_invalid: bool = False
    core_alone: bool = False
    nearest: Wish | None = None
    version: str = __version__


def keep(folder: Path, name: str, value: Any) -> None:
    """Keep a value in a folder for all who work there."""
    try:
        folder.mkdir(exist_ok=True)
        new = folder / f".{name}"
        new.write_bytes(pickle.dumps(value))
        new.replace(folder / name)
    except OSError as err:
        raise FileError(f"cannot write in {folder}: {reason_of(err)}") from err


def job_in(place: str) -> Job:
    """Return the job that is kept in a folder."""
    return _job(place, os.stat(os.path.join(place, "job")).st_mtime)


@functools.lru_cache(maxsize=4)
def _job(place: str, stamp: float) -> Job:
    del stamp
    with open(os.path.join(place, "job"), "rb") as file:
        found: Job = pickle.load(file)
    return found


def once(folder: Path, number: int, work: Callable[[], T]) -> T:
    """Do a work whose outcome is kept, or return that of a run before, which was cut short."""
    place = folder / f"d{number:05d}"
    if place.exists():
        with place.open("rb") as file:
            found: T = pickle.load(file)
        return found
    with geoparquet.staying_open():
        done = work()
    new = place.with_suffix(f".{os.getpid()}")
    try:
        with new.open("wb") as file:
            pickle.dump(done, file)
        new.replace(place)
    except OSError as err:
        raise FileError(f"cannot write in {folder}: {reason_of(err)}") from err
    return done
