"""``polygene tally``."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, show

if TYPE_CHECKING:
    from polygene.ops.tally import Tally


@options.command()
@click.argument("input_", metavar="INPUT")
@click.option("--by", metavar="FIELDS", required=True, help="Fields whose values are the rows.")
@click.option("--across", metavar="FIELD", help="A field whose values are the columns.")
@options.take
@options.where
@click.option("-o", "--out", metavar="FILE", help="Write it too: .csv, .md (Markdown) or .parquet.")
@click.option("--chart", metavar="FILE", help="Draw it as bars: a .png, .svg or .pdf file.")
@click.option("--title", default="", help="What stands above the chart.")
@options.replace
@options.crs
@options.json
@options.quiet
def tally(
    input_: str,
    by: str,
    across: str | None,
    take: tuple[str, ...],
    where: Any,
    out: str | None,
    chart: str | None,
    title: str,
    replace: bool,
    crs: str | None,
    as_json: bool,
    quiet: bool,
) -> None:
    """Make a table of counts, areas or other aggregates by one or two fields, with totals.

    \b
    Examples:
      polygene tally tolva.gpkg#sectors --by district_name \\
        --take "sectors = count()" --take "hectares = sum(area(ha))"
      polygene tally tolva.gpkg#buoys --by kind --take "t = sum(tonnes)" \\
        --chart tonnes.png
    """
    from polygene import batch
    from polygene.crs import parse
    from polygene.errors import ExistsError
    from polygene.ops.tally import tally as tally_layer

    for place in (out, chart):  # nothing is written if one of them cannot be
        if place is not None and Path(place).exists() and not replace:
            raise ExistsError(f"{place} exists; --replace overwrites it")
    choice = batch.Choice(where, parse(crs) if crs else None)
    layer, notes = batch.read_one(input_, choice)
    names = options.names_of(by)
    found = tally_layer(layer, names, take, across)
    if out is not None:
        from polygene.formats.plain_table import write

        write(Path(out), found.body, found.totals, found.by, replace)
    if chart is not None:
        notes += _draw(found, Path(chart), title, across or "")
    table = {"rows": found.body.to_pylist(), "total": found.totals.to_pylist()[0]}
    show.facts("tally", lambda: [table], as_json, notes=notes)
    if not (quiet or as_json):
        _print(found, names)
        if out is not None:
            show.line("written", out, sys.stderr)
        if chart is not None:
            show.line("chart", chart, sys.stderr)
        for text in notes:
            show.note(text)


def _draw(found: Tally, path: Path, title: str, across: str) -> list[str]:
    from polygene.draw.charts import draw_chart
    from polygene.formats.base import replacing

    with replacing(path) as temporary:
        return draw_chart(found.body, found.by, title, across, temporary, path.suffix.lower())


def _print(found: Tally, by: list[str]) -> None:
    import pyarrow as pa

    names = found.body.column_names
    kinds = [field.type for field in found.body.schema]
    right = [
        k for k, kind in enumerate(kinds) if pa.types.is_integer(kind) or pa.types.is_floating(kind)
    ]
    rows = (
        [[_cell(v) for v in row] for row in zip(*found.body.to_pydict().values(), strict=True)]
        if found.body.num_columns
        else []
    )
    totals = [_cell(column[0].as_py()) for column in found.totals.columns]
    totals[0] = "all"
    for k in range(1, len(by)):
        totals[k] = ""
    show.table(names, [*rows, totals], right=right, flexible=range(len(by)), has_total=True)


def _cell(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:,.2f}"
    if isinstance(value, int) and not isinstance(value, bool):
        return f"{value:,}"
    return show.number(value)
