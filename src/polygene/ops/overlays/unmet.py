"""Rows of a union that no row of another layer meets, and that the grid would change all the same.

Nothing may be left of them there, or their own borders may run into each other. Nobody has to do with
them, so they stay as they are, whichever layer they are of and whatever the layers extend over.
"""

from __future__ import annotations

import numpy as np

from polygene.arrays import NONE, BoolArray, I64Array, IntArray, count_by, owners, spans
from polygene.plane import members as members_of
from polygene.plane.overlay import Overlay


def unmet(plan: Overlay, other_starts: I64Array) -> BoolArray:
    """Return which rows (n_rows,), of INPUT, then of the OTHERs, the grid changes and nobody meets.

    ``other_starts`` (number of OTHERs + 1,) is where the rows of each begin among those of all.
    """
    n_rows = plan.n_own_rows + plan.other.n_rows
    found = plan.row_is_crossed | (count_by(plan.arrangement.labels, n_rows) == 0)
    found &= ~np.concatenate([plan.own.is_empty, plan.other.is_empty])
    if not found.any():
        return found
    row_of_vertex = np.concatenate(
        [
            owners(plan.own.vertex_offsets_of_rows),
            plan.n_own_rows + owners(plan.other.vertex_offsets_of_rows),
        ]
    )
    starts = plan.n_own_rows + other_starts[:-1]
    layer = np.searchsorted(starts, np.arange(n_rows), "right")
    node, row = _nodes_of_rows(plan, row_of_vertex)
    is_shared = _of_several(node, layer[row], len(plan.noded.node_x))
    found[row[is_shared[node]]] = False
    # Where no border of another layer runs, all faces about a vertex are of the same of its rows.
    vertex = np.flatnonzero(found[row_of_vertex])
    item, face = members_of.faces_about(plan, plan.noded.node_of_vertex[vertex])
    row = row_of_vertex[vertex[item]]
    offsets = plan.arrangement.label_offsets
    counts = np.diff(offsets)[face]
    row, within = np.repeat(row, counts), plan.arrangement.labels[spans(offsets[face], counts)]
    found[row[layer[row] != layer[within]]] = False
    # Borders of another layer may lie within a row and touch it nowhere.
    face = owners(offsets)
    is_shared = _of_several(face, layer[plan.arrangement.labels], plan.arrangement.n_faces)
    found[plan.arrangement.labels[is_shared[face]]] = False
    return found


def _of_several(item: IntArray, layer: I64Array, n_items: int) -> BoolArray:
    """Return which items (n_items,) come with several layers."""
    first = np.full(n_items, NONE)
    first[item] = layer  # any of them
    found = np.zeros(n_items, bool)
    found[item[first[item] != layer]] = True
    return found


def _nodes_of_rows(plan: Overlay, row_of_vertex: I64Array) -> tuple[IntArray, I64Array]:
    """Return all pairs of a node and a row with a vertex there, or a border that runs through it."""
    noded = plan.noded
    part = np.concatenate(
        [plan.own_outline.part, plan.other_outline.part.astype(np.int64) + plan.own.n_parts]
    )
    edge, given = noded.edges_over(np.arange(len(part)))
    row = plan.row_of_part[part[given]]
    node = np.concatenate([noded.node_of_vertex, noded.low[edge], noded.high[edge]])
    return node, np.concatenate([row_of_vertex, row, row])
