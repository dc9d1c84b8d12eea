"""Values, and what fields hold, in words."""

from __future__ import annotations

import datetime
import math
from typing import Any

from polygene.notes import NULL_NAME
from polygene.table.describe import FieldDescription


def shown(value: Any) -> str:
    """Return a value as tables show it."""
    if value is None:
        return NULL_NAME
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int):
        return str(value)
    if isinstance(value, float):
        return "nan" if math.isnan(value) else f"{value:.10g}"
    if isinstance(value, datetime.datetime):
        return value.strftime("%Y-%m-%d %H:%M:%S").removesuffix(" 00:00:00")
    if isinstance(value, bytes):
        return f"{len(value)} bytes"
    return " ".join(str(value).split())


def held(field: FieldDescription) -> str:
    """Say what a field holds: its range, or how many values and the commonest."""
    if field.common:
        if field.distinct == 1:
            return f"always {shown(field.common[0][0])}"
        is_unique = field.common[0][1] == 1
        first = ", ".join(
            shown(value) + ("" if is_unique else f" ({times:,})") for value, times in field.common
        )
        rest = (field.distinct or 0) - len(field.common)
        count = "all different" if is_unique else f"{field.distinct:,} different"
        return f"{count}: {first}" + (" …" if rest > 0 else "")
    if field.low is None and field.distinct:
        return "always the same" if field.distinct == 1 else f"{field.distinct:,} different"
    if field.low is None:
        return "only nulls" if field.nulls else "none"
    if field.low == field.high:
        return f"always {shown(field.low)}"
    return f"{shown(field.low)} … {shown(field.high)}"
