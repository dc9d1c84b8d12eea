"""Which files a run of the program has put in their place so far, so that no error denies it."""

from __future__ import annotations

import contextlib
import warnings
from collections.abc import Iterator
from contextvars import ContextVar

_places: ContextVar[list[str] | None] = ContextVar("polygene_written", default=None)
_remarks: ContextVar[list[str] | None] = ContextVar("polygene_remarks", default=None)


@contextlib.contextmanager
def noting() -> Iterator[list[str]]:
    """Give a list that grows while files are written; within it another keeps what is its own."""
    places: list[str] = []
    token = _places.set(places)
    try:
        yield places
    finally:
        _places.reset(token)


@contextlib.contextmanager
def remarking() -> Iterator[list[str]]:
    """Give a list that grows while there is something to remark."""
    remarks: list[str] = []
    token = _remarks.set(remarks)
    try:
        yield remarks
    finally:
        _remarks.reset(token)


def note(place: object) -> None:
    """Note that a file is in its place, if somebody listens."""
    places = _places.get()
    if places is not None and str(place) not in places:
        places.append(str(place))


def remark(text: str, stacklevel: int = 2) -> None:
    """Say something that no result has room for: at the end of the run, or as a warning in Python."""
    remarks = _remarks.get()
    if remarks is None:
        warnings.warn(text, stacklevel=stacklevel)
    elif text not in remarks:
        remarks.append(text)
