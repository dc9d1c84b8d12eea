"""``polygene dissolve``."""

from __future__ import annotations

import sys
import time
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import options, overlay, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.dissolve import DissolveResult, DissolveSummary


@click.command()
@options.inputs
@click.option("--by", metavar="FIELDS", default="", help="Fields to agree in, with commas between.")
@options.where
@options.out
@options.replace
@options.next_
@options.single_parts
@options.precision
@options.crs
@options.keep_dump
@options.json
@options.quiet
def dissolve(
    inputs: tuple[str, ...],
    by: str,
    where: Any,
    out: str,
    replace: bool,
    next_: bool,
    single_parts: bool,
    precision: Any,
    crs: str | None,
    keep_dump: str | None,
    as_json: bool,
    quiet: bool,
) -> None:
    """Join features that agree in some fields, or all of them.

    Other fields keep a value where the whole group agrees, and are null elsewhere; the summary says
    in how many groups they disagreed.

    \b
    Example:
      polygene dissolve tolva.gpkg#sectors --by district -o districts.gpkg
    """
    from polygene import batch
    from polygene.crs import parse
    from polygene.ops.dissolve import dissolve as dissolve_layer

    fields = [name.strip() for name in by.split(",") if name.strip()]
    began = time.monotonic()
    with show.progress(quiet) as progress:

        def work(layer: Layer) -> tuple[DissolveResult, list[str]]:
            step = None if precision is None else precision.in_map_units(layer.crs)
            with overlay.keeping_dump(keep_dump, [layer]):
                result = dissolve_layer(
                    layer, fields, single_parts=single_parts, precision=step, progress=progress
                )
            return result, result.summary.notes

        done = batch.run(
            inputs, work, out,
            choice=batch.Choice(where, parse(crs) if crs else None),
            on_existing=options.on_existing(replace, next_), progress=progress,
        )  # fmt: skip
    seconds = time.monotonic() - began
    if as_json:
        show.json(overlay.facts(done, "dissolve", seconds))
        return
    if quiet:
        return
    for item in done:
        _print(item.result.summary)
    overlay.written(done, seconds)
    for item in done:
        side = item.result.summary.input
        for text in [*item.notes, *overlay.crossed(side, "features")]:
            show.note(text)


def _print(summary: DissolveSummary) -> None:
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
    show.line("CRS", summary.crs, err)
    if summary.without_geometry:
        show.note(f"{summary.input.name}: {summary.without_geometry:,} without geometry")
