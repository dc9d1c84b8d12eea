"""Which way rings run: formats differ in what they want."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from polygene.arrays import spans
from polygene.geometry import Family, GeometryColumn
from polygene.measures import ring_areas


def turned(column: GeometryColumn, outer_is_counter_clockwise: bool) -> GeometryColumn:
    """Return polygons whose outer rings run one way and holes the other; rings that do stay."""
    if column.family != Family.POLYGONS:
        return column
    is_outer = np.zeros(column.n_rings, bool)
    is_outer[column.part_offsets[:-1][np.diff(column.part_offsets) > 0]] = True
    area = ring_areas(column.xy, column.ring_offsets)
    if not outer_is_counter_clockwise:
        area = -area
    turns = np.flatnonzero(np.where(is_outer, area < 0, area > 0))
    if len(turns) == 0:
        return column
    counts = np.diff(column.ring_offsets)[turns]
    ends = np.repeat(column.ring_offsets[turns] + column.ring_offsets[turns + 1] - 1, counts)
    order = np.arange(column.n_vertices)
    if len(turns) == column.n_rings:  # as where another standard has them all the other way
        order = np.subtract(ends, order, out=ends)
    else:
        here = spans(column.ring_offsets[turns], counts)
        order[here] = ends - here
    return replace(
        column,
        xy=column.xy.take(order, axis=0),
        z=None if column.z is None else column.z[order],
        m=None if column.m is None else column.m[order],
    )
