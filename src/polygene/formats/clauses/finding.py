"""What is found when a file is held to its standard."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np

from polygene.classes import NamedTuple

Weight = Literal["refused", "misread", "form"]


class Finding(NamedTuple):
    """Something that is not as the standard has it.

    clause : where it says so, empty for what no reader could do without; place : where in the file
    weight : "refused" if programs may refuse the file, "misread" if they may read something else than
        was meant, "form" if it does not matter for reading
    """

    clause: str
    place: str
    words: str
    weight: Weight


class Judged(NamedTuple):
    """What a file was held to, with its version, and what was found."""

    standard: str
    version: str
    findings: list[Finding]


def rows_of(mask: np.ndarray) -> str:
    """Return the rows of a mask as a place: "row 7", "rows 1, 2, 3 … (120)"."""
    return some_of((np.flatnonzero(mask) + 1).tolist(), "row")


def some_of(numbers: Sequence[int], noun: str, most: int = 3) -> str:
    """Return some things that have numbers, the first few by theirs."""
    named = ", ".join(map(str, numbers[:most]))
    if len(numbers) <= most:
        return f"{noun}{'' if len(numbers) == 1 else 's'} {named}"
    return f"{noun}s {named} … ({len(numbers):,})"


def rows_with(offsets: np.ndarray, is_so: np.ndarray) -> np.ndarray:
    """Return (n_rows,) whether something in a row, which begins where ``offsets`` says, is so."""
    found = np.zeros(len(offsets) - 1, bool)
    found[np.searchsorted(offsets, np.flatnonzero(is_so), "right") - 1] = True
    return found
