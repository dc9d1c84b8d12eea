"""Which groups of rows of a GeoParquet file may meet a box, and which rows, by the boxes kept of them.

A row whose box goes over the 180th meridian has a west that is larger than its east (RFC 7946, 5.2),
which the least and the greatest of a group do not always tell.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from polygene import computing as pc
from polygene.arrays import BoolArray, F64Array
from polygene.crs import degrees_of, is_geographic
from polygene.formats.geoparquet.stated import crs_of
from polygene.geometry import Extent


def as_they_keep_them(
    file: pq.ParquetFile, paths: list[tuple[str, str]], boxes: list[Extent]
) -> list[Extent]:
    """Return boxes as those of the rows, in ``paths``, can be held to them."""
    if all(_is_double(file, path) for path in paths):
        return boxes
    return [_rounded_out(box) for box in boxes]


def groups_meeting(
    file: pq.ParquetFile,
    about: dict[str, Any],
    geometry: str,
    paths: list[tuple[str, str]],
    boxes: list[Extent],
    fetch: Callable[[Sequence[int], Sequence[str]], None],
) -> list[int]:
    """Return the groups that may hold a row that meets one of some boxes.

    ``about`` is what the file states of the column ``geometry``, ``paths`` are where the boxes of its
    rows are kept, and ``fetch`` sees to it that columns of groups are there.
    """
    # All groups have the columns of the schema in its order (Parquet format, RowGroup.columns).
    schema = file.metadata.schema
    columns = {schema.column(k).path: k for k in range(len(schema))}
    at = [columns.get(".".join(path)) for path in paths]
    of_all = [file.metadata.row_group(g) for g in range(file.num_row_groups)]
    met = {
        g
        for g, group in enumerate(of_all)
        if _has_rows_without_box(group, at, columns.get(geometry))
        or any(_meets(group, at, box) for box in boxes)
    }
    if _may_go_over_meridian(about):
        tall = [(-np.inf, box[1], np.inf, box[3]) for box in boxes]
        beside = [
            g
            for g, group in enumerate(of_all)
            if g not in met and any(_meets(group, at, box) for box in tall)
        ]
        fetch(beside, [paths[0][0], paths[2][0]])
        met |= _reaching_over(file, beside, paths, boxes)
    return sorted(met)


def _may_go_over_meridian(about: dict[str, Any]) -> bool:
    """Whether boxes of rows may do so: where longitudes are, and the extent of all does not deny it."""
    crs = crs_of(about)
    if crs is None or not is_geographic(crs):
        return False
    extent, half = about.get("bbox"), 180 / degrees_of(crs)
    if not extent:
        return True
    west, east = extent[0], extent[len(extent) // 2]
    return bool(west > east or west <= -half or east >= half)


def _rounded_out(box: Extent) -> Extent:
    """Return a box that sides of 32 bits, even if rounded inwards, meet where the sides themselves do.

    Rounding changes the order of no two numbers.
    """
    low_x, low_y, high_x, high_y = np.array(box, np.float32).tolist()
    return min(box[0], low_x), min(box[1], low_y), max(box[2], high_x), max(box[3], high_y)


def _is_double(file: pq.ParquetFile, path: tuple[str, str]) -> bool:
    own = file.schema_arrow.field(path[0]).type
    return bool(pa.types.is_float64(own.field(path[1]).type))


def _reaching_over(
    file: pq.ParquetFile, groups: list[int], paths: list[tuple[str, str]], boxes: list[Extent]
) -> set[int]:
    """Return the groups with a row at the longitudes of a box; only these are read, at one go."""
    if not groups:
        return set()
    own = [paths[0], paths[2]]
    table = file.read_row_groups(groups, columns=[".".join(path) for path in own])
    west, east = (_side(table, path) for path in own)
    is_there = np.zeros(table.num_rows, bool)
    for box in boxes:
        is_there |= ~_lie_beside(west, east, box)
    of_rows = np.repeat(groups, [file.metadata.row_group(g).num_rows for g in groups])
    return set(of_rows[is_there].tolist())


def rows_meeting(table: pa.Table, paths: list[tuple[str, str]], boxes: list[Extent]) -> BoolArray:
    """Return which rows have a box that may meet one of some; one that is not there may."""
    west, south, east, north = (_side(table, path) for path in paths)
    found = np.zeros(table.num_rows, bool)
    for box in boxes:
        found |= ~(_lie_beside(west, east, box) | (south > box[3]) | (north < box[1]))
    return found


def _side(table: pa.Table, path: tuple[str, str]) -> F64Array:
    """Return one side of the boxes of all rows, NaN where there is none."""
    return np.asarray(pc.struct_field(table.column(path[0]), path[1]))


def _lie_beside(west: F64Array, east: F64Array, box: Extent) -> BoolArray:
    """Return which boxes, by their longitudes, lie west or east of another."""
    begins_after, ends_before = west > box[2], east < box[0]
    found: BoolArray = np.where(west > east, begins_after & ends_before, begins_after | ends_before)
    return found


def _has_rows_without_box(group: Any, at: list[int | None], geometry: int | None) -> bool:
    """Whether rows of a group have no box, more of them than have no geometry."""
    of_boxes, of_geometry = (
        0 if column is None else getattr(group.column(column).statistics, "null_count", None) or 0
        for column in (at[0], geometry)
    )
    return bool(of_boxes > of_geometry)


def _meets(group: Any, at: list[int | None], box: Extent) -> bool:
    """Whether a group of rows may hold one whose box meets another, by its statistics.

    ``at`` are the columns of the least x and y of each row and of the greatest.
    """
    low, high = (
        [_statistic(group, at[axis + k], which, unknown) for axis in (0, 1)]
        for k, which, unknown in ((0, "min", -np.inf), (2, "max", np.inf))
    )
    is_beside = low[0] > box[2] or high[0] < box[0]
    if low[0] > high[0]:  # all of them lie over the 180th meridian
        is_beside = low[0] > box[2] and high[0] < box[0]
    return not (is_beside or low[1] > box[3] or high[1] < box[1])


def _statistic(group: Any, column: int | None, which: str, unknown: float) -> float:
    """Return the least or the greatest value that a group has in a column, as the file tells."""
    statistics = None if column is None else group.column(column).statistics
    if statistics is None or not statistics.has_min_max:
        return unknown
    value = float(getattr(statistics, which))
    return unknown if value != value else value  # what is no number says nothing of the others
