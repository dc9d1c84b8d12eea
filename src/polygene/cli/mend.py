"""``polygene mend``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, overlay, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.mend import MendSummary

FIRST = 10


@options.command()
@click.option("--drop-empty", is_flag=True, help="Leave out features of which nothing is left.")
@each.common
@options.precision
def mend(drop_empty: bool, precision: Any, **options_: Any) -> None:
    """Make invalid polygons valid, and say what changed.

    A part covers what its rings wind round an odd number of times, whichever way they turn; a feature
    covers what any of its parts does. What is valid stays bit for bit.

    \b
    Example:
      polygene mend 'tolva.gpkg#beds_*' -o mended.gpkg
    """
    from polygene.ops.mend import mend as mend_layer

    def work(layer: Layer, progress: Any) -> Any:
        step = None if precision is None else precision.in_map_units(layer.crs)
        return mend_layer(layer, drop_empty=drop_empty, precision=step, progress=progress)

    each.run("mend", work, _print, **options_)


def _print(summary: MendSummary) -> list[str]:
    err = sys.stderr
    show.title(f"mended {summary.name}", stream=err)
    n = show.counted(summary.features, "feature")
    show.line("mended", f"{summary.mended:,} of {n}, the others as they were", err)
    for row in summary.rows[:FIRST]:
        before, after = (f"{v:,.4f} {summary.unit}" for v in (row.before, row.after))
        show.line("", f"{row.row}: {before} by its rings' signs, {after} now", err)
    if summary.mended > FIRST:
        show.line("", f"and {summary.mended - FIRST:,} more", err)
    if not summary.vanished.count:
        return []
    n = show.counted(summary.vanished.count, "feature")
    return [f"{summary.name}: nothing is left of {n}: {overlay.named(summary.vanished)}"]
