"""Proof by sampling, for debugging and tests: what covers a point before, and what afterwards.

Slow and obvious: every point against every edge, by even-odd. It shares nothing with the engine but
the columns, so it sees what sums of areas cannot: a piece in the wrong place, or with the wrong row.
Switched on with ``POLYGENE_SELF_CHECK=1``; see `polygene.plane.selfcheck`.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence

import numpy as np

from polygene.arrays import NONE, BoolArray, F64Array, I64Array, reduce_groups
from polygene.classes import NamedTuple
from polygene.errors import ProofError
from polygene.geometry import Family, GeometryColumn, extent_of
from polygene.plane.rules import Rule

MOST_POINTS = 32
MOST_EDGES = 20_000  # beyond them sampling would take longer than all else
CLEAR = 8.0  # grid units that a point keeps from borders, which may have moved


# Whether a row of INPUT and one of the k-th OTHER have to do with each other.
Agree = Callable[[int, int, int], bool]


class Samples(NamedTuple):
    """Points, and what covers them: ``rows[k]`` (n_points, n_rows) for each column asked about."""

    xy: F64Array
    rows: list[BoolArray]


def samples_of(columns: Sequence[GeometryColumn], step: float) -> Samples | None:
    """Return points clear of all borders, and the rows that cover them; None if columns are too large.

    Half lie anywhere, half beside borders, where mistakes are.
    """
    if sum(c.n_vertices for c in columns) > MOST_EDGES:
        return None
    polygons = [c for c in columns if c.family == Family.POLYGONS and c.n_vertices]
    if not polygons:
        return None
    extent = extent_of(np.concatenate([c.row_bounds() for c in polygons]))
    assert extent is not None
    rng = np.random.default_rng(sum(c.n_vertices for c in columns))
    low, high = np.array(extent[:2]), np.array(extent[2:])
    anywhere = rng.uniform(low, high, (MOST_POINTS // 2, 2))
    edges = np.concatenate([_edges(c) for c in polygons])
    chosen = edges[rng.integers(0, len(edges), MOST_POINTS // 2)]
    share = rng.uniform(0, 1, (len(chosen), 1))
    beside = chosen[:, :2] * (1 - share) + chosen[:, 2:] * share
    beside += rng.normal(0, 1, beside.shape) * np.maximum(20 * step, 0.01 * (high - low))
    xy = np.concatenate([anywhere, beside])
    xy = xy[_clear(xy, edges, CLEAR * step)]
    return Samples(xy, [covering(c, xy) for c in columns])


def _edges(column: GeometryColumn) -> F64Array:
    """Return an edge (n_vertices, 4) from each vertex, from a ring's last to its first: x, y, x, y."""
    following = np.arange(1, column.n_vertices + 1)
    has = column.ring_offsets[:-1] < column.ring_offsets[1:]
    following[column.ring_offsets[1:][has] - 1] = column.ring_offsets[:-1][has]
    return np.concatenate([column.xy, column.xy[following]], axis=1)


def _clear(xy: F64Array, edges: F64Array, distance: float) -> BoolArray:
    """Return which points (n, 2) lie further than a distance from all edges (m, 4)."""
    a, way = edges[:, :2], edges[:, 2:] - edges[:, :2]
    size = np.maximum((way**2).sum(axis=1), np.finfo(float).tiny)
    off = xy[:, None] - a  # (n, m, 2)
    share = np.clip((off * way).sum(axis=2) / size, 0, 1)
    far: BoolArray = np.hypot(*np.moveaxis(share[..., None] * way - off, 2, 0)) > distance
    return np.asarray(far.all(axis=1))


def covering(column: GeometryColumn, xy: F64Array) -> BoolArray:
    """Return (n_points, n_rows): whether a row of polygons covers a point, by the rule of all.

    A part covers what its rings wind round an odd number of times, a row what any of its parts does.
    """
    if column.family != Family.POLYGONS or column.n_vertices == 0:
        return np.zeros((len(xy), column.n_rows), bool)
    x0, y0, x1, y1 = _edges(column).T[:, :, None]  # (m, 1) each
    x, y = xy.T
    passes = (y0 > y) != (y1 > y)  # (m, n)
    rise = np.where(y0 == y1, 1.0, y1 - y0)
    is_left = passes & (x0 + (y - y0) / rise * (x1 - x0) < x)
    counts = reduce_groups(
        np.add, is_left.astype(np.int64), column.ring_offsets[column.part_offsets], 0
    )
    rows = reduce_groups(np.logical_or, counts % 2 == 1, column.row_offsets, False)
    return rows.T.astype(bool)


def check_overlay(
    columns: Sequence[GeometryColumn],
    rule: Rule,
    geometry: GeometryColumn,
    rows: I64Array,
    step: float,
    agree: Agree | None = None,
) -> int:
    """Check that the rows of an overlay cover what the rule says; return how many points were asked.

    ``columns`` are INPUT's and the OTHERs', ``rows`` (n, layers) what the rows of ``geometry`` are of.

    Raises
    ------
    ProofError
        If one point is covered otherwise.
    """
    samples = samples_of([*columns, geometry], step)
    if samples is None or any(c.family != Family.POLYGONS for c in columns):
        return 0
    *before, after = samples.rows
    for k, point in enumerate(samples.xy):
        wanted = sorted(_wanted(rule, [np.flatnonzero(b[k]).tolist() for b in before], agree))
        found = sorted(map(tuple, rows[np.flatnonzero(after[k])].tolist()))
        _same(found, wanted, rule.name, point)
    return len(samples.xy)


def _wanted(
    rule: Rule, covers: list[list[int]], agree: Agree | None = None
) -> list[tuple[int, ...]]:
    """Return the keys of the pieces that must cover a point, by the rows of each layer that do."""
    own, others = covers[0], covers[1:]
    if agree is not None:  # each row of INPUT on its own, with those that have its key
        found = []
        for row in own:
            theirs = [[j for j in r if agree(k, row, j)] for k, r in enumerate(others)]
            found += _wanted(rule, [[row], *theirs])
        return found
    if not rule.is_keyed_by_other:
        is_kept = rule.keeps(np.array([[bool(own), any(others)]]))[0]
        return [(row, *[NONE] * len(others)) for row in own] if is_kept else []
    every = itertools.product(*(rows or [NONE] for rows in covers))
    return [key for key in every if rule.keeps(np.array([[row != NONE for row in key]]))[0]]


def check_groups(
    column: GeometryColumn, group: I64Array, geometry: GeometryColumn, step: float, what: str
) -> int:
    """Check that row g of a result covers what any row of group g does; return how many were asked.

    Raises
    ------
    ProofError
        If one point is covered otherwise.
    """
    samples = samples_of([column, geometry], step)
    if samples is None:
        return 0
    before, after = samples.rows
    for k, point in enumerate(samples.xy):
        wanted = sorted(set(group[np.flatnonzero(before[k])].tolist()))
        _same(np.flatnonzero(after[k]).tolist(), wanted, what, point)
    return len(samples.xy)


def _same(found: Sequence[object], wanted: Sequence[object], what: str, point: F64Array) -> None:
    if found != wanted:
        x, y = point.tolist()
        raise ProofError(f"{what}: at {x!r} {y!r} {found} cover, where {wanted} must")
