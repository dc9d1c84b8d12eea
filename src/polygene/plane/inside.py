"""The pieces of INPUT that OTHER covers: areas, stretches of line, points.

Every function takes an `Overlay` and returns a `Cut`. On OTHER's border counts as inside.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    count_by,
    offsets_from,
    owners,
    sum_by,
)
from polygene.geometry import Family, GeometryColumn
from polygene.measures import Ruler
from polygene.plane.overlay import Overlay, face_areas
from polygene.plane.rings import Pieces, rings_to_column, thinned, trace_rings
from polygene.plane.steps import Steps, steps_of


class Cut(NamedTuple):
    """What became of each row of INPUT.

    pieces : GeometryColumn of n_rows rows, what lies inside; meaningful for rows that are cut
    node : (n_vertices of pieces,) the node of each vertex; None for points, which bring their own
        Z and M
    is_whole : (n_rows,) all of the row lies inside: take it as it was
    is_cut : (n_rows,) some of it does
    touches : (n_rows,) the row meets OTHER somewhere, be it in a point of the border
    outside : (n_rows,) area, length or points that lie outside, in the ruler's unit
    before : (n_rows,) the same of the whole row, read by the rule for crossing rings
    is_crossed : (n_rows,) rows whose rings cross themselves or one another
    n_steps : (n_rows,) noded edges that a row of lines runs over; 0 for others
    """

    pieces: GeometryColumn
    node: I64Array | None
    is_whole: BoolArray
    is_cut: BoolArray
    touches: BoolArray
    outside: F64Array
    before: F64Array
    is_crossed: BoolArray
    n_steps: I64Array


def cut_polygons(plan: Overlay, ruler: Ruler) -> Cut:
    """Cut areas along OTHER's borders."""
    n_rows, arrangement = plan.n_own_rows, plan.arrangement
    face, row = plan.own_labels()
    inside = plan.is_covered[face]
    areas = face_areas(plan, ruler)
    has_inside = count_by(row[inside], n_rows) > 0
    has_outside = count_by(row[~inside], n_rows) > 0
    is_crossed = arrangement.is_crossed[:n_rows]
    is_whole = has_inside & ~has_outside & ~is_crossed
    # Rows to write as they were need no rings.
    is_piece = inside & ~is_whole[row]
    pieces = Pieces.of_sorted(face[is_piece], row[is_piece], arrangement.n_faces, n_rows)
    rings = trace_rings(arrangement, pieces)
    keeps = thinned(arrangement, plan.noded, rings, np.arange(n_rows), plan.row_of_part, n_rows)
    column, node = rings_to_column(arrangement, rings, keeps, plan.node_xy, n_rows)
    return Cut(
        column,
        node,
        is_whole,
        has_inside & ~is_whole,
        has_inside | _meets_border(plan),
        sum_by(row[~inside], areas[face[~inside]], n_rows),
        sum_by(row, areas[face], n_rows),
        is_crossed,
        np.zeros(n_rows, np.int64),
    )


def _meets_border(plan: Overlay) -> BoolArray:
    """Whether each row's border shares a node with OTHER's."""
    arrangement, n_rows = plan.arrangement, plan.n_own_rows
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


def cut_lines(plan: Overlay, ruler: Ruler) -> Cut:
    """Cut lines where OTHER's borders cross them; stretches along a border are inside.

    What lies inside is one line again except where it was cut; closed lines have no start.
    """
    own, n_rows = plan.own, plan.n_own_rows
    steps = steps_of(plan)
    covered = _covered_steps(plan, steps)
    row_of_path = owners(own.ring_offsets_of_rows)
    length = ruler.lengths(_places(plan, steps, True), _places(plan, steps, False))
    row = row_of_path[steps.path]
    has_inside = count_by(row[covered], n_rows) > 0
    has_outside = count_by(row[~covered], n_rows) > 0
    is_whole = has_inside & ~has_outside
    column, node = _runs_to_column(plan, *_turned(plan, steps, covered), row_of_path)
    on_border = _covered_nodes(plan)
    meets = on_border[steps.start] | on_border[steps.stop]
    return Cut(
        column,
        node,
        is_whole,
        has_inside & ~is_whole,
        has_inside | (count_by(row[meets], n_rows) > 0),
        sum_by(row[~covered], length[~covered], n_rows),
        sum_by(row, length, n_rows),
        np.zeros(n_rows, bool),
        count_by(row, n_rows),
    )


def _covered_steps(plan: Overlay, steps: Steps) -> BoolArray:
    """Whether OTHER covers each step: by the faces beside it on a border, else by its middle."""
    noded = plan.noded
    border = plan.arrangement.border_of_edge[steps.edge]
    covered = np.zeros(len(border), bool)
    on_border = border != NONE
    covered[on_border] = plan.covers_edges()[border[on_border]]
    off = np.flatnonzero(~on_border)
    covered[off] = plan.covers_points(
        noded.node_x[steps.start[off]] + noded.node_x[steps.stop[off]],
        noded.node_y[steps.start[off]] + noded.node_y[steps.stop[off]],
    )
    return covered


def _covered_nodes(plan: Overlay) -> BoolArray:
    """Return (n_nodes,): whether the node lies on a border with OTHER on some side."""
    arrangement = plan.arrangement
    covered = np.zeros(len(plan.noded.node_x), bool)
    edges = np.flatnonzero(plan.covers_edges())
    covered[arrangement.low[edges]] = True
    covered[arrangement.high[edges]] = True
    return covered


def _places(plan: Overlay, steps: Steps, at_start: bool) -> F64Array:
    """Return the (n_steps, 2) coordinates of one end: the vertex's own where it is one."""
    vertex, node = (steps.vertex, steps.start) if at_start else (steps.next_vertex, steps.stop)
    xy = plan.node_xy[node]
    xy[vertex != NONE] = plan.own.xy[vertex[vertex != NONE]]
    return xy


def _turned(plan: Overlay, steps: Steps, covered: BoolArray) -> tuple[Steps, BoolArray]:
    """Turn closed paths that are cut so that they start where they first come in after going out."""
    n_paths = plan.own.n_rings
    counts = count_by(steps.path, n_paths)
    offsets = offsets_from(counts)
    has_steps = np.flatnonzero(counts > 0)
    is_closed = np.zeros(n_paths, bool)
    is_closed[has_steps] = (
        steps.start[offsets[:-1][has_steps]] == steps.stop[offsets[1:][has_steps] - 1]
    )
    last_out = np.full(n_paths, NONE, np.int64)
    out = np.flatnonzero(~covered)
    last_out[steps.path[out]] = out  # the last one stays
    shift = np.where(is_closed & (last_out != NONE), last_out + 1 - offsets[:-1], 0)
    if not shift.any():
        return steps, covered
    k = np.arange(len(covered)) - offsets[steps.path]
    order = offsets[steps.path] + (k + shift[steps.path]) % counts[steps.path]
    return Steps(*(column[order] for column in steps)), covered[order]


def _runs_to_column(
    plan: Overlay, steps: Steps, covered: BoolArray, row_of_path: I64Array
) -> tuple[GeometryColumn, I64Array]:
    """Join covered steps that follow each other; leave out nodes that are no vertices.

    Returns also the (n_vertices,) node of each vertex.
    """
    n_rows = plan.n_own_rows
    inside = np.flatnonzero(covered)
    path = steps.path[inside]
    is_first = np.ones(len(inside), bool)
    is_first[1:] = (np.diff(inside) > 1) | (path[1:] != path[:-1])
    is_last = np.ones(len(inside), bool)
    is_last[:-1] = is_first[1:]
    is_vertex = steps.vertex[inside] != NONE
    keeps = is_first | is_vertex
    # The start of each kept step, then the end of each last one.
    run = np.cumsum(is_first) - 1
    n_points = count_by(run[keeps], int(is_first.sum())) + 1
    run_offsets = offsets_from(n_points)
    xy = np.empty((run_offsets[-1], 2))
    is_end = np.zeros(len(xy), bool)
    is_end[run_offsets[1:] - 1] = True
    chosen = Steps(*(column[inside] for column in steps))
    xy[~is_end] = _places(plan, chosen, True)[keeps]
    xy[is_end] = _places(plan, chosen, False)[is_last]
    node = np.empty(len(xy), np.int64)
    node[~is_end], node[is_end] = chosen.start[keeps], chosen.stop[is_last]
    row = row_of_path[path[is_first]]
    parts = np.arange(len(n_points) + 1)
    return GeometryColumn.from_parts(Family.LINES, xy, run_offsets, parts, row, n_rows), node


def cut_points(plan: Overlay, ruler: Ruler) -> Cut:
    """Keep the points inside, part by part."""
    own, noded, n_rows = plan.own, plan.noded, plan.n_own_rows
    node = noded.node_of_vertex[: own.n_vertices]
    on_border = np.zeros(len(noded.node_x), bool)
    arrangement = plan.arrangement
    on_border[arrangement.low] = on_border[arrangement.high] = True
    covered = _covered_nodes(plan)[node]
    off = ~on_border[node]
    covered[off] = plan.covers_points(2 * noded.node_x[node[off]], 2 * noded.node_y[node[off]])
    row = owners(own.vertex_offsets_of_rows)
    n_inside = count_by(row[covered], n_rows)
    before = count_by(row, n_rows)
    parts = np.flatnonzero(covered)
    return Cut(
        own.take_parts(parts, row[parts], n_rows),
        None,
        (n_inside == before) & (n_inside > 0),
        (n_inside < before) & (n_inside > 0),
        n_inside > 0,
        (before - n_inside).astype(np.float64),
        before.astype(np.float64),
        np.zeros(n_rows, bool),
        np.zeros(n_rows, np.int64),
    )


CUT_OF_FAMILY = {
    Family.POINTS: cut_points,
    Family.LINES: cut_lines,
    Family.POLYGONS: cut_polygons,
}
