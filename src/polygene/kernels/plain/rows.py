"""Rows of a database."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

_KINDS = {1: int, 2: (int, float), 3: str, 4: bytes}


def take_rows(rows: Sequence[Sequence[Any]], kinds: Sequence[int]) -> tuple[list[Any], bool]:
    """Return rows as columns, those before one with a value of another kind, and if there is one."""
    taken: list[list[Any]] = []
    for row in rows:
        pairs = list(zip(row, kinds, strict=True))
        if not all(_is_of(value, kind) for value, kind in pairs):
            break
        taken.append([float(v) if kind == 2 and v is not None else v for v, kind in pairs])
    return [list(column) for column in zip(*taken, strict=True)], len(taken) < len(rows)


def _is_of(value: Any, kind: int) -> bool:
    if kind == 2 and isinstance(value, int):
        return abs(value) <= 1 << 53
    return value is None or isinstance(value, _KINDS[kind])  # type: ignore[arg-type]


def put_rows(columns: Sequence[Sequence[Any]]) -> list[tuple[Any, ...]]:
    """Return the rows that a table has then; what is no number is null."""
    rows = zip(*columns, strict=True)
    return [tuple(None if value != value else value for value in row) for row in rows]
