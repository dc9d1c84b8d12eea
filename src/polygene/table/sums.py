"""Sums that are correctly rounded, whatever the order of what is added."""

from __future__ import annotations

import math

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from polygene.arrays import F64Array, I64Array, bucket

_SCALE = 2.0**60


def rounded_sums(group: I64Array, values: F64Array, n_groups: int) -> F64Array:
    """Return the sum of each group, as if it were added exactly and rounded once (Shewchuk 1997).

    Parameters
    ----------
    group, values : (n,) the group of each value

    Returns
    -------
    (n_groups,) float64
        0 for none; not finite if a value is not.
    """
    found = np.zeros(n_groups)
    grouped = bucket(group, n_groups)
    ordered, starts = values[grouped.order], grouped.offsets[:-1]
    counts = np.diff(grouped.offsets)
    for k in (1, 2):  # which one addition rounds rightly
        own = counts == k
        found[own] = ordered[starts[own]] + (ordered[starts[own] + 1] if k == 2 else 0.0)
    for g in np.flatnonzero(counts > 2).tolist():
        found[g] = _sum(ordered[grouped.offsets[g] : grouped.offsets[g + 1]])
    return found


def _sum(values: F64Array) -> float:
    try:
        return math.fsum(values.tolist())
    except (OverflowError, ValueError):  # on the way, or infinities of both signs
        with np.errstate(all="ignore"):
            if not np.isfinite(values).all():
                return float(values.sum())
            return math.fsum((values / _SCALE).tolist()) * _SCALE


def exact_sum(column: pa.ChunkedArray) -> float:
    """Return the sum of numbers, rounded once; nulls count nothing."""
    if pa.types.is_integer(column.type):
        high = pc.sum(pc.shift_right(column.cast(pa.int64()), 32)).as_py() or 0
        low = pc.sum(pc.bit_wise_and(column.cast(pa.int64()), 2**32 - 1)).as_py() or 0
        return float(high * 2**32 + low)
    values = np.asarray(column.drop_null().cast(pa.float64()))
    return _sum(values)
