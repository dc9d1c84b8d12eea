"""The temporal functions of CQL2 (OGC 21-065r2, 7.10), on instants and intervals.

Of an interval only its ends count; an instant is an interval that ends as it starts, a date one from
the first moment of its day to the last. The relations are those of Allen (1983).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pyarrow as pa

from polygene import computing as pc
from polygene.classes import NamedTuple

MOMENT = pa.timestamp("ms", tz="UTC")
_FAR = 2**60  # milliseconds: an end left open
_ZEROS = re.compile(r"(\.\d{3})0+(?!\d)", re.ASCII)


class Span(NamedTuple):
    """Columns or single values of start and end."""

    start: Any
    stop: Any


def without_zeros(text: str) -> str:
    """Return a moment as text without zeros behind its milliseconds, as many programs write them."""
    return _ZEROS.sub(r"\1", text)


def open_end(is_start: bool) -> pa.Scalar:
    """Return the moment that stands for an end left open."""
    return pa.scalar(-_FAR if is_start else _FAR, MOMENT)


def end_of_day(midnight: Any) -> Any:
    """Return the last moment of the days that begin at some moments."""
    return pc.add(midnight, pa.scalar(86_400_000 - 1, pa.duration("ms")))


def _both(*tests: Any) -> Any:
    found = tests[0]
    for test in tests[1:]:
        found = pc.and_kleene(found, test)
    return found


def _disjoint(a: Span, b: Span) -> Any:
    return pc.or_kleene(pc.less(a.stop, b.start), pc.greater(a.start, b.stop))


RELATIONS: dict[str, Callable[[Span, Span], Any]] = {
    "t_after": lambda a, b: pc.greater(a.start, b.stop),
    "t_before": lambda a, b: pc.less(a.stop, b.start),
    "t_contains": lambda a, b: _both(pc.less(a.start, b.start), pc.greater(a.stop, b.stop)),
    "t_disjoint": _disjoint,
    "t_during": lambda a, b: _both(pc.greater(a.start, b.start), pc.less(a.stop, b.stop)),
    "t_equals": lambda a, b: _both(pc.equal(a.start, b.start), pc.equal(a.stop, b.stop)),
    "t_finishedby": lambda a, b: _both(pc.less(a.start, b.start), pc.equal(a.stop, b.stop)),
    "t_finishes": lambda a, b: _both(pc.greater(a.start, b.start), pc.equal(a.stop, b.stop)),
    "t_intersects": lambda a, b: pc.invert(_disjoint(a, b)),
    "t_meets": lambda a, b: pc.equal(a.stop, b.start),
    "t_metby": lambda a, b: pc.equal(a.start, b.stop),
    "t_overlappedby": lambda a, b: _both(
        pc.greater(a.start, b.start), pc.less(a.start, b.stop), pc.greater(a.stop, b.stop)
    ),
    "t_overlaps": lambda a, b: _both(
        pc.less(a.start, b.start), pc.greater(a.stop, b.start), pc.less(a.stop, b.stop)
    ),
    "t_startedby": lambda a, b: _both(pc.equal(a.start, b.start), pc.greater(a.stop, b.stop)),
    "t_starts": lambda a, b: _both(pc.equal(a.start, b.start), pc.less(a.stop, b.stop)),
}
