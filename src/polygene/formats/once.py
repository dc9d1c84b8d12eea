"""What is made once a run and then known: a document that was parsed, a file that was looked after."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from typing import Any, TypeVar, cast

T = TypeVar("T")

_made: ContextVar[dict[object, Any] | None] = ContextVar("polygene_made", default=None)


@contextlib.contextmanager
def a_run() -> Iterator[None]:
    """Keep what `made_once` makes while this lasts; one within another is the same."""
    if _made.get() is not None:
        yield
        return
    token = _made.set({})
    try:
        yield
    finally:
        _made.reset(token)


def made_once(key: object, make: Callable[[], T]) -> T:
    """Return what is made for a key: once a run, outside of any each time."""
    made = _made.get()
    if made is None:
        return make()
    if key not in made:
        made[key] = make()
    return cast(T, made[key])
