"""Mend: valid geometry for every row by a stated rule."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import pyproj

from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from, owners, spans
from polygene.crs import label
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from polygene.ops.admit import prove_valid
from polygene.ops.coverage import SettleSummary
from polygene.ops.extents import finite_bounds, grid_for
from polygene.ops.sampled import check_groups
from polygene.ops.summary import NamedRows, unit_of
from polygene.plane import selfcheck
from polygene.plane.grid import Grid
from polygene.plane.settling import Outlines, settle
from polygene.plane.validity import invalid_rows
from polygene.progress import SILENT, Progress


@dataclass(frozen=True)
class Mended:
    """What changed in one row: its label, and its area before (by its rings' signs) and after."""

    row: str
    before: float
    after: float


@dataclass(frozen=True)
class MendSummary:
    """How many rows were mended, the first of them, and those of which nothing is left.

    proved : polygons found valid by the exact test, as they came or as they were mended: all of them
    settled : of a coverage that was settled afterwards
    """

    name: str
    features: int
    mended: int
    rows: list[Mended]
    vanished: NamedRows
    unit: str
    crs: str
    notes: list[str]
    proved: int = 0
    settled: SettleSummary | None = None


@dataclass(frozen=True)
class MendResult:
    layer: Layer
    summary: MendSummary


def mend(
    layer: Layer,
    *,
    drop_empty: bool = False,
    precision: float | None = None,
    progress: Progress = SILENT,
) -> MendResult:
    """Make the polygons of every row valid to the letter of the Simple Features standard.

    A part covers what its rings wind round an odd number of times, whichever way they turn; a row what
    any of its parts covers. Rows that are valid stay bit for bit. Rows of which nothing is left become
    empty, or go with ``drop_empty``. Lines and points are valid as they are, but for repeated vertices
    that leave a line without length.

    Raises
    ------
    DataError
        If coordinates are not finite.
    """
    finite_bounds(layer)
    progress.stage(f"mending {layer.name}")
    column, changed = layer.geometry, np.zeros(layer.n_rows, bool)
    if column.family == Family.POLYGONS:
        column, changed = mended_rows(column, layer.crs, precision)
    ruler = ruler_for(layer.crs)
    before, after = row_measures(layer.geometry, ruler), row_measures(column, ruler)
    vanished = changed & column.is_empty
    rows = [
        Mended(layer.row_label(int(r)), float(before[r]), float(after[r]))
        for r in np.flatnonzero(changed)[:20]
    ]
    summary = MendSummary(
        layer.name, layer.n_rows, int(changed.sum()), rows, NamedRows.of(layer, vanished),
        unit_of(column.family, ruler), label(layer.crs), [],
        layer.n_rows if column.family == Family.POLYGONS else 0,
    )  # fmt: skip
    kept = np.flatnonzero(~vanished) if drop_empty else np.arange(layer.n_rows)
    return MendResult(layer.with_geometry(column.take(kept), kept), summary)


def mended_rows(
    column: GeometryColumn,
    crs: pyproj.CRS | None,
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
    crs: pyproj.CRS | None,
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
        column.xy.take(at, axis=0), offsets_from(counts[has] + 1), owners(column.part_offsets)[has],
        owners(column.row_offsets),
    )  # fmt: skip
    return settle(outlines, column.n_rows, grid, by_sign=False, apart=True, keeps_places=True)


def _with_rows(column: GeometryColumn, rows: I64Array, new: GeometryColumn) -> GeometryColumn:
    """Return the column with rows replaced; of new vertices at old ones Z and M are kept."""
    some = column.take(rows)
    z, m = (_carried(some, new, values) for values in (some.z, some.m))
    return column.with_rows(rows, replace(new, z=z, m=m))


def _carried(old: GeometryColumn, new: GeometryColumn, values: F64Array | None) -> F64Array | None:
    """Return Z or M of new vertices that lie where the same row had one; NaN elsewhere."""
    if values is None:
        return None
    rows = [owners(c.vertex_offsets_of_rows) for c in (old, new)]
    xy = np.concatenate([old.xy, new.xy])
    keys, numbers = np.unique(
        np.column_stack([np.concatenate(rows), xy]), axis=0, return_inverse=True
    )
    numbers = numbers.reshape(-1)
    known = np.full(len(keys), np.nan)
    known[numbers[: len(old.xy)]] = values
    return known[numbers[len(old.xy) :]]
