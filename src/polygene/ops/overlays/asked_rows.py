"""Of whom pieces are wanted: rows that OTHER really meets, and of a part of the whole its core.

Rows enter the plane with all their neighbours, since what is near has to do with where their borders
run, and because the first look, by cells, takes some for touched that are not. So what comes out hangs
on a row and on what is near it alone: neither on how coarse that look was, nor on what else there is.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from polygene.arrays import NONE, BoolArray, I32Array, I64Array, owners, spans
from polygene.classes import NamedTuple
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.ops.overlays.scene import Scene
from polygene.ops.overlays.unmet import unmet
from polygene.ops.part import core_of
from polygene.plane.cutting import Cut
from polygene.plane.overlay import Overlay
from polygene.plane.rules import Rule
from polygene.plane.signatures import marks_of_others


class Asked(NamedTuple):
    """Of whom pieces are wanted.

    own : (n_plan_rows,) rows of INPUT that entered; other : (n_cutter_rows,) rows of the OTHERs
    is_unmet : (n_plan_rows + n_cutter_rows,) rows of a union that stay as they are, as `unmet` says
    core : (n_rows,) rows of INPUT that the work is for, whether they entered or not
    others : (n_rows,) of each OTHER, the same
    """

    own: BoolArray
    other: BoolArray
    is_unmet: BoolArray
    core: BoolArray
    others: list[BoolArray]


def asked_of(
    layer: Layer, others: Sequence[Layer], scene: Scene, plan: Overlay, rule: Rule
) -> Asked:
    """Return of whom pieces are wanted; of the rest of the core it is known where it lies."""
    core = core_of(layer, 0)
    theirs = [core_of(other, 1 + k) for k, other in enumerate(others)]
    own = core[scene.own_rows] & scene.is_touched
    is_unmet = np.zeros(len(own) + scene.cutter.n_rows, bool)
    if not rule.keeps_other:
        own &= rows_met(plan)
    else:
        is_unmet = unmet(plan, scene.other_starts)
        own &= ~is_unmet[: len(own)]
    in_cutter = [mask[near] for mask, near in zip(theirs, scene.near, strict=True)]
    other = np.concatenate(in_cutter) & ~is_unmet[len(own) :]
    return Asked(own, other, is_unmet, core, theirs)


def rows_met(plan: Overlay) -> BoolArray:
    """Return which rows of INPUT (n_own_rows,) any OTHER meets on the grid: in a node, or within."""
    noded, n_given = plan.noded, len(plan.own_outline.start)
    edges, _ = noded.edges_over(np.arange(n_given, len(noded.line_of_given)))
    is_met = np.zeros(len(noded.node_x), bool)
    is_met[noded.low[edges]] = is_met[noded.high[edges]] = True
    is_met[noded.node_of_vertex[plan.own.n_vertices :]] = True
    found = np.zeros(plan.n_own_rows, bool)
    hit = is_met[noded.node_of_vertex[: plan.own.n_vertices]]
    found[owners(plan.own.vertex_offsets_of_rows)[hit]] = True
    _mark_by_lines(plan, is_met, found)
    _mark_holders(plan, edges, found)
    # Parts of a row may lie on both sides of a border that is near neither.
    has_parts = np.diff(plan.own.row_offsets) > 1
    if plan.own.family != Family.POLYGONS:
        return found | has_parts
    if (has_parts & ~found).any():
        _mark_divided(plan, found)
    return found


def _mark_by_lines(plan: Overlay, is_met: BoolArray, found: BoolArray) -> None:
    """Mark rows with a border that runs through a node that is met."""
    noded, mine = plan.noded, plan.own_outline
    if not len(noded.step_edge) or not len(mine.start):
        return
    is_step_met = is_met[noded.low[noded.step_edge]] | is_met[noded.high[noded.step_edge]]
    is_line_met = np.logical_or.reduceat(is_step_met, noded.step_offsets[:-1])
    line = noded.line_of_given[: len(mine.start)]
    hit = (line != NONE) & is_line_met[line]
    found[mine.row_of_part[mine.part[hit]]] = True


def _mark_holders(plan: Overlay, other_edges: I32Array, found: BoolArray) -> None:
    """Mark rows that cover a face beside a border of OTHER, as round a ring inside them."""
    arrangement = plan.arrangement
    border = arrangement.border_of_edge[other_edges]
    border = border[border != NONE]
    is_beside = np.zeros(arrangement.n_faces, bool)
    for side in (0, 1):
        is_beside[arrangement.face_of_halfedge[2 * border + side]] = True
    face = owners(arrangement.label_offsets)
    labels = arrangement.labels[is_beside[face]]
    found[labels[labels < plan.n_own_rows]] = True


def _mark_divided(plan: Overlay, found: BoolArray) -> None:
    """Mark rows whose faces are not all covered by the same: parts of them lie on different sides."""
    arrangement, n_own = plan.arrangement, plan.n_own_rows
    labels, face = arrangement.labels, owners(arrangement.label_offsets)
    is_own = labels < n_own
    mark = marks_of_others(arrangement, np.arange(arrangement.n_faces), n_own)
    own, seen = labels[is_own], mark[face[is_own]]
    first = np.zeros(n_own, np.uint64)
    first[own] = seen  # any of them
    found[own[first[own] != seen]] = True


def only_of(done: Cut, is_asked: BoolArray, is_other_asked: BoolArray, starts: I64Array) -> Cut:
    """Return what a cut made of the rows asked for; the others have no part in its sums.

    Parameters
    ----------
    is_asked : (n_own_rows,) rows of INPUT; is_other_asked : (n_other_rows,) of all OTHERs, whose first
        has what no INPUT covers
    starts : (n OTHERs + 1,) first row of each OTHER among those
    """
    if is_asked.all() and is_other_asked.all():
        return done
    own = done.rows[:, 0]
    kept = own != NONE
    kept[kept] = is_asked[own[kept]]
    is_alone = own == NONE
    if is_alone.any():
        theirs = done.rows[is_alone, 1:]
        layer = (theirs != NONE).argmax(axis=1)
        row = starts[layer] + theirs[np.arange(len(theirs)), layer]
        kept[is_alone] = is_other_asked[row]
    pieces = np.flatnonzero(kept)
    node = done.node
    if node is not None:
        offsets = done.geometry.vertex_offsets_of_rows
        node = node[spans(offsets[pieces], np.diff(offsets)[pieces])]
    return done._replace(
        rows=done.rows[pieces],
        geometry=done.geometry.take(pieces),
        node=node,
        wholes=done.wholes[pieces],
        size=done.size[pieces],
        own_size=np.where(is_asked, done.own_size, 0.0),
        own_covered=np.where(is_asked, done.own_covered, 0.0),
        touches=done.touches & is_asked,
    )
