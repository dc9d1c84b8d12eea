"""The cells of a sheet of a workbook, and what it says of them that their values do not show."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from polygene.classes import NamedTuple

_LOOKED_AT = 1_000  # rows whose cells are asked how they are shown
_PADDED = re.compile(r"^0{2,}$")  # a number format that shows 1029 as 01029: a code
_PIECE = 1 << 22  # bytes of a sheet looked at in one go

# Elements of a sheet (ISO/IEC 29500-1, 18.3.1), with a prefix or without.
_CELL = rb"<(?:\w+:)?c\s([^>]*[^>/])>"
_FORMULA = rb"<(?:\w+:)?f(?:\s[^>]*)?(?:/>|>[^<]*</(?:\w+:)?f>)"
_NO_VALUE = rb"(?:<(?:\w+:)?v\s*/>|<(?:\w+:)?v></(?:\w+:)?v>)?"
_WITHOUT_RESULT = re.compile(_CELL + _FORMULA + _NO_VALUE + rb"</(?:\w+:)?c>")
_PLACE = re.compile(rb"\br=[\"']([A-Z]+[0-9]+)[\"']")
_ERROR = re.compile(rb"<(?:\w+:)?c\s[^>]*\bt=[\"']e[\"']")
_OF_TEXT = re.compile(rb"\bt=[\"']str[\"']")
_ROW_ENDS = b"row>"
_MERGED = re.compile(rb"<(?:\w+:)?mergeCell\s[^>]*\bref=[\"']([A-Z]+[0-9]+:[A-Z]+([0-9]+))[\"']")


class ErrorValue(str):
    """What a cell shows in place of a value that could not be computed, such as ``#N/A``."""


class Cell(NamedTuple):
    """A value, and how many digits a whole number is shown with, filled up with zeros; else 0."""

    value: Any
    digits: int = 0


NOTHING = Cell(None)


class Marks(NamedTuple):
    """What a sheet says beside values.

    unknown : the places of cells with a formula whose result the file does not have
    merged : areas shown as one cell, of which only the first has a value, with their last row
    has_errors : whether cells show errors
    """

    unknown: list[str]
    merged: list[tuple[str, int]]
    has_errors: bool


def book_of(file: Any, has_values: bool = True) -> Any:
    """Return a workbook opened by openpyxl to be read; for names alone if not for values.

    Its own way goes through each sheet that does not say its size, to find that out; nobody asks here.
    """
    from openpyxl.reader.excel import ExcelReader
    from openpyxl.worksheet._read_only import ReadOnlyWorksheet

    class Sheet(ReadOnlyWorksheet):  # type: ignore[misc]
        def _get_size(self) -> None:
            pass

    class Reader(ExcelReader):  # type: ignore[misc]
        def read_strings(self) -> None:
            if has_values:
                super().read_strings()

        def read_worksheets(self) -> None:
            for sheet, rel in self.parser.find_sheets():
                if rel.target not in self.valid_files:
                    continue
                if "chartsheet" in rel.Type:
                    self.read_chartsheet(sheet, rel)
                    continue
                own = Sheet(self.wb, sheet.name, rel.target, self.shared_strings)
                own.sheet_state = sheet.state
                self.wb._sheets.append(own)

    reader = Reader(file, read_only=True, data_only=True)
    reader.read()
    return reader.wb


def marks_of(sheet: Any) -> Marks:
    """Look through a sheet, as openpyxl has opened it to be read, for what that does not give."""
    unknown: list[str] = []
    merged: list[tuple[str, int]] = []
    has_errors, rest = False, b""
    with sheet.parent._archive.open(sheet._worksheet_path) as file:
        while piece := file.read(_PIECE):
            text = rest + piece
            cut = text.rfind(_ROW_ENDS)
            whole, rest = (b"", text) if cut < 0 else (text[:cut], text[cut:])
            unknown += _unknown_in(whole)
            has_errors = has_errors or _ERROR.search(whole) is not None
            merged += _merged_in(whole)
    unknown += _unknown_in(rest)
    has_errors = has_errors or _ERROR.search(rest) is not None
    merged += _merged_in(rest)
    return Marks(unknown, merged, has_errors)


def _merged_in(text: bytes) -> list[tuple[str, int]]:
    return [(own[1].decode(), int(own[2])) for own in _MERGED.finditer(text)]


def _unknown_in(text: bytes) -> list[str]:
    """Return the places of formulas without a result; an empty text is one."""
    found = []
    for cell in _WITHOUT_RESULT.finditer(text):
        place = _PLACE.search(cell[1])
        is_empty = _OF_TEXT.search(cell[1]) is not None and b"v>" in cell[0]
        if not is_empty:
            found.append(place[1].decode() if place else "?")
    return found


def cells_of(sheet: Any, has_errors: bool) -> list[list[Cell]]:
    """Return the cells of a sheet; how they are shown is asked of all if it matters in the first."""
    sheet.reset_dimensions()  # some writers say less than there is
    first = sheet.iter_rows(max_row=_LOOKED_AT)
    found = [[_cell(c) for c in row] for row in first]
    if len(found) < _LOOKED_AT:
        return found
    rest = {"min_row": _LOOKED_AT + 1}
    if has_errors or any(cell.digits for row in found for cell in row):
        more = [[_cell(c) for c in row] for row in sheet.iter_rows(**rest)]
    else:
        more = [[Cell(v) for v in row] for row in sheet.iter_rows(**rest, values_only=True)]
    return found + more


def _cell(cell: Any) -> Cell:
    value = cell.value
    if isinstance(value, str) and cell.data_type == "e":
        return Cell(ErrorValue(value))
    if not isinstance(value, int) or isinstance(value, bool):
        return Cell(value)
    shown = cell.number_format or ""
    return Cell(value, len(shown) if _PADDED.match(shown) else 0)


def cell_at(row: Sequence[Cell], k: int) -> Cell:
    return row[k] if k < len(row) else NOTHING
