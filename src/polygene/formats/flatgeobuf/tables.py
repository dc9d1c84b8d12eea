"""FlatBuffers tables at many places at once: arrays of positions in, arrays of values out.

A table begins with the distance back to its list of fields; the list tells its own size, the
table's, and where in the table each field lies, 0 if it does not.
"""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import I64Array, U8Array


class Damaged(ValueError):
    """Something points outside the file."""


def values_at(data: U8Array, at: I64Array, kind: str) -> np.ndarray:
    """Return the numbers of a NumPy type that begin at bytes (n,).

    Raises
    ------
    Damaged
        If one does not lie in the data.
    """
    size = np.dtype(kind).itemsize
    if len(at) == 0:
        return np.zeros(0, kind)
    if at.min() < 0 or at.max() + size > len(data):
        raise Damaged("it points outside the file")
    found, at = np.empty(len(at), kind), np.ascontiguousarray(at)

    def take(first: int, stop: int) -> None:
        own = found[first:stop].view(np.uint8)
        kernels.run(kernels.wkb.take_numbers, data, at[first:stop], size, own)

    parallel.each(take, parallel.split(len(at)))
    return found


def whole(data: U8Array, at: I64Array, kind: str) -> I64Array:
    """Return `values_at` as int64."""
    return values_at(data, at, kind).astype(np.int64)


def followed(data: U8Array, at: I64Array) -> I64Array:
    """Return where the distances that lie at bytes (n,) lead; -1 stays."""
    result = np.full(len(at), -1, np.int64)
    is_there = at >= 0
    own = at[is_there]
    result[is_there] = own + whole(data, own, "<u4")
    return result


def fields_at(data: U8Array, tables: I64Array, slot: int) -> I64Array:
    """Return where a field of tables (n,) lies, -1 where there is none."""
    lists = tables - whole(data, tables, "<i4")
    result = np.full(len(tables), -1, np.int64)
    knows = whole(data, lists, "<u2") >= 6 + 2 * slot
    offsets = whole(data, lists[knows] + 4 + 2 * slot, "<u2")
    result[knows] = np.where(offsets > 0, tables[knows] + offsets, -1)
    return result


def vectors_at(data: U8Array, tables: I64Array, slot: int, item: int) -> tuple[I64Array, I64Array]:
    """Return where the items of a vector field begin (n,) and how many there are; 0 if it is not there.

    Raises
    ------
    Damaged
        If one claims more items of so many bytes than the data hold, or all together do: many that
        share one place would be copied as often.
    """
    places = followed(data, fields_at(data, tables, slot))
    counts = np.zeros(len(tables), np.int64)
    is_there = places >= 0
    counts[is_there] = whole(data, places[is_there], "<u4")
    starts = np.where(is_there, places + 4, 0)
    if (starts + counts * item > len(data)).any():
        raise Damaged("it counts more than it holds")
    if int(counts.sum()) * item > len(data):
        raise Damaged("many of its features share what they hold")
    return starts, counts
