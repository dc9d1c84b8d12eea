"""``polygene lineage``."""

from __future__ import annotations

import sys
import textwrap
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, show

if TYPE_CHECKING:
    from polygene.lineage import Lineage, Node


@options.command()
@options.inputs
@click.option("--sources", is_flag=True, help="A table of what it was made of, and whom to credit.")
@click.option("--diagram", metavar="FILE", help="Draw it: an .svg file.")
@options.replace
@click.option("--json", "as_json", is_flag=True, help="Print it as W3C PROV in JSON, in results.")
def lineage(
    inputs: tuple[str, ...], sources: bool, diagram: str | None, replace: bool, as_json: bool
) -> None:
    """Tell how a layer came about: its sources, the steps with their options, the credits.

    \b
    Examples:
      polygene lineage result.gpkg#quiet_zones
      polygene lineage result.gpkg#quiet_zones --sources
    """
    found = _read(inputs)
    if diagram is not None and len(found) > 1:
        raise click.UsageError("--diagram draws one layer")
    show.facts("lineage", lambda: [dict(own.document) for own in found], as_json)
    if as_json:
        return
    for k, own in enumerate(found):
        if diagram is not None:
            _draw(own, Path(diagram), replace)
            continue
        if k:
            click.echo()
        (_print_sources if sources else _print_story)(own)


def _read(inputs: tuple[str, ...]) -> list[Lineage]:
    """Return the lineage of each layer; of those that keep none, that they are sources."""
    from polygene.formats import address
    from polygene.record import INPUT, Record

    record = Record("lineage", {})
    for ref in dict.fromkeys(ref for text in inputs for ref in address.resolve(text)):
        record.note(ref, address.read(ref).layers, INPUT)
    return [own for _, own in record.used]


def _print_story(own: Lineage) -> None:
    from polygene.lineage import credits_of, history

    root = history(own)
    show.title(root.made.name, root.made.place)
    rows: list[list[str]] = []
    _tell(root, "", 0, rows)
    head = ["layer", "how", "features", "when"]
    # Nothing of how it was done is cut off: what does not fit goes on below.
    taken = sum(max(len(row[k]) for row in [head, *rows]) for k in (0, 2, 3)) + 4 * len(show.GAP)
    room = max(24, show.width_of(sys.stdout) - taken)
    wrapped = []
    for name, how, features, when in rows:
        first, *rest = textwrap.wrap(how, room, subsequent_indent="  ") or [""]
        wrapped += [[name, first, features, when], *(["", text, "", ""] for text in rest)]
    show.table(head, wrapped, right=[2], flexible=[0])
    click.echo()
    for text in credits_of(own):
        show.line("credit", text)
    if not root.command:
        show.line("lineage", "none is kept in it, so it is a source itself")


def _tell(node: Node, role: str, depth: int, rows: list[list[str]]) -> None:
    how = described(node)
    if node.repeated:
        how += ", as told above"
    when = node.when.replace("T", " ").removesuffix("Z")[:16]
    mark = "with " if role == "OTHER" else ""
    rows.append([f"{'  ' * depth}{mark}{node.made.name}", how, f"{node.made.features:,}", when])
    for below_role, below in node.used:
        _tell(below, below_role, depth + 1, rows)


def described(node: Node) -> str:
    """Say how a layer came about: the command with its options, or the file it was read from."""
    if not node.command:
        return node.made.place
    words = [node.command]
    for key, value in node.options.items():
        if value is True:
            words.append(f", {key}")
        else:
            texts = [str(v) for v in value] if isinstance(value, (list, tuple)) else [str(value)]
            words.append(f", {key} {' and '.join(texts)}")
    return "".join(words)


def _print_sources(own: Lineage) -> None:
    from polygene.lineage import credits_of, sources

    found = sources(own)
    show.title(f"{own.this.get('dct:title', '?')}", show.counted(len(found), "source"))
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
    show.table(head, rows, right=[2], flexible=[1, 5])
    click.echo()
    for text in credits_of(own):
        show.line("credit", text)


def _draw(own: Lineage, path: Path, replaces: bool) -> None:
    from polygene.draw.diagram import diagram
    from polygene.errors import ExistsError, UsageError
    from polygene.formats.base import replacing

    if path.suffix.lower() != ".svg":
        raise UsageError(f"{path} is no .svg file")
    if path.exists() and not replaces:
        raise ExistsError(f"{path} exists; --replace overwrites it")
    with replacing(path) as temporary:
        temporary.write_text(diagram(*parts_of_diagram(own)) + "\n", encoding="utf-8")
    show.line("written", str(path), sys.stderr)


def parts_of_diagram(own: Lineage) -> tuple[list[Any], list[Any]]:
    """Return the boxes and arrows of a lineage."""
    from polygene.draw.diagram import Arrow, Box
    from polygene.lineage import history, nodes

    root = history(own)
    found = nodes(root)[::-1]
    boxes = [
        Box(
            node.key,
            node.made.name,
            described(node),
            "source" if not node.command else "result" if node.key == root.key else "step",
        )
        for node in found
    ]
    arrows = [
        Arrow(below.key, node.key, role == "OTHER") for node in found for role, below in node.used
    ]
    return boxes, arrows
