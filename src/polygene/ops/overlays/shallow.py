"""OTHERs that lie over themselves very deep, joined first where only what they cover counts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene.classes import NamedTuple
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.measures import ruler_for
from polygene.ops.overlays.scene import grid_of, rows_near
from polygene.ops.part import current
from polygene.ops.summary import NamedRows, OverlaySummary
from polygene.plane.rules import Rule
from polygene.plane.sheets import JOINED, sheets_of


class Shallow(NamedTuple):
    """OTHERs to lay, and for those that were joined what there is to tell: features used, and lost.

    rounds : how many times borders of any of them were noded before
    """

    others: list[Layer]
    told: list[tuple[int, NamedRows] | None]
    rounds: int = 0

    def corrected(self, summary: OverlaySummary, given: Sequence[Layer]) -> OverlaySummary:
        """Tell of features as they were given, not of what they were joined to."""
        sides = list(summary.others)
        for k, (found, layer) in enumerate(zip(self.told, given, strict=True)):
            if found is not None:
                used, fell = found
                total, taken = layer.n_total, layer.n_rows
                sides[k] = replace(sides[k], total=total, taken=taken, used=used, fell=fell)
        balance = summary.balance
        if balance is not None and self.rounds:
            balance = replace(balance, moved=(1 + self.rounds) * balance.moved)
        return replace(summary, others=sides, balance=balance)


def shallow(layer: Layer, others: Sequence[Layer], rule: Rule, precision: float | None) -> Shallow:
    """Join the features of OTHERs of polygons that lie very deep, each part a row.

    Not where pieces are of one row of each layer, nor in a task, which has a part of them only.
    """
    found, rounds = Shallow(list(others), [None] * len(others)), 0
    if rule.is_keyed_by_other or current() is not None:
        return found
    for k, other in enumerate(others):
        column = other.geometry
        if column.family != Family.POLYGONS or not sheets_of(column, *JOINED).any():
            continue
        from polygene.ops.joining import joined_areas
        from polygene.table.groups import Groups

        near = rows_near(column.row_bounds(), layer.geometry.extent())
        grid = grid_of(layer, others, precision)
        one = Groups(np.zeros(other.n_rows, np.int64), np.zeros(1, np.int64))
        joined = joined_areas(other, one, grid, ruler_for(layer.crs))
        rounds = max(rounds, joined.rounds)
        n = joined.geometry.n_parts
        parts = joined.geometry.take_parts(np.arange(n), np.arange(n), n)
        found.others[k] = Layer(other.name, parts, pa.table({}), other.crs)
        is_lost = near & (joined.own_sizes <= 0) & ~column.is_empty
        found.told[k] = int(near.sum()), NamedRows.of(other, is_lost)
    return found._replace(rounds=rounds)
