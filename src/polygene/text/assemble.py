"""From loose parts of any family, as readers find them, to geometry columns of one family each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, count_by, offsets_from
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn, joined_heights


class Parts(NamedTuple):
    """Parts of one family in a row.

    row : (n_parts,) the row each belongs to
    ring_counts : (n_parts,)
    vertex_counts : (n_rings,)
    xy : (n_vertices, 2)
    z, m : (n_vertices,) or None; NaN where a vertex has none
    n_longer : positions that have more numbers than are taken
    """

    family: Family
    row: I64Array
    ring_counts: I64Array
    vertex_counts: I64Array
    xy: F64Array
    z: F64Array | None = None
    m: F64Array | None = None
    n_longer: int = 0


class OfFamily(NamedTuple):
    """The rows of a source that have geometry of one family; those without any are with the first."""

    rows: I64Array
    geometry: GeometryColumn


def columns_of(
    all_parts: Sequence[Parts],
    n_rows: int,
    is_null: BoolArray,
    is_multi_row: BoolArray,
    default: Family,
) -> list[OfFamily]:
    """Sort parts into columns by family, the family with most rows first.

    Parameters
    ----------
    is_null : (n_rows,) rows without geometry; is_multi_row : (n_rows,) rows given as multi
    default : the family of a source without any part
    """
    columns = []
    has_part = np.zeros(n_rows, bool)
    for family in Family:
        own = [parts for parts in all_parts if parts.family == family and len(parts.row)]
        if own:
            column = _column(family, own, n_rows, is_null)
            columns.append(column)
            has_part |= np.diff(column.row_offsets) > 0
    if not columns:
        columns = [_column(default, [], n_rows, is_null)]
    if len(columns) == 1:
        rows = np.arange(n_rows)
        return [OfFamily(rows, replace(columns[0], is_multi=bool(is_multi_row.any())))]
    columns.sort(key=lambda column: -int((np.diff(column.row_offsets) > 0).sum()))
    chosen = []
    for k, column in enumerate(columns):
        mask = np.diff(column.row_offsets) > 0
        rows = np.flatnonzero(mask | ~has_part if k == 0 else mask)
        is_multi = bool(is_multi_row[rows].any())
        chosen.append(OfFamily(rows, replace(column.take(rows), is_multi=is_multi)))
    return chosen


def _column(
    family: Family, own: Sequence[Parts], n_rows: int, is_null: BoolArray
) -> GeometryColumn:
    row = np.concatenate([p.row for p in own]) if own else np.zeros(0, np.int64)
    ring_counts = np.concatenate([p.ring_counts for p in own]) if own else row
    vertex_counts = np.concatenate([p.vertex_counts for p in own]) if own else row
    xy = np.concatenate([p.xy for p in own]) if own else np.zeros((0, 2))
    column = GeometryColumn(
        family=family,
        xy=xy,
        ring_offsets=offsets_from(vertex_counts),
        part_offsets=offsets_from(ring_counts),
        row_offsets=offsets_from(count_by(row, n_rows)),
        is_null=is_null,
        z=joined_heights([p.z for p in own], [len(p.xy) for p in own]),
        m=joined_heights([p.m for p in own], [len(p.xy) for p in own]),
    )
    if (row[1:] >= row[:-1]).all():
        return column
    # Parts of several kinds came one kind after the other: bring them into the order of the rows.
    order = np.argsort(row, kind="stable")
    return replace(column.take_parts(order, row[order], n_rows), is_null=is_null)
