"""``polygene buffer``."""

from __future__ import annotations

from typing import Any

import click

from polygene.cli import each, options, recording
from polygene.cli.asked import Asked, work_on_each
from polygene.errors import PolygeneError
from polygene.table.tokens import terms_of


class DistancesType(click.ParamType):
    """Distances with commas between; they may be negative."""

    name = "D,D,..."

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        from polygene.units import Distance

        if not isinstance(value, str):
            return value
        try:
            return [Distance.parse(text) for text in value.split(",")]
        except PolygeneError as err:
            self.fail(str(err), param, ctx)


@recording.command()
@click.option(
    "--distance",
    type=DistancesType(),
    metavar="DISTANCE",
    help="How far, as in 150m; negative shrinks.",
)
@click.option(
    "--distance-by", metavar="EXPR", help="A field or expression that says how far, for each."
)
@click.option(
    "--unit",
    default=None,
    metavar="UNIT",
    help="The unit of --distance-by; the CRS's if not given.",
)
@click.option("--rings", type=DistancesType(), help="Several distances, rising: a result for each.")
@click.option("--bands", is_flag=True, help="Of rings: each without the smaller ones inside it.")
@click.option("--dissolve", is_flag=True, help="Join all that overlaps.")
@click.option("--by", metavar="FIELDS", default="", help="Join what agrees in these fields.")
@click.option(
    "--caps",
    type=click.Choice(["round", "flat", "square"]),
    default="round",
    show_default=True,
    help="The ends of lines.",
)
@click.option(
    "--corners",
    type=click.Choice(["round", "mitre", "bevel"]),
    default="round",
    show_default=True,
    help="The outside of turns.",
)
@click.option(
    "--mitre-limit",
    type=click.FloatRange(1),
    default=5,
    show_default=True,
    help="How many distances a mitre may reach.",
)
@click.option(
    "--side",
    type=click.Choice(["both", "left", "right"]),
    default="both",
    show_default=True,
    help="Which side of lines.",
)
@click.option(
    "--chord-error",
    type=click.FloatRange(1e-6, 0.5),
    default=None,
    help="How far arcs may lie inside the true curve, in distances; 0.005, in degrees 0.0005.",
)
@each.common
@options.single_parts
@options.precision
def buffer(
    asked: Asked,
    distance: Any,
    distance_by: str | None,
    unit: str | None,
    rings: Any,
    bands: bool,
    dissolve: bool,
    by: str,
    caps: str,
    corners: str,
    mitre_limit: float,
    side: str,
    chord_error: float | None,
    single_parts: bool,
    precision: Any,
) -> None:
    """Keep everything within a distance of features.

    Metres are metres in longitude and latitude too, at the poles and over the 180th meridian as well:
    features are computed on planes of their own, large ones in pieces.

    \b
    Examples:
      polygene buffer tolva.gpkg#ferry_lanes --distance 150m --dissolve \\
        -o lanes.gpkg
      polygene buffer tolva.gpkg#slipways --rings 100m,250m --bands -o near.gpkg
    """
    if sum(value is not None for value in (distance, distance_by, rings)) != 1:
        raise click.UsageError("give one of --distance, --distance-by and --rings")
    if distance is not None and len(distance) > 1:
        raise click.UsageError("--distance takes one; several are --rings")
    if bands and rings is None:
        raise click.UsageError("--bands needs --rings")
    if unit is not None and distance_by is None:
        raise click.UsageError("--unit is that of --distance-by")
    from polygene.growing.calls import Call

    told = {
        "distance": None if distance is None else distance[0],
        "rings": rings or (),
        "distance_by": distance_by,
        "unit": unit,
        "bands": bands,
        "dissolve": dissolve,
        "by": terms_of(by),
        "caps": caps,
        "corners": corners,
        "mitre_limit": mitre_limit,
        "side": side,
        "chord_error": chord_error,
        "single_parts": single_parts,
        "precision": precision,
        "invalid": asked.invalid or "mend",
    }
    work_on_each("buffer", asked, Call("buffer", "polygene.ops.buffer", "buffer", told))
