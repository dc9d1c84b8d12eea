"""``polygene buffer``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, overlay, show
from polygene.errors import PolygeneError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from polygene.layer import Layer
    from polygene.ops.buffer import BufferSummary
    from polygene.units import Distance


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


@options.command()
@click.option("--distance", type=DistancesType(), help="How far, as in 150m; negative shrinks.")
@click.option(
    "--distance-from", metavar="EXPR", help="A field or expression that says how far, for each."
)
@click.option("--unit", default=None, help="The unit of --distance-from; the CRS's if not given.")
@click.option("--rings", type=DistancesType(), help="Several distances, rising: a result for each.")
@click.option("--bands", is_flag=True, help="Of rings, only what the next smaller one leaves.")
@click.option("--melt", is_flag=True, help="Join all that overlaps.")
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
    distance: Any,
    distance_from: str | None,
    unit: str | None,
    rings: Any,
    bands: bool,
    melt: bool,
    by: str,
    caps: str,
    corners: str,
    mitre_limit: float,
    side: str,
    chord_error: float | None,
    single_parts: bool,
    precision: Any,
    **options_: Any,
) -> None:
    """Keep everything within a distance of features.

    Metres are metres in longitude and latitude too, at the poles and over the 180th meridian as well:
    features are computed on planes of their own, large ones in pieces.

    \b
    Examples:
      polygene buffer tolva.gpkg#ferry_lanes --distance 150m --melt -o lanes.gpkg
      polygene buffer tolva.gpkg#slipways --rings 100m,250m --bands -o near.gpkg
    """
    if sum(value is not None for value in (distance, distance_from, rings)) != 1:
        raise click.UsageError("give one of --distance, --distance-from and --rings")
    if distance is not None and len(distance) > 1:
        raise click.UsageError("--distance takes one; several are --rings")
    if bands and rings is None:
        raise click.UsageError("--bands needs --rings")
    if unit is not None and distance_from is None:
        raise click.UsageError("--unit is that of --distance-from")
    from polygene.ops.buffer import buffer as buffer_layer
    from polygene.plane.offsets import Style

    style = Style(caps, corners, mitre_limit, chord_error, side)

    invalid = options_.pop("invalid")

    def work(layer: Layer, progress: Any) -> Any:
        how_far: Any
        if distance_from is not None:
            how_far = _from_expression(layer, distance_from, unit)
        else:
            several = [d.in_metres(layer.crs) for d in distance or rings]
            how_far = several if rings is not None else several[0]
        step = None if precision is None else precision.in_metres(layer.crs)
        return buffer_layer(
            layer,
            how_far,
            bands=bands,
            melt=melt,
            by=options.names_of(by),
            style=style,
            single_parts=single_parts,
            precision=step,
            invalid=invalid,
            progress=progress,
        )

    asked = distance or rings or ()
    each.run("buffer", work, lambda summary: _print(summary, asked), **options_)


def _from_expression(layer: Layer, text: str, unit: str | None) -> Any:
    import numpy as np
    import pyarrow as pa
    import pyarrow.compute as pc

    from polygene.errors import ExpressionError
    from polygene.table.expression import Expression
    from polygene.units import Distance

    found = Expression(text).values(layer)
    if found.kind not in ("number", "null"):
        raise ExpressionError(f"a distance is a number, and this is a {found.kind}", text, 0)
    size = Distance(1.0, unit).in_metres(layer.crs)
    values = pc.fill_null(found.data.cast(pa.float64(), safe=False), float("nan"))
    return np.array(values, np.float64) * size


def _print(summary: BufferSummary, asked: Sequence[Distance]) -> list[str]:
    from polygene.units import worded

    err = sys.stderr
    unit = summary.unit
    far = " and ".join(f"{d:,.6g} {unit}" for d in summary.distances) or "no distance"
    if asked and all(d.unit not in (None, "m") for d in asked):
        far = " and ".join(d.text for d in asked)  # as it was typed
    show.title(f"{summary.name} buffered by {far}", stream=err)
    taken = f"{summary.taken:,} of {show.counted(summary.total, 'feature')}"
    show.line("INPUT", taken, err)
    words = summary.method
    if summary.error:
        words += f", distances right within {summary.error * 100:.2g} %"
    show.line("computed", words, err)
    area = worded([summary.area], summary.area_unit)[0]
    show.line("came out", f"{show.counted(summary.out, 'feature')}, {area}", err)
    if summary.disagreements:
        words = ", ".join(f"{name} in {n:,}" for name, n in summary.disagreements.items())
        show.line("disagreed", f"{words} of the groups; null there", err)
    overlay.proved(summary.proved)
    show.line("CRS", summary.crs, err)
    notes = [*summary.notes, *overlay.admitted_words(summary.name, summary.admitted)]
    for rows, what in (
        (summary.vanished, "of which nothing is left"),
        (summary.skipped, "without geometry or distance left out"),
    ):
        if rows.count:
            n = show.counted(rows.count, "feature")
            notes.append(f"{summary.name}: {n} {what}: {overlay.named(rows)}")
    return notes
