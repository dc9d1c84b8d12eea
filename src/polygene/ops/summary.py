"""What an operation has to tell: facts only; `cli` words them."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from polygene.arrays import BoolArray, F64Array
from polygene.errors import BalanceError
from polygene.geometry import Family
from polygene.layer import Layer

MOST_ROWS_NAMED = 5


@dataclass(frozen=True)
class NamedRows:
    """How many rows something is true of, and the first of them as messages name rows."""

    count: int = 0
    first: list[str] = field(default_factory=list)

    @staticmethod
    def of(layer: Layer, mask: BoolArray) -> NamedRows:
        rows = np.flatnonzero(mask)
        return NamedRows(len(rows), [layer.row_label(int(r)) for r in rows[:MOST_ROWS_NAMED]])


@dataclass(frozen=True)
class Side:
    """One layer that took part.

    total : features in the source; taken : after filters; used : those that could matter
    """

    name: str
    total: int
    taken: int
    used: int
    family: Family
    crossed: NamedRows = field(default_factory=NamedRows)


@dataclass(frozen=True)
class Balance:
    """What must add up: before = inside + outside, within what the grid may move.

    In square metres, metres or numbers of points; ``unit`` is ``m²``, ``m``, ``square units``,
    ``units`` or ``points``. ``bound`` is the most that the grid explains.
    """

    before: float
    inside: float
    outside: float
    bound: float
    unit: str

    @property
    def difference(self) -> float:
        return self.inside + self.outside - self.before


def check_balance(
    before: F64Array, inside: F64Array, outside: F64Array, bound: F64Array, layer: Layer
) -> None:
    """Raise BalanceError, naming the first row, if any row's measure is not conserved."""
    wrong = np.flatnonzero(~(np.abs(inside + outside - before) <= bound))
    if len(wrong):
        row = int(wrong[0])
        raise BalanceError(
            f"layer {layer.name!r}, {layer.row_label(row)}: inside {inside[row]!r} and outside "
            f"{outside[row]!r} do not add up to {before[row]!r} (allowed {bound[row]!r}); "
            f"{len(wrong)} rows in all"
        )
