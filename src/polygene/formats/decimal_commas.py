"""Numbers of tables with a comma in front of their decimals, as most of Europe writes them."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa

from polygene import computing as pc
from polygene.errors import listed
from polygene.table.written import numbers_in

_NUMBER = r"^\s*[-+]?(0|[1-9][0-9]*)(,[0-9]+)?\s*$"
_THOUSANDS = r"^\s*[-+]?[1-9][0-9]{0,2}(,[0-9]{3})+\s*$"


def as_numbers(texts: pa.ChunkedArray, may_be_thousands: bool = True) -> pa.ChunkedArray | None:
    """Return texts that are numbers with decimal commas as real numbers; None if they are not.

    Where each comma could as well part thousands (``1,500``), they are not unless it may be no such.
    """
    blank = pc.equal(pc.utf8_trim_whitespace(texts), "")
    texts = pc.if_else(blank, pa.scalar(None, pa.string()), texts)
    has_comma = pc.match_substring(texts, ",")
    if not pc.any(has_comma).as_py():
        return None
    if not pc.all(pc.match_substring_regex(texts, _NUMBER)).as_py():
        return None
    if may_be_thousands:
        looks_so = pc.match_substring_regex(texts, _THOUSANDS)
        if pc.all(pc.or_(looks_so, pc.invert(has_comma))).as_py():
            return None
    found = numbers_in(pc.replace_substring(texts, ",", "."))
    return None if found.is_between.any() else found.real


def with_decimals(table: pa.Table, path: Path, notes: list[str]) -> pa.Table:
    """Return a table whose columns of numbers with decimal commas are of numbers; which, is told."""
    found = []
    for k, field in enumerate(table.schema):
        numbers = as_numbers(table.column(k)) if pa.types.is_string(field.type) else None
        if numbers is not None:
            table = table.set_column(k, pa.field(field.name, pa.float64()), numbers)
            found.append(field.name)
    if found:
        notes.append(f"{path.name}: read with decimal commas: {listed(found, 5)}")
    return table
