"""Twins of the kernels that number, rank and add up: `pairs`, `ranks`, `sums`."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from fractions import Fraction
from typing import Any

from polygene.kernels.plain.base import Ints, spans


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
    order = sorted({v for v in values if not math.isnan(v)})
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


def count_bucket(keys: Ints, first_key: int, last_key: int) -> list[int]:
    """Return how many items have each key of a range."""
    return [sum(key == k for key in keys) for k in range(first_key, last_key)]


def fill_bucket(keys: Ints, first_key: int, last_key: int) -> list[int]:
    """Return the items with keys of a range sorted by key, equal ones as they came."""
    own = [i for i, key in enumerate(keys) if first_key <= key < last_key]
    return sorted(own, key=lambda i: keys[i])


def place_items(keys: Ints, items: range, nexts: Ints) -> dict[int, int]:
    """Return where each of some items goes: after those before it that have its key."""
    return {i: nexts[keys[i]] + keys[items.start : i].count(keys[i]) for i in items}


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


def add_lengths(x: Ints, y: Ints, start: Ints, stop: Ints, face: Ints, n: int) -> list[float]:
    """Return how long the edges of each face are together."""
    found = [0.0] * n
    for e, (a, b) in enumerate(zip(start, stop, strict=True)):
        for side in (0, 1):
            found[face[2 * e + side]] += math.hypot(x[b] - x[a], y[b] - y[a])
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
