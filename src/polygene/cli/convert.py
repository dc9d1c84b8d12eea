"""``polygene convert``."""

from __future__ import annotations

import sys
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from polygene.cli import each, options, show

if TYPE_CHECKING:
    from polygene.layer import Layer


@dataclass(frozen=True)
class Converted:
    """A layer as it is, and how many features it has."""

    layer: Layer
    summary: Copied


@dataclass(frozen=True)
class Copied:
    name: str
    features: int
    fields: int
    crs: str
    notes: list[str] = field(default_factory=list)


@options.command()
@each.common_carrying
def convert(**options_: Any) -> None:
    """Write layers in another format, gather many in one file, or spread one file into a folder.

    The ending of the destination says which format. What a format cannot hold is said.

    \b
    Examples:
      polygene convert tolva.gpkg#buoys -o buoys.parquet
      polygene convert 'tolva.gpkg#beds_*' -o beds.gpkg
    """
    from polygene.crs import label

    def work(layer: Layer, progress: Any) -> Any:
        del progress
        copied = Copied(layer.name, layer.n_rows, layer.table.num_columns, label(layer.crs))
        return Converted(layer, copied)

    each.run("convert", work, _print, **options_)


def _print(summary: Copied) -> list[str]:
    show.line(
        summary.name,
        f"{show.counted(summary.features, 'feature')}, {show.counted(summary.fields, 'field')}, "
        f"{summary.crs}",
        sys.stderr,
    )
    return summary.notes
