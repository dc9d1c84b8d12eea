"""What a recipe expects of a step's result, and whether it holds."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.errors import UsageError, did_you_mean
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.notes import counted
from polygene.ops.summary import SUMMING
from polygene.table.tokens import names_of
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


def check(pieces: Iterable[Layer], name: str, text: str) -> str:
    """Return what is wrong with a layer, given whole or in pieces, by an expectation, if anything.

    Raises
    ------
    UsageError, UnknownFieldError
        If there is no such expectation, or ``text`` is no value of it.
    """
    check_text(name, text)
    return _CHECKS[name](pieces, text)


def _range(text: str) -> tuple[int, int]:
    low, dash, high = text.partition("-")
    try:
        return int(low), int(high if dash else low)
    except ValueError as err:
        raise UsageError(f"{text!r} is no number, nor a range as in 20-30") from err


class _Wrong:
    """Rows that are not as expected: how many, and the first of them in words."""

    def __init__(self) -> None:
        self.n = 0
        self.labels: list[str] = []

    def add(self, layer: Layer, rows: Sequence[int]) -> None:
        self.n += len(rows)
        self.labels += [layer.row_label(int(row)) for row in rows[: 5 - len(self.labels)]]

    def __str__(self) -> str:
        return ", ".join(self.labels) + (" …" if self.n > len(self.labels) else "")


def _features(pieces: Iterable[Layer], text: str) -> str:
    bounds, n_rows = _range(text), sum(layer.n_rows for layer in pieces)
    if bounds[0] <= n_rows <= bounds[1]:
        return ""
    return f"was expected to have {text} features, and has {n_rows:,}"


def _fields(layer: Layer, text: str) -> list[str]:
    names = names_of(text)
    for name in names:
        layer.check_field(name)
    return names


def _no_nulls(pieces: Iterable[Layer], text: str) -> str:
    wrong: dict[str, _Wrong] = {}
    for layer in pieces:
        for name in _fields(layer, text):
            nulls = pc.indices_nonzero(pc.is_null(layer.table.column(name))).to_pylist()
            wrong.setdefault(name, _Wrong()).add(layer, nulls)
    for name, own in wrong.items():
        if own.n:
            return f"was expected to have no nulls in {name}, and has {own.n:,}: {own}"
    return ""


def _unique(pieces: Iterable[Layer], text: str) -> str:
    table = pa.concat_tables([layer.table.select(_fields(layer, text)) for layer in pieces])
    names = table.column_names
    counted = table.group_by(names).aggregate([([], "count_all")])
    often = pc.filter(counted, pc.greater(counted.column("count_all"), 1))
    if often.num_rows == 0:
        return ""
    first = ", ".join(str(often.column(name)[0].as_py()) for name in names)
    return (
        f"was expected to have no value of {text} twice, and {often.num_rows:,} come more than "
        f"once, such as {first}"
    )


def _valid(pieces: Iterable[Layer], text: str) -> str:
    from polygene.plane.validity import invalid_rows

    wrong = _Wrong()
    for layer in pieces if text == "true" else ():
        if layer.geometry.family == Family.POLYGONS:
            wrong.add(layer, np.flatnonzero(invalid_rows(layer.geometry)).tolist())
    if not wrong.n:
        return ""
    return f"was expected to be valid, and has {counted(wrong.n, 'invalid feature')}: {wrong}"


def _no_slivers(pieces: Iterable[Layer], text: str) -> str:
    from polygene.ops.overlays.slivers import sliver_rows

    wrong = _Wrong()
    for layer in pieces:
        distance = Distance.parse(text).in_map_units(layer.crs)
        wrong.add(layer, sliver_rows(layer, distance).tolist())
    if not wrong.n:
        return ""
    return (
        f"was expected to have no parts thinner than {text}, and has some in "
        f"{counted(wrong.n, 'feature')}: {wrong}"
    )


_CHECKS: dict[str, Callable[[Iterable[Layer], str], str]] = {
    "features": _features,
    "no nulls in": _no_nulls,
    "unique": _unique,
    "valid": _valid,
    "no slivers under": _no_slivers,
}
