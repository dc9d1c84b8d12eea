"""Which sheet of a workbook is meant, and in which row a table's head is, where that was said."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextvars import ContextVar
from typing import NamedTuple


class Asked(NamedTuple):
    """The sheet, if one was named, and the row of the head, counted from 1; 0 if not said."""

    sheet: str = ""
    header: int = 0


_asked: ContextVar[Asked | None] = ContextVar("polygene_sheets", default=None)


@contextlib.contextmanager
def tables_laid_out(sheet: str = "", header: int = 0) -> Iterator[None]:
    """Take workbooks and tables of text as this says while it lasts."""
    token = _asked.set(Asked(sheet, header))
    try:
        yield
    finally:
        _asked.reset(token)


def asked() -> Asked:
    """Return what was said."""
    return _asked.get() or Asked()
