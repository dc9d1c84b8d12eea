"""Where a map of the whole earth ends: half a turn to either side of its middle, at one meridian.

An area over that meridian lies at both ends of the map, so it is parted there. PROJ takes the meridian
itself for one of the two ends, whatever is meant; so what lies on it is led a millimetre inside.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import proj
from polygene.arrays import BoolArray, F64Array, I64Array, owners, reduce_groups
from polygene.between import Way
from polygene.classes import NamedTuple
from polygene.crs import degrees_of, turn_of
from polygene.geometry import Extent, GeometryColumn, concatenate
from polygene.layer import Layer
from polygene.ops.places.carrying import cut_to, window_between
from polygene.ops.places.courses import Units, metres_between, with_middles

STEP = 0.25  # degrees of latitude from vertex to vertex along the edge, at most
INSIDE = 1e-8  # degrees from the edge, a millimetre on the earth
# Degrees from the edge, metres that a place there may be from it on the map, and metres that the two
# ends of a map are apart at least.
BESIDE, NEAR, FAR = 1e-6, 100.0, 100_000.0


class Parted(NamedTuple):
    """A column whose parts lie on one side of the edge of a map each, its longitudes running on.

    is_parted : (n_rows,) rows that lay over the edge
    """

    column: GeometryColumn
    is_parted: BoolArray


def edge_of(way: Way) -> float | None:
    """Return the longitude at which the map of a way's target ends in the east, in the source's units.

    It begins a whole turn before that. None if the map has no such ends.
    """
    turn = turn_of(way.source)
    middle = _middle(way.target)
    if not turn or turn_of(way.target) or middle is None:
        return None
    of_source = _prime_meridian(way.source)
    edge = (middle + 180.0 - of_source) / degrees_of(way.source)
    lats = np.array([-30.0, -1.0, 10.0, 45.0]) / degrees_of(way.source)
    beside = BESIDE / degrees_of(way.source)

    def places(lon: float) -> F64Array:
        return way.there(np.stack([np.full(len(lats), lon), lats], axis=1))

    units = Units.of(way.target)
    inside = INSIDE / degrees_of(way.source)
    east, west = places(edge - inside), places(edge - turn + inside)
    is_edge = (
        (metres_between(units, east, places(edge - beside)) < NEAR)
        & (metres_between(units, west, places(edge - turn + beside)) < NEAR)
        & (metres_between(units, east, west) > FAR)
    )
    return edge if is_edge.all() else None


def _middle(crs: proj.CRS) -> float | None:
    """Return the longitude of the middle of a map, in degrees from Greenwich."""
    operation = crs.coordinate_operation
    if operation is None:
        return None
    for own in operation.params:
        if own.name.lower().startswith("longitude of"):
            value = float(own.value) * own.unit_conversion_factor
            return float(np.degrees(value)) + _prime_meridian(crs)
    return None


def _prime_meridian(crs: proj.CRS) -> float:
    own = crs.prime_meridian
    if own is None:
        return 0.0
    return float(np.degrees(own.longitude * float(own.unit_conversion_factor)))


def parted_at_edge(layer: Layer, way: Way) -> Parted:
    """Return the geometry of a layer parted at the edge of the map that it is to lie on.

    As it is if the map has no such edge, or nothing of the layer lies over it or beyond.
    """
    column = layer.geometry
    edge, extent = edge_of(way), column.extent()
    rows = np.zeros(column.n_rows, bool)
    if edge is None or extent is None:
        return Parted(column, rows)
    turn = turn_of(way.source)
    low, high = _strips(column, edge, turn)
    is_over = low < high
    if not is_over.any() and not high.any():
        return Parted(column, rows)
    row_of_part = owners(column.row_offsets)
    rows[row_of_part[is_over]] = True
    moved = _moved(column, high, edge, turn)
    over = np.flatnonzero(rows)
    if len(over):
        alone = Layer(layer.name, column.take(over), pa.table({}), layer.crs)
        cut = _cut(alone, edge, turn, extent)
        moved = moved.with_rows(over, cut)
    return Parted(replace(moved, is_multi=column.is_multi or bool(len(over))), rows)


def _strips(column: GeometryColumn, edge: float, turn: float) -> tuple[I64Array, I64Array]:
    """Return the turns (n_parts,) that each part begins and ends in; turn 0 ends at the edge."""
    offsets = column.ring_offsets[column.part_offsets]
    lon = np.ascontiguousarray(column.xy[:, 0])
    least = reduce_groups(np.minimum, lon, offsets, 0.0).astype(np.float64)
    most = reduce_groups(np.maximum, lon, offsets, 0.0).astype(np.float64)
    high = np.ceil((most - edge) / turn).astype(np.int64)
    low = np.floor((least - edge) / turn).astype(np.int64) + 1
    return np.minimum(low, high), high


def _moved(column: GeometryColumn, strip: I64Array, edge: float, turn: float) -> GeometryColumn:
    """Move parts by whole turns into the one that ends at the edge, and what lies on it inside."""
    part_of_vertex = owners(column.ring_offsets[column.part_offsets])
    xy = column.xy.copy()
    xy[:, 0] -= turn * strip[part_of_vertex]
    inside = INSIDE / 360.0 * turn
    # What is cut there may lie beside it by a unit of the grid.
    for side, within in ((edge - turn, inside), (edge, -inside)):
        xy[np.abs(xy[:, 0] - side) < 10 * inside, 0] = side + within
    return column.with_xy(xy)


def _cut(layer: Layer, edge: float, turn: float, extent: Extent) -> GeometryColumn:
    """Return rows parted at the edge, each part moved to the turn before it."""
    column = layer.geometry
    first = int(np.floor((extent[0] - edge) / turn))
    last = int(np.ceil((extent[2] - edge) / turn))
    pieces = []
    for strip in range(first + 1, last + 1):
        x0, x1 = edge + (strip - 1) * turn, edge + strip * turn
        window = window_between(x0, x1, extent, turn)
        own = cut_to(layer, [window])[0]
        own = _moved(own, np.full(own.n_parts, strip), edge, turn)
        pieces.append(_with_bends(own, (edge - turn, edge), turn))
    both = concatenate(pieces)
    row_of_part = owners(both.row_offsets) % column.n_rows
    order = np.argsort(row_of_part, kind="stable")
    return replace(
        both.take_parts(order, row_of_part[order], column.n_rows), is_null=column.is_null
    )


def _with_bends(column: GeometryColumn, sides: tuple[float, float], turn: float) -> GeometryColumn:
    """Put vertices on what was cut along the edge, which is bent on most maps.

    As close to each other as the other vertices of the ring are at most: what lies beside is bent too.
    """
    ring_of, up, along = _edges_along(column, sides, turn)
    others = np.where(along, 0.0, up)
    longest = np.full(column.n_rings, STEP / 360.0 * turn)
    np.maximum.at(longest, ring_of, others)
    while (start := np.flatnonzero(along & (up > longest[ring_of]))).size:
        column = with_middles(column, start)[0]
        ring_of, up, along = _edges_along(column, sides, turn)
    return column


def _edges_along(
    column: GeometryColumn, sides: tuple[float, float], turn: float
) -> tuple[I64Array, F64Array, BoolArray]:
    """Return of edges the ring, how far they lead in latitude, and whether along one of the sides.

    Edges (n_vertices - 1,) are by the vertices they start at; those from ring to ring lead nowhere.
    """
    a, b = column.xy[:-1], column.xy[1:]
    ring_of = owners(column.ring_offsets)
    is_edge = ring_of[:-1] == ring_of[1:]
    up = np.where(is_edge, np.abs(b[:, 1] - a[:, 1]), 0.0)
    on_side = np.abs(a[:, :1] - np.array(sides)).min(axis=1) < 10 * INSIDE / 360.0 * turn
    return ring_of[:-1], up, is_edge & on_side & (a[:, 0] == b[:, 0])
