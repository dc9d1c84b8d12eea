"""``polygene union``."""

from __future__ import annotations

import click

from polygene.cli import options, overlays, recording
from polygene.cli.asked import OverlayAsked


@recording.command()
@click.option(
    "--with",
    "with_",
    metavar="OTHER",
    multiple=True,
    help="A layer of polygons; several are possible, none lays INPUT over itself.",
)
@options.origins
@overlays.common
def union(asked: OverlayAsked, with_: tuple[str, ...], origins: bool) -> None:
    """Keep all pieces of INPUT and OTHER, each with the attributes of what covers it.

    A row for each combination of features that meet, and for what lies in one layer only, with nulls
    in the fields of the others. Without --with, the pieces of INPUT's own overlaps: each feature gets
    the shared piece as a row of its own.

    \b
    Example:
      polygene union tolva.gpkg#sectors --with tolva.gpkg#beds_kelda -o zones.gpkg
    """
    if asked.with_where is not None and not with_:
        raise click.UsageError("--with-where needs --with OTHER")
    from polygene.ops.union import union as unite_layers

    overlays.run("union", unite_layers, asked, with_, origins=origins)
