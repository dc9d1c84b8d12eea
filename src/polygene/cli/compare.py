"""``polygene compare``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, overlay, show

if TYPE_CHECKING:
    from polygene.ops.compare import Changes, Comparison


@options.command()
@click.argument("first")
@click.argument("second")
@click.option("--key", metavar="FIELD", help="A field that names the features of both.")
@options.where
@options.crs
@click.option("--strict", is_flag=True, help="End with exit code 1 if anything differs.")
@options.json
def compare(
    first: str,
    second: str,
    key: str | None,
    where: Any,
    crs: str | None,
    strict: bool,
    as_json: bool,
) -> None:
    """Set two layers side by side: features, area or length, extent, CRS, fields.

    With --key, also which features were added, removed, or changed in geometry or attributes.

    \b
    Example:
      polygene compare tolva.gpkg#beds_marram tolva.gpkg#beds_kelda
    """
    from polygene import batch
    from polygene.crs import parse
    from polygene.ops.compare import compare as compare_layers

    choice = batch.Choice(where, parse(crs) if crs else None)
    layers, notes = [], []
    for text in (first, second):
        layer, more = batch.read_one(text, choice, role="each side of a comparison")
        layers.append(layer)
        notes += more
    found = compare_layers(layers[0], layers[1], key)
    notes += found.notes
    show.facts("compare", lambda: [found], as_json, notes=notes)
    if not as_json:
        _print(found)
        for text in dict.fromkeys(notes):
            show.note(text)
    if strict and found.differs:
        sys.exit(1)


def _print(found: Comparison) -> None:
    from polygene.units import worded

    one, other = found.first, found.second
    show.title(f"{one.name} and {other.name}")
    names = (one.name, other.name) if one.name != other.name else ("first", "second")
    sizes = (
        worded([one.size, other.size], one.unit)
        if one.unit == other.unit
        else [worded([side.size], side.unit)[0] for side in (one, other)]
    )
    rows = [
        ["features", f"{one.features:,}", f"{other.features:,}"],
        ["without geometry", f"{one.without_geometry:,}", f"{other.without_geometry:,}"],
        ["kind", one.family, other.family],
        ["vertices", f"{one.vertices:,}", f"{other.vertices:,}"],
        ["size", *sizes],
        ["south-west", *(_corner(side.extent, 0) for side in (one, other))],
        ["north-east", *(_corner(side.extent, 2) for side in (one, other))],
        ["CRS", *(side.crs.split()[0] for side in (one, other))],
    ]
    table = [[*row, "" if row[1] == row[2] else "differs"] for row in rows]
    show.table(["", *names, ""], table, flexible=(1, 2))
    click.echo()
    head = ["field", *names]
    cells = [[f.name, f.first or "·", f.second or "·"] for f in found.fields]
    if found.changes is not None:
        head.append("changed in")
        for cell, field in zip(cells, found.fields, strict=True):
            cell.append("" if field.changed is None else f"{field.changed:,}")
    show.table(head, cells, right=[3], flexible=(1, 2))
    if found.changes is not None:
        click.echo()
        _print_changes(found.changes, *names)


def _print_changes(changes: Changes, first: str, second: str) -> None:
    wide = max(18, len(first) + 9, len(second) + 9)
    for words, rows in (
        (f"only in {first}", changes.removed),
        (f"only in {second}", changes.added),
        ("other geometry", changes.geometry),
        ("other attributes", changes.attributes),
    ):
        text = f"{show.counted(rows.count, 'feature')}"
        if rows.count:
            text += f": {overlay.named(rows)}"
        show.line(words, text, wide=wide)
    show.line("the same", show.counted(changes.same, "feature"), wide=wide)


def _corner(extent: Any, at: int) -> str:
    return "·" if extent is None else f"{extent[at]:.10g} {extent[at + 1]:.10g}"
