"""Integers that rise as the values of a column do: by them values are ordered, and told apart."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels, parallel
from polygene.arrays import F64Array, I64Array

NO_NUMBER = np.iinfo(np.int64).max  # of reals, what rises above all numbers


def rising(column: pa.ChunkedArray) -> I64Array | None:
    """Return a number for each value that rises with it, equal for equal ones; of null that of 0.

    0 and -0 are equal, and what is no number is larger than all that are. None of values that are
    neither numbers nor moments nor true or false.
    """
    kind = column.type
    if pa.types.is_null(kind):
        return np.zeros(len(column), np.int64)
    if pa.types.is_floating(kind):
        return rising_reals(np.asarray(_filled(pc.cast(column, pa.float64()), 0.0)))
    if pa.types.is_boolean(kind):
        column = pc.cast(column, pa.int8())
    elif pa.types.is_date32(kind) or pa.types.is_time32(kind):
        column = pc.cast(column, pa.int32())
    elif pa.types.is_temporal(kind) and not pa.types.is_interval(kind):
        column = pc.cast(column, pa.int64())
    elif not pa.types.is_integer(kind):
        return None
    values = np.asarray(_filled(column, 0))
    if pa.types.is_uint64(column.type):
        return (values ^ np.uint64(2**63)).view(np.int64)
    return values.astype(np.int64, copy=False)


def _filled(column: pa.ChunkedArray, value: float) -> pa.ChunkedArray:
    return pc.fill_null(column, value) if column.null_count else column


def rising_reals(values: F64Array) -> I64Array:
    """Return the same of an array of real numbers."""
    bits = np.ascontiguousarray(values, np.float64).view(np.int64)
    keys = np.empty(len(bits), np.int64)

    def order(first: int, stop: int) -> None:
        kernels.run(kernels.ranks.order_reals, bits[first:stop], keys[first:stop])

    parallel.each(order, parallel.split(len(bits)))
    return keys
