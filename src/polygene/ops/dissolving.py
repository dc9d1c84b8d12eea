"""Dissolve in two steps, for layers of which only a part is at hand: borders, then groups.

First each part gives the borders of groups that are borders of its own rows; then groups are put
together, some at a time, each from all its borders. What comes out is what `polygene.ops.dissolve`
makes of the whole.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray, F64Array, I64Array, count_by, sum_by
from polygene.classes import NamedTuple, dataclass
from polygene.crs import label
from polygene.geometry import Family, GeometryColumn, extent_of, heights_of
from polygene.layer import Layer
from polygene.measures import ruler_for
from polygene.ops.admit import admit
from polygene.ops.dissolve import (
    DissolveResult,
    DissolveSummary,
    gathered,
    with_taken,
)
from polygene.ops.given import Names, names
from polygene.ops.grouped import grouped_by
from polygene.ops.part import core_of, extent_of_whole
from polygene.ops.parts import single_parts as to_single_parts
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.ops.proved import prove_valid
from polygene.ops.summary import Side, area_unit
from polygene.plane.grid import Grid
from polygene.plane.loose_borders import LooseBorders, put_together, taken_out
from polygene.plane.overlay import face_areas, overlay_alone
from polygene.plane.proof import proved_sums
from polygene.table.aggregate import Take
from polygene.table.agreeing import agreed
from polygene.table.groups import group_rows
from polygene.units import Length, map_units


class Bordered(NamedTuple):
    """What a part gives: its core rows, and the borders that they leave.

    layer : core rows; with geometry those that may be all of their group, and lines and points
    by : the fields they are grouped by
    own_sizes : (n_rows,) areas on the grid; is_crossed : (n_rows,) rows whose rings cross there
    borders, number : of groups, and the row of each as its source numbers it
    side, without_geometry, notes : what there is to tell
    """

    layer: Layer
    by: list[str]
    own_sizes: F64Array
    is_crossed: BoolArray
    borders: LooseBorders
    number: I64Array
    side: Side
    without_geometry: int
    step: float
    notes: list[str]


def borders_of(
    layer: Layer, by: Names, null_group: str, precision: Length | None, invalid: str
) -> Bordered:
    """Return what a part gives; see `polygene.ops.dissolve.dissolve` for what may be wrong."""
    layer, fields = grouped_by(layer, names(by))
    step = map_units(precision, layer.crs)
    admission = admit(layer, invalid, precision=step, counts=core_of(layer, 0))
    layer = admission.layer
    core = core_of(layer, 0)
    groups = group_rows(layer.table, fields, layer.n_rows, null_group == "apart")
    bounds = finite_bounds(layer)
    own = extent_of(bounds)
    grid = grid_for(layer, [extent_of_whole(0, own), own], step)
    is_polygons = layer.geometry.family == Family.POLYGONS
    if is_polygons:
        plan = overlay_alone(layer.geometry, grid)
        areas = face_areas(plan, ruler_for(layer.crs), proved_sums(plan))
        face, row = plan.own_labels()
        own_sizes = sum_by(row, areas[face], layer.n_rows)
        is_crossed = plan.row_is_crossed
        found = taken_out(plan, groups.group, groups.n_groups)
        mine = np.flatnonzero(core[found.row])
        borders, number = found.borders.take(mine), (layer.numbers - 1)[found.row[mine]]
    else:
        own_sizes, is_crossed = np.zeros(layer.n_rows), np.zeros(layer.n_rows, bool)
        borders, number = LooseBorders.nothing(), np.zeros(0, np.int64)
    n_empty = int((layer.geometry.is_empty & core).sum()) - admission.facts.vanished.count
    rows = np.flatnonzero(core)
    n_core = len(rows)
    side = Side(layer.name, n_core, n_core, n_core, layer.geometry.family, admission.facts)
    lost = heights_of([layer.geometry]) if is_polygons else []
    kept = layer.geometry
    if is_polygons:  # only what may be all of its group is wanted as it is
        members = count_by(groups.group, groups.n_groups)[groups.group]
        kept = _only(replace(kept, z=None, m=None), (members == 1) & ~is_crossed)
    return Bordered(
        layer=replace(layer, geometry=kept).take(rows),
        by=list(fields),
        own_sizes=own_sizes[rows],
        is_crossed=is_crossed[rows],
        borders=borders,
        number=number,
        side=side,
        without_geometry=n_empty,
        step=grid.step,
        notes=[f"{' and '.join(lost)} values dropped: a dissolve has none"] if lost else [],
    )


def _only(column: GeometryColumn, kept: BoolArray) -> GeometryColumn:
    """Return geometry of which only some rows are there; the others are null."""
    chosen = np.flatnonzero(kept)
    nothing = replace(GeometryColumn.nulls(column.n_rows), family=column.family)
    found = nothing.with_rows(chosen, column.take(chosen))
    is_null = np.ones(column.n_rows, bool)
    is_null[chosen] = column.is_null[chosen]
    return replace(found, is_null=is_null, is_multi=column.is_multi)


@dataclass(frozen=True)
class Grouping:
    """How groups are put together: as `polygene.ops.dissolve.dissolve` is told."""

    by: list[str]
    aggregate: Sequence[str] = ()
    null_group: str = "together"
    single_parts: bool = False


def groups_together(
    layer: Layer,
    own_sizes: F64Array,
    is_crossed: BoolArray,
    borders: LooseBorders,
    number: I64Array,
    grid: Grid,
    how: Grouping,
) -> DissolveResult:
    """Put groups together of which all rows, numbered in `Layer.rows`, and all borders are here."""
    groups = group_rows(layer.table, how.by, layer.n_rows, how.null_group == "apart")
    takes = [Take.parse(text) for text in how.aggregate]
    ruler, column = ruler_for(layer.crs), layer.geometry
    area = overlap = None
    if column.family == Family.POLYGONS:
        row = np.searchsorted(layer.numbers - 1, number)
        together = put_together(borders, groups.group[row], groups.n_groups, grid, ruler)
        area = float(together.sizes.sum())
        overlap = float(own_sizes.sum()) - area
        members = count_by(groups.group, groups.n_groups)
        is_lone = (members == 1) & ~is_crossed[groups.firsts]
        joined = together.geometry
        prove_valid(joined, f"dissolve of {layer.name}", ~is_lone)
        whole = column.take(groups.firsts[is_lone])
        geometry = joined.with_rows(np.flatnonzero(is_lone), whole) if is_lone.any() else joined
        is_null = geometry.is_null.copy()
        is_null[is_lone] = whole.is_null
        geometry = replace(geometry, is_null=is_null).as_multi_as(column)
    else:
        geometry = gathered(column, groups)
    found = with_taken(agreed(layer.table, groups, how.by), takes, layer, groups)
    result = replace(layer, geometry=geometry, table=found.table, ids=None, rows=None)
    if how.single_parts:
        result = to_single_parts(result)
    summary = DissolveSummary(
        input=Side(layer.name, 0, 0, 0, column.family),
        by=how.by,
        out=result.n_rows,
        area=area,
        overlap=overlap,
        unit=area_unit(ruler),
        disagreements=found.disagreements,
        without_geometry=0,
        crs=label(layer.crs),
        precision=grid.step,
        notes=[],
        taken=[t.name for t in takes],
        proved=groups.n_groups if column.family == Family.POLYGONS else 0,
    )
    return DissolveResult(result, summary)


def key_columns(layer: Layer, by: Sequence[str], null_group: str) -> pa.Table:
    """Return what tells groups apart (n_rows): their fields and, of nulls that stay apart, the row."""
    columns = {f"k{k}": layer.table.column(name) for k, name in enumerate(by)}
    has_null = np.zeros(layer.n_rows, bool)
    for column in columns.values():
        has_null |= np.asarray(pc.is_null(column))
    is_apart = has_null & (null_group == "apart")
    columns["apart"] = pa.chunked_array([pc.with_nulls(layer.numbers - 1, ~is_apart)])
    return pa.table(columns)
