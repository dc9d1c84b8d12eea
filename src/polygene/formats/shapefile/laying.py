"""Shapefiles laid out in whole arrays, by the description of 1998 and that of dBASE III."""

from __future__ import annotations

import datetime
import os
from collections.abc import Sequence
from typing import Any

import numpy as np

from polygene import kernels
from polygene.arrays import F64Array, I64Array, U8Array, offsets_from, put_rows
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn, extent_of

_NONE = -1e39  # an M that says none
_HEAD = 100  # bytes of the header of .shp and .shx


class FieldOf(NamedTuple):
    """A field of a .dbf: its name, the letter of its type, its width and decimals."""

    name: str
    kind: str
    width: int
    decimals: int


def shapes(column: GeometryColumn, code: int) -> tuple[U8Array, U8Array]:
    """Return the bytes of the .shp and of the .shx; rows without a vertex are null shapes."""
    vertices = column.vertex_offsets_of_rows
    n_points = np.diff(vertices)
    rows = np.flatnonzero(n_points > 0)
    has_parts, is_single = code % 10 in (3, 5), code % 10 == 1
    n_parts = np.diff(column.ring_offsets_of_rows) if has_parts else np.zeros_like(n_points)
    measures = _measures(column, code)
    if is_single:
        sizes = np.where(n_points > 0, 20 + 8 * len(measures), 4)
    else:
        head = 44 if has_parts else 40
        body = head + 4 * n_parts + (16 + 8 * len(measures)) * n_points + 16 * len(measures)
        sizes = np.where(n_points > 0, body, 4)
    at = _HEAD + offsets_from(8 + sizes)
    data = np.zeros(int(at[-1]), np.uint8)
    numbers = np.arange(1, column.n_rows + 1)
    put_rows(data, at[:-1], np.stack([numbers, sizes // 2], axis=1).astype(">i4"))
    at = at[:-1] + 8
    put_rows(data, at, np.where(n_points > 0, code, 0).astype("<i4"))
    own = at[rows]
    if is_single:
        put_rows(data, own + 4, np.column_stack([column.xy, *measures]).astype("<f8"))
    else:
        put_rows(data, own + 4, column.row_bounds()[rows].astype("<f8"))
        counts = [n_parts[rows], n_points[rows]] if has_parts else [n_points[rows]]
        put_rows(data, own + 36, np.stack(counts, axis=1).astype("<i4"))
        place = own + head
        if has_parts:
            row_of = np.repeat(np.arange(column.n_rows), n_parts)
            starts = column.ring_offsets[:-1] - vertices[row_of]
            _scatter(data, place, starts.astype("<i4"), 4 * n_parts[rows])
            place = place + 4 * n_parts[rows]
        _scatter(data, place, column.xy.astype("<f8"), 16 * n_points[rows])
        place = place + 16 * n_points[rows]
        for values in measures:
            put_rows(data, place, _ranges(values, vertices[:-1][rows]).astype("<f8"))
            _scatter(data, place + 16, values.astype("<f8"), 8 * n_points[rows])
            place = place + 16 + 8 * n_points[rows]
    data[:_HEAD] = _head(column, code, len(data), measures)
    index = np.zeros(_HEAD + 8 * column.n_rows, np.uint8)
    pairs = np.stack([(at - 8) // 2, sizes // 2], axis=1).astype(">i4")
    index[_HEAD:] = np.ascontiguousarray(pairs).view(np.uint8).reshape(-1)
    index[:_HEAD] = _head(column, code, len(index), measures)
    return data, index


def _measures(column: GeometryColumn, code: int) -> list[F64Array]:
    """Return what vertices have besides: Z if the type has it, and M, which goes with it."""
    if code < 10:
        return []
    m = np.full(column.n_vertices, np.nan) if column.m is None else column.m
    m = np.where(np.isnan(m), _NONE, m)
    return [m] if column.z is None else [column.z, m]


def _ranges(values: F64Array, firsts: I64Array) -> F64Array:
    """Return (n, 2) least and largest of groups that begin at ``firsts``; of M those that are one."""
    if len(firsts) == 0:
        return np.zeros((0, 2))
    least = np.minimum.reduceat(np.where(values > -1e38, values, np.inf), firsts)
    most = np.maximum.reduceat(values, firsts)
    return np.stack([np.where(np.isinf(least), most, least), most], axis=1)


def _scatter(data: U8Array, at: I64Array, values: np.ndarray, lengths: I64Array) -> None:
    raw = np.ascontiguousarray(values).view(np.uint8).reshape(-1)
    kernels.run(
        kernels.wkb.scatter_ranges,
        raw,
        np.ascontiguousarray(at, np.int64),
        np.ascontiguousarray(lengths, np.int64),
        data,
    )


def _head(column: GeometryColumn, code: int, size: int, measures: Sequence[F64Array]) -> U8Array:
    head: U8Array = np.zeros(_HEAD, np.uint8)
    head[:4], head[24:28] = _bytes([9994], ">i4"), _bytes([size // 2], ">i4")
    head[28:36] = _bytes([1000, code], "<i4")
    head[36:68] = _bytes(extent_of(column.row_bounds()) or (0.0,) * 4, "<f8")
    spans = [_ranges(v, np.zeros(1, np.int64))[0] for v in measures if len(v)]
    if len(spans) == 2:
        head[68:84] = _bytes(spans[0], "<f8")
    if spans:
        head[84:100] = _bytes(spans[-1], "<f8")
    return head


def _bytes(values: Any, kind: str) -> U8Array:
    return np.array(values, kind).view(np.uint8)


def table(fields: Sequence[FieldOf], columns: Sequence[Sequence[Any]], n_rows: int) -> list[Any]:
    """Return the pieces of the .dbf: its header, its records, its end.

    Values are texts, whole or real numbers, booleans, dates, or None.
    """
    width = 1 + sum(field.width for field in fields)
    records = np.full((n_rows, width), ord(" "), np.uint8)
    start = 1
    for field, values in zip(fields, columns, strict=True):
        if n_rows:
            raw = np.array([_cell(v, field) for v in values], f"S{field.width}")
            own = raw.view(np.uint8).reshape(n_rows, field.width)
            records[:, start : start + field.width] = np.where(own == 0, ord(" "), own)
        start += field.width
    day = _today()
    head = bytearray(bytes([3, day.year - 1900, day.month, day.day]))
    head += n_rows.to_bytes(4, "little")
    head += (33 + 32 * len(fields)).to_bytes(2, "little") + width.to_bytes(2, "little") + bytes(20)
    for field in fields:
        head += field.name.encode("utf-8")[:10].ljust(11, b"\x00") + field.kind.encode() + bytes(4)
        head += bytes([field.width, field.decimals]) + bytes(14)
    return [bytes(head) + b"\r", records.tobytes(), b"\x1a"]


def _cell(value: Any, field: FieldOf) -> bytes:
    if field.kind == "C":
        return b"" if value is None else str(value).encode("utf-8")
    if field.kind == "L":
        return b"" if value is None else b"T" if value else b"F"
    if field.kind == "D":
        return b"0" * 8 if value is None else value.strftime("%Y%m%d").rjust(8, "0").encode()
    if value is None:
        return b"*" * field.width
    text = f"{value:.{field.decimals}f}" if field.decimals else f"{value:.0f}"
    text = str(value) if isinstance(value, int) else text
    return text[: field.width].rjust(field.width).encode()


def _today() -> datetime.date:
    """Return the day of the header; the one that SOURCE_DATE_EPOCH says if it is set."""
    fixed = os.environ.get("SOURCE_DATE_EPOCH", "")
    if fixed.isdigit():
        return datetime.datetime.fromtimestamp(int(fixed), datetime.UTC).date()
    return datetime.date.today()
