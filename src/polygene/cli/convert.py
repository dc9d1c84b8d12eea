"""``polygene convert``."""

from __future__ import annotations

from typing import TYPE_CHECKING

from polygene.cli import each, options
from polygene.cli.asked import Asked, work_on_each

if TYPE_CHECKING:
    from polygene.layer import Layer
    from polygene.ops.summary import CopyResult
    from polygene.progress import Progress


@options.command()
@each.common_carrying
def convert(asked: Asked) -> None:
    """Write layers in another format, gather many in one file, or spread one file into a folder.

    The ending of the destination says which format. What a format cannot hold is said.

    \b
    Examples:
      polygene convert tolva.gpkg#buoys -o buoys.parquet
      polygene convert 'tolva.gpkg#beds_*' -o beds.gpkg
    """
    from polygene.crs import label
    from polygene.ops.summary import CopyResult, CopySummary

    def work(layer: Layer, progress: Progress) -> CopyResult:
        del progress
        n_fields = layer.table.num_columns
        crs = label(layer.crs)
        return CopyResult(layer, CopySummary(layer.name, layer.kind, layer.n_rows, n_fields, crs))

    work_on_each("convert", asked, work, carries=True)
