"""``polygene dissolve``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, overlay, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.dissolve import DissolveSummary


@options.command()
@click.option("--by", metavar="FIELDS", default="", help="Fields to agree in, with commas between.")
@options.take
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
    by: str,
    take: tuple[str, ...],
    null_group: str,
    single_parts: bool,
    precision: Any,
    keep_dump: str | None,
    **options_: Any,
) -> None:
    """Join features that agree in some fields, or all of them.

    Fields are aggregated as --take says. Others keep a value where the whole group agrees, and are
    null elsewhere; the summary says in how many groups they disagreed.

    \b
    Example:
      polygene dissolve tolva.gpkg#sectors --by district -o districts.gpkg \\
        --take "sectors = count()" --take "depth = max(depth_max)"
    """
    from polygene.ops.dissolve import dissolve as dissolve_layer

    invalid = options_.pop("invalid")

    def work(layer: Layer, progress: Any) -> Any:
        step = None if precision is None else precision.in_map_units(layer.crs)
        with overlay.keeping_dump(keep_dump, [layer]):
            return dissolve_layer(
                layer,
                options.names_of(by),
                take,
                nulls_apart=null_group == "apart",
                single_parts=single_parts,
                precision=step,
                invalid=invalid,
                progress=progress,
            )

    each.run("dissolve", work, _print, **options_)


def _print(summary: DissolveSummary) -> list[str]:
    from polygene.units import worded

    err = sys.stderr
    by = ", ".join(summary.by)
    show.title(f"{summary.input.name} dissolved {f'by {by}' if by else 'into one'}", stream=err)
    show.line("INPUT", f"{summary.input.name}: {overlay.took_part(summary.input)}", err)
    show.line("came out", show.counted(summary.out, "feature"), err)
    if summary.area is not None and summary.overlap is not None:
        area, overlap = worded([summary.area, summary.overlap], summary.unit)
        show.line("area", f"{area}; {overlap} lay under several features of a group", err)
    if summary.disagreements:
        words = ", ".join(f"{name} in {n:,}" for name, n in summary.disagreements.items())
        show.line("disagreed", f"{words} of the groups; null there", err)
    overlay.proved(summary.proved)
    show.line("CRS", summary.crs, err)
    notes = [*summary.notes, *overlay.admitted(summary.input)]
    if summary.without_geometry:
        notes.append(f"{summary.input.name}: {summary.without_geometry:,} without geometry")
    return notes
