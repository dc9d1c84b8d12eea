"""``polygene parts``."""

from __future__ import annotations

import click

from polygene.cli import each, recording
from polygene.cli.asked import Asked, work_on_each
from polygene.table.tokens import names_of


@recording.command()
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
    from polygene.growing.calls import Call

    names = None if gather is None else names_of(gather)
    told = {"number": number, "source": source, "gather": names}
    call = Call("parts", "polygene.ops.parts", "parts", told, tells_progress=False)
    work_on_each("parts", asked, call, carries=True)
