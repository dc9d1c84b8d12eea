"""The reference systems that geometries as WKB say by an SRID, as an extension of it has them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import proj
from polygene.arrays import BoolArray, I64Array, U8Array
from polygene.formats.columns import Held
from polygene.formats.wkt_columns import agreed_system

_HAS_SRID = 0x20000000


def in_system_of_wkb(
    held: Held, crs: proj.CRS | None, path: Path, notes: list[str]
) -> proj.CRS | None:
    """Return the CRS of geometries as WKB: what its file states, or else what its SRIDs are.

    Where some say that they are in another than the file states, that is noted.

    Raises
    ------
    DataError
        If the file states none, and they are in several.
    """
    data, starts, _, is_null = held
    if not _any_says_one(data, starts[~is_null]):
        return crs
    systems = systems_in(data, starts, ~is_null)
    return agreed_system(systems, crs, path, notes)


def _any_says_one(data: U8Array, starts: I64Array) -> bool:
    """Whether any may have an SRID, by the byte of its kind that would say so."""
    starts = starts[starts + 9 <= len(data)]
    if not len(starts):
        return False
    at = np.where(data[starts] == 1, starts + 4, starts + 1)
    return bool((data[at] & (_HAS_SRID >> 24)).any())


def systems_in(data: U8Array, starts: I64Array, is_there: BoolArray) -> pa.ChunkedArray:
    """Return the SRID of each row, of no letters where none is said and null where no geometry is."""
    has = is_there & (starts + 9 <= len(data))
    head = np.zeros((len(starts), 9), np.uint8)
    head[has] = data[starts[has, None] + np.arange(9)]
    is_little = head[:, :1] == 1
    words = [np.where(is_little, word, word[:, ::-1]) for word in (head[:, 1:5], head[:, 5:])]
    kind, srid = (np.ascontiguousarray(word).view("<u4").ravel() for word in words)
    texts = pc.cast(pa.array(srid.astype(np.int64)), pa.string())
    texts = pc.if_else(pa.array(has & (kind & _HAS_SRID > 0)), texts, pa.scalar(""))
    return pa.chunked_array([pc.if_else(pa.array(is_there), texts, pa.scalar(None, pa.string()))])
