"""Hull: the convex hull of all features, of each, or of groups."""

from __future__ import annotations

from dataclasses import field, replace

import numpy as np

from polygene import computing as pc
from polygene import kernels
from polygene.arrays import BoolArray, I64Array, count_by, offsets_from, owners, spans
from polygene.classes import dataclass
from polygene.crs import label
from polygene.errors import UsageError
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer, row_numbers
from polygene.longitudes import opened, parted_rings
from polygene.measures import row_areas, ruler_for
from polygene.ops.admit import admit
from polygene.ops.dissolve import check_names, with_taken
from polygene.ops.erase import erase
from polygene.ops.given import Names, names
from polygene.ops.ground import stretched_in
from polygene.ops.grouped import grouped_by
from polygene.ops.places.extents import finite_bounds
from polygene.ops.proved import prove_valid
from polygene.ops.summary import Admitted, NamedRows, unit_of
from polygene.table.aggregate import Take
from polygene.table.agreeing import agreed
from polygene.table.groups import group_rows


@dataclass(frozen=True)
class HullSummary:
    """How many hulls came out, each ``proved`` valid; ``flat`` are groups that lie on a line.

    without : the layer that was taken off, if one was, by ``match``
    taken_off : how much area that was; gone : of how many hulls nothing is left
    """

    name: str
    total: int
    taken: int
    out: int
    area: float
    unit: str
    flat: NamedRows
    disagreements: dict[str, int]
    crs: str
    notes: list[str]
    admitted: Admitted = field(default_factory=Admitted)
    proved: int = 0
    without: str = ""
    match: list[str] = field(default_factory=list)
    taken_off: float = 0.0
    gone: int = 0


@dataclass(frozen=True)
class HullResult:
    layer: Layer
    summary: HullSummary


def hull(
    layer: Layer,
    *,
    each: bool = False,
    by: Names = (),
    aggregate: Names = (),
    without: Layer | None = None,
    match: Names = (),
    invalid: str = "mend",
) -> HullResult:
    """Return the convex hull of all features, of ``each``, or of those that agree in ``by``.

    That are fields or expressions; other fields are summed up as ``aggregate`` says, or keep a value
    where all of a group agree. In longitude and latitude a hull is that on their plane, cut open as
    `polygene.longitudes` says, and parted where it goes over the 180th meridian. Exact: corners are
    vertices of the input, bit for bit. What lies on one line has no hull and is left out, named.
    Invalid polygons are treated as ``invalid`` says: ``mend``, ``refuse`` or ``leave-out``. Taken off
    is what lies inside the polygons of ``without``, with ``match``, as ``id = site``, those of one key
    only.

    Raises
    ------
    UnknownFieldError
        If a field is not there.
    DataError
        If coordinates are not finite, or polygons are invalid and refused.
    """
    takes = [Take.parse(text) for text in names(aggregate)]
    if each and (takes or names(by)):
        raise UsageError("`each` has a hull of every feature; leave `by` and `aggregate` out")
    layer, by = grouped_by(layer, names(by))
    check_names(takes, by)
    admission = admit(layer, invalid)
    layer = admission.layer
    finite_bounds(layer)
    disagreements: dict[str, int] = {}
    if each:
        group, firsts = np.arange(layer.n_rows), np.arange(layer.n_rows)
        table = layer.table
    else:
        groups = group_rows(layer.table, by, layer.n_rows)
        group, firsts = groups.group, groups.firsts
        table, disagreements = with_taken(agreed(layer.table, groups, by), takes, layer, groups)
    running, is_over, turn = opened(layer, group, len(firsts))
    column = _hulls(
        own=layer.geometry,
        column=running,
        group_of_row=group,
        n_groups=len(firsts),
        is_over=is_over,
        turn=turn,
    )
    has_points = count_by(group[~layer.geometry.is_empty], len(firsts)) > 0
    kept = np.flatnonzero(~column.is_empty)
    flat = np.zeros(layer.n_rows, bool)
    flat[firsts[column.is_empty & has_points]] = True
    prove_valid(column, f"hulls of {layer.name}")
    ids = layer.ids[kept] if each and layer.ids is not None else None
    result = replace(
        layer,
        geometry=column.take(kept),
        ids=ids,
        total=None,
        table=pc.take(table, row_numbers(kept)) if table.num_columns else table,
    )
    ruler = ruler_for(layer.crs)
    made = HullResult(
        result,
        HullSummary(
            name=layer.name,
            total=layer.n_total,
            taken=layer.n_rows,
            out=result.n_rows,
            area=float(row_areas(result.geometry, ruler).sum()),
            unit=unit_of(Family.POLYGONS, ruler),
            flat=NamedRows.of(layer, flat),
            disagreements=disagreements,
            crs=label(layer.crs),
            notes=[
                *_over(is_over, column),
                *stretched_in(layer, (tree for take in takes for tree in take.trees), ["area"]),
            ],
            admitted=admission.facts,
            proved=result.n_rows,
        ),
    )
    return made if without is None else _without(made, without, match, invalid)


def _without(made: HullResult, other: Layer, match: Names, invalid: str) -> HullResult:
    """Take off what lies inside another layer."""
    cut = erase(made.layer, other, match=match, invalid=invalid)
    ruler = ruler_for(made.layer.crs)
    area = float(row_areas(cut.layer.geometry, ruler).sum())
    summary = replace(
        made.summary,
        out=cut.layer.n_rows,
        area=area,
        proved=cut.summary.proved,
        without=other.name,
        match=cut.summary.match,
        taken_off=cut.summary.balance.inside if cut.summary.balance else 0.0,
        gone=cut.summary.dropped,
        notes=[*made.summary.notes, *cut.summary.notes],
    )
    return HullResult(cut.layer, summary)


def _over(is_over: BoolArray, column: GeometryColumn) -> list[str]:
    n = int((is_over & ~column.is_empty).sum())
    if not n:
        return []
    return [
        f"{n:,} hulls go over the 180th meridian, and are parted there"
        if n > 1
        else "the hull goes over the 180th meridian, and is parted there"
    ]


def _hulls(
    own: GeometryColumn,
    column: GeometryColumn,
    group_of_row: I64Array,
    n_groups: int,
    is_over: BoolArray,
    turn: float,
) -> GeometryColumn:
    """Return a row for each group; empty where the points lie on one line.

    ``column`` is ``own`` with longitudes that run on; groups over the 180th meridian are parted.
    """
    group = group_of_row[owners(column.vertex_offsets_of_rows)]
    order = np.lexsort((column.xy[:, 1], column.xy[:, 0], group))
    xy, group = column.xy.take(order, axis=0) + 0.0, group[order]
    as_given = own.xy.take(order, axis=0) + 0.0
    keeps = np.ones(len(xy), bool)
    keeps[1:] = (group[1:] != group[:-1]) | (xy[1:] != xy[:-1]).any(axis=1)
    xy, group = xy.compress(keeps, axis=0), group[keeps]
    as_given = as_given.compress(keeps, axis=0)
    offsets = offsets_from(count_by(group, n_groups))
    corners = np.empty(2 * len(xy) + 2, np.int64)
    counts = np.empty(n_groups, np.int64)
    kernels.run(kernels.places.convex_hulls, xy, offsets, np.zeros(16), corners, counts)
    counts = np.where(counts >= 3, counts, 0)
    rows = np.flatnonzero(counts)
    sizes = counts[rows] + 1
    ring = np.repeat(np.arange(len(rows)), sizes)
    k = np.arange(sizes.sum()) - offsets_from(sizes)[:-1][ring]
    k = np.where(k == counts[rows][ring], 0, k)  # the first once more
    at = corners[2 * offsets[:-1][rows][ring] + k]
    steps = np.arange(len(rows) + 1)
    found = GeometryColumn.from_parts(
        Family.POLYGONS, as_given[at], offsets_from(sizes), steps, rows, n_groups
    )
    over = np.flatnonzero(is_over[rows])
    if len(over) == 0:
        return replace(found, is_multi=False)
    some = spans(offsets_from(sizes)[over], sizes[over])
    parted = parted_rings(xy[at[some]], as_given[at[some]], offsets_from(sizes[over]), turn)
    return found.with_rows(rows[over], parted)
