"""The order of boxes along a Hilbert curve, which keeps near things near."""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array
from polygene.geometry import extent_of

_BITS = 16


def hilbert_order(bounds: F64Array) -> I64Array:
    """Return the rows in the order of the middles of their boxes along the curve.

    Parameters
    ----------
    bounds : (n, 4) float64
        x and y minimum, x and y maximum; rows with NaN come last, equal ones as they came.
    """
    extent = extent_of(bounds)
    if extent is None:
        return np.arange(len(bounds))
    x0, y0, x1, y1 = extent
    size = max(x1 - x0, y1 - y0) or 1.0
    is_none: BoolArray = ~np.asarray(np.isfinite(bounds).all(axis=1))
    middles = np.where(is_none[:, None], (x0, y0), (bounds[:, :2] + bounds[:, 2:]) / 2)
    cells = ((middles - (x0, y0)) / size * ((1 << _BITS) - 1)).astype(np.int64)
    keys = distance_along(cells[:, 0], cells[:, 1], _BITS)
    keys[is_none] = np.iinfo(np.int64).max
    return np.argsort(keys, kind="stable")


def distance_along(x: I64Array, y: I64Array, bits: int) -> I64Array:
    """Return how far along the curve cells lie (n,), from their columns and rows below 2^bits.

    A turn and a flip for each bit, from the highest down (Hilbert 1891, bit by bit).
    """
    x, y = x.copy(), y.copy()
    distance = np.zeros(len(x), np.int64)
    for bit in range(bits - 1, -1, -1):
        right, up = (x >> bit) & 1, (y >> bit) & 1
        distance = (distance << 2) | ((3 * right) ^ up)
        turns = up == 0
        flips = turns & (right == 1)
        most = (1 << bit) - 1
        x &= most
        y &= most
        x[flips], y[flips] = most - x[flips], most - y[flips]
        x[turns], y[turns] = y[turns], x[turns].copy()
    return distance
