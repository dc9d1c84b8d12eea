"""Twins of the kernels on faces and the rings round them: `arrange`, `trace`."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from typing import Any

from polygene.kernels.plain.base import NONE, Ints, spans, turn


def sort_around(node_offsets: Ints, leaving: Ints, way: Sequence[tuple[int, int]]) -> list[int]:
    """Return the half-edges that leave each node by angle from straight left, counter-clockwise."""

    def half(h: int) -> int:
        return 0 if way[h][1] < 0 or (way[h][1] == 0 and way[h][0] < 0) else 1

    def compare(g: int, h: int) -> int:
        return half(g) - half(h) or -turn((0, 0), way[g], way[h])

    key = functools.cmp_to_key(compare)
    return [h for span in spans(node_offsets) for h in sorted((leaving[k] for k in span), key=key)]


def link_around(node_offsets: Ints, leaving: Ints) -> dict[int, int]:
    """Return the next half-edge of the face to the left of each: clockwise from its twin."""
    following = {}
    for span in spans(node_offsets):
        around = [leaving[k] for k in span]
        for k, h in enumerate(around):
            following[h ^ 1] = around[k - 1]
    return following


def trace_cycles(following: Ints) -> tuple[list[int], list[int]]:
    """Return the cycle of each half-edge, and the first half-edge of each cycle."""
    cycle_of, first = [NONE] * len(following), []
    for start in range(len(following)):
        if cycle_of[start] == NONE:
            h, n = start, len(first)
            first.append(start)
            while cycle_of[h] == NONE:
                cycle_of[h], h = n, following[h]
    return cycle_of, first


def find_least(root_of_node: Ints, x: Ints, y: Ints) -> dict[int, int]:
    """Return the lexicographically smallest node of each component."""
    least: dict[int, int] = {}
    for v in sorted(range(len(x)), key=lambda v: (x[v], y[v], v)):
        least.setdefault(root_of_node[v], v)
    return least


def find_outer(roots: Ints, leaving: Sequence[Ints], way: Sequence[tuple[int, int]]) -> list[int]:
    """Return the steepest half-edge of those that leave each root, all to the right or straight up."""
    found = []
    for v in roots:
        best = leaving[v][0]
        for h in leaving[v][1:]:
            best = h if turn((0, 0), way[best], way[h]) > 0 else best
        found.append(best)
    return found


def list_deltas(
    given: Sequence[tuple[int, int, int]],
    line_of_given: Ints,
    is_given_reversed: Ints,
    steps: Sequence[Sequence[tuple[int, int]]],
) -> dict[int, set[tuple[int, int, int]]]:
    """Return by noded edge the parts it bounds: (part, sign, line), for (edge, part, sign) given.

    ``steps`` of a line are its noded edges, and whether each runs against it.
    """
    found: dict[int, set[tuple[int, int, int]]] = {}
    for edge, part, sign in given:
        line = line_of_given[edge]
        for step, is_reversed in steps[line] if line >= 0 else ():
            turned = bool(is_reversed) != bool(is_given_reversed[edge])
            found.setdefault(step, set()).add((part, -sign if turned else sign, line))
    return found


def wind_faces(
    face_of_halfedge: Ints, deltas: Sequence[Sequence[tuple[int, int]]], n_faces: int
) -> list[dict[int, int]]:
    """Return the winding numbers of the parts round each face, those that are not 0.

    ``deltas`` of an edge are (part, sign): from its left to its right the sign is taken away.
    """
    windings: list[dict[int, int] | None] = [{}, *[None] * (n_faces - 1)]
    waiting = [0]
    while waiting:
        f = waiting.pop()
        for h, face in enumerate(face_of_halfedge):
            beyond = face_of_halfedge[h ^ 1]
            if face != f or windings[beyond] is not None:
                continue
            found = dict(windings[f] or {})
            for part, sign in deltas[h >> 1]:
                found[part] = found.get(part, 0) + (sign if h & 1 else -sign)
            windings[beyond] = {part: w for part, w in found.items() if w}
            waiting.append(beyond)
    return [w or {} for w in windings]


def sign_rings(x: Ints, y: Ints, ring_offsets: Ints) -> list[int]:
    """Return the sign of the area of each ring."""
    areas = [
        sum(x[k] * y[k + 1] - x[k + 1] * y[k] for k in span[:-1]) for span in spans(ring_offsets)
    ]
    return [(a > 0) - (a < 0) for a in areas]


def find_borders(
    face_of_halfedge: Ints, pieces_of_face: Sequence[set[int]]
) -> set[tuple[int, int]]:
    """Return (half-edge, piece) where the piece lies to the left and not to the right."""
    return {
        (h, piece)
        for h, face in enumerate(face_of_halfedge)
        for piece in pieces_of_face[face] - pieces_of_face[face_of_halfedge[h ^ 1]]
    }


def link_borders(
    items: set[tuple[int, int]], following: Ints
) -> dict[tuple[int, int], tuple[int, int]]:
    """Return the next of each: turning through the inside of the piece to the first that is one too."""
    found = {}
    for h, piece in items:
        g = following[h]
        while (g, piece) not in items:
            g = following[g ^ 1]
        found[h, piece] = (g, piece)
    return found


def split_rings(walk: Sequence[int]) -> list[list[int]]:
    """Return simple rings of a closed walk over nodes: one is cut off whenever a node is met again."""
    rings, path = [], []
    for node in [*walk, walk[0]]:
        if node in path:
            k = path.index(node)
            rings.append(path[k:])
            del path[k:]
        path.append(node)
    return rings


def list_passed(rings: Sequence[Ints], is_passed: Ints) -> list[tuple[int, int]]:
    """Return ring and place of the nodes of rings that are marked."""
    return [(r, k) for r, ring in enumerate(rings) for k, v in enumerate(ring) if is_passed[v]]


def rank_of_line(places: Sequence[Any]) -> tuple[int, int, int]:
    """Return by what a line that rises, or falls, all the way is preferred: the greatest is best.

    The square of how far its ends are apart; then how far left it begins, and how low.
    """
    x, y = zip(*places, strict=True)
    return (max(x) - min(x)) ** 2 + (max(y) - min(y)) ** 2, -min(x), -min(y)


def find_straight(
    incoming: set[tuple[int, int]],
    outgoing: Sequence[tuple[int, int]],
    rows: Ints,
    ranks: Sequence[Any],
) -> int:
    """Return the line of the highest rank that runs over both edges of a node, or NONE.

    All rows must have one that does; a row with no line on either edge does not count, and if none of
    the rows has any, lines of others do. Edges are (row, line) of all that run over them.
    """
    both = [one for one in outgoing if one in incoming]
    has = {row for row, _ in (*incoming, *outgoing)} & set(rows)
    wanted = [line for row, line in both if row in has or not has]
    if any(row not in {r for r, _ in both} for row in has):
        return NONE
    return max(wanted, key=lambda line: ranks[line], default=NONE)
