"""Proof after the fact, for debugging and tests: what the engine promises, looked at again.

Switched on with ``POLYGENE_SELF_CHECK=1``; about doubles the time of an overlay. With it points are
sampled too and what covers them compared before and after (`polygene.ops.overlays.sampled`).
"""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import numpy as np

from polygene import kernels
from polygene.arrays import count_by, distinct, number_pairs
from polygene.plane.cuts import cuts_left
from polygene.plane.noding import Noded

if TYPE_CHECKING:
    from polygene.plane.arrangement import Arrangement
    from polygene.plane.rings import Rings


def is_on() -> bool:
    """Whether the environment asks for it."""
    return os.environ.get("POLYGENE_SELF_CHECK") == "1"


def check_arrangement(noded: Noded, arrangement: Arrangement) -> None:
    """Assert that borders meet in nodes only, and that the faces are all there.

    Nothing crosses and no node lies on an edge: the noding, done once more, finds nothing to do.
    Euler's formula then holds: nodes - edges + faces = 1 + components.
    """
    low, high = arrangement.low, arrangement.high
    assert (low != high).all(), "an edge without length"
    assert len(number_pairs(low, high).firsts) == len(low), "an edge twice"
    assert cuts_left(noded.node_x, noded.node_y, low, high) == 0, "edges meet beside their nodes"
    used = distinct(np.concatenate([low, high]))
    root = np.arange(len(noded.node_x))
    kernels.run(kernels.pairs.join_roots, low, high, root)
    n_components = len(distinct(root[used]))
    n_faces = arrangement.n_faces
    assert len(used) - len(low) + n_faces == 1 + n_components, "Euler's formula does not hold"
    assert (arrangement.face_of_halfedge >= 0).all(), "a half-edge without a face"
    assert (count_by(arrangement.face_of_halfedge, n_faces)[1:] > 0).all(), "a face without an edge"
    assert arrangement.label_offsets[1] == 0, "the outside is covered"


def check_rings(arrangement: Arrangement, rings: Rings) -> None:
    """Assert that every ring is closed, has three nodes at least, and none of them twice."""
    origin = arrangement.origin
    counts = np.diff(rings.offsets)
    assert (counts >= 3).all(), "a ring of less than three edges"
    ring_of = np.repeat(np.arange(len(counts)), counts)
    after = np.arange(1, len(ring_of) + 1)
    after[rings.offsets[1:] - 1] = rings.offsets[:-1]
    ends = origin[rings.halfedge ^ 1]
    assert (ends == origin[rings.halfedge[after]]).all(), "a ring that is not closed"
    distinct = number_pairs(ring_of, origin[rings.halfedge]).firsts
    assert len(distinct) == len(ring_of), "a ring that meets itself"
