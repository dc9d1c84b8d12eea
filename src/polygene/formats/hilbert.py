"""The order of boxes along a Hilbert curve, which keeps near things near."""

from __future__ import annotations

import functools

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array
from polygene.geometry import extent_of

_BITS = 16
SORTED_ABOVE = 65_536  # rows; below, all is read in a moment and keeps its order
# The plane that places of folders are found in, whatever the layer: its side, about the origin.
PLACE_BITS = 28
DEGREES, UNITS = 512.0, float(1 << 27)
NOWHERE = np.iinfo(np.int64).max


def places_along(bounds: F64Array, is_geographic: bool) -> I64Array:
    """Return how far along one curve through all of the plane the middles of boxes (n, 4) lie (n,).

    It is the same curve for every layer, so that parts of a layer agree on it without knowing each
    other: cells of half a metre, 2e-6 degrees. `NOWHERE` for what is empty; what is beyond the plane
    is at its border.
    """
    side = DEGREES if is_geographic else UNITS
    with np.errstate(invalid="ignore"):
        x, y = (bounds[:, 0] + bounds[:, 2]) / 2, (bounds[:, 1] + bounds[:, 3]) / 2
    is_none: BoolArray = ~np.isfinite(x + y)
    most = (1 << PLACE_BITS) - 1
    cells = []
    for values in (x, y):
        at = np.where(is_none, 0.0, values) * ((1 << PLACE_BITS) / side) + (1 << PLACE_BITS - 1)
        cells.append(np.clip(at, 0, most).astype(np.int64))
    found = distance_along(cells[0], cells[1], PLACE_BITS)
    found[is_none] = NOWHERE
    return found


def order_to_write(bounds: F64Array, file: str) -> tuple[I64Array | None, list[str]]:
    """Return the order to write rows in, None for that they have, and what there is to say about it.

    Parameters
    ----------
    bounds : as `hilbert_order` takes them; file : the name of the file that is written
    """
    if len(bounds) <= SORTED_ABOVE:
        return None, []
    note = (
        f"{file}: the features were put in the order of a curve through the plane, so that readers "
        "find those of a place together"
    )
    return hilbert_order(bounds), [note]


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
    scale = ((1 << _BITS) - 1) / (max(x1 - x0, y1 - y0) or 1.0)
    with np.errstate(invalid="ignore"):
        x, y = (bounds[:, 0] + bounds[:, 2]) / 2, (bounds[:, 1] + bounds[:, 3]) / 2
    is_none: BoolArray = ~np.isfinite(x + y)
    x[is_none], y[is_none] = x0, y0
    cells = [((v - v0) * scale).astype(np.int64) for v, v0 in ((x, x0), (y, y0))]
    keys = distance_along(cells[0], cells[1], _BITS)
    keys[is_none] = np.iinfo(np.int64).max
    return np.argsort(keys, kind="stable")


def distance_along(x: I64Array, y: I64Array, bits: int) -> I64Array:
    """Return how far along the curve cells lie (n,), from their columns and rows below 2^bits.

    Four bits at a time, from the highest down; how the curve is turned and flipped there goes from
    each step to the next. ``bits`` is a multiple of four.
    """
    distances, turns = _steps()
    state = np.zeros(len(x), np.int64)
    distance = np.zeros(len(x), np.int64)
    for shift in range(bits - 4, -1, -4):
        cell = state + (((x >> shift) & 15) << 4) + ((y >> shift) & 15)
        distance = (distance << 8) | distances[cell]
        state = turns[cell]
    return distance


@functools.cache
def _steps() -> tuple[I64Array, I64Array]:
    """Return, for each state and four bits of column and row, the distance and the state after.

    States are whether columns and rows are exchanged and whether both run backwards; one takes 256
    places. A quarter of a square is passed in the order lower left, upper left, upper right, lower
    right, the first exchanged, the last exchanged and backwards (Hilbert 1891).
    """
    distances, turns = np.zeros(1024, np.int64), np.zeros(1024, np.int64)
    for place in range(1024):
        state, x, y = place >> 8, place >> 4 & 15, place & 15
        distance = 0
        for bit in (3, 2, 1, 0):
            right, up = x >> bit & 1, y >> bit & 1
            if state & 2:
                right, up = 1 - right, 1 - up
            if state & 1:
                right, up = up, right
            distance = distance << 2 | (3 * right ^ up)
            if not up:
                state ^= 1 | 2 * right
        distances[place], turns[place] = distance, state << 8
    return distances, turns
