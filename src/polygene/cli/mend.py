"""``polygene mend``."""

from __future__ import annotations

import sys
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, overlay, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.coverage import SettleSummary
    from polygene.ops.mend import MendSummary
    from polygene.units import Distance

FIRST = 10


@options.command()
@click.option("--drop-empty", is_flag=True, help="Leave out features of which nothing is left.")
@click.option(
    "--coverage",
    type=options.DistanceType(),
    metavar="WIDTH",
    help="Close gaps and take away overlaps between features that are narrower than this.",
)
@click.option(
    "--prefer",
    type=click.Choice(["first", "last", "largest", "smallest"]),
    default="first",
    show_default=True,
    help="With --coverage: which feature an overlap goes to.",
)
@each.common_mending
@options.precision
def mend(drop_empty: bool, coverage: Any, prefer: Any, precision: Any, **options_: Any) -> None:
    """Make invalid polygons valid, and say what changed.

    A part covers what its rings wind round an odd number of times, whichever way they turn; a
    feature covers what any of its parts does. What is valid stays bit for bit. With --coverage narrow
    gaps go to the feature that they border most, narrow overlaps to one of those that share them.

    \b
    Examples:
      polygene mend 'tolva.gpkg#beds_*' -o mended.gpkg
      polygene mend tolva.gpkg#sectors --coverage 1m -o sectors.gpkg
    """
    from polygene.ops.coverage import settle_coverage
    from polygene.ops.mend import mend as mend_layer

    def work(layer: Layer, progress: Any) -> Any:
        step = None if precision is None else precision.in_map_units(layer.crs)
        result = mend_layer(layer, drop_empty=drop_empty, precision=step, progress=progress)
        if coverage is None:
            return result
        settled = settle_coverage(
            result.layer,
            coverage.in_map_units(layer.crs),
            prefer=prefer,
            precision=step,
            progress=progress,
        )
        found = settled.layer
        if drop_empty:
            found = found.take(~found.geometry.is_empty | layer.geometry.is_empty)
        return replace(
            result, layer=found, summary=replace(result.summary, settled=settled.summary)
        )

    each.run("mend", work, lambda summary: _print(summary, coverage), **options_)


def _print(summary: MendSummary, asked: Distance | None) -> list[str]:
    err = sys.stderr
    show.title(f"mended {summary.name}", stream=err)
    n = show.counted(summary.features, "feature")
    show.line("mended", f"{summary.mended:,} of {n}, the others as they were", err)
    for row in summary.rows[:FIRST]:
        before, after = (f"{v:,.4f} {summary.unit}" for v in (row.before, row.after))
        show.line("", f"{row.row}: {before} by its rings' signs, {after} now", err)
    if summary.mended > FIRST:
        show.line("", f"and {summary.mended - FIRST:,} more", err)
    vanished = [summary.vanished]
    overlay.proved(summary.proved)
    if summary.settled is not None:
        _print_settled(summary.settled, asked)
        vanished.append(summary.settled.vanished)
    return [
        f"{summary.name}: nothing is left of {show.counted(rows.count, 'feature')}: "
        f"{overlay.named(rows)}"
        for rows in vanished
        if rows.count
    ]


def _print_settled(found: SettleSummary, asked: Distance | None) -> None:
    err = sys.stderr
    for label, n, area, left, what in (
        ("gaps", found.gaps, found.gap_area, found.gaps_left, "closed"),
        (
            "overlaps",
            found.overlaps,
            found.overlap_area,
            found.overlaps_left,
            f"given to the {found.prefer} of those that share them",
        ),
    ):
        size = f"{area:,.4g} {found.unit}"
        rest = f"; {left:,} that are wider left" if left else ""
        width = f"{found.width:g} {found.length_unit}"
        if asked is not None and asked.unit not in (None, "m"):
            width = asked.text  # as it was typed
        show.line(label, f"{n:,} narrower than {width} {what}, {size}{rest}", err)
    all_ = show.counted(found.features, "feature")
    met = f"; {found.met:,} got a vertex where these meet them" if found.met else ""
    show.line("changed", f"{found.changed:,} of {all_}{met}; the others as they were", err)
