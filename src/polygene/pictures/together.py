"""Layers in different CRS on one map."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import proj
from polygene.arrays import F64Array
from polygene.classes import NamedTuple
from polygene.crs import is_same, turn_of
from polygene.errors import DataError
from polygene.geometry import Extent, extent_of
from polygene.layer import Layer, named_apart
from polygene.ops.places.bridge import outside_use
from polygene.ops.places.bringing import brought
from polygene.ops.places.carrying import boxes_of
from polygene.ops.summary import Bridge
from polygene.pictures.planes import plane_for, reaches
from polygene.units import map_unit_of

FOLLOW = 1e-4  # how closely edges are followed, in sizes of the map
LEAST_FOLLOW = 0.01  # metres
LEAST_SIZE = 1e-6  # degrees: a tenth of a metre
AROUND = 0.5  # how far around the others a layer is drawn that goes on and on, in sizes of the map


class Shown(NamedTuple):
    """Layers as they are shown, all in `crs`, their names distinct.

    first : the one whose CRS the others are brought to
    bridges : how those in another CRS than the first came there
    box : what is to be shown of them, in `crs`
    plane : the plane that was chosen since the first is in degrees, None if it is shown as it is
    """

    layers: list[Layer]
    first: str
    crs: proj.CRS | None
    bridges: list[Bridge]
    box: Extent | None
    plane: proj.CRS | None

    @property
    def notes(self) -> list[str]:
        if self.plane is None:
            return []
        return [f"shown on {self.plane.name}, since {self.first} is in degrees"]


def on_one_map(
    layers: Sequence[Layer], box: Extent | None, keeps_rows: bool = False, n_before: int = 0
) -> Shown:
    """Bring layers to be shown together to the CRS of the first, or to a plane if that is in degrees.

    The first is that with a geometry after ``n_before`` others; ``box`` is in its CRS too.

    A layer that goes beyond where that CRS is used is shown about what the others cover only. Its rows
    that are not shown are left out, or are without geometry if rows are to be kept.
    """
    later = [*layers[n_before:], *layers[:n_before]]
    first = next((y for y in later if not y.is_table), later[0])
    plane = plane_for(first, box)
    alike = [y for y in layers if is_same(y.crs, first.crs) and y.geometry.extent() is not None]
    if plane is not None and (box is not None or all(reaches(plane, y) for y in alike)):
        try:
            return _shown(layers, first, box, keeps_rows, plane)
        except DataError:
            pass  # something has no place there, as an edge over a pole: degrees have one for all
    return _shown(layers, first, box, keeps_rows, None)


def _shown(
    layers: Sequence[Layer],
    first: Layer,
    box: Extent | None,
    keeps_rows: bool,
    plane: proj.CRS | None,
) -> Shown:
    extents = [y.geometry.extent() for y in layers if is_same(y.crs, first.crs)]
    known = np.array([e for e in extents if e is not None]).reshape(-1, 4)
    if plane is not None:
        known = _in_one_turn(known, first)
    extent = box or extent_of(known)
    crs, size, onto = plane or first.crs, 0.0, replace(first, crs=plane or first.crs)
    if extent is not None:
        if plane is not None:
            extent = _on_plane(extent, first, plane)
            box = None if box is None else extent
        onto = Layer(first.name, boxes_of([extent]), pa.table({}), crs)
        size = max(extent[2] - extent[0], extent[3] - extent[1])
    follow = max(size * FOLLOW * (map_unit_of(crs) or 1.0), LEAST_FOLLOW)
    found: list[Layer] = []
    bridges: list[Bridge] = []
    for layer in layers:
        if not is_same(layer.crs, crs) and not layer.is_table:
            is_inside = box is None and _is_inside(layer, crs, plane)
            there = brought(
                other=layer,
                onto=onto,
                reach=AROUND * size,
                whole=is_inside,
                follow=follow,
                invalid="keep" if is_inside else "mend",
            )
            is_bridge = there.facts is not None and not is_same(layer.crs, first.crs)
            layer = there.layer
            if not keeps_rows:
                layer = layer.take(~layer.geometry.is_empty)
            bridges += [there.facts] if there.facts is not None and is_bridge else []
        found.append(layer)
    return Shown(named_apart(found), first.name, crs, bridges, box, plane)


def _in_one_turn(extents: F64Array, first: Layer) -> F64Array:
    """Return extents (n, 4) in degrees, moved by whole turns to where the first layer is."""
    own, turn = first.geometry.extent(), turn_of(first.crs)
    if own is None or not turn:
        return extents
    away = (own[0] + own[2] - extents[:, 0] - extents[:, 2]) / 2
    moved = extents.copy()
    moved[:, [0, 2]] += (turn * np.rint(away / turn))[:, None]
    return moved


def _on_plane(extent: Extent, layer: Layer, plane: proj.CRS) -> Extent:
    """Return the extent on a plane of one in the CRS of a layer; that of a point has a size too."""
    x0, y0, x1, y1 = extent
    wider = (x0 - LEAST_SIZE, y0 - LEAST_SIZE, x1 + LEAST_SIZE, y1 + LEAST_SIZE)
    around = Layer(layer.name, boxes_of([wider]), pa.table({}), layer.crs)
    there = brought(around, Layer("", around.geometry, pa.table({}), plane), whole=True)
    found = there.layer.geometry.extent()
    if found is None:
        raise DataError(f"{layer.name} has no place on {plane.name}")
    return found


def _is_inside(layer: Layer, crs: proj.CRS | None, plane: proj.CRS | None) -> bool:
    if plane is not None:
        return reaches(plane, layer)
    return not outside_use(layer, crs, whole_rows=True).any()
