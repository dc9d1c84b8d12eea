"""Borders of groups taken out of an arrangement edge by edge, and put together again elsewhere.

An arrangement of a part of a layer knows which edges border a group, but not its whole rings. So each
part of the work gives the edges of its own rows, directed, with the group to their left; all together
they are the borders of the whole, noded already, and rings are traced from them as ever.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import NONE, BoolArray, F64Array, I32Array, I64Array, number_pairs, owners
from polygene.classes import NamedTuple
from polygene.errors import BalanceError
from polygene.geometry import GeometryColumn
from polygene.measures import Ruler
from polygene.plane import sums
from polygene.plane.arrangement import Arrangement, Borders, arrange
from polygene.plane.grid import Grid
from polygene.plane.noding import Noded
from polygene.plane.overlay import Overlay
from polygene.plane.proof import prove_pieces
from polygene.plane.rings import Pieces, Rings, rings_to_column, trace_rings
from polygene.plane.thinning import ends_of_lines, kept_nodes, straight_lines


class LooseBorders(NamedTuple):
    """Directed edges (n,), each with a group to its left and not to its right.

    x, y, to_x, to_y : where each begins and ends, in steps of the grid from the origin of the map
    xy : (n, 2) map coordinates that its beginning is written with
    line : (n, 4) ends of the line that runs straight on through its beginning, where that is no vertex
        of the group; the least integer for none
    """

    x: I64Array
    y: I64Array
    to_x: I64Array
    to_y: I64Array
    xy: F64Array
    line: I64Array

    def take(self, rows: I64Array) -> LooseBorders:
        return LooseBorders(
            self.x[rows],
            self.y[rows],
            self.to_x[rows],
            self.to_y[rows],
            self.xy[rows],
            self.line[rows],
        )

    @staticmethod
    def nothing() -> LooseBorders:
        none = np.zeros(0, np.int64)
        return LooseBorders(none, none, none, none, np.zeros((0, 2)), np.zeros((0, 4), np.int64))


NO_LINE = np.iinfo(np.int64).min


class TakenOut(NamedTuple):
    """Loose borders with the group of each, and the lowest row of that group beside it."""

    borders: LooseBorders
    group: I64Array
    row: I64Array


def taken_out(plan: Overlay, group_of_row: I64Array, n_groups: int) -> TakenOut:
    """Take the borders of groups of rows out of the arrangement of their layer alone."""
    arrangement = plan.arrangement
    face, row = plan.own_labels()
    entry = face * n_groups + group_of_row[row]
    # Rows rise within a face, so the first of an entry is its lowest.
    entries, firsts = np.unique(entry, return_index=True)
    pieces = Pieces.of_sorted(
        entries // n_groups, entries % n_groups, arrangement.n_faces, n_groups
    )
    rings = trace_rings(arrangement, pieces)
    line_at = straight_lines(
        arrangement,
        plan.noded,
        rings,
        np.arange(n_groups)[:, None],
        group_of_row[plan.row_of_part],
    )
    halfedge = rings.halfedge
    group = rings.piece[owners(rings.offsets)]
    beside = arrangement.face_of_halfedge[halfedge] * np.int64(n_groups) + group
    lowest = row[firsts[np.searchsorted(entries, beside)]]
    start, stop = arrangement.origin[halfedge], arrangement.origin[halfedge ^ 1]
    x, y = plan.noded.node_x + plan.grid.origin_x, plan.noded.node_y + plan.grid.origin_y
    borders = LooseBorders(
        x[start], y[start], x[stop], y[stop], plan.node_xy[start], _ends_of(plan, line_at)
    )
    return TakenOut(borders, group, lowest)


def _ends_of(plan: Overlay, line: I32Array) -> I64Array:
    """Return the ends of lines (n, 4), by which they are known in every part."""
    found = np.full((len(line), 4), NO_LINE)
    has = np.flatnonzero(line != NONE)
    origin = [plan.grid.origin_x, plan.grid.origin_y]
    found[has] = ends_of_lines(plan.noded, line[has]) + np.array(origin * 2)
    return found


class Together(NamedTuple):
    """Groups put together: (n_groups) rows, and the area of each in the ruler's unit."""

    geometry: GeometryColumn
    sizes: F64Array


class _Alone(NamedTuple):
    arrangement: Arrangement


def put_together(
    borders: LooseBorders, group: I64Array, n_groups: int, grid: Grid, ruler: Ruler
) -> Together:
    """Trace the rings of groups (n,) from their borders, and prove them.

    Raises
    ------
    BalanceError
        If the borders of a group are not closed, or its rings do not enclose its faces.
    """
    x, y = borders.x - grid.origin_x, borders.y - grid.origin_y
    to_x, to_y = borders.to_x - grid.origin_x, borders.to_y - grid.origin_y
    n = len(x)
    nodes = number_pairs(np.concatenate([x, to_x]), np.concatenate([y, to_y]))
    start, stop = nodes.numbers[:n], nodes.numbers[n:]
    all_x, all_y = np.concatenate([x, to_x]), np.concatenate([y, to_y])
    node_x, node_y = all_x[nodes.firsts], all_y[nodes.firsts]
    _check_closed(start, stop, group)
    is_back = (x > to_x) | ((x == to_x) & (y > to_y))
    low, high = np.where(is_back, stop, start), np.where(is_back, start, stop)
    edges = number_pairs(low, high)
    line_of_given = edges.numbers.astype(np.int32)
    noded = _noded(node_x, node_y, low[edges.firsts], high[edges.firsts], line_of_given, is_back)
    arrangement = arrange(
        noded,
        Borders(
            np.arange(n, dtype=np.int32),
            group.astype(np.int32),
            np.ones(n, np.int8),
            np.arange(n_groups),
        ),
        n_groups,
    )
    face = owners(arrangement.label_offsets)
    pieces = Pieces.of_sorted(face, arrangement.labels, arrangement.n_faces, n_groups)
    rings = trace_rings(arrangement, pieces)
    ends = _lines_of(arrangement, rings, borders, group, edges.numbers, is_back)
    origin = np.array([grid.origin_x, grid.origin_y] * 2)
    keeps = kept_nodes(rings, _numbered(ends), lambda items: ends[items] - origin)
    node_xy = np.zeros((len(node_x), 2))
    node_xy[start] = borders.xy
    geometry, _ = rings_to_column(arrangement, rings, keeps, node_xy, n_groups)
    faces = sums.of_faces(arrangement)
    wanted = faces.by_group(arrangement.labels, face, n_groups)
    prove_pieces(_Alone(arrangement), rings, keeps, wanted, "group")
    areas = sums.areas_of(faces, arrangement, node_xy, grid, ruler)
    sizes = np.zeros(n_groups)
    np.add.at(sizes, arrangement.labels, areas[face])
    return Together(geometry, sizes)


def _check_closed(start: I64Array, stop: I64Array, group: I64Array) -> None:
    """Prove that nothing is missing: as many edges of a group leave each node as come to it."""
    at = number_pairs(np.concatenate([group, group]), np.concatenate([start, stop])).numbers
    n = len(start)
    balance = np.bincount(at[:n], minlength=int(at.max(initial=-1)) + 1)
    balance -= np.bincount(at[n:], minlength=len(balance))
    wrong = np.flatnonzero(balance)
    if len(wrong):
        raise BalanceError(
            f"borders at {len(wrong):,} places were lost between parts of the work: a group is open"
        )


def _noded(
    node_x: I64Array,
    node_y: I64Array,
    low: I64Array,
    high: I64Array,
    line_of_given: I32Array,
    is_reversed: BoolArray,
) -> Noded:
    """Return edges that meet in nodes only as a noding has them."""
    nothing = np.zeros(len(node_x), bool)
    return Noded(
        node_x=node_x,
        node_y=node_y,
        node_of_vertex=np.arange(len(node_x), dtype=np.int32),
        low=low,
        high=high,
        line_of_given=line_of_given,
        is_given_reversed=is_reversed,
        step_offsets=np.arange(len(low) + 1),
        step_edge=np.arange(len(low), dtype=np.int32),
        is_step_reversed=np.zeros(len(low), bool),
        stays=nothing,
        is_crowded=np.zeros(len(low), bool),
        is_passed=nothing,
    )


def _lines_of(
    arrangement: Arrangement,
    rings: Rings,
    borders: LooseBorders,
    group: I64Array,
    edge: I64Array,
    is_back: BoolArray,
) -> I64Array:
    """Return for each item of the rings the ends of the line through its beginning, (n_items, 4)."""
    n_groups = int(group.max(initial=0)) + 1
    halfedge = 2 * arrangement.border_of_edge[edge].astype(np.int64) + is_back
    own = halfedge * n_groups + group
    order = np.argsort(own)
    wanted = rings.halfedge * np.int64(n_groups) + rings.piece[owners(rings.offsets)]
    given = order[np.searchsorted(own[order], wanted)]
    return borders.line[given]


def _numbered(ends: I64Array) -> I64Array:
    """Return lines numbered by their ends (n, 4); NONE for none."""
    first = number_pairs(ends[:, 0], ends[:, 1]).numbers
    last = number_pairs(ends[:, 2], ends[:, 3]).numbers
    return np.where(ends[:, 0] == NO_LINE, NONE, number_pairs(first, last).numbers)
