"""Well-known binary (OGC 06-103r4, section 8; ISO 13249-3), whole columns at a time."""

from __future__ import annotations

import numpy as np

from polygene import kernels
from polygene.arrays import (
    BoolArray,
    F64Array,
    I64Array,
    U8Array,
    offsets_from,
    owners,
    put_rows,
    spans,
)
from polygene.geometry import Family, GeometryColumn
from polygene.text.assemble import Parts

_FAULTS = {  # by the numbers that kernels/wkb.py gives them
    1: "its WKB ends too early",
    2: "its WKB is of a type that is not read (curves, surfaces or damaged)",
    3: "its WKB counts more vertices or parts than it holds",
    4: "its WKB is damaged (byte order)",
    5: "its WKB is nested too deeply",
}
DEEPEST = 32
SINGLE_TYPE = {Family.POINTS: 1, Family.LINES: 2, Family.POLYGONS: 3}


class WkbError(ValueError):
    """A row's geometry cannot be decoded: ``row`` counted from 0, ``reason`` in words."""

    def __init__(self, row: int, reason: str) -> None:
        super().__init__(row, reason)
        self.row, self.reason = row, reason


def parts_of(
    data: U8Array, starts: I64Array, stops: I64Array, first_row: int = 0
) -> tuple[list[Parts], BoolArray]:
    """Decode a column.

    Parameters
    ----------
    data : (n_bytes,) uint8
        The geometry of row r is ``data[starts[r]:stops[r]]``; nothing for a null.
    first_row : int
        Number of the first of these rows in the result.

    Returns
    -------
    parts : list of Parts
        One of each family met.
    is_multi : (n_rows,) bool
        Rows given as multi geometry or collection.

    Raises
    ------
    WkbError
        For the first row that cannot be decoded, counted from 0 here.
    """
    n_rows = len(starts)
    totals, pending = np.zeros(2, np.int64), np.zeros(DEEPEST, np.int64)
    row_type = np.zeros(n_rows, np.int64)
    arrays = _room(0, 0)
    for fills in (0, 1):
        fault = kernels.run(
            kernels.wkb.scan, data, starts, stops, fills, *arrays, row_type, pending, totals
        )
        if fault >= 0:
            raise WkbError(int(fault), _FAULTS[-int(row_type[fault])])
        if not fills:
            arrays = _room(int(totals[0]), int(totals[1]))
    part_row, part_family, part_rings, ring_start, ring_count, ring_layout = arrays
    ring_offsets = offsets_from(part_rings)
    found = []
    for family in Family:
        parts = np.flatnonzero(part_family == family)
        if len(parts) == 0:
            continue
        rings = (
            np.arange(len(ring_start))
            if len(parts) == len(part_row)
            else spans(ring_offsets[parts], part_rings[parts])
        )
        vertices = _gather(data, ring_start[rings], ring_count[rings], ring_layout[rings])
        part = Parts(
            family, part_row[parts] + first_row, part_rings[parts], ring_count[rings], *vertices
        )
        found.append(_without_nan(part) if family == Family.POINTS else part)
    return found, row_type >= 4


def _room(n_parts: int, n_rings: int) -> tuple[np.ndarray, ...]:
    return (
        np.empty(n_parts, np.int64),
        np.empty(n_parts, np.uint8),
        np.empty(n_parts, np.int64),
        np.empty(n_rings, np.int64),
        np.empty(n_rings, np.int64),
        np.empty(n_rings, np.uint8),
    )


def _gather(
    data: U8Array, start: I64Array, count: I64Array, layout: U8Array
) -> tuple[F64Array, F64Array | None, F64Array | None]:
    """Return xy, z and m of rings whose vertices start at some byte."""
    offsets = offsets_from(count)
    layouts = np.flatnonzero(np.bincount(layout, minlength=8))
    n_vertices = int(offsets[-1])
    xy = np.empty((n_vertices, 2))
    xy = np.empty((n_vertices, 2))
    z = np.full(n_vertices, np.nan) if (layouts & 2).any() else None
    m = np.full(n_vertices, np.nan) if (layouts & 4).any() else None
    for code in layouts:
        rings = np.flatnonzero(layout == code)
        dims = 2 + (code >> 1 & 1) + (code >> 2 & 1)
        lengths = count[rings] * (8 * int(dims))
        raw = np.empty(int(lengths.sum()), np.uint8)
        kernels.run(kernels.wkb.gather_ranges, data, start[rings], lengths, raw)
        values = raw.view("<f8" if code & 1 else ">f8").reshape(-1, dims)
        if code == 1 and len(layouts) == 1:
            return values, z, m
        here = spans(offsets[rings], count[rings])
        xy[here] = values[:, :2]
        if code & 2 and z is not None:
            z[here] = values[:, 2]
        if code & 4 and m is not None:
            m[here] = values[:, -1]
    return xy, z, m


def _without_nan(parts: Parts) -> Parts:
    """Leave out points of two NaNs, which is how WKB writes an empty one."""
    is_real = ~np.isnan(parts.xy).all(axis=1)
    if is_real.all():
        return parts
    return Parts(
        family=parts.family,
        row=parts.row[is_real],
        ring_counts=parts.ring_counts[is_real],
        vertex_counts=parts.vertex_counts[is_real],
        xy=parts.xy[is_real],
        z=None if parts.z is None else parts.z[is_real],
        m=None if parts.m is None else parts.m[is_real],
    )


def encode(column: GeometryColumn, prefix: U8Array) -> tuple[U8Array, I64Array]:
    """Encode a column, little-endian, each row with its own prefix of bytes in front.

    Parameters
    ----------
    prefix : (n_rows, n_prefix) uint8

    Returns
    -------
    data : (n_bytes,) uint8
    offsets : (n_rows + 1,) int64
        Row r is ``data[offsets[r]:offsets[r + 1]]``. Null rows are encoded as empty.

    Notes
    -----
    Rows are single geometries if the column is not multi, and then have at most one part; an empty
    point is two NaNs.
    """
    n_rows, n_prefix = prefix.shape
    dims = 2 + (column.z is not None) + (column.m is not None)
    code = (
        SINGLE_TYPE[column.family] + 1000 * (column.z is not None) + 2000 * (column.m is not None)
    )
    is_multi, family = column.is_multi, column.family
    # Bytes of each level, without what it holds.
    part_head = {Family.POINTS: 5, Family.LINES: 9, Family.POLYGONS: 9}[family]
    ring_head = 4 if family == Family.POLYGONS else 0
    row_head = n_prefix + (9 if is_multi else 0)
    vertex_counts = np.diff(column.ring_offsets)
    ring_sizes = ring_head + 8 * dims * vertex_counts
    part_sizes = part_head + _sums(ring_sizes, column.part_offsets)
    row_sizes = row_head + _sums(part_sizes, column.row_offsets)
    is_bare = np.diff(column.row_offsets) == 0
    if not is_multi:
        row_sizes[is_bare] += part_head + (8 * dims if family == Family.POINTS else 0)
    offsets = offsets_from(row_sizes)
    data = np.zeros(int(offsets[-1]), np.uint8)

    row_of_part, part_of_ring = owners(column.row_offsets), owners(column.part_offsets)
    part_at = offsets[row_of_part] + row_head + _within(part_sizes, column.row_offsets)
    ring_at = part_at[part_of_ring] + part_head + _within(ring_sizes, column.part_offsets)
    data[offsets[:-1, None] + np.arange(n_prefix)] = prefix
    if is_multi:
        _head(data, offsets[:-1] + n_prefix, code + 3, np.diff(column.row_offsets))
    else:
        bare_at = offsets[:-1][is_bare] + n_prefix
        _head(data, bare_at, code, None if family == Family.POINTS else np.zeros_like(bare_at))
        if family == Family.POINTS:
            put_rows(data, bare_at + 5, np.full((len(bare_at), dims), np.nan))
    counts = {
        Family.POINTS: None,
        Family.LINES: vertex_counts[column.part_offsets[:-1]] if column.n_parts else part_at,
        Family.POLYGONS: np.diff(column.part_offsets),
    }[family]
    _head(data, part_at, code, counts)
    if ring_head:
        put_rows(data, ring_at, vertex_counts.astype("<u4")[:, None])
    extra = [v[:, None] for v in (column.z, column.m) if v is not None]
    vertices = np.concatenate([column.xy, *extra], axis=1) if extra else column.xy
    raw = np.ascontiguousarray(vertices, "<f8").view(np.uint8).reshape(-1)
    at, lengths = ring_at + ring_head, 8 * dims * vertex_counts
    kernels.run(kernels.wkb.scatter_ranges, raw, at, lengths, data)
    return data, offsets


def _sums(sizes: I64Array, group_offsets: I64Array) -> I64Array:
    return np.diff(offsets_from(sizes)[group_offsets])


def _within(sizes: I64Array, group_offsets: I64Array) -> I64Array:
    """Return how many bytes of the same group come before each item."""
    before = offsets_from(sizes)
    return before[:-1] - before[group_offsets[:-1]][owners(group_offsets)]


def _head(data: U8Array, at: I64Array, code: int, counts: I64Array | None) -> None:
    """Write byte order, type and, unless None, a count at each place."""
    data[at] = 1
    put_rows(data, at + 1, np.full((len(at), 1), code, "<u4"))
    if counts is not None:
        put_rows(data, at + 5, counts.astype("<u4")[:, None])
