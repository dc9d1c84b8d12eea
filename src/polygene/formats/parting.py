"""What parts the values of a table that is text, and where its names stand."""

from __future__ import annotations

import re
from pathlib import Path

from polygene.classes import NamedTuple
from polygene.errors import FileError, reason_of
from polygene.formats import sheets

_SIGNS = ",;\t|"  # between the values of a row
_HEAD = 65_536  # bytes that are looked at for it
_IN_QUOTES = re.compile(rb'"[^"]*"')
_STATED = re.compile(rb'(?i)(?:\xef\xbb\xbf)?"?sep=([,;|\t])"?\r?\n')


class Layout(NamedTuple):
    """The sign between the values of a row, and how many lines stand above that of the names."""

    sign: str
    above: int


def layout_of(path: Path) -> Layout:
    """Return how a table is laid out: parted by a comma, semicolon, tabulator or bar.

    A first line ``sep=;``, which programs of tables on Windows write and obey, says by what, and is
    above the names. Else it is the sign that is as often in the lines that follow as in that of the
    names, and most often; what stands in quotes does not count. If lines differ, that which the names
    have most of. The lines of a ``.tsv`` are parted by tabulators.

    Raises
    ------
    FileError
        If it cannot be read.
    """
    try:
        with path.open("rb") as file:
            head = file.read(_HEAD)
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    stated = _STATED.match(head)
    above = max(sheets.asked().header - 1, 1 if stated else 0)
    if stated:
        return Layout(stated[1].decode(), above)
    return Layout("\t" if path.suffix.lower() == ".tsv" else _sign_in(head, above), above)


def _sign_in(head: bytes, above: int) -> str:
    below = _IN_QUOTES.sub(b"x", head).splitlines()[above:]
    lines = [line for line in below if line.strip()]
    first, *others = [{s: line.count(s.encode()) for s in _SIGNS} for line in lines] or [{}]
    if len(head) == _HEAD:  # the last line is cut
        others = others[:-1]
    is_used = {s: any(counts[s] for counts in others) or not others for s in _SIGNS}
    there = [sign for sign in _SIGNS if first.get(sign) and is_used[sign]]
    alike = [s for s in there if all(counts[s] == first[s] for counts in others)]
    if there:
        return max(alike or there, key=lambda sign: first[sign])
    # One column: then it is a sign that neither its name nor its values have, if there is one.
    return next((s for s in _SIGNS if not first.get(s) and not (others and is_used[s])), ",")
