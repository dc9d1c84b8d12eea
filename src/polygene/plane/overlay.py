"""Two columns laid over each other in one arrangement: INPUT's rows and OTHER's."""

from __future__ import annotations

import numpy as np

from polygene import parallel
from polygene.arrays import BoolArray, F64Array, I64Array, appended, owners
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn
from polygene.measures import Ruler
from polygene.plane import selfcheck, sums
from polygene.plane.arrangement import Arrangement, Borders, arrange
from polygene.plane.borders import Outline, outline, vertex_homes
from polygene.plane.grid import Grid
from polygene.plane.noding import Noded, node_edges
from polygene.plane.sums import Sums


class Overlay(NamedTuple):
    """INPUT and OTHER on one grid; OTHER of polygons, or of the family of INPUT.

    Rows of OTHER are numbered after those of INPUT: row k of OTHER is ``n_own_rows + k`` in the
    labels of the arrangement. Vertices and given edges of INPUT come first too.

    own, other : the columns of INPUT and of OTHER
    own_outline, other_outline : their vertices and edges
    noded, arrangement : of all of them together
    node_xy : (n_nodes, 2) map coordinates to write nodes with
    is_covered : (n_faces,) whether any row of OTHER covers the face
    row_of_part : (n_parts,) of INPUT's parts, then OTHER's
    as_noded : the arrangement with all faces that rows enclose, if it is another: see `hairlines`
    faces : twice the areas of faces, if they are known
    """

    grid: Grid
    own: GeometryColumn
    other: GeometryColumn
    own_outline: Outline
    other_outline: Outline
    noded: Noded
    arrangement: Arrangement
    node_xy: F64Array
    is_covered: BoolArray
    row_of_part: I64Array
    as_noded: Arrangement | None = None
    faces: Sums | None = None

    @property
    def n_own_rows(self) -> int:
        return self.own.n_rows

    def own_labels(self) -> tuple[I64Array, I64Array]:
        """Return face and row of all labels of INPUT (n_labels,), sorted by face, then row."""
        labels = self.arrangement.labels
        is_own = labels < self.n_own_rows
        return owners(self.arrangement.label_offsets)[is_own], labels[is_own]

    @property
    def row_is_crossed(self) -> BoolArray:
        """(n_rows,) rows of INPUT, then of OTHER, whose rings cross."""
        return self.arrangement.is_crossed


def overlay(
    own: GeometryColumn, other: GeometryColumn, other_outline: Outline, grid: Grid
) -> Overlay:
    """Lay INPUT over OTHER, whose outline on the grid is known already.

    Lines of OTHER bound nothing, but cut those of INPUT.
    """
    # OTHER's outline is there already: it was asked who comes near.
    mine, theirs = outline(own, grid), other_outline
    n_vertices = own.n_vertices
    # Borders cut all they meet; of lines, OTHER's cut INPUT's, and INPUT's cut nobody.
    cuts = np.ones(len(mine.sign) + len(theirs.sign), bool)
    cuts[: len(mine.sign)] = mine.sign != 0
    # Given up within as soon as it can be: nobody else may have them.
    noded = node_edges(
        appended(mine.x, theirs.x),
        appended(mine.y, theirs.y),
        appended(mine.start, theirs.start, n_vertices),
        appended(mine.stop, theirs.stop, n_vertices),
        cuts,
    )
    row_of_part = appended(mine.row_of_part, theirs.row_of_part, own.n_rows)
    # Coordinates are not needed before pieces are written: made by another thread meanwhile.
    homes = parallel.meanwhile(
        lambda: vertex_homes(
            (own.xy, other.xy),
            noded.node_of_vertex,
            noded.stays,
            grid.to_map(noded.node_x, noded.node_y),
        )
    )
    # Its borders have no name here, so that they can be given up when they were looked at.
    arrangement = arrange(
        noded, _borders_of(mine, theirs, own.n_parts, row_of_part), own.n_rows + other.n_rows
    )
    if selfcheck.is_on():
        selfcheck.check_arrangement(noded, arrangement)
    node_xy = homes()
    # Whether any OTHER covers a face is asked by every rule; who does, only by some.
    is_covered = np.zeros(arrangement.n_faces, bool)
    face_of_label = owners(arrangement.label_offsets)
    is_covered[face_of_label[arrangement.labels >= own.n_rows]] = True
    return Overlay(
        grid=grid,
        own=own,
        other=other,
        own_outline=mine,
        other_outline=theirs,
        noded=noded,
        arrangement=arrangement,
        node_xy=node_xy,
        is_covered=is_covered,
        row_of_part=row_of_part,
    )


def _borders_of(mine: Outline, theirs: Outline, n_own_parts: int, row_of_part: I64Array) -> Borders:
    """Return the edges of two outlines, one after the other, that bound anything: they have a sign."""
    assert n_own_parts + len(theirs.row_of_part) < 1 << 31, "more parts than can be numbered"
    sign, part = appended(mine.sign, theirs.sign), appended(mine.part, theirs.part, n_own_parts)
    if sign.all():  # of polygons all do
        return Borders(np.arange(len(sign), dtype=np.int32), part, sign, row_of_part)
    given = np.flatnonzero(sign)
    return Borders(given.astype(np.int32), part[given], sign[given], row_of_part)


def overlay_alone(column: GeometryColumn, grid: Grid) -> Overlay:
    """Lay a column over nothing: its own rows only."""
    # An OTHER without rows: one way for a layer with others and for one alone.
    nothing = column.take(np.zeros(0, np.int64))
    return overlay(column, nothing, outline(nothing, grid), grid)


def face_areas(plan: Overlay, ruler: Ruler, faces: Sums | None = None) -> F64Array:
    """Return the (n_faces,) areas of faces in the ruler's unit, to be told; proofs use whole numbers.

    ``faces`` are their sums if they are known. The area of the outside has no meaning.
    """
    if faces is None:
        faces = sums.of_faces(plan.arrangement)
    return sums.areas_of(faces, plan.arrangement, plan.node_xy, plan.grid, ruler)
