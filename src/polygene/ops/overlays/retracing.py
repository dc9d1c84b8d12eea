"""Rows whose faces have changed, traced anew from the arrangement they lie in."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import BoolArray, F64Array, I32Array, I64Array, number_pairs, owners
from polygene.geometry import GeometryColumn
from polygene.ops.proved import prove_valid
from polygene.plane import sums
from polygene.plane.overlay import Overlay
from polygene.plane.proof import prove_pieces, prove_places
from polygene.plane.rings import Pieces, rings_to_column, trace_rings
from polygene.plane.thinning import thinned


def retraced(
    plan: Overlay,
    face: I64Array,
    row: I64Array,
    rows: I64Array,
    row_of_part: I64Array,
    thins: bool = True,
) -> GeometryColumn:
    """Return the geometry of some rows from the faces that they have now.

    Parameters
    ----------
    face, row : (n,) which faces which rows have; pairs may come twice, in any order
    rows : (m,) the rows to trace, rising; others are passed over
    row_of_part : (n_parts,) the row that each part of the arrangement is counted to
    thins : whether to take out the nodes that strangers left on straight borders

    Raises
    ------
    ProofError
        If the area of a row is not that of its faces, or it is invalid.
    """
    arrangement = plan.arrangement
    keeps = np.isin(row, rows)
    face, piece = face[keeps], np.searchsorted(rows, row[keeps])
    firsts = number_pairs(face, piece).firsts
    face, piece = face[firsts], piece[firsts]
    order = np.lexsort((piece, face))
    face, piece = face[order], piece[order]
    pieces = Pieces.of_sorted(face, piece, arrangement.n_faces, len(rows))
    rings = trace_rings(arrangement, pieces)
    kept = np.ones(len(rings.halfedge), bool)
    if thins:
        kept = thinned(arrangement, plan.noded, rings, rows[:, None], row_of_part)
    grown, node = rings_to_column(arrangement, rings, kept, plan.node_xy, len(rows))
    faces = sums.of_faces(arrangement)
    prove_pieces(plan, rings, kept, faces.by_group(piece, face, len(rows)), "feature traced anew")
    prove_places(plan)
    prove_valid(grown, "features traced anew")
    return replace(grown, z=_at_nodes(plan, plan.own.z, node), m=_at_nodes(plan, plan.own.m, node))


def _at_nodes(plan: Overlay, values: F64Array | None, node: I32Array) -> F64Array | None:
    """Return Z or M of vertices by their nodes; NaN where borders cross that have no vertex there."""
    if values is None:
        return None
    of_node = np.full(len(plan.noded.node_x), np.nan)
    of_node[plan.noded.node_of_vertex[: plan.own.n_vertices]] = values
    return of_node[node]


def meeting(plan: Overlay, faces: I64Array, changed: BoolArray) -> BoolArray:
    """Return the other rows (n_rows,) whose borders pass nodes of these faces without a vertex."""
    arrangement, column = plan.arrangement, plan.own
    is_theirs = np.zeros(arrangement.n_faces, bool)
    is_theirs[faces] = True
    on_border = is_theirs[arrangement.face_of_halfedge]
    is_node = np.zeros(len(arrangement.node_x), bool)
    is_node[arrangement.origin[on_border]] = True
    is_node[arrangement.origin[np.flatnonzero(on_border) ^ 1]] = True
    edge = owners(arrangement.deltas.offsets)
    row = plan.row_of_part[arrangement.deltas.part]
    ends = np.concatenate([arrangement.low[edge], arrangement.high[edge]])
    row = np.concatenate([row, row])
    asked = is_node[ends] & ~changed[row]
    # Nodes of rows that are no vertices of theirs.
    asked_row = row[asked]
    pairs = number_pairs(
        np.concatenate([asked_row, owners(column.vertex_offsets_of_rows)]),
        np.concatenate([ends[asked], plan.noded.node_of_vertex[: column.n_vertices]]),
    )
    is_vertex = np.zeros(len(pairs.firsts), bool)
    is_vertex[pairs.numbers[len(asked_row) :]] = True
    meets = np.zeros(column.n_rows, bool)
    meets[asked_row[~is_vertex[pairs.numbers[: len(asked_row)]]]] = True
    return meets
