"""Which way points turn, exactly."""

from __future__ import annotations

import numpy as np

from polygene import kernels
from polygene.arrays import F64Array, I64Array


def turns(a: F64Array, b: F64Array, c: F64Array) -> I64Array:
    """Return 1 for each a, b, c (n, 2) that turn left, -1 right, 0 straight; exact."""
    found = np.empty(len(a), np.int64)
    points = (np.ascontiguousarray(p) for p in (a, b, c))
    kernels.run(kernels.valid.turns, *points, np.zeros(16), found)
    return found
