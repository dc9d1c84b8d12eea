"""Numbers made exact, and on which side of a line a point lies."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction
from typing import Any

Ints = Sequence[int]
NONE = -1


def spans(offsets: Ints) -> Iterator[range]:
    """Yield the items of each group."""
    for first, stop in zip(offsets[:-1], offsets[1:], strict=True):
        yield range(first, stop)


def turn(a: Any, b: Any, c: Any) -> int:
    """Return 1 if a, b, c turn left, -1 if right, 0 if straight; for integers or fractions, exact."""
    found = (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
    return (found > 0) - (found < 0)


def exactly(xy: Sequence[float]) -> tuple[Fraction, Fraction]:
    return Fraction(xy[0]), Fraction(xy[1])


def is_on(p: Any, a: Any, b: Any) -> bool:
    return turn(a, b, p) == 0 and all(
        min(u, v) <= w <= max(u, v) for u, v, w in zip(a, b, p, strict=True)
    )
