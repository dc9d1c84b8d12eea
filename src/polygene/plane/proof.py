"""What must hold of an arrangement and of what is traced from it, proved on every row of every run.

Areas on the grid are whole numbers (`sums.py`), so nothing here has a tolerance but where borders
were moved on purpose: by snap rounding, and where nodes of strangers are taken out again. How far
those may go is in `bounds.py`. From the faces to the written coordinates nothing is left out: the faces
of a row are what its borders enclose; rings enclose the faces of their piece; each written coordinate
lies at the grid point of its node.
"""

from __future__ import annotations

from typing import Protocol

import numpy as np

from polygene import parallel
from polygene.arrays import BoolArray, I64Array, owners
from polygene.errors import BalanceError
from polygene.plane import bounds, sums
from polygene.plane.arrangement import Arrangement
from polygene.plane.overlay import Overlay
from polygene.plane.rings import Rings
from polygene.plane.steps import Steps
from polygene.plane.sums import Sums

AT_A_TIME = 1 << 17  # nodes looked at


def proved_sums(plan: Overlay) -> Sums:
    """Return twice the areas of faces, when rows and places have been proved with them.

    Raises
    ------
    BalanceError
        If they are not what they must be.
    """
    # From the noded edges; all that follows must come to the same sums by other ways.
    faces = sums.of_faces(plan.arrangement) if plan.faces is None else plan.faces
    prove_rows(plan, faces)
    prove_places(plan)
    return faces


def prove_rows(plan: Overlay, faces: Sums) -> None:
    """Prove that each row of polygons covers what its borders enclose, where they were given.

    ``faces`` is twice the area of each face.

    Raises
    ------
    BalanceError
        If it does not; the first such row is named.
    """
    arrangement = plan.as_noded or plan.arrangement
    is_crossed = arrangement.is_crossed
    n_own, n_rows = plan.n_own_rows, len(is_crossed)
    face_of_label = owners(arrangement.label_offsets)
    # First way: the faces that a row covers. Second way: the triangles of its own noded borders.
    covered = faces.by_group(arrangement.labels, face_of_label, n_rows)
    enclosed = sums.of_borders(arrangement, plan.row_of_part, n_rows)
    # Rings that cross enclose some places twice; what their row covers is decided by parity
    # instead.
    is_read = ~is_crossed
    _check(covered.differs(enclosed) & is_read, "a row's faces and its borders", covered, enclosed)
    for border, rows, role in (
        (plan.own_outline, slice(0, n_own), "INPUT"),
        (plan.other_outline, slice(n_own, n_rows), "OTHER"),
    ):
        if not border.sign.any():
            continue  # lines and points enclose nothing
        mine = Sums(covered.high[rows], covered.low[rows])
        given, sizes = sums.of_outline(border, len(mine.low))
        # The difference of two whole numbers is far smaller than either.
        moved = np.abs((mine.high - given.high) * sums.WORD + (mine.low - given.low))
        # Third: the borders as they were given. Noding leads them up to half a unit beside, so
        # there is a bound.
        most = bounds.twice_moved_by_noding(sizes, is_crossed[rows])
        _check(moved > most, f"a row of {role} and where its borders were led", mine, given)


class HasArrangement(Protocol):
    """What rings were traced from."""

    @property
    def arrangement(self) -> Arrangement: ...


def prove_pieces(
    plan: HasArrangement, rings: Rings, keeps: BoolArray, wanted: Sums, what: str = "piece"
) -> None:
    """Prove that rings enclose the faces of pieces, of which ``wanted`` (n_pieces,) is twice the area.

    Raises
    ------
    BalanceError
        If they do not; the first piece is named.
    """
    # All nodes of the rings: an equality. Those kept: within what straightening may change.
    traced = sums.of_rings(plan.arrangement, rings, keeps, len(wanted.low))
    _check(traced.all.differs(wanted), f"a {what} and its faces", traced.all, wanted)
    moved = np.abs((traced.kept.high - wanted.high) * sums.WORD + (traced.kept.low - wanted.low))
    most = bounds.twice_moved_by_straightening(traced.straightened)
    _check(moved > most, f"a {what} without its strangers' nodes", traced.kept, wanted)


def prove_places(plan: Overlay) -> None:
    """Prove that the coordinates nodes are written with lie at the nodes' own grid points.

    Raises
    ------
    BalanceError
        If one does not.
    """

    # A coordinate that came home must round to its own node again, or the proof would be of other
    # places.
    def look(first: int, stop: int) -> I64Array:
        part = slice(first, stop)
        x, y = plan.grid.to_units(plan.node_xy[part])
        return first + np.flatnonzero(
            (x != plan.noded.node_x[part]) | (y != plan.noded.node_y[part])
        )

    # A part at a time: this is looked at while rings are traced, when there is most in memory.
    n = len(plan.node_xy)
    parts = [(k, min(k + AT_A_TIME, n)) for k in range(0, n, AT_A_TIME)] or [(0, 0)]
    wrong = np.concatenate(parallel.each(look, parts))
    if len(wrong):
        raise BalanceError(
            f"{len(wrong)} nodes would be written beside their place, the first at "
            f"{plan.node_xy[wrong[0]].tolist()}"
        )


def prove_steps(plan: Overlay, steps: Steps) -> None:
    """Prove that the steps of each line lead from its first vertex to its last without a gap.

    Raises
    ------
    BalanceError
        If they do not.
    """
    node = plan.noded.node_of_vertex
    # Where one path ends and the next begins nothing need follow.
    follows = steps.path[1:] == steps.path[:-1]
    is_begun, is_ended = np.ones((2, len(steps.path)), bool)
    is_begun[1:], is_ended[:-1] = ~follows, ~follows
    offsets = plan.own.ring_offsets
    first, last = offsets[:-1][steps.path[is_begun]], offsets[1:][steps.path[is_ended]] - 1
    if (
        (follows & (steps.stop[:-1] != steps.start[1:])).any()
        or (node[first] != steps.start[is_begun]).any()
        or (node[last] != steps.stop[is_ended]).any()
    ):
        raise BalanceError("the steps of a line do not lead from its first vertex to its last")


def _check(is_wrong: BoolArray, what: str, found: Sums, wanted: Sums) -> None:
    wrong = np.flatnonzero(is_wrong)
    if len(wrong):
        k = int(wrong[0])
        # In Python's integers: the message shows all digits.
        a, b = (int(s.high[k]) * 2**60 + int(s.low[k]) for s in (found, wanted))
        raise BalanceError(
            f"{what} (number {k + 1}): {a} and {b} half square units of the grid; {len(wrong)} in all"
        )
