"""A layer that is written piece by piece, so that it need not fit into memory."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from polygene.classes import dataclass
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.provenance import Lineage

if TYPE_CHECKING:
    from polygene.formats.parquet_parts.index import Index

GROUPS = 8  # groups of rows of a part that are a piece: some 16 MB


@dataclass(frozen=True)
class Pieces:
    """A layer in pieces.

    like : it without rows: its name, CRS, fields, lineage, and of which kind its geometry is
    n_rows, n_vertices : of all pieces; extent : of all, asked for when it is needed
    each : gives the pieces in their order, anew each time it is asked
    """

    like: Layer
    n_rows: int
    n_vertices: int
    extent: Callable[[], Extent | None]
    each: Callable[[], Iterator[Layer]]

    @staticmethod
    def of(layer: Layer) -> Pieces:
        """Return a layer that is in memory as one piece."""
        column = layer.geometry
        like = replace(layer.take(np.zeros(0, np.int64)), lineage=layer.lineage)
        return Pieces(like, layer.n_rows, column.n_vertices, column.extent, lambda: iter([layer]))

    def called(self, name: str, lineage: Lineage | None) -> Pieces:
        """Return the layer under a name, with a lineage."""
        like = replace(self.like, name=name, lineage=lineage)
        return replace(
            self, like=like, each=lambda: (replace(own, name=name) for own in self.each())
        )

    @staticmethod
    def of_folder(folder: Path, index: Index, like: Layer) -> Pieces:
        """Return the parts of a folder of GeoParquet as pieces of a layer like one without rows."""
        kind = (index.is_multi, index.heights)
        whole = replace(like, geometry=like.geometry.of_kind(*kind), ids=None, rows=None)

        def each() -> Iterator[Layer]:
            from polygene.formats import geoparquet  # not for those that write what is in memory

            n_rows = 0
            for part in index.parts:
                for first in range(0, len(part.rows), GROUPS):
                    groups = range(first, min(first + GROUPS, len(part.rows)))
                    layer, _ = geoparquet.rows_of(folder / part.file, groups)
                    if not layer.n_rows:
                        continue
                    table = layer.table
                    if table.num_columns:
                        table = table.cast(whole.table.schema)
                    yield replace(
                        whole,
                        geometry=layer.geometry.of_kind(*kind),
                        table=table,
                        rows=np.arange(n_rows, n_rows + layer.n_rows),
                        total=index.n_rows,
                    )
                    n_rows += layer.n_rows

        return Pieces(whole, index.n_rows, index.n_vertices, lambda: index.extent, each)
