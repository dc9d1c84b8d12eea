"""Layers in different CRS on one map."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np
import pyarrow as pa
import pyproj

from polygene.crs import is_same
from polygene.geometry import Extent, extent_of
from polygene.layer import Layer, named_apart
from polygene.ops.places.bridge import brought, outside_use
from polygene.ops.places.carrying import boxes_of
from polygene.ops.summary import Bridge
from polygene.pictures.planes import plane_for, reaches
from polygene.units import map_unit_of

FOLLOW = 1e-4  # how closely edges are followed, in sizes of the map
LEAST_FOLLOW = 0.01  # metres
AROUND = 0.5  # how far around the others a layer is drawn that goes on and on, in sizes of the map


class Shown(NamedTuple):
    """Layers as they are shown, all in `crs`, their names distinct.

    bridges : how those in another CRS than the first came there
    box : what is to be shown of them, in `crs`
    plane : the plane that was chosen since the first is in degrees, None if it is shown as it is
    """

    layers: list[Layer]
    crs: pyproj.CRS | None
    bridges: list[Bridge]
    box: Extent | None
    plane: pyproj.CRS | None

    @property
    def notes(self) -> list[str]:
        if self.plane is None:
            return []
        return [f"shown on {self.plane.name}, since {self.layers[0].name} is in degrees"]


def on_one_map(layers: Sequence[Layer], box: Extent | None, keeps_rows: bool = False) -> Shown:
    """Bring layers to be shown together to the CRS of the first, or to a plane if that is in degrees.

    A layer that goes beyond where that CRS is used is shown about what the others cover only. Its rows
    that are not shown are left out, or are without geometry if rows are to be kept.
    """
    first = layers[0]
    plane = plane_for(layers, box)
    extents = [y.geometry.extent() for y in layers if is_same(y.crs, first.crs)]
    extent = box or extent_of(np.array([e for e in extents if e is not None]).reshape(-1, 4))
    size, onto = 0.0, replace(first, crs=plane or first.crs)
    if extent is not None:
        around = Layer(first.name, boxes_of([extent]), pa.table({}), first.crs)
        if plane is not None:
            onto = Layer(first.name, around.geometry, around.table, plane)
            around = brought(around, onto, whole=True, outside="bring").layer
            extent = around.geometry.extent()
            box = None if box is None else extent
        assert extent is not None
        onto = Layer(first.name, boxes_of([extent]), pa.table({}), plane or first.crs)
        size = max(extent[2] - extent[0], extent[3] - extent[1])
    follow = max(size * FOLLOW * (map_unit_of(onto.crs) or 1.0), LEAST_FOLLOW)
    found: list[Layer] = []
    bridges: list[Bridge] = []
    for layer in layers:
        if not is_same(layer.crs, onto.crs) and not layer.is_table:
            is_inside = box is None and _is_inside(layer, onto.crs, plane)
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
    return Shown(named_apart(found), onto.crs, bridges, box, plane)


def _is_inside(layer: Layer, crs: pyproj.CRS | None, plane: pyproj.CRS | None) -> bool:
    if plane is not None:
        return reaches(plane, layer)
    return not outside_use(layer, crs, whole_rows=True).any()
