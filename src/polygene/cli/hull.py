"""``polygene hull``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from polygene.cli import each, options
from polygene.cli.asked import Asked, work_on_each

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.hull import HullResult
    from polygene.progress import Progress


@options.command()
@click.option("--each", "of_each", is_flag=True, help="A hull of each feature, not one of all.")
@click.option(
    "--by",
    metavar="FIELDS",
    default="",
    help="A hull of each group that agrees in these.",
)
@options.aggregate
@each.common
def hull(asked: Asked, of_each: bool, by: str, aggregate: tuple[str, ...]) -> None:
    """Wrap the convex hull round all features, each, or groups.

    \b
    Example:
      polygene hull tolva.gpkg#buoys --by kind -o hulls.gpkg
    """
    if of_each and by:
        raise click.UsageError("--each and --by exclude each other")
    from polygene.ops.hull import hull as hull_layer

    def work(layer: Layer, progress: Progress) -> HullResult:
        progress.stage(f"hulls of {layer.name}")
        names = options.terms_of(by)
        invalid = asked.invalid or "mend"
        return hull_layer(layer, each=of_each, by=names, aggregate=aggregate, invalid=invalid)

    work_on_each("hull", asked, work)
