"""The arrangement: half-edges, cycles, faces, and which rows cover each face."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import (
    NONE,
    BoolArray,
    I8Array,
    I32Array,
    I64Array,
    bucket,
    looked_up,
    offsets_from,
    take_spans,
)
from polygene.classes import NamedTuple
from polygene.plane.location import Locator
from polygene.plane.noding import Noded

# Number 0 is given before any cycle is looked at, so an arrangement without borders has it too.
OUTSIDE = 0  # the unbounded face
MANY_FACES = 8_000_000  # of which room for eight rows over each is a lot


class Deltas(NamedTuple):
    """What changes on crossing an edge: one entry for each given border edge that runs over it.

    Entries of edge e are ``offsets[e]:offsets[e + 1]``, (n_edges + 1,). ``sign`` (n_entries,) is +1
    where the part lies to the left of the edge (low to high), -1 to the right, after its ring was
    turned the usual way.
    ``line`` is the line of the noding that the border edge became.
    """

    offsets: I64Array
    part: I32Array
    sign: I8Array
    line: I32Array


class Arrangement(NamedTuple):
    """Faces of the plane cut up by borders.

    Half-edges 2e and 2e + 1 run along edge e from low to high and back; their face is to the left.

    node_x, node_y : (n_nodes,) grid integers
    border_of_edge : (n noded edges,) the edge here, NONE for one that bounds nothing
    low, high : (n_edges,) nodes
    origin : (2 n_edges,) the node each half-edge leaves
    following : (2 n_edges,) the next half-edge round its face
    face_of_halfedge : (2 n_edges,) face 0 is the outside
    label_offsets, labels : rows that cover face f, rising, ``labels[label_offsets[f]:...]``
    is_crossed : (n_rows,) rows whose rings cross themselves or one another
    """

    node_x: I64Array
    node_y: I64Array
    border_of_edge: I32Array
    low: I64Array
    high: I64Array
    origin: I32Array
    following: I32Array
    face_of_halfedge: I32Array
    deltas: Deltas
    label_offsets: I64Array
    labels: I64Array
    is_crossed: BoolArray
    locator: Locator

    @property
    def n_faces(self) -> int:
        return len(self.label_offsets) - 1


class Borders(NamedTuple):
    """The border edges among those given to the noding.

    given : (n,) index of the edge
    part : (n,) the polygon part it bounds
    sign : (n,) +1 if the part's area lies to its left, else -1 (the ring is turned wrongly)
    row_of_part : (n_parts,)
    """

    given: I32Array
    part: I32Array
    sign: I8Array
    row_of_part: I64Array


def arrange(noded: Noded, borders: Borders, n_rows: int, by_sign: bool = False) -> Arrangement:
    """Build the arrangement of noded borders.

    Edges that bound nothing take no part. A part covers what it winds round an odd number of times
    and a row what any of its parts covers, so crossing rings, retraced ones and those turned the
    wrong way have a meaning. With ``by_sign`` a part covers what it winds round more than zero times,
    counter-clockwise.
    """
    # Half-edges exist for borders only: what bounds nothing parts no faces, and lines are followed
    # over the noded edges instead.
    edges, deltas_found = _border_edges(noded, borders)
    # Mostly all edges bound something; then the noding's own arrays are taken, uncopied.
    low, high = noded.low, noded.high
    if edges is not None:
        low, high = low[edges], high[edges]
    # By another thread meanwhile, as the deltas are: both need the noding alone.
    least_found = parallel.meanwhile(lambda: _least_nodes(noded, low, high))
    # (2 n_edges,) so that the twin of half-edge h is h ^ 1 and its edge h >> 1: the whole engine
    # counts on it.
    # Numbers of half-edges and their faces are kept small, as those of parts and lines: there are
    # several for each edge.
    assert len(low) < 1 << 30, "more half-edges than can be numbered"
    origin = np.empty(2 * len(low), np.int32)
    origin[0::2], origin[1::2] = low, high
    following, leaving, node_offsets = _link(noded, origin)
    # A cycle is what one walks round with a face to the left: its outer border, or that of a hole
    # in it.
    cycle_of = np.full(len(origin), NONE, np.int32)
    n_cycles = kernels.run(kernels.arrange.trace_cycles, following, cycle_of)
    # Not built before it is asked: most arrangements are one component, which lies in nothing.
    locator = Locator(noded.node_x, noded.node_y, low, high)
    face_of_cycle = _nest(
        noded=noded,
        least=least_found(),
        origin=origin,
        leaving=leaving,
        node_offsets=node_offsets,
        cycle_of=cycle_of,
        n_cycles=n_cycles,
        locator=locator,
    )
    # half-edge -> cycle -> face, composed once: the cycles are not needed any more
    face_of_halfedge = looked_up(face_of_cycle.astype(np.int32), cycle_of)
    deltas, row_of_part = deltas_found(), borders.row_of_part
    # What is not needed any more is given up: here an overlay has the most memory.
    del deltas_found, borders, leaving, node_offsets, cycle_of
    label_offsets, labels, is_crossed = _wind(
        # Faces with no cycle of their own do not exist, but for the outside of nothing.
        n_faces=int(face_of_cycle.max(initial=0)) + 1,
        face_of_halfedge=face_of_halfedge,
        deltas=deltas,
        row_of_part=row_of_part,
        n_rows=n_rows,
        by_sign=by_sign,
    )
    # From the numbers of the noding to those here; steps of lines ask for the faces beside noded
    # edges.
    border_of_edge = np.arange(len(noded.low), dtype=np.int32)
    if edges is not None:
        border_of_edge[:] = NONE
        border_of_edge[edges] = np.arange(len(edges))
    return Arrangement(
        node_x=noded.node_x,
        node_y=noded.node_y,
        border_of_edge=border_of_edge,
        low=low,
        high=high,
        origin=origin,
        following=following,
        face_of_halfedge=face_of_halfedge,
        deltas=deltas,
        label_offsets=label_offsets,
        labels=labels,
        is_crossed=is_crossed,
        locator=locator,
    )


def _border_edges(noded: Noded, borders: Borders) -> tuple[I64Array | None, Callable[[], Deltas]]:
    """Return the noded edges that bound something, None for all, and when asked what each changes."""
    n_edges = len(noded.low)
    # Counted first and filled later into arrays of that size: two passes over the steps cost less
    # than growing lists, and the counts alone say which edges bound anything.
    nexts, none = np.zeros(n_edges, np.int64), np.zeros(1, np.int32)
    # There are several numbers of parts and lines, and signs, for each edge: they are kept small.
    assert len(noded.step_offsets) <= 1 << 31, "more lines than can be numbered"
    inputs = (
        borders.given,
        borders.part,
        borders.sign,
        noded.line_of_given,
        noded.is_given_reversed.view(np.uint8),
        noded.step_offsets,
        noded.step_edge,
        noded.is_step_reversed.view(np.uint8),
    )
    kernel = kernels.arrange.list_deltas

    def count() -> None:
        kernels.run(kernel, *inputs, 0, nexts, none, none.astype(np.int8), none)

    def fill(edges: I64Array | None) -> Deltas:
        # `nexts` turns from counts into the place where each edge's next entry goes.
        if edges is None:
            count()
            offsets = offsets_from(nexts)
            nexts[:] = offsets[:-1]
        else:
            offsets = offsets_from(nexts[edges])
            nexts[edges] = offsets[:-1]
        n = int(offsets[-1])
        part, sign, line = np.empty(n, np.int32), np.empty(n, np.int8), np.empty(n, np.int32)
        kernels.run(kernel, *inputs, 1, nexts, part, sign, line)
        return Deltas(offsets, part, sign, line)

    # An edge is a step of something that was given: if all of that bounds, so does each edge.
    if len(borders.given) == len(noded.line_of_given):
        return None, parallel.meanwhile(lambda: fill(None))
    count()
    edges = np.flatnonzero(nexts)
    return edges, parallel.meanwhile(lambda: fill(edges))


def _least_nodes(noded: Noded, low: I64Array, high: I64Array) -> I64Array:
    """Return the lexicographically smallest node of each component that hangs together by edges."""
    # By union-find; the smallest number is the root, whatever the order of joining.
    root_of = np.arange(len(noded.node_x))
    kernels.run(kernels.pairs.join_roots, low, high, root_of)
    least = np.full(len(root_of), NONE, np.int64)
    kernels.run(kernels.arrange.find_least, root_of, noded.node_x, noded.node_y, least)
    return least[least != NONE]


def _link(noded: Noded, origin: I32Array) -> tuple[I32Array, I64Array, I64Array]:
    """Return the next half-edge of each, and the half-edges leaving each node by angle."""
    n_nodes = len(noded.node_x)
    # (2 n_edges,) half-edges by the node they leave; the angle is sorted within each node only.
    node_offsets, leaving = bucket(origin, n_nodes)
    busiest = int(np.diff(node_offsets).max(initial=0))
    following = np.empty(len(origin), np.int32)

    def link(first: int, stop: int) -> None:
        offsets = node_offsets[first : stop + 1]
        # Each thread has room of its own; nodes share nothing else, since a node's half-edges are
        # its own.
        spare = np.empty(max(1, busiest), np.int64)
        kernels.run(
            kernels.arrange.sort_around, offsets, leaving, origin, noded.node_x, noded.node_y, spare
        )
        kernels.run(kernels.arrange.link_around, offsets, leaving, following)

    parallel.each(link, parallel.parted(node_offsets))
    return following, leaving, node_offsets


def _nest(
    noded: Noded,
    least: I64Array,
    origin: I32Array,
    leaving: I64Array,
    node_offsets: I64Array,
    cycle_of: I32Array,
    n_cycles: int,
    locator: Locator,
) -> I64Array:
    """Number the faces: give each cycle its face, holes that of the face they lie in.

    One node of each component sees past all the rest of it: the ``least``.
    """
    # Nodes that no border meets (of lines, points) are components without edges.
    least = least[node_offsets[least] < node_offsets[least + 1]]
    outer = np.empty(len(least), np.int64)
    kernels.run(
        kernels.arrange.find_outer,
        least,
        node_offsets,
        leaving,
        origin,
        noded.node_x,
        noded.node_y,
        outer,
    )
    # What lies to the left of that node is of another component, or nothing is there.
    seen = np.full(len(least), NONE, np.int64)
    if len(least) > 1:  # a single component lies in none
        seen = locator.halfedges_left_of(2 * noded.node_x[least], 2 * noded.node_y[least])
    # An outer cycle has the face of the cycle it sees to its left; that may be an outer one too.
    above = np.arange(n_cycles + 1)  # the last stands for the outside
    above[cycle_of[outer]] = np.where(seen == NONE, n_cycles, cycle_of[seen])
    active = cycle_of[outer]
    # Pointer jumping: each pass about halves every chain of cycles that hang in each other.
    while active.size:
        higher = above[above[active]]
        is_open = above[active] != higher
        above[active] = higher
        active = active[is_open]
    face_of_cycle = np.zeros(n_cycles + 1, np.int64)
    # Inner borders of faces are their own top; faces are numbered in the order of their cycles, so
    # that numbers do not hang on the order of components.
    own = np.flatnonzero(above[:-1] == np.arange(n_cycles))
    face_of_cycle[own] = 1 + np.arange(len(own))
    return face_of_cycle[above[:-1]]


def _ways(face_of_halfedge: I32Array, n_faces: int) -> tuple[I64Array, I64Array]:
    """Return a tree over all faces: the half-edges through which it leads, there and back, by face.

    Those of face f are ``ways[offsets[f]:offsets[f + 1]]``. It is known before it is walked: edges in
    their order are near each other in memory, and a walk round each face waits for all of its own.
    """
    closes = np.empty(len(face_of_halfedge) // 2, np.uint8)
    sides = face_of_halfedge[0::2], face_of_halfedge[1::2]
    kernels.run(kernels.pairs.find_cycles, *sides, np.arange(n_faces), closes)
    edges = np.flatnonzero(closes == 0)
    ways = np.concatenate([2 * edges, 2 * edges + 1])
    offsets, order = bucket(face_of_halfedge[ways], n_faces)
    return offsets, ways[order]


def _wind(
    n_faces: int,
    face_of_halfedge: I32Array,
    deltas: Deltas,
    row_of_part: I64Array,
    n_rows: int,
    by_sign: bool,
) -> tuple[I64Array, I64Array, BoolArray]:
    """Return offsets and rows covering each face, and the rows found crossed."""
    ways = _ways(face_of_halfedge, n_faces)
    is_crossed = np.zeros(max(1, n_rows), np.uint8)
    label_spans = np.zeros((n_faces, 2), np.int64)
    n_parts = max(1, len(row_of_part))
    # A guess, of memory that is not taken before it is written to: eight covers a face, if there are so
    # many rows, or two where that is very much. Where it is too low the kernel says what it needs, and
    # walks once more.
    n_labels, needed = 0, max(n_faces * min(n_rows, 8 if n_faces < MANY_FACES else 2), 1)
    while needed > n_labels:
        n_labels = needed
        labels = np.empty(n_labels, np.int64)
        needed = kernels.run(
            kernels.arrange.wind_faces,
            face_of_halfedge,
            *ways,
            deltas.offsets,
            deltas.part,
            deltas.sign,
            row_of_part,
            int(by_sign),
            np.empty((n_faces, 2), np.int64),
            np.zeros(n_parts, np.int64),
            np.zeros((max(1, n_rows), 3), np.int64),
            label_spans,
            labels,
            is_crossed,
        )
    # Labels come in the order faces were met; they are brought to the order of faces, and sorted in
    # each.
    starts, counts = label_spans.T
    offsets, labels = offsets_from(counts), take_spans(labels, starts, counts)
    kernels.run(kernels.pairs.sort_groups, np.arange(max(1, n_rows)), offsets, labels)
    return offsets, labels, is_crossed[:n_rows].astype(bool)
