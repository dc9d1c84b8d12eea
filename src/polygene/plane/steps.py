"""The noded edges that INPUT's own lines or rings run over, in the direction they run."""

from __future__ import annotations

import numpy as np

from polygene.arrays import NONE, I64Array, offsets_from, owners
from polygene.classes import NamedTuple
from polygene.plane.overlay import Overlay


class Steps(NamedTuple):
    """Noded edges path by path, in the order of the paths.

    path : (n_steps,) the path (ring of the column)
    given : (n_steps,) the edge of INPUT that it is a part of
    edge : (n_steps,) noded edge
    vertex : (n_steps,) the vertex of INPUT that the step starts at, NONE if it is no vertex
    start, stop : (n_steps,) nodes
    next_vertex : (n_steps,) as ``vertex``, for where it ends
    """

    path: I64Array
    given: I64Array
    edge: I64Array
    vertex: I64Array
    start: I64Array
    stop: I64Array
    next_vertex: I64Array


def steps_of(plan: Overlay) -> Steps:
    """Return the steps of all edges of INPUT; edges of no length on the grid have none."""
    noded, mine = plan.noded, plan.own_outline
    # Given edges are in the order of the paths, so their steps are too.
    given = np.arange(len(mine.start))
    line = noded.line_of_given[given].astype(np.int64)
    given, line = given[line != NONE], line[line != NONE]
    counts = np.diff(noded.step_offsets)[line]
    step_given = np.repeat(given, counts)
    against = noded.is_given_reversed[step_given]
    # k counts along the line; a line run backwards takes its steps from the last to the first.
    firsts = offsets_from(counts)[:-1]
    k = np.arange(len(step_given)) - np.repeat(firsts, counts)
    count = np.repeat(counts, counts)
    at = np.repeat(noded.step_offsets[line], counts) + np.where(against, count - 1 - k, k)
    edge = noded.step_edge[at].astype(np.int64)
    # A step runs against its line, and the line against the given edge: twice back is forward.
    is_back = noded.is_step_reversed[at] ^ against
    ring_of = owners(plan.own.ring_offsets)
    return Steps(
        path=ring_of[mine.start[step_given]],
        given=step_given,
        edge=edge,
        vertex=np.where(k == 0, mine.start[step_given], NONE),
        start=np.where(is_back, noded.high[edge], noded.low[edge]),
        stop=np.where(is_back, noded.low[edge], noded.high[edge]),
        next_vertex=np.where(k == count - 1, mine.stop[step_given], NONE),
    )
