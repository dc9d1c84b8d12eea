"""Columns of WKB in hexadecimal digits, as databases write geometry into tables, and their SRID."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array, U8Array
from polygene.errors import GeometryError
from polygene.formats import wkb
from polygene.formats.columns import ADVICE, from_wkb
from polygene.formats.wkb_systems import systems_in
from polygene.formats.wkt_columns import system_of
from polygene.text.assemble import OfFamily

if TYPE_CHECKING:
    import pyproj

_LOOKS = re.compile(r"(?:\\x)?0[01](?:[0-9a-fA-F]{2}){8,}")
_DIGITS = np.full(256, 255, np.uint8)
_DIGITS[list(b"0123456789")] = np.arange(10)
_DIGITS[list(b"abcdef")] = _DIGITS[list(b"ABCDEF")] = np.arange(10, 16)


def is_one(text: str) -> bool:
    """Whether a text is the digits of a geometry: it is decoded to see."""
    if not _LOOKS.fullmatch(text):
        return False
    data = np.frombuffer(bytes.fromhex(text.removeprefix("\\x")), np.uint8)
    try:
        wkb.parts_of(data, np.zeros(1, np.int64), np.array([len(data)]))
    except wkb.WkbError:
        return False
    return True


def from_hex(
    column: pa.ChunkedArray, path: Path, notes: list[str]
) -> tuple[list[OfFamily], pyproj.CRS | None]:
    """Decode a column; return its geometries, and the CRS if they say one.

    Raises
    ------
    GeometryError
        If a row is none.
    DataError
        If they are in several systems.
    """
    texts = pc.cast(column, pa.large_string())
    texts = pc.replace_substring_regex(pc.utf8_trim_whitespace(texts), r"^\\x", "")
    texts = pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.large_string()), texts)
    array = texts.combine_chunks()
    array = pa.concat_arrays(array.chunks) if isinstance(array, pa.ChunkedArray) else array
    is_null = np.asarray(pc.is_null(array))
    given = pc.fill_null(array, "")
    _, ends, held = given.buffers()
    n = len(given)
    offsets = np.frombuffer(ends, np.int64)[given.offset : given.offset + n + 1]
    digits = _DIGITS[np.frombuffer(held, np.uint8)[offsets[0] : offsets[-1]]] if n else _DIGITS[:0]
    offsets = offsets - offsets[0]
    _check(digits, offsets, path)
    data = np.ascontiguousarray(digits[::2] << 4 | digits[1::2])
    binary = pc.of_bytes(pa.large_binary(), offsets // 2, data, is_null)
    crs = system_of(systems_in(data, offsets[:-1] // 2, ~is_null), path, notes)
    return from_wkb(pa.chunked_array([binary]), path), crs


def _check(digits: U8Array, offsets: I64Array, path: Path) -> None:
    bad = np.flatnonzero(digits == 255)[:1]
    rows = np.searchsorted(offsets, bad, side="right") - 1
    rows = np.concatenate([rows, np.flatnonzero(np.diff(offsets) % 2)])
    if len(rows):
        where = f"row {int(rows.min()) + 1}"
        raise GeometryError(
            str(path), where, "its geometry is no WKB in hexadecimal digits", ADVICE
        )
