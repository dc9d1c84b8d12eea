"""``polygene parts``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from polygene.cli import each, options
from polygene.cli.asked import Asked, work_on_each

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.parts import PartsResult
    from polygene.progress import Progress


@options.command()
@click.option("--number", metavar="FIELD", help="Add a field that counts the parts of a feature.")
@click.option("--source", metavar="FIELD", help="Add a field with the identifier of the feature.")
@click.option(
    "--gather",
    metavar="FIELDS",
    help="The other way: gather what agrees in these fields into one feature.",
)
@each.common_carrying
def parts(asked: Asked, number: str | None, source: str | None, gather: str | None) -> None:
    """Make multi-part features single parts, or gather single parts.

    \b
    Example:
      polygene parts tolva.gpkg#islands --number part -o parts.gpkg
    """
    if gather is not None and (number or source):
        raise click.UsageError("--number and --source are for taking features apart")
    from polygene.ops.parts import parts as part_layer

    def work(layer: Layer, progress: Progress) -> PartsResult:
        del progress
        names = None if gather is None else options.names_of(gather)
        return part_layer(layer, number=number, source=source, gather=names)

    work_on_each("parts", asked, work, carries=True)
