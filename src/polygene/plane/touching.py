"""Rows whose rings touch each other in points: do they cross there, are they nested, do they pinch?

Few rows are like this, and each is looked at on its own, in fractions.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from fractions import Fraction

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array
from polygene.plane.clean import Clean, Touches
from polygene.plane.clusters import pairs_of_boxes
from polygene.plane.problems import Found, Problem

Point = tuple[Fraction, Fraction]


def look_closely(
    clean: Clean, row: int, touches: Touches, touched: BoolArray, found: Found
) -> None:
    """Look at one row whose rings touch: do they cross there, are they nested, do they pinch?

    ``touched`` (n_rings,) says which rings meet another.
    """
    # Python objects and fractions: rows like this are few, and exactness is all that counts.
    mine = np.flatnonzero(touches.row == row)
    points: dict[int, list[tuple[float, float]]] = {}
    links: dict[int, set[tuple[int, tuple[float, float]]]] = {}
    for k in mine:
        a, b = int(touches.first[k]), int(touches.second[k])
        point = (float(touches.xy[k, 0]), float(touches.xy[k, 1]))
        for ring in (a, b):
            points.setdefault(ring, []).append(point)
        # A graph of rings and touching points: its cycles are what cuts an inside apart.
        if clean.part[a] == clean.part[b]:
            links.setdefault(int(clean.part[a]), set()).update({(a, point), (b, point)})
    # A ring between two touching points lies on one side of another all along, or it would meet it.
    sides = _SidesOf(clean, points)
    rings = np.arange(*np.searchsorted(clean.row, (row, row + 1)))
    for ring, other in _pairs_to_ask(clean, rings, touched):
        problem = _wrong_side(clean, ring, other, rings, sides)
        if problem is not None:
            found.add(problem, np.array([row]), np.array(sides.place(ring)))
    for pairs in links.values():
        pinch = _pinch(pairs)
        if pinch is not None:
            found.add(Problem.CUT_APART, np.array([row]), np.array(pinch))


def _pairs_to_ask(clean: Clean, rings: I64Array, touched: BoolArray) -> list[tuple[int, int]]:
    """Return the pairs of rings of a row of which the first may lie on a wrong side of the second.

    Nothing can lie within another whose box it does not come near; a hole can lie outside its outer
    ring wherever that is. Both ways round: a in b and b in a are different faults.
    """
    is_touched, part = touched[rings], clean.part[rings]
    a, b = pairs_of_boxes(
        clean.bounds(rings[0], rings[-1] + 1),
        np.zeros(len(rings), np.int64),
        lambda a, b: is_touched[a] | is_touched[b],
    )
    is_outer = clean.is_outer[rings]
    holes, outers = np.flatnonzero(~is_outer), np.flatnonzero(is_outer)
    own = outers[np.searchsorted(part[outers], part[holes])]
    use = is_touched[holes] | is_touched[own]
    keys = np.unique(np.append(a, holes[use]) * len(rings) + np.append(b, own[use]))
    return list(zip(*(rings[k].tolist() for k in np.divmod(keys, len(rings))), strict=True))


def _wrong_side(
    clean: Clean, ring: int, other: int, rings: I64Array, sides: _SidesOf
) -> Problem | None:
    one_part = clean.part[ring] == clean.part[other]
    where = sides.of(ring, other)
    if one_part:
        # Stretches on both sides: the ring goes through the other in a touching point.
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
    # Inside the other's outer ring, but wholly in one of its holes, is apart from it.
    holes = [h for h in rings if clean.part[h] == clean.part[other] and not clean.is_outer[h]]
    lies_in_hole = any(sides.of(ring, int(h)) == {1} for h in holes)
    return None if lies_in_hole else Problem.PARTS_OVERLAP


class _SidesOf:
    """On which sides of other rings a ring's stretches between touching points lie."""

    def __init__(self, clean: Clean, points: dict[int, list[tuple[float, float]]]) -> None:
        self.clean, self.points = clean, points
        self._witnesses: dict[int, list[Point]] = {}

    def place(self, ring: int) -> tuple[float, float]:
        return min(self.points.get(ring, [tuple(self.clean.xy[self.clean.offsets[ring]])]))

    def ring(self, ring: int) -> F64Array:
        return self.clean.xy[self.clean.offsets[ring] : self.clean.offsets[ring + 1]]

    def witnesses(self, ring: int) -> list[Point]:
        """Return a point of each stretch between places where rings touch; one side holds all of it."""
        if ring in self._witnesses:
            return self._witnesses[ring]
        xy = self.ring(ring)
        # Each touching point once, in an order that does not change.
        cuts = dict.fromkeys(self.points.get(ring, []))
        if not cuts:
            return self._witnesses.setdefault(ring, [_exact(xy[0])])
        # Touching points inside edges part these; those in vertices part the ring there.
        inner = _cuts_by_edge(xy, list(cuts))
        found, begins = [], True
        vertices = [tuple(v) for v in xy.tolist()]
        for k in range(len(vertices) - 1):
            # Most edges are in the midst of a stretch that has its witness already.
            if not begins and k not in inner and vertices[k + 1] not in cuts:
                continue
            stops = [vertices[k], *inner.get(k, []), vertices[k + 1]]
            for p, q in itertools.pairwise(stops):
                if begins:
                    (px, py), (qx, qy) = _exact(p), _exact(q)
                    # The middle of the stretch's first piece: on the ring, and no touching point.
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
        # Along the edge by the sum of both differences, which grows with the way.
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
    # Edges that cannot reach the height of p are left out in floating point, a last digit wider.
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

    # Union-find over rings and points: joining two that hang together already closes a cycle.
    for ring, point in sorted(pairs):
        a, b = root(ring), root(point)
        if a == b:
            return point
        parent[a] = b
    return None
