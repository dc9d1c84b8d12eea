"""Sums that are correctly rounded, whatever the order of what is added."""

from __future__ import annotations

import math

import numpy as np

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
