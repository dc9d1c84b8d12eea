"""Summaries of tasks added up to that of the whole."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Mapping, Sequence
from typing import Any

from polygene.ops.summary import MOST_ROWS_NAMED, NamedRows

# What is true of each task and of the whole alike, or the largest of all; other numbers add up.
SAME = frozenset(
    {"precision", "distance", "distances", "width", "map_unit", "follow", "tolerance", "fields",
     "fields_total", "accuracy", "is_best", "other_total", "other_taken"}
)  # fmt: skip
LARGEST = frozenset({"moved", "furthest", "off", "error"})
FIRST_ROWS = 20  # of rows told one by one, as by mend


def added(summaries: Sequence[Any]) -> Any:
    """Return the summary of the whole from those of its tasks, in their order."""
    return _added(list(summaries), "")


def _added(values: list[Any], name: str) -> Any:
    known = [value for value in values if value is not None]
    if not known:
        return None
    first = known[0]
    if isinstance(first, NamedRows):
        return _rows(known)
    if dataclasses.is_dataclass(first) and not isinstance(first, type):
        own = {
            f.name: _added([getattr(value, f.name) for value in known], f.name)
            for f in dataclasses.fields(first)
            if f.init
        }
        return dataclasses.replace(first, **own)
    if isinstance(first, (bool, str)) or name in SAME:
        return first
    if isinstance(first, Mapping):
        keys = dict.fromkeys(key for value in known for key in value)
        return {key: _added([v[key] for v in known if key in v], name) for key in keys}
    if isinstance(first, (list, tuple)):
        return _listed(known)
    if isinstance(first, float):
        return max(known) if name in LARGEST else math.fsum(known)
    if isinstance(first, int) and type(first) is int:
        return sum(known)
    return first


def _rows(known: Sequence[NamedRows]) -> NamedRows:
    labels = sorted((label for one in known for label in one.first), key=_number)
    return NamedRows(sum(one.count for one in known), labels[:MOST_ROWS_NAMED])


def _number(label: str) -> int:
    """Return the number of a row in what messages call it."""
    digits = label.removeprefix("row ").split(" ")[0]
    return int(digits) if digits.isdigit() else 0


def _listed(known: Sequence[Any]) -> list[Any]:
    """Lists of texts become one of each text; of facts, one by one what they come to."""
    longest = max(known, key=len)
    if not longest:
        return []
    if isinstance(longest[0], (str, int, float)):
        return list(dict.fromkeys(value for one in known for value in one))
    if hasattr(longest[0], "row"):  # rows, each told with what became of it
        return sorted((v for one in known for v in one), key=lambda v: _number(v.row))[:FIRST_ROWS]
    if hasattr(longest[0], "field"):  # of fields that are there in every task or in some
        by_field: dict[Any, list[Any]] = {}
        for value in (value for one in known for value in one):
            by_field.setdefault((getattr(value, "layer", ""), value.field), []).append(value)
        return [_added(alike, "") for alike in by_field.values()]
    return [_added([one[k] for one in known if k < len(one)], "") for k in range(len(longest))]
