"""What an overlay keeps, as data: a line beside its verb; here those that have several users."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from typing import Any

import numpy as np

from polygene.arrays import BoolArray
from polygene.classes import dataclass

MOST_COMBINED = (
    10  # OTHERs whose combinations are gone through; of more, all rows of INPUT are looked at
)


@dataclass(frozen=True)
class Rule:
    """Which combinations of coverage are kept, and whose the pieces are.

    keeps : from (n, 1 + OTHERs) whether INPUT and each OTHER cover, to (n,) whether that is kept
    is_keyed_by_other : a piece is of one row of each layer that covers it, with the attributes of all;
        else of INPUT's row alone, and `keeps` is asked of INPUT and whether any OTHER covers
    keeps_other : what OTHERs cover without INPUT is asked too; INPUT's geometry has no precedence then
    takes_own_kind : OTHERs may be what INPUT is: lines over lines, points over points
    """

    name: str
    keeps: Callable[[BoolArray], Any]
    is_keyed_by_other: bool = True
    keeps_other: bool = False
    takes_own_kind: bool = False

    @property
    def keeps_covered(self) -> bool:
        """Whether INPUT is kept where an OTHER covers it."""
        return bool(self.keeps(np.array([[True, True]]))[0])

    @property
    def is_of_all(self) -> bool:
        """Whether a piece is of one row of each of two layers, and hangs on no other row."""
        every = np.array([*itertools.product((False, True), repeat=2)], bool)
        kept = np.asarray(self.keeps(every))
        return (
            self.is_keyed_by_other and not self.keeps_other and bool((kept == every.all(1)).all())
        )

    def may_keep(self, may_cover: BoolArray) -> BoolArray:
        """Return which rows of INPUT (n,) may be kept in any part.

        ``may_cover`` (n, OTHERs) is whether each OTHER may cover a part of the row.
        """
        n_others = may_cover.shape[1]
        if n_others > MOST_COMBINED:
            return np.ones(len(may_cover), bool)
        every = np.array([*itertools.product((False, True), repeat=n_others)], bool)
        has_own = np.ones((len(every), 1), bool)
        found = np.zeros(len(may_cover), bool)
        for combination in every[self.keeps(np.concatenate([has_own, every], axis=1))]:
            found |= (may_cover | ~combination).all(axis=1)
        return found


CLIP = Rule("clip", lambda has: has[:, 0] & has[:, 1:].any(axis=1), is_keyed_by_other=False)
ERASE = Rule(
    "erase",
    lambda has: has[:, 0] & ~has[:, 1:].any(axis=1),
    is_keyed_by_other=False,
    takes_own_kind=True,
)
