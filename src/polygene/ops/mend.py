"""Mend: valid geometry for every row by a stated rule."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from polygene.crs import label
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from polygene.ops.coverage import SettleSummary
from polygene.ops.extents import finite_bounds
from polygene.ops.mending import mended_rows
from polygene.ops.summary import NamedRows, unit_of
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
        layer.name,
        layer.n_rows,
        int(changed.sum()),
        rows,
        NamedRows.of(layer, vanished),
        unit_of(column.family, ruler),
        label(layer.crs),
        [],
        layer.n_rows if column.family == Family.POLYGONS else 0,
    )
    kept = np.flatnonzero(~vanished) if drop_empty else np.arange(layer.n_rows)
    return MendResult(layer.with_geometry(column.take(kept), kept), summary)
