"""``polygene compare``."""

from __future__ import annotations

import dataclasses
import sys
from pathlib import Path
from typing import Any

import click

from polygene.cli import options, outcome, recording, show
from polygene.cli.asked import Asked, asks


@recording.command()
@click.argument("first")
@click.argument("second")
@click.option(
    "--key",
    multiple=True,
    metavar="'FIELD = FIELD'",
    help="Look at each feature: those of one key, a field or expression of both.",
)
@options.fold
@click.option(
    "--changes", is_flag=True, help="Look at each feature without a key, by geometry and overlap."
)
@click.option(
    "--tolerance",
    type=options.DistanceType(),
    help="How far geometry may be off and still be the same.",
)
@options.where_of("Take only those features of both")
@click.option("-o", "--out", metavar="DESTINATION", help="Write a layer of all changes.")
@click.option(
    "--report", metavar="FILE", help="Write a table of all changes: .md, .xlsx, .csv or .parquet."
)
@click.option("--strict", is_flag=True, help="End with exit code 1 if anything differs.")
@asks(Asked, options.replace, options.crs, options.dry_run, options.json)
def compare(
    asked: Asked,
    first: str,
    second: str,
    key: tuple[str, ...],
    fold: bool,
    changes: bool,
    tolerance: Any,
    report: str | None,
    strict: bool,
) -> None:
    """Set two layers side by side: features, area or length, extent, CRS, fields.

    With --key or --changes, also what became of each feature of FIRST in SECOND: which were added,
    removed, split, merged, moved (how far, and the area gained and lost) and edited, in which fields
    from what to what. --out writes each change as a feature, --report as a row of a table to read,
    --json prints all of them.

    \b
    Examples:
      polygene compare tolva.gpkg#beds_marram tolva.gpkg#beds_kelda
      polygene compare tolva.gpkg#beds_marram tolva.gpkg#beds_kelda \\
        --changes -o changes.gpkg
    """
    from polygene.cli.words import looked
    from polygene.cli.words.blocks import Words
    from polygene.commit.together import together
    from polygene.errors import DataError
    from polygene.formats.base import check_free
    from polygene.formats.plain_table import Laid
    from polygene.formats.plain_table import write as write_table
    from polygene.ops.changes import every
    from polygene.ops.compare import compare as compare_layers
    from polygene.reading import read_one
    from polygene.writing import write_named

    if (asked.out is not None or report is not None) and not (key or changes):
        raise click.UsageError(
            "--out and --report write the changes; look for them with --key or --changes"
        )
    if report is not None:
        check_free(Path(report), asked.replace)  # fail now rather than after the work
    say, layers = Words(), []
    for text in (first, second):
        choice = asked.choice(takes_tables=True)
        layer, notes = read_one(text, choice, role="each side of a comparison")
        layers.append(layer)
        say.note(*notes)
    found = compare_layers(
        layers[0], layers[1], key, fold=fold, changes=changes, tolerance=tolerance
    )
    facts = found.summary
    looked.compared(facts, say)
    if asked.out is not None or report is not None:
        if found.layer is None:
            raise DataError(f"{first} and {second} are of different kinds, which make no one layer")
        if not asked.dry_run:
            with together():
                if report is not None:
                    n_keys = found.layer.table.column_names.index("shift")
                    laid = Laid(found.layer.table, None, n_keys, foot=looked.told_of(facts))
                    say.note(*write_table(Path(report), laid, asked.replace))
                if asked.out is not None:
                    say.note(*write_named(asked.out, [found.layer], asked.replace))
    if asked.as_json and facts.changes is not None and found.layer is not None:
        whole = dataclasses.replace(facts.changes, every=every(found.layer))
        facts = dataclasses.replace(facts, changes=whole)
    asked.tell(
        outcome.Outcome(
            "compare",
            [facts],
            say,
            asked.out or "",
            is_dry=asked.dry_run,
            is_looked_at=True,
            more=[("report", report)] if report is not None else [],
        )
    )
    if strict and found.differs:
        show.note(f"strict: what differs is {', '.join(facts.differences)}")
        sys.exit(1)
