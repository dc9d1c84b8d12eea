"""Calls of kernels held to their twins in `plain.places`."""

from __future__ import annotations

import numpy as np

from polygene.kernels import plain
from tests.kernels.twins.base import faces_of, grouped, rings_of


class OfPlaces:
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

    def join_boxes(self, c, is_done):
        return c.now("parent") if is_done else 0, plain.join_boxes(
            c.boxes, c.group
        ) if is_done else 0

    def pair_boxes(self, c, n):
        if n > len(c.out_a):
            return 0, 0
        leaves = c.boxes[: len(c.begin)]
        made = set(zip(c.now("out_a", n), c.now("out_b", n), strict=True))
        wanted = plain.pair_boxes(leaves, list(c.turned), c.begin, c.holds)
        return made, {(a, b) for a, b in wanted if c.first <= a < c.stop}

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
