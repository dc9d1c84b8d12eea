"""What is told of tables, maps and recipes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from polygene.cli.facts import Drawn, Tallied
from polygene.cli.words.blocks import Words, shown
from polygene.notes import counted


def tallied(found: Tallied, say: Words) -> None:
    names, keys = found["columns"], found["keys"]
    columns = {name: [row[name] for row in found["rows"]] for name in names}
    right = [
        k
        for k, name in enumerate(names)
        if _are_numbers([*columns[name], *([found["total"][name]] if k >= keys else [])])
    ]
    rows = [[_cell(row[name]) for name in names] for row in found["rows"]]
    totals = ["all", *([""] * (keys - 1)), *(_cell(found["total"][name]) for name in names[keys:])]
    say.table(names, [*rows, totals], right=right, flexible=range(keys), has_total=True)


def _are_numbers(values: Sequence[Any]) -> bool:
    known = [v for v in values if v is not None]
    return bool(known) and all(
        isinstance(v, (int, float)) and not isinstance(v, bool) for v in known
    )


def _cell(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:,.2f}"
    if isinstance(value, int) and not isinstance(value, bool):
        return f"{value:,}"
    return shown(value)


def drawn(found: Drawn, say: Words) -> None:
    say.title(f"map of {', '.join(found['layers'])}", counted(found["features"], "feature"))
