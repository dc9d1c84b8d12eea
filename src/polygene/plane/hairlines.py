"""Faces thinner than the grid between a border of OTHER and another, which are one border then.

A crossing is written at the nearest grid point, up to half a unit beside the borders that cross there.
Laid over one of them again, what was cut lies along it within a unit, and here and there a face is left
between the two: a hairline. INPUT keeps it; OTHER has it or not, as it has what lies beside it. So
it is where there is a gap as thin between features of OTHER.
"""

from __future__ import annotations

import numpy as np

from polygene import parallel
from polygene.arrays import (
    BoolArray,
    F64Array,
    I64Array,
    IntArray,
    count_by,
    offsets_from,
    owners,
    spans,
    sum_by,
)
from polygene.classes import NamedTuple
from polygene.geometry import Family
from polygene.plane import sums
from polygene.plane.arrangement import OUTSIDE, Arrangement
from polygene.plane.overlay import Overlay
from polygene.plane.signatures import marks_of_others

ALONG = 0.25  # of the way round a hairline is the border of each of the two at least


class _Beside(NamedTuple):
    """Thin faces and what lies beside them, an entry for each edge between.

    face, beside : (n,); length : (n,) of the edge
    has_own : (n,) whether all rows of INPUT that cover the face cover what is beside it too
    along : (n_faces,) how much of the way round is INPUT's border
    other : (n_faces,) a number for the rows of OTHER that cover each of those faces
    """

    face: I64Array
    beside: I64Array
    length: F64Array
    has_own: BoolArray
    along: F64Array
    other: np.ndarray


def without_hairlines(plan: Overlay) -> Overlay:
    """Return the plan with OTHER's border on INPUT's where less than a grid unit is between them.

    Gaps as thin between rows of OTHER are closed. A thin face counts where nothing beside it, within
    the same rows of INPUT, is covered alike by OTHER. Rows of OTHER that gain or lose one count as
    crossed: they are not as they were given.
    """
    if plan.own.family != Family.POLYGONS or plan.other.family != Family.POLYGONS:
        return plan
    arrangement = plan.arrangement
    # The proof asks for them too.
    sums_found = parallel.meanwhile(lambda: sums.of_faces(arrangement))
    around = sums.lengths_around(arrangement)
    plan = plan._replace(faces=sums_found())
    assert plan.faces is not None
    # The rectangle of the same area and way round is less than a unit wide.
    is_thin = plan.faces.to_float() < around - 2
    is_thin[OUTSIDE] = False
    if not is_thin.any():
        return plan
    halfedge = np.flatnonzero(is_thin[arrangement.face_of_halfedge])
    found = _beside(plan, halfedge)
    # Or a gap between features of OTHER within one of INPUT.
    is_gap = ~plan.is_covered & (np.diff(arrangement.label_offsets) > 0)
    is_open = is_thin & ((found.along >= ALONG * around) | is_gap)
    is_known = ~is_thin
    like = np.arange(arrangement.n_faces)
    while True:  # as often as hairlines lie beside each other
        asks = is_open[found.face] & is_known[found.beside] & found.has_own
        face, goal = _goals(found, like, asks, ALONG * around)
        if not len(face):
            break
        like[face], is_open[face], is_known[face] = goal, False, True
    face = np.flatnonzero(like != np.arange(len(like)))
    return _covered_like(plan, face, like[face]) if len(face) else plan


def _beside(plan: Overlay, halfedge: I64Array) -> _Beside:
    arrangement, n_own = plan.arrangement, plan.n_own_rows
    x, y, edge = arrangement.node_x, arrangement.node_y, halfedge >> 1
    low, high = arrangement.low[edge], arrangement.high[edge]
    length = np.hypot((x[high] - x[low]).astype(float), (y[high] - y[low]).astype(float))
    face = arrangement.face_of_halfedge[halfedge].astype(np.int64)
    beside = arrangement.face_of_halfedge[halfedge ^ 1].astype(np.int64)
    mine, theirs = (_own_rows(arrangement, f, n_own) for f in (face, beside))
    n = len(face)
    has_own, is_had = np.ones((2, n), bool)
    has_own[mine[~np.isin(mine, theirs)] // n_own] = False
    is_had[theirs[~np.isin(theirs, mine)] // n_own] = False
    is_border = ~(has_own & is_had)
    faces = np.unique(np.concatenate([face, beside]))
    other = np.zeros(arrangement.n_faces, np.uint64)
    other[faces] = marks_of_others(arrangement, faces, n_own)
    along = sum_by(face[is_border], length[is_border], arrangement.n_faces)
    return _Beside(face, beside, length, has_own, along, other)


def _own_rows(arrangement: Arrangement, face: I64Array, n_own: int) -> I64Array:
    """Return ``k * n_own + row`` for each row of INPUT that covers the k-th of some faces."""
    counts = np.diff(arrangement.label_offsets)[face]
    row = arrangement.labels[spans(arrangement.label_offsets[face], counts)].astype(np.int64)
    item = np.repeat(np.arange(len(face)), counts)
    return item[row < n_own] * n_own + row[row < n_own]


def _goals(
    found: _Beside, like: I64Array, asks: BoolArray, least: F64Array
) -> tuple[I64Array, I64Array]:
    """Return faces, and what OTHER covers each like: itself if there is something beside it alike.

    Faces are left open that have a border with what is not alike shorter than the ``least`` (n_faces,).
    """
    if not asks.any():
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    face, beside, length = found.face[asks], like[found.beside[asks]], found.length[asks]
    # By number of OTHER's rows, not by face: what else divides the plane must not count.
    other = found.other[beside]
    is_alike = other == found.other[face]
    border = sum_by(face[~is_alike], length[~is_alike], len(least))
    order = np.lexsort((beside, other, ~is_alike, face))
    face, beside, other, length = face[order], beside[order], other[order], length[order]
    is_alike = is_alike[order]
    is_first = np.ones(len(face), bool)
    is_first[1:] = (face[1:] != face[:-1]) | (other[1:] != other[:-1])
    total = np.add.reduceat(length, np.flatnonzero(is_first))
    face, beside, is_alike = face[is_first], beside[is_first], is_alike[is_first]
    order = np.lexsort((-total, ~is_alike, face))
    face, beside, is_alike = face[order], beside[order], is_alike[order]
    is_best = np.ones(len(face), bool)
    is_best[1:] = face[1:] != face[:-1]
    is_best &= is_alike | (border >= least)[face]
    return face[is_best], np.where(is_alike, face, beside)[is_best]


def _covered_like(plan: Overlay, face: I64Array, like: IntArray) -> Overlay:
    """Return the plan where OTHER covers faces (n,), rising, as it covers some others."""
    arrangement, n_own = plan.arrangement, plan.n_own_rows
    offsets, labels = arrangement.label_offsets, arrangement.labels
    face_of_label = owners(offsets)
    is_changed = np.zeros(arrangement.n_faces, bool)
    is_changed[face] = True
    goes = (labels >= n_own) & is_changed[face_of_label]
    counts = np.diff(offsets)[like]
    new = spans(offsets[like], counts)
    new_face = np.repeat(face, counts)[labels[new] >= n_own]
    new = new[labels[new] >= n_own]
    rows = np.concatenate([labels[~goes], labels[new]])
    at = np.concatenate([face_of_label[~goes], new_face])
    order = np.lexsort((rows, at))
    is_crossed = arrangement.is_crossed.copy()
    is_crossed[labels[goes]] = is_crossed[labels[new]] = True
    now = arrangement._replace(
        label_offsets=offsets_from(count_by(at, arrangement.n_faces)),
        labels=rows[order],
        is_crossed=is_crossed,
    )
    is_covered = plan.is_covered.copy()
    is_covered[face] = plan.is_covered[like]
    return plan._replace(arrangement=now, is_covered=is_covered, as_noded=arrangement)
