"""Tables without geometry, for reports and spreadsheets: CSV, Markdown, Parquet."""

from __future__ import annotations

import csv
import datetime
import io
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

from polygene.commit.together import replacing
from polygene.errors import UsageError
from polygene.formats import formulas
from polygene.formats.base import check_free

ENDINGS = (".csv", ".md", ".parquet")


def write(
    path: Path, body: pa.Table, totals: pa.Table | None, n_keys: int, replaces: bool = False
) -> list[str]:
    """Write a table in the format of the file's ending; totals go last, except into Parquet.

    Returns what there is to say about it.

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
    n_formulas = 0
    if path.suffix.lower() == ".csv":
        body, n_formulas = formulas.defused(body)
    with replacing(path) as temporary:
        if path.suffix.lower() == ".parquet":
            pq.write_table(body, temporary)
        else:
            rows = _rows(body, totals, n_keys)
            text = _csv(rows) if path.suffix.lower() == ".csv" else _markdown(rows, body)
            temporary.write_text(text, encoding="utf-8", newline="")
    return formulas.said(path.name, n_formulas)


def _rows(body: pa.Table, totals: pa.Table | None, n_keys: int) -> list[list[Any]]:
    columns = [column.to_pylist() for column in body.columns]
    rows = [list(row) for row in zip(*columns, strict=True)]
    if totals is not None:
        last = [column[0].as_py() for column in totals.columns]
        last[:n_keys] = ["all", *[None] * (n_keys - 1)]
        rows.append(last)
    return [body.column_names, *rows]


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


def _markdown(rows: list[list[Any]], body: pa.Table) -> str:
    def cell(value: Any) -> str:
        if isinstance(value, float):
            return f"{value:,.2f}"
        if isinstance(value, int) and not isinstance(value, bool):
            return f"{value:,}"
        return _plain(value).replace("|", "\\|").replace("\n", " ")

    rules = [
        "---:" if pa.types.is_integer(f.type) or pa.types.is_floating(f.type) else "---"
        for f in body.schema
    ]
    lines = [[cell(v) for v in rows[0]], rules, *([cell(v) for v in row] for row in rows[1:])]
    return "".join(f"| {' | '.join(cells)} |\n" for cells in lines)
