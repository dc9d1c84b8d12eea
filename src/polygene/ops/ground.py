"""What operations say where a plane stretches what they measure on it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from polygene.crs import is_geographic
from polygene.distortion import off_ground
from polygene.geometry import Family
from polygene.layer import Layer
from polygene.ops.part import extent_of_whole

if TYPE_CHECKING:
    import lark
    from pyproj import CRS

    from polygene.geometry import Extent

LENGTHS = frozenset({"length", "perimeter", "distance"})
SIZES = {Family.POLYGONS: ("area",), Family.LINES: ("length",), Family.POINTS: ()}  # what is told


def stretched(layer: Layer, measures: Iterable[str]) -> list[str]:
    """Return what there is to say of an ``area``, a ``length``, ``perimeter`` or ``distance``."""
    asked = LENGTHS.union(["area"]).intersection(measures)
    if not asked or layer.crs is None or is_geographic(layer.crs):
        return []  # where a layer lies need not be known then
    return _stretched(layer.crs, extent_of_whole(0, layer.geometry.extent()), set(asked))


def stretched_in(
    layer: Layer, trees: Iterable[lark.Tree], measures: Iterable[str] = ()
) -> list[str]:
    """Return what there is to say of what some parsed expressions measure, and of more measures."""
    return stretched(layer, _calls(trees).union(measures))


def stretched_at(
    crs: CRS | None, extent: Extent | None, trees: Iterable[lark.Tree], measures: Iterable[str] = ()
) -> list[str]:
    """Return the same of what is measured within an extent."""
    return _stretched(crs, extent, _calls(trees).union(measures))


def _calls(trees: Iterable[lark.Tree]) -> set[str]:
    from polygene.table.expression import calls_in

    return set().union(*(calls_in(tree) for tree in trees))


def _stretched(crs: CRS | None, extent: Extent | None, asked: set[str]) -> list[str]:
    return off_ground(crs, extent, areas="area" in asked, lengths=bool(asked & LENGTHS))
