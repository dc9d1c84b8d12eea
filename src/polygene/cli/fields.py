"""``polygene fields``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.fields import FieldsSummary


class PairType(click.ParamType):
    """``left=right``."""

    def __init__(self, name: str) -> None:
        self.name = name

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        left, equals, right = value.partition("=")
        if not (equals and left.strip() and right.strip()):
            self.fail(f"{value!r} is none; write it as {self.name}", param, ctx)
        return left.strip(), right.strip()


@options.command()
@click.option(
    "--rename", type=PairType("OLD=NEW"), multiple=True, help="Give a field another name."
)
@click.option(
    "--type",
    "retype",
    type=PairType("FIELD=TYPE"),
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
    type=click.Choice(["stop", "null", "cut"]),
    default="stop",
    show_default=True,
    help="Values that do not fit: refuse, put null, or cut texts and fractions off.",
)
@each.common_carrying
def fields(
    rename: tuple[tuple[str, str], ...],
    retype: tuple[tuple[str, str], ...],
    dates: str | None,
    compute: tuple[str, ...],
    trim: bool,
    keep: str | None,
    drop: str | None,
    order: str | None,
    on_loss: str,
    **options_: Any,
) -> None:
    """Rename, retype, compute, tidy, drop and reorder fields, in this order.

    All features stay; with --where only those it is true for get new values. A computed field may use
    what those before it made; the language is that of --where, with functions for text, numbers,
    dates and geometry (docs/expressions.md).

    \b
    Example:
      polygene fields tolva.gpkg#sectors -o sectors.gpkg --drop area_ha \\
        --set "hectares = round(area(ha), 1)" --rename depth_max=deepest
    """
    from polygene.ops.fields import Plan
    from polygene.ops.fields import fields as change_fields
    from polygene.table.expression import Assignment

    plan = Plan(
        dict(rename),
        dict(retype),
        dates,
        [Assignment.parse(text) for text in compute],
        trim,
        options.names_of(keep),
        options.names_of(drop),
        options.names_of(order),
    )
    only = options_.pop("where")

    def work(layer: Layer, progress: Any) -> Any:
        del progress
        return change_fields(layer, plan, only=only, on_loss=on_loss)

    each.run("fields", work, _print, where=None, **options_)


def _print(summary: FieldsSummary) -> list[str]:
    err = sys.stderr
    show.title(f"fields of {summary.name}", stream=err)
    for text in summary.changed or ["nothing to do"]:
        show.line("changed", text, err)
    if summary.rows < summary.total:
        rows = f"values of {summary.rows:,} of {show.counted(summary.total, 'feature')}"
        show.line("only", rows, err)
    show.line("fields", ", ".join(summary.fields), err)
    notes = [
        f"{summary.name}, {name}: {show.counted(n, 'value')} that did not fit"
        for name, n in summary.lost.items()
    ]
    if summary.zero_divisions:
        n = show.counted(summary.zero_divisions, "division")
        notes.append(f"{summary.name}: {n} by zero, null there")
    return notes
