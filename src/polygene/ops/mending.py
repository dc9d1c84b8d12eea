"""Polygons read anew by the rule of mend, row by row, and proved."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import proj
from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from, owners, spans
from polygene.geometry import GeometryColumn
from polygene.layer import Layer
from polygene.ops.overlays.sampled import check_groups
from polygene.ops.places.extents import grid_for
from polygene.ops.proved import prove_valid
from polygene.plane import selfcheck
from polygene.plane.grid import Grid
from polygene.plane.heights import filled
from polygene.plane.outlines import Outlines
from polygene.plane.settling import settle
from polygene.plane.validity import invalid_rows


def mended_rows(
    column: GeometryColumn,
    crs: proj.CRS | None,
    precision: float | None = None,
    asked: BoolArray | None = None,
) -> tuple[GeometryColumn, BoolArray]:
    """Return polygons with invalid rows mended, among those ``asked``, and which those were.

    Raises
    ------
    ValidityError
        If one that was mended is not valid: a bug of ours.
    """
    invalid = invalid_rows(column, asked)
    rows = np.flatnonzero(invalid)
    if len(rows) == 0:
        return column, invalid
    return settled_rows(column, crs, rows, precision), invalid


def settled_rows(
    column: GeometryColumn,
    crs: proj.CRS | None,
    rows: I64Array,
    precision: float | None = None,
) -> GeometryColumn:
    """Return polygons with some rows (k,) read by the rule of `mend`, on a grid, valid or not.

    Raises
    ------
    ValidityError
        If one is not valid then: a bug of ours.
    """
    some = column.take(rows)
    grid = grid_for(Layer("", some, pa.table({}), crs), [some.extent()], precision)
    new = _settled(some, grid)
    prove_valid(new, "mending")
    if selfcheck.is_on():
        check_groups(some, np.arange(some.n_rows), new, grid.step, "mend")
    return _with_rows(column, rows, new)


def _settled(column: GeometryColumn, grid: Grid) -> GeometryColumn:
    """Return each row as the rule reads it; vertices keep their coordinates where nothing crosses."""
    counts = np.diff(column.ring_offsets)
    has = np.flatnonzero(counts > 0)
    at = spans(column.ring_offsets[has], counts[has] + 1)
    at[np.cumsum(counts[has] + 1) - 1] = column.ring_offsets[has]  # closed, if it was not
    outlines = Outlines(
        column.xy.take(at, axis=0),
        offsets_from(counts[has] + 1),
        owners(column.part_offsets)[has],
        owners(column.row_offsets),
    )
    return settle(outlines, column.n_rows, grid, by_sign=False, apart=True, keeps_places=True)


def _with_rows(column: GeometryColumn, rows: I64Array, new: GeometryColumn) -> GeometryColumn:
    """Return the column with rows replaced; new vertices at old ones keep Z and M, others get them
    from their neighbours along the ring.
    """
    some = column.take(rows)
    z, m = (_carried(some, new, values) for values in (some.z, some.m))
    return column.with_rows(rows, replace(new, z=z, m=m))


def _carried(old: GeometryColumn, new: GeometryColumn, values: F64Array | None) -> F64Array | None:
    """Return Z or M of new vertices: as the same row had there, else between those that are known."""
    if values is None:
        return None
    rows = [owners(c.vertex_offsets_of_rows) for c in (old, new)]
    xy = np.concatenate([old.xy, new.xy])
    keys, numbers = np.unique(
        np.column_stack([np.concatenate(rows), xy]), axis=0, return_inverse=True
    )
    numbers = numbers.reshape(-1)
    known, is_old = np.full(len(keys), np.nan), np.zeros(len(keys), bool)
    known[numbers[: len(old.xy)]], is_old[numbers[: len(old.xy)]] = values, True
    mine = numbers[len(old.xy) :]
    return filled(new, known[mine], is_old[mine])
