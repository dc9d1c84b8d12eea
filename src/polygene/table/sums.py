"""Sums that are correctly rounded, whatever the order of what is added."""

from __future__ import annotations

import math

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels, parallel
from polygene.arrays import FEW_KEYS, LANES, BoolArray, F64Array, I64Array, bucket, count_by, sum_by
from polygene.classes import NamedTuple

_SCALE = 2.0**60
_UNIT = 2.0**-52  # twice what an addition rounds by at most, as a share of the sum


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


class Addends(NamedTuple):
    """Numbers (n,) that are added by groups (n,)."""

    group: I64Array
    values: F64Array

    @staticmethod
    def of(group: I64Array, parts: list[F64Array]) -> Addends:
        """Return numbers each of which is the sum of some parts."""
        if len(parts) == 1:
            return Addends(group, parts[0])
        return Addends(np.tile(group, len(parts)), np.concatenate(parts))


class Sums(NamedTuple):
    """Sums of groups.

    rounded : (n_groups,) as if added exactly and rounded once; 0 for none, not finite if a value is not
    rest : (n_groups,) what the rounding took
    off : (n_groups,) how much more or less that may be, beside its own rounding
    counts : (n_groups,) how many values there are
    """

    rounded: F64Array
    rest: F64Array
    off: F64Array
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
    total, rest, off = _together(np.concatenate([sums for sums, _ in added], axis=2))
    counts = np.concatenate([own for _, own in added], axis=1).sum(axis=1)
    # Where nothing is off two numbers are the sum, and one addition rounds it; else it is certain
    # where both ends of what it may be round to the same.
    off = np.where(off > 0, off * (1 + counts * _UNIT) + np.abs(rest) * (4 * _UNIT), off)
    with np.errstate(invalid="ignore"):
        found = total + (rest - off)
        is_certain = np.isfinite(found) & (found == total + (rest + off))
        rest = np.nan_to_num((total - found) + rest, nan=0.0, posinf=0.0, neginf=0.0)
    if not np.isfinite(total).all():
        _set_infinite(found, is_certain, group, values)
    doubtful = np.flatnonzero(~is_certain)
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
        off[doubtful] = 0.0
    return Sums(found, rest, off, counts)


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
    """Return numbers as sums of two that have 26 bits each."""
    # By their bits: the factor of 2^27 + 1 that is usual has no room above 10^300.
    bits = np.ascontiguousarray(a).view(np.int64)
    high = ((bits + (1 << 26)) & ~((1 << 27) - 1)).view(np.float64)
    return high, a - high


def quotients(above: Addends, below: Addends, n_groups: int) -> tuple[F64Array, Sums]:
    """Return the sums of groups divided by others, as if exactly and rounded once, and those others."""
    over, under = (exact_sums(*own, n_groups) for own in (above, below))
    with np.errstate(all="ignore"):
        first = over.rounded / under.rounded
        back, lost = products(first, under.rounded)
        more = ((over.rounded - back) - lost + over.rest - first * under.rest) / under.rounded
        off = (over.off + np.abs(first) * under.off) / np.abs(under.rounded)
        off += np.abs(first) * _UNIT**2 * 16
        low, high = first + (more - off), first + (more + off)
        is_plain = ~np.isfinite(high - low)  # too large for that, or no number
        found = np.where(is_plain, first, low)
    doubtful = np.flatnonzero(~is_plain & (low != high))
    if len(doubtful):
        found[doubtful] = _nearer(above, below, doubtful, low[doubtful], high[doubtful])
    return found, under


def _nearer(
    above: Addends, below: Addends, groups: I64Array, low: F64Array, high: F64Array
) -> F64Array:
    """Return which of two numbers that follow one another is nearer to the quotient of some groups.

    What is above, less the middle of the two times what is below, is added exactly: its sign tells.
    Halfway, as means of few values are often, it is the even one, which is what their middle rounds to.
    """
    place = np.full(1 + max(above.group.max(), below.group.max()), -1)
    place[groups] = np.arange(len(groups))
    half = (high - low) / 2
    own, weights = place[above.group], place[below.group]
    at, values = weights[weights >= 0], below.values[weights >= 0]
    terms = [above.values[own >= 0], -half[at] * values]
    terms += [-term for term in products(low[at], values)]
    group = np.concatenate([own[own >= 0], at, at, at])
    side = rounded_sums(group, np.concatenate(terms), len(groups))
    side *= np.sign(rounded_sums(at, values, len(groups)))
    return np.select([side > 0, side < 0], [high, low], low + half)


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
    """Add totals, rests and what those are off by (3, n_groups, n), and what that loses."""
    total, rest, off = sums[:, :, 0].copy()
    with np.errstate(invalid="ignore", over="ignore"):
        for k in range(1, sums.shape[2]):
            total, lost = _added(total, sums[0, :, k])
            off += sums[2, :, k]
            for more in (sums[1, :, k], lost):
                rest, lost = _added(rest, more)
                off += np.abs(lost)
    return np.stack([total, rest, off])


def _added(a: F64Array, b: F64Array) -> tuple[F64Array, F64Array]:
    """Return sums, rounded, and what the rounding took."""
    total = a + b
    added = total - a
    return total, (a - (total - added)) + (b - added)


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
