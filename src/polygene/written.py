"""Which files a run of the program has put in their place so far, so that no error denies it."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextvars import ContextVar

_places: ContextVar[list[str] | None] = ContextVar("polygene_written", default=None)


@contextlib.contextmanager
def noting() -> Iterator[list[str]]:
    """Give a list that grows while files are written; within it another keeps what is its own."""
    places: list[str] = []
    token = _places.set(places)
    try:
        yield places
    finally:
        _places.reset(token)


def note(place: object) -> None:
    """Note that a file is in its place, if somebody listens."""
    places = _places.get()
    if places is not None and str(place) not in places:
        places.append(str(place))
