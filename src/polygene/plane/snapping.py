"""Snap: borders of INPUT that nearly coincide with OTHER's follow them.

Vertices of INPUT within reach of OTHER move onto its nearest vertex, or else its nearest edge; then
edges of INPUT get the vertices of OTHER that lie within reach of them. OTHER never moves. What INPUT's
features share they share afterwards: where a vertex moves is decided by its place alone, and an edge
that other features have vertices on gets those first.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I32Array,
    I64Array,
    IntArray,
    bucket,
    count_by,
    number_pairs,
    offsets_from,
    owners,
    spans,
)
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn
from polygene.plane.borders import Outline
from polygene.plane.grid import Grid
from polygene.plane.nearness import PLAIN, Metric, NearEdges
from polygene.plane.touch import BorderMap, boxes_in_units

ON_IT = 0.49  # grid units: nearer than this an edge passes the pixel of a vertex
NEIGHBOUR = -2  # as NONE, for a vertex added because another feature has one there


class Snapped(NamedTuple):
    """A column whose borders follow OTHER's.

    is_changed : (n_rows,) rows with a vertex moved or added
    n_moved, n_added : vertices; those that several features share count once
    furthest : the longest way that a vertex went, as the metric has it
    """

    column: GeometryColumn
    is_changed: BoolArray
    n_moved: int
    n_added: int
    furthest: float


class _Paths(NamedTuple):
    """Rings or lines as places.

    at : (n_vertices,) the place of each vertex
    vertex : (n_vertices,) the vertex of the column that it was; NONE or NEIGHBOUR if it was added
    z, m : (n_vertices,) or None
    """

    at: I64Array
    vertex: I64Array
    z: F64Array | None
    m: F64Array | None
    ring_offsets: I64Array

    def starts(self) -> I64Array:
        """Return the (n_edges,) vertices at which an edge starts; it ends at the next one."""
        ring_of = owners(self.ring_offsets)
        return np.flatnonzero((ring_of[:-1] == ring_of[1:]) & (self.at[:-1] != self.at[1:]))


class _Places(NamedTuple):
    """Distinct grid points; ``xy`` (n, 2) are the map coordinates that moved vertices get there."""

    x: I64Array
    y: I64Array
    xy: F64Array


def snapped(
    column: GeometryColumn,
    other: GeometryColumn,
    border: Outline,
    grid: Grid,
    reach: float,
    metric: Metric = PLAIN,
) -> Snapped:
    """Move a column onto OTHER wherever it lies within ``reach`` of it, as a metric has it.

    ``border`` is the outline of ``other`` on the grid.
    """
    start, stop = border.start, border.stop
    # Points are edges of no length: one search serves both.
    if other.family == Family.POINTS:
        start = stop = np.arange(other.n_vertices, dtype=np.int32)
        border = border._replace(start=start, stop=stop)
    if not len(start):  # nothing to move onto
        return Snapped(column, np.zeros(column.n_rows, bool), 0, 0, 0.0)
    # Rows whose box, widened by the reach, meets no border stay as they are, untouched bit for bit.
    low, high = boxes_in_units(column.row_bounds(), grid)
    margin = np.maximum.reduce([_margins(reach, metric, box[:, 1]) for box in (low, high)])
    near = np.flatnonzero(BorderMap(border).is_touched(low - margin, high + margin))
    some = column.take(near)
    x, y = grid.to_units(some.xy)
    # Decided once for each place: what features share goes the same way for all of them.
    numbering = number_pairs(x, y)
    px, py = x[numbering.firsts], y[numbering.firsts]
    goal = _goals(
        px=px,
        py=py,
        other=other,
        border=border,
        start=start,
        stop=stop,
        grid=grid,
        reach=reach,
        metric=metric,
    )
    # A vertex that lies on its goal already has not moved, and is not told as such.
    is_moved = (goal.x != px) | (goal.y != py)
    paths = _Paths(numbering.numbers, np.arange(some.n_vertices), some.z, some.m, some.ring_offsets)
    if some.family != Family.POINTS:
        # Before anything moves: an edge beside which a neighbour has vertices gets those, or a gap
        # would open where they move and the edge does not.
        paths = _with_neighbours(paths, px, py)
    places, goal_place, corners = _gathered(goal, is_moved, other, border)
    # Vertices that went to one place are one vertex.
    paths = _without_repeats(paths._replace(at=goal_place[paths.at]))
    n_added = 0
    if some.family != Family.POINTS:
        # Only now: edges run between goals, and the corners of OTHER near them belong on them.
        paths, n_added = _with_corners(paths, places, corners, reach, metric)
        paths = _without_idle_neighbours(paths, places)
    # What lies at one place has its coordinates, whether it moved there or was there.
    is_heeded = np.zeros(len(places.x), bool)
    is_heeded[corners] = True
    is_new = (paths.vertex < 0) | is_heeded[paths.at]
    xy = np.where(
        is_new[:, None], places.xy.take(paths.at, axis=0), some.xy.take(paths.vertex, axis=0)
    )
    # Rings that fell together go; rows without any become empty, and are named by the caller.
    rebuilt, is_changed = _rebuilt(some, paths, xy)
    changed = np.zeros(column.n_rows, bool)
    changed[near[is_changed]] = True
    # How far the furthest vertex went is told, so that one can see whether the distance was too
    # large.
    way = _lengths((goal.x - px)[is_moved], (goal.y - py)[is_moved], metric.sizes(py[is_moved]))
    new = rebuilt.take(np.flatnonzero(is_changed))
    return Snapped(
        column.with_rows(near[is_changed], new),
        changed,
        int(is_moved.sum()),
        n_added,
        float(way.max(initial=0.0)),
    )


def _is_lower(x: I64Array, y: I64Array, a: IntArray, b: IntArray) -> BoolArray:
    """Return which of the points ``a`` (n,), indices of ``x`` and ``y``, come before those of ``b``."""
    return np.asarray((x[a] < x[b]) | ((x[a] == x[b]) & (y[a] < y[b])))


def _lengths(x: I64Array, y: I64Array, sizes: tuple[F64Array, F64Array]) -> F64Array:
    return np.hypot(x * sizes[0], y * sizes[1])


def _margins(reach: float, metric: Metric, y: I64Array) -> I64Array:
    """Return (n, 2) grid units across and up that hold ``reach`` at heights (n,)."""
    # In degrees a metre is more units across the further north, so the margin is that of the row's
    # own ends.
    sizes = np.stack(metric.sizes(y), axis=1)
    return np.ceil(np.minimum(reach / sizes, 2.0**42)).astype(np.int64)


def _goals(
    px: I64Array,
    py: I64Array,
    other: GeometryColumn,
    border: Outline,
    start: I32Array,
    stop: I32Array,
    grid: Grid,
    reach: float,
    metric: Metric,
) -> _Places:
    """Return where each place goes: to OTHER's nearest vertex within reach, or onto its edge."""
    nearest = NearEdges(border.x, border.y, start, stop).nearest(px, py, reach, metric)
    found = np.flatnonzero(nearest.edge != NONE)
    edge, place = nearest.edge[found], nearest.place[found]
    # From its lower end, whichever way the ring goes that has it.
    is_up = _is_lower(border.x, border.y, start[edge], stop[edge])
    a, b = np.where(is_up, start[edge], stop[edge]), np.where(is_up, stop[edge], start[edge])
    place = np.where(is_up, place, 1 - place)
    sizes = metric.sizes(py[found])
    # A vertex within reach wins over the edge that is nearer: corners belong on corners.
    to_a = _lengths(px[found] - border.x[a], py[found] - border.y[a], sizes)
    to_b = _lengths(px[found] - border.x[b], py[found] - border.y[b], sizes)
    corner = np.where(to_b < to_a, b, a)
    is_corner = np.minimum(to_a, to_b) <= reach
    # The foot on the edge, rounded to the grid, so half a unit beside the edge at most.
    on_x = np.floor(border.x[a] + place * (border.x[b] - border.x[a]) + 0.5).astype(np.int64)
    on_y = np.floor(border.y[a] + place * (border.y[b] - border.y[a]) + 0.5).astype(np.int64)
    goal_x, goal_y = px.copy(), py.copy()
    goal_x[found] = np.where(is_corner, border.x[corner], on_x)
    goal_y[found] = np.where(is_corner, border.y[corner], on_y)
    xy = grid.to_map(goal_x, goal_y)
    # Where it becomes OTHER's vertex it gets that vertex's coordinates, bit for bit.
    xy[found[is_corner]] = other.xy[corner[is_corner]]
    return _Places(goal_x, goal_y, xy)


def _gathered(
    goal: _Places, is_moved: BoolArray, other: GeometryColumn, border: Outline
) -> tuple[_Places, I64Array, I64Array]:
    """Number the places there are now: the goals and OTHER's vertices.

    Returns them, the place of each goal, and the places that edges of INPUT have to heed: OTHER's
    vertices, and what moved onto its edges.
    """
    n_other = len(border.x)
    # OTHER's vertices come first, so that a place both have is written with OTHER's coordinates.
    x, y = np.concatenate([border.x, goal.x]), np.concatenate([border.y, goal.y])
    numbering = number_pairs(x, y)
    firsts = numbering.firsts
    xy = np.concatenate([other.xy, goal.xy])[firsts]
    differs = np.flatnonzero((other.xy != xy[numbering.numbers[:n_other]]).any(axis=1))
    if len(differs):
        # Of vertices that are nearer to each other than the grid is wide one stands for all.
        place = numbering.numbers[:n_other]
        again = np.flatnonzero(np.isin(place, place[differs]))
        again = again[np.lexsort((other.xy[again, 1], other.xy[again, 0]))[::-1]]
        xy[place[again]] = other.xy[again]  # the lowest last
    goal_place = numbering.numbers[n_other:]
    heeded = np.zeros(len(firsts), bool)
    heeded[numbering.numbers[:n_other]] = True
    heeded[goal_place[is_moved]] = True
    return _Places(x[firsts], y[firsts], xy), goal_place, np.flatnonzero(heeded)


def _lines(
    paths: _Paths, starts: I64Array, x: I64Array, y: I64Array
) -> tuple[I64Array, BoolArray, I64Array, I64Array]:
    """Number edges, the same for all between the same places, which lie at ``x`` and ``y``.

    Returns for each edge its line and whether it runs from the line's lower end, and for each line its
    lower and its upper end.
    """
    a, b = paths.at[starts], paths.at[starts + 1]
    is_up = _is_lower(x, y, a, b)
    low, high = np.where(is_up, a, b), np.where(is_up, b, a)
    lines = number_pairs(low, high)
    return lines.numbers, is_up, low[lines.firsts], high[lines.firsts]


def _with_neighbours(paths: _Paths, px: I64Array, py: I64Array) -> _Paths:
    """Give edges the vertices that other features have on them, lest they part."""
    starts = paths.starts()
    if len(starts) == 0:
        return paths
    # Edges of neighbours that are equal are asked once, and get the same vertices.
    line_of_edge, is_forward, low, high = _lines(paths, starts, px, py)
    pairs = NearEdges(px, py, low, high).within(px, py, ON_IT)
    # An edge has its own ends already.
    is_end = (pairs.point == low[pairs.edge]) | (pairs.point == high[pairs.edge])
    return _added(
        paths=paths,
        starts=starts,
        line_of_edge=line_of_edge,
        is_forward=is_forward,
        line=pairs.edge[~is_end],
        place=pairs.point[~is_end],
        share=pairs.place[~is_end],
        x=px,
        y=py,
        mark=NEIGHBOUR,
    )


def _without_idle_neighbours(paths: _Paths, places: _Places) -> _Paths:
    """Leave out vertices of other features that still lie on the edge they were given to."""
    is_neighbour = paths.vertex == NEIGHBOUR
    index = np.arange(len(paths.at))
    # The vertex before each and the one behind, neighbours left out: running maximum and minimum of
    # indices.
    before = np.maximum.accumulate(np.where(is_neighbour, 0, index))
    after = np.minimum.accumulate(np.where(is_neighbour, len(index), index)[::-1])[::-1]
    asked = np.flatnonzero(is_neighbour)
    a, p, b = (paths.at[k[asked]] for k in (before, index, after))
    dx, dy = places.x[b] - places.x[a], places.y[b] - places.y[a]
    way = np.hypot(dx, dy)
    # Twice the triangle over the edge's length is the distance of the vertex from it.
    across = dx * np.float64(places.y[p] - places.y[a]) - dy * np.float64(places.x[p] - places.x[a])
    idle = (way > 0) & (np.abs(across) <= ON_IT * way)
    return _kept(paths, ~np.isin(index, asked[idle]))


def _with_corners(
    paths: _Paths, places: _Places, corners: I64Array, reach: float, metric: Metric
) -> tuple[_Paths, int]:
    """Give edges the corners of OTHER within reach of them; how many is counted by line.

    Not where a ring along the edge has the corner already: going there twice would make a spike.
    """
    starts = paths.starts()
    if len(starts) == 0:
        return paths, 0
    line_of_edge, is_forward, low, high = _lines(paths, starts, places.x, places.y)
    pairs = NearEdges(places.x, places.y, low, high).within(
        places.x[corners], places.y[corners], reach, metric
    )
    line, corner = pairs.edge, corners[pairs.point]
    # A corner that the ring has beside the edge is met there; going out to it twice would make a
    # spike.
    has_it = _along_has(paths, starts, line_of_edge, line, corner)
    chosen = np.flatnonzero(~has_it)
    more = _added(
        paths=paths,
        starts=starts,
        line_of_edge=line_of_edge,
        is_forward=is_forward,
        line=line[chosen],
        place=corner[chosen],
        share=pairs.place[chosen],
        x=places.x,
        y=places.y,
        mark=NONE,
    )
    return more, len(chosen)


def _along_has(
    paths: _Paths, starts: I64Array, line_of_edge: I64Array, line: I64Array, place: I64Array
) -> BoolArray:
    """Whether, for each (line, place), some ring that runs over the line has the place."""
    ring_of = owners(paths.ring_offsets)
    n_lines = int(line_of_edge.max(initial=-1)) + 1
    # Asked by (ring, place): all pairs are numbered together, and those of rings looked up.
    grouped = bucket(line_of_edge, n_lines)
    counts = np.diff(grouped.offsets)[line]
    edge = grouped.order[spans(grouped.offsets[line], counts)]
    asked = np.repeat(np.arange(len(line)), counts)
    both = number_pairs(
        np.concatenate([ring_of, ring_of[starts[edge]]]), np.concatenate([paths.at, place[asked]])
    )
    is_there = np.zeros(len(both.firsts), bool)
    is_there[both.numbers[: len(ring_of)]] = True
    has_it = np.zeros(len(line), bool)
    has_it[asked[is_there[both.numbers[len(ring_of) :]]]] = True
    return has_it


def _added(
    paths: _Paths,
    starts: I64Array,
    line_of_edge: I64Array,
    is_forward: BoolArray,
    line: I64Array,
    place: I64Array,
    share: F64Array,
    x: I64Array,
    y: I64Array,
    mark: int,
) -> _Paths:
    """Add places, which lie at ``x`` and ``y``, to every edge that runs over their line, along it.

    A place has its ``share`` of the way from the line's lower end.
    """
    n_lines = int(line_of_edge.max(initial=-1)) + 1
    # Places on both sides of a line may have one share; whoever runs over it goes to them in one order.
    order = np.lexsort((y[place], x[place], share, line))
    offsets = offsets_from(count_by(line, n_lines))
    counts = np.diff(offsets)[line_of_edge]
    edge = np.repeat(np.arange(len(starts)), counts)
    at = spans(offsets[line_of_edge], counts)
    # Against the line the last comes first.
    first, last = offsets[line_of_edge], offsets[line_of_edge + 1] - 1
    entry = order[np.where(is_forward[edge], at, (first + last)[edge] - at)]
    along = np.where(is_forward[edge], share[entry], 1 - share[entry])
    added = place[entry]
    # Each vertex, then what is added behind it.
    behind = np.zeros(len(paths.at), np.int64)
    behind[starts] = counts
    at_vertex = np.arange(len(paths.at)) + offsets_from(behind)[:-1]
    is_old = np.zeros(len(paths.at) + len(added), bool)
    is_old[at_vertex] = True

    def filled(old: np.ndarray, new: np.ndarray) -> np.ndarray:
        both = np.empty(len(is_old), old.dtype)
        both[is_old], both[~is_old] = old, new
        return both

    # Z and M of added vertices: linear along the edge, as heights at cuts are.
    def between(values: F64Array | None) -> F64Array | None:
        if values is None:
            return None
        first, last = values[starts[edge]], values[starts[edge] + 1]
        return filled(values, first + along * (last - first))

    counts_of_rings = np.diff(paths.ring_offsets) + np.diff(
        offsets_from(behind)[paths.ring_offsets]
    )
    return _Paths(
        filled(paths.at, added),
        filled(paths.vertex, np.full(len(added), mark)),
        between(paths.z),
        between(paths.m),
        offsets_from(counts_of_rings),
    )


def _without_repeats(paths: _Paths) -> _Paths:
    """Leave out vertices at the place of the one before; of those at one place one that was stays."""
    ring_of = owners(paths.ring_offsets)
    keeps = np.ones(len(paths.at), bool)
    keeps[1:] = (paths.at[1:] != paths.at[:-1]) | (ring_of[1:] != ring_of[:-1])
    if len(keeps):
        # Vertices that were count from 0, those that were added are below.
        # Of vertices at one place one that the column had gives its identity, Z and M.
        best = np.maximum.reduceat(paths.vertex, np.flatnonzero(keeps))
        paths = paths._replace(vertex=best[np.cumsum(keeps) - 1])
    return _kept(paths, keeps)


def _kept(paths: _Paths, keeps: BoolArray) -> _Paths:
    ring_of = owners(paths.ring_offsets)
    return _Paths(
        paths.at[keeps],
        paths.vertex[keeps],
        None if paths.z is None else paths.z[keeps],
        None if paths.m is None else paths.m[keeps],
        offsets_from(count_by(ring_of[keeps], len(paths.ring_offsets) - 1)),
    )


def _rebuilt(some: GeometryColumn, paths: _Paths, xy: F64Array) -> tuple[GeometryColumn, BoolArray]:
    """Return the column with new rings, without those that fell together, and which rows changed."""
    counts = np.diff(paths.ring_offsets)
    ring_of = owners(paths.ring_offsets)
    # A ring has changed if it has more or fewer vertices, or one is elsewhere.
    is_changed_ring = counts != np.diff(some.ring_offsets)
    is_other = (paths.vertex < 0) | (xy != some.xy.take(paths.vertex, axis=0)).any(axis=1)
    is_changed_ring[ring_of[is_other]] = True
    row_of_ring = owners(some.ring_offsets_of_rows)
    is_changed = count_by(row_of_ring[is_changed_ring], some.n_rows) > 0
    # Fewer make no point, no line, no closed ring.
    least = (1, 2, 4)[some.family]
    fell = is_changed_ring & (counts < least)
    part_of_ring = owners(some.part_offsets)
    # With its outer ring a part goes whole.
    is_outer = np.zeros(some.n_rings, bool)
    is_outer[some.part_offsets[:-1][np.diff(some.part_offsets) > 0]] = True
    lost_part = count_by(part_of_ring[fell & is_outer], some.n_parts) > 0
    keeps_ring = ~fell & ~lost_part[part_of_ring]
    keeps = keeps_ring[ring_of]
    ring_counts = count_by(part_of_ring[keeps_ring], some.n_parts)
    part_counts = count_by(owners(some.row_offsets)[~lost_part], some.n_rows)
    rebuilt = replace(
        some,
        xy=xy.compress(keeps, axis=0),
        ring_offsets=offsets_from(counts[keeps_ring]),
        part_offsets=offsets_from(ring_counts[~lost_part]),
        row_offsets=offsets_from(part_counts),
        z=None if paths.z is None else paths.z[keeps],
        m=None if paths.m is None else paths.m[keeps],
    )
    return rebuilt, is_changed
