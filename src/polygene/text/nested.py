"""Texts of coordinates in nested lists, as GeoJSON and well-known text have them.

All numbers are written in one call; lists about them are joined level by level, all of a level at once.
"""

from __future__ import annotations

import numpy as np
import orjson
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array, U8Array, distinct
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn

_OPEN, _CLOSE, _COMMA, _BLANK = b"[],\x20"


class Signs(NamedTuple):
    """How lists are written.

    has_pairs : whether positions are lists too, with commas between numbers; else there are blanks
    """

    opening: str
    closing: str
    has_pairs: bool


JSON = Signs("[", "]", True)  # RFC 7946, 3.1
WELL_KNOWN = Signs("(", ")", False)  # OGC 06-103r4, 7.2


def nested(column: GeometryColumn, signs: Signs) -> pa.LargeStringArray:
    """Return the text of each row's coordinates; null where it has none.

    A height that is not known is left out: there is no null in a position.
    """
    has_any = np.diff(column.vertex_offsets_of_rows) > 0
    if not has_any.any():
        return pa.nulls(column.n_rows, pa.large_string())
    levels = _levels(column)
    data, starts = _positions(column, signs.has_pairs and bool(levels), signs.has_pairs)
    # Of a position that is the whole, and of lists that are: each has its closing sign, and no opening.
    bounds = distinct(levels[0]) if levels else np.arange(column.n_vertices + 1)
    data[starts[bounds[1:]] - 1] = ord(signs.closing)
    buffers = [None, pa.py_buffer(starts[bounds]), pa.py_buffer(data)]
    texts = pa.Array.from_buffers(pa.large_string(), len(bounds) - 1, buffers)
    for offsets in levels[1:]:
        lower, bounds = bounds, distinct(offsets)
        within = spanned(texts, np.searchsorted(lower, bounds), f",{signs.opening}")
        texts = joined(signs.opening, within, signs.closing)
    texts = joined(signs.opening, texts)
    if has_any.all():
        return texts
    return pc.take(texts, pc.with_nulls(np.cumsum(has_any) - 1, ~has_any))


def rings_told(column: GeometryColumn, last: str) -> pa.LargeStringArray:
    """Return the text of each ring: positions parted by blanks, numbers by commas, and a last sign."""
    data, starts = _positions(column, has_brackets=False, has_commas=True)
    data[starts[1:] - 1] = _BLANK
    offsets = column.ring_offsets
    data[starts[offsets[1:]] - 1] = ord(last)
    buffers = [None, pa.py_buffer(starts[offsets]), pa.py_buffer(data)]
    texts = pa.Array.from_buffers(pa.large_string(), column.n_rings, buffers)
    is_empty = np.diff(offsets) == 0
    return pc.if_else(is_empty, pa.scalar(last, texts.type), texts) if is_empty.any() else texts


def spanned(texts: pa.LargeStringArray, offsets: I64Array, sign: str = "") -> pa.LargeStringArray:
    """Return texts joined to as many as there are spans of them, with a sign between."""
    lists = pa.ListArray.from_arrays(pc.column(offsets.astype(np.int32)), texts)
    return pc.binary_join(lists, pa.scalar(sign, texts.type))


def joined(*pieces: pa.Array | str) -> pa.LargeStringArray:
    """Return the texts of all pieces behind each other; one that is no array is the same in each."""
    wide = [pa.scalar(p, pa.large_string()) if isinstance(p, str) else p for p in pieces]
    return pc.binary_join_element_wise(*wide, pa.scalar("", pa.large_string()))


def _levels(column: GeometryColumn) -> list[I64Array]:
    """Return the vertex offsets of each level of lists about positions, the innermost first."""
    rings = column.ring_offsets
    parts = rings[column.part_offsets]
    by_family = {
        Family.POINTS: [],
        Family.LINES: [parts],
        Family.POLYGONS: [rings, parts],
    }[column.family]
    return [*by_family, column.vertex_offsets_of_rows] if column.is_multi else by_family


def _positions(
    column: GeometryColumn, has_brackets: bool, has_commas: bool
) -> tuple[U8Array, I64Array]:
    """Return the texts of positions, a comma behind each, and (n_vertices + 1,) where they begin."""
    if not column.n_vertices:
        return np.zeros(0, np.uint8), np.zeros(1, np.int64)
    values = column.xy
    if column.z is not None:
        values = np.concatenate([column.xy, column.z[:, None]], axis=1)
    text = orjson.dumps(np.ascontiguousarray(values), option=orjson.OPT_SERIALIZE_NUMPY)
    if column.z is not None and np.isnan(column.z).any():
        text = text.replace(b",null]", b"]")
    # Without the first bracket, and the last is where the last comma comes.
    data = np.frombuffer(text, np.uint8)[1:].copy()
    stops = np.flatnonzero((data[1:] == _COMMA) & (data[:-1] == _CLOSE)) + 1
    stops = np.append(stops, len(data) - 1)
    if not has_commas:
        data[data == _COMMA] = _BLANK
    data[stops] = _COMMA
    if not has_brackets:
        data = data[(data != _OPEN) & (data != _CLOSE)]
        stops -= 2 * np.arange(1, len(stops) + 1)
    return data, np.concatenate([[0], stops + 1])
