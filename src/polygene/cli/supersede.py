"""``polygene supersede``."""

from __future__ import annotations

from typing import Any

from polygene.cli import options, overlay


@options.command()
@options.with_several
@overlay.common
def supersede(with_: tuple[str, ...], **options_: Any) -> None:
    """Replace INPUT by OTHER wherever it lies; the rest of INPUT stays.

    For a newer survey laid over a master. Of several --with the first goes over the second, and so
    on. --next writes the next version of the master.

    \b
    Example:
      polygene supersede tolva.gpkg#beds_kelda --with resurvey.geojson -o new.gpkg
    """
    from polygene.ops.supersede import supersede as supersede_layer

    overlay.run(
        supersede_layer,
        lambda progress: overlay.read_others(with_, options_, progress),
        **options_,
    )
