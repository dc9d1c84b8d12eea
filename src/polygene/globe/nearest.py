"""The nearest rows of another column on the ellipsoid: points, lines and polygons.

EdgePieces in space tell who may be nearest, without poles or seams; ways on the ellipsoid decide.
"""

from __future__ import annotations

import numpy as np

from polygene import proj
from polygene.arrays import (
    NONE,
    BoolArray,
    I64Array,
    count_by,
    offsets_from,
    spans,
)
from polygene.geometry import GeometryColumn
from polygene.globe.feet import FAR, Courses, Ways
from polygene.globe.pieces import EdgePieces, pieces_of
from polygene.globe.tree import Query, Tree, along_a_curve, maybe_nearest, tree_of
from polygene.plane.distances import NearestRows, begun

SAME = 1e-5  # metres within which two are equally near
FOOT = 3e-5  # share of the way that a foot by the chord may be too long


def nearest_on_ellipsoid(
    column: GeometryColumn,
    other: GeometryColumn,
    to_radians: float,
    geod: proj.Geod,
    meets: tuple[I64Array, I64Array],
    k: int = 1,
    limit: float = np.inf,
) -> NearestRows:
    """Return the ``k`` nearest rows of ``other`` for each row, no further than ``limit`` metres.

    Coordinates are longitudes and latitudes, ``to_radians`` the size of their unit; edges are straight
    in them. ``meets`` are the pairs of rows that have a point in common, sorted: those are at no
    distance. Of rows equally near the first is taken.
    """
    found, place = begun(column, meets, k)
    if other.n_vertices == 0 or column.n_vertices == 0:
        return found
    mine, tree = pieces_of(column, to_radians, geod), tree_of(pieces_of(other, to_radians, geod))
    mine, order = _near_each_other(mine, column.n_rows)
    n_others = int((~other.is_empty).sum())
    open_rows = ~column.is_empty
    for _ in range(k):
        open_rows &= place < min(k, n_others)
        if not open_rows.any():
            break
        rows, best, ways, tied = _step(
            mine=mine,
            order=order,
            tree=tree,
            geod=geod,
            open_rows=open_rows,
            known=found.row,
            limit=limit,
        )
        # Of those that found none, no other is near enough.
        open_rows = np.isin(np.arange(column.n_rows), rows)
        at = rows, place[rows]
        found.row[at] = best
        found.distance[at] = ways.metres
        found.mine[at], found.theirs[at] = ways.mine / to_radians, ways.theirs / to_radians
        found.is_tied[rows] = tied
        place[rows] += 1
    return found


def _near_each_other(mine: EdgePieces, n_rows: int) -> tuple[EdgePieces, I64Array]:
    """Order rows along a curve, so that those that follow each other find the same; return it too."""
    offsets = offsets_from(count_by(mine.row, n_rows))
    has = np.flatnonzero(np.diff(offsets))
    rows = has[along_a_curve(mine.ends[offsets[has], :3])]
    counts = np.diff(offsets)[rows]
    return mine.take(spans(offsets[rows], counts)), rows


def _step(
    mine: EdgePieces,
    order: I64Array,
    tree: Tree,
    geod: proj.Geod,
    open_rows: BoolArray,
    known: I64Array,
    limit: float,
) -> tuple[I64Array, I64Array, Ways, BoolArray]:
    """Return the open rows that have a next nearest, that one, the way, and whether others equal it."""
    chosen = np.flatnonzero(open_rows[mine.row])
    pieces = mine if len(chosen) == len(mine.row) else mine.take(chosen)
    place = np.empty(len(open_rows), np.int64)
    place[order] = np.arange(len(order))
    banned = known[order]
    asked = Query(
        pieces,
        place[pieces.row],
        len(order),
        np.ascontiguousarray(banned[banned != NONE]),
        offsets_from((banned != NONE).sum(axis=1)),
    )
    bends = geod.b / geod.a**2, geod.a / geod.b**2
    widest = 2 / bends[0] * np.sin(min(limit * bends[0] / 2, np.pi / 2))
    best = np.where(open_rows[order], widest + 1e-6, -1.0)
    i, j = maybe_nearest(tree, asked, bends, best)
    if len(i) == 0:
        nothing = np.zeros(0, np.int64)
        return nothing, nothing, Ways(*np.zeros((1, 0)), *np.zeros((2, 0, 2))), np.zeros(0, bool)
    row, partner = pieces.row[i], tree.pieces.row[j]
    is_first = np.ones(len(row), bool)
    is_first[1:] = row[1:] != row[:-1]
    runs = np.flatnonzero(is_first), np.cumsum(is_first) - 1
    ways = _decided(Courses(pieces.take(i), tree.pieces.take(j), geod), runs)
    return _chosen(row, partner, ways, runs, limit)


Runs = tuple[I64Array, I64Array]  # of pairs of one row: where they start; the number of each pair's


def _decided(courses: Courses, runs: Runs) -> Ways:
    """Return the ways of pairs of pieces; those that may be the shortest of their row exactly."""
    ways = courses.nearest()
    if courses.are_points:
        return ways
    least = np.minimum.reduceat(ways.metres, runs[0])[runs[1]]
    far = np.flatnonzero((ways.metres > FAR) & (ways.metres <= least * (1 + FOOT) + SAME))
    if len(far):
        some = courses.take(far).settled(Ways(*(v[far] for v in ways)))
        for values, new in zip(ways, some, strict=True):
            values[far] = new
    return ways


def _chosen(
    row: I64Array, partner: I64Array, ways: Ways, runs: Runs, limit: float
) -> tuple[I64Array, I64Array, Ways, BoolArray]:
    """Return the nearest partner of each row, the first of those equally near."""
    least = np.minimum.reduceat(ways.metres, runs[0])[runs[1]]
    at = np.flatnonzero((ways.metres <= least + SAME) & (ways.metres <= limit))
    if len(at) > len(runs[0]):
        at = at[np.lexsort((ways.metres[at], partner[at], runs[1][at]))]
    run, second = runs[1][at], partner[at]
    is_first = np.ones(len(at), bool)
    is_first[1:] = run[1:] != run[:-1]
    is_new = is_first.copy()
    is_new[1:] |= second[1:] != second[:-1]
    first = at[is_first]
    tied = np.add.reduceat(is_new, np.flatnonzero(is_first)) > 1 if len(at) else np.zeros(0, bool)
    return row[first], partner[first], Ways(*(v[first] for v in ways)), tied
