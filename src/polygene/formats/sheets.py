"""How tables are to be taken: which sheet, which row has the names, with geometry or not."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextvars import ContextVar

from polygene.classes import NamedTuple


class Asked(NamedTuple):
    """The sheet, if one was named, and the row of the head, counted from 1; 0 if not said.

    is_plain : whether no geometry is to be looked for
    """

    sheet: str = ""
    header: int = 0
    is_plain: bool = False


_asked: ContextVar[Asked | None] = ContextVar("polygene_sheets", default=None)


@contextlib.contextmanager
def tables_laid_out(sheet: str = "", header: int = 0, is_plain: bool = False) -> Iterator[None]:
    """Take workbooks and tables of text as this says while it lasts."""
    token = _asked.set(Asked(sheet, header, is_plain))
    try:
        yield
    finally:
        _asked.reset(token)


def asked() -> Asked:
    """Return what was said."""
    return _asked.get() or Asked()
