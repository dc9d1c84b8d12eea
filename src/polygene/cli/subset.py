"""``polygene subset``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from polygene.cli import each, options, show

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.subset import SubsetSummary


@click.command()
@options.box
@click.option("--sort", metavar="FIELDS", help="Order by these; -field falls. Nulls come last.")
@click.option("--limit", type=click.IntRange(0), help="The first so many, after sorting.")
@options.keep
@options.drop
@each.common
def subset(
    box: Any,
    sort: str | None,
    limit: int | None,
    keep: str | None,
    drop: str | None,
    **options_: Any,
) -> None:
    """Keep features by their attributes or a box, and some of their fields.

    \b
    Example:
      polygene subset tolva.gpkg#sectors --where "depth_max > 50" -o deep.gpkg \\
        --sort -depth_max --keep sector,name,depth_max
    """
    from polygene.ops.subset import subset as subset_layer

    def work(layer: Layer, progress: Any) -> Any:
        del progress
        return subset_layer(
            layer, box=box, limit=limit, sort=options.names_of(sort),
            keep=options.names_of(keep), drop=options.names_of(drop),
        )  # fmt: skip

    each.run("subset", work, _print, **options_)


def _print(summary: SubsetSummary) -> list[str]:
    err = sys.stderr
    show.title(f"subset of {summary.name}", stream=err)
    kept = f"{summary.out:,} of {show.counted(summary.total, 'feature')}"
    show.line("kept", kept, err)
    if len(summary.fields) < summary.fields_total:
        fields = f"{len(summary.fields)} of {summary.fields_total}: {', '.join(summary.fields)}"
        show.line("fields", fields, err)
    return [f"{summary.name}: no feature is left"] if summary.out == 0 else []
