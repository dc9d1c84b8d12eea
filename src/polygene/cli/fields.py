"""``polygene fields``."""

from __future__ import annotations

import dataclasses

import click

from polygene.cli import each, options, recording
from polygene.cli.asked import Asked, work_on_each
from polygene.table.tokens import names_of


@recording.command()
@options.rename
@click.option(
    "--type",
    "retype",
    type=options.PairType("FIELD=TYPE"),
    multiple=True,
    help="Another type: integer, integer 16, real, text, text(20), boolean, date, date and time.",
)
@click.option("--dates", metavar="FORM", help="How dates are written in texts, as in DD.MM.YYYY.")
@click.option("--set", "compute", multiple=True, metavar="'NAME = EXPR'", help="Compute a field.")
@click.option(
    "--trim", is_flag=True, help="Take blanks off the ends of texts; empty ones are null."
)
@options.keep
@options.drop
@click.option("--order", metavar="FIELDS", help="Put these first, in this order.")
@click.option(
    "--on-loss",
    type=click.Choice(["refuse", "null", "cut"]),
    default="refuse",
    show_default=True,
    help="Values that do not fit: refuse, put null, or cut texts and fractions off.",
)
@each.common_of_values
def fields(
    asked: Asked,
    rename: tuple[tuple[str, str], ...],
    retype: tuple[tuple[str, str], ...],
    dates: str | None,
    compute: tuple[str, ...],
    trim: bool,
    keep: str | None,
    drop: str | None,
    order: str | None,
    on_loss: str,
) -> None:
    """Rename, retype, compute, tidy, drop and reorder fields, in this order.

    All features stay; with --where only those it is true for get new values. A computed field may use
    what those before it made; the language is that of --where, with functions for text, numbers,
    dates and geometry (docs/expressions.md).

    \b
    Example:
      polygene fields tolva.gpkg#sectors -o sectors.gpkg --drop area_ha \\
        --set "hectares = round(area(ha), 1)" --rename deepest=depth_max
    """
    from polygene.growing.calls import Call
    from polygene.ops.given import assignments

    told = {
        "rename": options.turned(rename),
        "retype": dict(retype),
        "dates": dates,
        "compute": assignments(compute),
        "trim": trim,
        "keep": names_of(keep),
        "drop": names_of(drop),
        "order": names_of(order),
        "where": asked.where,
        "on_loss": on_loss,
    }
    call = Call("fields", "polygene.ops.fields", "fields", told, tells_progress=False)
    # All features stay: the filter says whose values change.
    work_on_each("fields", dataclasses.replace(asked, where=None), call, carries=True)
