"""Areas of groups joined into one each, and proved; where features lie very deep, a few at a time."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import parallel
from polygene.arrays import BoolArray, F64Array, I64Array, count_by, distinct, sum_by
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn, concatenate
from polygene.layer import Layer
from polygene.measures import Ruler
from polygene.ops.overlays.sampled import check_groups
from polygene.ops.proved import prove_valid
from polygene.plane import selfcheck
from polygene.plane.grid import Grid
from polygene.plane.overlay import Overlay, face_areas, overlay_alone
from polygene.plane.proof import prove_pieces, proved_sums
from polygene.plane.rings import Pieces, Rings, rings_to_column, trace_rings
from polygene.plane.sheets import JOINED, sheets_of
from polygene.plane.thinning import thinned
from polygene.table.groups import Groups

FEW = 8  # sheets of features in one place that are joined at a time


class JoinedAreas(NamedTuple):
    """Groups joined and proved, and on the grid the area of each group and each row.

    rounds : how many times borders were noded one after the other; each may move them
    """

    geometry: GeometryColumn
    sizes: F64Array
    own_sizes: F64Array
    rounds: int


def joined_areas(layer: Layer, groups: Groups, grid: Grid, ruler: Ruler) -> JoinedAreas:
    """Join the areas of each group.

    Where rows lie over each other very deep they are dealt out in sheets, and sheets joined again
    a few at a time; each time what comes out is proved of what went in.
    """
    sheet = sheets_of(layer.geometry, *JOINED)
    if not sheet.any():
        return JoinedAreas(*_joined_at_once(layer, groups, grid, ruler), 1)
    column, group = layer.geometry, groups.group
    own_sizes = np.zeros(layer.n_rows)
    for rounds in itertools.count(1):
        columns, owners, sheets = [], [], []
        for k in distinct(sheet):
            rows = np.flatnonzero(sheet == k)
            there, firsts, number = np.unique(group[rows], return_index=True, return_inverse=True)
            some = Layer(layer.name, column.take(rows), pa.table({}), layer.crs)
            found, sizes, own = _joined_at_once(
                some, Groups(number.reshape(-1), firsts), grid, ruler
            )
            if rounds == 1:
                own_sizes[rows] = own
            columns.append(found)
            owners.append(there)
            sheets.append(np.full(len(there), k // FEW))
        column, group, sheet = concatenate(columns), np.concatenate(owners), np.concatenate(sheets)
        if len(columns) == 1:
            break
    return JoinedAreas(column.as_multi_as(layer.geometry), sizes, own_sizes, rounds)


class Joined(NamedTuple):
    """Groups as the plane has them.

    geometry : (n_groups) rows; rings, keeps : what they were made of, and the nodes that are written
    face, row : the faces that rows cover; group_face, group : those that groups cover
    """

    geometry: GeometryColumn
    rings: Rings
    keeps: BoolArray
    face: I64Array
    row: I64Array
    group_face: I64Array
    group: I64Array


def join_faces(plan: Overlay, groups: Groups) -> Joined:
    """Join areas: the faces that any row of a group covers."""
    arrangement, n_groups = plan.arrangement, groups.n_groups
    face, row = plan.own_labels()
    group_face, group = _distinct(face, groups.group[row])
    pieces = Pieces.of_sorted(group_face, group, arrangement.n_faces, n_groups)
    rings = trace_rings(arrangement, pieces)
    # Rows of a group are no strangers to each other: what one left on another's border goes.
    row_of_part = groups.group[plan.row_of_part]
    kept = thinned(arrangement, plan.noded, rings, np.arange(n_groups)[:, None], row_of_part)
    joined, _ = rings_to_column(arrangement, rings, kept, plan.node_xy, n_groups)
    return Joined(
        geometry=joined,
        rings=rings,
        keeps=kept,
        face=face,
        row=row,
        group_face=group_face,
        group=group,
    )


def _joined_at_once(
    layer: Layer, groups: Groups, grid: Grid, ruler: Ruler
) -> tuple[GeometryColumn, F64Array, F64Array]:
    """Return groups joined and proved, and by the plan the area of each group and each row."""
    column = layer.geometry
    plan = overlay_alone(column, grid)
    sums_found = parallel.meanwhile(lambda: proved_sums(plan))
    found = join_faces(plan, groups)
    joined, faces = found.geometry, sums_found()

    # Proved while what is written is looked at; a failure comes out when the sizes are asked for.
    def prove() -> tuple[F64Array, F64Array]:
        wanted = faces.by_group(found.group, found.group_face, groups.n_groups)
        prove_pieces(plan, found.rings, found.keeps, wanted, "group")
        areas = face_areas(plan, ruler, faces)
        return (
            sum_by(found.group, areas[found.group_face], groups.n_groups),
            sum_by(found.row, areas[found.face], plan.n_own_rows),
        )

    proved = parallel.meanwhile(prove)
    if selfcheck.is_on():
        check_groups(column, groups.group, joined, grid.step, "dissolve")
    # A group of one sound feature is that feature.
    members = count_by(groups.group, groups.n_groups)
    is_lone = (members == 1) & ~plan.row_is_crossed[groups.firsts]
    prove_valid(joined, f"dissolve of {layer.name}", ~is_lone)
    whole = replace(column.take(groups.firsts[is_lone]), z=None, m=None)
    both = joined.with_rows(np.flatnonzero(is_lone), whole) if is_lone.any() else joined
    is_null = both.is_null.copy()
    is_null[is_lone] = whole.is_null
    both = replace(both, is_null=is_null).as_multi_as(column)
    return both, *proved()


def _distinct(face: I64Array, group: I64Array) -> tuple[I64Array, I64Array]:
    """Sort (face, group) pairs and take out repeats; for a clean coverage there is nothing to do."""
    if (np.diff(face) > 0).all():
        return face, group
    order = np.lexsort((group, face))
    face, group = face[order], group[order]
    is_new = np.ones(len(face), bool)
    is_new[1:] = (np.diff(face) > 0) | (np.diff(group) > 0)
    return face[is_new], group[is_new]
