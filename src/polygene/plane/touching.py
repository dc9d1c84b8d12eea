"""Rows whose rings touch each other in points: do they cross there, are they nested, do they pinch?

On which side of another a ring lies is told by the ways that both take through a point in which they
touch, or by one vertex if they do not. All of it is exact: signs of determinants of given coordinates.
"""

from __future__ import annotations

import numpy as np

from polygene import kernels
from polygene.arrays import (
    BoolArray,
    F64Array,
    I64Array,
    distinct,
    number_pairs,
    offsets_from,
    owners,
    spans,
)
from polygene.classes import NamedTuple
from polygene.geometry import located_in_rings
from polygene.plane.clean import Clean, Touches
from polygene.plane.problems import Found, Problem
from polygene.plane.turns import turns


class _Sides(NamedTuple):
    """On which side of others rings lie: 1 inside, -1 outside, 0 on both as those do that cross.

    ring, other, side : (n,) no pair of the first two comes twice
    """

    ring: I64Array
    other: I64Array
    side: I64Array


def look_closely(
    clean: Clean, touches: Touches, within: tuple[I64Array, I64Array], found: Found
) -> None:
    """Look at rows whose rings touch: do they cross there, are they nested, do they pinch?

    ``within`` are the pairs (a, b) of rings of a row where the box of b holds that of a.
    """
    if len(touches.first) == 0:
        return
    sides = _sides_of_rings(clean, touches, within)
    ring, other, side = sides
    one_part = clean.part[ring] == clean.part[other]
    is_outer, in_outer = clean.is_outer[ring], clean.is_outer[other]
    of_parts = ~one_part & is_outer & in_outer
    rings, place = _places(clean, touches)
    for problem, mask in (
        # Stretches on both sides: the ring goes through the other in a touching point.
        (Problem.RINGS_CROSS, one_part & (side == 0)),
        (Problem.PARTS_CROSS, of_parts & (side == 0)),
        (Problem.HOLE_OUTSIDE, one_part & ~is_outer & in_outer & (side < 0)),
        (Problem.HOLE_IN_HOLE, one_part & ~is_outer & ~in_outer & (side > 0)),
        (Problem.PARTS_OVERLAP, of_parts & (side > 0) & ~_in_a_hole(clean, sides)),
    ):
        wrong = ring[mask]
        found.add(problem, clean.row[wrong], place[np.searchsorted(rings, wrong)])
    _look_at_pinches(clean, touches, found)


def _in_a_hole(clean: Clean, sides: _Sides) -> BoolArray:
    """Whether the first of a pair lies wholly in a hole of the part that the second belongs to."""
    key = sides.ring * (int(clean.part.max()) + 1) + clean.part[sides.other]
    is_in = ~clean.is_outer[sides.other] & (sides.side > 0)
    is_in &= clean.part[sides.ring] != clean.part[sides.other]
    known = np.append(distinct(key[is_in]), -1)
    return known[np.searchsorted(known[:-1], key)] == key


def _sides_of_rings(clean: Clean, touches: Touches, within: tuple[I64Array, I64Array]) -> _Sides:
    """Return the sides of rings that touch others: of these, and of those that they may lie in."""
    at = _sides_at_touches(clean, touches)
    n_rings = len(clean.row)
    touched = np.zeros(n_rings, bool)
    touched[at.ring] = True
    # A hole can be outside of its outer ring wherever that is.
    holes = np.flatnonzero(~clean.is_outer & touched)
    use = touched[within[0]]
    keys = np.concatenate(
        [
            within[0][use] * n_rings + within[1][use],
            holes * n_rings + clean.outer_of(holes),
        ]
    )
    # Those that touch are in order, and may be very many: all pairs of rings that share one point.
    known = at.ring * n_rings + at.other
    keys = distinct(keys)
    place = np.minimum(np.searchsorted(known, keys), len(known) - 1)
    ring, other = np.divmod(keys[known[place] != keys], n_rings)
    # Such a ring lies on one side all along, or it would meet the other.
    firsts = clean.xy[clean.offsets[ring]]
    side = located_in_rings(clean.xy, clean.offsets, firsts, other)
    return _Sides(
        *(np.concatenate(columns) for columns in zip(at, (ring, other, side), strict=True))
    )


def _sides_at_touches(clean: Clean, touches: Touches) -> _Sides:
    """Return the sides of rings that touch, both ways round, as the ways through the points tell."""
    ends = [
        (clean.ring_of_edge[edge], *_ways(clean, edge, touches.xy))
        for edge in (touches.first, touches.second)
    ]
    rings, sides = [], []
    for (ring, before, behind), (other, others_before, others_behind) in (ends, ends[::-1]):
        # Left of a ring is what lies between the way that it leaves by and the one it comes by.
        leaves, comes = (
            _is_between(touches.xy, clean.xy[others_behind], clean.xy[others_before], clean.xy[p])
            for p in (behind, before)
        )
        is_inside = leaves == _turn_left(clean, other)
        rings.append(np.stack([ring, other]))
        sides.append(np.where(leaves != comes, 0, np.where(is_inside, 1, -1)))
    ring, other = np.concatenate(rings, axis=1)
    side = np.concatenate(sides)
    order = np.lexsort((side, other, ring))
    ring, other, side = ring[order], other[order], side[order]
    is_first = np.ones(len(ring), bool)
    is_first[1:] = (ring[1:] != ring[:-1]) | (other[1:] != other[:-1])
    firsts = np.flatnonzero(is_first)
    least, most = side[firsts], side[np.append(firsts[1:], len(side)) - 1]
    return _Sides(ring[firsts], other[firsts], np.where(least == most, least, 0))


def _ways(clean: Clean, edge: I64Array, xy: F64Array) -> tuple[I64Array, I64Array]:
    """Return the vertices before and behind points xy (n, 2) on edges (n,), along their rings."""
    preceding = np.empty(len(clean.start), np.int64)
    preceding[clean.following] = np.arange(len(clean.start))
    start = clean.start[edge]
    at_start, at_end = ((clean.xy[k] == xy).all(axis=1) for k in (start, start + 1))
    before = np.where(at_start, clean.start[preceding[edge]], start)
    behind = np.where(at_end, clean.start[clean.following[edge]] + 1, start + 1)
    return before, behind


def _turn_left(clean: Clean, ring: I64Array) -> BoolArray:
    """Whether rings, which do not meet themselves, turn left: told where they come furthest left."""
    rings, at = np.unique(ring, return_inverse=True)
    counts = np.diff(clean.offsets)[rings] - 1  # without the first, repeated
    vertex = spans(clean.offsets[rings], counts)
    x, y = clean.xy[vertex].T
    offsets = offsets_from(counts)
    order = np.lexsort((y, x, owners(offsets)))
    least = vertex[order[offsets[:-1]]]
    first, last = clean.offsets[rings], clean.offsets[rings + 1] - 1
    before = np.where(least > first, least, last) - 1
    return turns(clean.xy[before], clean.xy[least], clean.xy[least + 1])[at.reshape(-1)] > 0


def _is_between(p: F64Array, a: F64Array, b: F64Array, c: F64Array) -> BoolArray:
    """Whether seen from p the direction of c comes after that of a and before that of b."""
    ab, ac, cb = turns(p, a, b), turns(p, a, c), turns(p, c, b)
    return np.where(ab > 0, (ac > 0) & (cb > 0), np.where(ab < 0, (ac >= 0) | (cb >= 0), ac > 0))


def _places(clean: Clean, touches: Touches) -> tuple[I64Array, F64Array]:
    """Return the rings that touch others, in order, and the first place of each, by x and then y."""
    ring = clean.ring_of_edge[np.concatenate([touches.first, touches.second])]
    xy = np.concatenate([touches.xy, touches.xy])
    order = np.lexsort((xy[:, 1], xy[:, 0], ring))
    rings, first = np.unique(ring[order], return_index=True)
    return rings, xy[order[first]]


def _look_at_pinches(clean: Clean, touches: Touches, found: Found) -> None:
    """Find parts that rings which touch cut apart: a graph of them and the points has a cycle."""
    rings = clean.ring_of_edge[np.stack([touches.first, touches.second])]
    part = clean.part[rings]
    use = np.flatnonzero(part[0] == part[1])
    ring, xy = rings[:, use].reshape(-1), np.tile(touches.xy[use], (2, 1))
    _, at = np.unique(xy, axis=0, return_inverse=True)
    point = at.reshape(-1)
    # Each ring and point once, in order; points are numbered by x and then y.
    once = number_pairs(ring, point).firsts
    once = once[np.lexsort((point[once], ring[once]))]
    ring, point, xy = ring[once], point[once], xy[once]
    # Points of two parts are two.
    node = number_pairs(clean.part[ring], point).numbers
    n_rings = len(clean.row)
    node = node + n_rings
    parent = np.arange(n_rings + int(node.max(initial=n_rings)) + 1)
    closes = np.zeros(len(ring), np.uint8)
    kernels.run(kernels.pairs.find_cycles, ring, node, parent, closes)
    # One for each that is cut apart: the first link of a tree that is none.
    links = np.flatnonzero(closes)
    k = links[np.unique(parent[ring[links]], return_index=True)[1]]
    found.add(Problem.CUT_APART, clean.row[ring[k]], xy[k])
