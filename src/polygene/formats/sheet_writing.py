"""How tables are written into sheets: cells, heads, widths, and what a cell cannot hold as it is."""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from polygene import computing as pc
from polygene.errors import FileError
from polygene.notes import Changed, Lost, counted
from polygene.table.casting import as_text
from polygene.table.types import dates_beyond, is_blob, kind_of

MOST_LETTERS = 31  # of the name of a sheet
USUAL_WIDTH, MOST_WIDTH = 8.43, 60.0  # in digits
TITLE = re.compile(r"[][:*?/\\\x00-\x1f]")  # what the name of a sheet cannot hold
EXACT = 10**15  # whole numbers beyond this have more digits than a cell keeps
FIRST_DAY = datetime.date(1900, 3, 1)  # before, workbooks count a day that never was
CONTROL = "[\x00-\x08\x0b\x0c\x0e-\x1f]"  # what XML 1.0 cannot hold
LOOKED = 1000  # rows that tell how wide a column is to be, or whether there are points in a sheet


Sheet = tuple[str, pa.Table, Sequence[Sequence[Any]], Mapping[str, str]]


def openpyxl_here() -> Any:
    """Return the library, or say that it is not installed."""
    try:
        import openpyxl
    except ImportError as err:
        raise FileError(
            "workbooks need the package openpyxl, which is not installed: pip install openpyxl"
        ) from err
    return openpyxl


def title_of(name: str) -> str:
    """Return what a sheet can be called that holds something of a name."""
    return TITLE.sub("_", name)[:MOST_LETTERS]


def write_tables(path: Path, tables: Sequence[Sheet]) -> None:
    """Write sheets: each a name, a table, rows below it, and how columns of reals are shown.

    Texts stay texts, also ``=A1``.
    """
    book = openpyxl_here().Workbook(write_only=True)
    book.properties.creator = ""
    for sheet in tables:
        _put(book, *sheet)
    book.save(path)


def _width(name: str, values: Sequence[Any], is_grouped: bool) -> float:
    """Return how many digits a column is to be wide, so that its first values are seen."""
    texts = (
        f"{value:,.2f}" if is_grouped and isinstance(value, float) else str(value)
        for value in values[:LOOKED]
        if value is not None
    )
    longest = max(map(len, texts), default=0)
    return min(max(USUAL_WIDTH, longest + 1.5, 1.15 * len(name) + 1.5), MOST_WIDTH)


def _put(
    book: Any,
    name: str,
    table: pa.Table,
    last: Sequence[Sequence[Any]],
    formats: Mapping[str, str],
) -> None:
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.styles import Font
    from openpyxl.utils import get_column_letter

    sheet = book.create_sheet(title_of(name))
    sheet.freeze_panes = "A2"

    def text(value: str, is_bold: bool = False) -> Any:
        cell = WriteOnlyCell(sheet, re.sub(CONTROL, "", value))
        cell.data_type = "s"  # also one that begins as a formula does
        if is_bold:
            cell.font = Font(bold=True)
        return cell

    columns = [column.to_pylist() for column in table.columns]
    for k, (name, values) in enumerate(zip(table.column_names, columns, strict=True), 1):
        wide = _width(name, values, bool(formats.get(name)))
        sheet.column_dimensions[get_column_letter(k)].width = wide
    sheet.append([text(name, True) for name in table.column_names])

    def shown(value: Any, how: str = "") -> Any:
        if isinstance(value, str):  # what begins so would be taken for a formula, or an error
            return text(value) if value[:1] in ("=", "#") else re.sub(CONTROL, "", value)
        if not isinstance(value, float):
            return value
        is_exact = float(f"{value:.16g}") == value  # so many digits are written
        if is_exact and not how:
            return value
        cell = WriteOnlyCell(sheet, value)
        if not is_exact:
            cell._value = repr(value)
        if how:
            cell.number_format = how
        return cell

    ways = [formats.get(name, "") for name in table.column_names]
    for row in zip(*columns, strict=True):
        sheet.append(list(map(shown, row, ways)))
    for more in last:
        sheet.append([shown(v, way) for v, way in zip(more, ways, strict=False)])


def cell_values(column: pa.ChunkedArray, where: str) -> tuple[pa.ChunkedArray, str]:
    """Return values as cells can hold them, and what there is to say if they are others then."""
    kind = kind_of(column.type)
    if pa.types.is_floating(column.type):
        is_lost = pc.fill_null(pc.invert(pc.is_finite(column)), False)
        n = pc.sum(is_lost).as_py() or 0
        column = pc.if_else(is_lost, None, pc.cast(column, pa.float64()))
        return column, Lost(f"{where}: {counted(n, 'value')} not finite, null there") if n else ""
    if pa.types.is_integer(column.type):
        beyond = pc.max(pc.abs(pc.cast(column, pa.float64(), safe=False))).as_py() or 0
        if beyond >= EXACT:
            return as_text(column), Changed(f"{where} has more than 15 digits; written as text")
        return column, ""
    if kind == "date" and (dates_beyond(column) or _has_before(column, FIRST_DAY)):
        return as_text(column), Changed(f"{where} has days before March 1900; written as text")
    if kind == "time":
        return as_text(column), Changed(f"{where} holds times in UTC; written as text")
    if kind in ("boolean", "date"):
        return column, ""
    if is_blob(column.type):
        found = as_text(column)
        found = pc.if_else(pc.equal(found, ""), None, found)
        return found, Changed(f"{where} holds blobs; written as hexadecimal text")
    texts = as_text(column)
    n = pc.sum(pc.match_substring_regex(texts, CONTROL)).as_py() or 0
    n_empty = pc.sum(pc.equal(texts, "")).as_py() or 0
    note: str = ""
    if n:
        texts = pc.replace_substring_regex(texts, CONTROL, "")
        note = Lost(f"{where}: {counted(n, 'text')} with control characters, left out")
    elif n_empty:
        note = Changed(f"{where}: {counted(n_empty, 'empty text')}, null there")
    return pc.if_else(pc.equal(texts, ""), None, texts), note


def _has_before(column: pa.ChunkedArray, day: datetime.date) -> bool:
    return bool(pc.any(pc.less(column, pa.scalar(day, column.type))).as_py())
