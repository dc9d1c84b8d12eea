"""``polygene compare``."""

from __future__ import annotations

import sys

import click

from polygene.cli import options, outcome
from polygene.cli.asked import Asked, asks


@options.command()
@click.argument("first")
@click.argument("second")
@click.option("--key", metavar="FIELD", help="A field that names the features of both.")
@options.where
@options.crs
@click.option("--strict", is_flag=True, help="End with exit code 1 if anything differs.")
@asks(Asked, options.json)
def compare(asked: Asked, first: str, second: str, key: str | None, strict: bool) -> None:
    """Set two layers side by side: features, area or length, extent, CRS, fields.

    With --key, also which features were added, removed, or changed in geometry or attributes.

    \b
    Example:
      polygene compare tolva.gpkg#beds_marram tolva.gpkg#beds_kelda
    """
    from polygene.cli.words import looked
    from polygene.cli.words.blocks import Words
    from polygene.ops.compare import compare as compare_layers
    from polygene.reading import read_one

    say, layers = Words(), []
    for text in (first, second):
        layer, notes = read_one(
            text, asked.choice(takes_tables=True), role="each side of a comparison"
        )
        layers.append(layer)
        say.note(*notes)
    found = compare_layers(layers[0], layers[1], key)
    looked.compared(found, say)
    asked.tell(outcome.Outcome("compare", [found], say, is_looked_at=True))
    if strict and found.differs:
        sys.exit(1)
