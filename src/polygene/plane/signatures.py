"""Numbers that are equal for geometry of the same edges, and for faces that the same rows cover."""

from __future__ import annotations

import numpy as np

from polygene.arrays import I64Array, owners, spans
from polygene.geometry import GeometryColumn
from polygene.plane.arrangement import Arrangement

U64 = np.uint64


def signatures(column: GeometryColumn) -> np.ndarray:
    """Return an (n_rows,) uint64 for each geometry, equal for those of the same edges.

    Neither the start of rings, nor their direction, nor the order of rings and parts matters. A sum of
    well-mixed bits of each edge (or point), so different ones agree by chance once in 2**64.
    """
    xy = column.xy + 0.0  # minus zero is zero
    bits = np.ascontiguousarray(xy).view(U64)
    place = mixed(bits[:, 0] * U64(0x9E3779B97F4A7C15) ^ mixed(bits[:, 1]))
    row_of_vertex = owners(column.vertex_offsets_of_rows)
    ring_of = owners(column.ring_offsets)
    is_edge = ring_of[:-1] == ring_of[1:]
    a, b = place[:-1][is_edge], place[1:][is_edge]
    edges = mixed((a + b) * U64(0xC2B2AE3D27D4EB4F) ^ (a ^ b))
    lone = np.diff(column.ring_offsets)[ring_of] == 1
    total = np.zeros(column.n_rows, U64)
    with np.errstate(over="ignore"):
        np.add.at(total, row_of_vertex[:-1][is_edge], edges)
        np.add.at(total, row_of_vertex[lone], place[lone])
        total += column.is_null.astype(U64)
    return total


def marks_of_others(arrangement: Arrangement, face: I64Array, n_own: int) -> np.ndarray:
    """Return an (n,) uint64 for each of some faces, equal for those that the same rows of OTHER cover.

    Those are the rows from ``n_own`` on. Different ones agree by chance once in 2**64.
    """
    counts = np.diff(arrangement.label_offsets)[face]
    row = arrangement.labels[spans(arrangement.label_offsets[face], counts)]
    item = np.repeat(np.arange(len(face)), counts)
    is_other = row >= n_own
    found = np.zeros(len(face), U64)
    with np.errstate(over="ignore"):
        np.add.at(found, item[is_other], mixed(row[is_other].astype(U64)))
    return found


def mixed(values: np.ndarray) -> np.ndarray:
    """Mix 64 bits well (Stafford 2011, variant 13)."""
    with np.errstate(over="ignore"):
        values = (values ^ (values >> U64(30))) * U64(0xBF58476D1CE4E5B9)
        values = (values ^ (values >> U64(27))) * U64(0x94D049BB133111EB)
    return values ^ (values >> U64(31))
