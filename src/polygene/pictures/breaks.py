"""Where classes of numbers and of days end: at round ones, and what classes between them are called."""

from __future__ import annotations

import math

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray, F64Array, I64Array, distinct
from polygene.errors import UsageError
from polygene.table.types import in_milliseconds


def days_of(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return dates and times as whole days since 1970, of UTC."""
    if pa.types.is_date(column.type):
        return pc.cast(pc.cast(column, pa.date32()), pa.int32())
    stamps = np.asarray(pc.fill_null(pc.cast(in_milliseconds(column), pa.int64()), 0))
    is_null = np.asarray(pc.is_null(column), bool)
    return pa.chunked_array([pc.with_nulls(stamps // 86_400_000, is_null)])


def reals(column: pa.ChunkedArray) -> F64Array:
    """Return numbers as reals, not a number for null."""
    return np.asarray(pc.fill_null(pc.cast(column, pa.float64(), safe=False), np.nan))


def day(number: float) -> str:
    """Return a day since 1970 as ISO 8601 has it."""
    return str(np.datetime64(int(number), "D"))


def range_names(edges: np.ndarray, are_whole: bool, are_days: bool = False) -> list[str]:
    """Return what classes between edges are called; each has its lower edge, the last its upper too."""
    last = len(edges) - 2
    names = []
    for k, (a, b) in enumerate(zip(edges[:-1], edges[1:], strict=True)):
        if are_whole:
            top = b if k == last else b - 1
            low, high = (day(v) if are_days else f"{v:,.0f}" for v in (a, top))
            names.append(low if a == top else f"{low} to {high}")
        else:
            names.append(f"{_plainly(a)} to {'' if k == last else 'below '}{_plainly(b)}")
    return names


def _plainly(value: float) -> str:
    """Return a number as people write it, without powers of ten unless it is very small."""
    return f"{value:,.10g}" if abs(value) < 1e10 else f"{value:,.0f}"


def _roundest(low: float, high: float) -> float:
    """Return the number with the fewest digits that is over ``low`` and at most ``high``."""
    if low < 0 <= high:
        return 0.0
    width = high - low
    power = math.floor(math.log10(max(abs(low), abs(high), width))) + 1
    for k in range(power, power - 18, -1):
        step = 10.0**k
        for part in (5, 2.5, 2, 1) if k < power else (1,):
            found = math.floor(high / (step * part) + 1e-12) * step * part
            if low < found <= high:
                return float(f"{found:.12g}")
    return high


def _roundest_day(low: float, high: float) -> float:
    """Return the first day of a year or month, or any, that is after ``low`` and not after ``high``."""
    for unit in ("Y", "M", "D"):
        found = np.datetime64(int(high), "D").astype(f"M8[{unit}]").astype("M8[D]").astype(int)
        if found > low:
            break
    return float(found)


def _rounded(edges: np.ndarray, known: np.ndarray) -> np.ndarray:
    """Return edges as round as the values allow, so that each value stays in its class."""
    values = distinct(known)
    least, most = float(values[0]), float(values[-1])
    inner = []
    for edge in edges[1:-1]:
        k = int(np.searchsorted(values, edge))  # the first value that is not below it
        inner.append(_roundest(float(values[k - 1]), float(values[k])) if k else least)
    # Outer edges have room by how wide their own classes are, of which others may be much wider.
    room = 0.03 * (most - least)
    low = min(room, 0.15 * (min(e for e in [*inner, math.inf] if e > least) - least))
    high = min(room, 0.15 * (most - max(e for e in [*inner, -math.inf] if e < most)))
    first = -_roundest(-least - 1e-9 * abs(least), -least + low) if least else 0.0
    first = first if first <= least else least
    last = _roundest(most - 1e-9 * abs(most), most + high)
    return np.unique([first, *inner, max(last, most)]) + 0.0  # no minus zero


def _equal(least: float, most: float, n_classes: int) -> np.ndarray:
    """Return edges of classes as wide as each other, round ones, about so many."""
    wide = (most - least) / n_classes
    if wide <= 0:
        return np.array([least, most])
    power = 10.0 ** math.floor(math.log10(wide))
    step = next(part * power for part in (1, 2, 2.5, 5, 10) if part * power >= wide * (1 - 1e-9))
    first, last = math.floor(least / step + 1e-9), math.ceil(most / step - 1e-9)
    return np.array([float(f"{k * step:.12g}") for k in range(first, last + 1)])


def _between_days(edges: np.ndarray, known: np.ndarray) -> np.ndarray:
    """Return edges at first days of years and months, as far as each value stays in its class."""
    values = distinct(known)
    places = [int(np.searchsorted(values, edge)) for edge in edges[1:-1]]
    inner = [_roundest_day(float(values[k - 1]), float(values[k])) for k in places if k]
    return np.unique([values[0], *inner, values[-1]])


def graded(
    column: pa.ChunkedArray, is_null: BoolArray, n_classes: int, breaks: str, are_days: bool
) -> tuple[I64Array, list[str], list[float]]:
    """Return the class of each row (n,), what the classes are called, and the edges between them.

    Raises
    ------
    UsageError
        If ``breaks`` is none that is known.
    """
    values = reals(column)
    known = values[~is_null & np.isfinite(values)]
    if breaks == "quantile":
        edges = np.quantile(known, np.linspace(0, 1, n_classes + 1))
    elif breaks == "equal" and are_days:
        edges = np.linspace(known.min(), known.max(), n_classes + 1)
    elif breaks == "equal":
        edges = _equal(float(known.min()), float(known.max()), n_classes)
    else:
        raise UsageError(f"{breaks!r} is no way to break; there are quantile and equal")
    edges = np.unique(edges)
    if len(edges) > 1 and are_days:
        edges = _between_days(edges, known)
    elif len(edges) > 1 and breaks == "quantile":
        edges = _rounded(edges, known)
    are_whole = bool(pa.types.is_integer(column.type))
    if are_whole:  # between whole numbers an edge may as well be the next one
        edges = np.unique(np.ceil(edges))
    number = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, len(edges) - 2)
    names = range_names(edges, are_whole, are_days)
    return number.astype(np.int64), names, [float(e) for e in edges]
