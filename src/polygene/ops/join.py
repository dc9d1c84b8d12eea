"""Join: carry attributes across by place or by key."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import NONE, F64Array, count_by
from polygene.between import way_between
from polygene.classes import dataclass
from polygene.crs import degrees_of, ellipsoid, is_geographic, is_same, label
from polygene.errors import ExpressionError, UnknownFieldError, UsageError, check_choice
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.measures import ruler_for
from polygene.ops.attributes import joined
from polygene.ops.by_key import KeyJoinSummary, Matched, account, matched
from polygene.ops.given import Names, names
from polygene.ops.ground import stretched, stretched_in
from polygene.ops.part import current
from polygene.ops.partnered import (
    added,
    aggregated,
    rows_kept,
    with_aggregates,
    with_partners,
)
from polygene.ops.places.partners import SHARED_BORDERS, Partners, metric_of, partners
from polygene.ops.subset import with_fields
from polygene.ops.summary import Bridge, NamedRows
from polygene.progress import SILENT, Progress
from polygene.table.aggregate import Entries, Take
from polygene.table.expression import fields_alone
from polygene.table.keys import Key
from polygene.table.ranking import medians
from polygene.table.tokens import field_name
from polygene.units import Length, map_units, metres, true_metres

MOST_PARTNERS = 2**31  # that a count can be
SHARED, DISTANCE = "shared", "distance"
UNMATCHED = ("keep", "drop", "only")


@dataclass(frozen=True)
class JoinSummary:
    """Who found whom.

    pairs : of features; none, one, many : features of INPUT with so many partners
    unused : features of OTHER that are nobody's partner
    on_borders : points on a border that several of the polygons share; ``border`` is what became of
        them: ``first-key``, ``split``, or nothing where each counts in all
    tied : features of INPUT whose partner was one of several equally near or large
    furthest, middle : distances of partners, for nearest; metric : what they are measured on
    brought : how OTHER came from another CRS, if it did
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
    metric: str = ""
    brought: list[Bridge] = field(default_factory=list)
    on_borders: NamedRows = field(default_factory=NamedRows)
    border: str = ""


@dataclass(frozen=True)
class JoinResult:
    """``links`` are lines from features to their nearest partners, if asked for."""

    layer: Layer
    summary: JoinSummary | KeyJoinSummary
    links: Layer | None = None


def join(
    layer: Layer,
    other: Layer,
    relation: str | None = None,
    *,
    key: Names = (),
    fold: bool = False,
    aggregate: Names = (),
    pairs: bool = False,
    best: str | None = None,
    count: int = 1,
    up_to: Length | None = None,
    alone: str = "keep",
    keep: Names = (),
    drop: Names = (),
    links: bool = False,
    precision: Length | None = None,
    follow: Length | None = None,
    share_border: str | None = None,
    progress: Progress = SILENT,
) -> JoinResult:
    """Give each feature of INPUT what lies to it in a relation, or has its key.

    OTHER may be in another CRS, or with ``key`` a table without geometry.

    By default a row for each feature of INPUT, with ``matches``, how many partners it has, and the
    aggregates over them that ``aggregate`` asks for; nothing else is carried across. By key it is the
    fields of the one partner; that a key comes several times in OTHER is refused then.

    Parameters
    ----------
    relation : a name of `polygene.plane.relations.RELATIONS`, ``nearest``, or a pattern such as
        ``T*F**F***``; ``intersects`` if neither this nor a key is given
    key : ``code = district_code``, a field or expression of INPUT and one of OTHER; several for keys of
        several fields; one name for both
    fold : let case, accents, blanks and zeros in front of digits make no difference in keys
    pairs : a row for each pair instead, with OTHER's fields
    best : one partner with its fields: ``shared``, that with which most area is shared; ``distance``,
        the nearest by the middles of their boxes; or the one with the largest value in a field of
        OTHER of that name
    count, up_to : of nearest, how many, and how far at most: a text, or a number in metres (map
        units without a CRS)
    alone : ``keep`` features without partner, with nulls; ``drop`` them; or keep ``only`` them
    keep, drop : fields of OTHER
    links : also lines from features to their nearest partners
    precision : step of the grid, a text or a number in map units
    follow : how closely edges from another CRS follow their course, numbers in metres; 0.01 if not
        given
    share_border : of points on a border that several polygons share: ``first-key`` gives each to the
        one with the lowest identifier (the first row, without such), ``split`` counts it in parts of
        each, in counts, sums and means; they count in all if not given

    Raises
    ------
    UsageError, DataError
        If the relation is unknown, or has no meaning for the two layers; if
        ``alone`` is none of the words there are.
    ExpressionError
        If an aggregate does not fit.
    """
    check_choice("alone", alone, UNMATCHED)
    if not 1 <= count <= MOST_PARTNERS:
        raise UsageError(f"`count` is how many of the nearest are wanted, 1 or more, not {count}")
    if key:
        given = (relation, up_to, precision, follow, share_border)
        if links or count > 1 or any(value is not None for value in given):
            raise UsageError(
                "`key` joins by key: `relation`, `count`, `up_to`, `links`, `precision`, `follow` and "
                "`share_border` belong to joining by place"
            )
        keys = [Key.parse(text) for text in names(key)]
        how = (names(aggregate), pairs, best, alone, names(keep), names(drop))
        return _by_key(matched(layer, other, keys, fold), *how)
    if fold:
        raise UsageError("`fold` is about keys; give a `key` too")
    for one in (layer, other):
        one.check_geometry("joining by place")
    relation = relation or "intersects"
    if relation != "nearest" and (count > 1 or up_to is not None or links):
        raise UsageError("`count`, `up_to` and `links` belong to the relation nearest")
    asked = names(aggregate)
    _check_one_way(asked, pairs, best)
    progress.stage(f"joining {layer.name} with {other.name}")
    found = partners(
        layer,
        other,
        relation,
        count=count,
        up_to=metres(up_to, layer.crs),
        precision=map_units(precision, layer.crs),
        follow=true_metres(follow),
    )
    on_borders = found.on_borders(layer, other)
    if share_border is not None:
        check_choice("share_border", share_border, SHARED_BORDERS)
        if found.touches is None:
            raise UsageError("`share_border` is of points and polygons")
        if share_border == "split" and (pairs or best is not None):
            raise UsageError("`share_border` split is of counts and sums, not of pairs")
        found = found.shared_out(layer, other, share_border)
    own, other = other, with_fields(other, names(keep), names(drop))
    all_pairs = found
    if best is not None:
        found = _best(found, layer, own, best)
    disagreements: dict[str, int] = {}
    if pairs or best is not None or (relation == "nearest" and not asked):
        result, rows = with_partners(layer, other, found, alone)
    else:
        result, rows, disagreements = with_aggregates(layer, other, found, asked, alone)
    summary = _told(layer, other, relation, all_pairs, found)
    trees = [tree for text in asked for tree in Take.parse(text).trees]
    summary = replace(
        summary,
        out=result.n_rows,
        taken=[Take.parse(t).name for t in asked],
        disagreements=disagreements,
        notes=[*summary.notes, *stretched_in(layer, trees)],
        on_borders=on_borders,
        border=share_border or "",
    )
    return JoinResult(result, summary, _links(layer, other, found) if links else None)


def _check_one_way(asked: Sequence[str], pairs: bool, best: str | None) -> None:
    if sum((pairs, best is not None, bool(asked))) > 1:
        raise UsageError(
            "give one of `pairs`, `best` and `aggregate`: the first two carry the fields of OTHER "
            "across, or those that `keep` names; `aggregate` sums them up"
        )


def looked_at(
    fields: Sequence[str], key: Names, aggregate: Names = (), best: str | None = None
) -> set[str] | None:
    """Return which fields of OTHER a `join` by key looks at; None if geometry, or one is not there."""
    try:
        trees = [Key.parse(text).theirs for text in names(key)]
        trees += [tree for text in names(aggregate) for tree in Take.parse(text).trees]
    except ExpressionError:  # which is said where all is known
        return None
    wanted = fields_alone(trees, fields)
    if wanted is None or (best in (SHARED, DISTANCE) and best not in fields):
        return None
    return wanted if names(aggregate) else set(fields)


def _by_key(
    found: Matched,
    asked: Sequence[str],
    pairs: bool,
    best: str | None,
    alone: str,
    keep: Sequence[str],
    drop: Sequence[str],
) -> JoinResult:
    _check_one_way(asked, pairs, best)
    layer, other, disagreements = found.layer, found.other, dict[str, int]()
    if asked:
        if keep or drop:
            raise UsageError(
                "`aggregate` names what is carried across; leave `keep` and `drop` out"
            )
        has = np.flatnonzero(found.codes.theirs != NONE)
        groups = Entries(has, found.codes.theirs[has], found.codes.n)
        table, disagreements = aggregated(layer, other, groups, found.codes.mine, asked)
        rows = rows_kept(found.partners_of, alone)
        result = replace(layer, table=table).take(rows)
        times, fields = found.times, _summed(asked, other)
    else:
        if not pairs and best is None:
            found.refuse_several()
        partners_of = found.pairs()
        if best in (SHARED, DISTANCE) and best not in other.table.column_names:
            raise UsageError(f"`best` {best} is by place; by key it is a field of {other.name}")
        if best is not None:
            partners_of = _best(partners_of, layer, other, best)
        keys = {key.fields[1] for key in found.keys} - set(keep)
        rest = [n for n in other.table.column_names if n not in keys and n not in drop]
        other = with_fields(other, keep, [] if keep else [*keys - {""}, *drop])
        result, _ = with_partners(layer, other, partners_of, alone)
        times, fields = count_by(partners_of.second, other.n_rows), list(keep) or rest
    summary = account(
        found, times, fields, result,
        taken=[Take.parse(t).name for t in asked], disagreements=disagreements, crs=label(layer.crs),
    )  # fmt: skip
    return JoinResult(replace(result, total=None), summary)


def _summed(asked: Sequence[str], other: Layer) -> list[str]:
    """Return the fields that aggregates sum up as they are."""
    sums = [take.argument for take in map(Take.parse, asked) if take.function == "sum"]
    found = [field_name(t.children[0]) for t in sums if t is not None and t.data == "field"]
    return [name for name in dict.fromkeys(found) if name in other.table.column_names]


def _told(
    layer: Layer, other: Layer, relation: str, all_pairs: Partners, found: Partners
) -> JoinSummary:
    """Return who found whom, but for what came out of it; ``found`` are the pairs that were kept."""
    n = layer.n_rows
    matches_of = count_by(all_pairs.first, n)
    is_used = count_by(found.second, other.n_rows) > 0
    distance = found.distance
    has = distance is not None and len(distance) > 0
    tied = np.zeros(n, bool)
    tied[found.tied] = True
    ruler = ruler_for(layer.crs)
    part = current()
    if part is not None:
        part.tell("unused", other.numbers[is_used] - 1)
        if distance is not None:
            part.tell("distances", distance)
    return JoinSummary(
        input=layer.name,
        input_total=layer.n_total,
        input_taken=n,
        other=other.name,
        other_total=other.n_total,
        other_taken=other.n_rows,
        relation=relation,
        pairs=len(all_pairs.first),
        none=int((matches_of == 0).sum()),
        one=int((matches_of == 1).sum()),
        many=int((matches_of > 1).sum()),
        unused=int((~is_used).sum()),
        out=0,
        taken=[],
        disagreements={},
        furthest=float(np.max(distance)) if has and distance is not None else None,
        middle=_median_of(distance) if has and distance is not None else None,
        unit=ruler.unit,
        tied=NamedRows.of(layer, tied),
        crs=label(layer.crs),
        notes=[] if distance is None else stretched(layer, ["distance"]),
        metric=metric_of(layer),
        brought=[] if found.bridge is None else [found.bridge],
    )


def _median_of(values: F64Array) -> float:
    return float(medians(np.zeros(len(values), np.int64), values, 1)[0])


def _best(found: Partners, layer: Layer, other: Layer, best: str) -> Partners:
    """Keep one partner of each feature; the first in OTHER where several are equal."""
    if best == SHARED:
        if not layer.geometry.family == other.geometry.family == Family.POLYGONS:
            raise UsageError("`best` shared is by area, so it is of polygons with polygons")
        weight = np.zeros(len(found.first)) if found.shared is None else found.shared
    elif best == DISTANCE:
        weight = -_between_middles(layer, other, found)
    elif best in other.table.column_names:
        weight = _ranks(other.table.column(best))[found.second]
    else:
        raise UnknownFieldError(best, other.name, [SHARED, DISTANCE, *other.table.column_names])
    order = np.lexsort((found.second, -weight, found.first))
    first, sorted_weight = found.first[order], weight[order]
    is_best = np.ones(len(order), bool)
    is_best[1:] = first[1:] != first[:-1]
    chosen = np.flatnonzero(is_best)
    follower = chosen[(chosen + 1 < len(order))]
    same = (first[follower + 1] == first[follower]) & (
        sorted_weight[follower + 1] == sorted_weight[follower]
    )
    return replace(found.take(order[chosen]), tied=first[follower[same]])


def _ranks(column: pa.ChunkedArray) -> F64Array:
    """Return a number for each value that grows with it; the least for nulls, then for no numbers."""
    ranks = np.asarray(pc.rank(column, "ascending", tiebreaker="dense"), np.float64)
    if pa.types.is_floating(column.type):
        ranks[np.asarray(pc.fill_null(pc.is_nan(column), False), bool)] = 0
    return np.where(np.asarray(pc.is_null(column)), -1.0, ranks)


def _between_middles(layer: Layer, other: Layer, found: Partners) -> F64Array:
    """Return how far apart the middles of the boxes of pairs are."""
    a, b = _middles(layer.geometry)[found.first], _middles(other.geometry)[found.second]
    if layer.crs is None or other.crs is None:
        return np.hypot(*(a - b).T)
    if not is_same(layer.crs, other.crs):
        b = way_between(other.crs, other.geometry.extent(), layer.crs).there(b)
    if not is_geographic(layer.crs):
        return np.hypot(*(a - b).T)
    size = degrees_of(layer.crs)
    return np.asarray(ellipsoid(layer.crs).inv(*(a * size).T, *(b * size).T)[2])


def _middles(column: GeometryColumn) -> F64Array:
    bounds = column.row_bounds()
    with np.errstate(invalid="ignore"):
        return (bounds[:, :2] + bounds[:, 2:]) / 2


def _links(layer: Layer, other: Layer, found: Partners) -> Layer | None:
    """Return a straight line from each feature to its nearest partner; none where they meet."""
    if found.distance is None or found.mine is None or found.theirs is None:
        raise UsageError("links are lines to the nearest; ask for the `relation` nearest")
    apart = np.flatnonzero((found.distance > 0) & np.isfinite(found.mine).all(axis=1))
    xy = np.stack([found.mine[apart], found.theirs[apart]], axis=1).reshape(-1, 2)
    steps = np.arange(len(apart) + 1)
    column = GeometryColumn(
        family=Family.LINES,
        xy=xy,
        ring_offsets=2 * steps,
        part_offsets=steps,
        row_offsets=steps,
        is_null=np.zeros(len(apart), bool),
        is_multi=False,
    )
    rows = np.stack([found.first[apart], found.second[apart]], axis=1)
    bare = [replace(y, table=pa.table({})) for y in (layer, other)]
    table = joined(bare, rows, origins=True)
    table = added(table, "distance", pc.column(found.distance[apart]))
    return Layer(f"{layer.name}_links", column, table, layer.crs)
