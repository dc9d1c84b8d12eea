"""Each kernel does what its plain twin says, whenever it is called in small random work."""

from __future__ import annotations

import ast
import inspect
import itertools
import json
import struct
import unittest
from collections import Counter
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

import polygene
from polygene import crs, kernels, parallel
from polygene.formats.geojson import lifting
from polygene.geometry import GeometryColumn
from polygene.kernels import plain
from polygene.layer import Layer
from polygene.plane.sound import plainly_sound
from polygene.plane.validity import invalid_rows
from polygene.text import wkt
from tests.support import generators as make

SCALE = 1 << 60  # sums are two words


def listed(value):
    return value.tolist() if isinstance(value, np.ndarray) else value


def words(high, low):
    return [h * SCALE + v for h, v in zip(listed(high), listed(low), strict=True)]


def grouped(offsets, values):
    return [[values[k] for k in span] for span in plain.spans(offsets)]


class Call:
    """A call of a kernel: its arguments by name, as they were and as they are, and what it returned."""

    def __init__(self, kernel, arguments):
        names = (
            list(inspect.signature(kernel).parameters)
            if not kernels.IS_COMPILED
            else NAMES[kernel.__name__]
        )
        self.was = {
            n: listed(a.copy() if isinstance(a, np.ndarray) else a)
            for n, a in zip(names, arguments, strict=True)
        }
        self.given = dict(zip(names, arguments, strict=True))

    def __getattr__(self, name):
        return self.was[name]

    def now(self, name, n=None):
        return listed(self.given[name][:n])


def names_of():
    """Return the parameters of all public kernels, from their sources: compiled ones do not tell."""
    found = {}
    for path in Path(kernels.__file__).parent.glob("[!_]*.py"):
        for node in ast.parse(path.read_text()).body:
            if (
                isinstance(node, ast.FunctionDef)
                and not node.name.startswith("_")
                and "cfunc" not in ast.dump(node)
            ):
                found[node.name] = [a.arg for a in node.args.args]
    return found


NAMES = names_of()


def in_cells(c):
    """Return the edges that a search of cells can see: all those entered anywhere."""
    return sorted(set(c.cell_entries))


def deltas_of(c):
    """Return the parts that each edge bounds, with their signs."""
    both = (grouped(c.delta_offsets, values) for values in (c.delta_part, c.delta_sign))
    return [list(zip(*of_edge, strict=True)) for of_edge in zip(*both, strict=True)]


def way_of(c, h):
    a, b = c.origin[h], c.origin[h ^ 1]
    return c.node_x[b] - c.node_x[a], c.node_y[b] - c.node_y[a]


def faces_of(ends):
    """Return the face of each half-edge, 0 for the outside, found by plain twins alone."""
    nodes = {xy: k for k, xy in enumerate(sorted({(e[k], e[k + 1]) for e in ends for k in (0, 2)}))}
    origin = [nodes[tuple(e[k : k + 2])] for e in ends for k in (0, 2)]
    places = list(nodes)
    way = [
        (places[b][0] - places[a][0], places[b][1] - places[a][1])
        for a, b in ((origin[h], origin[h ^ 1]) for h in range(len(origin)))
    ]
    leaving = sorted(range(len(origin)), key=origin.__getitem__)
    offsets = np.searchsorted([origin[h] for h in leaving], np.arange(len(nodes) + 1)).tolist()
    following = plain.link_around(offsets, plain.sort_around(offsets, leaving, way))
    cycle_of, first = plain.trace_cycles([following[h] for h in range(len(origin))])
    # A cycle that runs round its outside is of the face that its leftmost node sees to its left.
    left, right = [], []
    for cycle in range(len(first)):
        own = [h for h, n in enumerate(cycle_of) if n == cycle]
        nodes_of = [origin[h] for h in own]
        if _area([places[v] for v in _walk(own[0], following, origin)]) <= 0:
            x, y = min(places[v] for v in nodes_of)
            (seen,) = plain.locate_points([(2 * x, 2 * y)], ends)
            left.append(cycle + 1)
            right.append(0 if seen < 0 else cycle_of[seen] + 1)
    root = plain.join_roots(left, right, len(first) + 1)
    return [root[n + 1] for n in cycle_of]


def _walk(h, following, origin):
    start, walk = h, []
    while not walk or h != start:
        walk.append(origin[h])
        h = following[h]
    return walk


def _area(ring):
    return sum(a[0] * b[1] - a[1] * b[0] for a, b in zip(ring, [*ring[1:], ring[0]], strict=True))


def rings_of(c):
    """Return the rings of each row, as ranges of vertices."""
    rings = list(plain.spans(c.ring_offsets))
    return [[rings[k] for k in row] for row in plain.spans(c.rings_of_rows)]


class Twins:
    """For each kernel: what it was given, what it made, and what its twin makes of the same."""

    def first_equals(self, c, n):
        # Small layers are one part; parts are looked at in `test_parallel`.
        wanted = plain.first_equals(c.first, c.second)
        return (n, c.now("equals")), (len(set(wanted)), wanted)

    def number_distinct(self, c, _):
        found = zip(c.now("found_first"), c.now("found_second"), strict=True)
        twin = plain.number_distinct(c.numbers, c.first, c.second)
        return (c.now("numbers"), list(found)), twin

    def number_firsts(self, c, n):
        return (c.now("numbers"), c.now("originals", n)), plain.number_firsts(c.equals)

    def edge_reach(self, c, _):
        if not np.isfinite(c.xy).all():
            return 0, 0
        n = (len(c.sums[0]) - 1, len(c.sums) - 1)
        twin = plain.edge_reach(c.xy, rings_of(c), plain.marked(c.sums), c.low, c.side, n)
        return [list(box) for box in c.now("found")], twin

    def sum_marks(self, c, _):
        return c.now("sums"), plain.sum_marks(c.marks)

    def rows_hit(self, c, _):
        points = list(zip(c.x, c.y, strict=True))
        origin = (c.origin_x, c.origin_y)
        marks = plain.marked(c.sums)
        made = list(map(bool, c.now("hit")))
        return made, plain.rows_hit(points, rings_of(c), marks, origin, c.side, c.is_closed)

    def find_simple(self, c, _):
        """It may leave a row to others."""
        rings = [[c.xy[k] for k in ring] for ring in plain.spans(c.ring_offsets)]
        parts = [[rings[k] for k in part] for part in plain.spans(c.part_offsets)]
        rows = [[parts[k] for k in row] for row in plain.spans(c.row_offsets)]
        made = list(map(bool, c.now("is_sound")))
        asked = range(c.first_row, c.last_row)
        return made, [
            said and (k not in asked or bool(c.is_sound[k]) or plain.find_simple(rows[k]))
            for k, said in enumerate(made)
        ]

    def lift_lists(self, c, n):
        wanted = plain.lift_lists(bytes(c.data), bytes(c.key))
        return (None if n < 0 else self._built(c, n)), wanted

    def lift_texts(self, c, n):
        texts = [bytes(c.data[a:b]).decode("latin-1") for a, b in itertools.pairwise(c.starts)]
        wanted = plain.lift_texts(texts)
        if n < 0:
            return None, wanted
        lists = iter(self._built(c, n))
        kinds = list(map(int, c.now("kind")))
        return [(k, next(lists) if 0 < k < 16 else None) for k in kinds], wanted

    def _built(self, c, n):
        text, ends, counts = bytes(c.now("text")), c.now("ends"), c.now("counts")
        at = [0, 0, 0, 0, 0]

        def built(level):
            if level < 0:
                at[4] += 1
                return float(text[ends[at[4] - 1] : ends[at[4]]])
            at[level] += 1
            return [built(level - 1) for _ in range(counts[level][at[level] - 1])]

        return [built(row[0] - 1) for row in c.now("lists")[:n]]

    def join_boxes(self, c, is_done):
        return c.now("parent") if is_done else 0, plain.join_boxes(
            c.boxes, c.group
        ) if is_done else 0

    def pair_boxes(self, c, n):
        if n > len(c.out_a):
            return 0, 0
        leaves = c.boxes[: len(c.begin)]
        made = set(zip(c.now("out_a", n), c.now("out_b", n), strict=True))
        wanted = plain.pair_boxes(leaves, c.begin, c.holds)
        return made, {(a, b) for a, b in wanted if c.first <= a < c.stop}

    def turns(self, c, _):
        return c.now("found"), [plain.turns(*p) for p in zip(c.a, c.b, c.c, strict=True)]

    def number_texts(self, c, n):
        twin = plain.number_texts(c.data, c.offsets)
        return (c.now("numbers"), c.now("originals", n)), twin

    def number_runs(self, c, n):
        pairs = zip(c.now("found_first", n), c.now("found_second", n), strict=True)
        return (c.now("numbers"), list(pairs)), plain.number_runs(c.order, c.first, c.second)

    def find_pairs(self, c, _):
        at = plain.find_pairs(c.first, c.second, c.asked_first, c.asked_second)
        wanted = [c.base + at[k] if k in at else v for k, v in enumerate(c.found)]
        return c.now("found"), wanted

    def bucket_into(self, c, _):
        return c.now("order"), plain.bucket_into(c.keys)

    def join_roots(self, c, _):
        if c.parent != list(range(len(c.parent))):
            return 0, 0  # it goes on from a forest that another call began
        return c.now("parent"), plain.join_roots(c.left, c.right, len(c.parent))

    def find_cycles(self, c, _):
        made = c.now("parent"), [bool(k) for k in c.now("closes")]
        n = len(c.parent)
        return made, (
            plain.join_roots(c.left, c.right, n),
            plain.find_cycles(c.left, c.right, n),
        )

    def sort_groups(self, c, _):
        """Of equal keys any order is sorted."""
        made, wanted = c.now("order"), plain.sort_groups(c.keys, c.offsets, c.order)
        spans = [slice(span.start, span.stop) for span in plain.spans(c.offsets)]
        wanted = [0] * c.offsets[0] + wanted
        keys = [[[c.keys[i] for i in order[span]] for span in spans] for order in (made, wanted)]
        items = [[sorted(order[span]) for span in spans] for order in (made, wanted)]
        return (keys[0], items[0]), (keys[1], items[1])

    def measure_rings(self, c, _):
        if any(r and r[0] != r[-1] for r in grouped(c.ring_offsets, c.xy)):
            return 0, 0  # a line has no area
        areas, lengths = plain.measure_rings(c.xy, c.ring_offsets)
        size = max((abs(v) for xy in c.xy for v in xy), default=1.0) + 1
        near = np.allclose(c.now("areas"), areas, rtol=1e-9, atol=1e-9 * size * size)
        return (near, np.allclose(c.now("lengths"), lengths, rtol=1e-12)), (True, True)

    def bound_groups(self, c, _):
        return [tuple(b) for b in c.now("bounds")], plain.bound_groups(c.xy, c.offsets)

    def bring_home(self, c, _):
        if any(c.is_home):
            return 0, 0  # it goes on from what another call began
        homes, differs = plain.bring_home(c.map_xy, c.node_of_vertex, len(c.homes))
        found = {k: tuple(xy) for k, xy in enumerate(c.now("homes")) if c.given["is_home"][k]}
        return (found, set(np.flatnonzero(c.given["differs"]).tolist())), (homes, differs)

    def to_grid(self, c, _):
        origin = (c.origin_x, c.origin_y)
        return list(zip(c.now("x"), c.now("y"), strict=True)), plain.to_grid(
            c.xy, c.factor, c.divides, origin
        )

    def least_first(self, c, _):
        return c.now("order"), plain.least_first(c.x, c.y, c.ring_offsets)

    def order_ends(self, c, _):
        start, stop = ([c.node_of[v] for v in ends] for ends in (c.start, c.stop))
        made = zip(c.now("low"), c.now("high"), map(bool, c.now("is_reversed")), strict=True)
        return list(made), plain.order_ends(c.x, c.y, start, stop)

    def lay_steps(self, c, _):
        names = ("step_low", "step_high", "is_reversed")
        made = list(zip(*map(c.now, names), strict=True))
        for line in range(c.first, c.last):
            start, stop = c.offsets[line : line + 2]
            nodes = [c.low[line], *(c.node[k] for k in c.order[start:stop]), c.high[line]]
            steps = made[start + line : stop + line + 1]
            if steps != plain.lay_steps(c.x, c.y, nodes):
                return line, steps
        return 0, 0

    def fill_edges(self, c, _):
        wanted = plain.fill_edges(c.ring_offsets, c.part_of_ring, c.signs)
        first, last = c.edge_offsets[c.first], c.edge_offsets[c.last]
        made = zip(*(c.now(n)[first:last] for n in ("start", "stop", "part", "sign")), strict=True)
        return list(made), wanted[first:last]

    def lay_edges(self, c, _):
        return [tuple(e) for e in c.now("ends")], plain.lay_edges(c.x, c.y, c.start, c.stop)

    def close_rings(self, c, _):
        made = grouped(c.closed_offsets, c.now("node"))[c.first : c.last]
        places = grouped(c.closed_offsets, c.now("xy"))[c.first : c.last]
        rings = plain.close_rings([c.origin[h] for h in c.halfedge], c.keeps, c.offsets)
        wanted = rings[c.first : c.last]
        return (made, places), (wanted, [[c.node_xy[v] for v in ring] for ring in wanted])

    def measure_edges(self, c, _):
        return tuple(c.now("found", 5)), plain.measure_edges(c.ends)

    def spread_edges(self, c, _):
        is_one = len(c.boxes) == 1 and c.entry_offsets == [0, len(c.ends)]
        if not c.fills or not is_one or c.boxes[0][3] * c.boxes[0][4] * len(c.ends) > MOST * MOST:
            return 0, 0
        made = grouped([*c.cell_nexts, c.given["cell_nexts"][-1]], c.now("cell_entries"))
        wanted = plain.spread_edges(c.ends, c.boxes[0])
        return [want - set(have) for have, want in zip(made, wanted, strict=True)], [set()] * len(
            wanted
        )

    def find_cells(self, c, _):
        return c.now("cells"), plain.find_cells(c.x, c.y, c.boxes, c.box_of_cell)

    def cross_edges(self, c, n):
        made = set(zip(c.now("out_x", n), c.now("out_y", n), strict=True))
        return made, plain.cross_edges(c.ends, c.is_border)

    def find_pixels(self, c, n):
        heeds = lambda e, v: c.is_border[e] or c.is_border_node[v]  # noqa: E731
        wanted = plain.find_pixels(c.node_x, c.node_y, c.ends)
        made = list(zip(c.now("out_edge", n), c.now("out_node", n), strict=True))
        return Counter(made), Counter((e, v) for e, v in wanted if heeds(e, v))

    def sort_around(self, c, _):
        ways = [way_of(c, h) for h in range(len(c.origin))]
        wanted = plain.sort_around(c.node_offsets, c.leaving, ways)
        found = (grouped(c.node_offsets, leaving) for leaving in (c.now("leaving"), wanted))
        # Where one begins round a node means nothing.
        return tuple([self.turned(around) for around in nodes if around] for nodes in found)

    def link_around(self, c, _):
        return dict(enumerate(c.now("following"))), plain.link_around(c.node_offsets, c.leaving)

    def trace_cycles(self, c, n):
        return (c.now("cycle_of"), c.now("halfedge_of_cycle", n)), plain.trace_cycles(c.following)

    def find_least(self, c, _):
        made = {r: v for r, v in enumerate(c.now("least")) if v >= 0}
        return made, plain.find_least(c.root_of_node, c.node_x, c.node_y)

    def find_outer(self, c, _):
        leaving = [
            c.leaving[a:b] for a, b in zip(c.node_offsets[:-1], c.node_offsets[1:], strict=True)
        ]
        ways = [way_of(c, h) for h in range(len(c.origin))]
        return c.now("outer"), plain.find_outer(c.roots, leaving, ways)

    def list_deltas(self, c, _):
        if not c.fills:
            return 0, 0
        steps = [
            [(c.step_edge[k], c.is_step_reversed[k]) for k in span]
            for span in plain.spans(c.step_offsets)
        ]
        wanted = plain.list_deltas(
            list(zip(c.was["given"], c.part, c.sign, strict=True)),
            c.line_of_given,
            c.is_given_reversed,
            steps,
        )
        made = {
            e: set(zip(*(c.now(f"delta_{n}")[a:b] for n in ("part", "sign", "line")), strict=True))
            for e, (a, b) in enumerate(zip(c.nexts, c.given["nexts"].tolist(), strict=True)) if b > a
        }  # fmt: skip
        return made, wanted

    def wind_faces(self, c, n):
        if n > len(c.labels):
            return 0, 0  # to be called again with more room
        deltas = deltas_of(c)
        windings = plain.wind_faces(c.face_of_halfedge, deltas, len(c.label_spans))
        covers = (lambda w: w > 0) if c.by_sign else (lambda w: w % 2 == 1)
        over = [Counter(c.row_of_part[p] for p, w in f.items() if covers(w)) for f in windings]
        made = [sorted(c.now("labels")[a:a + n]) for a, n in c.now("label_spans")]  # fmt: skip
        crossed = {c.row_of_part[p] for f in windings for p, w in f.items() if w != 1}
        crossed |= {row for f in over for row, n in f.items() if n > 1}
        marked = set(np.flatnonzero(c.given["is_crossed"]).tolist())
        is_back = not any(c.now("windings"))  # the walk ends where it began
        return (made, marked, is_back), ([sorted(f) for f in over], crossed, True)

    def sign_rings(self, c, _):
        return c.now("signs"), plain.sign_rings(c.x, c.y, c.ring_offsets)

    def fill_corners(self, c, _):
        corners = [
            (2 * (x + i * side) - 1, 2 * (y + j * side) - 1)
            for x, y, side, columns, rows, _ in c.boxes
            for j in range(rows)
            for i in range(columns)
        ]
        return self.faces(c.now("corners"), c), self.faces(plain.fill_corners(corners, c.ends), c)

    def cover_points(self, c, n):
        """Points near edges are left; whether those between one reach and two are, is open."""
        cells = [c.point_offsets[k * c.grid[3]] for k in (c.first_line, c.last_line)]
        asked = c.point_order[slice(*cells)]
        points = list(zip(c.x, c.y, strict=True))
        gaps = {p: min(plain.gap_to_edge(points[p], e) for e in c.ends) for p in asked}
        left = {p for p in asked if c.now("is_near")[p]}
        assert all(gaps[p] > c.reach**2 for p in set(asked) - left)
        assert all(gaps[p] <= 8 * c.reach**2 for p in left)
        wanted = plain.cover_points(points, c.ends, c.row_of_edge)
        made = list(zip(c.now("out_point")[:n], c.now("out_row")[:n], strict=True))
        return sorted(made), sorted((p, row) for p, row in wanted if p in set(asked) - left)

    def locate_points(self, c, _):
        points = list(zip(c.qx, c.qy, strict=True))
        return self.faces(c.now("seen"), c), self.faces(plain.locate_points(points, c.ends), c)

    @staticmethod
    def faces(halfedges, c):
        """An edge met on the way need not be the nearest to the left, only of the same face."""
        face = faces_of(c.ends)
        return [0 if h < 0 else face[h] for h in halfedges]

    def nearest_edges(self, c, _):
        points = list(zip(c.x, c.y, strict=True))
        wanted = plain.nearest_edges(points, c.ends, c.reach, c.across, c.up)
        made = [None if d < 0 else d for d in c.now("distance")]
        is_near = [
            a == b or (a is not None and b is not None and abs(a - b) <= 1e-9 * (1 + b))
            or abs((a or b) - c.reach) <= 1e-9 * c.reach
            for a, b in zip(made, wanted, strict=True)
        ]  # fmt: skip
        return is_near, [True] * len(is_near)

    def edges_within(self, c, n):
        points = list(zip(c.x, c.y, strict=True))
        made = set(zip(c.now("point", n), c.now("edge", n), strict=True))
        more, less = (
            plain.edges_within(points, c.ends, c.reach * k, c.across, c.up)
            for k in (1 + 1e-9, 1 - 1e-9)
        )
        return (made <= more, less <= made), (True, True)

    def farthest_off(self, c, _):
        twin = plain.farthest_off(c.points, c.point_offsets, c.edges, c.edge_offsets)
        return np.round(c.now("farthest"), 6).tolist(), np.round(twin, 6).tolist()

    def nearest_of_edges(self, c, _):
        edges = list(zip(c.ax, c.ay, c.bx, c.by, strict=True))
        wanted = plain.nearest_of_edges(
            edges, c.group, c.ends, c.row, grouped(c.banned_offsets, c.banned)
        )
        near = []
        for g, (gap, _) in enumerate(wanted):
            limit, found = c.best[g], c.given["best"][g]
            if g in c.group and gap * gap <= limit:
                near.append(abs(found**0.5 - gap) <= 1e-9 * (1 + gap))
        return near, [True] * len(near)

    def near_in_space(self, c, n):
        """All that may be the nearest is listed; what is the nearest must be among it."""
        if n < 0:
            return 0, 0  # to be called again with more room
        asked = range(c.first, c.stop)
        gaps = [
            [plain.gap_in_space(e, f) for f in c.others] if k in asked else []
            for k, e in enumerate(c.ends)
        ]
        group = [g if k in asked else -1 for k, g in enumerate(c.group)]
        wanted = plain.near_in_space(gaps, group, c.row, grouped(c.banned_offsets, c.banned))
        pairs = set(zip(c.now("mine", n), c.now("theirs", n), strict=True))
        missed = []
        for g, k in enumerate(wanted):
            mine = [q for q in asked if c.group[q] == g]
            if (
                k is not None
                and min(gaps[q][k] for q in mine) <= c.best[g]
                and not {(q, k) for q in mine} & pairs
            ):
                missed.append((g, k))
        return missed, []

    def add_numbers(self, c, _):
        some = slice(c.first, c.stop)
        wanted = plain.add_numbers(c.group[some], c.values[some], len(c.total))
        made = zip(*map(c.now, ("total", "rest", "size", "counts")), wanted, strict=True)
        far = [
            g
            for g, (total, rest, size, counts, exact) in enumerate(made)
            if abs(sum(map(Fraction, total + rest)) - exact) > len(c.group) * 2.0**-53 * sum(size)
            or sum(counts) != c.group[some].count(g)
        ]
        return far, []

    def number_codes(self, c, n):
        return (c.now("numbers"), c.now("originals", n)), plain.number_codes(c.codes)

    def count_keys(self, c, _):
        made = list(map(sum, c.now("counts")))
        return made, plain.count_keys(c.keys[c.first : c.stop], len(made))

    def order_reals(self, c, _):
        values = np.array(c.bits, np.int64).view(np.float64).tolist()
        keys = c.now("keys")
        places = sorted(set(keys))
        return [places.index(k) for k in keys], plain.order_reals(values)

    def order_texts(self, c, _):
        texts = [bytes(c.data[a:b]) for a, b in zip(c.starts, c.stops, strict=True)]
        wanted = [int.from_bytes(v, "big") - 2**63 for v in plain.order_texts(texts)]
        return c.now("keys"), wanted

    def find_best(self, c, _):
        some, wanted = slice(c.first, c.stop), len(c.best)
        found = plain.find_best(c.group[some], c.keys[some], wanted, c.wants_most)
        return c.now("best"), [k + c.first if k >= 0 else k for k in found]

    def add_faces(self, c, _):
        n = len(c.high)
        return words(c.now("high"), c.now("low")), plain.add_faces(
            c.x, c.y, c.start, c.stop, c.face_of_halfedge, n
        )

    def add_moves(self, c, _):
        n = len(c.moves)
        wanted = plain.add_moves(c.x, c.y, c.dx, c.dy, c.start, c.stop, c.face_of_halfedge, n)
        size = max(map(abs, (*c.x, *c.y)), default=1)
        return bool(np.allclose(c.now("moves"), wanted, atol=1e-12 * size)), True

    def add_shares(self, c, _):
        return words(c.now("high"), c.now("low")), plain.add_shares(
            c.shares, c.face_of_halfedge, len(c.high)
        )

    def add_rows(self, c, _):
        deltas = deltas_of(c)
        wanted = plain.add_rows(c.x, c.y, c.start, c.stop, deltas, c.row_of_part, len(c.high))
        return words(c.now("high"), c.now("low")), wanted

    def add_outline(self, c, _):
        edges = list(zip(c.start, c.stop, c.part, c.sign, strict=True))
        wanted, lengths = plain.add_outline(c.x, c.y, edges, c.row_of_part, len(c.high))
        return (words(c.now("high"), c.now("low")), c.now("lengths")), (wanted, lengths)

    def add_rings(self, c, _):
        nodes = [c.origin[h] for h in c.halfedge]
        rings, keeps = grouped(c.ring_offsets, nodes), grouped(c.ring_offsets, c.keeps)
        wanted = plain.add_rings(c.x, c.y, rings, keeps, c.piece, len(c.high))
        made = words(c.now("high"), c.now("low")), words(c.now("kept_high"), c.now("kept_low"))
        return made, wanted

    def add_groups(self, c, _):
        sums = words(c.high, c.low)
        wanted = plain.add_groups(c.group, c.item, sums, len(c.group_high))
        before = words(c.group_high, c.group_low)
        return words(c.now("group_high"), c.now("group_low")), [
            a + b for a, b in zip(before, wanted, strict=True)
        ]

    def find_borders(self, c, _):
        if not c.fills:
            return 0, 0
        pieces = [set(p) for p in grouped(c.entry_offsets, c.entry_piece)]
        wanted = {
            i
            for i in plain.find_borders(c.face_of_halfedge, pieces)
            if c.first <= i[0] // 2 < c.last
        }
        items = [
            (k, h)
            for h, span in enumerate(plain.spans(c.item_offsets))
            for k in span
            if c.first <= h // 2 < c.last
        ]
        made = {(h, c.entry_piece[c.given["item_entry"][k]]) for k, h in items}
        told = {(c.given["item_halfedge"][k], c.given["item_piece"][k]) for k, _ in items}
        return (made, told), (wanted, wanted)

    def link_borders(self, c, _):
        items = list(zip(c.item_halfedge, c.item_piece, strict=True))
        wanted = plain.link_borders(set(items), c.following)
        made = {items[k]: items[c.given["next_item"][k]] for k in range(c.first, c.last)}
        return made, {i: n for i, n in wanted.items() if i in made}

    def split_rings(self, c, n):
        nodes = [c.origin[h] for h in c.item_halfedge]
        found, seen = Counter(), set()
        for start in range(len(nodes)):
            walk, k = [], start
            while k not in seen:
                seen.add(k)
                walk.append(nodes[k])
                k = c.next_item[k]
            found += Counter(self.turned(r) for r in plain.split_rings(walk)) if walk else Counter()
        made = grouped(c.now("ring_offsets", n + 1), c.now("ring_halfedges"))
        begun = [c.item_halfedge[k] for k in c.now("ring_item", n)]
        rings = Counter(self.turned([c.origin[h] for h in ring]) for ring in made)
        return (rings, begun), (found, [ring[0] for ring in made])

    @staticmethod
    def turned(ring):
        k = ring.index(min(ring))
        return tuple(ring[k:] + ring[:k])

    def list_passed(self, c, n):
        rings = grouped(c.ring_offsets, [c.origin[h] for h in c.halfedge])[c.first : c.last]
        found = plain.list_passed(rings, c.is_passed)
        at = [(c.ring_offsets[c.first + r] + k, c.first + r) for r, k in found]
        return list(zip(c.now("items", n), c.now("rings", n), strict=True)), at

    def find_straight(self, c, _):
        steps = grouped(c.step_offsets, c.step_edge)
        places = list(zip(c.node_x, c.node_y, strict=True))
        lengths = [
            plain.squared_length([places[v] for e in line for v in (c.low[e], c.high[e])])
            for line in steps
        ]
        parts, lines = (
            grouped(c.delta_offsets, c.__getattr__(f"delta_{n}")) for n in ("part", "line")
        )
        made, wanted = [], []
        for k, (e, f) in enumerate(zip(c.incoming, c.outgoing, strict=True)):
            over = [
                [(c.row_of_part[p], y) for p, y in zip(parts[n], lines[n], strict=True)]
                for n in (e, f)
            ]
            on_both = [[one for one in o if not c.is_crowded[one[1]]] for o in over]
            rows = [r for r in c.rows[c.piece[k]] if r >= 0]
            line = self.straight(over, on_both, rows, lengths)
            found = c.given["through"][k]
            made.append(-1 if found < 0 else lengths[found])
            wanted.append(-1 if line < 0 else lengths[line])
        return made, wanted

    @staticmethod
    def straight(over, on_both, rows, lengths):
        has = {row for row, _ in (*over[0], *over[1])} & set(rows)
        mine = [o if not has else [x for x in o if x[0] in has] for o in on_both]
        both = {row for row, _ in set(mine[0]) & set(mine[1])}
        if has - both:
            return -1
        return plain.find_straight(set(mine[0]), mine[1], rows, lengths)

    def find_meetings(self, c, n):
        rings = {}
        for e in range(len(c.start)):
            rings.setdefault(c.row[e], []).append(e)
        made, wanted = {c.row[e] for e in c.now("first", n)}, set()
        for row, edges in rings.items():
            left, closed = set(edges), []
            while left:
                e = first = min(left)
                ring = []
                while e in left:
                    left.discard(e)
                    ring.append(c.xy[c.start[e]])
                    e = c.following[e]
                if e == first:
                    closed.append([*ring, ring[0]])
            if plain.find_meetings(closed):
                wanted.add(row)
        return made, wanted

    def locate_in_rings(self, c, _):
        rings = grouped(c.ring_offsets, c.xy)
        wanted = [
            plain.locate_in_rings(p, rings[r]) for *p, r in zip(c.x, c.y, c.ring, strict=True)
        ]
        return c.now("sides"), wanted

    def convex_hulls(self, c, _):
        made, wanted = [], []
        for g, span in enumerate(plain.spans(c.offsets)):
            first, n = 2 * c.offsets[g], c.given["counts"][g]
            made.append({plain.exactly(c.xy[k]) for k in c.now("hull")[first:first + n]})  # fmt: skip
            wanted.append(plain.convex_hulls([c.xy[k] for k in span]))
        return made, wanted


# Kernels that are called again with more room if what they return is more than what there is.
STORES = {
    "cross_edges": "out_x",
    "find_pixels": "out_edge",
    "edges_within": "point",
    "find_meetings": "first",
    "cover_points": "out_point",
}
SIZES = ("ends", "node_x", "following", "xy", "x", "start", "halfedge", "others")
MOST = 90  # edges, nodes and the like of a call that is compared all with all


def watched(seen):
    """Return `kernels.run`, but that each call is held to the kernel's twin."""
    plain_run = kernels.run

    def run(kernel, *arguments):
        name = kernel.__name__
        twin = getattr(Twins, name, None)
        if twin is None:
            return plain_run(kernel, *arguments)
        call = Call(kernel, arguments)
        returned = plain_run(kernel, *arguments)
        size = max((len(v) for n, v in call.was.items() if n in SIZES), default=0)
        if size > MOST or (name in STORES and returned > len(call.was[STORES[name]])):
            return (
                returned  # too much to compare all with all, or to be called again with more room
            )
        made, wanted = twin(Twins(), call, returned)
        assert made == wanted, f"{name}: {made} instead of {wanted}"
        seen[name] += 1
        return returned

    return run


def layers(seed):
    rng = np.random.default_rng(seed)
    unit = float(rng.choice([1.0, 0.01, 30.0]))
    stars = [
        [[make.star(rng, int(rng.integers(3, 9)), 6, rng.uniform(0, 10, 2)).round(1) * unit]]
        for _ in range(5)
    ]
    tangles = [[[make.tangle(rng, 5, 9, 1.0) * unit]] for _ in range(2)]
    paths = [[make.path(rng, 4, 10, 4).round(1) * unit] for _ in range(2)]
    spots = [list(rng.integers(0, 12, (2, 2)) * unit) for _ in range(4)]
    made = (make.polygons(stars), make.polygons(tangles), make.lines(paths), make.points(spots))
    return [
        make.layer(n, column, k=np.arange(column.n_rows) % 2)
        for n, column in zip("abcd", made, strict=True)
    ]


def work(seed):
    """A little of all that kernels have a part in."""
    stars, tangles, paths, spots = layers(seed)
    degrees: list[Layer] = []
    polygene.union(stars, tangles, give_slivers=0.01)
    polygene.union(stars)
    polygene.imprint(paths, stars)
    polygene.clip(spots, stars)
    cells = make.layer("cells", make.coverage(2, 2, 4, np.random.default_rng(seed), 8), stars.crs)
    polygene.join(
        make.layer("few", GeometryColumn.from_points(spots.geometry.xy), spots.crs), cells
    )
    polygene.dissolve(tangles, "k")
    polygene.join(tangles, stars, key="text(k)", pairs=True)
    polygene.compare(stars, tangles, "k")
    polygene.mend(tangles)
    # A hole touches the midst of an edge.
    hole = make.closed([(0, 2), (1 + seed % 2, 3), (1, 1)])
    polygene.audit(make.layer("tip", make.polygons([[[make.square(0, 0, 4), hole]]])))
    polygene.hull(spots, by="k")
    takes = ["s = sum(area() / 3)", "m = max(area())", "t = min(text(area()))", "h = median(k)"]
    with mock.patch.object(parallel, "WORTH_A_PART", 2):
        polygene.tally(stars, "k", takes)
    polygene.erase(stars, tangles, snap=0.3)
    polygene.join(paths, stars, "nearest", count=2)
    polygene.buffer(paths, 1.0, dissolve=True)
    with mock.patch.object(lifting, "WORTH", 0):
        lifting.lift(json.dumps({"coordinates": [[[seed, 0.5], [-0.0, -seed]]] * 2}).encode())
    texts = [
        "",
        "Point (1 2)",
        "MULTIPOINT ((1 2), (3 4e1 5))",
        "MultiPoint(1 2,3 4)",
        "polygon empty",
    ]
    texts += [
        f"MULTIPOLYGON Z (((0 0,1 {seed}.5, 1 1,0 0)),((2 2,3 3,3 2 -0,2 2) ) )",
        "LineString(1 2",
    ]
    for last in (6, 7):
        wkt.lift_column(pa.chunked_array([texts[:last]]))
    for y in (stars, tangles):
        y = replace(y, geometry=y.geometry.with_xy(y.geometry.xy / 40), crs=crs.parse("EPSG:4326"))
        degrees.append(y)
    polygene.intersect(*degrees)
    lines = replace(
        paths, geometry=paths.geometry.with_xy(paths.geometry.xy / 40), crs=degrees[0].crs
    )
    polygene.join(lines, degrees[0], "nearest", count=2)


class Specified(unittest.TestCase):
    def test_every_kernel_has_a_twin(self):
        self.assertEqual(set(NAMES) - set(vars(plain)), set())

    def test_kernels_do_what_their_twins_say(self):
        """Called by operations on small random layers, and held to their twins each time."""
        seen = Counter()

        @settings(max_examples=1, deadline=None, suppress_health_check=list(HealthCheck))
        @given(st.integers(0, 10**6))
        @example(0)  # these two ask every kernel, whatever chance picks besides
        @example(1)
        def held(seed):
            with mock.patch.object(kernels, "run", watched(seen)):
                work(seed)

        held()
        asked = {name for name in vars(Twins) if name in NAMES}
        self.assertEqual(asked - set(seen), {"least_first"})  # that one sees to stars of one shape

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.integers(-4, 4), min_size=6, max_size=16), st.booleans())
    def test_plainly_sound_is_sound(self, numbers, closes):
        """The kernel may leave a ring to others, and never calls one sound that is not."""
        xy = np.array(numbers[: len(numbers) // 2 * 2], float).reshape(-1, 2)
        ring = np.concatenate([xy, xy[:1]]) if closes else xy
        column = make.polygons([[[ring]]])
        points = [tuple(v) for v in ring]
        is_right = plain.find_sound([points]) and not plain.find_meetings([points])
        self.assertLessEqual(bool(plainly_sound(column)[0]), is_right)
        if is_right:
            self.assertFalse(invalid_rows(column).any())

    @settings(max_examples=60, deadline=None)
    @given(st.data())
    def test_bytes(self, data):
        geometry = data.draw(binaries())
        kind, parts = plain.scan(geometry)
        found = scanned(geometry)
        self.assertEqual(found, (kind, parts))
        cut = geometry[: data.draw(st.integers(0, len(geometry) - 1))]
        if cut:
            self.assertLess(scanned(cut)[0], 0)

    @settings(max_examples=40, deadline=None)
    @given(
        st.binary(min_size=1, max_size=40),
        st.lists(st.tuples(st.integers(0, 39), st.integers(0, 9))),
    )
    def test_ranges_and_records(self, data, ranges):
        ranges = [(s, min(n, len(data) - s)) for s, n in ranges if s < len(data)]
        starts, lengths = (np.array([r[k] for r in ranges], np.int64) for k in (0, 1))
        given_ = np.frombuffer(data, np.uint8).copy()
        out = np.zeros(int(lengths.sum()) + 1, np.uint8)
        kernels.run(kernels.wkb.gather_ranges, given_, starts, lengths, out)
        wanted = plain.gather_ranges(data, starts.tolist(), lengths.tolist())
        self.assertEqual(out.tobytes()[:-1], wanted)
        kernels.run(kernels.wkb.scatter_ranges, out[::-1].copy(), starts, lengths, given_)
        back = plain.scatter_ranges(out[::-1].tobytes(), starts.tolist(), lengths.tolist(), data)
        self.assertEqual(given_.tobytes(), back)
        records = b"".join(struct.pack("<I", n) + bytes(n) for _, n in ranges if n)
        places = np.empty(50, np.int64)
        for text in (records, records[:-1], data):
            n = kernels.run(
                kernels.wkb.follow_sizes, np.frombuffer(text, np.uint8).copy(), 0, places
            )
            found = None if n < 0 else places[:n].tolist()
            self.assertEqual(found, plain.follow_sizes(text, 0))


@st.composite
def binaries(draw, depth=0):
    """Well-known binary of any kind, with Z and M in either habit, in either order of bytes."""
    little, has_z, has_m = (draw(st.booleans()) for _ in range(3))
    iso = draw(st.booleans())
    order = "<" if little else ">"
    size = 8 * (2 + has_z + has_m)
    kind = draw(st.integers(1, 7 if depth < 2 else 3))
    code = kind + (1000 * (has_z + 2 * has_m) if iso else has_z << 31 | has_m << 30)
    head = struct.pack(f"{order}BI", little, code)
    if kind == 1:
        return head + bytes(size)
    n = draw(st.integers(0, 3))
    head += struct.pack(f"{order}I", n)
    if kind == 2:
        return head + bytes(size * n)
    if kind == 3:
        sizes = [draw(st.integers(0, 4)) for _ in range(n)]
        return head + b"".join(struct.pack(f"{order}I", m) + bytes(m * size) for m in sizes)
    return head + b"".join(draw(binaries(depth + 1)) for _ in range(n))


def scanned(geometry):
    """Return what the kernel finds in well-known binary: its type, or minus a fault, and its parts."""
    data = np.frombuffer(geometry, np.uint8).copy()
    ends = np.array([0]), np.array([len(data)])
    part_row, part_rings, start, count = np.zeros((4, 100), np.int64)
    family, layout = np.zeros((2, 100), np.uint8)
    kind, totals = np.zeros(1, np.int64), np.zeros(2, np.int64)
    kernels.run(
        kernels.wkb.scan, data, *ends, 1, part_row, family, part_rings, start, count, layout, kind,
        np.zeros(8, np.int64), totals,
    )  # fmt: skip
    offsets = np.concatenate([[0], np.cumsum(part_rings[: totals[0]])]).tolist()
    rings = grouped(offsets, count.tolist())
    return int(kind[0]), list(zip(family[: totals[0]].tolist(), rings, strict=True))
