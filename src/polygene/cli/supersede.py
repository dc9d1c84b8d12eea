"""``polygene supersede``."""

from __future__ import annotations

import click

from polygene.cli import options, overlays, recording
from polygene.cli.asked import OverlayAsked


@recording.command()
@options.with_several
@options.key
@click.option(
    "--leftovers",
    type=click.Choice(["keep", "drop", "only"]),
    help="What is left of features whose key is in OTHER: keep it, drop it (as --key alone does), or "
    "keep nothing else.",
)
@overlays.common
def supersede(
    asked: OverlayAsked, with_: tuple[str, ...], key: tuple[str, ...], leftovers: str | None
) -> None:
    """Replace INPUT by OTHER wherever it lies; the rest of INPUT stays.

    For a newer survey laid over a master. Of several --with the first goes over the second, and so
    on. With --key, what is left of a feature that OTHER has anew is gone too. --next writes the next
    version of the master.

    \b
    Example:
      polygene supersede tolva.gpkg#beds_kelda --with resurvey.geojson -o new.gpkg
    """
    if leftovers is not None and not key:
        raise click.UsageError("--leftovers are told by a key; give --key too")
    from polygene.ops.supersede import supersede as supersede_layer

    overlays.run("supersede", supersede_layer, asked, with_, key=key, leftovers=leftovers or "drop")
