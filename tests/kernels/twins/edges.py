"""Calls of kernels held to their twins in `plain.edges`."""

from __future__ import annotations

from collections import Counter

import numpy as np

from polygene.kernels import plain
from tests.kernels.twins.base import MOST, grouped


class OfEdges:
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
