"""Twins of the kernels on where and how far things lie: `locate`, `near`, `space`, `boxes`."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from fractions import Fraction
from typing import Any

from polygene.kernels.plain.base import NONE, Ints, turn
from polygene.kernels.plain.numbers import join_roots


def cover_points(
    points: Sequence[tuple[int, int]], ends: Sequence[Ints], row_of_edge: Ints
) -> set[tuple[int, int]]:
    """Return the pairs of a point and a row that has an odd number of edges to the left of it."""
    found: set[tuple[int, int]] = set()
    for k, (px, py) in enumerate(points):
        for e, row in zip(ends, row_of_edge, strict=True):
            (ay, ax), (by, bx) = sorted(((e[1], e[0]), (e[3], e[2])))
            if ay <= py < by and turn((ax, ay), (bx, by), (px, py)) < 0:
                found ^= {(k, row)}
    return found


def gap_to_edge(p: tuple[int, int], e: Ints) -> Fraction:
    """Return the square of the distance of a point from an edge, which may be a point itself."""
    way, off = (e[2] - e[0], e[3] - e[1]), (p[0] - e[0], p[1] - e[1])
    along = Fraction(way[0] * off[0] + way[1] * off[1], way[0] ** 2 + way[1] ** 2 or 1)
    along = min(max(along, Fraction(0)), Fraction(1))
    return (off[0] - along * way[0]) ** 2 + (off[1] - along * way[1]) ** 2


def locate_points(points: Iterable[tuple[int, int]], ends: Sequence[Ints]) -> list[int]:
    """Return the half-edge that each point, of doubled coordinates, sees to its left; NONE for none.

    It lies to the left of that half-edge, which is the downward one: 2 k runs as edge k does.
    """
    found = []
    for px, py in points:
        best, best_x = NONE, None
        for k, e in enumerate(ends):
            (ax, ay), (bx, by) = sorted(((2 * e[1], 2 * e[0]), (2 * e[3], 2 * e[2])))
            low, high = ay, by  # x at the lower and at the upper end
            if not ax <= py < bx:
                continue
            # A touch above the point's height, so that ends of edges are no special case.
            at = low + Fraction((py - ax) * (high - low), bx - ax)
            lean = Fraction(high - low, bx - ax)
            if (at, lean) < (px, 0) and (best_x is None or (at, lean) > best_x):
                best_x, runs_up = (at, lean), e[1] < e[3]
                best = 2 * k + 1 if runs_up else 2 * k
        found.append(best)
    return found


def fill_corners(corners: Iterable[tuple[int, int]], ends: Sequence[Ints]) -> list[int]:
    """Return what the lower left corner of each cell sees to its left."""
    return locate_points(corners, ends)


def to_edge(p: Any, e: Any, across: float = 1.0, up: float = 1.0) -> tuple[float, float]:
    """Return the distance of a point from an edge, and where on it the nearest place is, 0 to 1."""
    wx, wy = (e[2] - e[0]) * across, (e[3] - e[1]) * up
    px, py = (p[0] - e[0]) * across, (p[1] - e[1]) * up
    size = wx * wx + wy * wy
    t = 0.0 if size == 0 else min(max((px * wx + py * wy) / size, 0.0), 1.0)
    return math.hypot(px - t * wx, py - t * wy), t


def nearest_edges(points: Any, ends: Any, reach: float, across: Any, up: Any) -> list[float | None]:
    """Return the distance of each point from its nearest edge, None beyond ``reach``."""
    found: list[float | None] = []
    for p, a, u in zip(points, across, up, strict=True):
        least = min((to_edge(p, e, a, u)[0] for e in ends), default=math.inf)
        found.append(least if least <= reach else None)
    return found


def edges_within(
    points: Any, ends: Any, reach: float, across: Any, up: Any
) -> set[tuple[int, int]]:
    """Return pairs of a point and an edge that it is near to, inside the edge and not at its ends."""
    return {
        (k, n)
        for k, (p, a, u) in enumerate(zip(points, across, up, strict=True))
        for n, e in enumerate(ends)
        if to_edge(p, e, a, u)[0] <= reach and 0 < to_edge(p, e, a, u)[1] < 1
    }


def edge_gap(e: Any, f: Any) -> float:
    """Return the distance of two edges that do not cross."""
    return min(
        to_edge(e[:2], f)[0], to_edge(e[2:], f)[0], to_edge(f[:2], e)[0], to_edge(f[2:], e)[0]
    )


def nearest_of_edges(
    edges: Any, group: Ints, others: Any, row: Ints, banned: Sequence[Ints]
) -> list[tuple[float, int | None]]:
    """Return for each group of edges how near another set comes, and the lowest row that does."""
    found = []
    for g, not_these in enumerate(banned):
        gaps = [
            (edge_gap(e, f), r)
            for e, own in zip(edges, group, strict=True)
            for f, r in zip(others, row, strict=True)
            if own == g and r not in not_these
        ]
        found.append(min(gaps, default=(math.inf, None)))
    return found


def gap_in_space(a: Ints, b: Ints) -> float:
    """Return the distance of two straight pieces in space, x, y, z, x, y, z (Ericson 2005, 5.1.9).

    The place on one is the best for the place on the other, which is looked for at its ends and where
    both are free.
    """
    p, q = a[:3], b[:3]
    d, e = ([piece[3 + k] - piece[k] for k in range(3)] for piece in (a, b))
    r = [u - v for u, v in zip(p, q, strict=True)]

    def dot(u: Any, v: Any) -> float:
        return sum(x * y for x, y in zip(u, v, strict=True))

    def at(s: float) -> float:
        place = [u + s * w for u, w in zip(p, d, strict=True)]
        to = [u - v for u, v in zip(place, q, strict=True)]
        t = min(max(dot(to, e) / dot(e, e), 0.0), 1.0) if dot(e, e) else 0.0
        return math.dist(place, [v + t * w for v, w in zip(q, e, strict=True)])

    tries = [0.0, 1.0]
    size = dot(d, d)
    for t in (0.0, 1.0):  # the best for either end of the other
        if size:
            to = [v + t * w - u for v, w, u in zip(q, e, p, strict=True)]
            tries.append(min(max(dot(to, d) / size, 0.0), 1.0))
    free = size * dot(e, e) - dot(d, e) ** 2
    if free > 0:
        tries.append(min(max((dot(d, e) * dot(e, r) - dot(d, r) * dot(e, e)) / free, 0.0), 1.0))
    return min(map(at, tries))


def near_in_space(
    gaps: Sequence[Sequence[float]], group: Ints, row: Ints, banned: Sequence[Ints]
) -> list[int | None]:
    """Return the other piece that is nearest to each group, by the gaps of pieces; None for none.

    The kernel lists all pairs that may be the nearest; this one must be among them.
    """
    found: list[int | None] = []
    for g, not_these in enumerate(banned):
        mine = [q for q, own in enumerate(group) if own == g]
        counted = [k for k, r in enumerate(row) if r not in not_these]
        pairs = [(gaps[q][k], k) for q in mine for k in counted]
        found.append(min(pairs)[1] if pairs else None)
    return found


def join_boxes(boxes: Sequence[Sequence[float]], group: Ints) -> list[int]:
    """Return the first box of those of its group that each is brought together with."""
    pairs = [
        (i, j)
        for i, a in enumerate(boxes)
        for j, b in enumerate(boxes[:i])
        if group[i] == group[j]
        if a[0] <= b[2] and b[0] <= a[2] and a[1] <= b[3] and b[1] <= a[3]
    ]
    return join_roots([i for i, _ in pairs], [j for _, j in pairs], len(boxes))


def pair_boxes(
    boxes: Sequence[Sequence[float]], turned: Sequence[Sequence[float]], group: Ints, holds: bool
) -> set[tuple[int, int]]:
    """Return the pairs of boxes of a group of which the second holds the first, or that meet.

    Where there are ``turned`` ones, these hold each other too.
    """
    if turned:
        both = (pair_boxes(own, [], group, True) for own in (boxes, turned))
        return set.intersection(*both)
    return {
        (i, j)
        for i, a in enumerate(boxes)
        for j, b in enumerate(boxes)
        if i != j
        and group[i] == group[j]
        and (holds or i < j)
        and all(
            b[k] <= a[k if holds else k + 2] and b[k + 2] >= a[k + 2 if holds else k]
            for k in (0, 1)
        )
    }


def farthest_off(
    points: Sequence[Sequence[float]],
    point_offsets: Ints,
    edges: Sequence[Sequence[float]],
    edge_offsets: Ints,
) -> list[float]:
    """Return of each pair the largest distance of a point of its first to the edges of its second."""

    def off(p: Sequence[float], edge: Sequence[float]) -> float:
        ax, ay, bx, by = edge
        length = (bx - ax) ** 2 + (by - ay) ** 2
        t = ((p[0] - ax) * (bx - ax) + (p[1] - ay) * (by - ay)) / length if length else 0.0
        t = min(max(t, 0.0), 1.0)
        return math.hypot(p[0] - ax - t * (bx - ax), p[1] - ay - t * (by - ay))

    found = []
    for k in range(len(point_offsets) - 1):
        mine = points[point_offsets[k] : point_offsets[k + 1]]
        theirs = edges[edge_offsets[k] : edge_offsets[k + 1]]
        found.append(max((min(off(p, e) for e in theirs) for p in mine), default=0.0))
    return found


def marked(sums: Sequence[Ints]) -> list[tuple[int, int]]:
    """Return the column and row of cells that are marked, from the sums of all below and left."""
    return [
        (i, j)
        for j in range(len(sums) - 1)
        for i in range(len(sums[0]) - 1)
        if sums[j + 1][i + 1] - sums[j][i + 1] - sums[j + 1][i] + sums[j][i]
    ]


def cells_of(box: Sequence[float], low: Sequence[float], side: float, n: Ints) -> list[range]:
    """Return the columns and rows of a box, of what lies beyond the raster the nearest."""
    ends = [
        [min(max(math.floor((box[k + 2 * e] - low[k]) / side), 0), n[k] - 1) for e in (0, 1)]
        for k in (0, 1)
    ]
    return [range(a, b + 1) for a, b in ends]


def edge_reach(
    xy: Sequence[Sequence[float]],
    rows: Iterable[Iterable[range]],
    marks: Sequence[tuple[int, int]],
    low: Sequence[float],
    side: float,
    n: Ints,
) -> list[list[float]]:
    """Return the box about those edges of each row that meet a marked cell, or lie at one outside."""
    high = [v + k * side for v, k in zip(low, n, strict=True)]
    found = []
    for row in rows:
        box = [math.inf, math.inf, -math.inf, -math.inf]
        for ring in row:
            for k in ring:
                a, b = xy[k], xy[k + 1 if k + 1 < ring.stop else ring.start]
                own = [min(a[0], b[0]), min(a[1], b[1]), max(a[0], b[0]), max(a[1], b[1])]
                if own[2] < low[0] or own[3] < low[1] or own[0] > high[0] or own[1] > high[1]:
                    continue
                across, up = cells_of(own, low, side, n)
                if any(i in across and j in up for i, j in marks):
                    box = [*map(min, box[:2], own[:2]), *map(max, box[2:], own[2:])]
        found.append(box)
    return found


def sum_marks(marks: Sequence[Ints]) -> list[list[int]]:
    """Return how many cells are marked below and left of each corner of cells."""
    sums = [[0] * (len(marks[0]) + 1)]
    for line in marks:
        sums.append(
            [a + b for a, b in zip(sums[-1], itertools.accumulate([0, *line]), strict=True)]
        )
    return sums


def rows_hit(
    points: Sequence[tuple[int, int]],
    rows: Iterable[Iterable[range]],
    marks: Sequence[tuple[int, int]],
    origin: tuple[int, int],
    side: int,
    is_closed: bool,
) -> list[bool]:
    """Return which rows have an edge whose box meets a marked cell, or a ring that no edge tells of."""

    def meets(a: tuple[int, int], b: tuple[int, int]) -> bool:
        return any(
            all(
                min(a[k], b[k]) < origin[k] + (mark[k] + 1) * side
                and max(a[k], b[k]) >= origin[k] + mark[k] * side
                for k in (0, 1)
            )
            for mark in marks
        )

    found = []
    for row in rows:
        rings = [[points[k] for k in ring] for ring in row if len(ring)]
        edges = [pair for ring in rings for pair in itertools.pairwise(ring)]
        is_odd = any(len(r) == 1 or (is_closed and r[0] != r[-1]) for r in rings)
        found.append(is_odd or any(meets(a, b) for a, b in edges))
    return found
