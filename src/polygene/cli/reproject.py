"""``polygene reproject``."""

from __future__ import annotations

import click

from polygene.cli import each, recording
from polygene.cli.asked import Asked, work_on_each


@recording.command()
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
    from polygene.growing.calls import Call
    from polygene.reading import crs_of

    told = {"to": crs_of(target), "tolerance": tolerance, "from_": source}
    call = Call("reproject", "polygene.ops.reproject", "reproject", told, tells_progress=False)
    work_on_each("reproject", asked, call, carries=True)
