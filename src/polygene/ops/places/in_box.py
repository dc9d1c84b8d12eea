"""Which features meet a box: by their own boxes where those tell, else by what they are themselves."""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray
from polygene.crs import turn_of
from polygene.geometry import Extent
from polygene.layer import Layer
from polygene.longitudes import goes_beyond, sides_of_spans, turns_onto
from polygene.ops.admit import admit
from polygene.ops.overlays.scene import rows_near
from polygene.ops.places.extents import are_in_reach
from polygene.table.spatial import box as rectangle
from polygene.table.spatial import related_rows


def rows_in_box(layer: Layer, box: Extent) -> BoolArray:
    """Return which rows (n_rows,) of a layer meet a box in its CRS, its sides and corners included.

    A feature whose own box lies in the box meets it, and one whose own box does not meet it does not.
    Of the others it is asked what they are themselves, if invalid when mended: one may lie round a
    corner, or with parts on both sides. Where coordinates cannot be computed with, the own box decides.

    Parameters
    ----------
    box : x and y minimum, x and y maximum, in map units; without width or height, or endless, too.
        In longitude and latitude its west may lie east of its east, over the 180th meridian, and it
        holds what has its places in whichever turn round the earth: 190 is -170.

    Raises
    ------
    UsageError
        If it may not.
    """
    x0, y0, x1, y1 = box
    found = np.zeros(layer.n_rows, bool)
    for west, east in sides_of_spans(x0, x1, turn_of(layer.crs)):
        for one in _turned((west, y0, east, y1), layer):
            found |= _rows_in(layer, one)
    return found


def _turned(box: Extent, layer: Layer) -> list[Extent]:
    """Return a box, and where it lies in other turns if longitudes are beyond half of one."""
    extent = layer.geometry.extent()
    if not (goes_beyond(box, layer.crs) or goes_beyond(extent, layer.crs)):
        return [box]
    x0, y0, x1, y1 = box
    turns = turns_onto(box, extent, layer.crs)
    return [(x0 + step, y0, x1 + step, y1) for step in turns] or [box]


def _rows_in(layer: Layer, box: Extent) -> BoolArray:
    bounds = layer.geometry.row_bounds()
    near = rows_near(bounds, box)
    is_inside = (bounds[:, :2] >= box[:2]).all(axis=1) & (bounds[:, 2:] <= box[2:]).all(axis=1)
    doubtful = np.flatnonzero(near & ~is_inside & are_in_reach(layer))
    if len(doubtful):
        low, high = bounds[doubtful, :2].min(axis=0), bounds[doubtful, 2:].max(axis=0)
        # No larger than need be, for the grid, and no thinner: what is nearly flat has no area on it.
        room = (high - low).max()
        low, high = np.maximum(box[:2], low - room), np.minimum(box[2:], high + room)
        (literal,) = rectangle([*low.tolist(), *high.tolist()])
        near[doubtful] = related_rows(admit(layer.take(doubtful)).layer, literal, "intersects")
    return near
