"""What is told of a merge, and of a proposal for one."""

from __future__ import annotations

from typing import TYPE_CHECKING

from polygene.notes import counted
from polygene.phrases import bridge

if TYPE_CHECKING:
    from polygene.cli.facts import SheetDrafted
    from polygene.cli.words.blocks import Words
    from polygene.ops.merge import MergeSummary


def merged(summary: MergeSummary, say: Words) -> None:
    names = list(summary.sources)
    say.title(f"{counted(len(names), 'layer')} merged")
    for name, (taken, total) in summary.sources.items():
        say.line("INPUT", f"{name}: {taken:,} of {counted(total, 'feature')}")
    say.line("came out", counted(summary.out, "feature"))
    say.gap()
    rows = []
    for field in summary.fields:
        fed = [field.sources.get(name, "·") for name in names]
        lost = sum(field.lost.values())
        rows.append([field.name, field.type, *fed, f"{lost:,}" if lost else ""])
    head = ["field", "type", *names, "did not fit"]
    if not any(row[-1] for row in rows):
        head, rows = head[:-1], [row[:-1] for row in rows]
    say.table(head, rows, flexible=range(2, 2 + len(names)))
    say.gap()
    for name, fields in summary.unused.items():
        say.line("not used", f"{name}: {', '.join(fields)}")
    say.line("CRS", summary.crs)
    say.note(*(bridge(facts, names[0]) for facts in summary.brought), *summary.notes)


def proposed(draft: SheetDrafted, say: Words) -> None:
    names = draft["layers"]
    say.title(f"proposal for {' and '.join(names)}")
    rows = [
        [
            one["field"],
            *(" + ".join(one["sources"].get(name, ["·"])) for name in names),
            one["type"],
            f"{one['confidence']:.2f}",
        ]
        for one in draft["proposed"]
        if len(one["sources"]) > 1
    ]
    rows.sort(key=lambda row: row[-1], reverse=True)
    head = ["field", *names, "type", "confidence"]
    if rows:
        say.table(head, rows, right=[len(head) - 1], flexible=range(1, len(head) - 2))
        say.gap()
    for name, fields in draft["alone"].items():
        say.line("only in", f"{name}: {', '.join(fields)}")
