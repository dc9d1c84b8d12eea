"""Dissolve: join features that agree in some fields, or all of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace

import numpy as np
import pyarrow as pa

from polygene.arrays import owners
from polygene.classes import dataclass
from polygene.crs import label
from polygene.errors import UsageError, check_choice
from polygene.geometry import Family, GeometryColumn, extent_of, heights_of
from polygene.layer import Layer, names_alike
from polygene.measures import ruler_for
from polygene.ops.admit import admit
from polygene.ops.given import Names, names
from polygene.ops.ground import SIZES, stretched_in
from polygene.ops.grouped import grouped_by
from polygene.ops.joining import joined_areas
from polygene.ops.parts import single_parts as to_single_parts
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.ops.summary import Side, area_unit
from polygene.progress import SILENT, Progress
from polygene.table.aggregate import Entries, Take, aggregate
from polygene.table.agreeing import Agreed, agreed
from polygene.table.groups import Groups, group_rows
from polygene.units import Length, map_units

NULL_GROUPS = ("together", "apart")


@dataclass(frozen=True)
class DissolveSummary:
    """What a dissolve did.

    area : of the result; ``overlap`` is how much of INPUT lay under more than one feature of a group
    disagreements : groups in which a field had more than one value, or a commonest two, by field;
        null there
    taken : the fields that were aggregated
    proved : features of polygons that came out, each found valid by the exact test
    """

    input: Side
    by: list[str]
    out: int
    area: float | None
    overlap: float | None
    unit: str
    disagreements: dict[str, int]
    without_geometry: int
    crs: str
    precision: float
    notes: list[str]
    taken: list[str] = field(default_factory=list)
    proved: int = 0


@dataclass(frozen=True)
class DissolveResult:
    layer: Layer
    summary: DissolveSummary


def dissolve(
    layer: Layer,
    by: Names = (),
    aggregate: Names = (),
    *,
    null_group: str = "together",
    single_parts: bool = False,
    precision: Length | None = None,
    invalid: str = "mend",
    progress: Progress = SILENT,
) -> DissolveResult:
    """Join features that agree in the fields or expressions ``by``, or all if none is named.

    Fields are summed up as ``aggregate`` says, as in ``beds = count()``; the others keep their value
    where the group agrees, and are null elsewhere. Nulls in ``by`` form a group, or with
    ``null_group`` ``apart`` each such feature one of its own. Lines and points are gathered into one
    feature a group,
    as they are. ``precision`` is the step of the grid, a text or a number in map units. Invalid
    polygons are treated as ``invalid`` says: ``mend``, ``refuse`` or ``leave-out``.

    Raises
    ------
    UnknownFieldError
        If a field is not there.
    ExpressionError
        If an aggregate does not parse or fit.
    DataError
        If coordinates are not finite, or polygons are invalid and refused.
    """
    check_choice("null_group", null_group, NULL_GROUPS)
    layer, by = grouped_by(layer, names(by))
    takes = [Take.parse(text) for text in names(aggregate)]
    check_names(takes, by)
    step = map_units(precision, layer.crs)
    progress.stage(f"looking at {layer.name}")
    admission = admit(layer, invalid, precision=step)
    layer = admission.layer
    groups = group_rows(layer.table, by, layer.n_rows, null_group == "apart")
    bounds = finite_bounds(layer)
    grid = grid_for(layer, [extent_of(bounds)], step)
    ruler = ruler_for(layer.crs)
    progress.stage(f"dissolving {layer.name}: {layer.n_rows:,} features into {groups.n_groups:,}")
    area = overlap = None
    proved = 0
    if layer.geometry.family == Family.POLYGONS:
        joined = joined_areas(layer, groups, grid, ruler)
        geometry, sizes, own_sizes = joined.geometry, joined.sizes, joined.own_sizes
        proved = geometry.n_rows
        # What lies under one feature only is the same in both, but for the order of adding up.
        area, overlap = float(sizes.sum()), max(0.0, float(own_sizes.sum() - sizes.sum()))
    else:
        geometry = gathered(layer.geometry, groups)
    attributes = agreed(layer.table, groups, by)
    attributes = with_taken(attributes, takes, layer, groups)
    result = replace(layer, geometry=geometry, table=attributes.table, ids=None)
    if single_parts:
        result = to_single_parts(result)
    lost = heights_of([layer.geometry]) if geometry.z is None and geometry.m is None else []
    notes = [f"{' and '.join(lost)} values dropped: a dissolve has none"] if lost else []
    notes += stretched_in(
        layer, (tree for take in takes for tree in take.trees), SIZES[layer.geometry.family]
    )
    side = Side(
        layer.name,
        layer.n_total,
        layer.n_rows,
        layer.n_rows,
        layer.geometry.family,
        admission.facts,
    )
    return DissolveResult(
        result,
        DissolveSummary(
            input=side,
            by=list(by),
            out=result.n_rows,
            area=area,
            overlap=overlap,
            unit=area_unit(ruler),
            disagreements=attributes.disagreements,
            without_geometry=int(layer.geometry.is_empty.sum()) - admission.facts.vanished.count,
            crs=label(layer.crs),
            precision=grid.step,
            notes=notes,
            taken=[t.name for t in takes],
            proved=proved,
        ),
    )


def check_names(takes: Sequence[Take], by: Sequence[str]) -> None:
    """Refuse two aggregates of one name, or one with the name of a field of the groups.

    Raises
    ------
    UsageError
    """
    names = [name.casefold() for name in [*by, *(t.name for t in takes)]]
    for name in names:
        if names.count(name) > 1:
            raise UsageError(
                f"two fields of the result would be called {name!r}; name one otherwise"
            )


def with_taken(attributes: Agreed, takes: Sequence[Take], layer: Layer, groups: Groups) -> Agreed:
    """Add aggregates to a table of one row a group; one of a field's name takes its place."""
    table, disagreements = attributes.table, dict(attributes.disagreements)
    for take in takes:
        found = aggregate(take, layer, Entries(None, groups.group, groups.n_groups))
        known = names_alike([take.name], table.column_names).get(take.name)
        if known is None:
            columns, fields = [*table.columns, found.data], [*table.schema, found.field]
            table = pa.table(columns, pa.schema(fields))
        else:
            place = table.column_names.index(known)
            table = table.set_column(place, found.field, found.data)
        disagreements.pop(take.name, None)
        if found.disagreed:
            disagreements[take.name] = found.disagreed
    return Agreed(table, disagreements)


def gathered(column: GeometryColumn, groups: Groups) -> GeometryColumn:
    """Gather the parts of a group's rows into one row."""
    group = groups.group[owners(column.row_offsets)]
    order = np.argsort(group, kind="stable")
    return replace(column.take_parts(order, group[order], groups.n_groups), is_multi=True)
