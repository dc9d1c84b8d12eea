"""Long rounds of one kind: each run of all tests takes some of them, `make random` all."""

from __future__ import annotations

import math
import os
import random
from collections.abc import Iterable
from typing import TypeVar

T = TypeVar("T")
ALL = "POLYGENE_ALL"


def some_of(items: Iterable[T], share: float = 0.5) -> list[T]:
    """Return some of them, chosen by chance, in their order; all of them where that is asked for."""
    every = list(items)
    if os.environ.get(ALL):
        return every
    chosen = sorted(random.sample(range(len(every)), math.ceil(share * len(every))))
    return [every[k] for k in chosen]
