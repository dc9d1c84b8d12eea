"""``polygene intersect``."""

from __future__ import annotations

from typing import Any

import click

from polygene.cli import options, overlay


@click.command()
@options.with_several
@options.origins
@overlay.common
def intersect(with_: tuple[str, ...], origins: bool, **options_: Any) -> None:
    """Keep the shared pieces, with the attributes of INPUT and OTHER.

    A row for each combination of features that meet. INPUT may be of any kind, OTHER is a layer of
    polygons; with several --with a piece must lie in all of them.

    \b
    Example:
      polygene intersect tolva.gpkg#cables --with tolva.gpkg#sectors -o beds.gpkg
    """
    from polygene.ops.intersect import intersect as intersect_layers

    overlay.run(
        intersect_layers,
        lambda progress: overlay.read_others(
            with_, options_["with_where"], options_["crs"], progress
        ),
        origins=origins,
        **options_,
    )
