"""Twins of the kernels on vertices and edges: `vertices`, `cells`, `crossings`, `pixels`."""

from __future__ import annotations

import math
from collections.abc import Sequence
from fractions import Fraction
from typing import Any

from polygene.kernels.plain.base import NONE, Ints, exactly, spans, turn


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
