"""Coordinates taken from texts, past Python's lists and numbers: lists of numbers in arrays."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import F64Array, I32Array, I64Array, U8Array, offsets_from, spans, take_spans
from polygene.classes import NamedTuple
from polygene.geometry import Family
from polygene.text.assemble import Parts
from polygene.text.coordinates import TYPES

_DEPTHS = {name: 1 + family + is_multi for name, (family, is_multi) in TYPES.items()}


class OddError(ValueError):
    """Coordinates that are not as they mostly are; the other way may take them."""


class Lifted(NamedTuple):
    """Lists of numbers, of lists of them, and so on.

    depth : (n_lists,) levels of each
    counts : for each level, from the innermost, how many items its lists have
    firsts : (n_lists + 1, levels) how many lists of each level come before those of each
    values : (n_values,)
    """

    depth: I64Array
    counts: list[I64Array]
    firsts: I64Array
    values: F64Array

    def parts_of(self, kind: str, found: Sequence[Any], rows: I64Array) -> Parts:
        """Return the parts of geometries of one type, as `coordinates.parts_of` does.

        Raises
        ------
        OddError
            If ``found`` are no lists that were lifted, or not of the depth or length that they should
            have.
        """
        family, is_multi = TYPES[kind]
        if set(map(type, found)) != {int} or min(found) < 0 or max(found) >= len(self.depth):
            raise OddError
        chosen = np.array(found, np.int64)
        if (self.depth[chosen] != _DEPTHS[kind]).any():
            raise OddError
        levels = [self._of(chosen, level) for level in range(_DEPTHS[kind])]
        if is_multi:
            rows = np.repeat(rows, levels.pop())
        sizes = levels[0]
        if (sizes < 2).any():
            raise OddError
        one = np.ones(len(rows), np.int64)
        vertex_counts = one if family == Family.POINTS else levels[1]
        ring_counts = levels[2] if family == Family.POLYGONS else one
        xy, z = self._columns(chosen, sizes)
        n_longer = int((sizes > 3).sum())
        return Parts(family, rows, ring_counts, vertex_counts, xy, z, n_longer=n_longer)

    def _of(self, chosen: I64Array, level: int) -> I64Array:
        """Return how many items the lists of a level have of some."""
        first, stop = self.firsts[chosen, level], self.firsts[chosen + 1, level]
        if self._are_all(chosen):
            return self.counts[level]
        return take_spans(self.counts[level], first, stop - first)

    def _columns(self, chosen: I64Array, sizes: I64Array) -> tuple[F64Array, F64Array | None]:
        values = self.values
        if not self._are_all(chosen):
            starts = offsets_from(self.counts[0])
            first, stop = (starts[self.firsts[at, 0]] for at in (chosen, chosen + 1))
            values = take_spans(values, first, stop - first)
        if (sizes == 2).all():
            return values.reshape(-1, 2), None
        at = offsets_from(sizes)[:-1]
        z = np.full(len(sizes), np.nan)
        z[sizes > 2] = values[at[sizes > 2] + 2]
        return values[spans(at, np.full(len(at), 2))].reshape(-1, 2), z

    def _are_all(self, chosen: I64Array) -> bool:
        return len(chosen) == len(self.depth) and bool((chosen == np.arange(len(chosen))).all())


def lifted(
    text: U8Array, ends: I32Array, counts: I32Array, lists: I32Array, totals: I64Array
) -> Lifted | None:
    """Return what a kernel lifted; None if a number is larger than any of 64 bits.

    Parameters
    ----------
    text, ends, counts, totals : as `kernels.lists.lift_lists` leaves them
    lists : (n_lists + 1, 5) likewise; the last is room
    """
    lists[-1, 1:] = totals[2:6]
    n_bytes, n_values = totals[:2].tolist()
    texts = pa.StringArray.from_buffers(
        n_values, pa.py_buffer(ends[: n_values + 1]), pa.py_buffer(text[:n_bytes])
    )
    try:
        values = np.array(pc.cast(texts, pa.float64()))  # kernels take none that is read-only
    except pa.ArrowInvalid:
        return None
    if not np.isfinite(values).all():
        return None
    of_levels = [counts[k, : totals[2 + k]].astype(np.int64) for k in range(4)]
    firsts = lists[:, 1:].astype(np.int64)
    return Lifted(lists[:-1, 0].astype(np.int64), of_levels, firsts, values)
