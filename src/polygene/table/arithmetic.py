"""Arithmetic on columns of numbers that is right for every row, or null for it and counted.

Whole numbers are worked with in 64 bits, whatever their columns hold. What has no value there (a
division by zero, what is larger than a type holds, a root that is no real number) is null.
"""

from __future__ import annotations

import functools
from collections import Counter
from collections.abc import Callable
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import parallel
from polygene.arrays import BoolArray, F64Array, I64Array

BY_ZERO, TOO_LARGE, NOT_REAL = "divided by zero", "too large for any number", "no real number"
_SMALLEST, _LARGEST = -(2**63), 2**63 - 1
EXACT = 2**53  # whole numbers up to here are real numbers too


class Numbers:
    """A column or single value of numbers as arrays, each made when it is asked for.

    is_null : (n,) or of one value, where none is null
    """

    def __init__(self, data: Any) -> None:
        self.is_single = isinstance(data, pa.Scalar)
        column = pa.array([data.as_py()], data.type) if self.is_single else data
        if pa.types.is_null(column.type):
            column = pc.cast(column, pa.float64())
        self.is_whole = pa.types.is_integer(column.type)
        has_null = self.is_single or column.null_count
        self.is_null: BoolArray = (
            np.asarray(pc.is_null(column), bool) if has_null else np.zeros(1, bool)
        )
        self._column = pc.fill_null(column, 0) if column.null_count else column

    @functools.cached_property
    def values(self) -> Any:
        """(n,) int64 or float64, or of one value; 0 where null."""
        kind = pa.int64() if self.is_whole else pa.float64()
        return np.asarray(pc.cast(self._column, kind, safe=False))

    @functools.cached_property
    def reals(self) -> F64Array:
        """The same as float64."""
        return np.asarray(pc.cast(self._column, pa.float64(), safe=False))


def binary(operator: str, left: Any, right: Any, lost: Counter[str], n_rows: int) -> Any:
    """Compute ``left operator right``; what becomes null by it is counted in ``lost``.

    Parameters
    ----------
    operator : one of + - * / % div ^
    left, right : columns or single values of numbers
    """
    a, b = Numbers(left), Numbers(right)
    is_whole = a.is_whole and b.is_whole and operator not in ("/", "^")
    compute = (_WHOLE if is_whole else _REAL)[operator]
    values, wrong = compute(a, b)
    is_null = a.is_null | b.is_null
    repeat = n_rows if a.is_single and b.is_single else 1
    for words, mask in wrong.items():
        if mask.any():
            own = np.broadcast_to(mask, np.shape(values)) & ~is_null
            lost[words] += int(own.sum()) * repeat
            is_null = is_null | own
    return _data(values, is_null, a.is_single and b.is_single)


def negated(data: Any, lost: Counter[str], n_rows: int) -> Any:
    """Return the negative; that of the smallest whole number is too large."""
    return _unary(data, np.negative, lost, n_rows)


def absolute(data: Any, lost: Counter[str], n_rows: int) -> Any:
    """Return numbers without their sign; that of the smallest whole number is too large."""
    return _unary(data, np.abs, lost, n_rows)


def _unary(data: Any, compute: np.ufunc, lost: Counter[str], n_rows: int) -> Any:
    a = Numbers(data)
    is_null = a.is_null
    if a.is_whole:
        too_large = (a.values == _SMALLEST) & ~is_null
        lost[TOO_LARGE] += int(too_large.sum()) * (n_rows if a.is_single else 1)
        is_null = is_null | too_large
    return _data(compute(a.values), is_null, a.is_single)


def _data(values: np.ndarray, is_null: BoolArray, is_single: bool) -> Any:
    if is_null.any():  # of a single number, it is spread only then
        array = pc.with_nulls(values, np.broadcast_to(is_null, np.shape(values)))
    else:
        array = pc.column(values)
    return array[0] if is_single else pa.chunked_array([array])


Wrong = dict[str, BoolArray]


def _plus(a: Numbers, b: Numbers) -> tuple[I64Array, Wrong]:
    with np.errstate(over="ignore"):
        found = a.values + b.values
    return found, {TOO_LARGE: ((a.values ^ found) & (b.values ^ found)) < 0}


def _less(a: Numbers, b: Numbers) -> tuple[I64Array, Wrong]:
    with np.errstate(over="ignore"):
        found = a.values - b.values
    return found, {TOO_LARGE: ((a.values ^ b.values) & (a.values ^ found)) < 0}


def _times(a: Numbers, b: Numbers) -> tuple[I64Array, Wrong]:
    with np.errstate(over="ignore"):
        found = a.values * b.values
    about = np.abs(a.reals * b.reals)
    wrong = about > 2.0**63
    # Where rounding leaves it open, as the division back tells: there is no overflow in that.
    near = np.flatnonzero(np.broadcast_to((about >= 2.0**62) & ~wrong, np.shape(found)))
    if len(near):
        x, y = (np.broadcast_to(v.values, np.shape(found))[near] for v in (a, b))
        wrong = np.broadcast_to(wrong, np.shape(found)).copy()
        pairs = zip(x.tolist(), y.tolist(), strict=True)
        wrong[near] = [not _SMALLEST <= p * q <= _LARGEST for p, q in pairs]
    return found, {TOO_LARGE: wrong}


def _whole_quotient(a: Numbers, b: Numbers) -> tuple[I64Array, Wrong]:
    """Divide and cut off what is behind the point."""
    is_zero = b.values == 0
    too_large = (a.values == _SMALLEST) & (b.values == -1)
    divisor = np.where(is_zero | too_large, 1, b.values)
    found = a.values // divisor
    rest = a.values - found * divisor
    found = found + ((rest != 0) & ((a.values < 0) != (divisor < 0)))
    return found, {BY_ZERO: is_zero, TOO_LARGE: too_large}


def _whole_rest(a: Numbers, b: Numbers) -> tuple[I64Array, Wrong]:
    """Return what is left of a division, with the sign of what is divided."""
    is_zero = b.values == 0
    divisor = np.where(is_zero | (b.values == -1), 1, b.values)
    return np.fmod(a.values, divisor), {BY_ZERO: is_zero}


def _of_reals(compute: np.ufunc) -> Any:
    def work(a: Numbers, b: Numbers) -> tuple[F64Array, Wrong]:
        x, y = a.reals, b.reals
        found = np.empty(np.broadcast_shapes(x.shape, y.shape))

        def part(first: int, stop: int) -> bool:
            own = found[first:stop]
            of = (v if len(v) == 1 else v[first:stop] for v in (x, y))
            with np.errstate(all="ignore"):
                compute(*of, out=own)
            return bool(np.isfinite(own).all())

        if all(parallel.each(part, parallel.split(len(found)))):
            return found, {}
        was_finite = np.isfinite(x) & np.isfinite(y)
        return found, {
            NOT_REAL: was_finite & np.isnan(found),
            TOO_LARGE: was_finite & np.isinf(found),
        }

    return work


def _divided(compute: Callable[[F64Array, F64Array], F64Array]) -> Any:
    def work(a: Numbers, b: Numbers) -> tuple[F64Array, Wrong]:
        is_zero = b.values == 0
        divisor = np.where(is_zero, 1.0, b.reals)
        with np.errstate(all="ignore"):
            found = np.asarray(compute(a.reals, divisor))
        was_finite = np.isfinite(a.reals) & np.isfinite(divisor)
        return found, {BY_ZERO: is_zero, TOO_LARGE: was_finite & np.isinf(found)}

    return work


def _quotient(a: Numbers, b: Numbers) -> tuple[F64Array, Wrong]:
    """Divide as real numbers; whole ones that are none are divided exactly and then rounded."""
    found, wrong = _divided(np.divide)(a, b)
    is_large = np.zeros(np.shape(found), bool)
    for own in (a, b):
        if own.is_whole:
            is_large |= (own.values > EXACT) | (own.values < -EXACT)
    rows = np.flatnonzero(is_large & (b.values != 0))
    if len(rows) and a.is_whole and b.is_whole:
        x, y = (np.broadcast_to(v.values, np.shape(found))[rows].tolist() for v in (a, b))
        found[rows] = [p / q for p, q in zip(x, y, strict=True)]
    return found, wrong


_WHOLE: dict[str, Callable[[Numbers, Numbers], tuple[np.ndarray, Wrong]]] = {
    "+": _plus,
    "-": _less,
    "*": _times,
    "div": _whole_quotient,
    "%": _whole_rest,
}
_REAL: dict[str, Callable[[Numbers, Numbers], tuple[np.ndarray, Wrong]]] = {
    "+": _of_reals(np.add),
    "-": _of_reals(np.subtract),
    "*": _of_reals(np.multiply),
    "/": _quotient,
    "div": _divided(lambda x, y: np.trunc(x / y)),
    "%": _divided(np.fmod),
    "^": _of_reals(np.power),
}


def square_root(data: Any) -> Any:
    """Return square roots, null below zero."""
    reals = pc.cast(data, pa.float64(), safe=False)
    return pc.if_else(pc.less(reals, 0), pa.scalar(None, pa.float64()), pc.sqrt(pc.abs(reals)))


def order(left: Any, right: Any) -> tuple[Any, Any]:
    """Return two columns or single values of numbers that compare as these do, exactly.

    A whole number beside a real one is compared as it is, not as the real number nearest to it.
    """
    if pa.types.is_integer(left.type) == pa.types.is_integer(right.type):
        if pa.types.is_integer(left.type) or pa.types.is_floating(left.type):
            kind = pa.int64() if pa.types.is_integer(left.type) else pa.float64()
            return pc.cast(left, kind), pc.cast(right, kind)
        return left, right
    for one in (left, right):
        if isinstance(one, pa.Scalar) and one.is_valid and abs(one.as_py()) < EXACT:
            # Whole numbers that are rounded are all beyond it, and stay so.
            return pc.cast(left, pa.float64(), safe=False), pc.cast(right, pa.float64(), safe=False)
    a, b = Numbers(left), Numbers(right)
    x, y = np.broadcast_arrays(a.reals, b.reals)
    sign = np.where(x > y, 1.0, np.where(x < y, -1.0, 0.0))
    is_none = np.isnan(x) | np.isnan(y)
    rows = np.flatnonzero((x == y) & (np.abs(x) >= EXACT))
    if len(rows):
        p, q = (np.broadcast_to(v.values, x.shape)[rows].tolist() for v in (a, b))
        sign[rows] = [(int(u) > int(v)) - (int(u) < int(v)) for u, v in zip(p, q, strict=True)]
    sign = np.where(is_none, np.nan, sign)  # no number is neither equal, less nor more
    is_null = a.is_null | b.is_null
    is_single = a.is_single and b.is_single
    return _data(sign, is_null, is_single), pa.scalar(0.0)


def rounded(value: Any, n: int) -> Any:
    """Round to n decimals, halves away from zero, of the number as it is written.

    2.675 to two decimals is 2.68, though the real number nearest to it lies a little below.
    """
    a = Numbers(value)
    if a.is_whole:
        if n >= 0:
            return value
        values = [_quantised(v, n) for v in a.values.tolist()]
        is_out = np.array([not _SMALLEST <= v <= _LARGEST for v in values], bool)
        found = np.array([0 if out else int(v) for v, out in zip(values, is_out, strict=True)])
        return _data(found.astype(np.int64), a.is_null | is_out, a.is_single)
    if abs(n) > 300:
        return value if n > 0 else _data(np.zeros_like(a.values), a.is_null, a.is_single)
    scale = 10.0 ** abs(n)
    with np.errstate(all="ignore"):
        scaled = a.values * scale if n >= 0 else a.values / scale
        whole = np.trunc(scaled + np.copysign(0.5, scaled))
        found = whole / scale if n >= 0 else whole * scale
        rest = np.abs(np.abs(scaled - np.trunc(scaled)) - 0.5)
        is_open = rest <= 1e-6 * np.maximum(1.0, np.abs(scaled) * 1e-9)
    found = np.where(np.isfinite(scaled) & (np.abs(scaled) < 2.0**52), found, a.values)
    rows = np.flatnonzero(is_open & np.isfinite(a.values))
    found[rows] = [float(_quantised(v, n)) for v in a.values[rows].tolist()]
    return _data(found, a.is_null, a.is_single)


def _quantised(value: float, n: int) -> Decimal:
    number = Decimal(repr(value))
    if n > 0 and number.as_tuple().exponent >= -n:  # type: ignore[operator]
        return number
    return (number.scaleb(n).to_integral_value(ROUND_HALF_UP)).scaleb(-n)
