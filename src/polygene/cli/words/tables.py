"""What is told of tables, maps and recipes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from polygene.cli.words.common import counted_rows
from polygene.notes import counted, rounded
from polygene.table.telling import shown

if TYPE_CHECKING:
    from polygene.cli.facts import Drawn, PageMade, Tallied
    from polygene.cli.words.blocks import Words


def tallied(found: Tallied, say: Words, digits: int | None = None) -> None:
    names, keys = found["columns"], found["keys"]
    columns = {name: [row[name] for row in found["rows"]] for name in names}
    right = [
        k
        for k, name in enumerate(names)
        if _are_numbers([*columns[name], *([found["total"][name]] if k >= keys else [])])
    ]
    shows = {n: digits if digits is not None else 1 if n in found["shares"] else 2 for n in names}
    rows = [
        [
            *(_key(row[name]) for name in names[:keys]),
            *(_cell(row[name], shows[name]) for name in names[keys:]),
        ]
        for row in found["rows"]
    ]
    feet = [_cell(found["total"][name], shows[name]) for name in names[keys:]]
    totals = [found["total_name"], *([""] * (keys - 1)), *feet]
    if keys:
        rows.append(totals)
    say.table(names, rows, right=right, flexible=range(keys), has_total=keys > 0)
    for line in foot_of(found):
        say.note(line)


def foot_of(found: Tallied) -> list[str]:
    """Return the lines below a table: what counts nothing in it, and why."""
    of = f"of {counted_rows(found['features'], found['geometry'])}"
    return [
        f"{name}: {n:,} {of} without a value (null), which count nothing in it"
        for name, n in found["without_value"].items()
    ]


def _are_numbers(values: Sequence[Any]) -> bool:
    known = [v for v in values if v is not None]
    return bool(known) and all(
        isinstance(v, (int, float)) and not isinstance(v, bool) for v in known
    )


def _key(value: Any) -> str:
    """Return a value that rows are told apart by, with all its digits."""
    return f"{value!r}" if isinstance(value, float) else shown(value)


def _cell(value: Any, digits: int) -> str:
    if isinstance(value, float):
        return rounded(value, digits)
    if isinstance(value, int) and not isinstance(value, bool):
        return f"{value:,}"
    return shown(value)


def paged(found: PageMade, say: Words) -> None:
    say.title(f"page of {', '.join(found['layers'])}", counted(found["rows"], "row"))
    if found["left_out"]:
        say.line("left out", counted(found["left_out"], "row"))
    if found["problems"] is not None:
        say.line("problems", f"{found['problems']:,}" if found["problems"] else "none found")
    say.line("size", f"{found['bytes']:,} bytes, to be opened in any browser, offline")


def drawn(found: Drawn, say: Words) -> None:
    say.title(f"map of {', '.join(found['layers'])}", counted(found["features"], "feature"))
