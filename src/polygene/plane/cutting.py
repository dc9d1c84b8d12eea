"""The pieces of an overlay as geometry, for INPUT of each family."""

from __future__ import annotations

import numpy as np

from polygene import parallel
from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    IntArray,
    count_by,
    offsets_from,
    owners,
    sum_by,
)
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn
from polygene.measures import Ruler
from polygene.plane import members as members_of
from polygene.plane.keys import Keyed, keyed
from polygene.plane.members import Alike, Members
from polygene.plane.overlay import Overlay, face_areas
from polygene.plane.proof import prove_pieces, prove_steps, proved_sums
from polygene.plane.rings import Pieces, rings_to_column, trace_rings
from polygene.plane.rules import Rule
from polygene.plane.steps import Steps, steps_of
from polygene.plane.sums import Sums
from polygene.plane.thinning import thinned


class Cut(NamedTuple):
    """What an overlay makes of the rows that take part in it.

    rows : (n_pieces, 1 + OTHERs) the rows each piece is of, as in `Keyed`
    geometry : (n_pieces) rows; meaningless for those that are whole
    node : (n_vertices,) the node of each vertex; None for points, which bring their own Z and M
    wholes : (n_pieces, 1 + OTHERs) whether the piece is all of its row of a layer, which may be taken
        as it was; of OTHERs only where INPUT has no part, and in a union
    size : (n_pieces,) area, length or points by the plan, in the ruler's unit
    own_size : (n_own_rows,) the same of each row of INPUT, whole
    own_covered : (n_own_rows,) as much of it as any OTHER covers
    touches : (n_own_rows,) the row meets OTHER somewhere, be it in a point of the border; asked for
        only of a clip
    is_crossed : (n_own_rows + n_other_rows,) rows whose rings cross themselves or one another
    n_steps : (n_own_rows,) noded edges that a row of lines runs over; 0 for others
    """

    rows: I64Array
    geometry: GeometryColumn
    node: IntArray | None
    wholes: BoolArray
    size: F64Array
    own_size: F64Array
    own_covered: F64Array
    touches: BoolArray
    is_crossed: BoolArray
    n_steps: I64Array

    @property
    def is_whole(self) -> BoolArray:
        """(n_pieces,) pieces that are all of some row."""
        return np.asarray(self.wholes.any(axis=1))


def cut(
    plan: Overlay, rule: Rule, other_starts: I64Array, ruler: Ruler, alike: Alike | None = None
) -> Cut:
    """Cut INPUT and the OTHERs as a rule says.

    ``other_starts`` (number of OTHERs + 1,) is where the rows of each begin among those of all. With
    ``alike`` only rows of one key have to do with each other.
    """
    return _BY_FAMILY[plan.own.family](plan, rule, other_starts, ruler, alike)


def _cut_polygons(
    plan: Overlay, rule: Rule, other_starts: I64Array, ruler: Ruler, alike: Alike | None
) -> Cut:
    n_rows, arrangement = plan.n_own_rows, plan.arrangement
    # Areas are not needed before the pieces are traced, and take as long as that.
    sums_found = parallel.meanwhile(lambda: _sums_and_areas(plan, ruler))
    # An item is a (face, row of INPUT) pair here; its members are the rows of OTHER over the face.
    faces = members_of.of_faces(plan)
    face, row = plan.own_labels()
    if rule.keeps_other:
        # What OTHER covers alone comes as items without a row of INPUT, put among the others by
        # face.
        has_own = np.zeros(arrangement.n_faces, bool)
        has_own[face] = True
        alone = np.flatnonzero(~has_own & (faces.counts > 0))
        order = np.argsort(np.concatenate([face, alone]), kind="stable")
        face = np.concatenate([face, alone])[order]
        row = np.concatenate([row, np.full(len(alone), NONE)])[order]
    over = faces.take(face)
    if alike is not None:
        over = alike.only(row, over)
    found = keyed(rule, row, over, other_starts)
    entry_face = face[found.item]
    # A piece that is all of a sound row is that row: it is not traced, so not a bit of it changes.
    wholes = _whole_pieces(
        plan=plan, found=found, item_row=row, faces=faces, other_starts=other_starts, rule=rule
    )
    keeps = ~np.asarray(wholes.any(axis=1))[found.piece]
    pieces = _sorted_pieces(entry_face[keeps], found.piece[keeps], arrangement.n_faces, found)
    rings = trace_rings(arrangement, pieces)
    # Nodes that other rows left on straight borders go again: INPUT keeps the vertices it had.
    rows, starts = _rows_in_plan(found, plan, other_starts), _starts_in_plan(plan, other_starts)
    kept = thinned(arrangement, plan.noded, rings, rows, plan.row_of_part, starts)
    face_sums, areas = sums_found()

    # Proved beside the writing of coordinates; a failure comes out when `proved` is asked below.
    def prove() -> None:
        wanted = face_sums.by_group(found.piece[keeps], entry_face[keeps], found.n_pieces)
        prove_pieces(plan, rings, kept, wanted)

    proved = parallel.meanwhile(prove)
    column, node = rings_to_column(arrangement, rings, kept, plan.node_xy, found.n_pieces)
    is_own = row != NONE
    own_face, own_row = face[is_own], row[is_own]
    # The balance asks how much of each row any OTHER covers, whatever the rule keeps.
    is_in = plan.is_covered[own_face] if alike is None else (over.counts > 0)[is_own]
    done = Cut(
        rows=found.rows,
        geometry=column,
        node=node,
        wholes=wholes,
        size=sum_by(found.piece, areas[entry_face], found.n_pieces),
        own_size=sum_by(own_row, areas[own_face], n_rows),
        own_covered=sum_by(own_row[is_in], areas[own_face[is_in]], n_rows),
        touches=(count_by(own_row[is_in], n_rows) > 0) | _meets_border(plan, rule),
        is_crossed=plan.row_is_crossed,
        n_steps=np.zeros(n_rows, np.int64),
    )
    proved()
    return done


def _sums_and_areas(plan: Overlay, ruler: Ruler) -> tuple[Sums, F64Array]:
    """Return the areas of faces as whole numbers, proved, and as they are told."""
    faces = proved_sums(plan)
    return faces, face_areas(plan, ruler, faces)


def _rows_in_plan(found: Keyed, plan: Overlay, other_starts: I64Array) -> I64Array:
    """Return the rows each piece is of, those of OTHERs counted as the plan does."""
    return np.where(found.rows == NONE, NONE, found.rows + _starts_in_plan(plan, other_starts))


def _starts_in_plan(plan: Overlay, other_starts: I64Array) -> I64Array:
    """Return where each layer's rows begin in the plan, (1 + OTHERs,): INPUT's at 0."""
    return np.concatenate([[0], plan.n_own_rows + other_starts[:-1]])


def _sorted_pieces(face: I64Array, piece: I64Array, n_faces: int, found: Keyed) -> Pieces:
    # Sorted already where each face has one row of INPUT; the sort is for overlaps.
    is_sorted = (face[1:] > face[:-1]) | ((face[1:] == face[:-1]) & (piece[1:] > piece[:-1]))
    if not is_sorted.all():
        order = np.lexsort((piece, face))
        face, piece = face[order], piece[order]
    return Pieces.of_sorted(face, piece, n_faces, found.n_pieces)


def _whole_pieces(
    plan: Overlay,
    found: Keyed,
    item_row: I64Array,
    faces: Members,
    other_starts: I64Array,
    rule: Rule,
) -> BoolArray:
    """Which pieces are all of a row that is sound, (n_pieces, layers): as many faces as the row has."""
    n_rows, is_crossed = plan.n_own_rows, plan.row_is_crossed
    # A piece is all of a row if it has as many faces as the row: its faces are some of the row's.
    n_entries = count_by(found.piece, found.n_pieces)
    has = found.rows != NONE
    n_faces = np.concatenate(
        [
            count_by(item_row[item_row != NONE], n_rows),
            count_by(faces.rows, len(is_crossed) - n_rows),
        ]
    )
    # Row 0 stands in for none; `has` takes those out again.
    row = np.where(has, _rows_in_plan(found, plan, other_starts), 0)
    wholes = has & (n_entries[:, None] == n_faces[row]) & ~is_crossed[row]
    if not rule.keeps_other:
        # INPUT's attributes, so INPUT's geometry.
        wholes[has[:, 0], 1:] = False
        wholes[~has[:, 0] & (has.sum(axis=1) > 1), :] = False
    return wholes


def _meets_border(plan: Overlay, rule: Rule) -> BoolArray:
    """Whether each row's border shares a node with OTHER's."""
    if rule.is_keyed_by_other or not rule.keeps_covered:
        return np.zeros(plan.n_own_rows, bool)
    arrangement, n_rows = plan.arrangement, plan.n_own_rows
    # A clip that keeps whole features asks who touches, be it in one point of the border: a node of
    # OTHER's border that INPUT's border has too.
    deltas = arrangement.deltas
    edge = owners(deltas.offsets)
    row = plan.row_of_part[deltas.part]
    is_other = row >= n_rows
    on_border = np.zeros(len(plan.noded.node_x), bool)
    on_border[arrangement.low[edge[is_other]]] = True
    on_border[arrangement.high[edge[is_other]]] = True
    own_edge, own_row = edge[~is_other], row[~is_other]
    hit = on_border[arrangement.low[own_edge]] | on_border[arrangement.high[own_edge]]
    return count_by(own_row[hit], n_rows) > 0


def _cut_lines(
    plan: Overlay, rule: Rule, other_starts: I64Array, ruler: Ruler, alike: Alike | None
) -> Cut:
    """Cut lines where they go in and out; what is of one piece is joined except at cuts.

    Closed lines have no start.
    """
    own, n_rows = plan.own, plan.n_own_rows
    # Steps of lines are items; so one rule serves faces, steps and points.
    steps = steps_of(plan)
    prove_steps(plan, steps)
    proved_sums(plan)
    members = members_of.of_steps(plan, steps, members_of.of_faces(plan))
    if alike is not None:
        members = alike.only(owners(own.ring_offsets_of_rows)[steps.path], members)
    # A ring of a line layer starts anywhere: without turning it, the piece across its start would
    # be two.
    order = _turned(plan, steps, members)
    steps, members = Steps(*(column[order] for column in steps)), members.take(order)
    row = owners(own.ring_offsets_of_rows)[steps.path]
    found = keyed(rule, row, members, other_starts)
    # Measured on the vertices' own coordinates: the balance is of what is written.
    length = ruler.lengths(_places(plan, steps, True), _places(plan, steps, False))
    is_in = members.counts > 0
    n_steps = count_by(row, n_rows)
    # All steps of the row in one piece: it was never cut.
    is_whole = count_by(found.piece, found.n_pieces) == n_steps[found.rows[:, 0]]
    column, node = _runs_to_column(plan, steps, found)
    # Touching includes ending on the border, which no step is inside of.
    on_border = members_of.covered_nodes(plan)
    meets = on_border[steps.start] | on_border[steps.stop] | is_in
    return Cut(
        rows=found.rows,
        geometry=column,
        node=node,
        wholes=_of_input(is_whole, found),
        size=sum_by(found.piece, length[found.item], found.n_pieces),
        own_size=sum_by(row, length, n_rows),
        own_covered=sum_by(row[is_in], length[is_in], n_rows),
        touches=count_by(row[meets], n_rows) > 0,
        is_crossed=plan.row_is_crossed,
        n_steps=n_steps,
    )


def _of_input(is_whole: BoolArray, found: Keyed) -> BoolArray:
    """Return (n_pieces, layers): those that are all of their row of INPUT."""
    wholes = np.zeros(found.rows.shape, bool)
    wholes[:, 0] = is_whole
    return wholes


def _places(plan: Overlay, steps: Steps, at_start: bool) -> F64Array:
    """Return the (n_steps, 2) coordinates of one end: the vertex's own where it is one."""
    vertex, node = (steps.vertex, steps.start) if at_start else (steps.next_vertex, steps.stop)
    xy = plan.node_xy.take(node, axis=0)
    xy[vertex != NONE] = plan.own.xy[vertex[vertex != NONE]]
    return xy


def _turned(plan: Overlay, steps: Steps, members: Members) -> I64Array:
    """Return the order of steps in which closed paths start where what covers them changes."""
    n_steps, n_paths = len(steps.path), plan.own.n_rings
    # Steps of a path follow each other: path p has offsets[p]:offsets[p + 1].
    counts = count_by(steps.path, n_paths)
    offsets = offsets_from(counts)
    k = np.arange(n_steps) - offsets[steps.path]
    before = np.where(k == 0, offsets[steps.path] + counts[steps.path] - 1, np.arange(n_steps) - 1)
    # Where what covers a step is not what covers the one before, cyclically.
    changes = np.flatnonzero(~_are_alike(members, before))
    has = np.flatnonzero(counts > 0)
    is_closed = np.zeros(n_paths, bool)
    is_closed[has] = steps.start[offsets[:-1][has]] == steps.stop[offsets[1:][has] - 1]
    first_change = offsets[:-1].copy()
    # Written backwards, so that of several the first stands.
    first_change[steps.path[changes][::-1]] = changes[::-1]
    shift = np.where(is_closed, first_change - offsets[:-1], 0)
    return offsets[steps.path] + (k + shift[steps.path]) % np.maximum(counts[steps.path], 1)


def _are_alike(members: Members, other: I64Array) -> BoolArray:
    """Whether each item has the same members as another one."""
    counts = members.counts
    # Counts first; members are compared for those only that have as many.
    alike = counts == counts[other]
    asked = np.flatnonzero(alike & (counts > 0))
    mine, theirs = members.take(asked), members.take(other[asked])
    differs = mine.rows != theirs.rows
    alike[asked[owners(mine.offsets)[differs]]] = False
    return alike


def _runs_to_column(plan: Overlay, steps: Steps, found: Keyed) -> tuple[GeometryColumn, I64Array]:
    """Join steps of one piece that follow each other; leave out nodes that are no vertices.

    Returns also the (n_vertices,) node of each vertex.
    """
    # By piece, steps in the order they are walked: a run is what follows without a gap.
    order = np.argsort(found.piece, kind="stable")
    at, piece = found.item[order], found.piece[order]
    path = steps.path[at]
    is_first = np.ones(len(at), bool)
    is_first[1:] = (np.diff(at) != 1) | (path[1:] != path[:-1]) | (piece[1:] != piece[:-1])
    is_last = np.ones(len(at), bool)
    is_last[:-1] = is_first[1:]
    # Nodes that are no vertex of the line are where strangers met it; inside a run they go.
    keeps = is_first | (steps.vertex[at] != NONE)
    # The start of each kept step, then the end of each last one.
    run = np.cumsum(is_first) - 1
    run_offsets = offsets_from(count_by(run[keeps], int(is_first.sum())) + 1)
    chosen = Steps(*(column[at] for column in steps))
    xy = np.empty((run_offsets[-1], 2))
    node = np.empty(len(xy), np.int64)
    # Each run is its kept starts, and behind them the end of its last step.
    is_end = np.zeros(len(xy), bool)
    is_end[run_offsets[1:] - 1] = True
    xy[~is_end], node[~is_end] = _places(plan, chosen, True)[keeps], chosen.start[keeps]
    xy[is_end], node[is_end] = _places(plan, chosen, False)[is_last], chosen.stop[is_last]
    parts = np.arange(len(run_offsets))
    column = GeometryColumn.from_parts(
        Family.LINES, xy, run_offsets, parts, piece[is_first], found.n_pieces
    )
    return column, node


def _cut_points(
    plan: Overlay, rule: Rule, other_starts: I64Array, ruler: Ruler, alike: Alike | None
) -> Cut:
    del ruler
    own, n_rows = plan.own, plan.n_own_rows
    proved_sums(plan)
    # Points on no border are located by the cells; on a border counts as inside.
    members = members_of.of_points(plan, members_of.of_faces(plan))
    row = owners(own.vertex_offsets_of_rows)
    if alike is not None:
        members = alike.only(row, members)
    found = keyed(rule, row, members, other_starts)
    order = np.argsort(found.piece, kind="stable")
    # Points are taken as they are, with their own coordinates, Z and M.
    column = own.take_parts(found.item[order], found.piece[order], found.n_pieces)
    count, before = count_by(found.piece, found.n_pieces), count_by(row, n_rows)
    inside = count_by(row[members.counts > 0], n_rows)
    return Cut(
        rows=found.rows,
        geometry=column,
        node=None,
        wholes=_of_input(count == before[found.rows[:, 0]], found),
        size=count.astype(np.float64),
        own_size=before.astype(np.float64),
        own_covered=inside.astype(np.float64),
        touches=inside > 0,
        is_crossed=plan.row_is_crossed,
        n_steps=np.zeros(n_rows, np.int64),
    )


_BY_FAMILY = {
    Family.POINTS: _cut_points,
    Family.LINES: _cut_lines,
    Family.POLYGONS: _cut_polygons,
}
