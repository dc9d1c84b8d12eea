"""``polygene tally``."""

from __future__ import annotations

import dataclasses
import functools
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, outcome, recording
from polygene.cli.asked import Asked, asks
from polygene.table.tokens import terms_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from polygene.cli.words.blocks import Words
    from polygene.formats.plain_table import Laid
    from polygene.ops.tally import Tally


class NumbersType(click.ParamType):
    """Numbers with commas between."""

    name = "NUMBERS"

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        if isinstance(value, list):
            return value
        try:
            return [float(part) for part in value.split(",")]
        except ValueError:
            self.fail(f"{value!r} are no numbers with commas between, as 0,10,50", param, ctx)


@recording.command()
@click.argument("input_", metavar="INPUT")
@click.option("--by", metavar="FIELDS", help="Fields or expressions whose values are the rows.")
@click.option("--across", metavar="FIELD", help="A field whose values are the columns.")
@click.option(
    "--classes",
    type=NumbersType(),
    help="Borders of classes of the number in --by: from one up to below the next.",
)
@click.option(
    "--share",
    type=click.Choice(["rows", "columns", "all"]),
    help="Add per cent of counts and sums: of the row's total, the column's, or all.",
)
@click.option("--sort", metavar="COLUMN", help="Sort by a column of the table; -column falls.")
@click.option("--top", type=click.IntRange(1), help="The first so many rows, and one for the rest.")
@click.option(
    "--round", "digits", type=click.IntRange(0, 12), help="Decimals that are shown; 2 if not given."
)
@options.aggregate
@options.where
@options.raw
@click.option("-o", "--out", metavar="FILE", help="Write it too: .csv, .md, .xlsx or .parquet.")
@click.option("--chart", metavar="FILE", help="Draw it as bars: a .png, .svg or .pdf file.")
@click.option("--title", default="", help="What stands above the chart.")
@asks(Asked, options.replace, options.crs, options.dry_run, options.json, options.quiet)
def tally(
    asked: Asked,
    input_: str,
    by: str | None,
    across: str | None,
    classes: list[float] | None,
    share: str | None,
    sort: str | None,
    top: int | None,
    digits: int | None,
    aggregate: tuple[str, ...],
    chart: str | None,
    title: str,
) -> None:
    """Make a table of counts, areas or other aggregates by one or two fields, with totals.

    Without --by it has the totals alone. Totals, and what --top leaves over, are computed anew and not
    added up. What has no value for an aggregate counts nothing in it, which a line below says.

    \b
    Examples:
      polygene tally tolva.gpkg#sectors --by district_name \\
        --aggregate "sectors = count()" --aggregate "hectares = sum(area(ha))"
      polygene tally tolva.gpkg#buoys --by kind --aggregate "t = sum(tonnes)" \\
        --chart tonnes.png
    """
    from polygene.cli.words.blocks import Words
    from polygene.cli.words.tables import foot_of, tallied
    from polygene.formats.base import check_free
    from polygene.ops.tally import looked_at
    from polygene.ops.tally import tally as tally_layer
    from polygene.reading import read_one

    began = time.monotonic()
    for place in (asked.out, chart):  # nothing is written if one of them cannot be
        if place is not None:
            check_free(Path(place), asked.replace)
    only = functools.partial(looked_at, by=terms_of(by), aggregate=aggregate, across=across)
    choice = dataclasses.replace(asked.choice(takes_tables=True), only=only)
    layer, notes = read_one(input_, choice)
    say = Words()
    say.note(*notes)
    found = tally_layer(
        layer,
        terms_of(by),
        aggregate,
        across,
        classes=classes or (),
        share=share,
        sort=sort,
        top=top,
    )
    say.note(*found.notes)
    facts = _facts(found, asked, chart)
    if not asked.dry_run:
        laid = _laid(found, digits, foot_of(facts))
        _write(found, laid, asked, chart, title, across or "", say)
    tallied(facts, say, digits)
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
        total_name=found.total_name,
        shares=found.shares,
        rest=found.rest,
        features=found.features,
        geometry=found.geometry,
        without_value=found.without_value,
        written=None if asked.dry_run else asked.out,
        chart=None if asked.dry_run else chart,
    )


def _laid(found: Tally, digits: int | None, foot: Sequence[str]) -> Laid:
    from polygene.formats.plain_table import Laid

    totals = found.totals if found.by else None
    return Laid(found.body, totals, found.by, found.total_name, digits, found.shares, foot)


def _write(
    found: Tally,
    laid: Laid,
    asked: Asked,
    chart: str | None,
    title: str,
    across: str,
    say: Words,
) -> None:
    """Write the table and the chart, both or none."""
    from polygene.commit.together import replacing, together
    from polygene.formats.plain_table import write

    with together():
        if chart is not None:
            from polygene.pictures.charts import draw_chart

            with replacing(Path(chart)) as temporary:
                beside = [*found.shares, *found.row_totals]
                notes = draw_chart(
                    body=found.body.drop_columns(beside),
                    n_keys=found.by,
                    title=title,
                    across=across,
                    path=temporary,
                    ending=Path(chart).suffix.lower(),
                )
            say.note(*notes)
        if asked.out is not None:
            say.note(*write(Path(asked.out), laid, asked.replace))
