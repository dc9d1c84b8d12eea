"""``polygene draw``."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import click

from polygene.cli import options, outcome, recording, show
from polygene.cli.asked import Asked, asks
from polygene.cli.look_options import look_options


@recording.command()
@options.inputs
@look_options
@click.option("--keep-style", metavar="SHEET", help="Keep the looks of this map in a style sheet.")
@click.option(
    "--beside", multiple=True, metavar="LAYER", help="Draw this layer in a second map beside."
)
@click.option("--title", default="", help="What stands above the map.")
@click.option("--credit", help="What stands below it; that of the layers' lineage if not given.")
@options.box
@options.box_crs
@options.where
@click.option("-o", "--out", required=True, metavar="FILE", help="A .png, .svg or .pdf file.")
@asks(Asked, options.replace, options.crs, options.dry_run, options.json, options.quiet)
def draw(
    asked: Asked,
    keep_style: str | None,
    beside: tuple[str, ...],
    title: str,
    credit: str | None,
    box: Any,
    box_crs: str | None,
    **looks: Any,
) -> None:
    """Draw a map of layers, the first at the bottom, in the CRS of the first.

    \b
    Example:
      polygene draw tolva.gpkg#sectors tolva.gpkg#islands tolva.gpkg#buoys \\
        --colour-by sectors.district_name --title "Tolva Sound" -o sound.png
      polygene draw tolva.gpkg#sectors --beside tolva.gpkg#beds_marram -o two.png
    """
    if box_crs is not None and box is None:
        raise click.UsageError("--box-crs needs --box")
    from polygene.cli.facts import Drawn
    from polygene.cli.words.blocks import Words
    from polygene.cli.words.tables import drawn
    from polygene.formats.base import check_free
    from polygene.phrases import bridge
    from polygene.pictures.drawing import draw as draw_layers
    from polygene.reading import box_of, read_all

    began = time.monotonic()
    out = str(asked.out)
    check_free(Path(out), asked.replace)  # fail now rather than after the work
    say = Words()
    with show.progress(asked.quiet) as progress:
        layers, notes = read_all(asked.inputs, asked.choice())
        others, more = read_all(beside, asked.choice())
        found = draw_layers(
            layers,
            out,
            beside=others,
            keep_style=keep_style,
            title=title,
            credit=credit,
            box=None if box is None else box_of(box, box_crs, layers[0]),
            replace=asked.replace,
            is_dry=asked.dry_run,
            progress=progress,
            **looks,
        )
    facts = Drawn(
        written=None if asked.dry_run else out, layers=found.layers, features=found.features
    )
    drawn(facts, say)
    say.note(*notes, *more, *(bridge(way, found.layers[0]) for way in found.brought), *found.notes)
    seconds = time.monotonic() - began
    asked.tell(outcome.Outcome("draw", [facts], say, out, seconds=seconds, is_dry=asked.dry_run))
