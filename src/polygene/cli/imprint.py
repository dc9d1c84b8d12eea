"""``polygene imprint``."""

from __future__ import annotations

from typing import Any

from polygene.cli import options, overlay


@options.command()
@options.with_required
@options.origins
@overlay.common
def imprint(with_: str, origins: bool, **options_: Any) -> None:
    """Split INPUT along OTHER; pieces inside it get its attributes.

    All of INPUT comes out; what lies outside OTHER has nulls in its fields. INPUT may be of any
    kind, OTHER is one layer of polygons.

    \b
    Example:
      polygene imprint tolva.gpkg#cables --with tolva.gpkg#sectors -o lanes.gpkg
    """
    from polygene.ops.imprint import imprint as imprint_layer

    overlay.run(
        imprint_layer,
        lambda progress: overlay.read_others([with_], options_, progress),
        origins=origins,
        **options_,
    )
