"""Which rows of OTHER cover a face, a step of a line, a point.

On the border of OTHER's polygons counts as covered: a step along it, or a point on it, is covered by
whatever covers any face beside it. Lines cover the steps that run along them, points those at one
place with them.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    IntArray,
    count_by,
    number_pairs,
    offsets_from,
    owners,
    spans,
)
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn
from polygene.plane.arrangement import OUTSIDE
from polygene.plane.covering import cover
from polygene.plane.overlay import Overlay
from polygene.plane.steps import Steps


class Members(NamedTuple):
    """Rows of OTHER (counted from 0) that cover each item.

    Those of item i are ``rows[offsets[i]:offsets[i + 1]]``, rising; offsets are (n_items + 1,).
    """

    offsets: I64Array
    rows: I64Array

    @property
    def counts(self) -> I64Array:
        return np.diff(self.offsets)

    def take(self, items: IntArray) -> Members:
        """Return the members of chosen items (n,), in the order given."""
        counts = self.counts[items]
        return Members(offsets_from(counts), self.rows[spans(self.offsets[items], counts)])


class Alike(NamedTuple):
    """Keys of rows, where those of OTHER count only for rows of INPUT that have the same.

    own : (n_own_rows, OTHERs) a number for the key that each row has for each OTHER, NONE for none
    other : (n_other_rows,) the same of the rows of all OTHERs
    starts : (OTHERs + 1,) first row of each among those
    """

    own: I64Array
    other: I64Array
    starts: I64Array

    def only(self, own_row: I64Array, members: Members) -> Members:
        """Return those members of items that have the key of the row of INPUT of their item."""
        item = owners(members.offsets)
        layer = np.searchsorted(self.starts, members.rows, side="right") - 1
        mine = self.own[own_row[item], layer]
        kept = np.flatnonzero((mine != NONE) & (mine == self.other[members.rows]))
        return Members(
            offsets_from(count_by(item[kept], len(members.offsets) - 1)), members.rows[kept]
        )


def of_faces(plan: Overlay) -> Members:
    """Return the members of all faces."""
    labels, n_own = plan.arrangement.labels, plan.n_own_rows
    # OTHER's rows are numbered behind INPUT's in the labels; they rise within a face, so they do
    # here.
    is_other = labels >= n_own
    face = owners(plan.arrangement.label_offsets)[is_other]
    return Members(offsets_from(count_by(face, plan.arrangement.n_faces)), labels[is_other] - n_own)


def of_places(plan: Overlay, faces: Members, double_x: I64Array, double_y: I64Array) -> Members:
    """Return the members of (n,) points on no border, given by twice their grid coordinates."""
    return faces.take(_faces_at(plan, double_x, double_y))


def of_far_places(plan: Overlay, faces: Members, xy: F64Array) -> Members:
    """Return the members of map points (n, 2) that no border should come near: see `cover`."""
    x, y = plan.grid.to_units(xy)
    if plan.other.family != Family.POLYGONS or plan.arrangement.locator.is_built:
        return of_places(plan, faces, 2 * x, 2 * y)
    found = cover(plan.other, GeometryColumn.from_points(xy), plan.grid)
    left = np.flatnonzero(found.is_left)
    rest = of_places(plan, faces, 2 * x[left], 2 * y[left])
    point = np.concatenate([found.point, left[owners(rest.offsets)]])
    return distinct(point, np.concatenate([found.row, rest.rows]), len(xy))


def _faces_at(plan: Overlay, double_x: I64Array, double_y: I64Array) -> I64Array:
    seen = plan.arrangement.locator.halfedges_left_of(double_x, double_y)
    face = np.full(len(seen), OUTSIDE, np.int64)
    # What sees nothing to its left lies outside of everything.
    is_seen = seen != NONE
    face[is_seen] = plan.arrangement.face_of_halfedge[seen[is_seen]]
    return face


def of_steps(plan: Overlay, steps: Steps, faces: Members) -> Members:
    """Return the members of steps: of the faces beside one on a border, else of its middle's face."""
    if plan.other.family == Family.LINES:
        return of_edges(plan).take(steps.edge)
    noded, arrangement = plan.noded, plan.arrangement
    # A step on a border has two faces beside it, one on none lies in a single face.
    border = arrangement.border_of_edge[steps.edge]
    off = np.flatnonzero(border == NONE)
    face = np.full((len(border), 2), OUTSIDE, np.int64)
    middle = _faces_at(
        plan,
        noded.node_x[steps.start[off]] + noded.node_x[steps.stop[off]],
        noded.node_y[steps.start[off]] + noded.node_y[steps.stop[off]],
    )
    face[off] = middle[:, None]
    on = border != NONE
    face[on] = arrangement.face_of_halfedge.reshape(-1, 2)[border[on]]
    return _united(np.repeat(np.arange(len(border)), 2), face.reshape(-1), len(border), faces)


def of_edges(plan: Overlay) -> Members:
    """Return the rows of OTHER's lines that run over each noded edge."""
    theirs, first = plan.other_outline, len(plan.own_outline.start)
    # Given edges of OTHER come behind INPUT's.
    edge, given = plan.noded.edges_over(first + np.arange(len(theirs.start)))
    return distinct(edge, theirs.row_of_part[theirs.part[given - first]], len(plan.noded.low))


def _of_nodes(plan: Overlay) -> Members:
    """Return the rows of OTHER's points at each node."""
    node = plan.noded.node_of_vertex[plan.own.n_vertices :]
    row = owners(plan.other.vertex_offsets_of_rows)
    return distinct(node, row, len(plan.noded.node_x))


def of_points(plan: Overlay, faces: Members) -> Members:
    """Return the members of all vertices of INPUT, each taken as a point."""
    node = plan.noded.node_of_vertex[: plan.own.n_vertices]
    if plan.other.family == Family.POINTS:
        return _of_nodes(plan).take(node)
    item, face = faces_about(plan, node)
    return _united(item, face, len(node), faces)


def faces_about(plan: Overlay, node: IntArray) -> tuple[I64Array, I64Array]:
    """Return item and face of all faces that the (n,) nodes lie in or on the border of."""
    noded, arrangement = plan.noded, plan.arrangement
    # A node with half-edges is on a border: its faces are those to the left of what leaves it.
    is_wanted = np.zeros(len(noded.node_x), bool)
    is_wanted[node] = True
    leaving = np.flatnonzero(is_wanted[arrangement.origin])
    leaving = leaving[np.argsort(arrangement.origin[leaving], kind="stable")]
    offsets = offsets_from(count_by(arrangement.origin[leaving], len(noded.node_x)))
    is_on = np.diff(offsets)[node] > 0
    off = np.flatnonzero(~is_on)
    face_off = _faces_at(plan, 2 * noded.node_x[node[off]], 2 * noded.node_y[node[off]])
    # All faces about a node on a border.
    on = np.flatnonzero(is_on)
    counts = np.diff(offsets)[node[on]]
    about = leaving[spans(offsets[node[on]], counts)]
    item = np.concatenate([off, np.repeat(on, counts)])
    return item, np.concatenate([face_off, arrangement.face_of_halfedge[about]])


def _united(item: I64Array, face: I64Array, n_items: int, faces: Members) -> Members:
    """Unite the members of several faces for each item."""
    # A face may come for an item from both sides, and a row by several faces: each counts once.
    counts = faces.counts[face]
    rows = faces.rows[spans(faces.offsets[face], counts)]
    return distinct(np.repeat(item, counts), rows, n_items)


def distinct(item: IntArray, row: I64Array, n_items: int) -> Members:
    """Group (n_pairs,) of item and row by item, each pair once."""
    firsts = number_pairs(item, row).firsts
    item, row = item[firsts], row[firsts]
    # Rising rows within an item, which keys rest on.
    order = np.lexsort((row, item))
    return Members(offsets_from(count_by(item, n_items)), row[order])


def covered_nodes(plan: Overlay) -> BoolArray:
    """Return (n_nodes,): whether the node lies on a border with OTHER on some side."""
    arrangement = plan.arrangement
    beside = plan.is_covered[arrangement.face_of_halfedge]
    edges = np.flatnonzero(beside[0::2] | beside[1::2])
    covered = np.zeros(len(plan.noded.node_x), bool)
    covered[arrangement.low[edges]] = True
    covered[arrangement.high[edges]] = True
    return covered
