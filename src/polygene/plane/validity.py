"""What the Simple Features standard (OGC 06-103r4, 6.1.11) has against polygons; exact, on doubles.

Most rows have no two edges that meet but in the vertex between neighbours, and are settled by asking
where one vertex of each ring lies. Those that touch themselves are looked at ring by ring.
"""

from __future__ import annotations

import enum
import itertools
from collections.abc import Sequence
from fractions import Fraction
from typing import NamedTuple

import numpy as np

from polygene import kernels
from polygene.arrays import BoolArray, F64Array, I64Array, count_by, offsets_from, owners, spans
from polygene.geometry import Family, GeometryColumn
from polygene.measures import ring_areas
from polygene.plane.cells import CROWD_OF_PAIRS, Segments, build_cells
from polygene.plane.settling import places_apart
from polygene.plane.sound import plainly_sound

PAIRS_AT_ONCE = 4_000_000


Point = tuple[Fraction, Fraction]


class Problem(enum.IntEnum):
    """What can be wrong with a polygon; the value orders them."""

    NOT_FINITE = 1
    TOO_FEW_POINTS = 2
    NOT_CLOSED = 3
    RING_CROSSES = 4
    RING_ALONG_ITSELF = 5
    RING_TOUCHES = 6
    RINGS_CROSS = 7
    RINGS_SHARE = 8
    PARTS_CROSS = 9
    PARTS_SHARE = 10
    HOLE_OUTSIDE = 11
    HOLE_IN_HOLE = 12
    PARTS_OVERLAP = 13
    CUT_APART = 14
    WRONG_DIRECTION = 15
    REPEATED_VERTEX = 16

    @property
    def words(self) -> str:
        return _WORDS[self]

    @property
    def is_fault(self) -> bool:
        """Whether the standard calls such a polygon invalid; direction and repeats do no harm."""
        return self < Problem.WRONG_DIRECTION


_WORDS = {
    Problem.NOT_FINITE: "a coordinate is not a finite number",
    Problem.TOO_FEW_POINTS: "a ring has fewer than three different points in a row",
    Problem.NOT_CLOSED: "a ring does not end where it begins",
    Problem.RING_CROSSES: "a ring crosses itself",
    Problem.RING_ALONG_ITSELF: "a ring runs along itself, as a spike does",
    Problem.RING_TOUCHES: "a ring touches itself",
    Problem.RINGS_CROSS: "a hole crosses its outer ring or another hole",
    Problem.RINGS_SHARE: "a hole runs along its outer ring or another hole",
    Problem.PARTS_CROSS: "two parts cross",
    Problem.PARTS_SHARE: "two parts run along each other",
    Problem.HOLE_OUTSIDE: "a hole lies outside its outer ring",
    Problem.HOLE_IN_HOLE: "a hole lies in another hole",
    Problem.PARTS_OVERLAP: "a part lies inside another",
    Problem.CUT_APART: "holes that touch cut the inside apart",
    Problem.WRONG_DIRECTION: "a ring is drawn the other way round than the standard has it",
    Problem.REPEATED_VERTEX: "a vertex is there twice in a row",
}


class Problems(NamedTuple):
    """One entry for each kind of problem of a row, at one of its places.

    row, kind : (n,) int64; xy : (n, 2)
    """

    row: I64Array
    kind: I64Array
    xy: F64Array


def invalid_rows(column: GeometryColumn) -> BoolArray:
    """Return (n_rows,) polygons that are invalid."""
    invalid = np.zeros(column.n_rows, bool)
    found = problems_of(column)
    invalid[found.row[found.kind < Problem.WRONG_DIRECTION]] = True
    return invalid


def problems_of(column: GeometryColumn) -> Problems:
    """Return all problems of polygons, by row and kind, each kind once a row at its first place."""
    assert column.family == Family.POLYGONS
    doubtful = np.flatnonzero(~plainly_sound(column))
    found = _problems_of_all(column.take(doubtful))
    return found._replace(row=doubtful[found.row])


def _problems_of_all(column: GeometryColumn) -> Problems:
    row_of_ring = owners(column.ring_offsets_of_rows)
    found = _Found()
    is_bad = _look_at_rings(column, row_of_ring, found)
    clean = _Clean.of(column, ~is_bad, row_of_ring)
    touched, touches = _look_at_meetings(clean, found)
    _look_at_nesting(clean, touched, found)
    for row in np.unique(touches.row).tolist():
        _look_closely(clean, row, touches, touched, found)
    return found.sorted()


class _Found:
    """Collects problems."""

    def __init__(self) -> None:
        self.rows: list[I64Array] = []
        self.kinds: list[I64Array] = []
        self.places: list[F64Array] = []

    def add(self, kind: Problem, rows: I64Array, xy: F64Array) -> None:
        if len(rows):
            self.rows.append(np.asarray(rows, np.int64))
            self.kinds.append(np.full(len(rows), int(kind)))
            self.places.append(np.asarray(xy, np.float64).reshape(-1, 2))

    def sorted(self) -> Problems:
        if not self.rows:
            nothing = np.zeros(0, np.int64)
            return Problems(nothing, nothing, np.zeros((0, 2)))
        row, kind = np.concatenate(self.rows), np.concatenate(self.kinds)
        xy = np.concatenate(self.places)
        order = np.lexsort((kind, row))
        row, kind, xy = row[order], kind[order], xy[order]
        is_first = np.ones(len(row), bool)
        is_first[1:] = (row[1:] != row[:-1]) | (kind[1:] != kind[:-1])
        return Problems(row[is_first], kind[is_first], xy[is_first])


def _look_at_rings(column: GeometryColumn, row_of_ring: I64Array, found: _Found) -> BoolArray:
    """Find what a ring alone tells; return which rows cannot be looked at further."""
    xy, offsets = column.xy, column.ring_offsets
    ring_of = owners(offsets)
    row_of_vertex = row_of_ring[ring_of]
    bad = np.zeros(column.n_rows, bool)
    wrong = np.flatnonzero(~np.isfinite(xy).all(axis=1))
    found.add(Problem.NOT_FINITE, row_of_vertex[wrong], xy[wrong])
    bad[row_of_vertex[wrong]] = True
    repeats = np.flatnonzero((ring_of[1:] == ring_of[:-1]) & (xy[1:] == xy[:-1]).all(axis=1)) + 1
    found.add(Problem.REPEATED_VERTEX, row_of_vertex[repeats], xy[repeats])
    counts = np.diff(offsets)
    counts = counts - count_by(ring_of[repeats], column.n_rings)
    has = np.diff(offsets) > 0
    first, last = offsets[:-1].copy(), offsets[1:] - 1
    first[~has] = last[~has] = 0
    is_open = has & ~(xy[first] == xy[last]).all(axis=1) if len(xy) else has
    open_rings = np.flatnonzero(is_open & ~bad[row_of_ring])
    found.add(Problem.NOT_CLOSED, row_of_ring[open_rings], xy[first[open_rings]])
    few = np.flatnonzero((counts + is_open < 4) & ~bad[row_of_ring])
    place = xy[first[few]] if len(xy) else np.zeros((len(few), 2))
    found.add(Problem.TOO_FEW_POINTS, row_of_ring[few], place)
    bad[row_of_ring[few]] = True
    return bad


class _Clean(NamedTuple):
    """Rings of rows that can be looked at: closed, without repeats.

    edge arrays: ``start`` the vertex it starts at, ``following`` the next edge of the ring
    """

    xy: F64Array
    offsets: I64Array
    part: I64Array
    row: I64Array
    is_outer: BoolArray
    start: I64Array
    following: I64Array
    ring_of_edge: I64Array

    @staticmethod
    def of(column: GeometryColumn, is_good: BoolArray, row_of_ring: I64Array) -> _Clean:
        part_of_ring = owners(column.part_offsets)
        is_outer = np.zeros(column.n_rings, bool)
        is_outer[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = True
        rings = np.flatnonzero(is_good[row_of_ring] & (np.diff(column.ring_offsets) > 0))
        counts = np.diff(column.ring_offsets)[rings]
        # Each ring with its first vertex once more, in case it is open; repeats go.
        at = spans(column.ring_offsets[rings], counts + 1)
        ends = np.cumsum(counts + 1) - 1
        at[ends] = column.ring_offsets[rings]
        ring = np.repeat(np.arange(len(rings)), counts + 1)
        xy = column.xy[at]
        keeps = np.ones(len(at), bool)
        keeps[1:] = (ring[1:] != ring[:-1]) | (xy[1:] != xy[:-1]).any(axis=1)
        xy, ring = np.ascontiguousarray(xy[keeps]) + 0.0, ring[keeps]
        offsets = offsets_from(count_by(ring, len(rings)))
        start = np.flatnonzero(ring[:-1] == ring[1:]) if len(ring) else np.zeros(0, np.int64)
        ring_of_edge = ring[start]
        following = np.arange(len(start)) + 1
        edge_offsets = offsets_from(count_by(ring_of_edge, len(rings)))
        following[edge_offsets[1:] - 1] = edge_offsets[:-1]
        return _Clean(
            xy, offsets, part_of_ring[rings], row_of_ring[rings], is_outer[rings], start, following,
            ring_of_edge,
        )  # fmt: skip


class _Touches(NamedTuple):
    row: I64Array
    first: I64Array
    second: I64Array
    xy: F64Array


def _look_at_meetings(clean: _Clean, found: _Found) -> tuple[BoolArray, _Touches]:
    """Find edges that meet; return which rings do, and where rings that do no more touch."""
    touched = np.zeros(len(clean.row), bool)
    nothing = np.zeros(0, np.int64)
    none = _Touches(nothing, nothing, nothing, np.zeros((0, 2)))
    if len(clean.start) == 0:
        return touched, none
    first, second, kind, xy = _meetings(clean)
    ring_a, ring_b = clean.ring_of_edge[first], clean.ring_of_edge[second]
    row = clean.row[ring_a]
    touched[ring_a] = touched[ring_b] = True
    one_ring, one_part = ring_a == ring_b, clean.part[ring_a] == clean.part[ring_b]
    for code, ring, rings, parts in (
        (1, Problem.RING_CROSSES, Problem.RINGS_CROSS, Problem.PARTS_CROSS),
        (2, Problem.RING_ALONG_ITSELF, Problem.RINGS_SHARE, Problem.PARTS_SHARE),
    ):
        for problem, mask in (
            (ring, one_ring), (rings, one_part & ~one_ring), (parts, ~one_part)
        ):  # fmt: skip
            at = np.flatnonzero((kind == code) & mask)
            found.add(problem, row[at], xy[at])
    # Where a ring runs along itself it touches itself too, which says nothing more.
    along = np.isin(ring_a, ring_a[(kind == 2) & one_ring])
    at = np.flatnonzero((kind == 3) & one_ring & ~along)
    found.add(Problem.RING_TOUCHES, row[at], xy[at])
    spoilt = np.unique(row[(kind != 3) | one_ring])
    kept = np.flatnonzero((kind == 3) & ~np.isin(row, spoilt))
    return touched, _Touches(row[kept], ring_a[kept], ring_b[kept], xy[kept])


def _meetings(clean: _Clean) -> tuple[I64Array, I64Array, I64Array, F64Array]:
    cells = build_cells(_segments(clean), CROWD_OF_PAIRS)
    room = 4096
    sums = np.zeros(16)
    while True:
        first, second, kind = np.empty((3, room), np.int64)
        place = np.empty((room, 2))
        n = kernels.run(
            kernels.valid.find_meetings, cells.leaves, cells.offsets, cells.entries, clean.xy,
            clean.start, clean.following, clean.row[clean.ring_of_edge], sums, first, second, kind,
            place,
        )  # fmt: skip
        if n <= room:
            return first[:n], second[:n], kind[:n], place[:n]
        room = n


def _segments(clean: _Clean) -> Segments:
    """Return the edges on a coarse grid, each row in a place of its own, to find which are near."""
    _, first_ring, row_of_ring = np.unique(clean.row, return_index=True, return_inverse=True)
    first = clean.offsets[first_ring]  # rings come in the order of rows
    low = np.minimum.reduceat(clean.xy, first, axis=0)
    high = np.maximum.reduceat(clean.xy, first, axis=0)
    size = float(np.sqrt((high - low).prod(axis=1).sum()) + (high - low).max())
    scale = 2.0**34 / size if size > 0 else 1.0
    row = row_of_ring.reshape(-1)[clean.ring_of_edge]
    boxes = np.ceil((high - low) * scale).astype(np.int64).T
    shift = np.stack(places_apart(np.zeros_like(boxes), boxes), axis=1)[row]
    ends = [
        np.floor((clean.xy[at] - low[row]) * scale).astype(np.int64)
        for at in (clean.start, clean.start + 1)
    ]
    (ax, ay), (bx, by) = (ends[0] + shift).T, (ends[1] + shift).T
    swaps = (ax > bx) | ((ax == bx) & (ay > by))
    return Segments(
        np.where(swaps, bx, ax), np.where(swaps, by, ay),
        np.where(swaps, ax, bx), np.where(swaps, ay, by),
    )  # fmt: skip


def _located(clean: _Clean, xy: F64Array, ring: I64Array) -> I64Array:
    """Return 1, 0 or -1 for points inside, on and outside of one ring each."""
    sides = np.empty(len(ring), np.int64)
    kernels.run(
        kernels.valid.locate_in_rings, np.ascontiguousarray(xy[:, 0]),
        np.ascontiguousarray(xy[:, 1]), np.ascontiguousarray(ring), clean.xy, clean.offsets,
        np.zeros(16), sides,
    )  # fmt: skip
    return sides


def _look_at_nesting(clean: _Clean, touched: BoolArray, found: _Found) -> None:
    """Look at rings that meet no other: directions, holes in their outer ring, parts apart."""
    n_rings = len(clean.row)
    if n_rings == 0:
        return
    firsts = clean.xy[clean.offsets[:-1]]
    area = ring_areas(clean.xy, clean.offsets)
    wrong = np.flatnonzero((area < 0) == clean.is_outer)
    found.add(Problem.WRONG_DIRECTION, clean.row[wrong], firsts[wrong])
    quiet = ~touched
    # Holes in their own outer ring.
    outer_of_part = np.zeros(int(clean.part.max()) + 1, np.int64)
    outers = np.flatnonzero(clean.is_outer)
    outer_of_part[clean.part[outers]] = outers
    holes = np.flatnonzero(~clean.is_outer & quiet)
    side = _located(clean, firsts[holes], outer_of_part[clean.part[holes]])
    outside = holes[side < 0]
    found.add(Problem.HOLE_OUTSIDE, clean.row[outside], firsts[outside])
    bounds = _ring_bounds(clean)
    for a, b in _pairs_in_rows(clean, bounds):
        use = quiet[a]
        a, b = a[use], b[use]
        both_holes = ~clean.is_outer[a] & ~clean.is_outer[b] & (clean.part[a] == clean.part[b])
        h, other = a[both_holes], b[both_holes]
        inside = h[_located(clean, firsts[h], other) > 0]
        found.add(Problem.HOLE_IN_HOLE, clean.row[inside], firsts[inside])
        _parts_inside(clean, a, b, firsts, found)


def _parts_inside(clean: _Clean, a: I64Array, b: I64Array, firsts: F64Array, found: _Found) -> None:
    """Find outer rings a that lie in another part b: inside its outer ring and in no hole of it."""
    use = clean.is_outer[a] & (clean.part[a] != clean.part[b])
    a, b = a[use], b[use]
    is_in = _located(clean, firsts[a], b) > 0
    a, b = a[is_in], b[is_in]
    if len(a) == 0:
        return
    # +1 inside the outer ring, -1 for each hole that it lies in.
    keys, at = np.unique(np.stack([a, clean.part[b]], axis=1), axis=0, return_inverse=True)
    depth = np.bincount(at.reshape(-1), np.where(clean.is_outer[b], 1, -1))
    ring = keys[depth > 0, 0]
    found.add(Problem.PARTS_OVERLAP, clean.row[ring], firsts[ring])


def _ring_bounds(clean: _Clean) -> F64Array:
    low = np.minimum.reduceat(clean.xy, clean.offsets[:-1], axis=0)
    high = np.maximum.reduceat(clean.xy, clean.offsets[:-1], axis=0)
    return np.concatenate([low, high], axis=1)


def _pairs_in_rows(clean: _Clean, bounds: F64Array) -> list[tuple[I64Array, I64Array]]:
    """Return pairs of rings (a, b) of one row where the box of b holds that of a, in portions."""
    rows, starts, counts = np.unique(clean.row, return_index=True, return_counts=True)
    several = counts > 1
    starts, counts = starts[several], counts[several]
    portions = []
    ring = spans(starts, counts)
    partners = np.repeat(counts, counts)
    first = np.repeat(starts, counts)
    limit = np.cumsum(partners) // PAIRS_AT_ONCE
    for k in range(int(limit.max(initial=-1)) + 1):
        some = limit == k
        a = np.repeat(ring[some], partners[some])
        b = spans(first[some], partners[some])
        holds = (a != b) & (bounds[a, 0] >= bounds[b, 0]) & (bounds[a, 1] >= bounds[b, 1])
        holds &= (bounds[a, 2] <= bounds[b, 2]) & (bounds[a, 3] <= bounds[b, 3])
        portions.append((a[holds], b[holds]))
    return portions


# Rows whose rings touch each other in points


def _look_closely(
    clean: _Clean, row: int, touches: _Touches, touched: BoolArray, found: _Found
) -> None:
    """Look at one row whose rings touch: do they cross there, are they nested, do they pinch?"""
    mine = np.flatnonzero(touches.row == row)
    points: dict[int, list[tuple[float, float]]] = {}
    links: dict[int, set[tuple[int, tuple[float, float]]]] = {}
    for k in mine:
        a, b = int(touches.first[k]), int(touches.second[k])
        point = (float(touches.xy[k, 0]), float(touches.xy[k, 1]))
        for ring in (a, b):
            points.setdefault(ring, []).append(point)
        if clean.part[a] == clean.part[b]:
            links.setdefault(int(clean.part[a]), set()).update({(a, point), (b, point)})
    sides = _SidesOf(clean, points)
    rings = np.flatnonzero(clean.row == row)
    for ring, other in itertools.permutations(rings.tolist(), 2):
        if touched[ring] or touched[other]:
            problem = _wrong_side(clean, ring, other, rings, sides)
            if problem is not None:
                found.add(problem, np.array([row]), np.array(sides.place(ring)))
    for pairs in links.values():
        pinch = _pinch(pairs)
        if pinch is not None:
            found.add(Problem.CUT_APART, np.array([row]), np.array(pinch))


def _wrong_side(
    clean: _Clean, ring: int, other: int, rings: I64Array, sides: _SidesOf
) -> Problem | None:
    one_part = clean.part[ring] == clean.part[other]
    where = sides.of(ring, other)
    if one_part:
        if where == {1, -1}:
            return Problem.RINGS_CROSS
        if clean.is_outer[ring]:
            return None
        if clean.is_outer[other]:
            return Problem.HOLE_OUTSIDE if -1 in where else None
        return Problem.HOLE_IN_HOLE if 1 in where else None
    if not (clean.is_outer[ring] and clean.is_outer[other]):
        return None
    if where == {1, -1}:
        return Problem.PARTS_CROSS
    if 1 not in where:
        return None
    holes = [h for h in rings if clean.part[h] == clean.part[other] and not clean.is_outer[h]]
    lies_in_hole = any(sides.of(ring, int(h)) == {1} for h in holes)
    return None if lies_in_hole else Problem.PARTS_OVERLAP


class _SidesOf:
    """On which sides of other rings a ring's stretches between touching points lie."""

    def __init__(self, clean: _Clean, points: dict[int, list[tuple[float, float]]]) -> None:
        self.clean, self.points = clean, points
        self._witnesses: dict[int, list[Point]] = {}

    def place(self, ring: int) -> tuple[float, float]:
        return self.points.get(ring, [tuple(self.clean.xy[self.clean.offsets[ring]])])[0]

    def ring(self, ring: int) -> F64Array:
        return self.clean.xy[self.clean.offsets[ring] : self.clean.offsets[ring + 1]]

    def witnesses(self, ring: int) -> list[Point]:
        """Return a point of each stretch between places where rings touch; one side holds all of it."""
        if ring in self._witnesses:
            return self._witnesses[ring]
        xy = self.ring(ring)
        cuts = dict.fromkeys(self.points.get(ring, []))
        if not cuts:
            return self._witnesses.setdefault(ring, [_exact(xy[0])])
        inner = _cuts_by_edge(xy, list(cuts))
        found, begins = [], True
        vertices = [tuple(v) for v in xy.tolist()]
        for k in range(len(vertices) - 1):
            if not begins and k not in inner and vertices[k + 1] not in cuts:
                continue
            stops = [vertices[k], *inner.get(k, []), vertices[k + 1]]
            for p, q in itertools.pairwise(stops):
                if begins:
                    (px, py), (qx, qy) = _exact(p), _exact(q)
                    found.append(((px + qx) / 2, (py + qy) / 2))
                begins = q in cuts
        self._witnesses[ring] = found
        return found

    def of(self, ring: int, other: int) -> set[int]:
        border = self.ring(other)
        return {side for p in self.witnesses(ring) if (side := _side_of(border, p))}


def _exact(point: Sequence[float]) -> Point:
    return Fraction(float(point[0])), Fraction(float(point[1]))


def _cuts_by_edge(
    xy: F64Array, cuts: Sequence[tuple[float, float]]
) -> dict[int, list[tuple[float, float]]]:
    """Return the points that lie inside edges, by edge, in the order along it."""
    low, high = np.minimum(xy[:-1], xy[1:]), np.maximum(xy[:-1], xy[1:])
    inner: dict[int, list[tuple[float, float]]] = {}
    for cut in cuts:
        for k in np.flatnonzero(((low <= cut) & (high >= cut)).all(axis=1)).tolist():
            if _is_between(_exact(cut), _exact(xy[k]), _exact(xy[k + 1])):
                inner.setdefault(k, []).append(cut)
    for k, own in inner.items():
        x, y = xy[k]
        own.sort(key=lambda c, x=x, y=y: abs(c[0] - x) + abs(c[1] - y))  # type: ignore[misc]
    return inner


def _turn(a: Point, b: Point, c: Point) -> Fraction:
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])


def _is_between(p: Point, a: Point, b: Point) -> bool:
    if p in (a, b) or not (min(a[0], b[0]) <= p[0] <= max(a[0], b[0])):
        return False
    return min(a[1], b[1]) <= p[1] <= max(a[1], b[1]) and _turn(a, b, p) == 0


def _side_of(ring: F64Array, p: Point) -> int:
    """Return 1 inside, 0 on the ring (n, 2), -1 outside; even-odd."""
    inside = False
    y = float(p[1])
    reaches = np.minimum(ring[:-1, 1], ring[1:, 1]) <= np.nextafter(y, np.inf)
    reaches &= np.maximum(ring[:-1, 1], ring[1:, 1]) >= np.nextafter(y, -np.inf)
    for k in np.flatnonzero(reaches).tolist():
        a, b = _exact(ring[k]), _exact(ring[k + 1])
        if p in (a, b) or _is_between(p, a, b):
            return 0
        if (a[1] > p[1]) != (b[1] > p[1]):
            low, high = (a, b) if a[1] < b[1] else (b, a)
            inside ^= _turn(low, high, p) > 0
    return 1 if inside else -1


def _pinch(pairs: set[tuple[int, tuple[float, float]]]) -> tuple[float, float] | None:
    """Return a point of a cycle of rings that touch, None if there is no cycle."""
    parent: dict[object, object] = {}

    def root(node: object) -> object:
        while parent.setdefault(node, node) != node:
            node = parent[node]
        return node

    for ring, point in sorted(pairs):
        a, b = root(ring), root(point)
        if a == b:
            return point
        parent[a] = b
    return None
