"""The way to the bridge: what is there already need not go over it."""

from __future__ import annotations

from typing import TypedDict, Unpack

from polygene.crs import is_same, turn_of
from polygene.layer import Layer
from polygene.ops.places.brought import Brought


class Bringing(TypedDict, total=False):
    """How a layer is to come: what `polygene.ops.places.bridge.bridged` takes."""

    reach: float
    whole: bool
    follow: float | None
    invalid: str
    outside: str


def brought(other: Layer, onto: Layer, **how: Unpack[Bringing]) -> Brought:
    """Bring a layer to the CRS of another; see `polygene.ops.places.bridge.bridged`.

    Where both are in one CRS of a plane it is there, and the bridge, which is long, not imported.
    """
    if is_same(other.crs, onto.crs) and not turn_of(onto.crs):
        return Brought(other)
    from polygene.ops.places.bridge import bridged

    return bridged(other, onto, **how)
