"""Calls of kernels held to their twins in `plain.numbers`."""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from polygene.kernels import plain
from tests.kernels.twins.base import deltas_of, grouped, words


class OfNumbers:
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

    def count_bucket(self, c, n):
        counts = plain.count_bucket(c.keys, c.first_key, c.last_key)
        return (n, c.now("offsets")[c.first_key + 1 : c.last_key + 1]), (sum(counts), counts)

    def fill_bucket(self, c, _):
        order = plain.fill_bucket(c.keys, c.first_key, c.last_key)
        counts = plain.count_bucket(c.keys, c.first_key, c.last_key)
        ends = [c.begin + sum(counts[: k + 1]) for k in range(len(counts))]
        made = c.now("order")[c.begin : c.begin + len(order)]
        return (made, c.now("offsets")[c.first_key + 1 : c.last_key + 1]), (order, ends)

    def place_items(self, c, _):
        wanted = plain.place_items(c.keys, range(c.first, c.last), c.nexts)
        order = c.now("order")
        return {i: order.index(i) for i in wanted}, wanted

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

    def add_numbers(self, c, _):
        some = slice(c.first, c.stop)
        wanted = plain.add_numbers(c.group[some], c.values[some], len(c.total))
        made = zip(*map(c.now, ("total", "rest", "off", "counts")), wanted, strict=True)
        far = [
            g
            for g, (total, rest, off, counts, exact) in enumerate(made)
            if abs(sum(map(Fraction, total + rest)) - exact)
            > (1 + len(c.group) * 2.0**-53) * sum(off)
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

    def add_lengths(self, c, _):
        wanted = plain.add_lengths(c.x, c.y, c.start, c.stop, c.face_of_halfedge, len(c.around))
        return bool(np.allclose(c.now("around"), wanted)), True

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
