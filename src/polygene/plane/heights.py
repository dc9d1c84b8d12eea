"""Z and M of what an overlay cut: kept where a vertex survives, interpolated where one is new."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I32Array,
    I64Array,
    IntArray,
    number_pairs,
    owners,
    sum_by,
)
from polygene.geometry import GeometryColumn
from polygene.plane.cutting import Cut
from polygene.plane.overlay import Overlay
from polygene.plane.steps import steps_of


def with_heights(plan: Overlay, cut: Cut) -> tuple[GeometryColumn, int]:
    """Return the pieces with Z and M as far as INPUT has them, and how many vertices were guessed.

    A vertex of INPUT keeps its values; a point where its edge was cut gets them by the distance
    along that edge. What is left are vertices of OTHER's border inside a polygon of INPUT: those
    are interpolated along the ring between vertices that are known. A piece that has none of INPUT's
    border gets the mean of its row of INPUT.
    """
    own, pieces = plan.own, cut.geometry
    if cut.node is None or (own.z is None and own.m is None):
        return pieces, 0
    # Only INPUT has heights in a result; rows of OTHER alone get not a number.
    row_of_vertex = cut.rows[owners(pieces.vertex_offsets_of_rows), 0]
    found = _lookup(plan, row_of_vertex, cut.node)
    # Z and M go the same way, and apart: either may be missing.
    values = {}
    is_known = found.step != NONE
    for name, given in (("z", own.z), ("m", own.m)):
        if given is not None:
            known = np.full(len(is_known), np.nan)
            first, last = given[found.start[is_known]], given[found.stop[is_known]]
            share = found.share[is_known]
            between = first + share * (last - first)
            # Also where the other end has none: that is not a number.
            known[is_known] = np.where(share == 0, first, np.where(share == 1, last, between))
            values[name] = filled(pieces, known, is_known)
            if np.isnan(values[name][~is_known]).any():
                counts = np.ones(own.n_vertices, bool)
                counts[own.ring_offsets[1:] - 1] = False  # the first once more
                row = owners(own.vertex_offsets_of_rows)
                means = _means(row[counts], given[counts], own.n_rows)
                alone = ~is_known & np.isnan(values[name])
                values[name][alone] = means[row_of_vertex[alone]]
    return replace(pieces, z=values.get("z"), m=values.get("m")), int((~is_known).sum())


class _Found:
    """For each vertex of the pieces the place on an edge of its row: NONE where there is none."""

    def __init__(self, step: I64Array, start: I32Array, stop: I32Array, share: F64Array) -> None:
        self.step, self.start, self.stop, self.share = step, start, stop, share


def _lookup(plan: Overlay, row: I64Array, node: IntArray) -> _Found:
    """Find each (row, node) among the nodes that the row's own edges run over."""
    steps, mine = steps_of(plan), plan.own_outline
    row_of_ring = owners(plan.own.ring_offsets_of_rows)
    step_row = row_of_ring[steps.path]
    # Places of the row's own steps and places asked for, numbered together: equal numbers are the
    # same node on the same row.
    keys = number_pairs(
        np.concatenate([step_row, step_row, row]),
        np.concatenate([steps.start, steps.stop, node]),
    )
    n_steps = len(step_row)
    place_of_key = np.full(len(keys.firsts), NONE, np.int64)
    # The first mention wins: a start before a stop, so that a vertex is found as itself.
    mentioned = keys.numbers[: 2 * n_steps]
    # Written backwards, so that the first mention stands in the end.
    place_of_key[mentioned[::-1]] = np.arange(2 * n_steps)[::-1]
    place = place_of_key[keys.numbers[2 * n_steps :]]
    step = np.where(place == NONE, NONE, place % max(1, n_steps))
    given = steps.given[step] if n_steps else step
    start, stop = mine.start[given], mine.stop[given]
    noded = plan.noded
    ax, ay = mine.x[start], mine.y[start]
    whole = np.hypot(mine.x[stop] - ax, mine.y[stop] - ay)
    reach = np.hypot(noded.node_x[node] - ax, noded.node_y[node] - ay)
    # How far along the given edge the node lies, by distance on the grid.
    share = np.clip(reach / np.maximum(whole, 1), 0, 1)
    return _Found(step, start, stop, share)


def filled(pieces: GeometryColumn, values: F64Array, is_known: BoolArray) -> F64Array:
    """Interpolate what is unknown along each ring; a ring without any known gets its row's mean.

    Parameters
    ----------
    values : (n_vertices,) those that are known
    is_known : (n_vertices,)
    """
    if is_known.all():
        return values
    ring_of = owners(pieces.ring_offsets)
    step = np.zeros(len(values))
    step[1:] = np.hypot(*np.diff(pieces.xy, axis=0).T)
    # One running length over all rings; within a ring only differences count.
    along = np.cumsum(step)
    # A ring comes round: its known vertices are set before and behind it once more.
    lengths = np.zeros(pieces.n_rings)
    has = np.diff(pieces.ring_offsets) > 0
    first, last = pieces.ring_offsets[:-1][has], pieces.ring_offsets[1:][has] - 1
    lengths[has] = along[last] - along[first]
    at = along - along[pieces.ring_offsets[:-1][ring_of]]
    # Rings are laid out on one axis, three lengths each, so that one call serves all.
    origin = np.concatenate([[0.0], np.cumsum(3 * lengths + 1)])[:-1]
    known = np.flatnonzero(is_known & ~np.isnan(values))
    k, length = ring_of[known], lengths[ring_of[known]]
    axis = np.concatenate([origin[k] + at[known] + turn * length for turn in (0, 1, 2)])
    order = np.argsort(axis, kind="stable")
    unknown = np.flatnonzero(~is_known)
    wanted = origin[ring_of[unknown]] + at[unknown] + lengths[ring_of[unknown]]
    found = values.copy()
    if len(known):
        # The axis of the middle copy has known vertices on both sides of any unknown one.
        found[unknown] = np.interp(wanted, axis[order], np.tile(values[known], 3)[order])
    has_known = np.bincount(ring_of[known], minlength=pieces.n_rings) > 0
    alone = unknown[~has_known[ring_of[unknown]]]
    row = owners(pieces.vertex_offsets_of_rows)
    found[alone] = _means(row[known], values[known], pieces.n_rows)[row[alone]]
    return found


def _means(row: I64Array, values: F64Array, n_rows: int) -> F64Array:
    """Return the mean of each row's values that are numbers; not a number where there are none."""
    has = ~np.isnan(values)
    with np.errstate(invalid="ignore", divide="ignore"):
        return sum_by(row[has], values[has], n_rows) / np.bincount(row[has], minlength=n_rows)
