"""Sums that are correctly rounded, whatever the order of what is added."""

from __future__ import annotations

import math

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from polygene import kernels
from polygene.arrays import F64Array, I64Array, bucket, count_by

_SCALE = 2.0**60
_UNIT = 2.0**-52  # twice what an addition rounds by at most, as a share


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
    total, rest, size = np.zeros((3, n_groups))
    # What is Arrow's own may not be written to, and kernels take nothing that may not.
    group = np.require(group, np.int64, ("C", "W"))
    values = np.require(values, np.float64, ("C", "W"))
    kernels.run(kernels.sums.add_numbers, group, values, total, rest, size)
    counts = count_by(group, n_groups)
    # The rest is off by less than this, so the sum is certain where both ends round to the same.
    off = counts * _UNIT * size + np.abs(rest) * (4 * _UNIT)
    with np.errstate(invalid="ignore"):
        found = total + (rest - off)
        is_certain = np.isfinite(found) & (found == total + (rest + off))
    # Of two numbers one addition is the sum, rounded once.
    found = np.where(counts <= 2, total, found)
    doubtful = np.flatnonzero(~is_certain & ((counts > 2) | ~np.isfinite(total)))
    if len(doubtful):
        place = np.full(n_groups, -1)
        place[doubtful] = np.arange(len(doubtful))
        own = np.flatnonzero(place[group] >= 0)
        grouped = bucket(place[group[own]], len(doubtful))
        ordered, ends = values[own[grouped.order]], grouped.offsets
        for k, g in enumerate(doubtful.tolist()):
            found[g] = _sum(ordered[ends[k] : ends[k + 1]])
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
    return float(rounded_sums(np.zeros(len(values), np.int64), values, 1)[0])
