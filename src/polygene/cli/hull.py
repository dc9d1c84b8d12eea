"""``polygene hull``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from polygene.cli import each, options, recording
from polygene.cli.asked import Asked, work_on_each
from polygene.table.tokens import terms_of

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.hull import HullResult
    from polygene.progress import Progress
    from polygene.reading import Other


@recording.command()
@click.option("--each", "of_each", is_flag=True, help="A hull of each feature, not one of all.")
@click.option(
    "--by",
    metavar="FIELDS",
    default="",
    help="A hull of each group that agrees in these.",
)
@options.aggregate
@click.option("--without", metavar="OTHER", help="Take off what lies inside this layer.")
@options.match
@options.with_where
@each.common
def hull(
    asked: Asked,
    of_each: bool,
    by: str,
    aggregate: tuple[str, ...],
    without: str | None,
    match: tuple[str, ...],
) -> None:
    """Wrap the convex hull round all features, each, or groups.

    With --without and --match, what is round each group that is not it: the hull of every fire less
    that fire's own patches.

    \b
    Examples:
      polygene hull tolva.gpkg#buoys --by kind -o hulls.gpkg
      polygene hull tolva.gpkg#beds_marram --by species -o between.gpkg \\
        --without tolva.gpkg#beds_marram --match species
    """
    if without is None and (match or asked.with_where is not None):
        raise click.UsageError("--match and --with-where are of --without OTHER")
    if of_each and by:
        raise click.UsageError("--each and --by exclude each other")
    from polygene.growing.calls import Call
    from polygene.ops.hull import hull as hull_layer
    from polygene.reading import read_other

    read: list[Other] = []

    def before(progress: Progress) -> list[str]:
        if without is not None:
            read.append(read_other(without, asked.other_choice(), progress))
        return [note for other in read for note in other.notes]

    def work(layer: Layer, progress: Progress) -> HullResult:
        progress.stage(f"hulls of {layer.name}")
        names = terms_of(by)
        invalid = asked.invalid or "mend"
        return hull_layer(
            layer,
            each=of_each,
            by=names,
            aggregate=aggregate,
            without=read[0].layer if read else None,
            match=match,
            invalid=invalid,
        )

    call = None
    if without is None:
        told = {
            "each": of_each,
            "by": terms_of(by),
            "aggregate": aggregate,
            "invalid": asked.invalid or "mend",
        }
        call = Call("hull", "polygene.ops.hull", "hull", told, tells_progress=False)
    work_on_each("hull", asked, work, before=before, call=call)
