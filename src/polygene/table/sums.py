"""Sums that are correctly rounded, whatever the order of what is added."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels, parallel
from polygene.arrays import FEW_KEYS, LANES, BoolArray, F64Array, I64Array, bucket, count_by, sum_by

_SCALE = 2.0**60
_UNIT = 2.0**-52  # twice what an addition rounds by at most, as a share


def rounded_sums(group: I64Array, values: F64Array, n_groups: int) -> F64Array:
    """Return the sum of each group, added exactly and rounded once: see `counted_sums`."""
    return counted_sums(group, values, n_groups)[0]


def counted_sums(group: I64Array, values: F64Array, n_groups: int) -> tuple[F64Array, I64Array]:
    """Return the sum of each group, as if it were added exactly and rounded once, and how many it has.

    Parameters
    ----------
    group, values : (n,) the group of each value

    Returns
    -------
    (n_groups,) float64, (n_groups,) int64
        The sum is 0 for none, and not finite if a value is not.
    """
    found = exact_sums(group, values, n_groups)
    return found.rounded, found.counts


class Sums(NamedTuple):
    """Sums of groups.

    rounded : (n_groups,) as if added exactly and rounded once; 0 for none, not finite if a value is not
    rest : (n_groups,) what the rounding took, to the precision of a double
    counts : (n_groups,) how many values there are
    """

    rounded: F64Array
    rest: F64Array
    counts: I64Array


def exact_sums(group: I64Array, values: F64Array, n_groups: int) -> Sums:
    """Return the sum of each group, in two numbers, as if it were added exactly.

    After Shewchuk (1997), "Adaptive precision floating-point arithmetic".

    Parameters
    ----------
    group, values : (n,) the group of each value
    """
    group = np.ascontiguousarray(group, np.int64)
    values = np.ascontiguousarray(values, np.float64)
    n_lanes = LANES if n_groups <= FEW_KEYS else 1
    parts = parallel.split_of_groups(len(values), n_groups)

    def add(first: int, stop: int) -> tuple[F64Array, I64Array]:
        sums, counts = np.zeros((3, n_groups, n_lanes)), np.zeros((n_groups, n_lanes), np.int64)
        kernel = kernels.sums.add_numbers
        kernels.run(kernel, group, values, first, stop, n_lanes, *sums, counts)
        return sums, counts

    added = parallel.each(add, parts)
    total, rest, size = _together(np.concatenate([sums for sums, _ in added], axis=2))
    counts = np.concatenate([own for _, own in added], axis=1).sum(axis=1)
    # The rest is off by less than this, so the sum is certain where both ends round to the same.
    off = (counts + 2 * len(parts) * n_lanes) * _UNIT * size + np.abs(rest) * (4 * _UNIT)
    with np.errstate(invalid="ignore"):
        found = total + (rest - off)
        is_certain = np.isfinite(found) & (found == total + (rest + off))
    # Of two numbers one addition is the sum, rounded once.
    found = np.where(counts <= 2, total, found)
    with np.errstate(invalid="ignore"):
        rest = np.nan_to_num((total - found) + rest, nan=0.0, posinf=0.0, neginf=0.0)
    if not np.isfinite(total).all():
        _set_infinite(found, is_certain, group, values)
    doubtful = np.flatnonzero(~is_certain & ((counts > 2) | ~np.isfinite(total)))
    if len(doubtful):
        place = np.full(n_groups, -1)
        place[doubtful] = np.arange(len(doubtful))
        own = np.flatnonzero(place[group] >= 0)
        grouped = bucket(place[group[own]], len(doubtful))
        ordered, ends = values[own[grouped.order]], grouped.offsets
        for k, g in enumerate(doubtful.tolist()):
            own_values = ordered[ends[k] : ends[k + 1]]
            found[g] = _sum(own_values)
            rest[g] = _sum(np.append(own_values, -found[g])) if np.isfinite(found[g]) else 0.0
    return Sums(found, rest, counts)


def as_reals(values: np.ndarray) -> list[F64Array]:
    """Return numbers as reals that add up to them exactly: whole numbers beyond 2^53 take two."""
    if (
        values.dtype.kind == "f"
        or max(-int(values.min(initial=0)), int(values.max(initial=0))) < 2**53
    ):
        return [values.astype(np.float64, copy=False)]
    low = values & 0xFFFFFFFF
    return [(values - low).astype(np.float64), low.astype(np.float64)]


def products(a: F64Array, b: F64Array) -> tuple[F64Array, F64Array]:
    """Return the products of numbers, rounded, and what the rounding took.

    After Dekker (1971), "A floating-point technique for extending the available precision"; what it
    took is 0 where numbers are too large for that.
    """
    with np.errstate(all="ignore"):
        rounded = a * b
        (a_high, a_low), (b_high, b_low) = _halves(a), _halves(b)
        rest = ((a_high * b_high - rounded) + a_high * b_low + a_low * b_high) + a_low * b_low
    return rounded, np.where(np.isfinite(rest), rest, 0.0)


def _halves(a: F64Array) -> tuple[F64Array, F64Array]:
    wide = a * 134_217_729.0  # 2^27 + 1
    high = wide - (wide - a)
    return high, a - high


def quotients(above: Sums, below: Sums) -> F64Array:
    """Return the quotients of sums, rounded once unless all but halfway between two numbers."""
    with np.errstate(all="ignore"):
        first = above.rounded / below.rounded
        back, lost = products(first, below.rounded)
        more = ((above.rounded - back) - lost + above.rest - first * below.rest) / below.rounded
        return np.where(np.isfinite(more), first + more, first)


def _set_infinite(
    found: F64Array, is_certain: BoolArray, group: I64Array, values: F64Array
) -> None:
    """Set the sums of groups in which some value is infinite or no number: the sum of those alone."""
    odd = np.flatnonzero(~np.isfinite(values))
    with np.errstate(invalid="ignore"):
        sums = sum_by(group[odd], values[odd], len(found))
    counts = count_by(group[odd], len(found))
    found[counts > 0] = sums[counts > 0]
    is_certain |= counts > 0


def _together(sums: F64Array) -> F64Array:
    """Add totals, rests and sizes (3, n_groups, n) up, and what that loses: (3, n_groups)."""
    total, rest, size = sums[:, :, 0].copy()
    with np.errstate(invalid="ignore", over="ignore"):
        for k in range(1, sums.shape[2]):
            after = total + sums[0, :, k]
            added = after - total
            lost = (total - (after - added)) + (sums[0, :, k] - added)
            rest += sums[1, :, k]
            rest += lost
            size += sums[2, :, k]
            size += np.abs(lost)
            total = after
    return np.stack([total, rest, size])


def _sum(values: F64Array) -> float:
    try:
        return math.fsum(values.tolist())
    except OverflowError:  # on the way
        with np.errstate(all="ignore"):
            return math.fsum((values / _SCALE).tolist()) * _SCALE


def exact_sum(column: pa.ChunkedArray) -> float:
    """Return the sum of numbers, rounded once; nulls count nothing."""
    if pa.types.is_integer(column.type):
        high = pc.sum(pc.shift_right(pc.cast(column, pa.int64()), 32)).as_py() or 0
        low = pc.sum(pc.bit_wise_and(pc.cast(column, pa.int64()), 2**32 - 1)).as_py() or 0
        return float(high * 2**32 + low)
    values = np.asarray(pc.cast(pc.drop_null(column), pa.float64()))
    return float(rounded_sums(np.zeros(len(values), np.int64), values, 1)[0])
