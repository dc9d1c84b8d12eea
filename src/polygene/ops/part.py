"""Work on a part of layers that gives what the whole would: its rows, and where the whole lies.

What becomes of a row depends on rows near it only (snap rounding is local). So a task holds rows that
it is for, its *core*, and all others near those; what it makes of the others is somebody else's, and it
counts its core alone. What hangs on the whole, as the step of the grid, is told by the extents.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from contextvars import ContextVar
from dataclasses import field

import numpy as np

from polygene.arrays import BoolArray, I64Array
from polygene.classes import dataclass
from polygene.geometry import Extent
from polygene.layer import Layer


@dataclass(frozen=True)
class Part:
    """A part of the whole work, by layer: INPUT, then the OTHERs.

    core : the rows that the task is for, as their sources number them, rising
    extents : of the whole layers
    context : rows of INPUT near the core, where an operation is given its core alone
    told : arrays, as numbers of rows that something is true of, for who adds up tasks
    """

    core: Sequence[I64Array]
    extents: Sequence[Extent | None]
    context: Layer | None = None
    told: dict[str, np.ndarray] = field(default_factory=dict)

    def tell(self, what: str, values: np.ndarray) -> None:
        """Tell what adding up needs: rows that count once in several tasks, values with a median."""
        self.told[what] = values

    def is_core(self, layer: Layer, k: int) -> BoolArray:
        """Return which rows (n_rows,) of layer ``k`` the task is for."""
        core, rows = self.core[k], layer.numbers - 1
        if not len(core):
            return np.zeros(layer.n_rows, bool)
        at = np.minimum(np.searchsorted(core, rows), len(core) - 1)
        return np.asarray(core[at] == rows)


_current: ContextVar[Part | None] = ContextVar("polygene_part", default=None)


@contextlib.contextmanager
def working_on(part: Part) -> Iterator[None]:
    """Let operations work on a part of the whole while this lasts."""
    token = _current.set(part)
    try:
        yield
    finally:
        _current.reset(token)


@contextlib.contextmanager
def apart() -> Iterator[None]:
    """Let operations work on layers that are a part of nothing while this lasts."""
    token = _current.set(None)
    try:
        yield
    finally:
        _current.reset(token)


@contextlib.contextmanager
def working_on_some(layers: Sequence[int]) -> Iterator[None]:
    """Let operations work on some of the layers, in this order, while this lasts."""
    own = current()
    if own is None:
        yield
        return
    core, extents = [own.core[k] for k in layers], [own.extents[k] for k in layers]
    with working_on(Part(core, extents, None, own.told)):
        yield


def current() -> Part | None:
    """Return the part that is worked on; None if it is the whole."""
    return _current.get()


def core_of(layer: Layer, k: int) -> BoolArray:
    """Return which rows (n_rows,) of a layer the work is for: all, unless it is a part."""
    part = current()
    return np.ones(layer.n_rows, bool) if part is None else part.is_core(layer, k)


def extent_of_whole(k: int, own: Extent | None) -> Extent | None:
    """Return the extent of a whole layer: its own, unless there is only a part of it."""
    part = current()
    return own if part is None else part.extents[k]
