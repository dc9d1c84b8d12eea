"""Calls of kernels held to their twins in `plain.faces`."""

from __future__ import annotations

import bisect
from collections import Counter

import numpy as np

from polygene.kernels import plain
from tests.kernels.twins.base import deltas_of, grouped, way_of


class OfFaces:
    def sort_around(self, c, _):
        ways = [way_of(c, h) for h in range(len(c.origin))]
        wanted = plain.sort_around(c.node_offsets, c.leaving, ways)
        found = (grouped(c.node_offsets, leaving) for leaving in (c.now("leaving"), wanted))
        # Where one begins round a node means nothing.
        return tuple([self.turned(around) for around in nodes if around] for nodes in found)

    def link_around(self, c, _):
        return dict(enumerate(c.now("following"))), plain.link_around(c.node_offsets, c.leaving)

    def trace_cycles(self, c, n):
        cycle_of, first = plain.trace_cycles(c.following)
        return (c.now("cycle_of"), n), (cycle_of, len(first))

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
            if not c.first_piece <= c.entry_piece[c.item_entry[start]] < c.last_piece:
                continue
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
        ranks = [
            plain.rank_of_line([places[v] for e in line for v in (c.low[e], c.high[e])])
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
            line = self.straight(over, on_both, rows, ranks, self.meant(c, c.rows[c.piece[k]]))
            found = c.given["through"][k]
            made.append(-1 if found < 0 else ranks[found])
            wanted.append(-1 if line < 0 else ranks[line])
        return made, wanted

    @staticmethod
    def meant(c, rows):
        """Whether a row is of a layer that a piece has none of; any is, where no layers are known."""
        starts = list(c.layer_starts)
        return lambda row: not starts or rows[bisect.bisect_right(starts, row) - 1] < 0

    @staticmethod
    def straight(over, on_both, rows, ranks, is_meant):
        has = {row for row, _ in (*over[0], *over[1])} & set(rows)
        mine = [[x for x in o if (x[0] in has if has else is_meant(x[0]))] for o in on_both]
        both = {row for row, _ in set(mine[0]) & set(mine[1])}
        if has - both:
            return -1
        return plain.find_straight(set(mine[0]), mine[1], rows, ranks)
