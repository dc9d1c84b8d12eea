"""Long rounds of one kind: each run of all tests takes some of them, `make random` all."""

from __future__ import annotations

import os
import random
from collections.abc import Iterable
from typing import TypeVar

T = TypeVar("T")
ALL = "POLYGENE_ALL"


def takes_all() -> bool:
    """Whether all of them are asked for."""
    return bool(os.environ.get(ALL))


def many(everything: int, some: int) -> int:
    """Return how many there are where all are asked for, or how many are enough in each run."""
    return everything if takes_all() else some


def some_of(items: Iterable[T], one_of: int = 6) -> list[T]:
    """Return a sixth of them, chosen by chance, in their order; all of them where that is asked for."""
    every = list(items)
    if takes_all():
        return every
    chosen = sorted(random.sample(range(len(every)), -(-len(every) // one_of)))
    return [every[k] for k in chosen]
