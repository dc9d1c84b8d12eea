"""``polygene tally``."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, outcome
from polygene.cli.asked import Asked, asks

if TYPE_CHECKING:
    from polygene.cli.words.blocks import Words
    from polygene.ops.tally import Tally


@options.command()
@click.argument("input_", metavar="INPUT")
@click.option("--by", metavar="FIELDS", required=True, help="Fields whose values are the rows.")
@click.option("--across", metavar="FIELD", help="A field whose values are the columns.")
@options.aggregate
@options.where
@options.raw
@click.option("-o", "--out", metavar="FILE", help="Write it too: .csv, .md (Markdown) or .parquet.")
@click.option("--chart", metavar="FILE", help="Draw it as bars: a .png, .svg or .pdf file.")
@click.option("--title", default="", help="What stands above the chart.")
@asks(Asked, options.replace, options.crs, options.dry_run, options.json, options.quiet)
def tally(
    asked: Asked,
    input_: str,
    by: str,
    across: str | None,
    aggregate: tuple[str, ...],
    chart: str | None,
    title: str,
) -> None:
    """Make a table of counts, areas or other aggregates by one or two fields, with totals.

    \b
    Examples:
      polygene tally tolva.gpkg#sectors --by district_name \\
        --aggregate "sectors = count()" --aggregate "hectares = sum(area(ha))"
      polygene tally tolva.gpkg#buoys --by kind --aggregate "t = sum(tonnes)" \\
        --chart tonnes.png
    """
    from polygene.cli.words.blocks import Words
    from polygene.cli.words.tables import tallied
    from polygene.formats.base import check_free
    from polygene.ops.tally import tally as tally_layer
    from polygene.reading import read_one

    began = time.monotonic()
    for place in (asked.out, chart):  # nothing is written if one of them cannot be
        if place is not None:
            check_free(Path(place), asked.replace)
    layer, notes = read_one(input_, asked.choice(takes_tables=True))
    say = Words()
    say.note(*notes)
    found = tally_layer(layer, options.names_of(by), aggregate, across)
    if not asked.dry_run:
        _write(found, asked, chart, title, across or "", say)
    facts = _facts(found, asked, chart)
    tallied(facts, say)
    told = outcome.Outcome(
        "tally",
        [facts],
        say,
        asked.out or "",
        seconds=time.monotonic() - began,
        is_dry=asked.dry_run,
        is_looked_at=True,
        more=[("chart", chart)] if chart is not None else [],
    )
    asked.tell(told)


def _facts(found: Tally, asked: Asked, chart: str | None) -> Any:
    from polygene.cli.facts import Tallied

    return Tallied(
        columns=found.body.column_names,
        keys=found.by,
        rows=found.body.to_pylist(),
        total=found.totals.to_pylist()[0],
        written=None if asked.dry_run else asked.out,
        chart=None if asked.dry_run else chart,
    )


def _write(
    found: Tally, asked: Asked, chart: str | None, title: str, across: str, say: Words
) -> None:
    """Write the table and the chart, both or none."""
    from polygene.commit.together import replacing, together
    from polygene.formats.plain_table import write
    from polygene.pictures.charts import draw_chart

    with together():
        if chart is not None:
            with replacing(Path(chart)) as temporary:
                notes = draw_chart(
                    body=found.body,
                    n_keys=found.by,
                    title=title,
                    across=across,
                    path=temporary,
                    ending=Path(chart).suffix.lower(),
                )
            say.note(*notes)
        if asked.out is not None:
            table = (found.body, found.totals, found.by)
            say.note(*write(Path(asked.out), *table, asked.replace))
