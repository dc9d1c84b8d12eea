"""``polygene erase``."""

from __future__ import annotations

from typing import Any

from polygene.cli import options, overlay


@options.command()
@options.with_required
@overlay.common
def erase(with_: str, **options_: Any) -> None:
    """Remove what lies inside OTHER; its border counts as inside.

    INPUT is one or several layers of any kind, OTHER one of polygons. What erase removes is what
    clip keeps.

    \b
    Example:
      polygene erase tolva.gpkg#sectors --with tolva.gpkg#islands -o water.gpkg
    """
    from polygene.ops.erase import erase as erase_layer

    overlay.run(
        erase_layer,
        lambda progress: overlay.read_others([with_], options_, progress),
        **options_,
    )
