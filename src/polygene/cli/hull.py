"""``polygene hull``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, overlay, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.hull import HullSummary


@options.command()
@click.option("--each", "of_each", is_flag=True, help="A hull of each feature, not one of all.")
@click.option("--by", metavar="FIELDS", default="", help="One of those that agree in these fields.")
@each.common
def hull(of_each: bool, by: str, **options_: Any) -> None:
    """Wrap the convex hull round all features, each, or groups.

    \b
    Example:
      polygene hull tolva.gpkg#buoys --by kind -o hulls.gpkg
    """
    if of_each and by:
        raise click.UsageError("--each and --by exclude each other")
    from polygene.ops.hull import hull as hull_layer

    invalid = options_.pop("invalid")

    def work(layer: Layer, progress: Any) -> Any:
        progress.stage(f"hulls of {layer.name}")
        return hull_layer(layer, each=of_each, by=options.names_of(by), invalid=invalid)

    each.run("hull", work, _print, **options_)


def _print(summary: HullSummary) -> list[str]:
    from polygene.units import worded

    err = sys.stderr
    show.title(f"hull of {summary.name}", stream=err)
    show.line("INPUT", f"{summary.taken:,} of {show.counted(summary.total, 'feature')}", err)
    area = worded([summary.area], summary.unit)[0]
    show.line("came out", f"{show.counted(summary.out, 'feature')}, {area}", err)
    overlay.proved(summary.proved)
    show.line("CRS", summary.crs, err)
    notes = overlay.admitted_words(summary.name, summary.admitted)
    if not summary.flat.count:
        return notes
    n = show.counted(summary.flat.count, "hull")
    return [*notes, f"{summary.name}: {n} without area left out: {overlay.named(summary.flat)}"]
