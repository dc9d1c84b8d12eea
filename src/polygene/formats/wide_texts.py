"""Tables in UTF-16, as programs on Windows write them: brought to UTF-8 before they are parsed."""

from __future__ import annotations

import codecs
import contextlib
from collections.abc import Iterator
from pathlib import Path

from polygene.commit.leftovers import passing_folder
from polygene.errors import FileError, reason_of

NAMES = ("utf-16", "utf-16-le", "utf-16-be")
MARKS = {codecs.BOM_UTF16_LE: "utf-16-le", codecs.BOM_UTF16_BE: "utf-16-be"}
_PIECE = 1 << 24  # bytes that are brought at a time


def begins_wide(head: bytes) -> bool:
    """Whether a file begins with the byte order mark of UTF-16, and not with that of UTF-32."""
    return head[:2] in MARKS and head[2:4] != b"\0\0"


def mark_of(path: Path) -> str | None:
    """Return the wide encoding that a file's byte order mark stands for, if it has one.

    Raises
    ------
    OSError
        If it cannot be read.
    """
    with path.open("rb") as file:
        head = file.read(4)
    return MARKS[head[:2]] if begins_wide(head) else None


def by_name(text: str) -> str | None:
    """Return a wide encoding by its name, however that is written: ``UTF-16LE``, ``utf_16``."""
    try:
        name = codecs.lookup(text.strip()).name
    except LookupError:
        return None
    return name if name in NAMES else None


@contextlib.contextmanager
def in_utf8(path: Path, encoding: str) -> Iterator[Path]:
    """Give a copy of a file in UTF-8, of the same name and without a byte order mark, while it lasts.

    Raises
    ------
    FileError
        If it is not in that encoding, or cannot be read.
    """
    if encoding == "utf-16":
        encoding = mark_of(path) or ""
        if not encoding:
            said = "has no byte order mark; say `encoding` utf-16-le or utf-16-be"
            raise FileError(f"{path} {said}")
    with passing_folder() as folder:
        place = folder / path.name
        decoder = codecs.getincrementaldecoder(encoding)()
        is_first = True
        try:
            with path.open("rb") as file, place.open("wb") as out:
                while piece := file.read(_PIECE):
                    text = decoder.decode(piece)
                    out.write((text.removeprefix("\ufeff") if is_first else text).encode())
                    is_first = False
                decoder.decode(b"", final=True)
        except (UnicodeDecodeError, UnicodeEncodeError) as err:
            raise FileError(
                f"{path} is no text in {encoding}: {err.reason}; say another `encoding`"
            ) from err
        except OSError as err:
            raise FileError(f"cannot read {path}: {reason_of(err)}") from err
        yield place
