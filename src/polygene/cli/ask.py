"""``polygene ask``."""

from __future__ import annotations

import click

from polygene.cli import options, outcome, recording, show
from polygene.cli.asked import Asked, asks


@recording.command()
@click.argument("input_", metavar="INPUT")
@click.argument("other", metavar="OTHER")
@options.where
@options.with_where
@options.crs
@asks(Asked, options.json, options.quiet)
def ask(asked: Asked, input_: str, other: str) -> None:
    """Tell what each overlay and relation of two layers would yield; nothing is written.

    For choosing by the result rather than by the name: all overlays are done, and thrown away.

    \b
    Example:
      polygene ask tolva.gpkg#sectors tolva.gpkg#beds_marram
    """
    from polygene.cli.words import looked
    from polygene.cli.words.blocks import Words
    from polygene.ops.ask import ask as ask_layers
    from polygene.reading import read_one, read_other

    say = Words()
    with show.progress(asked.quiet) as progress:
        layer, notes = read_one(input_, asked.choice(), progress)
        read = read_other(other, asked.other_choice(), progress, any_family=True)
        found = ask_layers(layer, read.layer, progress=progress)
    say.note(*notes, *read.notes, *found.notes)
    looked.asked(found, say)
    asked.tell(outcome.Outcome("ask", [found], say, is_looked_at=True))
