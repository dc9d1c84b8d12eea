"""Text that a spreadsheet would run when it opens a table: shown as text, and said.

A text that begins with ``=``, ``+``, ``-``, ``@``, a tab or a carriage return gets an apostrophe in
front, unless it is made of digits and the signs of numbers, times and telephones only.
"""

from __future__ import annotations

import pyarrow as pa

from polygene import computing as pc
from polygene.formats.wishes import wish

_BEGINS = r"^[=+\-@\t\r]"
_HARMLESS = r"^[+\-]?[0-9][0-9 .,:/()\-TZ]*([eE][+\-]?[0-9]+)?$"


def defused(table: pa.Table) -> tuple[pa.Table, int]:
    """Return a table whose texts and names are no formulas, and how many of them were."""
    if wish().is_raw:
        return table, 0
    names, count = _defused(pa.chunked_array([pa.array(table.column_names, pa.string())]))
    columns = []
    for column in table.columns:
        if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
            column, own = _defused(column)
            count += own
        columns.append(column)
    return (pa.table(columns, names.to_pylist()), count) if count else (table, 0)


def _defused(texts: pa.ChunkedArray) -> tuple[pa.ChunkedArray, int]:
    begins = pc.match_substring_regex(texts, _BEGINS)
    if not pc.any(begins).as_py():
        return texts, 0
    is_one = pc.and_not(begins, pc.match_substring_regex(texts, _HARMLESS))
    return (
        pc.if_else(is_one, pc.binary_join_element_wise("'", texts, ""), texts),
        pc.sum(is_one).as_py() or 0,
    )


def said(name: str, count: int) -> list[str]:
    """Return what there is to say about texts that were defused."""
    if not count:
        return []
    are = "text that a spreadsheet runs has" if count == 1 else "texts that a spreadsheet runs have"
    return [f"{name}: {count:,} {are} an apostrophe in front; `raw` writes them as they are"]
