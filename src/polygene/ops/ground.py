"""What operations say where a plane stretches what they measure on it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from polygene.distortion import off_ground
from polygene.layer import Layer
from polygene.ops.part import extent_of_whole
from polygene.table.expression import calls_in

if TYPE_CHECKING:
    import lark

LENGTHS = frozenset({"length", "perimeter", "distance"})


def stretched(layer: Layer, measures: Iterable[str]) -> list[str]:
    """Return what there is to say of an ``area``, a ``length``, ``perimeter`` or ``distance``."""
    asked = set(measures)
    extent = extent_of_whole(0, layer.geometry.extent())
    notes = off_ground(layer.crs, extent, areas=True) if "area" in asked else []
    return notes + (off_ground(layer.crs, extent, areas=False) if asked & LENGTHS else [])


def stretched_in(layer: Layer, trees: Iterable[lark.Tree]) -> list[str]:
    """Return what there is to say of what some parsed expressions measure."""
    return stretched(layer, set().union(*(calls_in(tree) for tree in trees)))
