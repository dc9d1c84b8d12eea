"""Layers in different CRS on one map."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene.crs import is_same
from polygene.geometry import Extent, extent_of
from polygene.layer import Layer, distinct_name
from polygene.ops.places.bridge import brought, outside_use
from polygene.ops.places.carrying import boxes_of
from polygene.ops.summary import Bridge
from polygene.units import map_unit_of

FOLLOW = 1e-4  # how closely edges are followed, in sizes of the map
LEAST_FOLLOW = 0.01  # metres
AROUND = 0.5  # how far around the others a layer is drawn that goes on and on, in sizes of the map


def on_one_map(layers: Sequence[Layer], box: Extent | None) -> tuple[list[Layer], list[Bridge]]:
    """Bring layers to the CRS of the first to be drawn, their names distinct; return also how.

    A layer that goes beyond where that CRS is used is drawn about what the others cover only.
    """
    first = layers[0]
    extents = [y.geometry.extent() for y in layers if is_same(y.crs, first.crs)]
    extent = box or extent_of(np.array([e for e in extents if e is not None]).reshape(-1, 4))
    size, onto = 0.0, first
    if extent is not None:
        size = max(extent[2] - extent[0], extent[3] - extent[1])
        onto = Layer(first.name, boxes_of([extent]), pa.table({}), first.crs)
    follow = max(size * FOLLOW * (map_unit_of(first.crs) or 1.0), LEAST_FOLLOW)
    found: list[Layer] = []
    bridges: list[Bridge] = []
    for layer in layers:
        if not is_same(layer.crs, first.crs):
            is_inside = box is None and not outside_use(layer, first.crs, whole_rows=True).any()
            there = brought(layer, onto, reach=AROUND * size, whole=is_inside, follow=follow)
            layer = there.layer.take(~there.layer.geometry.is_empty)
            bridges += [there.facts] if there.facts is not None else []
        found.append(replace(layer, name=distinct_name(layer.name, {y.name for y in found})))
    return found, bridges
