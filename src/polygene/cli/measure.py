"""``polygene measure``."""

from __future__ import annotations

from typing import Any

import click

from polygene.cli import each, recording
from polygene.cli.asked import Asked, work_on_each


def _unit_option(name: str, what: str) -> Any:
    return click.option(
        f"--{name}", name, multiple=True, metavar="[FIELD=]UNIT", help=f"{what}, in this unit."
    )


@recording.command()
@_unit_option("area", "The area of polygons")
@_unit_option("length", "The length of lines")
@_unit_option("perimeter", "The length of all rings of polygons")
@click.option(
    "--centroid", is_flag=True, help="The x and y of the centroid, which may lie outside."
)
@click.option("--label-point", is_flag=True, help="The x and y of a point sure to lie inside.")
@click.option("--bounds", is_flag=True, help="The box round each feature.")
@click.option("--vertices", is_flag=True, help="How many vertices.")
@click.option("--parts", is_flag=True, help="How many parts.")
@each.common_carrying
def measure(
    asked: Asked,
    area: tuple[str, ...],
    length: tuple[str, ...],
    perimeter: tuple[str, ...],
    centroid: bool,
    label_point: bool,
    bounds: bool,
    vertices: bool,
    parts: bool,
) -> None:
    """Add areas, lengths and places of features as fields.

    Areas and lengths are planar in a projected CRS and on the ellipsoid in longitude and latitude. A
    field of the name that is there takes the new values: that is how a stored area is refreshed.

    \b
    Example:
      polygene measure tolva.gpkg#sectors --area area_ha=ha -o sectors.gpkg
    """
    if not (area or length or perimeter or centroid or label_point or bounds or vertices or parts):
        raise click.UsageError("say what to measure: --area ha, --length km, --centroid ...")
    from polygene.growing.calls import Call

    told = {
        "area": area,
        "length": length,
        "perimeter": perimeter,
        "centroid": centroid,
        "label_point": label_point,
        "bounds": bounds,
        "vertices": vertices,
        "parts": parts,
    }
    call = Call("measure", "polygene.ops.measure", "measure", told, tells_progress=False)
    work_on_each("measure", asked, call, carries=True)
