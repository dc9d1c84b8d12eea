"""``polygene page``."""

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
@click.option(
    "--before", multiple=True, metavar="LAYER", help="Lay this beside, with a divider to move."
)
@look_options
@click.option("--title", default="", help="What stands above; the layers' names if not given.")
@click.option("--credit", help="What stands below it; that of the layers' lineage if not given.")
@click.option("--problems", is_flag=True, help="List what audit finds, each with its place.")
@click.option(
    "--most",
    type=click.IntRange(1),
    metavar="ROWS",
    help="Rows of each layer; 250,000 if not given.",
)
@options.box
@options.box_crs
@options.where
@click.option("-o", "--out", required=True, metavar="FILE", help="An .html file.")
@asks(Asked, options.replace, options.crs, options.dry_run, options.json, options.quiet)
def page(
    asked: Asked,
    before: tuple[str, ...],
    title: str,
    credit: str | None,
    problems: bool,
    most: int | None,
    box: Any,
    box_crs: str | None,
    **looks: Any,
) -> None:
    """Write one page of HTML to look at layers: map, table and problems, linked.

    It opens in any browser, without a network or a server, and can be mailed.

    \b
    Examples:
      polygene page tolva.gpkg#sectors tolva.gpkg#buoys -o look.html \\
        --colour-by sectors.district_name --problems
      polygene page tolva.gpkg#beds_kelda --before tolva.gpkg#beds_marram \\
        -o look.html
    """
    if box_crs is not None and box is None:
        raise click.UsageError("--box-crs needs --box")
    from polygene.cli.facts import PageMade
    from polygene.cli.words.blocks import Words
    from polygene.cli.words.tables import paged
    from polygene.formats.base import check_free
    from polygene.pages.making import page as make_page
    from polygene.pages.viewing import MOST_ROWS
    from polygene.phrases import bridge
    from polygene.reading import box_of, first_of, read_all

    began = time.monotonic()
    out = str(asked.out)
    check_free(Path(out), asked.replace)  # fail now rather than after the work
    say = Words()
    with show.progress(asked.quiet) as progress:
        layers, notes = read_all(asked.inputs, asked.choice(takes_tables=True))
        others, more = read_all(before, asked.choice(takes_tables=True))
        found = make_page(
            layers,
            out,
            before=others,
            title=title,
            credit=credit,
            box=None if box is None else box_of(box, box_crs, first_of(layers)),
            problems=problems,
            most=most or MOST_ROWS,
            replace=asked.replace,
            is_dry=asked.dry_run,
            progress=progress,
            **looks,
        )
    shown = found.shown
    facts: PageMade = {
        "written": None if asked.dry_run else out,
        "layers": shown.layers,
        "rows": shown.rows,
        "left_out": shown.left_out,
        "problems": shown.problems,
        "bytes": found.size,
    }
    paged(facts, say)
    say.note(*notes, *more, *(bridge(way, shown.first) for way in shown.brought), *shown.notes)
    seconds = time.monotonic() - began
    asked.tell(outcome.Outcome("page", [facts], say, out, seconds=seconds, is_dry=asked.dry_run))
