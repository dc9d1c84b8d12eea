"""What a recipe expects of a step's result, and whether it holds."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow.compute as pc

from polygene.errors import UsageError, did_you_mean
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.ops.summary import SUMMING
from polygene.units import Distance

BALANCE = "balance"  # of what a step tells, not of its layer


def check_balance(facts: Mapping[str, Any]) -> str:
    """Return what is wrong with the balance in the facts of a step, nothing if it holds."""
    balances = [one["summary"].get("balance") for one in facts.get("results", [])]
    if not balances or None in balances:
        return "was expected to balance exactly, and its command has no balance to tell"
    for balance in balances:
        off = abs(balance["inside"] + balance["outside"] - balance["before"])
        if not off <= balance["bound"] + SUMMING * abs(balance["before"]):
            return (
                f"was expected to balance exactly, and is off by {off:.6g} {balance['unit']} where the "
                f"grid allows {balance['bound']:.6g}"
            )
    return ""


def check_text(name: str, text: str) -> None:
    """Check that there is such an expectation and that a text is a value of it.

    Raises
    ------
    UsageError
        If not.
    """
    if name not in _CHECKS and name != BALANCE:
        raise UsageError(
            f"there is no expectation {name!r}{did_you_mean(name, [*_CHECKS, BALANCE])} (there are "
            f"{', '.join((*_CHECKS, BALANCE))})"
        )
    if name == "features":
        _range(text)
    if name == BALANCE:
        if text != "exact":
            raise UsageError(f"a balance is exact, not {text!r}")
        return
    if name == "valid" and text not in ("true", "false"):
        raise UsageError(f"valid is true or false, not {text!r}")
    if name == "no slivers under":
        Distance.parse(text)


def check(layer: Layer, name: str, text: str) -> str:
    """Return what is wrong with a layer by an expectation, nothing if it holds.

    Raises
    ------
    UsageError, UnknownFieldError
        If there is no such expectation, or ``text`` is no value of it.
    """
    check_text(name, text)
    return _CHECKS[name](layer, text)


def _range(text: str) -> tuple[int, int]:
    low, dash, high = text.partition("-")
    try:
        return int(low), int(high if dash else low)
    except ValueError as err:
        raise UsageError(f"{text!r} is no number, nor a range as in 20-30") from err


def _features(layer: Layer, text: str) -> str:
    bounds = _range(text)
    if bounds[0] <= layer.n_rows <= bounds[1]:
        return ""
    return f"was expected to have {text} features, and has {layer.n_rows:,}"


def _fields(layer: Layer, text: str) -> list[str]:
    names = [name.strip() for name in text.split(",") if name.strip()]
    for name in names:
        layer.check_field(name)
    return names


def _rows(layer: Layer, rows: Sequence[int]) -> str:
    more = " …" if len(rows) > 5 else ""
    return ", ".join(layer.row_label(int(row)) for row in rows[:5]) + more


def _no_nulls(layer: Layer, text: str) -> str:
    for name in _fields(layer, text):
        nulls = pc.indices_nonzero(pc.is_null(layer.table.column(name))).to_pylist()
        if nulls:
            return (
                f"was expected to have no nulls in {name}, and has {len(nulls):,}: "
                f"{_rows(layer, nulls)}"
            )
    return ""


def _unique(layer: Layer, text: str) -> str:
    names = _fields(layer, text)
    table = layer.table.select(names)
    counted = table.group_by(names).aggregate([([], "count_all")])
    often = counted.filter(pc.greater(counted.column("count_all"), 1))
    if often.num_rows == 0:
        return ""
    first = ", ".join(str(often.column(name)[0].as_py()) for name in names)
    return (
        f"was expected to have no value of {text} twice, and {often.num_rows:,} come more than "
        f"once, such as {first}"
    )


def _valid(layer: Layer, text: str) -> str:
    from polygene.plane.validity import invalid_rows

    if text == "false":
        return ""
    is_polygons = layer.geometry.family == Family.POLYGONS
    rows = np.flatnonzero(invalid_rows(layer.geometry)).tolist() if is_polygons else []
    if len(rows) == 0:
        return ""
    return f"was expected to be valid, and {len(rows):,} features are not: {_rows(layer, rows)}"


def _no_slivers(layer: Layer, text: str) -> str:
    from polygene.ops.overlays.slivers import sliver_rows

    rows = sliver_rows(layer, Distance.parse(text).in_map_units(layer.crs)).tolist()
    if len(rows) == 0:
        return ""
    return (
        f"was expected to have no parts thinner than {text}, and has some in {len(rows):,} "
        f"features: {_rows(layer, rows)}"
    )


_CHECKS: dict[str, Callable[[Layer, str], str]] = {
    "features": _features,
    "no nulls in": _no_nulls,
    "unique": _unique,
    "valid": _valid,
    "no slivers under": _no_slivers,
}
