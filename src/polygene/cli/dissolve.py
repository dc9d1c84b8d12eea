"""``polygene dissolve``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, recording
from polygene.cli.asked import Asked, keeping_dump, work_on_each
from polygene.table.tokens import terms_of

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.dissolve import DissolveResult
    from polygene.progress import Progress


@recording.command()
@click.option("--by", metavar="FIELDS", default="", help="Fields or expressions to agree in.")
@options.aggregate
@click.option(
    "--null-group",
    type=click.Choice(["together", "apart"]),
    default="together",
    show_default=True,
    help="Features with nulls in --by: one group, or each left as it is.",
)
@each.common
@options.single_parts
@options.precision
@options.keep_dump
def dissolve(
    asked: Asked,
    by: str,
    aggregate: tuple[str, ...],
    null_group: str,
    single_parts: bool,
    precision: Any,
) -> None:
    """Join features that agree in some fields, or all of them.

    Fields are summed up as --aggregate says. Others keep a value where the whole group agrees, and are
    null elsewhere; the summary says in how many groups they disagreed.

    \b
    Example:
      polygene dissolve tolva.gpkg#sectors --by district -o districts.gpkg \\
        --aggregate "sectors = count()" --aggregate "depth = max(depth_max)"
    """
    from polygene.growing.calls import Call

    told = {
        "by": terms_of(by),
        "aggregate": aggregate,
        "null_group": null_group,
        "single_parts": single_parts,
        "precision": precision,
        "invalid": asked.invalid or "mend",
    }
    call = Call("dissolve", "polygene.ops.dissolve", "dissolve", told)

    def work(layer: Layer, progress: Progress) -> DissolveResult:
        with keeping_dump(asked.keep_dump, [layer]):
            found: DissolveResult = call.on(layer, progress=progress)
            return found

    work_on_each("dissolve", asked, work, call=call)
