"""Slow, obvious, exact checks on small geometry, in Python fractions; no code of the product."""

from __future__ import annotations

from fractions import Fraction
from itertools import pairwise

Point = tuple[Fraction, Fraction]  # or of whole numbers, or floats where that is said


def points_of(ring) -> list[Point]:
    return [(Fraction(float(x)), Fraction(float(y))) for x, y in ring]


def whole_points_of(parts) -> list[list[list[tuple[int, int]]]]:
    """The same places as whole numbers, all even, in a scale of their own: faster, and as exact."""
    given = [[points_of(ring) for ring in part] for part in parts]
    # Floats are whole numbers over powers of two: the largest of those is a multiple of all.
    every = [v.denominator for part in given for ring in part for p in ring for v in p]
    scale = 2 * max(every, default=1)
    return [
        [[(int(x * scale), int(y * scale)) for x, y in ring] for ring in part] for part in given
    ]


def turn(a: Point, b: Point, c: Point) -> int:
    """Which way three points turn, floats too."""
    if isinstance(a[0], float) or isinstance(c[0], float):
        a, b, c = ((Fraction(x), Fraction(y)) for x, y in (a, b, c))
    value = (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
    return (value > 0) - (value < 0)


def on_segment(p: Point, a: Point, b: Point) -> bool:
    return (
        turn(a, b, p) == 0
        and min(a[0], b[0]) <= p[0] <= max(a[0], b[0])
        and min(a[1], b[1]) <= p[1] <= max(a[1], b[1])
    )


def twice_area(ring: list[Point]) -> Fraction | int:
    return sum((a[0] * b[1] - b[0] * a[1] for a, b in pairwise(ring)), 0)


def covers(ring: list[Point], p: Point) -> int:
    """1 inside, 0 on the ring, -1 outside; even-odd. Of floats too: to compare them is exact."""
    inside, (x, y) = False, p
    for a, b in pairwise(ring):
        is_above = a[1] > y
        if (is_above and b[1] > y) or (a[1] < y and b[1] < y) or (a[0] < x and b[0] < x):
            continue
        passes = is_above != (b[1] > y)
        if a[0] > x and b[0] > x:
            inside ^= passes
            continue
        low, high = (a, b) if a[1] < b[1] else (b, a)
        side = turn(low, high, p)
        if side == 0:
            return 0
        inside ^= passes and side > 0
    return 1 if inside else -1


def _boxes_meet(a: Point, b: Point, c: Point, d: Point) -> bool:
    return (
        min(a[0], b[0]) <= max(c[0], d[0])
        and min(c[0], d[0]) <= max(a[0], b[0])
        and min(a[1], b[1]) <= max(c[1], d[1])
        and min(c[1], d[1]) <= max(a[1], b[1])
    )


def faults(parts) -> list[str]:
    """Say what the Simple Features standard (OGC 06-103r4, 6.1.11) has against a multipolygon.

    ``parts`` is a list of parts, each a list of rings, each a sequence of (x, y).
    """
    found = []
    rings = whole_points_of(parts)
    flat = [(p, r, ring) for p, part in enumerate(rings) for r, ring in enumerate(part)]
    for p, r, ring in flat:
        if len(ring) < 4 or ring[0] != ring[-1]:
            found.append(f"part {p} ring {r}: open or too short")
            return found
        if len(set(ring[:-1])) != len(ring) - 1:
            found.append(f"part {p} ring {r}: a vertex twice")
        if (twice_area(ring) > 0) != (r == 0):
            found.append(f"part {p} ring {r}: turned the wrong way")
    edges = [(p, r, k, a, b) for p, r, ring in flat for k, (a, b) in enumerate(pairwise(ring))]
    edges.sort(key=lambda e: min(e[3][0], e[4][0]))
    touching: dict[tuple, set[Point]] = {}
    for i, (p, r, k, a, b) in enumerate(edges):
        for q, s, m, c, d in edges[i + 1 :]:
            if min(c[0], d[0]) > max(a[0], b[0]):
                break
            if not _boxes_meet(a, b, c, d):
                continue
            shared = {v for v in (a, b) if on_segment(v, c, d)} | {
                v for v in (c, d) if on_segment(v, a, b)
            }
            if turn(a, b, c) * turn(a, b, d) < 0 and turn(c, d, a) * turn(c, d, b) < 0:
                found.append(f"edges cross: {p}.{r}.{k} and {q}.{s}.{m}")
            elif len(shared) > 1:
                found.append(f"edges overlap: {p}.{r}.{k} and {q}.{s}.{m}")
            elif shared and (p, r) != (q, s):
                touching.setdefault((p, r, q, s), set()).update(shared)
            elif shared:
                n = len(rings[p][r]) - 1
                if abs(k - m) not in (1, n - 1):
                    found.append(f"part {p} ring {r} touches itself: edges {k} and {m}")
    if found:
        return found
    for p, part in enumerate(rings):
        for r, hole in enumerate(part[1:], 1):
            if -1 in _sides(hole, part[0]):
                found.append(f"part {p} hole {r} lies outside")
            for s, other in enumerate(part[1:], 1):
                if s != r and 1 in _sides(hole, other):
                    found.append(f"part {p} hole {r} lies in hole {s}")
        for q, other in enumerate(rings):
            if p == q:
                continue
            where = _sides(part[0], other[0])
            if where == {1, -1}:
                found.append(f"part {p} crosses part {q} in a vertex")
            elif 1 in where and not any(_sides(part[0], hole) == {1} for hole in other[1:]):
                found.append(f"part {p} lies in part {q}")
    found += _pinched(rings, touching)
    return found


def _sides(ring: list[Point], other: list[Point]) -> set[int]:
    """1 if any of ``ring``, whose edges cross none of ``other``, lies inside it, -1 if outside."""
    found = set()
    for a, b in pairwise(ring):
        stops = {a, b} | {v for v in other if on_segment(v, a, b)}
        order = sorted(stops, key=lambda v, a=a: abs(v[0] - a[0]) + abs(v[1] - a[1]))
        for p, q in pairwise(order):
            # Sums of even numbers: halves are whole. (Of fractions, floor division would not be.)
            found.add(covers(other, ((p[0] + q[0]) // 2, (p[1] + q[1]) // 2)))
    return found - {0}


def _pinched(rings, touching) -> list[str]:
    """Rings of one part that touch in a cycle of points cut its inside apart."""
    found = []
    for p, part in enumerate(rings):
        # Graph of rings and touching points: a cycle pinches.
        nodes: dict[tuple, int] = {}
        edges = set()
        for (a, r, b, s), points in touching.items():
            if a == b == p:
                for v in points:
                    edges |= {(("ring", r), v), (("ring", s), v)}
        parent: dict = {}

        def root(n, parent=parent):
            while parent.setdefault(n, n) != n:
                n = parent[n]
            return n

        for a, b in edges:
            if root(a) == root(b):
                found.append(f"part {p}: its inside is cut apart")
                break
            parent[root(a)] = root(b)
        del nodes, part
    return found


def is_covered(parts, p: Point) -> int:
    """1 if a row of polygon parts covers p, 0 on some border, -1 if not; parity within a part.

    Of floats too.
    """
    found = -1
    for part in parts:
        sides = [covers(ring, p) for ring in part]
        if 0 in sides:
            return 0
        if sides.count(1) % 2:
            found = 1
    return found


def covered_length(path: list[Point], rows) -> float:
    """The length of a path that lies in or on polygons: rows of parts of rings of (x, y)."""
    rings = [points_of(ring) for parts in rows for ring in sum(parts, [])]
    borders = [edge for ring in rings for edge in pairwise(ring)]
    total = 0.0
    for a, b in pairwise(path):
        if a == b:
            continue
        dx, dy = b[0] - a[0], b[1] - a[1]
        cuts = {Fraction(0), Fraction(1)}
        for c, d in borders:
            ex, ey = d[0] - c[0], d[1] - c[1]
            cross = dx * ey - dy * ex
            if cross:
                t = ((c[0] - a[0]) * ey - (c[1] - a[1]) * ex) / cross
                cuts.add(t)
            else:
                cuts |= {
                    ((v[0] - a[0]) * dx + (v[1] - a[1]) * dy) / (dx * dx + dy * dy) for v in (c, d)
                }
        inside = sorted(t for t in cuts if 0 <= t <= 1)
        for s, t in pairwise(inside):
            middle = (a[0] + dx * (s + t) / 2, a[1] + dy * (s + t) / 2)
            if any(is_covered(parts, middle) >= 0 for parts in rows):
                total += float(t - s) * float(dx * dx + dy * dy) ** 0.5
    return total


def row_points(parts) -> list:
    """Nested lists of (x, y) as nested lists of fractions."""
    return [[points_of(ring) for ring in part] for part in parts]
