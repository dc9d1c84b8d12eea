"""``polygene reproject``."""

from __future__ import annotations

import sys
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, overlay, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.reproject import ReprojectSummary


@options.command()
@click.option("--to", "target", required=True, metavar="CRS", help="EPSG:..., WKT, or a layer's.")
@click.option("--from", "source", metavar="CRS", help="The CRS that the coordinates are in.")
@click.option(
    "--tolerance",
    type=click.FloatRange(0, min_open=True),
    help="Add vertices to long edges, to keep their course within so many new units.",
)
@each.common_carrying
def reproject(target: str, source: str | None, tolerance: float | None, **options_: Any) -> None:
    """Bring layers to another CRS.

    \b
    Example:
      polygene reproject tolva.gpkg#sectors --to EPSG:3035 -o sectors.gpkg
    """
    from polygene import batch
    from polygene.crs import parse
    from polygene.ops.reproject import reproject as reproject_layer

    wanted = batch.crs_of(target)
    given = None if source is None else parse(source)

    def work(layer: Layer, progress: Any) -> Any:
        progress.stage(f"reprojecting {layer.name}")
        own = layer if given is None else replace(layer, crs=given)
        return reproject_layer(own, wanted, tolerance)

    each.run("reproject", work, _print, **options_)


def _print(summary: ReprojectSummary) -> list[str]:
    err = sys.stderr
    show.title(f"reprojected {summary.name}", stream=err)
    show.line("features", f"{summary.features:,}", err)
    show.line("from", summary.source, err)
    show.line("to", summary.target, err)
    if summary.tolerance is not None:
        words = f"{summary.added:,} to keep edges within {summary.tolerance:g} of their course"
        show.line("vertices", words, err)
    if summary.accuracy is not None:
        show.line("accuracy", f"{summary.accuracy:g} m, by {summary.operation}", err)
    notes = list(summary.notes)
    if summary.outside.count:
        n = show.counted(summary.outside.count, "feature")
        rows = overlay.named(summary.outside)
        notes.append(f"{summary.name}: {n} outside of where the new CRS is used: {rows}")
    return notes
