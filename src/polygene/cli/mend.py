"""``polygene mend``."""

from __future__ import annotations

from typing import Any

import click

from polygene.cli import each, options, recording
from polygene.cli.asked import Asked, work_on_each


@recording.command()
@click.option("--drop-empty", is_flag=True, help="Leave out features of which nothing is left.")
@click.option(
    "--coverage",
    type=options.DistanceType(),
    metavar="WIDTH",
    help="Close gaps and take away overlaps between features that are narrower than this.",
)
@click.option(
    "--prefer",
    type=click.Choice(["first", "last", "largest", "smallest"]),
    default="first",
    show_default=True,
    help="With --coverage: which feature an overlap goes to.",
)
@each.common_mending
@options.precision
def mend(asked: Asked, drop_empty: bool, coverage: Any, prefer: Any, precision: Any) -> None:
    """Make invalid polygons valid, and say what changed.

    Where an outline crosses itself, what it goes round twice counts as outside; a feature covers what
    any of its parts covers. What is valid stays bit for bit. With --coverage narrow gaps go to the
    feature that they border most, narrow overlaps to one of those that share them.

    \b
    Examples:
      polygene mend 'tolva.gpkg#beds_*' -o mended.gpkg
      polygene mend tolva.gpkg#sectors --coverage 1m -o sectors.gpkg
    """
    from polygene.growing.calls import Call

    told = {
        "drop_empty": drop_empty,
        "coverage": coverage,
        "prefer": prefer,
        "precision": precision,
    }
    work_on_each("mend", asked, Call("mend", "polygene.ops.mend", "mend", told))
