"""Exact areas on the grid: coordinates are integers, so sums of areas are integers too.

What is added up here has no rounding, however large the extent and small the face, so that a balance
is an equality. Sums are of twice the area, in square grid units.
"""

from __future__ import annotations

import numpy as np

from polygene import kernels
from polygene.arrays import BoolArray, F64Array, I64Array
from polygene.classes import NamedTuple
from polygene.measures import PlaneRuler, Ruler
from polygene.plane.arrangement import Arrangement
from polygene.plane.borders import Outline
from polygene.plane.grid import Grid
from polygene.plane.rings import Rings

# Twice a triangle with the origin is below 2**83; 2**60 in the lower word leaves room for carries.
WORD = 2.0**60
# Shares of areas on the ellipsoid are whole numbers of this many square metres.
# A thousand-millionth of a square metre: below it nothing is told, and a share of the earth's
# surface still fits 80 bits.
SHARE = 2.0**-30


class Sums(NamedTuple):
    """Whole numbers of 128 bits: ``high * 2**60 + low``, both (n,) int64 and low not negative."""

    high: I64Array
    low: I64Array

    @staticmethod
    def zeros(n: int) -> Sums:
        # One array for both words; kernels fill them in place.
        return Sums(*np.zeros((2, n), np.int64))

    def to_float(self) -> F64Array:
        """Return the (n,) nearest float64, but for the last digit."""
        return np.asarray(self.high * WORD + self.low, np.float64)

    def differs(self, other: Sums) -> BoolArray:
        return (self.high != other.high) | (self.low != other.low)

    def by_group(self, group: I64Array, item: I64Array, n_groups: int) -> Sums:
        """Return the (n_groups,) sums of items: ``item[k]`` belongs to ``group[k]``."""
        found = Sums.zeros(n_groups)
        # Words are carried as they are added, so that equal sums have equal words.
        kernels.run(kernels.sums.add_groups, group, item, *self, *found)
        return found


def of_faces(arrangement: Arrangement) -> Sums:
    """Return twice the (n_faces,) areas of faces; that of the outside has no meaning."""
    found = Sums.zeros(arrangement.n_faces)
    kernels.run(
        kernels.sums.add_faces,
        arrangement.node_x,
        arrangement.node_y,
        arrangement.low,
        arrangement.high,
        arrangement.face_of_halfedge,
        *found,
    )
    return found


def lengths_around(arrangement: Arrangement) -> F64Array:
    """Return how long the edges of each face are together (n_faces,), in grid units."""
    found = np.zeros(arrangement.n_faces)
    kernels.run(
        kernels.sums.add_lengths,
        arrangement.node_x,
        arrangement.node_y,
        arrangement.low,
        arrangement.high,
        arrangement.face_of_halfedge,
        found,
    )
    return found


def of_borders(arrangement: Arrangement, row_of_part: I64Array, n_rows: int) -> Sums:
    """Return twice what the borders of each of (n_rows,) enclose, as they were noded."""
    found = Sums.zeros(n_rows)
    deltas = arrangement.deltas
    kernels.run(
        kernels.sums.add_rows,
        arrangement.node_x,
        arrangement.node_y,
        arrangement.low,
        arrangement.high,
        deltas.offsets,
        deltas.part,
        deltas.sign,
        row_of_part,
        *found,
    )
    return found


def of_outline(border: Outline, n_rows: int) -> tuple[Sums, F64Array]:
    """Return (n_rows,) twice what the rings of each enclose, as they were given, and their size.

    The size of an edge is that in x and that in y together, at least its length.
    """
    # The size bounds how much an area can change when the border is led a little beside: `bounds`.
    found, sizes = Sums.zeros(n_rows), np.zeros(n_rows)
    kernels.run(
        kernels.sums.add_outline,
        border.x,
        border.y,
        border.start,
        border.stop,
        border.part,
        border.sign,
        border.row_of_part,
        *found,
        sizes,
    )
    return found, sizes


class Traced(NamedTuple):
    """Twice the areas of pieces (n,): by all nodes of their rings, and by those kept.

    straightened : (n,) size of the edges that pass over nodes not kept
    """

    all: Sums
    kept: Sums
    straightened: F64Array


def of_rings(arrangement: Arrangement, rings: Rings, keeps: BoolArray, n_pieces: int) -> Traced:
    """Return (n_pieces,) twice what the rings of each enclose."""
    traced = Traced(Sums.zeros(n_pieces), Sums.zeros(n_pieces), np.zeros(n_pieces))
    kernels.run(
        kernels.sums.add_rings,
        arrangement.node_x,
        arrangement.node_y,
        arrangement.origin,
        rings.halfedge,
        rings.offsets,
        keeps.view(np.uint8),
        rings.piece,
        *traced.all,
        *traced.kept,
        traced.straightened,
    )
    return traced


def areas_of(
    faces: Sums, arrangement: Arrangement, node_xy: F64Array, grid: Grid, ruler: Ruler
) -> F64Array:
    """Return the (n_faces,) areas of faces as they are written, in the ruler's unit.

    They are to be told, not to be proved by. On the plane they are the exact ones of the grid and what
    it changes that nodes are written with the coordinates they came with. On the ellipsoid the share
    of each edge is a whole number and counts for one face and against the other, so they add up
    exactly.
    """
    if isinstance(ruler, PlaneRuler):
        # Nodes are written with the vertices' own coordinates, up to half a unit beside the grid
        # point.
        dx, dy = grid.beside(node_xy, arrangement.node_x, arrangement.node_y)
        moves = np.zeros(arrangement.n_faces)
        kernels.run(
            kernels.sums.add_moves,
            arrangement.node_x,
            arrangement.node_y,
            dx,
            dy,
            arrangement.low,
            arrangement.high,
            arrangement.face_of_halfedge,
            moves,
        )
        # The exact sum and a small correction: a face of a millimetre beside a continent keeps its
        # digits.
        return (faces.to_float() + moves) * (0.5 * (grid.step * ruler.map_unit) ** 2)
    return of_strips(arrangement, node_xy, ruler).to_float() * SHARE


def of_strips(arrangement: Arrangement, node_xy: F64Array, ruler: Ruler) -> Sums:
    """Return the (n_faces,) areas on the ellipsoid, in whole shares (`SHARE`) of the ruler's unit."""
    # The area between an edge and the equator; whole shares cancel between the faces beside the
    # edge.
    shares = ruler.strips(
        node_xy.take(arrangement.low, axis=0), node_xy.take(arrangement.high, axis=0)
    )
    found = Sums.zeros(arrangement.n_faces)
    kernels.run(
        kernels.sums.add_shares,
        shares / SHARE,
        arrangement.face_of_halfedge,
        *found,
    )
    return found
