"""Sheets of a workbook (Office Open XML, ISO/IEC 29500) as tables, or points of two columns of numbers.

Read and written by openpyxl, which is asked for only when such a file is met.
"""

from __future__ import annotations

import contextlib
import datetime
import re
import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.commit.together import replacing
from polygene.errors import DataError, FileError, UnknownLayerError, listed, reason_of
from polygene.formats import sheets, table_geometry
from polygene.formats.base import Reading, Way, Written, collecting_no_garbage
from polygene.formats.columns import (
    ADVICE,
    distinct_columns,
    info_of,
    layers_of,
    table_of,
    with_rows_told,
)
from polygene.formats.packed import most_bytes
from polygene.formats.sheet_cells import (
    NOTHING,
    Cell,
    ErrorValue,
    Marks,
    book_of,
    cell_at,
    cells_of,
    marks_of,
)
from polygene.formats.sheet_writing import (
    CONTROL,
    LOOKED,
    MOST_LETTERS,
    cell_values,
    openpyxl_here,
    title_of,
    write_tables,
)
from polygene.geometry import GeometryColumn
from polygene.info import LayerInfo
from polygene.layer import Layer, distinct_name
from polygene.notes import Changed, Lost, Warned, counted
from polygene.text.assemble import OfFamily

NAME = "Workbook"
ENDINGS = (".xlsx",)
KEEPS_LINEAGE = False
HOLDS_MANY = True
HOLDS_TABLES = True
READS_PART = False
MOST_ROWS, MOST_COLUMNS, LONGEST = 1_048_576, 16_384, 32_767  # of a sheet, and letters of a cell


def is_like(head: bytes) -> bool:
    """Whether a file begins as a packed one does."""
    return head.startswith(b"PK\x03\x04")


@contextlib.contextmanager
def _opened(path: Path, has_values: bool = True) -> Iterator[Any]:
    openpyxl_here()
    try:
        with path.open("rb") as file:
            with zipfile.ZipFile(file) as archive:
                size = sum(info.file_size for info in archive.infolist())
            if size > most_bytes(path):
                raise FileError(
                    f"{path} would grow to {size / 1e6:,.0f} MB; it may be made to do harm"
                )
            file.seek(0)
            book = book_of(file, has_values)
            try:
                yield book
            finally:
                book.close()
    except (MemoryError, FileError, UnknownLayerError):
        raise
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    except Exception as err:  # of what is no workbook it raises whatever its parsers do
        said = str(err).splitlines()[0] if str(err) else type(err).__name__
        raise FileError(f"{path} is no workbook, or is damaged: {said}; {ADVICE}") from err


def layer_names(path: Path) -> list[str]:
    """Return the names of the sheets that are shown; or of the one that was asked for."""
    with _opened(path, has_values=False) as book:
        return _names(book, path)


def table_names(path: Path) -> list[str]:
    """Return those of them that hold no points, as their first rows tell."""
    names = layer_names(path)
    if len(names) == 1:  # whatever it is, it is what is meant
        return names
    with _opened(path) as book:
        return [name for name in names if not _has_points(book[name])]


def _has_points(sheet: Any) -> bool:
    """Whether the first rows of a sheet have two columns of numbers such as x and y."""
    if sheets.asked().is_plain:
        return False
    cells = [[Cell(v) for v in row] for row in sheet.iter_rows(max_row=LOOKED, values_only=True)]
    try:
        head, first = _head(cells, "")
    except DataError:
        return False
    columns = {n: _column([cell_at(row, k) for row in cells[first:]], n, "", []) for k, n in head}
    return table_geometry.numbers_of(pa.table(columns)) is not None


def _names(book: Any, path: Path) -> list[str]:
    every = [sheet.title for sheet in book.worksheets]
    wished = sheets.asked().sheet
    if wished:
        if wished not in every:
            raise UnknownLayerError(wished, str(path), every)
        return [wished]
    return [s.title for s in book.worksheets if s.sheet_state == "visible"] or every


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the sheets; they are read for it."""
    infos = []
    for name in layer_names(path):
        try:
            infos += [info_of(layer) for layer in read(path, name).layers]
        except DataError as err:
            infos.append(LayerInfo(name, "none", 0, None, None, problem=str(err)))
    return infos


@collecting_no_garbage()
def read(path: Path, name: str) -> Reading:
    """Read a sheet: a row of names, then a row for each record; empty rows at the end do not count.

    A column is of one type where all its cells are, else text. Numbers that are shown with zeros in
    front are codes, and text as they are shown.

    Raises
    ------
    UnknownLayerError, FileError
    DataError
        If the head is none: a title above the table, or no row at all.
    """
    with _opened(path) as book:
        every = [sheet.title for sheet in book.worksheets]
        if name not in every:
            raise UnknownLayerError(name, str(path), every)
        marks = marks_of(book[name])
        cells = cells_of(book[name], marks.has_errors)
    place = f"{path}#{name}"
    while cells and _is_empty(cells[-1]):
        cells.pop()
    head, first = _head(cells, place)
    body = [row for row in cells[first:] if not _is_empty(row)]
    notes = _said(marks, first, len(cells) - first - len(body), path.name)
    arrays = [_column([cell_at(row, k) for row in body], n, path.name, notes) for k, n in head]
    table = pa.Table.from_arrays(arrays, names=[n for _, n in head])
    table = distinct_columns(table, path, notes)
    pair = None if sheets.asked().is_plain else table_geometry.numbers_of(table)
    if pair:
        points = table_geometry.from_numbers(table, *pair, path)
        notes.append(f"{path.name}: points taken from its columns {' and '.join(pair)}")
        own = [OfFamily(np.arange(table.num_rows), points)]
        return layers_of(path, own, table, None, None, notes, name)
    why = (
        "it is a sheet of a workbook without two columns of numbers such as x and y or lon and lat"
    )
    return table_of(path, table, why, notes, name)


def _is_empty(row: Sequence[Cell]) -> bool:
    return all(cell.value is None for cell in row)


def _said(marks: Marks, n_head: int, n_empty: int, file: str) -> list[str]:
    """Return notes on what a sheet has that is not in the values of its rows."""
    notes: list[str] = []
    if marks.unknown:
        n, which = counted(len(marks.unknown), "formula"), listed(marks.unknown, 3)
        words = (
            f"{n} without a result in the file ({which}), null there; open it in the program it "
        )
        notes.append(Warned(f"{file}: {words}is of, and save it"))
    merged = [area for area, last in marks.merged if last > n_head]
    if merged:
        n, which = counted(len(merged), "area"), listed(merged, 3)
        words = f"{n} of merged cells ({which}), of which the first alone has the value"
        notes.append(Warned(f"{file}: {words}; the others are null"))
    if n_empty:
        notes.append(f"{file}: {counted(n_empty, 'empty row')} left out")
    return notes


def _head(cells: list[list[Cell]], place: str) -> tuple[list[tuple[int, str]], int]:
    """Return the columns with their names, and the number of the first row below the head."""
    said = sheets.asked().header
    filled = [sum(value not in (None, "") for value, _ in row) for row in cells]
    at = said - 1 if said else next((k for k, n in enumerate(filled) if n), -1)
    if at < 0 or at >= len(cells):
        what = (
            f"it has {len(cells):,} rows, and `header` is {said}" if said else "no cell is filled"
        )
        raise DataError(f"{place} has no row of names: {what}")
    most = max(filled[at:], default=0)
    if not said and filled[at] == 1 and most > 1:
        likely = next(k for k, n in enumerate(filled) if n == most) + 1
        raise DataError(
            f"{place}: row {at + 1} has one cell, {str(cells[at][0][0] or '')[:40]!r}, and rows below "
            f"it have {most}, so it looks like a title; say which row has the names, as "
            f"`header` {likely}"
        )
    width = max((len(row) for row in cells[at:]), default=0)
    used = [k for k in range(width) if any(cell_at(row, k)[0] is not None for row in cells[at:])]
    return [(k, _name(cell_at(cells[at], k)[0], k)) for k in used], at + 1


def _name(value: Any, k: int) -> str:
    text = "" if value is None else re.sub(r"\s+", " ", re.sub(CONTROL, "", _text(value))).strip()
    return text or f"column_{k + 1}"


def _column(cells: list[Cell], name: str, file: str, notes: list[str]) -> pa.Array:
    n_errors = sum(isinstance(cell.value, ErrorValue) for cell in cells)
    if n_errors:
        shown = sorted({cell.value for cell in cells if isinstance(cell.value, ErrorValue)})
        what = f"{counted(n_errors, 'cell')} with an error in place of a value, {listed(shown, 3)}"
        notes.append(Warned(f"{file}: {name} has {what}; null there"))
        cells = [NOTHING if isinstance(cell.value, ErrorValue) else cell for cell in cells]
    values = [value for value, _ in cells]
    digits = max((n for _, n in cells), default=0)
    if digits:
        notes.append(f"{file}: {name} is shown with zeros in front, as codes are; read as text")
        return pa.array([_coded(*cell) for cell in cells], pa.string())
    kinds = {type(v) for v in values if v is not None}
    if not kinds or kinds == {str}:
        return pa.array(values, pa.string())
    if kinds == {bool}:
        return pa.array(values, pa.bool_())
    if kinds == {int} and all(v is None or -(2**63) <= v < 2**63 for v in values):
        return pa.array(values, pa.int64())
    if kinds <= {int, float}:
        large = [v for v in values if isinstance(v, int) and abs(v) > 2**53]
        if all(v < 1 << 1000 and int(float(v)) == v for v in map(abs, large)):
            return pa.array([None if v is None else float(v) for v in values], pa.float64())
        notes.append(
            f"{file}: {name} has whole numbers that no real number is, such as {large[0]}; read as text"
        )
    if kinds <= {datetime.datetime, datetime.date}:
        return _moments(values)
    texts = [None if v is None else _text(v) for v in values]
    n_texts = sum(isinstance(v, str) for v in values)
    if n_texts:
        notes.append(
            f"{file}: {name} holds {counted(n_texts, 'text')} and "
            f"{counted(sum(v is not None for v in values) - n_texts, 'other value')}; read as text"
        )
    return pa.array(texts, pa.string())


def _coded(value: Any, digits: int) -> str | None:
    if value is None:
        return None
    return f"{value:0{digits}d}" if digits else _text(value)


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, datetime.datetime) and value.time() == datetime.time():
        return value.date().isoformat()
    return value.isoformat() if isinstance(value, datetime.date) else str(value)


def _moments(values: list[Any]) -> pa.Array:
    """Return dates, or moments if one has a time of the day."""
    whole = [v if not isinstance(v, datetime.datetime) else v.date() for v in values]
    is_day = [not isinstance(v, datetime.datetime) or v.time() == datetime.time() for v in values]
    if all(is_day):
        return pa.array(whole, pa.date32())
    moments = [
        None if v is None else datetime.datetime.combine(v, datetime.time()) if day and not
        isinstance(v, datetime.datetime) else v
        for v, day in zip(values, is_day, strict=True)
    ]  # fmt: skip
    return pc.cast(pa.array(moments, pa.timestamp("ms")), pa.timestamp("ms", tz="UTC"))


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write tables as sheets of a new workbook, which takes the place of one of the same sheets.

    Of layers with geometry the fields are written, and that is said.

    Raises
    ------
    DataError
        If a sheet would be larger than sheets are, or of nothing, or others would be lost.
    FileError
        If it cannot be written.
    """
    notes: list[str] = []
    meant, declared = [], set[str]()
    if path.exists():
        with _opened(path, has_values=False) as there:
            others = [s.title for s in there.worksheets if s.title not in {y.name for y in layers}]
        if others:
            raise DataError(
                f"{path} has other sheets ({listed(others, 5)}), and a workbook is written anew as a "
                "whole; write to another file"
            )
    for layer in layers:
        if title_of(layer.name) != layer.name:
            raise DataError(
                f"{path}: {layer.name!r} cannot be the name of a sheet, which has {MOST_LETTERS} "
                f"letters at most and none of []:*?/\\; give it one, as "
                f"{path.name}#{title_of(layer.name)}"
            )
        if not layer.is_table:
            layer = _fields_alone(path, layer, notes)
        elif pair := table_geometry.numbers_of(layer.table):
            notes.append(Changed(f"{layer.name}: {' and '.join(pair)} will be read as geometry"))
        _check_size(path, layer)
        own, said = with_rows_told(_named(_writable(layer, notes, declared), notes))
        notes += said
        meant.append(own)
    with replacing(path) as temporary:
        write_tables(temporary, [(own.name, own.table, [], {}) for own in meant])
    return Written(notes, meant, Way(frozenset(declared), keeps_types=False))


def _fields_alone(path: Path, layer: Layer, notes: list[str]) -> Layer:
    """Return the table of a layer; a cell is too small for most geometry."""
    if not layer.table.num_columns:
        raise DataError(
            f"{path}: {layer.name} has geometry and no fields, and a workbook has no place for "
            "geometry. Write .csv, or another format"
        )
    if table_geometry.is_of_columns(layer.geometry, layer.table, path):
        if layer.crs is not None:
            notes.append(Changed(f"{layer.name}: a workbook does not say the CRS of its points"))
    else:
        what = "geometry left out, a workbook has no place for it; .csv holds it as WKT"
        notes.append(Lost(f"{layer.name}: {what}"))
    nothing = GeometryColumn.nulls(layer.n_rows)
    return replace(layer, geometry=nothing, no_geometry="a workbook has no place for it", crs=None)


def _check_size(path: Path, layer: Layer) -> None:
    n_columns = layer.table.num_columns
    if layer.n_rows >= MOST_ROWS or n_columns > MOST_COLUMNS:
        raise DataError(
            f"{path}: a sheet holds {MOST_ROWS - 1:,} rows below its head and {MOST_COLUMNS:,} "
            f"columns; {layer.name} has {layer.n_rows:,} and {n_columns:,}. Write .csv or "
            ".parquet instead"
        )
    for field in layer.table.schema:
        if pa.types.is_string(field.type):
            longest = pc.max(pc.utf8_length(layer.table.column(field.name))).as_py() or 0
            if longest > LONGEST:
                raise DataError(
                    f"{path}: a cell holds {LONGEST:,} characters; {layer.name}: field {field.name} "
                    f"has one of {longest:,}. Write .csv or .parquet instead"
                )


def _writable(layer: Layer, notes: list[str], declared: set[str]) -> Layer:
    """Return a table whose values cells can hold; what changes by that is said."""
    table = layer.table
    for k, field in enumerate(table.schema):
        column, where = table.column(k), f"{layer.name}: field {field.name}"
        own, note = cell_values(column, where)
        if note:
            notes.append(note)
            declared.add(field.name)
        table = table.set_column(k, pa.field(field.name, own.type), own)
    return replace(layer, table=table)


def _named(layer: Layer, notes: list[str]) -> Layer:
    """Return a table whose names are such as a head gives: no blanks about them, and each one."""
    names: list[str] = []
    for k, own in enumerate(layer.table.column_names):
        names.append(distinct_name(_name(own, k), set(names)))
        if names[-1] != own:
            notes.append(
                Changed(f"{layer.name}: field {own!r} is called {names[-1]} in a workbook")
            )
    return replace(layer, table=layer.table.rename_columns(names))
