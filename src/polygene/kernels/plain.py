"""What each kernel computes, in a few lines that are plainly right: the kernels' specification.

Every public kernel has a twin of its name here. Twins take sequences and give back what the kernel
fills in; they know no grids of cells, no order of memory and no rooms, and compare all with all.
Numbers on the grid are Python's integers, coordinates of the real world fractions where signs matter,
so nothing is rounded. Tests hold each kernel to its twin whenever it is called in small random work;
nothing else runs them.
"""

from __future__ import annotations

import functools
import itertools
import json
import math
import re
from collections.abc import Iterable, Iterator, Sequence
from fractions import Fraction
from typing import Any

Ints = Sequence[int]
NONE = -1


def spans(offsets: Ints) -> Iterator[range]:
    """Yield the items of each group."""
    for first, stop in zip(offsets[:-1], offsets[1:], strict=True):
        yield range(first, stop)


def turn(a: Any, b: Any, c: Any) -> int:
    """Return 1 if a, b, c turn left, -1 if right, 0 if straight; for integers or fractions, exact."""
    found = (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
    return (found > 0) - (found < 0)


def exactly(xy: Sequence[float]) -> tuple[Fraction, Fraction]:
    return Fraction(xy[0]), Fraction(xy[1])


# pairs -------------------------------------------------------------------------------------------


def first_equals(first: Ints, second: Ints) -> list[int]:
    """Return for each pair the first that is equal to it."""
    known: dict[tuple[int, int], int] = {}
    return [known.setdefault(pair, i) for i, pair in enumerate(zip(first, second, strict=True))]


def number_firsts(equals: Ints) -> tuple[list[int], list[int]]:
    """Return the number of each item, by the first that is equal to it, and these by their numbers."""
    originals = sorted(set(equals))
    return [originals.index(k) for k in equals], originals


def find_pairs(first: Ints, second: Ints, asked_first: Ints, asked_second: Ints) -> dict[int, int]:
    """Return where the first of equal pairs that are asked for is found, if it is."""
    pairs = list(zip(first, second, strict=True))
    asked = list(zip(asked_first, asked_second, strict=True))
    return {asked.index(pair): pairs.index(pair) for pair in set(asked) & set(pairs)}


def number_texts(data: Ints, offsets: Ints) -> tuple[list[int], list[int]]:
    """Return the number of each text, and the first text of each number."""
    texts = [bytes(data[a:b]) for a, b in itertools.pairwise(offsets)]
    numbers = {text: k for k, text in enumerate(dict.fromkeys(texts))}
    return [numbers[text] for text in texts], [texts.index(text) for text in numbers]


def number_codes(codes: Ints) -> tuple[list[int], list[int]]:
    """Return the number of each code in order of first appearance, and the first of each number."""
    numbers = {code: k for k, code in enumerate(dict.fromkeys(codes))}
    return [numbers[code] for code in codes], [list(codes).index(code) for code in numbers]


def count_keys(keys: Ints, n: int) -> list[int]:
    """Return how often each of n keys occurs."""
    return [list(keys).count(key) for key in range(n)]


def order_reals(values: Sequence[float]) -> list[int]:
    """Return where each number is in the order of all, what is none last."""
    order = sorted({math.inf if math.isnan(v) else v for v in values})
    return [len(order) if math.isnan(v) else order.index(v) for v in values]


def order_texts(texts: Sequence[bytes]) -> list[bytes]:
    """Return the first eight bytes of each text."""
    return [text[:8].ljust(8, b"\0") for text in texts]


def find_best(group: Ints, keys: Ints, n: int, wants_most: bool) -> list[int]:
    """Return the first item with the least key of each group, or with the largest, -1 of none."""
    best = [-1] * n
    for g in set(group):
        own = [i for i, of in enumerate(group) if of == g]
        best[g] = (max if wants_most else min)(own, key=lambda i: keys[i])
    return best


def number_distinct(equals: Ints, first: Ints, second: Ints) -> tuple[list[int], list[Any]]:
    """Return the number of each pair, as `number_firsts`, and the distinct pairs."""
    numbers, originals = number_firsts(equals)
    return numbers, [(first[k], second[k]) for k in originals]


def number_runs(order: Ints, first: Ints, second: Ints) -> tuple[list[int], list[Any]]:
    """Return the number of each pair, and the distinct ones as ``order`` has them."""
    distinct = [pair for pair, _ in itertools.groupby((first[i], second[i]) for i in order)]
    return [distinct.index(pair) for pair in zip(first, second, strict=True)], distinct


def bucket_into(keys: Ints) -> list[int]:
    """Return the items sorted by key, equal ones as they came."""
    return sorted(range(len(keys)), key=lambda i: keys[i])


def join_roots(left: Ints, right: Ints, n: int) -> list[int]:
    """Return the least item that each of ``n`` hangs together with by pairs left[i], right[i]."""
    root = list(range(n))
    for a, b in zip(left, right, strict=True):
        low, high = sorted((root[a], root[b]))
        root = [low if r == high else r for r in root]
    return root


def find_cycles(left: Ints, right: Ints, n: int) -> list[bool]:
    """Return which pairs join two of ``n`` items that hang together by the pairs before."""
    found = []
    for k, (a, b) in enumerate(zip(left, right, strict=True)):
        root = join_roots(left[:k], right[:k], n)
        found.append(root[a] == root[b])
    return found


def sort_groups(keys: Ints, offsets: Ints, order: Ints) -> list[int]:
    """Return the items of each group sorted by key; keys within a group are distinct."""
    return [
        i for span in spans(offsets) for i in sorted((order[k] for k in span), key=keys.__getitem__)
    ]


# vertices ----------------------------------------------------------------------------------------


def measure_rings(xy: Any, ring_offsets: Ints) -> tuple[list[float], list[float]]:
    """Return the signed areas and the lengths of rings."""
    areas, lengths = [], []
    for span in spans(ring_offsets):
        edges = [(exactly(xy[k]), exactly(xy[k + 1])) for k in span[:-1]]
        areas.append(float(sum(a[0] * b[1] - a[1] * b[0] for a, b in edges) / 2))
        lengths.append(sum(math.dist(a, b) for a, b in edges))
    return areas, lengths


def bound_groups(xy: Any, offsets: Ints) -> list[tuple[float, float, float, float]]:
    """Return the boxes of groups of vertices."""
    empty = (math.inf, math.inf, -math.inf, -math.inf)
    found = []
    for span in spans(offsets):
        xs, ys = [xy[k][0] for k in span], [xy[k][1] for k in span]
        found.append((min(xs), min(ys), max(xs), max(ys)) if xs else empty)
    return found


def bring_home(map_xy: Any, node_of_vertex: Ints, n: int) -> tuple[dict[int, Any], set[int]]:
    """Return the place of the first vertex on each node, and nodes whose vertices differ."""
    homes: dict[int, Any] = {}
    differs = set()
    for xy, node in zip(map_xy, node_of_vertex, strict=True):
        if tuple(homes.setdefault(node, tuple(xy))) != tuple(xy):
            differs.add(node)
    return homes, differs


def to_grid(xy: Any, factor: float, divides: bool, origin: Ints) -> list[tuple[int, int]]:
    """Return the grid integers of coordinates, halves up, relative to an origin."""
    found = []
    for point in xy:
        x, y = (v / factor if divides else v * factor for v in point)
        found.append((math.floor(x + 0.5) - origin[0], math.floor(y + 0.5) - origin[1]))
    return found


def least_first(x: Ints, y: Ints, ring_offsets: Ints) -> list[int]:
    """Return the vertices of closed rings, each beginning and ending at its lowest left one."""
    order = []
    for span in spans(ring_offsets):
        ring = list(span[:-1])
        k = min(range(len(ring)), key=lambda i: (x[ring[i]], y[ring[i]])) if ring else 0
        order += [*ring[k:], *ring[:k], *ring[k : k + 1]]
    return order


def order_ends(x: Ints, y: Ints, start: Ints, stop: Ints) -> list[tuple[int, int, bool]]:
    """Return the lexicographically smaller and larger end of edges, and whether they were turned."""
    found = []
    for a, b in zip(start, stop, strict=True):
        turned = (x[b], y[b]) < (x[a], y[a])
        found.append((b, a, True) if turned else (a, b, False))
    return found


def lay_steps(x: Ints, y: Ints, line: Ints) -> list[tuple[int, int, bool]]:
    """Return the steps of a line, given by all its nodes, as `order_ends` returns edges."""
    return order_ends(x, y, line[:-1], line[1:])


def fill_edges(ring_offsets: Ints, part_of_ring: Ints, signs: Ints) -> list[tuple[int, ...]]:
    """Return start, stop, part and sign of the edges of all rings."""
    return [
        (k, k + 1, part_of_ring[ring], signs[ring])
        for ring, span in enumerate(spans(ring_offsets))
        for k in span[:-1]
    ]


def lay_edges(x: Ints, y: Ints, start: Ints, stop: Ints) -> list[tuple[int, ...]]:
    """Return x, y, x, y of edges, from their lexicographically smaller ends."""
    return [
        (*sorted(((x[a], y[a]), (x[b], y[b])))[0], *sorted(((x[a], y[a]), (x[b], y[b])))[1])
        for a, b in zip(start, stop, strict=True)
    ]


def close_rings(node: Ints, keeps: Ints, offsets: Ints) -> list[list[int]]:
    """Return the nodes that each ring keeps, then its first again."""
    rings = [[node[k] for k in span if keeps[k]] for span in spans(offsets)]
    return [[*ring, *ring[:1]] for ring in rings]


# cells, crossings, pixels ------------------------------------------------------------------------


def measure_edges(ends: Sequence[Ints]) -> tuple[int, ...]:
    """Return the box of edges, and how far all together go in x and y."""
    xs = [v for e in ends for v in (e[0], e[2])]
    ys = [v for e in ends for v in (e[1], e[3])]
    reach = sum(abs(e[2] - e[0]) + abs(e[3] - e[1]) for e in ends)
    return min(xs), min(ys), max(xs), max(ys), reach


def spread_edges(ends: Sequence[Ints], box: Ints) -> list[set[int]]:
    """Return the edges that pass each cell of a box (x, y, side, columns, rows); a kernel adds some."""
    x, y, side, columns, rows = box[:5]
    found: list[set[int]] = []
    for j in range(rows):
        for i in range(columns):
            low = (x + i * side, y + j * side)
            corners = [
                (low[0] + a * side, low[1] + b * side) for a, b in ((0, 0), (1, 0), (1, 1), (0, 1))
            ]
            found.append({k for k, e in enumerate(ends) if _passes_box(e, corners)})
    return found


def _passes_box(e: Ints, corners: Sequence[tuple[int, int]]) -> bool:
    """Whether an edge has a point in common with a closed box: no axis parts them."""
    (x0, y0), (x1, y1) = corners[0], corners[2]
    if max(e[0], e[2]) < x0 or min(e[0], e[2]) > x1 or max(e[1], e[3]) < y0 or min(e[1], e[3]) > y1:
        return False
    return len({turn(e[:2], e[2:], c) for c in corners} - {0}) != 1 or any(
        turn(e[:2], e[2:], c) == 0 for c in corners
    )


def find_cells(x: Ints, y: Ints, boxes: Sequence[Ints], box_of_cell: Ints) -> list[int]:
    """Return the finest cell of each point, NONE outside the first box."""
    found = []
    for px, py in zip(x, y, strict=True):
        b, cell = 0, NONE
        while b >= 0:
            i, j = (px - boxes[b][0]) // boxes[b][2], (py - boxes[b][1]) // boxes[b][2]
            if not (0 <= i < boxes[b][3] and 0 <= j < boxes[b][4]):
                break
            cell = boxes[b][5] + j * boxes[b][3] + i
            b = box_of_cell[cell]
        found.append(cell)
    return found


def cross_edges(ends: Sequence[Ints], is_border: Ints) -> set[tuple[int, int]]:
    """Return the grid points whose pixels hold the proper crossings of edges, one of them a border."""
    found = set()
    for k, e in enumerate(ends):
        for f, border in zip(ends[:k], is_border[:k], strict=True):
            a, b, c, d = e[:2], e[2:], f[:2], f[2:]
            if not (border or is_border[k]):
                continue
            if turn(a, b, c) * turn(a, b, d) == turn(c, d, a) * turn(c, d, b) == -1:
                num = (c[0] - a[0]) * (d[1] - c[1]) - (c[1] - a[1]) * (d[0] - c[0])
                den = (b[0] - a[0]) * (d[1] - c[1]) - (b[1] - a[1]) * (d[0] - c[0])
                t = Fraction(num, den)
                place = [u + t * (v - u) for u, v in zip(a, b, strict=True)]
                found.add(
                    (math.floor(place[0] + Fraction(1, 2)), math.floor(place[1] + Fraction(1, 2)))
                )
    return found


def find_pixels(x: Ints, y: Ints, ends: Sequence[Ints]) -> set[tuple[int, int]]:
    """Return the edges that pass the half-open pixels of nodes other than their ends."""
    return {
        (e, v)
        for e, end in enumerate(ends)
        for v, node in enumerate(zip(x, y, strict=True))
        if node not in (tuple(end[:2]), tuple(end[2:])) and _passes_pixel(end, node)
    }


def _passes_pixel(e: Ints, node: tuple[int, int]) -> bool:
    """Whether some place t, from 0 to 1, of an edge is within half a unit of a node, or just there to
    its left and below: the pixel's lower sides belong to it.
    """
    bounds: list[tuple[Fraction, int, Fraction, int]] = [(Fraction(0), 0, Fraction(1), 0)]
    half = Fraction(1, 2)
    for k in (0, 1):
        way, off = e[2 + k] - e[k], node[k] - e[k]
        if way == 0:
            if not -half <= -off < half:
                return False
        elif way > 0:
            bounds.append(((off - half) / way, 0, (off + half) / way, 1))
        else:
            bounds.append(((off + half) / way, 1, (off - half) / way, 0))
    low, low_open = max((b[0], b[1]) for b in bounds)
    high, high_open = min((b[2], -b[3]) for b in bounds)
    return low < high or (low == high and not low_open and not high_open)


# arrangement -------------------------------------------------------------------------------------


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


# location ----------------------------------------------------------------------------------------


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
    """Return the square of the distance of a point from an edge of some length."""
    way, off = (e[2] - e[0], e[3] - e[1]), (p[0] - e[0], p[1] - e[1])
    along = Fraction(way[0] * off[0] + way[1] * off[1], way[0] ** 2 + way[1] ** 2)
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


# near --------------------------------------------------------------------------------------------


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


# exact sums --------------------------------------------------------------------------------------


def cross(x: Ints, y: Ints, a: int, b: int) -> int:
    """Return twice the triangle of the origin and the edge from a to b."""
    return x[a] * y[b] - x[b] * y[a]


def add_numbers(group: Ints, values: Sequence[float], n: int) -> list[Fraction]:
    """Return the sum of each group, exactly: total and rest, but for how the rest was rounded."""
    found = [Fraction(0)] * n
    for g, value in zip(group, values, strict=True):
        found[g] += Fraction(value)
    return found


def add_faces(x: Ints, y: Ints, start: Ints, stop: Ints, face: Ints, n: int) -> list[int]:
    """Return twice the areas of faces: an edge's triangle is added left of it, taken away right."""
    found = [0] * n
    for e, (a, b) in enumerate(zip(start, stop, strict=True)):
        found[face[2 * e]] += cross(x, y, a, b)
        found[face[2 * e + 1]] -= cross(x, y, a, b)
    return found


def add_moves(
    x: Ints, y: Ints, dx: Any, dy: Any, start: Ints, stop: Ints, face: Ints, n: int
) -> list[float]:
    """Return by how much these change when nodes move by (dx, dy)."""
    moved = [
        [Fraction(v) + Fraction(d) for v, d in zip(*pair, strict=True)]
        for pair in ((x, dx), (y, dy))
    ]
    after, before = (add_faces(*xy, start, stop, face, n) for xy in (moved, (x, y)))  # type: ignore[misc, arg-type]
    return [float(a - b) for a, b in zip(after, before, strict=True)]


def add_shares(shares: Sequence[float], face: Ints, n: int) -> list[int]:
    """Return the whole parts of shares added to faces left of edges, taken away right of them."""
    found = [0] * n
    for e, share in enumerate(shares):
        found[face[2 * e]] += int(share)
        found[face[2 * e + 1]] -= int(share)
    return found


def add_rows(
    x: Ints,
    y: Ints,
    start: Ints,
    stop: Ints,
    deltas: Sequence[Sequence[tuple[int, int]]],
    row_of_part: Ints,
    n: int,
) -> list[int]:
    """Return twice the areas that rows' borders enclose: triangles by the signs of their parts."""
    found = [0] * n
    for a, b, of_edge in zip(start, stop, deltas, strict=True):
        for part, sign in of_edge:
            found[row_of_part[part]] += sign * cross(x, y, a, b)
    return found


def add_outline(
    x: Ints, y: Ints, edges: Sequence[tuple[int, int, int, int]], row_of_part: Ints, n: int
) -> tuple[list[int], list[int]]:
    """Return the same for edges (start, stop, part, sign) as they are drawn, and their lengths."""
    found, lengths = [0] * n, [0] * n
    for a, b, part, sign in edges:
        found[row_of_part[part]] += sign * cross(x, y, a, b)
        lengths[row_of_part[part]] += abs(x[a] - x[b]) + abs(y[a] - y[b])
    return found, lengths


def add_rings(
    x: Ints, y: Ints, rings: Sequence[Ints], keeps: Sequence[Ints], piece: Ints, n: int
) -> tuple[list[int], list[int]]:
    """Return twice the areas of pieces by the nodes of their rings: by all, and by those kept."""
    whole, kept = [0] * n, [0] * n
    for ring, keep, p in zip(rings, keeps, piece, strict=True):
        some = [v for v, k in zip(ring, keep, strict=True) if k]
        for nodes, sums in ((list(ring), whole), (some, kept)):
            sums[p] += sum(cross(x, y, nodes[k - 1], nodes[k]) for k in range(len(nodes)))
    return whole, kept


def add_groups(group: Ints, item: Ints, sums: Ints, n: int) -> list[int]:
    """Return the sums of items added up by group."""
    found = [0] * n
    for g, i in zip(group, item, strict=True):
        found[g] += sums[i]
    return found


# borders and rings -------------------------------------------------------------------------------


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


def squared_length(places: Sequence[Any]) -> int:
    """Return the square of how far the ends of a line are apart that rises, or falls, all the way."""
    x, y = zip(*places, strict=True)
    return (max(x) - min(x)) ** 2 + (max(y) - min(y)) ** 2


def find_straight(
    incoming: set[tuple[int, int]], outgoing: Sequence[tuple[int, int]], rows: Ints, lengths: Ints
) -> int:
    """Return the longest line that runs over both edges of a node and that all rows have, or NONE.

    Edges are (row, line) of all that run over them. A row with no line on either does not count; if
    none of the rows has any, lines of others do.
    """
    both = [one for one in outgoing if one in incoming]
    has = {row for row, _ in (*incoming, *outgoing)} & set(rows)
    wanted = [line for row, line in both if row in has or not has]
    if any(row not in {r for r, _ in both} for row in has):
        return NONE
    return max(wanted, key=lambda line: lengths[line], default=NONE)


# validity ----------------------------------------------------------------------------------------


def _is_on(p: Any, a: Any, b: Any) -> bool:
    return turn(a, b, p) == 0 and all(
        min(u, v) <= w <= max(u, v) for u, v, w in zip(a, b, p, strict=True)
    )


def edges_meet(a: Any, b: Any, c: Any, d: Any) -> bool:
    """Whether two edges have a point in common; exact for fractions."""
    if turn(a, b, c) * turn(a, b, d) < 0 and turn(c, d, a) * turn(c, d, b) < 0:
        return True
    return any((_is_on(c, a, b), _is_on(d, a, b), _is_on(a, c, d), _is_on(b, c, d)))


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
        if _is_on(p, a, b):
            return 0
        if (a[1] > p[1]) != (b[1] > p[1]) and (turn(a, b, p) > 0) == (b[1] > a[1]):
            inside = not inside
    return 1 if inside else -1


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


def lift_lists(data: bytes, key: bytes) -> list[Any] | None:
    """Return the lists of a document that are values of a key; None if one is not even, or has none."""
    text, found = data.decode("latin-1"), []
    for name in re.finditer(r'"(?:\\.|[^"\\])*"', text, re.DOTALL):
        begin = re.compile(r"[ \n\r\t]*:[ \n\r\t]*(?=\[)").match(text, name.end())
        if begin and name[0][1:-1] == key.decode():
            try:
                found.append(json.JSONDecoder().raw_decode(text, begin.end())[0])
            except ValueError:
                return None
    return found if all(1 <= (_levels(some) or 0) <= 4 for some in found) else None


def _levels(value: Any) -> int | None:
    """Return how many levels of lists numbers are in; None if not all in as many, or there are none."""
    if not isinstance(value, list):
        is_number = type(value) in (int, float) and math.isfinite(value)
        return 0 if is_number else None
    levels = set(map(_levels, value))
    return None if len(levels) != 1 or None in levels else 1 + levels.pop()


def lift_texts(texts: Sequence[str]) -> list[tuple[int, Any]] | None:
    """Return the number of the type of each text of WKT, and its numbers; None if one is not even."""
    number = r"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?"
    position = rf"{number}(?:[ \n\r\t]+{number}){{1,3}}"
    one = rf"[ \n\r\t]*{position}[ \n\r\t]*"

    def several(inner: str) -> str:
        return rf"[ \n\r\t]*\({inner}(?:,{inner})*\)[ \n\r\t]*"

    alone = rf"[ \n\r\t]*\({one}\)[ \n\r\t]*"
    lines = several(several(one))
    forms = [alone, several(f"(?:{one}|{alone})"), several(one), lines, lines, several(lines)]
    found: list[tuple[int, Any]] = []
    for text in texts:
        names = "point|multipoint|linestring|multilinestring|polygon|multipolygon"
        head = re.match(rf"[ \n\r\t]*({names})[ \n\r\t]*(zm?)?[ \n\r\t]*", text, re.I | re.A)
        if not text:
            found.append((0, None))
            continue
        kind = 1 + names.split("|").index(head[1].lower()) if head else 0
        body = text[head.end() :] if head else ""
        if re.fullmatch(r"empty[ \n\r\t]*", body, re.I | re.A):
            found.append((kind + 16, None))
        elif head and re.fullmatch(forms[kind - 1], body):
            if kind == 2:
                body = f"({body.strip()[1:-1].replace('(', '').replace(')', '')})"
            listed = re.sub(position, lambda m: str([*map(float, m[0].split())]), body)
            value = json.loads(listed.replace("(", "[").replace(")", "]"))
            found.append((kind, value[0] if kind == 1 else value))
        else:
            return None
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


def turns(a: Any, b: Any, c: Any) -> int:
    """Return the sign of the turn from a over b to c."""
    side = turn(exactly(a), exactly(b), exactly(c))
    return (side > 0) - (side < 0)


def pair_boxes(boxes: Sequence[Sequence[float]], group: Ints, holds: bool) -> set[tuple[int, int]]:
    """Return the pairs of boxes of a group of which the second holds the first, or that meet."""
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


def convex_hulls(points: Sequence[Any]) -> set[Any]:
    """Return the corners of the convex hull: points on no edge and in no triangle of others."""
    known = [exactly(p) for p in points]
    return {
        p
        for p in known
        if not any(_is_on(p, a, b) for a in known for b in known if p not in (a, b))
        and not any(
            turn(a, b, p) == turn(b, c, p) == turn(c, a, p) != 0
            for a in known
            for b in known
            for c in known
            if p not in (a, b, c)
        )
    }


# bytes -------------------------------------------------------------------------------------------


def scan(data: bytes) -> tuple[int, list[tuple[int, list[int]]]]:
    """Return the outermost type of well-known binary, and its simple parts: family, ring sizes."""
    import struct

    parts: list[tuple[int, list[int]]] = []

    def geometry(at: int) -> tuple[int, int]:
        order = "<" if data[at] else ">"
        code = struct.unpack_from(f"{order}I", data, at + 1)[0]
        at += 9 if code & 0x20000000 else 5
        iso = (code & 0x1FFFFFFF) // 1000
        has_z, has_m = code >> 31 or iso in (1, 3), code >> 30 & 1 or iso >= 2
        size, kind = 8 * (2 + bool(has_z) + bool(has_m)), (code & 0x1FFFFFFF) % 1000
        if kind == 1:
            parts.append((0, [1]))
            return kind, at + size
        n = struct.unpack_from(f"{order}I", data, at)[0]
        at += 4
        if kind == 2:
            if n:
                parts.append((1, [n]))
            return kind, at + n * size
        if kind == 3:
            rings = []
            for _ in range(n):
                rings.append(struct.unpack_from(f"{order}I", data, at)[0])
                at += 4 + rings[-1] * size
            if rings:
                parts.append((2, rings))
            return kind, at
        for _ in range(n):
            _, at = geometry(at)
        return kind, at

    return geometry(0)[0], parts


def gather_ranges(data: bytes, starts: Ints, lengths: Ints) -> bytes:
    """Return byte ranges in a row."""
    return b"".join(data[s : s + n] for s, n in zip(starts, lengths, strict=True))


def scatter_ranges(source: bytes, starts: Ints, lengths: Ints, data: bytes) -> bytes:
    """Return data with ranges that lie in a row in ``source`` put where they start."""
    found, at = bytearray(data), 0
    for s, n in zip(starts, lengths, strict=True):
        found[s : s + n] = source[at : at + n]
        at += n
    return bytes(found)


def follow_sizes(data: bytes, first: int) -> list[int] | None:
    """Return where records begin, each with its size in front; None if the last is cut short."""
    places = []
    while first < len(data):
        size = int.from_bytes(data[first : first + 4], "little")
        if first + 4 > len(data) or size == 0 or first + 4 + size > len(data):
            return None
        places.append(first)
        first += 4 + size
    return places


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


# boxes -------------------------------------------------------------------------------------------


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
