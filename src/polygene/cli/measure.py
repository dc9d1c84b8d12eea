"""``polygene measure``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, overlay, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.measure import MeasureSummary


def _unit_option(name: str, what: str) -> Any:
    return click.option(
        f"--{name}", name, multiple=True, metavar="[FIELD=]UNIT", help=f"{what}, in this unit."
    )


@options.command()
@_unit_option("area", "The area of polygons")
@_unit_option("length", "The length of lines")
@_unit_option("perimeter", "The length of all rings of polygons")
@click.option("--centroid", is_flag=True, help="Its x and y; it may lie outside.")
@click.option("--inside", is_flag=True, help="The x and y of a point sure to lie inside.")
@click.option("--bounds", is_flag=True, help="The box round each feature.")
@click.option("--vertices", is_flag=True, help="How many vertices.")
@click.option("--parts", is_flag=True, help="How many parts.")
@each.common_carrying
def measure(
    area: tuple[str, ...],
    length: tuple[str, ...],
    perimeter: tuple[str, ...],
    centroid: bool,
    inside: bool,
    bounds: bool,
    vertices: bool,
    parts: bool,
    **options_: Any,
) -> None:
    """Add areas, lengths and places of features as columns.

    Areas and lengths are planar in a projected CRS and on the ellipsoid in longitude and latitude. A
    field of the name that is there takes the new values: that is how a stored area is refreshed.

    \b
    Example:
      polygene measure tolva.gpkg#sectors --area area_ha=ha -o sectors.gpkg
    """
    from polygene.ops.measure import Wanted
    from polygene.ops.measure import measure as measure_layer

    wanted = [
        Wanted(name, *_unit_and_field(text))
        for name, texts in (("area", area), ("length", length), ("perimeter", perimeter))
        for text in texts
    ]
    flags = {
        "centroid": centroid,
        "inside": inside,
        "bounds": bounds,
        "vertices": vertices,
        "parts": parts,
    }
    wanted += [Wanted(name) for name, is_asked in flags.items() if is_asked]
    if not wanted:
        raise click.UsageError("say what to measure: --area ha, --length km, --centroid ...")

    def work(layer: Layer, progress: Any) -> Any:
        del progress
        return measure_layer(layer, wanted)

    each.run("measure", work, _print, **options_)


def _unit_and_field(text: str) -> tuple[str | None, str | None]:
    field, equals, unit = text.rpartition("=")
    unit = unit.strip()
    return (None if unit == "crs" else unit), (field.strip() or None if equals else None)


def _print(summary: MeasureSummary) -> list[str]:
    err = sys.stderr
    show.title(f"measured {summary.name}", stream=err)
    show.line("features", f"{summary.features:,}, {summary.method}", err)
    for total in summary.totals:
        words = f"{total.field}: {total.total:,.2f} {total.unit} in all".replace("  ", " ")
        if total.changed is not None:
            words += f"; {total.changed:,} of the stored values were off"
        show.line("measure", words, err)
    show.line("fields", ", ".join(summary.columns), err)
    notes = []
    if summary.without_geometry:
        n = show.counted(summary.without_geometry, "feature")
        notes.append(f"{summary.name}: {n} without geometry, null there")
    if summary.invalid.count:
        n = show.counted(summary.invalid.count, "invalid feature")
        notes.append(
            f"{summary.name}: {n}, measured by the direction of rings, which may not be what is "
            f"covered: {overlay.named(summary.invalid)}; mend first"
        )
    return notes
