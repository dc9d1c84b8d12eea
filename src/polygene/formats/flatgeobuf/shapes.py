"""The geometries of a FlatGeobuf, all at once by arrays of positions."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from polygene import kernels
from polygene.arrays import BoolArray, I64Array, U8Array, offsets_from, owners, spans
from polygene.classes import NamedTuple
from polygene.errors import GeometryError
from polygene.formats.columns import ADVICE
from polygene.formats.flatgeobuf.header import Header
from polygene.formats.flatgeobuf.tables import (
    Damaged,
    fields_at,
    followed,
    values_at,
    vectors_at,
    whole,
)
from polygene.geometry import Family
from polygene.text.assemble import Parts

FAMILIES = {
    1: Family.POINTS,
    2: Family.LINES,
    3: Family.POLYGONS,
    4: Family.POINTS,
    5: Family.LINES,
    6: Family.POLYGONS,
}
_COLLECTION, _DEEPEST = 7, 16


class _Leaves(NamedTuple):
    """Geometries that are not made of others, in the order of the rows."""

    row: I64Array
    table: I64Array
    kind: I64Array


def shapes_of(
    data: U8Array, header: Header, features: I64Array, path: Path
) -> tuple[list[Parts], BoolArray, BoolArray]:
    """Return parts by family, which rows are null, and which are multi."""
    tables = followed(data, fields_at(data, features, 0))
    is_null = tables < 0
    rows = np.flatnonzero(~is_null)
    kinds = _kinds(data, tables[rows], header.geometry_type)
    is_multi = np.zeros(len(features), bool)
    is_multi[rows] = kinds >= 4
    leaves = _unfolded(data, _Leaves(rows, tables[rows], kinds))
    is_strange = ~np.isin(leaves.kind, list(FAMILIES))
    if is_strange.any():
        row = int(leaves.row[is_strange][0])
        raise GeometryError(
            str(path), f"row {row + 1}", "its geometry is of a type that is not read", ADVICE
        )
    family = np.array([FAMILIES.get(k, 0) for k in range(8)])[leaves.kind]
    parts = []
    for wanted in Family:
        own = np.flatnonzero(family == wanted)
        if len(own):
            parts += _parts(data, header, wanted, _Leaves(*(a[own] for a in leaves)))
    return parts, is_null, is_multi


def _kinds(data: U8Array, tables: I64Array, otherwise: int) -> I64Array:
    """Return the type of each geometry: its own, or what the header says of all."""
    at = fields_at(data, tables, 6)
    kinds = np.zeros(len(tables), np.int64)
    kinds[at >= 0] = whole(data, at[at >= 0], "u1")
    return np.where(kinds == 0, otherwise, kinds)


def _unfolded(data: U8Array, found: _Leaves) -> _Leaves:
    """Put the members of multipolygons and collections in the place of these."""
    for _ in range(_DEEPEST):
        folds = (found.kind == 6) | (found.kind == _COLLECTION)
        starts, counts = vectors_at(data, found.table, 7, 4)
        # A multipolygon of one part may keep it in itself.
        folds &= (counts > 0) | (found.kind == _COLLECTION)
        if not folds.any():
            break
        if counts[folds].sum() > len(data) // 4:
            raise Damaged("geometries are parts of each other")
        n_new = np.where(folds, counts, 1)
        owner = owners(offsets_from(n_new))
        tables = found.table[owner].copy()
        is_member = folds[owner]
        tables[is_member] = followed(data, _within(starts[folds], counts[folds]))
        kinds = found.kind[owner].copy()
        is_of_polygons = found.kind[owner] == 6
        own = _kinds(data, tables[is_member], 0)
        kinds[is_member] = np.where(is_of_polygons[is_member], 3, own)
        found = _Leaves(found.row[owner], tables, kinds)
    return found


def _within(starts: I64Array, counts: I64Array) -> I64Array:
    """Return the places of items of four bytes in vectors that start so."""
    steps = np.arange(int(counts.sum())) - np.repeat(np.cumsum(counts) - counts, counts)
    return np.repeat(starts, counts) + 4 * steps


def _parts(data: U8Array, header: Header, family: Family, leaves: _Leaves) -> list[Parts]:
    starts, counts = vectors_at(data, leaves.table, 1, 8)
    if (counts % 2).any():
        raise Damaged("a vertex has no y")
    n_vertices = counts // 2
    if family == Family.POINTS:
        n_vertices[_are_nowhere(data, leaves.kind, starts, n_vertices)] = 0
    ends, n_ends = vectors_at(data, leaves.table, 0, 4)
    # Without ends all vertices are one ring, and without vertices there is none.
    n_rings = np.where(n_vertices == 0, 0, np.maximum(n_ends, 1))
    if family == Family.POINTS:
        ring_counts_of_leaf = n_vertices
        vertex_counts = np.ones(int(n_vertices.sum()), np.int64)
    else:
        ring_counts_of_leaf = n_rings
        vertex_counts = _ring_sizes(data, ends, n_ends, n_rings, n_vertices)
    if family == Family.POLYGONS:
        has = ring_counts_of_leaf > 0
        row, ring_counts = leaves.row[has], ring_counts_of_leaf[has]
    else:
        row = np.repeat(leaves.row, ring_counts_of_leaf)
        ring_counts = np.ones(len(row), np.int64)
    raw = np.empty(int(n_vertices.sum()) * 16, np.uint8)
    kernels.run(kernels.wkb.gather_ranges, data, starts, n_vertices * 16, raw)
    xy = raw.view("<f8").reshape(-1, 2)
    z = _heights(data, leaves.table, 2, n_vertices) if header.has_z else None
    m = _heights(data, leaves.table, 3, n_vertices) if header.has_m else None
    found = Parts(
        family=family,
        row=row,
        ring_counts=ring_counts,
        vertex_counts=vertex_counts,
        xy=xy,
        z=z,
        m=m,
    )
    return [found] if len(row) else []


def _are_nowhere(
    data: U8Array, kinds: I64Array, starts: I64Array, n_vertices: I64Array
) -> BoolArray:
    """Return which are points of two NaN, as some write an empty one."""
    found = (kinds == 1) & (n_vertices == 1)
    for k in range(2):
        at = np.flatnonzero(found)
        found[at] = np.isnan(values_at(data, starts[at] + 8 * k, "<f8"))
    return found


def _ring_sizes(
    data: U8Array, ends: I64Array, n_ends: I64Array, n_rings: I64Array, n_vertices: I64Array
) -> I64Array:
    """Return the vertices of each ring from the vectors of where they end."""
    offsets = offsets_from(n_rings)
    stops = np.zeros(int(offsets[-1]), np.int64)
    owner = owners(offsets)
    has_ends = (n_ends > 0) & (n_vertices > 0)
    stops[has_ends[owner]] = whole(data, _within(ends[has_ends], n_ends[has_ends]), "<u4")
    stops[~has_ends[owner]] = n_vertices[owner][~has_ends[owner]]
    sizes = np.diff(stops, prepend=0)
    first = offsets[:-1][n_rings > 0]
    sizes[first] = stops[first]
    last = offsets[1:][n_rings > 0] - 1
    if (sizes < 0).any() or (stops[last] != n_vertices[n_rings > 0]).any():
        raise Damaged("the rings of a geometry do not add up to its vertices")
    return sizes


def _heights(data: U8Array, tables: I64Array, slot: int, n_vertices: I64Array) -> np.ndarray:
    """Return z or m of all vertices, NaN where a geometry has none."""
    starts, counts = vectors_at(data, tables, slot, 8)
    values = np.full(int(n_vertices.sum()), np.nan)
    has = (counts > 0) & (n_vertices > 0)
    if (counts[has] != n_vertices[has]).any():
        raise Damaged("a geometry has not as many z or m as vertices")
    raw = np.empty(int(counts[has].sum()) * 8, np.uint8)
    kernels.run(kernels.wkb.gather_ranges, data, starts[has], counts[has] * 8, raw)
    values[spans(offsets_from(n_vertices)[:-1][has], counts[has])] = raw.view("<f8")
    return values
