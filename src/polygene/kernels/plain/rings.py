"""Twins of the kernels on valid rings: `valid`, `places`, `sound`, `chains`."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Any

from polygene.kernels.plain.base import exactly, is_on, turn


def edges_meet(a: Any, b: Any, c: Any, d: Any) -> bool:
    """Whether two edges have a point in common; exact for fractions."""
    if turn(a, b, c) * turn(a, b, d) < 0 and turn(c, d, a) * turn(c, d, b) < 0:
        return True
    return any((is_on(c, a, b), is_on(d, a, b), is_on(a, c, d), is_on(b, c, d)))


def find_meetings(rings: Sequence[Sequence[Any]]) -> bool:
    """Whether edges of the rings of a row meet otherwise than in the vertex between neighbours."""
    edges = [
        (r, k, *map(exactly, ring[k : k + 2]))
        for r, ring in enumerate(rings)
        for k in range(len(ring) - 1)
    ]
    for n, (r, k, a, b) in enumerate(edges):
        for s, m, c, d in edges[:n]:
            if r == s and (k - m == 1 or (m == 0 and k == len(rings[r]) - 2)):
                # Neighbours meet in their vertex; more than that only if one runs back over the other.
                tip, mine, other = (b, a, d) if m == 0 and k != 1 else (a, b, c)
                back = turn(mine, tip, other) == 0 and (
                    (mine[0] - tip[0]) * (other[0] - tip[0])
                    + (mine[1] - tip[1]) * (other[1] - tip[1])
                    > 0
                )
                if len(rings[r]) > 3 and not back:
                    continue
            if edges_meet(a, b, c, d):
                return True
    return False


def locate_in_rings(p: Any, ring: Sequence[Any]) -> int:
    """Return 1 if a point lies inside a ring, 0 on it, -1 outside; even-odd, exact."""
    p, ring = exactly(p), [exactly(v) for v in ring]
    inside = False
    for a, b in zip(ring[:-1], ring[1:], strict=True):
        if is_on(p, a, b):
            return 0
        if (a[1] > p[1]) != (b[1] > p[1]) and (turn(a, b, p) > 0) == (b[1] > a[1]):
            inside = not inside
    return 1 if inside else -1


locate_rising = locate_in_rings  # that one knows the order of its points


def find_sound(rings: Sequence[Sequence[Any]]) -> bool:
    """Whether a row of one part may be called plainly valid; the kernel may say no to any it doubts."""
    closed = all(len(r) >= 4 and tuple(r[0]) == tuple(r[-1]) for r in rings)
    if not closed or any(
        tuple(a) == tuple(b) for r in rings for a, b in zip(r[:-1], r[1:], strict=True)
    ):
        return False
    return all(locate_in_rings(v, rings[0]) >= 0 for ring in rings[1:] for v in ring)


def find_simple(parts: Sequence[Sequence[Sequence[Any]]]) -> bool:
    """Whether the parts of a row are valid and its rings touch nowhere."""
    rings = [ring for part in parts for ring in part]
    if not all(find_sound([ring]) for ring in rings) or find_meetings(rings):
        return False
    areas = [[sum(a[0] * b[1] - b[0] * a[1] for a, b in itertools.pairwise(map(exactly, ring)))
              for ring in part] for part in parts]  # fmt: skip
    if any((area > 0) != (k == 0) for part in areas for k, area in enumerate(part)):
        return False

    def holds(part: Sequence[Sequence[Any]], ring: Sequence[Any]) -> bool:
        return locate_in_rings(ring[0], part[0]) > 0 and not any(
            locate_in_rings(ring[0], hole) > 0 for hole in part[1:] if hole is not ring
        )

    return all(holds(part, hole) for part in parts for hole in part[1:]) and not any(
        holds(other, part[0]) for part in parts for other in parts if other is not part
    )


def turns(a: Any, b: Any, c: Any) -> int:
    """Return the sign of the turn from a over b to c."""
    side = turn(exactly(a), exactly(b), exactly(c))
    return (side > 0) - (side < 0)


def convex_hulls(points: Sequence[Any]) -> set[Any]:
    """Return the corners of the convex hull: points on no edge and in no triangle of others."""
    known = [exactly(p) for p in points]
    return {
        p
        for p in known
        if not any(is_on(p, a, b) for a in known for b in known if p not in (a, b))
        and not any(
            turn(a, b, p) == turn(b, c, p) == turn(c, a, p) != 0
            for a in known
            for b in known
            for c in known
            if p not in (a, b, c)
        )
    }
