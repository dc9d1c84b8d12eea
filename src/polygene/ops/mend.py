"""Mend: valid geometry for every row by a stated rule."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.classes import dataclass
from polygene.crs import label
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from polygene.ops.coverage import Prefer, SettleSummary, settle_coverage
from polygene.ops.ground import SIZES, stretched
from polygene.ops.mending import mended_rows
from polygene.ops.places.extents import finite_bounds
from polygene.ops.summary import NamedRows, unit_of
from polygene.progress import SILENT, Progress
from polygene.units import Length, as_written, map_units


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
    coverage: Length | None = None,
    prefer: Prefer = "first",
    precision: Length | None = None,
    progress: Progress = SILENT,
) -> MendResult:
    """Make the polygons of every row valid to the letter of the Simple Features standard.

    A part covers what its rings wind round an odd number of times, whichever way they turn; a row what
    any of its parts covers. Rows that are valid stay bit for bit. Rows of which nothing is left become
    empty, or go with ``drop_empty``. Lines and points are valid as they are, but for repeated vertices
    that leave a line without length.

    Afterwards gaps and overlaps between features that are narrower than ``coverage`` are settled, as
    `polygene.ops.coverage.settle_coverage` says. Lengths are texts such as ``5m``, or numbers in map
    units.

    Raises
    ------
    DataError
        If coordinates are not finite.
    UsageError
        If a length does not fit the layer's CRS.
    """
    step, width = map_units(precision, layer.crs), map_units(coverage, layer.crs)
    result = _mended(layer, drop_empty, step, progress)
    if width is None:
        return result
    settled = settle_coverage(result.layer, width, prefer=prefer, precision=step, progress=progress)
    facts = replace(settled.summary, asked=as_written(coverage))
    notes = stretched(layer, ["area", "distance"])
    found = settled.layer
    if drop_empty:
        found = found.take(~found.geometry.is_empty | layer.geometry.is_empty)
    return replace(result, layer=found, summary=replace(result.summary, settled=facts, notes=notes))


def _mended(
    layer: Layer, drop_empty: bool, precision: float | None, progress: Progress
) -> MendResult:
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
        name=layer.name,
        features=layer.n_rows,
        mended=int(changed.sum()),
        rows=rows,
        vanished=NamedRows.of(layer, vanished),
        unit=unit_of(column.family, ruler),
        crs=label(layer.crs),
        notes=stretched(layer, SIZES[column.family]) if changed.any() else [],
        proved=layer.n_rows if column.family == Family.POLYGONS else 0,
    )
    kept = np.flatnonzero(~vanished) if drop_empty else np.arange(layer.n_rows)
    return MendResult(layer.with_geometry(column.take(kept), kept), summary)
