"""Dissolve: join features that agree in some fields, or all of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np
import pyarrow as pa

from polygene import parallel
from polygene.arrays import BoolArray, F64Array, I64Array, count_by, owners, sum_by
from polygene.crs import label
from polygene.errors import UsageError, check_choice
from polygene.geometry import Family, GeometryColumn, extent_of, heights_of
from polygene.layer import Layer
from polygene.measures import Ruler, ruler_for
from polygene.ops.admit import admit
from polygene.ops.given import Names, names
from polygene.ops.grouped import grouped_by
from polygene.ops.overlays.sampled import check_groups
from polygene.ops.parts import single_parts as to_single_parts
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.ops.proved import prove_valid
from polygene.ops.summary import Side, area_unit
from polygene.plane import selfcheck
from polygene.plane.grid import Grid
from polygene.plane.overlay import Overlay, face_areas, overlay_alone
from polygene.plane.proof import prove_pieces, proved_sums
from polygene.plane.rings import Pieces, Rings, rings_to_column, thinned, trace_rings
from polygene.progress import SILENT, Progress
from polygene.table.aggregate import Entries, Take, aggregate
from polygene.table.groups import Agreed, Groups, agreed, group_rows
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
        geometry, sizes, own_sizes = _joined_polygons(layer, groups, grid, ruler)
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
    rows = np.arange(layer.n_rows)
    for take in takes:
        found = aggregate(take, layer, Entries(rows, groups.group, groups.n_groups))
        place = next(
            (k for k, n in enumerate(table.column_names) if n.casefold() == take.name.casefold()),
            None,
        )
        if place is None:
            columns, fields = [*table.columns, found.data], [*table.schema, found.field]
            table = pa.table(columns, pa.schema(fields))
        else:
            table = table.set_column(place, found.field, found.data)
        disagreements.pop(take.name, None)
        if found.disagreed:
            disagreements[take.name] = found.disagreed
    return Agreed(table, disagreements)


class Joined(NamedTuple):
    """Groups as the plane has them.

    geometry : (n_groups) rows; rings, keeps : what they were made of, and the nodes that are written
    face, row : the faces that rows cover; group_face, group : those that groups cover
    """

    geometry: GeometryColumn
    rings: Rings
    keeps: BoolArray
    face: I64Array
    row: I64Array
    group_face: I64Array
    group: I64Array


def join_faces(plan: Overlay, groups: Groups) -> Joined:
    """Join areas: the faces that any row of a group covers."""
    arrangement, n_groups = plan.arrangement, groups.n_groups
    face, row = plan.own_labels()
    group_face, group = _distinct(face, groups.group[row])
    pieces = Pieces.of_sorted(group_face, group, arrangement.n_faces, n_groups)
    rings = trace_rings(arrangement, pieces)
    # Rows of a group are no strangers to each other: what one left on another's border goes.
    row_of_part = groups.group[plan.row_of_part]
    kept = thinned(arrangement, plan.noded, rings, np.arange(n_groups)[:, None], row_of_part)
    joined, _ = rings_to_column(arrangement, rings, kept, plan.node_xy, n_groups)
    return Joined(
        geometry=joined,
        rings=rings,
        keeps=kept,
        face=face,
        row=row,
        group_face=group_face,
        group=group,
    )


def _joined_polygons(
    layer: Layer, groups: Groups, grid: Grid, ruler: Ruler
) -> tuple[GeometryColumn, F64Array, F64Array]:
    """Return groups joined and proved, and by the plan the area of each group and each row."""
    column = layer.geometry
    plan = overlay_alone(column, grid)
    sums_found = parallel.meanwhile(lambda: proved_sums(plan))
    found = join_faces(plan, groups)
    joined, faces = found.geometry, sums_found()
    wanted = faces.by_group(found.group, found.group_face, groups.n_groups)
    prove_pieces(plan, found.rings, found.keeps, wanted, "group")
    areas = face_areas(plan, ruler, faces)
    own_sizes = sum_by(found.row, areas[found.face], plan.n_own_rows)
    sizes = sum_by(found.group, areas[found.group_face], groups.n_groups)
    if selfcheck.is_on():
        check_groups(column, groups.group, joined, grid.step, "dissolve")
    # A group of one sound feature is that feature.
    members = count_by(groups.group, groups.n_groups)
    is_lone = (members == 1) & ~plan.row_is_crossed[groups.firsts]
    prove_valid(joined, f"dissolve of {layer.name}", ~is_lone)
    whole = replace(column.take(groups.firsts[is_lone]), z=None, m=None)
    both = joined.with_rows(np.flatnonzero(is_lone), whole) if is_lone.any() else joined
    is_null = both.is_null.copy()
    is_null[is_lone] = whole.is_null
    both = replace(both, is_null=is_null).as_multi_as(column)
    return both, sizes, own_sizes


def _distinct(face: I64Array, group: I64Array) -> tuple[I64Array, I64Array]:
    """Sort (face, group) pairs and take out repeats; for a clean coverage there is nothing to do."""
    if (np.diff(face) > 0).all():
        return face, group
    order = np.lexsort((group, face))
    face, group = face[order], group[order]
    is_new = np.ones(len(face), bool)
    is_new[1:] = (np.diff(face) > 0) | (np.diff(group) > 0)
    return face[is_new], group[is_new]


def gathered(column: GeometryColumn, groups: Groups) -> GeometryColumn:
    """Gather the parts of a group's rows into one row."""
    group = groups.group[owners(column.row_offsets)]
    order = np.argsort(group, kind="stable")
    return replace(column.take_parts(order, group[order], groups.n_groups), is_multi=True)
