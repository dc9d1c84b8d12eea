"""How the rows of two layers lie to each other: the nine-intersection matrix of all pairs that meet.

Both layers are noded together. Each row is then a set of cells of the plane: faces, edges and nodes, in
its inside or on its boundary. Two rows meet in the cells they share, and what one has of its own lies
in the other's outside (Egenhofer and Herring 1991; OGC 06-103r4, 6.1.15). Boundaries of lines are by
the mod-2 rule.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from polygene import parallel
from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    IntArray,
    bucket,
    count_by,
    number_pairs,
    offsets_from,
    owners,
    spans,
)
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn
from polygene.measures import PlaneRuler, Ruler
from polygene.plane import sums
from polygene.plane.arrangement import OUTSIDE, Arrangement, Borders, arrange
from polygene.plane.borders import Outline, outline
from polygene.plane.covering import cover
from polygene.plane.grid import Grid
from polygene.plane.near_boxes import NEAR, NearBoxes
from polygene.plane.noding import Noded, node_edges
from polygene.plane.portions import Portion, portions
from polygene.plane.sound import plainly_sound
from polygene.plane.sums import Sums

INSIDE, BOUNDARY = 0, 1
NOTHING = -1  # the dimension of an empty intersection
# A point within an area: it is all inside, and the area's inside and boundary lie outside it.
_POINT_INSIDE = np.array([[0, -1, -1], [-1, -1, -1], [2, 1, 2]], np.int8)


class Pairs(NamedTuple):
    """Pairs of rows that have a point in common.

    first, second : (n,) rows, sorted
    matrix : (n, 3, 3) int8, the dimension of what inside, boundary and outside of the first share with
        those of the second, NOTHING for nothing
    shared : (n,) area that both cover, in square grid units, or as a ruler has it
    """

    first: I64Array
    second: I64Array
    matrix: np.ndarray
    shared: F64Array

    def only(self, kept: BoolArray) -> Pairs:
        return Pairs(self.first[kept], self.second[kept], self.matrix[kept], self.shared[kept])


class _Cells(NamedTuple):
    """Cells of one dimension that rows have: ``place`` is INSIDE or BOUNDARY."""

    cell: IntArray
    row: I64Array
    place: I64Array


class _Plane(NamedTuple):
    noded: Noded
    arrangement: Arrangement
    left: I64Array  # (n noded edges,) the face on each side
    right: I64Array
    face_of_lone: I64Array  # (n_nodes,) of nodes on no edge, else NONE
    areas: Sums  # (n_faces,) in whole numbers of a unit: what shares as much is equal
    unit: float


def relate(
    first: GeometryColumn, second: GeometryColumn, grid: Grid, ruler: Ruler | None = None
) -> Pairs:
    """Return all pairs of rows that meet, with their matrices; areas as a ruler has them, if given."""
    if _are_points_and_areas(first, second):
        return _with_points(first, second, grid, ruler)
    return _noded(first, second, grid, ruler)


def _are_points_and_areas(first: GeometryColumn, second: GeometryColumn) -> bool:
    """Whether one side is of single points and the other of polygons that are plainly valid."""
    families = {first.family: first, second.family: second}
    points, areas = families.get(Family.POINTS), families.get(Family.POLYGONS)
    if points is None or areas is None or (np.diff(points.vertex_offsets_of_rows) > 1).any():
        return False
    return bool(plainly_sound(areas).all())


def _with_points(
    first: GeometryColumn, second: GeometryColumn, grid: Grid, ruler: Ruler | None
) -> Pairs:
    """Relate points, of which most lie near no border, to polygons."""
    is_first = first.family == Family.POINTS
    points, areas = (first, second) if is_first else (second, first)
    found = cover(areas, points, grid)
    row_of_point = owners(points.vertex_offsets_of_rows)
    far = row_of_point[found.point], found.row
    near, beside = _near_points(areas, points, row_of_point[found.is_left], grid)
    if is_first:
        rest = _noded(first.take(near), second.take(beside), grid, ruler)
        rest = rest._replace(first=near[rest.first], second=beside[rest.second])
    else:
        rest = _noded(first.take(beside), second.take(near), grid, ruler)
        rest = rest._replace(first=beside[rest.first], second=near[rest.second])
    matrix = np.tile(_POINT_INSIDE if is_first else _POINT_INSIDE.T, (len(far[0]), 1, 1))
    a, b = far if is_first else far[::-1]
    return _sorted([Pairs(a, b, matrix, np.zeros(len(a))), rest], first.n_rows, second.n_rows)


def _near_points(
    areas: GeometryColumn, points: GeometryColumn, rows: I64Array, grid: Grid
) -> tuple[I64Array, I64Array]:
    """Return the rows of points once each, rising, and the rows of areas whose boxes come near any."""
    is_near = np.zeros(points.n_rows, bool)
    is_near[rows] = True
    near = np.flatnonzero(is_near)
    boxes = NearBoxes(points.row_bounds()[near], NEAR * grid.step)
    return near, np.flatnonzero(boxes.meets(areas.row_bounds()))


def _noded(first: GeometryColumn, second: GeometryColumn, grid: Grid, ruler: Ruler | None) -> Pairs:
    """Relate rows of any kind, in tiles."""

    # Portions are tiles of pairs whose boxes meet; what two rows are to each other depends on what is
    # near them alone, so each tile is an arrangement of its own.
    def look(portion: Portion) -> Pairs:
        found = _relate(first.take(portion.first), second.take(portion.second), grid, ruler)
        kept = portion.is_asked[(found.first, found.second)[portion.own]]
        if not kept.all():
            found = found.only(kept)
        return found._replace(first=portion.first[found.first], second=portion.second[found.second])

    # What is within a grid unit may meet on the grid though the boxes do not.
    found = parallel.each_of(look, portions(first, second, NEAR * grid.step))
    return _sorted(found, first.n_rows, second.n_rows)


def _sorted(found: Sequence[Pairs], n_first: int, n_second: int) -> Pairs:
    """Return all pairs by first, then second, whatever the portions were: two counting sorts."""
    a, b, matrix, shared = (np.concatenate(columns) for columns in zip(*found, strict=True))
    by_second = bucket(b, n_second).order
    order = by_second[bucket(a[by_second], n_first).order]
    return Pairs(a[order], b[order], matrix.take(order, axis=0), shared[order])


def _relate(
    first: GeometryColumn, second: GeometryColumn, grid: Grid, ruler: Ruler | None
) -> Pairs:
    sides = [outline(first, grid), outline(second, grid)]
    plane = _plane(first, second, sides)
    areas, unit = _areas(plane.arrangement, grid, ruler)
    plane = plane._replace(areas=areas, unit=unit)
    mine = _cells_of(
        plane=plane, column=first, side=sides[0], first_vertex=0, first_given=0, first_row=0
    )
    theirs = _cells_of(
        plane=plane,
        column=second,
        side=sides[1],
        first_vertex=first.n_vertices,
        first_given=len(sides[0].start),
        first_row=first.n_rows,
    )
    return _matrices(mine, theirs, plane, first, second)


def _plane(first: GeometryColumn, second: GeometryColumn, sides: list[Outline]) -> _Plane:
    a, b = sides
    # Both layers as one set of edges, the second's numbers behind the first's.
    n_vertices = first.n_vertices
    start = np.concatenate([a.start, b.start + n_vertices])
    stop = np.concatenate([a.stop, b.stop + n_vertices])
    noded = node_edges(
        np.concatenate([a.x, b.x]),
        np.concatenate([a.y, b.y]),
        start,
        stop,
        np.ones(len(start), bool),
    )
    # Edges of lines bound nothing (sign 0), but are noded with all others: lines meet in nodes.
    sign = np.concatenate([a.sign, b.sign])
    part = np.concatenate([a.part, b.part + first.n_parts])
    given = np.flatnonzero(sign)
    row_of_part = np.concatenate([a.row_of_part, b.row_of_part + first.n_rows])
    borders = Borders(given.astype(np.int32), part[given], sign[given], row_of_part)
    arrangement = arrange(noded, borders, first.n_rows + second.n_rows)
    border = arrangement.border_of_edge
    # The face on each side of every noded edge; an edge that bounds nothing has one face round it.
    left = np.full(len(border), OUTSIDE)
    right = left.copy()
    on = border != NONE
    faces = arrangement.face_of_halfedge.reshape(-1, 2)
    left[on], right[on] = faces[border[on]].T
    off = np.flatnonzero(~on)
    # Twice the middle of an edge is a grid point, so its face can be asked exactly.
    x = noded.node_x[noded.low[off]] + noded.node_x[noded.high[off]]
    y = noded.node_y[noded.low[off]] + noded.node_y[noded.high[off]]
    left[off] = right[off] = _faces_at(arrangement, x, y)
    # Nodes of points and of lines without length lie on no edge; they lie in a face or are asked
    # like one.
    degree = count_by(np.concatenate([noded.low, noded.high]), len(noded.node_x))
    lone = np.flatnonzero(degree == 0)
    face_of_lone = np.full(len(noded.node_x), NONE)
    face_of_lone[lone] = _faces_at(arrangement, 2 * noded.node_x[lone], 2 * noded.node_y[lone])
    return _Plane(
        noded=noded,
        arrangement=arrangement,
        left=left,
        right=right,
        face_of_lone=face_of_lone,
        areas=Sums.zeros(0),
        unit=1.0,
    )


def _faces_at(arrangement: Arrangement, x: I64Array, y: I64Array) -> I64Array:
    seen = arrangement.locator.halfedges_left_of(x, y)
    face = np.full(len(seen), OUTSIDE)
    face[seen != NONE] = arrangement.face_of_halfedge[seen[seen != NONE]]
    return face


def _areas(arrangement: Arrangement, grid: Grid, ruler: Ruler | None) -> tuple[Sums, float]:
    """Return the (n_faces,) areas in whole numbers of a unit: square grid units, or the ruler's."""
    if len(arrangement.low) == 0:
        return Sums.zeros(arrangement.n_faces), 1.0
    if ruler is None or isinstance(ruler, PlaneRuler):
        size = 1.0 if ruler is None else grid.step * ruler.map_unit
        return sums.of_faces(arrangement), 0.5 * size**2
    xy = grid.to_map(arrangement.node_x, arrangement.node_y)
    return sums.of_strips(arrangement, xy, ruler), sums.SHARE


def _cells_of(
    plane: _Plane,
    column: GeometryColumn,
    side: Outline,
    first_vertex: int,
    first_given: int,
    first_row: int,
) -> list[_Cells]:
    """Return the nodes, edges and faces of the rows of one layer."""
    if column.family == Family.POLYGONS:
        return _of_polygons(plane, first_row, column.n_rows)
    noded = plane.noded
    if column.family == Family.POINTS:
        node = noded.node_of_vertex[first_vertex : first_vertex + column.n_vertices]
        row = owners(column.vertex_offsets_of_rows)
        # A cell counts once for a row, however often its rings or points come there.
        firsts = number_pairs(node, row).firsts
        nodes = _Cells(node[firsts], row[firsts], np.full(len(firsts), INSIDE))
        return [nodes, _none(), _none()]
    return _of_lines(plane, column, side, first_vertex, first_given)


def _none() -> _Cells:
    nothing = np.zeros(0, np.int64)
    return _Cells(nothing, nothing, nothing)


def _of_lines(
    plane: _Plane, column: GeometryColumn, side: Outline, first_vertex: int, first_given: int
) -> list[_Cells]:
    noded = plane.noded
    # The noded edges that a row runs over.
    edge, given = noded.edges_over(first_given + np.arange(len(side.start)))
    row = side.row_of_part[side.part[given - first_given]]
    firsts = number_pairs(edge, row).firsts
    edge, row = edge[firsts], row[firsts]
    # Nodes of the row: the ends of all its steps, and vertices of lines that have no length.
    ends = np.concatenate([noded.low[edge], noded.high[edge]])
    vertices = noded.node_of_vertex[first_vertex : first_vertex + column.n_vertices]
    node = np.concatenate([ends, vertices])
    node_row = np.concatenate([row, row, owners(column.vertex_offsets_of_rows)])
    firsts = number_pairs(node, node_row).firsts
    node, node_row = node[firsts], node_row[firsts]
    # The boundary: where an odd number of the row's paths ends.
    has = np.flatnonzero(np.diff(column.ring_offsets) > 0)
    tips = np.concatenate([column.ring_offsets[has], column.ring_offsets[has + 1] - 1])
    tip_row = np.tile(owners(column.ring_offsets_of_rows)[has], 2)
    # Ends of paths are counted by (node, row): odd is boundary by the mod-2 rule.
    both = number_pairs(np.concatenate([node, vertices[tips]]), np.concatenate([node_row, tip_row]))
    odd = count_by(both.numbers[len(node) :], len(both.firsts)) % 2 == 1
    place = np.where(odd[both.numbers[: len(node)]], BOUNDARY, INSIDE)
    return [_Cells(node, node_row, place), _Cells(edge, row, np.full(len(edge), INSIDE)), _none()]


def _of_polygons(plane: _Plane, first_row: int, n_rows: int) -> list[_Cells]:
    arrangement, noded = plane.arrangement, plane.noded
    labels = arrangement.labels
    # Labels are rows of both layers; here only this one's.
    is_mine = (labels >= first_row) & (labels < first_row + n_rows)
    face = owners(arrangement.label_offsets)[is_mine]
    row = labels[is_mine] - first_row
    faces = _Cells(face, row, np.full(len(face), INSIDE))
    # An edge is inside a row that covers both its sides, on the boundary of one that covers one.
    offsets = offsets_from(count_by(face, arrangement.n_faces))
    sides = []
    # For each side of each edge, the rows over the face there.
    for side in (plane.left, plane.right):
        counts = np.diff(offsets)[side]
        sides.append((np.repeat(np.arange(len(side)), counts), row[spans(offsets[side], counts)]))
    edge = np.concatenate([s[0] for s in sides])
    edge_row = np.concatenate([s[1] for s in sides])
    pairs = number_pairs(edge, edge_row)
    # Met from both sides: inside. From one: on the boundary.
    times = count_by(pairs.numbers, len(pairs.firsts))
    edge, edge_row = edge[pairs.firsts], edge_row[pairs.firsts]
    place = np.where(times == 2, INSIDE, BOUNDARY)
    # A node is on the boundary if an edge there is.
    node = np.concatenate([noded.low[edge], noded.high[edge]])
    node_row, node_place = np.tile(edge_row, 2), np.tile(place, 2)
    # Nodes on no edge are inside whatever covers their face.
    lone = np.flatnonzero(plane.face_of_lone != NONE)
    counts = np.diff(offsets)[plane.face_of_lone[lone]]
    node = np.concatenate([node, np.repeat(lone, counts)])
    node_row = np.concatenate([node_row, row[spans(offsets[plane.face_of_lone[lone]], counts)]])
    node_place = np.concatenate([node_place, np.full(int(counts.sum()), INSIDE)])
    pairs = number_pairs(node, node_row)
    on_boundary = count_by(pairs.numbers[node_place == BOUNDARY], len(pairs.firsts)) > 0
    nodes = _Cells(
        node[pairs.firsts], node_row[pairs.firsts], np.where(on_boundary, BOUNDARY, INSIDE)
    )
    return [nodes, _Cells(edge, edge_row, place), faces]


def _matrices(
    mine: list[_Cells],
    theirs: list[_Cells],
    plane: _Plane,
    first: GeometryColumn,
    second: GeometryColumn,
) -> Pairs:
    # For nodes, edges and faces: pairs of a row of each side that have the cell.
    joins = [_joined(a.cell, b.cell) for a, b in zip(mine, theirs, strict=True)]
    row_a = np.concatenate([c.row[i] for c, (i, _) in zip(mine, joins, strict=True)])
    row_b = np.concatenate([c.row[j] for c, (_, j) in zip(theirs, joins, strict=True)])
    place_a = np.concatenate([c.place[i] for c, (i, _) in zip(mine, joins, strict=True)])
    place_b = np.concatenate([c.place[j] for c, (_, j) in zip(theirs, joins, strict=True)])
    dimension = np.repeat(np.arange(3), [len(i) for i, _ in joins])
    face = mine[2].cell[joins[2][0]].astype(np.int64, copy=False)
    pairs = number_pairs(row_a, row_b)
    n = len(pairs.firsts)
    matrix = np.full((n, 3, 3), NOTHING, np.int8)
    # The dimension of an intersection is that of the largest cell in it.
    np.maximum.at(matrix, (pairs.numbers, place_a, place_b), dimension.astype(np.int8))
    # The outsides of two rows share all the rest of the plane.
    matrix[:, 2, 2] = 2
    a, b = row_a[pairs.firsts], row_b[pairs.firsts]
    _outsides(
        matrix=matrix,
        cells=mine,
        pair=pairs.numbers,
        row_of_pair=a,
        place=place_a,
        dimension=dimension,
        n_rows=first.n_rows,
        axis=0,
    )
    _outsides(
        matrix=matrix,
        cells=theirs,
        pair=pairs.numbers,
        row_of_pair=b,
        place=place_b,
        dimension=dimension,
        n_rows=second.n_rows,
        axis=1,
    )
    shared = plane.areas.by_group(pairs.numbers[dimension == 2], face, n)
    return Pairs(a, b, matrix, shared.to_float() * plane.unit)


def _joined(a: IntArray, b: IntArray) -> tuple[I64Array, I64Array]:
    """Return all pairs of indices with equal cells."""
    if len(a) == 0 or len(b) == 0:
        nothing = np.zeros(0, np.int64)
        return nothing, nothing
    grouped = bucket(b, int(max(a.max(), b.max())) + 1)
    counts = np.diff(grouped.offsets)[a]
    return np.repeat(np.arange(len(a)), counts), grouped.order[spans(grouped.offsets[a], counts)]


def _outsides(
    matrix: np.ndarray,
    cells: list[_Cells],
    pair: I64Array,
    row_of_pair: I64Array,
    place: I64Array,
    dimension: I64Array,
    n_rows: int,
    axis: int,
) -> None:
    """Set what inside and boundary of one side have in the other's outside: cells not shared."""
    n = len(row_of_pair)
    for d, of_dimension in enumerate(cells):
        for p in (INSIDE, BOUNDARY):
            # Cells that a row has, less those it shares with the other: what is left lies outside
            # the other.
            total = count_by(of_dimension.row[of_dimension.place == p], n_rows)
            common = count_by(pair[(dimension == d) & (place == p)], n)
            has_own = total[row_of_pair] > common
            at = (has_own, p, 2) if axis == 0 else (has_own, 2, p)
            matrix[at] = np.maximum(matrix[at], d)
