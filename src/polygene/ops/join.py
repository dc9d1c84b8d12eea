"""Join: carry attributes across by place."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa
import pyproj

from polygene.arrays import NONE, F64Array, I64Array, bucket, count_by
from polygene.crs import label
from polygene.errors import UsageError
from polygene.geometry import Family, GeometryColumn, extent_of
from polygene.layer import Layer
from polygene.measures import row_areas, ruler_for
from polygene.ops.admit import admit
from polygene.ops.attributes import free_name, joined
from polygene.ops.extents import finite_bounds, grid_for
from polygene.ops.relations import check_relation, related
from polygene.ops.subset import with_fields
from polygene.ops.summary import NamedRows
from polygene.plane.distances import nearest_rows
from polygene.plane.grid import Grid
from polygene.plane.relations import RELATIONS, has_meaning, holds, matches
from polygene.progress import SILENT, Progress
from polygene.table.aggregate import Groups, Take, aggregate

SINGLES = ("first", "largest", "nearest")
UNMATCHED = ("keep", "drop", "only")


@dataclass(frozen=True)
class JoinSummary:
    """Who found whom.

    pairs : of features; none, one, many : features of INPUT with so many partners
    unused : features of OTHER that are nobody's partner
    tied : features of INPUT whose partner was one of several equally near or large
    furthest, middle : distances of partners, for nearest
    """

    input: str
    input_total: int
    input_taken: int
    other: str
    other_total: int
    other_taken: int
    relation: str
    pairs: int
    none: int
    one: int
    many: int
    unused: int
    out: int
    taken: list[str]
    disagreements: dict[str, int]
    furthest: float | None
    middle: float | None
    unit: str
    tied: NamedRows
    crs: str
    notes: list[str]


@dataclass(frozen=True)
class JoinResult:
    """``links`` are lines from features to their nearest partners, if asked for."""

    layer: Layer
    summary: JoinSummary
    links: Layer | None = None


@dataclass(frozen=True)
class Partners:
    """Pairs of rows, sorted by the first, and what each pair shares or how far it is apart."""

    first: I64Array
    second: I64Array
    shared: F64Array | None = None
    distance: F64Array | None = None
    mine: F64Array | None = None
    theirs: F64Array | None = None
    tied: I64Array = field(default_factory=lambda: np.zeros(0, np.int64))

    def take(self, kept: I64Array) -> Partners:
        def some(values: F64Array | None) -> F64Array | None:
            return None if values is None else values[kept]

        return Partners(
            self.first[kept], self.second[kept], some(self.shared), some(self.distance),
            some(self.mine), some(self.theirs), self.tied,
        )  # fmt: skip


def join(
    layer: Layer,
    other: Layer,
    relation: str = "intersects",
    *,
    take: Sequence[str] = (),
    pairs: bool = False,
    single: str | None = None,
    count: int = 1,
    within: float | None = None,
    unmatched: str = "keep",
    keep: Sequence[str] = (),
    drop: Sequence[str] = (),
    links: bool = False,
    precision: float | None = None,
    progress: Progress = SILENT,
) -> JoinResult:
    """Give each feature of INPUT what lies to it in a relation.

    By default a row for each feature of INPUT, with ``matches``, how many partners it has, and the
    aggregates over them that ``take`` asks for; nothing else is carried across.

    Parameters
    ----------
    relation : a name of `RELATIONS`, ``nearest``, or a pattern such as ``T*F**F***``
    pairs : a row for each pair instead, with OTHER's fields
    single : one partner with its fields: the ``first`` in OTHER, the ``largest`` by the area shared, or
        the ``nearest`` by the middles of their boxes
    count, within : of nearest, how many, and how far at most (metres, or map units without a CRS)
    unmatched : ``keep`` features without partner, with nulls; ``drop`` them; or keep ``only`` them
    keep, drop : fields of OTHER
    links : also lines from features to their nearest partners

    Raises
    ------
    UsageError, DataError
        If the relation is unknown, or has no meaning for the two layers.
    ExpressionError
        If an aggregate does not fit.
    """
    if sum((pairs, single is not None, bool(take))) > 1:
        raise UsageError(
            "give one of pairs, single and take: pairs and single carry the fields of OTHER across, "
            "or those that keep names; take aggregates them"
        )
    progress.stage(f"joining {layer.name} with {other.name}")
    found = partners(layer, other, relation, count=count, within=within, precision=precision)
    other = with_fields(other, keep, drop)
    all_pairs = found
    if single is not None:
        found = _single(found, layer, other, single)
    n = layer.n_rows
    matches_of = count_by(all_pairs.first, n)
    disagreements: dict[str, int] = {}
    if pairs or single is not None or (relation == "nearest" and not take):
        result, rows = _with_fields(layer, other, found, unmatched)
    else:
        result, rows, disagreements = _aggregated(layer, other, found, take, unmatched)
    is_used = count_by(found.second, other.n_rows) > 0
    distance = found.distance
    has = distance is not None and len(distance) > 0
    tied = np.zeros(n, bool)
    tied[found.tied] = True
    ruler = ruler_for(layer.crs)
    summary = JoinSummary(
        layer.name, layer.n_total, n, other.name, other.n_total, other.n_rows, relation,
        len(all_pairs.first), int((matches_of == 0).sum()), int((matches_of == 1).sum()),
        int((matches_of > 1).sum()), int((~is_used).sum()), result.n_rows,
        [Take.parse(t).name for t in take], disagreements,
        float(np.max(distance)) if has and distance is not None else None,
        float(np.median(distance)) if has and distance is not None else None,
        ruler.unit, NamedRows.of(layer, tied), label(layer.crs), [],
    )  # fmt: skip
    return JoinResult(result, summary, _links(layer, other, found) if links else None)


def partners(
    layer: Layer,
    other: Layer,
    relation: str,
    *,
    count: int = 1,
    within: float | None = None,
    precision: float | None = None,
) -> Partners:
    """Return the pairs of features that a relation, a pattern or nearness makes.

    Invalid polygons are to each other what they are when mended.

    Raises
    ------
    UsageError, DataError
        If the relation is unknown, or has no meaning for the two layers.
    """
    layer, other = admit(layer).layer, admit(other).layer
    if relation == "nearest":
        return _nearest(layer, other, count, within, precision)
    is_pattern = len(relation) == 9 and set(relation.upper()) <= set("TF*012")
    if not is_pattern:
        check_relation(relation, layer, other)
    pairs = related(layer, other, precision)
    if relation == "disjoint":
        raise UsageError(
            "disjoint makes a pair of nearly everything; ask for intersects and keep the unmatched"
        )
    families = (layer.geometry.family, other.geometry.family)
    mask = matches(pairs, relation) if is_pattern else holds(relation, pairs, *families)
    kept = np.flatnonzero(mask)
    return Partners(pairs.first[kept], pairs.second[kept], pairs.shared[kept])


def _nearest(
    layer: Layer, other: Layer, count: int, within: float | None, precision: float | None
) -> Partners:
    """Find nearest partners, on the plane; in degrees on one stretched to true proportions."""
    meets = _meeting(layer, other, precision)
    stretched = _Stretched(layer, other)
    column, goal = stretched.columns
    extents = [c.extent() for c in (column, goal)]
    known = [e for e in extents if e is not None]
    grid = (
        Grid.over(known, 1e-9)
        if stretched.is_geographic
        else grid_for(layer, [extent_of(finite_bounds(y)) for y in (layer, other)], precision)
    )
    limit = np.inf if within is None else within / stretched.unit
    # Degrees are stretched: look a little further, measure on the ellipsoid, then cut.
    found = nearest_rows(
        column, goal, grid, meets, count,
        limit * (1.5 if stretched.is_geographic else 1.0),
    )  # fmt: skip
    # Rows and their partners in a row, the nearest first.
    at = np.flatnonzero(found.row.ravel() != NONE)
    ends = np.stack([found.mine.reshape(-1, 2)[at], found.theirs.reshape(-1, 2)[at]])
    row, second = at // count, found.row.ravel()[at]
    distance = stretched.distances(found.distance.ravel()[at], *ends)
    if count > 1:
        order = np.lexsort((distance, row))
        row, second, distance, ends = row[order], second[order], distance[order], ends[:, order]
    if within is not None:
        kept = distance <= within
        row, second, distance, ends = row[kept], second[kept], distance[kept], ends[:, kept]
    tied = np.flatnonzero(found.is_tied)
    here, there = (stretched.back(xy) for xy in ends)
    return Partners(row, second, None, distance, here, there, tied)


def _meeting(layer: Layer, other: Layer, precision: float | None) -> tuple[I64Array, I64Array]:
    """Return the pairs that share a point and may have no end near it: areas, lines that cross."""
    families = {layer.geometry.family, other.geometry.family}
    if families <= {Family.POINTS, Family.LINES} and families != {Family.LINES}:
        nothing = np.zeros(0, np.int64)
        return nothing, nothing
    found = related(layer, other, precision)
    return found.first, found.second


class _Stretched:
    """Two columns on a plane where distances compare rightly: that of the CRS, or, in degrees, with
    longitudes shrunk by the cosine of the middle latitude.
    """

    def __init__(self, layer: Layer, other: Layer) -> None:
        crs = layer.crs
        self.is_geographic = crs is not None and crs.is_geographic
        self.shrink = np.ones(2)
        self.unit = 1.0
        columns: tuple[GeometryColumn, ...] = (layer.geometry, other.geometry)
        if crs is not None and crs.axis_info:
            self.unit = crs.axis_info[0].unit_conversion_factor
        if self.is_geographic and crs is not None:
            self.factor = np.degrees(crs.axis_info[0].unit_conversion_factor)
            self.geod = crs.get_geod() or pyproj.Geod(ellps="WGS84")
            extents = [e for e in (c.extent() for c in columns) if e is not None]
            latitude = (
                np.mean([(e[1] + e[3]) / 2 for e in extents]) * self.factor if extents else 0.0
            )
            self.shrink = np.array([max(0.01, np.cos(np.radians(latitude))), 1.0])
            self.unit = np.radians(self.factor) * self.geod.a
        if self.is_geographic:
            columns = tuple(c.with_xy(c.xy * self.shrink) for c in columns)
        self.columns = columns

    def back(self, xy: F64Array) -> F64Array:
        return xy / self.shrink if self.is_geographic else xy

    def distances(self, plane: F64Array, mine: F64Array, theirs: F64Array) -> F64Array:
        """Return distances in metres, or map units without a CRS."""
        if not self.is_geographic:
            return plane * self.unit
        a, b = (self.back(xy) * self.factor for xy in (mine, theirs))
        return np.asarray(self.geod.inv(*a.T, *b.T)[2])


def _single(found: Partners, layer: Layer, other: Layer, single: str) -> Partners:
    """Keep one partner of each feature; the first in OTHER where several are equal."""
    if single == "first":
        weight = -found.second.astype(np.float64)
    elif single == "largest":
        if not layer.geometry.family == other.geometry.family == Family.POLYGONS:
            raise UsageError("largest is by the area shared, so it is of polygons with polygons")
        weight = np.zeros(len(found.first)) if found.shared is None else found.shared
    else:
        a, b = _middles(layer.geometry), _middles(other.geometry)
        weight = -np.hypot(*(a[found.first] - b[found.second]).T)
    order = np.lexsort((found.second, -weight, found.first))
    first, sorted_weight = found.first[order], weight[order]
    is_best = np.ones(len(order), bool)
    is_best[1:] = first[1:] != first[:-1]
    best = np.flatnonzero(is_best)
    follower = best[(best + 1 < len(order))]
    same = (first[follower + 1] == first[follower]) & (
        sorted_weight[follower + 1] == sorted_weight[follower]
    )
    return replace(found.take(order[best]), tied=first[follower[same]])


def _middles(column: GeometryColumn) -> F64Array:
    bounds = column.row_bounds()
    with np.errstate(invalid="ignore"):
        return (bounds[:, :2] + bounds[:, 2:]) / 2


def _with_fields(
    layer: Layer, other: Layer, found: Partners, unmatched: str
) -> tuple[Layer, I64Array]:
    """Return a row for each pair, with the fields of both."""
    alone = np.flatnonzero(count_by(found.first, layer.n_rows) == 0)
    first, second = found.first, found.second
    if unmatched == "only":
        first, second = alone, np.full(len(alone), NONE)
    elif unmatched == "keep":
        first = np.concatenate([first, alone])
        second = np.concatenate([second, np.full(len(alone), NONE)])
    order = bucket(first, layer.n_rows).order
    first, second = first[order], second[order]
    table = joined([layer, other], np.stack([first, second], axis=1))
    if found.distance is not None and unmatched != "only":
        distance = np.full(len(order), np.nan)
        distance[np.flatnonzero(order < len(found.first))] = found.distance[
            order[order < len(found.first)]
        ]
        taken = {n.casefold() for n in table.column_names}
        values = pa.array(distance, mask=np.isnan(distance))
        table = _added(table, free_name("distance", other.name, taken), values)
    result = layer.with_geometry(layer.geometry.take(first), first)
    return replace(result, table=table, total=None), first


def _added(table: pa.Table, name: str, values: pa.Array) -> pa.Table:
    if table.num_columns == 0:
        return pa.table([values], [name])
    return table.append_column(pa.field(name, values.type), values)


def _aggregated(
    layer: Layer, other: Layer, found: Partners, take: Sequence[str], unmatched: str
) -> tuple[Layer, I64Array, dict[str, int]]:
    """Return INPUT with how many partners each feature has, and aggregates over them."""
    share = None
    if found.shared is not None:
        size = row_areas(other.geometry) if other.geometry.family == Family.POLYGONS else None
        if size is not None:
            of = size[found.second]
            share = np.divide(found.shared, of, out=np.zeros(len(of)), where=of > 0)
            share[np.abs(share - 1) < 1e-9] = 1.0
    groups = Groups(found.second, found.first, layer.n_rows, share)
    table, disagreements = layer.table, {}
    taken = {n.casefold() for n in table.column_names}
    matches_of = count_by(found.first, layer.n_rows)
    table = _added(table, free_name("matches", other.name, taken), pa.array(matches_of))
    for text in take:
        item = Take.parse(text)
        result = aggregate(item, other, groups)
        name = free_name(item.name, other.name, taken)
        table = table.append_column(result.field.with_name(name), result.data)
        if result.disagreed:
            disagreements[name] = result.disagreed
    if found.distance is not None:
        least = np.full(layer.n_rows, np.nan)
        np.fmin.at(least, found.first, found.distance)
        name = free_name("distance", other.name, taken)
        table = _added(table, name, pa.array(least, mask=np.isnan(least)))
    rows = np.arange(layer.n_rows)
    if unmatched != "keep":
        rows = np.flatnonzero((matches_of > 0) == (unmatched == "drop"))
    return replace(layer, table=table).take(rows), rows, disagreements


def _links(layer: Layer, other: Layer, found: Partners) -> Layer | None:
    """Return a straight line from each feature to its nearest partner; none where they meet."""
    if found.distance is None or found.mine is None or found.theirs is None:
        raise UsageError("links are lines to the nearest; ask for --relation nearest")
    apart = np.flatnonzero((found.distance > 0) & np.isfinite(found.mine).all(axis=1))
    xy = np.stack([found.mine[apart], found.theirs[apart]], axis=1).reshape(-1, 2)
    steps = np.arange(len(apart) + 1)
    column = GeometryColumn(
        Family.LINES, xy, 2 * steps, steps, steps, np.zeros(len(apart), bool), is_multi=False
    )
    rows = np.stack([found.first[apart], found.second[apart]], axis=1)
    bare = [replace(y, table=pa.table({})) for y in (layer, other)]
    table = joined(bare, rows, origins=True)
    table = _added(table, "distance", pa.array(found.distance[apart]))
    return Layer(f"{layer.name}_links", column, table, layer.crs)


# Choosing


@dataclass(frozen=True)
class RelationCounts:
    """How many features of INPUT each relation to any feature of OTHER would select, and which.

    selected : relation → (n_rows,) bool
    """

    selected: dict[str, np.ndarray]


def relation_counts(layer: Layer, other: Layer, precision: float | None = None) -> RelationCounts:
    """Count, in one pass, what each relation that has a meaning for the two layers would select."""
    pairs = related(admit(layer).layer, admit(other).layer, precision)
    families = (layer.geometry.family, other.geometry.family)
    selected = {}
    for name in RELATIONS:
        if name != "disjoint" and has_meaning(name, *families):
            mask = np.zeros(layer.n_rows, bool)
            mask[pairs.first[holds(name, pairs, *families)]] = True
            selected[name] = mask
    selected["disjoint"] = ~selected["intersects"] & ~layer.geometry.is_empty
    return RelationCounts(selected)


def chosen_by_place(
    layer: Layer,
    other: Layer,
    relation: str,
    *,
    of_all: bool = False,
    within: float | None = None,
    invert: bool = False,
    precision: float | None = None,
) -> Layer:
    """Keep the features that lie in a relation to any feature of OTHER, or to all of them.

    ``within`` keeps what lies no further than that from any instead; ``invert`` the rest of it.

    Raises
    ------
    UsageError, DataError
        If the relation is unknown, or has no meaning for the two layers.
    """
    n_other = int((~other.geometry.is_empty).sum())
    if within is not None:
        found = partners(layer, other, "nearest", within=within, precision=precision)
        mask = count_by(found.first, layer.n_rows) > 0
    elif relation == "disjoint":
        touching = partners(layer, other, "intersects", precision=precision)
        counts = count_by(touching.first, layer.n_rows)
        mask = (counts == 0) & ~layer.geometry.is_empty
    else:
        found = partners(layer, other, relation, precision=precision)
        counts = count_by(found.first, layer.n_rows)
        mask = counts == n_other if of_all else counts > 0
    if invert:
        mask = ~mask
    return replace(layer.take(mask), total=layer.n_total)
