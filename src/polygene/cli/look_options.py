"""Options that say how layers look, of `draw` and of `page`."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import click

_LOOKS = (
    click.option(
        "--colour-by", multiple=True, metavar="[LAYER.]FIELD", help="Classes of colour by a field."
    ),
    click.option(
        "--label", multiple=True, metavar="[LAYER.]FIELD", help="Write a field on features."
    ),
    click.option("--hatch", multiple=True, metavar="LAYER", help="Draw this layer hatched."),
    click.option("--outline", multiple=True, metavar="LAYER", help="Draw only its borders."),
    click.option(
        "--classes", type=click.IntRange(2, 7), default=5, help="Of numbers and dates: how many."
    ),
    click.option(
        "--breaks",
        type=click.Choice(["quantile", "equal"]),
        default="quantile",
        show_default=True,
        help="Of these: as many features in each class, or as wide a range.",
    ),
    click.option("--style", metavar="SHEET", help="Looks of layers as a style sheet has them."),
)


def look_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options, in the order above; the command passes them on as they are, as ``looks``."""
    for add in reversed(_LOOKS):
        command = add(command)
    return command
