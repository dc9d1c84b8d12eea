"""In which order the rows of a folder lie, and where it is cut: by the rows alone.

Whatever made a layer, at once or in parts, and in whichever order: the same rows give the same files,
byte for byte.
"""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from
from polygene.classes import NamedTuple
from polygene.crs import is_geographic
from polygene.formats.columns import to_wkb
from polygene.formats.hilbert import PLACE_BITS, places_along
from polygene.layer import Layer

CELL_BITS = 32  # of a place along the curve; a file never begins within such a cell
PART_BYTES = 100_000_000  # of a part, before compression
GROUP_BYTES = 2_000_000  # of a group of rows that is read together
LEAST_BYTES = 256  # a row counts for: 8,192 points are a group


class Ordered(NamedTuple):
    """Rows in their order.

    places : (n_rows,) along the curve, rising; sizes : (n_rows,) bytes that they count for
    """

    layer: Layer
    places: I64Array
    sizes: I64Array

    @property
    def cells(self) -> I64Array:
        """(n_rows,) the cell of each row."""
        return self.places >> (2 * PLACE_BITS - CELL_BITS)


def ordered(layer: Layer) -> Ordered:
    """Put the rows of a layer in order: by place, then by box, then by what is in them."""
    bounds = layer.geometry.row_bounds()
    places = places_along(bounds, is_geographic(layer.crs))
    order = np.argsort(places, kind="stable")
    is_tied = _tied(places[order][:, None])
    if is_tied.any():
        some = order[is_tied]
        keys = np.column_stack([places[some].astype(np.float64), bounds[some]])
        some = some[np.lexsort((*keys.T[:0:-1], places[some]))]
        order[is_tied] = some
        is_alike = np.zeros(len(order), bool)
        is_alike[is_tied] = _tied(np.column_stack([places[some].astype(np.float64), bounds[some]]))
        if is_alike.any():
            order[is_alike] = _by_content(layer, order[is_alike], places, bounds)
    if not (np.diff(order) == 1).all():
        layer = layer.take(order)
    sizes = _sizes(layer)
    return Ordered(layer, places[order], sizes)


def _tied(keys: np.ndarray) -> BoolArray:
    """Return which rows of sorted keys (n, k) are as the one before or after."""
    same = (keys[1:] == keys[:-1]).all(axis=1)
    found = np.zeros(len(keys), bool)
    found[1:] |= same
    found[:-1] |= same
    return found


def _by_content(layer: Layer, rows: I64Array, places: I64Array, bounds: F64Array) -> I64Array:
    """Sort rows, sorted so far that those of one place and box stand together, by all they hold."""
    keys = np.column_stack([places[rows].astype(np.float64), bounds[rows]])
    run = np.cumsum(np.concatenate([[0], (keys[1:] != keys[:-1]).any(axis=1)]))
    some = layer.take(rows)
    columns = [pc.column(run), pc.fill_null(pc.cast(to_wkb(some.geometry), pa.binary()), b"")]
    columns.append(pc.column(some.geometry.is_null.astype(np.int8)))
    columns += [sortable(column) for column in some.table.columns]
    table = pa.table(columns, [f"k{k}" for k in range(len(columns))])
    found = pc.sort_indices(table, [(name, "ascending") for name in table.column_names])
    return rows[np.asarray(found).astype(np.int64)]


def sortable(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return values that Arrow can sort, equal where these are."""
    kind = column.type
    if pa.types.is_dictionary(kind):
        return sortable(pc.cast(column, kind.value_type))
    if pa.types.is_boolean(kind):
        return pc.cast(column, pa.int8())
    if pa.types.is_nested(kind) or pa.types.is_null(kind):
        return pa.chunked_array([pa.array([repr(v) for v in column.to_pylist()], pa.string())])
    return column


def _sizes(layer: Layer) -> I64Array:
    """Return the bytes (n_rows,) that rows count for: those of their geometry, roughly."""
    vertices = np.diff(layer.geometry.vertex_offsets_of_rows)
    per_vertex = 16 + 8 * sum(v is not None for v in (layer.geometry.z, layer.geometry.m))
    return np.maximum(vertices * per_vertex + 8 * layer.table.num_columns, LEAST_BYTES)


class Cells(NamedTuple):
    """Cells along the curve that have rows, rising: bytes and rows of each."""

    cells: I64Array
    sizes: I64Array
    rows: I64Array

    @staticmethod
    def of(rows: Ordered) -> Cells:
        cells, firsts, counts = np.unique(rows.cells, return_index=True, return_counts=True)
        sizes = np.add.reduceat(rows.sizes, firsts) if len(cells) else rows.sizes
        return Cells(cells, sizes, counts)

    @staticmethod
    def together(every: list[Cells]) -> Cells:
        """Add up the cells of several sets of rows."""
        nothing = np.zeros(0, np.int64)
        cells, number = np.unique(
            np.concatenate([nothing, *(c.cells for c in every)]), return_inverse=True
        )
        sizes, rows = np.zeros((2, len(cells)), np.int64)
        np.add.at(sizes, number, np.concatenate([nothing, *(c.sizes for c in every)]))
        np.add.at(rows, number, np.concatenate([nothing, *(c.rows for c in every)]))
        return Cells(cells, sizes, rows)

    def parts(self, most: int = PART_BYTES) -> list[tuple[int, int]]:
        """Cut the cells into parts of about ``most`` bytes: the first and last cell of each."""
        if not len(self.cells):
            return []
        part = (np.cumsum(self.sizes) - self.sizes) // most
        starts = np.flatnonzero(np.diff(part, prepend=-1))
        stops = np.concatenate([starts[1:], [len(part)]]) - 1
        return list(zip(self.cells[starts].tolist(), self.cells[stops].tolist(), strict=True))


def groups_of(sizes: I64Array) -> I64Array:
    """Return where the groups of rows of a part begin and end, (n_groups + 1,) offsets."""
    group = (np.cumsum(sizes) - sizes) // GROUP_BYTES
    counts = np.unique(group, return_counts=True)[1]
    return offsets_from(counts)
