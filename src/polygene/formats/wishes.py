"""How files are to be written while a run lasts: proved, refused if changed, formulas as they are."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextvars import ContextVar

from polygene.classes import NamedTuple

IF_CHANGED = ("note", "refuse")


class Wish(NamedTuple):
    """What is wanted of files.

    is_proved : whether they are read again
    if_changed : what a change by a format does, one of `IF_CHANGED`: it is said, or nothing is written
    is_raw : whether text that a spreadsheet would run is written as it is
    """

    is_proved: bool = True
    if_changed: str = "note"
    is_raw: bool = False


_USUAL = Wish()
_wish: ContextVar[Wish] = ContextVar("polygene_wish", default=_USUAL)


def wish() -> Wish:
    """Return what is wanted now."""
    return _wish.get()


@contextlib.contextmanager
def written_so(
    is_proved: bool = True, if_changed: str = "note", is_raw: bool = False
) -> Iterator[None]:
    """Say how files are to be written while this lasts: see `Wish`."""
    token = _wish.set(Wish(is_proved, if_changed, is_raw))
    try:
        yield
    finally:
        _wish.reset(token)
