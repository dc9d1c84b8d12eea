"""``polygene parts``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.parts import PartsSummary


@options.command()
@click.option("--number", metavar="FIELD", help="Add a field that counts the parts of a feature.")
@click.option("--source", metavar="FIELD", help="Add a field with the identifier of the feature.")
@click.option(
    "--gather", metavar="FIELDS", help="The other way: one feature of those that agree in these."
)
@each.common_carrying
def parts(number: str | None, source: str | None, gather: str | None, **options_: Any) -> None:
    """Make multi-part features single parts, or gather single parts.

    \b
    Example:
      polygene parts tolva.gpkg#islands --number part -o parts.gpkg
    """
    if gather is not None and (number or source):
        raise click.UsageError("--number and --source are for taking features apart")
    from polygene.ops.parts import apart, together

    def work(layer: Layer, progress: Any) -> Any:
        del progress
        if gather is not None:
            return together(layer, options.names_of(gather))
        return apart(layer, number=number, source=source)

    each.run("parts", work, _print, **options_)


def _print(summary: PartsSummary) -> list[str]:
    err = sys.stderr
    show.title(f"parts of {summary.name}", stream=err)
    taken = f"{summary.taken:,} of {show.counted(summary.total, 'feature')}"
    show.line("INPUT", f"{taken}, {show.counted(summary.parts, 'part')}", err)
    show.line("came out", show.counted(summary.out, "feature"), err)
    if summary.disagreements:
        words = ", ".join(f"{name} in {n:,}" for name, n in summary.disagreements.items())
        show.line("disagreed", f"{words} of the groups; null there", err)
    return []
