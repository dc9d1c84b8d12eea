"""Local files that stand for what lies elsewhere: where that is, and how more of it is fetched.

A file of the web is a local one with the same bytes, or with those of them that were needed so far: a
reader says which it is about to read, and they are there when it does.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from polygene.classes import dataclass

if TYPE_CHECKING:
    from polygene.arrays import I64Array

    Fill = Callable[[I64Array, I64Array], None]


@dataclass
class Origin:
    """Where a local file comes from.

    url : without what is secret in it; retrieved : when, as in lineage
    validator : what the server tells its states by
    checksum : SHA-256 of the file, empty if it has not come whole
    credit, licence : if the source tells them
    fill : fetches bytes from, to (n,), if they are not there yet
    """

    url: str
    retrieved: str = ""
    validator: str = ""
    checksum: str = ""
    credit: str = ""
    licence: str = ""
    fill: Fill | None = None


# Of the whole process: whoever reads such a file, in whichever thread, must know of its holes.
_known: dict[str, Origin] = {}


def note(path: Path, origin: Origin) -> None:
    """Say where a local file comes from."""
    _known[str(path)] = origin


def origin_of(path: Path) -> Origin | None:
    """Return where a local file comes from; None if it is of here."""
    return _known.get(str(path))


def state_of(path: Path, checksum: Callable[[Path], str]) -> str:
    """Return what tells states of a file apart: its checksum, or its server's word for it."""
    origin = origin_of(path)
    return checksum(path) if origin is None else origin.checksum or origin.validator


def is_partial(path: Path) -> bool:
    """Whether bytes of a file may not be there yet."""
    origin = origin_of(path)
    return origin is not None and origin.fill is not None


def fill(path: Path, starts: I64Array | list[int], stops: I64Array | list[int]) -> None:
    """See to it that bytes of a file are there before they are read."""
    origin = origin_of(path)
    if origin is not None and origin.fill is not None:
        import numpy as np  # not for those who only ask where a file comes from

        origin.fill(np.asarray(starts, np.int64), np.asarray(stops, np.int64))


def whole(path: Path) -> None:
    """See to it that all of a file is there, for those who do not say what they read."""
    if is_partial(path):
        fill(path, [0], [path.stat().st_size])
