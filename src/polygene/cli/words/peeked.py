"""What peek tells: fields with their values, and rows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from polygene.cli.words.blocks import Fields, Words
from polygene.info import NO_GEOMETRY
from polygene.notes import counted
from polygene.table.telling import held, shown

if TYPE_CHECKING:
    from polygene.cli.facts import Peeked


def peeked(facts: Peeked, say: Words) -> None:
    is_table = facts["geometry"] == NO_GEOMETRY
    thing = "row" if is_table else "feature"
    count = counted(facts["features"], thing)
    if facts["features"] != facts["of"]:
        count = f"{facts['features']:,} of {facts['of']:,} {thing}s"
    kind = f"{count} without geometry" if is_table else f"{facts['geometry']}, {count}"
    say.title(f"{facts['file']}#{facts['layer']}", kind)
    if facts["null geometry"]:
        say.line("geometry", f"{facts['null geometry']:,} null")
    if facts["empty geometry"]:
        say.line("geometry", f"{facts['empty geometry']:,} empty")
    if not is_table:
        say.line("CRS", facts["crs"])
    say.gap()
    if "distinct" in facts:
        values = facts["distinct"]
        rows = [[shown(v["value"]), f"{v['count']:,}"] for v in values]
        say.table([facts["field"], f"{thing}s"], rows, right=[1], flexible=[0])
        say.gap()
        say.line("values", f"{len(values):,} different")
        return
    rows = [[f.name, f.type, f"{f.nulls:,}", held(f)] for f in facts["fields"]]
    say.table(["field", "type", "nulls", "values"], rows, right=[2], flexible=[3, 0])
    say.gap()
    _rows(facts["rows"], facts["sorted by"], say)


def _rows(rows: list[dict[str, Any]], sort: str | None, say: Words) -> None:
    if not rows:
        say.line("rows", "none")
        return
    cells = {name: [shown(row[name]) for row in rows] for name in rows[0]}
    numeric = {
        name
        for name in cells
        if all(isinstance(row[name], (int, float, type(None))) for row in rows)
    }
    say.blocks.append(Fields(list(cells), cells, frozenset(numeric), sort))
