"""What is told of how layers came about."""

from __future__ import annotations

from polygene.cli.words.blocks import Story, Words
from polygene.notes import counted
from polygene.provenance import Lineage, Node, credits_of, described, history
from polygene.provenance import sources as sources_of


def story(own: Lineage, say: Words) -> None:
    root = history(own)
    say.title(root.made.name, root.made.place)
    rows: list[list[str]] = []
    _tell(root, "", 0, rows)
    say.blocks.append(Story(["layer", "how", "features", "when"], rows, right=[2]))
    say.gap()
    for text in credits_of(own):
        say.line("credit", text)
    if not root.command:
        say.line("lineage", "none is kept in it, so it is a source itself")


def _tell(node: Node, role: str, depth: int, rows: list[list[str]]) -> None:
    how = described(node)
    if node.repeated:
        how += ", as told above"
    when = node.when.replace("T", " ").removesuffix("Z")[:16]
    mark = "with " if role == "OTHER" else ""
    rows.append([f"{'  ' * depth}{mark}{node.made.name}", how, f"{node.made.features:,}", when])
    for below_role, below in node.used:
        _tell(below, below_role, depth + 1, rows)


def sources(own: Lineage, say: Words) -> None:
    found = sources_of(own)
    say.title(f"{own.this.get('dct:title', '?')}", counted(len(found), "source"))
    rows = [
        [
            made.name,
            made.place,
            f"{made.features:,}",
            made.crs.split(" ")[0],
            made.checksum[:12],
            " · ".join(t for t in (made.credit, made.licence) if t),
        ]
        for made in found
    ]
    head = ["layer", "file", "features", "CRS", "SHA-256", "credit"]
    say.table(head, rows, right=[2], flexible=[1, 5])
    say.gap()
    for text in credits_of(own):
        say.line("credit", text)
