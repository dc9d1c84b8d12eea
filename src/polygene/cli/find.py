"""``polygene find``."""

from __future__ import annotations

import sys

import click

from polygene.cli import options, outcome, recording


@recording.command()
@click.argument("words", metavar="WORD...", nargs=-1, required=True)
@options.json
def find(words: tuple[str, ...], as_json: bool) -> None:
    """Tell what a word or phrase of the trade is called here.

    The answer is a command, filled in with layers of this folder where it can be. What Polygene does
    not do it says as well.

    \b
    Examples:
      polygene find identity
      polygene find split roads by district and keep the rest
    """
    from polygene.cli.facts import Found
    from polygene.cli.filling import filled, layers_here
    from polygene.cli.words import listing
    from polygene.cli.words.blocks import Words
    from polygene.finding import find as find_entries

    asked = " ".join(words)
    here = layers_here()
    answers: list[Found] = [
        {
            "command": entry.command,
            "sentence": entry.sentence,
            "example": filled(entry.example, asked, here),
        }
        for entry in find_entries(asked)
    ]
    say = Words()
    listing.answered(asked, answers, say)
    outcome.tell(outcome.Outcome("find", answers, say, is_looked_at=True), as_json)
    if not answers:
        sys.exit(1)
