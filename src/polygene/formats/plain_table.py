"""Tables for reports and spreadsheets, with a line of totals: CSV, Markdown, workbooks, Parquet."""

from __future__ import annotations

import csv
import datetime
import io
import re
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from polygene.classes import NamedTuple
from polygene.commit.together import replacing
from polygene.errors import UsageError
from polygene.formats import formulas
from polygene.formats.base import check_free
from polygene.formats.columns import table_without_zero_signs
from polygene.notes import rounded, visible

ENDINGS = (".csv", ".md", ".xlsx", ".parquet")


class Laid(NamedTuple):
    """A table as it is shown.

    totals : what stands in the last row, if there is one, behind ``n_keys`` columns of keys; the
        first of these then has ``total_name``
    digits : decimals of reals where they are shown to people; None for two
    shares : columns of per cent
    foot : lines below it
    """

    body: pa.Table
    totals: pa.Table | None
    n_keys: int
    total_name: str = "all"
    digits: int | None = None
    shares: Collection[str] = ()
    foot: Sequence[str] = ()

    def digits_of(self, name: str) -> int:
        """Return how many decimals a column is shown with."""
        return self.digits if self.digits is not None else 1 if name in self.shares else 2


def write(path: Path, laid: Laid, replaces: bool = False) -> list[str]:
    """Write a table in the format of the file's ending; totals go last, except into Parquet.

    Rounded are Markdown and what a workbook shows; values are whole in CSV, Parquet and in the cells
    of a workbook. Returns what there is to say about it.

    Raises
    ------
    UsageError
        If the ending is unknown.
    ExistsError
        If the file is there and is not to be replaced.
    FileError
        If it cannot be written.
    """
    if path.suffix.lower() not in ENDINGS:
        raise UsageError(
            f"{path} is no kind of table that is known; there are {', '.join(ENDINGS)}"
        )
    check_free(path, replaces)
    kind, n_formulas, notes = path.suffix.lower(), 0, list[str]()
    if kind == ".csv":
        body, notes = table_without_zero_signs(laid.body, path.stem)
        body, n_formulas = formulas.defused(body)
        laid = laid._replace(body=body)
    with replacing(path) as temporary:
        if kind == ".parquet":
            import pyarrow.parquet as pq  # 20 ms that no other table needs

            pq.write_table(laid.body, temporary)
        elif kind == ".xlsx":
            notes += _workbook(laid, path.stem, temporary)
        else:
            text = _csv(_rows(laid)) if kind == ".csv" else _markdown(laid)
            temporary.write_text(text, encoding="utf-8", newline="")
    return [*notes, *formulas.said(path.name, n_formulas)]


def _rows(laid: Laid) -> list[list[Any]]:
    columns = [column.to_pylist() for column in laid.body.columns]
    rows = [list(row) for row in zip(*columns, strict=True)]
    return [laid.body.column_names, *rows, *_last(laid)]


def _last(laid: Laid) -> list[list[Any]]:
    if laid.totals is None:
        return []
    last = [column[0].as_py() for column in laid.totals.columns]
    last[: laid.n_keys] = [laid.total_name, *[None] * (laid.n_keys - 1)]
    return [last]


def _workbook(laid: Laid, name: str, path: Path) -> list[str]:
    from polygene.formats import sheet_writing

    notes, columns = [], []
    for field, column in zip(laid.body.schema, laid.body.columns, strict=True):
        values, note = sheet_writing.cell_values(column, f"{name}: {field.name}")
        notes += [note] if note else []
        columns.append(values)
    table = pa.table(columns, laid.body.column_names)
    formats = {
        f.name: "#,##0" + ("." + "0" * laid.digits_of(f.name) if laid.digits_of(f.name) else "")
        for f in laid.body.schema
        if pa.types.is_floating(f.type)
    }
    foot = [[line] for line in laid.foot]
    last = [*_last(laid), *([[]] if foot else []), *foot]
    sheet_writing.write_tables(path, [(name, table, last, formats)])
    return notes


def _plain(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (datetime.date, datetime.datetime)):
        return value.isoformat()
    return repr(value) if isinstance(value, float) else str(value)


def _csv(rows: list[list[Any]]) -> str:
    text = io.StringIO()
    csv.writer(text, lineterminator="\r\n").writerows([[_plain(v) for v in row] for row in rows])
    return text.getvalue()


def _markdown(laid: Laid) -> str:
    body, rows = laid.body, _rows(laid)
    digits = [
        None if k < laid.n_keys else laid.digits_of(n) for k, n in enumerate(body.column_names)
    ]

    def cell(value: Any, digits: int | None = None) -> str:
        if isinstance(value, float):
            return repr(value) if digits is None else rounded(value, digits)
        # Without digits it is what rows are told apart by.
        if digits is not None and isinstance(value, int) and not isinstance(value, bool):
            return f"{value:,}"
        text = re.sub(r"\r\n?|\n", " ", _plain(value))  # all of these end a line of Markdown
        return visible(text).replace("|", "\\|")

    rules = [
        "---:" if pa.types.is_integer(f.type) or pa.types.is_floating(f.type) else "---"
        for f in body.schema
    ]
    cells = [list(map(cell, row, digits)) for row in rows[1:]]
    lines = [list(map(cell, rows[0])), rules, *cells]
    table = "".join(f"| {' | '.join(cells)} |\n" for cells in lines)
    return table + "".join(f"\n{line}\n" for line in laid.foot)
