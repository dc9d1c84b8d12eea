"""Well-known text (OGC 06-103r4, 7.2), by way of the nested lists that GeoJSON has.

Of columns of it the numbers are lifted out by a kernel, as long as they are as texts mostly are;
what is not is left to the way that takes them one by one.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
import orjson
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels
from polygene.arrays import I64Array, U8Array, owners, sum_by
from polygene.geometry import Family, GeometryColumn
from polygene.text.assemble import OfFamily, Parts, columns_of
from polygene.text.coordinates import TYPES, parts_of
from polygene.text.lifted import Lifted, lifted
from polygene.text.nested import WELL_KNOWN, joined, nested

_KINDS = {
    name.upper(): name
    for name in ("Point", "MultiPoint", "LineString", "MultiLineString", "Polygon", "MultiPolygon")
}
_WKT = re.compile(
    r"\s*(?:SRID=\d+;)?\s*([A-Za-z]+?)\s*(ZM|Z|M)?\s*(EMPTY\s*$|\(.*\)\s*$)", re.S | re.I
)

_COLLECTION = re.compile(
    r"\s*(?:SRID=\d+;)?\s*geometrycollection\s*(?:zm|z)?\s*(?:(\()|empty\s*$)", re.I
)
MOST = 2**28  # bytes of a column that are looked at together
_WORDS = np.array([[word.ljust(15)] for word in (*_KINDS, "EMPTY", "ZM")], "S15").view(np.uint8)
_NAMES = {Family.POINTS: "POINT", Family.LINES: "LINESTRING", Family.POLYGONS: "POLYGON"}
_SRID = re.compile(r"^(?i:\s*SRID=[0-9]+;)")
_EMPTY = 16  # added to the number of a kind


def lift_column(column: pa.ChunkedArray) -> list[OfFamily] | None:
    """Return the geometries of a column of texts; None if some text is none that can be lifted.

    What is null and what is a text of nothing have none.
    """
    n_rows = len(column)
    is_null, is_multi = np.zeros(n_rows, bool), np.zeros(n_rows, bool)
    parts: list[Parts] = []
    first = 0
    for data, starts in _pieces(column):
        rows = slice(first, first + len(starts) - 1)
        kind = np.zeros(len(starts) - 1, np.uint8)
        lists = _lifted(data, starts, kind)
        if lists is None:
            return None
        is_null[rows] = kind == 0
        is_multi[rows] = (kind % _EMPTY > 0) & (kind % 2 == 0)
        of_lists = kind[(kind > 0) & (kind < _EMPTY)]
        at = first + np.flatnonzero((kind > 0) & (kind < _EMPTY))
        for k, name in enumerate(TYPES):
            own = np.flatnonzero(of_lists == k + 1)
            if len(own):
                parts.append(lists.parts_of(name, own.tolist(), at[own]))
        first = rows.stop
    return columns_of(parts, n_rows, is_null, is_multi, Family.POINTS)


def _pieces(column: pa.ChunkedArray) -> Iterator[tuple[U8Array, I64Array]]:
    """Return the bytes of some texts after the others, and where each begins; of nothing if null."""
    for chunk in column.chunks:
        texts = pc.cast(pc.fill_null(chunk, ""), pa.large_string())
        if len(texts) and _SRID.match(texts[0].as_py()):  # then mostly all have one
            texts = pc.replace_substring_regex(texts, _SRID.pattern, "")
        while len(texts):
            _, ends, data = texts.buffers()
            starts = np.frombuffer(ends, np.int64)[texts.offset : texts.offset + len(texts) + 1]
            n = max(1, int(np.searchsorted(starts, starts[0] + MOST, side="right")) - 1)
            held = np.zeros(0, np.uint8)
            if data is not None:
                held = np.frombuffer(data, np.uint8)[starts[0] : starts[n]].copy()
            yield held, starts[: n + 1] - starts[0]
            texts = texts.slice(n)


def _lifted(data: U8Array, starts: I64Array, kind: U8Array) -> Lifted | None:
    size = len(data)
    text, ends = np.empty(size, np.uint8), np.empty(size // 2 + 2, np.int32)
    counts = np.empty((4, size // 4 + 2), np.int32)
    lists, totals = np.empty((len(kind) + 1, 5), np.int32), np.zeros(8, np.int64)
    n = kernels.run(
        kernels.lists.lift_texts,
        data, starts, _WORDS, text, ends, counts, lists, kind, totals, np.zeros(6, np.int64),
    )  # fmt: skip
    return None if n < 0 else lifted(text, ends, counts, lists[: n + 1], totals)


def with_all_heights_or_none(column: GeometryColumn) -> tuple[GeometryColumn, int]:
    """Return a column without the heights of rows in which a vertex has none, and their number.

    Of a geometry with Z every position has three numbers (OGC 06-103r4, 7.2.2).
    """
    if column.z is None or not (is_open := np.isnan(column.z)).any():
        return column, 0
    row = owners(column.vertex_offsets_of_rows)
    n_open = sum_by(row, is_open, column.n_rows)
    is_partly = (n_open > 0) & (n_open < np.diff(column.vertex_offsets_of_rows))
    z = np.where(is_partly[row], np.nan, column.z)
    return replace(column, z=None if np.isnan(z).all() else z), int(is_partly.sum())


def column_to_text(column: GeometryColumn) -> pa.LargeStringArray:
    """Return a column as texts; null stays null."""
    name = ("MULTI" if column.is_multi else "") + _NAMES[column.family]
    texts = nested(column, WELL_KNOWN)
    lead = pa.scalar(f"{name} ", texts.type)
    if column.z is not None:
        has_z = (
            sum_by(owners(column.vertex_offsets_of_rows), ~np.isnan(column.z), column.n_rows) > 0
        )
        lead = pc.if_else(has_z, pa.scalar(f"{name} Z ", texts.type), lead)
    texts = joined(lead, pc.fill_null(texts, "EMPTY"))
    return pc.if_else(column.is_null, pa.scalar(None, texts.type), texts)


def parsed(text: str) -> dict[str, Any]:
    """Return a text as a GeoJSON geometry.

    Raises
    ------
    ValueError
        If it is none that is known.
    """
    members = _members(text)
    if members is not None:
        return {"type": "GeometryCollection", "geometries": list(map(parsed, members))}
    match = _WKT.fullmatch(text)
    if match is None or match[1].upper() not in _KINDS:
        raise ValueError(text)
    kind = _KINDS[match[1].upper()]
    if match[3].upper().startswith("EMPTY"):
        return {"type": kind, "coordinates": []}
    body = match[3]
    if kind == "MultiPoint":
        body = re.sub(r"\(\s*([^()]+?)\s*\)", r"\1", body[body.index("(") + 1 : body.rindex(")")])
        body = f"({body})"
    if match[2] and match[2].upper() == "M":
        raise ValueError("M alone")
    lists = re.sub(r"[^(),]+", lambda m: _numbers(m[0]), body)
    coordinates = orjson.loads(lists.replace("(", "[").replace(")", "]"))
    return {"type": kind, "coordinates": coordinates[0] if kind == "Point" else coordinates}


def _numbers(text: str) -> str:
    if not text.strip():
        return ""
    return "[" + ",".join(repr(float(v)) for v in text.split()[:3]) + "]"


def members_of(text: str) -> list[GeometryColumn]:
    """Return a text as columns of one row: several of a collection, else one.

    Raises
    ------
    ValueError
        If it is none that is known.
    """
    members = _members(text)
    if members is None:
        return [column_of(text)]
    return [column for member in members for column in members_of(member)]


def _members(text: str) -> list[str] | None:
    """Return the texts of the members of a collection; None of what is none."""
    match = _COLLECTION.match(text)
    if match is None:
        return None
    if match[1] is None:
        return []
    body, depth, parts = text[match.end() : text.rindex(")")], 0, [""]
    for sign in body:
        depth += (sign == "(") - (sign == ")")
        if sign == "," and not depth:
            parts.append("")
        else:
            parts[-1] += sign
    return parts


def column_of(text: str) -> GeometryColumn:
    """Return a text as a column of one row.

    Raises
    ------
    ValueError
        If it is none that is known.
    """
    geometry = parsed(text)
    row = np.zeros(1, np.int64)
    parts = [parts_of(geometry["type"], [geometry["coordinates"]], row)]
    nothing = np.zeros(1, bool)
    return columns_of(parts, 1, nothing, nothing, Family.POINTS)[0].geometry
