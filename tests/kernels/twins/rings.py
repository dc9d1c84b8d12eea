"""Calls of kernels held to their twins in `plain.rings`."""

from __future__ import annotations

from polygene.kernels import plain
from tests.kernels.twins.base import grouped


class OfRings:
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

    def turns(self, c, _):
        return c.now("found"), [plain.turns(*p) for p in zip(c.a, c.b, c.c, strict=True)]

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

    def locate_rising(self, c, _):
        return self.locate_in_rings(c, _)

    def convex_hulls(self, c, _):
        made, wanted = [], []
        for g, span in enumerate(plain.spans(c.offsets)):
            first, n = 2 * c.offsets[g], c.given["counts"][g]
            made.append({plain.exactly(c.xy[k]) for k in c.now("hull")[first:first + n]})  # fmt: skip
            wanted.append(plain.convex_hulls([c.xy[k] for k in span]))
        return made, wanted
