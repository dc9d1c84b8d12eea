"""Blobs of geometry (section 2.1.3 of the standard), a column at a time."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray, U8Array
from polygene.formats import wkb
from polygene.text.assemble import Parts

_ENVELOPE_BYTES = np.array([0, 32, 48, 48, 64, -1, -1, -1])


class BadBlobError(Exception):
    """A row's geometry cannot be decoded: ``row`` counted from 0, ``reason`` in words."""

    def __init__(self, row: int, reason: str) -> None:
        super().__init__(row, reason)
        self.row, self.reason = row, reason


def n_of_other_systems(blobs: pa.Array, srs_id: int) -> int:
    """Return how many geometries say by their header that they are in another system than the table's.

    An undefined one (-1, 0) says nothing. ``blobs`` are such as `decoded` takes.
    """
    offsets = np.frombuffer(blobs.buffers()[1], np.int64)[: len(blobs) + 1]
    starts = offsets[:-1][np.asarray(pc.is_valid(blobs))]
    if not len(starts):
        return 0
    data = np.frombuffer(blobs.buffers()[2], np.uint8)
    head = data[starts[:, None] + np.arange(4, 8)]
    own = np.where(data[starts + 3] & 1, head.view("<i4")[:, 0], head.view(">i4")[:, 0])
    return int(((own != srs_id) & (own > 0)).sum())


def decoded(blobs: pa.Array, first: int) -> tuple[list[Parts], BoolArray]:
    """Decode the standard's geometry blobs (section 2.1.3): a header, then WKB.

    Parameters
    ----------
    blobs : large_binary
    first : int
        Number of the first of these rows in the result.

    Returns
    -------
    parts, is_multi
        As of `wkb.parts_of`.

    Raises
    ------
    BadBlobError
    """
    data: U8Array
    offsets = np.frombuffer(blobs.buffers()[1], np.int64)[: len(blobs) + 1]
    buffer = blobs.buffers()[2]
    data = np.frombuffer(buffer, np.uint8) if buffer is not None else np.zeros(0, np.uint8)
    starts, stops = offsets[:-1].copy(), offsets[1:]
    has = np.flatnonzero(~np.asarray(pc.is_null(blobs)))

    def refuse(row: int, reason: str) -> BadBlobError:
        return BadBlobError(first + row, reason)

    at = starts[has]
    is_short = stops[has] - at < 8
    if is_short.any():
        raise refuse(int(has[is_short][0]), "its geometry is cut short")
    is_strange = (data[at] != ord("G")) | (data[at + 1] != ord("P"))
    if is_strange.any():
        raise refuse(int(has[is_strange][0]), "its geometry is no GeoPackage geometry")
    flags = data[at + 3]
    is_extended = (flags & 32) > 0
    if is_extended.any():
        raise refuse(int(has[is_extended][0]), "its geometry is of an extended type")
    size = _ENVELOPE_BYTES[(flags >> 1) & 7]
    is_wrong = (size < 0) | (at + 8 + size > stops[has])
    if is_wrong.any():
        raise refuse(int(has[is_wrong][0]), "the envelope of its geometry is damaged")
    starts[has] = at + 8 + size
    try:
        return wkb.parts_of(data, starts, stops, first)
    except wkb.WkbError as err:
        raise refuse(err.row, err.reason) from err
