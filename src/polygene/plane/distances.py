"""The nearest rows of another layer, and how far they are."""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import NONE, BoolArray, F64Array, I64Array, count_by, offsets_from, owners
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn
from polygene.plane.borders import Outline, outline
from polygene.plane.cells import edges_between, single_box, spread
from polygene.plane.grid import Grid

CROWDED = 64  # edges that each is held to, above which it is seen to whether a few lie far off
LEFT_OUT = (16, 256)  # edges at each side that may


class NearestRows(NamedTuple):
    """For each row its k nearest rows of the other column, NONE where there are fewer.

    row, distance : (n_rows, k), distances in map units
    mine, theirs : (n_rows, k, 2) the places they are apart
    is_tied : (n_rows,) another row is just as near as the last of the k
    """

    row: I64Array
    distance: F64Array
    mine: F64Array
    theirs: F64Array
    is_tied: BoolArray


def nearest_rows(
    column: GeometryColumn,
    other: GeometryColumn,
    grid: Grid,
    meets: tuple[I64Array, I64Array],
    k: int = 1,
    limit: float = np.inf,
) -> NearestRows:
    """Return the ``k`` nearest rows of ``other`` for each row, no further than ``limit``.

    ``meets`` are the pairs (n_pairs,) of rows that have a point in common, sorted: those are at no
    distance. Of rows at the same distance the first is taken.
    """
    # What meets is at no distance and comes first; only rows that want more are searched for.
    begin, place = begun(column, meets, k)
    row, distance, mine, theirs, is_tied = begin
    if other.n_vertices == 0 or column.n_vertices == 0:
        return begin
    search = _Search(column, other, grid)
    # One more neighbour for every row in each round, those found before left out, until there is no
    # other or none is near enough.
    n_others = int((~other.is_empty).sum())
    open_rows = ~column.is_empty
    for _ in range(k):
        open_rows &= place < min(k, n_others)
        if not open_rows.any():
            break
        found = search.step(open_rows, row, limit / grid.step)
        open_rows &= found.row != NONE
        rows = np.flatnonzero(open_rows)
        row[rows, place[rows]] = found.row[rows]
        # Nearer than the grid tells apart is no distance.
        units = found.distance[rows]
        distance[rows, place[rows]] = np.where(units < 1, 0.0, units) * grid.step
        mine[rows, place[rows]] = found.mine[rows]
        theirs[rows, place[rows]] = found.theirs[rows]
        place[rows] += 1
        is_tied[rows] = found.is_tied[rows]
    return begin


def begun(
    column: GeometryColumn, meets: tuple[I64Array, I64Array], k: int
) -> tuple[NearestRows, I64Array]:
    """Return the nearest of rows as far as they meet any, and how many (n_rows,) that are."""
    n = column.n_rows
    row, distance = np.full((n, k), NONE), np.full((n, k), np.nan)
    mine, theirs = np.full((2, n, k, 2), np.nan)
    place = np.zeros(n, np.int64)
    first, second = meets
    # Pairs are sorted, so the rank of a pair among those of its row is its distance from the first.
    rank = np.arange(len(first)) - np.searchsorted(first, first)
    taken = rank < k
    row[first[taken], rank[taken]] = second[taken]
    distance[first[taken], rank[taken]] = 0.0
    # add.at, since a row comes as often as it has partners.
    np.add.at(place, first[taken], 1)
    _at_meeting(column, mine, theirs, first[taken], rank[taken])
    is_tied = np.bincount(first, minlength=n) > k
    return NearestRows(row, distance, mine, theirs, is_tied), place


def _at_meeting(
    column: GeometryColumn, mine: F64Array, theirs: F64Array, rows: I64Array, rank: I64Array
) -> None:
    """Rows that meet are apart in no place; their first vertex stands for it."""
    xy = column.xy[column.vertex_offsets_of_rows[rows]] if len(rows) else np.zeros((0, 2))
    mine[rows, rank] = xy
    theirs[rows, rank] = xy


class _Step(NamedTuple):
    row: I64Array
    distance: F64Array
    mine: F64Array
    theirs: F64Array
    is_tied: BoolArray


def _edges(column: GeometryColumn, grid: Grid) -> tuple[Outline, I64Array, I64Array, I64Array]:
    """Return the outline, start and stop of edges (a point is one of no length), and their rows."""
    side = outline(column, grid)
    start, stop = side.start.astype(np.int64), side.stop.astype(np.int64)
    row_of_vertex = owners(column.vertex_offsets_of_rows)
    if column.family == Family.POINTS:
        start = stop = np.arange(column.n_vertices)
    else:
        # A line of one vertex, or of no length, has no edge; its vertex stands for it.
        used = np.zeros(column.n_vertices, bool)
        used[start] = used[stop] = True
        lone = np.flatnonzero(~used)
        start, stop = np.concatenate([start, lone]), np.concatenate([stop, lone])
    return side, start, stop, row_of_vertex[start]


class _Cells(NamedTuple):
    """A box of cells and the edges of each, with one cell more for those that lie in none."""

    box: I64Array
    offsets: I64Array
    entries: I64Array

    @property
    def crowd(self) -> float:
        """How many edges one is held to that lies among them, about."""
        counts = np.diff(self.offsets).astype(np.float64)
        return float((counts[:-1] ** 2).sum() / counts.sum() + counts[-1])


def _cells_over(ends: I64Array) -> _Cells:
    """Enter edges (n, 4) in cells: all, unless some that lie far off would crowd the others."""
    found = _cells_of(ends, np.ones(len(ends), bool))
    for k in LEFT_OUT:
        if found.crowd <= CROWDED or len(ends) < 16 * k:
            break
        low, high = np.minimum(ends[:, :2], ends[:, 2:]), np.maximum(ends[:, :2], ends[:, 2:])
        least, most = np.partition(low, k, axis=0)[k], np.partition(high, -1 - k, axis=0)[-1 - k]
        is_inside = ((low >= least) & (high <= most)).all(axis=1)
        if is_inside.any():
            found = min(found, _cells_of(ends, is_inside), key=lambda cells: cells.crowd)
    return found


def _cells_of(ends: I64Array, is_inside: BoolArray) -> _Cells:
    inside, others = np.flatnonzero(is_inside), np.flatnonzero(~is_inside)
    # One box without finer ones: squares of cells round an edge are walked, not its own cells.
    box = single_box(ends[inside], per_cell=1.5)
    n_cells = int(box[0, 3] * box[0, 4])
    found = spread(ends, box, np.array([0, len(inside)]), inside, n_cells)
    offsets = np.append(found.offsets, found.offsets[-1] + len(others))
    return _Cells(box[0].copy(), offsets, np.concatenate([found.order, others]))


class _Search:
    """Edges of the other column in cells, asked by the edges of this one."""

    def __init__(self, column: GeometryColumn, other: GeometryColumn, grid: Grid) -> None:
        self.n_rows = column.n_rows
        mine, start, stop, group = _edges(column, grid)
        # Edges by row, so that each thread has whole rows and no best distance is written by two.
        if (np.diff(group) < 0).any():
            order = np.argsort(group, kind="stable")
            start, stop, group = start[order], stop[order], group[order]
        self.start, self.stop, self.group = start, stop, group
        self.are_points = column.family == other.family == Family.POINTS
        theirs, start, stop, self.row = _edges(other, grid)
        self.x, self.y = mine.x, mine.y
        self.ends = edges_between(theirs.x, theirs.y, start, stop)
        cells = _cells_over(self.ends)
        self.box, self.offsets, self.entries = cells.box, cells.offsets, cells.entries
        self.grid = grid

    def step(self, open_rows: BoolArray, known: I64Array, limit: float) -> _Step:
        """Find the next nearest row of each open one (n_rows,), but those known already (n_rows, k)."""
        start, stop, group = self.start, self.stop, self.group
        if not open_rows.all():
            asked = np.flatnonzero(open_rows[group])
            start, stop, group = start[asked], stop[asked], group[asked]
        # Squared distances; -1 lets nothing be near enough for rows that are done.
        best = np.where(open_rows, min(limit, 1e15) ** 2, -1.0)
        edge, own = np.full((2, self.n_rows), NONE)
        # (n_rows,) lists one after the other: those of row g do not count for it again
        banned = known[known != NONE]
        offsets = offsets_from((known != NONE).sum(axis=1))
        tied = np.zeros(self.n_rows, np.uint8)
        ends = [values[at] for at in (start, stop) for values in (self.x, self.y)]
        banned = np.ascontiguousarray(banned)

        def look(first: int, last: int) -> None:
            kernels.run(
                kernels.gaps.nearest_of_edges,
                *edges_of[[first, last]].tolist(),
                *ends,
                group,
                self.box,
                self.offsets,
                self.entries,
                self.ends,
                self.row,
                offsets,
                banned,
                best,
                edge,
                own,
                tied,
            )

        # A row's edges follow each other, so threads have rows of their own.
        edges_of = offsets_from(count_by(group, self.n_rows))
        parallel.each(look, parallel.parted(edges_of))
        has = edge != NONE
        row = np.full(self.n_rows, NONE)
        row[has] = self.row[edge[has]]
        mine, theirs = self._places(start[own[has]], stop[own[has]], edge[has])
        all_mine, all_theirs = np.full((2, self.n_rows, 2), np.nan)
        all_mine[has], all_theirs[has] = mine, theirs
        return _Step(row, np.sqrt(np.maximum(best, 0)), all_mine, all_theirs, tied > 0)

    def _places(self, start: I64Array, stop: I64Array, edge: I64Array) -> tuple[F64Array, F64Array]:
        """Return the nearest places on two edges each, in map coordinates."""
        a = np.stack([self.x[start], self.y[start]], axis=1).astype(np.float64)
        b = np.stack([self.x[stop], self.y[stop]], axis=1).astype(np.float64)
        c = self.ends[edge, :2].astype(np.float64)
        d = self.ends[edge, 2:].astype(np.float64)
        origin = np.array([self.grid.origin_x, self.grid.origin_y], np.float64)
        # Between points there is nothing to look for along edges, and the vertices' own places are
        # exact.
        if self.are_points:
            return (a + origin) * self.grid.step, (c + origin) * self.grid.step
        best = np.full(len(a), np.inf)
        mine, theirs = a.copy(), c.copy()
        # Two edges that do not cross are nearest at an end of one of them: four cases.
        for p, q, r, is_mine in (
            (a, c, d, True),
            (b, c, d, True),
            (c, a, b, False),
            (d, a, b, False),
        ):
            on = _nearest_on(p, q, r)
            gap = np.hypot(*(p - on).T)
            closer = gap < best
            best[closer] = gap[closer]
            mine[closer] = (p if is_mine else on)[closer]
            theirs[closer] = (on if is_mine else p)[closer]
        return (mine + origin) * self.grid.step, (theirs + origin) * self.grid.step


def _nearest_on(p: F64Array, a: F64Array, b: F64Array) -> F64Array:
    way = b - a
    size = (way**2).sum(axis=1)
    t = np.divide(((p - a) * way).sum(axis=1), size, out=np.zeros(len(p)), where=size > 0)
    return a + np.clip(t, 0, 1)[:, None] * way
