"""``polygene reproject``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from polygene.cli import each, options
from polygene.cli.asked import Asked, work_on_each

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.reproject import ReprojectResult
    from polygene.progress import Progress


@options.command()
@click.option("--to", "target", required=True, metavar="CRS", help="EPSG:..., WKT, or a layer's.")
@click.option("--from", "source", metavar="CRS", help="The CRS that the coordinates are in.")
@click.option(
    "--tolerance",
    type=click.FloatRange(0, min_open=True),
    help="Add vertices so that long edges keep their course within this, in units of the new CRS.",
)
@each.common_carrying
def reproject(asked: Asked, target: str, source: str | None, tolerance: float | None) -> None:
    """Bring layers to another CRS.

    \b
    Example:
      polygene reproject tolva.gpkg#sectors --to EPSG:3035 -o sectors.gpkg
    """
    from polygene.ops.reproject import reproject as reproject_layer
    from polygene.reading import crs_of

    wanted = crs_of(target)

    def work(layer: Layer, progress: Progress) -> ReprojectResult:
        progress.stage(f"reprojecting {layer.name}")
        return reproject_layer(layer, wanted, tolerance, from_=source)

    work_on_each("reproject", asked, work, carries=True)
