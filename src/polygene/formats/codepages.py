"""How the texts of a dBASE table are written: by a file beside it, its own mark, or what they allow.

The marks are the language drivers of dBASE and what programs that write shapefiles add to them.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextvars import ContextVar
from pathlib import Path

from polygene.errors import UsageError
from polygene.formats import wide_texts

DEFAULT = "cp1252"  # where nothing is said and the texts are no UTF-8
_PAGES = {
    "cp437": "01 09 0b 0d 0f 11 15 18 19 1b",
    "cp850": "02 0a 0c 0e 10 12 14 16 1a 1d 25 37",
    "cp1252": "03 04 57 58 59",  # 04, of an Apple: Roman, which nobody wrote for long
    "cp865": "08 17 66",
    "cp932": "13 7b",
    "cp863": "1c 6c",
    "cp852": "1f 22 23 40 64 87",
    "cp860": "24",
    "cp866": "26 65",
    "cp861": "67",
    "cp737": "6a 86",
    "cp857": "6b 88",
    "cp950": "78",
    "cp949": "79",
    "cp936": "7a 4d",
    "cp874": "7c 50",
    "cp1255": "7d",
    "cp1256": "7e",
    "cp1250": "c8",
    "cp1251": "c9",
    "cp1254": "ca",
    "cp1253": "cb",
    "cp1257": "cc",
    "utf-8": "",
}
_BY_MARK = {int(mark, 16): page for page, marks in _PAGES.items() for mark in marks.split()}
_asked: ContextVar[str] = ContextVar("polygene_encoding", default="")


@contextlib.contextmanager
def texts_written_in(encoding: str) -> Iterator[None]:
    """Take the texts of tables that have no encoding of their own as this says, while it lasts.

    Raises
    ------
    UsageError
        If no such encoding is known.
    """
    if encoding and by_name(encoding) is None and wide_texts.by_name(encoding) is None:
        raise UsageError(
            f"{encoding!r} is no encoding that is known; say one such as utf-8 or cp850"
        )
    token = _asked.set(encoding)
    try:
        yield
    finally:
        _asked.reset(token)


def asked() -> str | None:
    """Return the encoding that was asked for, if one was in which a sign of ASCII is a byte."""
    return by_name(_asked.get())


def asked_wide() -> str | None:
    """Return the encoding that was asked for if it is UTF-16, which only CSV and TSV may be in."""
    return wide_texts.by_name(_asked.get())


def by_name(text: str) -> str | None:
    """Return an encoding by one of the names that it has in files: ``UTF-8``, ``1252``, ``88591``."""
    text = text.strip().strip("\x00")
    if text.casefold().replace("_", "-") in ("utf-8-sig", "utf8-sig"):
        return "utf-8"  # with a byte order mark, which is passed over anyway
    number = "".join(c for c in text if c.isdigit())
    if text.casefold().startswith("ldid/") and number:
        return by_mark(int(number))
    iso = f"iso8859-{number[4:]}" if number[:4] == "8859" and number[4:] else ""
    for name in (text, iso, f"cp{number}" if number else ""):
        with contextlib.suppress(LookupError, ValueError):
            if name and "".encode(name) == b"" and "a".encode(name) == b"a":
                return "utf-8" if name.casefold() in ("utf8", "65001", "cp65001") else name
    return None


def by_mark(mark: int) -> str | None:
    """Return the encoding that the mark of a table's header stands for; None for one that says none."""
    return _BY_MARK.get(mark)


def of_file(beside: Path | None) -> tuple[str, str | None]:
    """Return what a file beside the table says, and the encoding that is meant, if it is known."""
    if beside is None:
        return "", None
    text = beside.read_text(encoding="ascii", errors="replace").strip()
    return text, by_name(text)
