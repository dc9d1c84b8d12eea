"""``polygene convert``."""

from __future__ import annotations

from polygene.cli import each, recording
from polygene.cli.asked import Asked, work_on_each


@recording.command()
@each.common_carrying
def convert(asked: Asked) -> None:
    """Write layers in another format, gather many in one file, or spread one file into a folder.

    The ending of the destination says which format. What a format cannot hold is said.

    \b
    Examples:
      polygene convert tolva.gpkg#buoys -o buoys.parquet
      polygene convert 'tolva.gpkg#beds_*' -o beds.gpkg
    """
    from polygene.growing.calls import Call

    call = Call("convert", "polygene.ops.copied", "copied", tells_progress=False)
    work_on_each("convert", asked, call, carries=True)
