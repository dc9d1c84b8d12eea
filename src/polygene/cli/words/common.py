"""Lines that the words of several commands have alike."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from polygene.info import NO_GEOMETRY
from polygene.notes import counted
from polygene.units import Distance

if TYPE_CHECKING:
    from polygene.cli.words.blocks import Words
    from polygene.ops.summary import Side


def took_part(side: Side) -> str:
    """Say how many of how many features took part."""
    words = f"{side.taken:,} of {counted(side.total, 'feature')}"
    if side.used < side.taken:
        words += f", {side.used:,} within reach"
    return words


def written_so(asked: Sequence[str]) -> str:
    """Return distances as they were written; nothing if that says no more than the metres do."""
    units = [Distance.parse(text).unit for text in asked]
    return "" if any(unit in (None, "m") for unit in units) else " and ".join(asked)


def counted_rows(n: int, geometry: str) -> str:
    """Return how many rows there are, in the word for them: a table has no features."""
    return counted(n, "row" if geometry == NO_GEOMETRY else "feature")


def proved(say: Words, n: int) -> None:
    """Say that all features that came out were found valid."""
    if n:
        say.line("valid", f"all {n:,} checked")


def disagreed(say: Words, disagreements: dict[str, int], among: str = "groups") -> None:
    """Say in how many groups a field that is carried over had several values."""
    if disagreements:
        words = ", ".join(f"{name} in {n:,}" for name, n in disagreements.items())
        say.line("disagreed", f"{words} of the {among}; null there")
