"""Longitudes of two layers that count from different meridians: 190 in one is -170 in the other.

What lies beyond the longitudes of INPUT is moved by whole turns to where INPUT has that place, and
parted at the meridian where INPUT's longitudes begin.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa

from polygene import proj
from polygene.arrays import BoolArray, F64Array, I64Array, owners, reduce_groups
from polygene.classes import NamedTuple
from polygene.crs import degrees_of, label, turn_of
from polygene.errors import DataError
from polygene.geometry import Extent, Family, GeometryColumn, bounds_of_groups, concatenate
from polygene.layer import SLACK, Layer
from polygene.longitudes import MOST_TURNS, goes_beyond, turns_onto
from polygene.ops.mending import mended_rows
from polygene.ops.overlays.scene import rows_near
from polygene.ops.places.carrying import cut_to, window_between
from polygene.plane.clusters import MOST_PAIRS, pairs_of_boxes


class Turned(NamedTuple):
    """Geometry within one turn, and which rows (n_rows,) were moved."""

    column: GeometryColumn
    is_moved: BoolArray


def count_apart(crs: proj.CRS | None, extent: Extent | None, onto: Extent | None) -> bool:
    """Whether what lies in one extent has places in the other that have other longitudes there."""
    if not (goes_beyond(extent, crs) or goes_beyond(onto, crs)):  # as most layers
        return False
    return any(turns_onto(extent, onto, crs))


def begin_for(layer: Layer, onto: Layer) -> float | None:
    """Return the longitude from which ``onto`` counts, for a layer of its CRS to do so too.

    None where both count alike, or what they do not is far from each other.

    Raises
    ------
    DataError
        If ``onto`` goes more than once round the earth, and the layer lies where it has two longitudes.
    """
    crs, extent = onto.crs, onto.geometry.extent()
    if crs is None or extent is None or not count_apart(crs, layer.geometry.extent(), extent):
        return None
    west, east = extent[0], extent[2]
    if east - west <= turn_of(crs) + SLACK / degrees_of(crs):
        return _begin(west, east, turn_of(crs))
    if not _meet_apart(layer, onto, crs):
        return None  # all that meets is drawn in the same turn
    raise DataError(
        f"layer {onto.name!r} goes more than once round the earth, from longitude {west:.10g} to "
        f"{east:.10g}, so places of {layer.name!r} have two in it; reproject it to "
        f"{label(crs).split()[0]} first, which brings all of it within half a turn"
    )


def _meet_apart(layer: Layer, onto: Layer, crs: proj.CRS) -> bool:
    """Whether the boxes of a part of each have a point in common, one moved by whole turns."""
    own, theirs = (
        bounds_of_groups(y.geometry.xy, y.geometry.ring_offsets[y.geometry.part_offsets])
        for y in (layer, onto)
    )
    slack = SLACK / degrees_of(crs)
    width = own[:, 2] - own[:, 0]
    own[:, 0] += np.minimum(slack, width / 2)  # borders at the meridian do not count
    own[:, 2] -= np.minimum(slack, width / 2)
    for k in range(-MOST_TURNS, MOST_TURNS + 1):
        if not k:
            continue
        step = k * turn_of(crs)
        moved = own + np.array([step, 0.0, step, 0.0])
        a, b = moved[_near(moved, theirs)], theirs[_near(theirs, moved)]
        both = np.concatenate([a, b])
        if not len(a) or not len(b):
            continue
        pairs = pairs_of_boxes(both, np.zeros(len(both), np.int64), most=MOST_PAIRS * len(both))
        if pairs is None or ((pairs[0] < len(a)) != (pairs[1] < len(a))).any():
            return True
    return False


def _near(boxes: F64Array, others: F64Array) -> BoolArray:
    """Return which boxes (n, 4) meet the box about others."""
    if not len(others):
        return np.zeros(len(boxes), bool)
    low, high = others[:, :2].min(axis=0), others[:, 2:].max(axis=0)
    return rows_near(boxes, (*low.tolist(), *high.tolist()))


def _begin(west: float, east: float, turn: float) -> float:
    """Return where a turn that holds some longitudes begins, in the ways of counting that are usual."""
    for begin in (-turn / 2, 0.0):
        if begin <= west and east <= begin + turn:
            return begin
    return (west + east - turn) / 2


def within_a_turn(column: GeometryColumn, crs: proj.CRS, begin: float) -> Turned:
    """Return geometry with longitudes from ``begin`` on for a turn, what crosses that parted there.

    What lies within them stays bit for bit. Areas whose parts come to lie side by side are joined; of
    invalid ones those are mended that are parted.
    """
    turn = turn_of(crs)
    low, high = _turns(column, begin, turn)
    is_moved = np.zeros(column.n_rows, bool)
    is_moved[owners(column.row_offsets)[(low != 0) | (high != 0)]] = True
    if not is_moved.any():
        return Turned(column, is_moved)
    cut, mixed = _parted(column, low, high)
    found = _moved(column, low, turn)
    rows = np.flatnonzero(cut)
    if len(rows):
        own = column.take(rows)
        if own.family == Family.POLYGONS:
            own = mended_rows(own, crs)[0]
        some = Layer("", own, pa.table({}), crs)
        pieces = _cut(some, begin, turn, int(low.min()), int(high.max()))
        found = replace(found, is_multi=True).with_rows(rows, pieces)
    if column.family == Family.POLYGONS:
        found = mended_rows(found, crs, None, mixed | cut)[0]
    return Turned(found, is_moved)


def rows_parted(column: GeometryColumn, crs: proj.CRS, begin: float) -> BoolArray:
    """Return the rows (n_rows,) that `within_a_turn` does not just move, for it parts or joins them."""
    return np.logical_or(*_parted(column, *_turns(column, begin, turn_of(crs))))


def _parted(column: GeometryColumn, low: I64Array, high: I64Array) -> tuple[BoolArray, BoolArray]:
    """Return rows (n_rows,) with a part in several turns, and those with parts in different ones."""
    cut, mixed = np.zeros((2, column.n_rows), bool)
    if len(low):
        row_of_part = owners(column.row_offsets)
        first = low[np.minimum(column.row_offsets[:-1], len(low) - 1)]
        cut[row_of_part[low != high]] = True
        mixed[row_of_part[low != first[row_of_part]]] = True
    return cut, mixed


def within_half_a_turn(layer: Layer) -> Turned | None:
    """Return the geometry of a layer with longitudes from -180 to 180 degrees, parted there.

    None if it has others nowhere.
    """
    if layer.crs is None or not goes_beyond(layer.geometry.extent(), layer.crs):
        return None
    return within_a_turn(layer.geometry, layer.crs, -turn_of(layer.crs) / 2)


def _turns(column: GeometryColumn, begin: float, turn: float) -> tuple[I64Array, I64Array]:
    """Return the turns (n_parts,) that each part begins and ends in; turn 0 is from ``begin`` on."""
    offsets = column.ring_offsets[column.part_offsets]
    lon = np.ascontiguousarray(column.xy[:, 0])
    least = reduce_groups(np.minimum, lon, offsets, begin).astype(np.float64)
    most = reduce_groups(np.maximum, lon, offsets, begin).astype(np.float64)
    low = np.floor((least - begin) / turn).astype(np.int64)
    high = np.maximum(np.ceil((most - begin) / turn).astype(np.int64) - 1, low)
    is_within = (begin <= least) & (most <= begin + turn)
    low[is_within] = high[is_within] = 0
    return low, high


def _moved(column: GeometryColumn, turns: I64Array, turn: float) -> GeometryColumn:
    """Return the column with parts moved by so many turns (n_parts,) to the west."""
    part_of_vertex = owners(column.ring_offsets[column.part_offsets])
    xy: F64Array = column.xy.copy()
    xy[:, 0] -= turn * turns[part_of_vertex]
    return column.with_xy(xy)


def _cut(layer: Layer, begin: float, turn: float, first: int, last: int) -> GeometryColumn:
    """Return rows cut where turns begin, from the first to the last, each piece moved to turn 0."""
    column = layer.geometry
    extent = column.extent()
    assert extent is not None
    pieces = []
    for k in range(first, last + 1):
        x0, x1 = begin + k * turn, begin + (k + 1) * turn
        window = window_between(x0, x1, extent, turn)
        if window[0] >= window[2]:
            continue
        own = cut_to(layer, [window])[0]
        own = own.with_xy(_on_sides(own.xy, (x0, x1)))
        pieces.append(_moved(own, np.full(own.n_parts, k), turn))
    both = concatenate(pieces)
    row_of_part = owners(both.row_offsets) % column.n_rows
    order = np.argsort(row_of_part, kind="stable")
    return replace(
        both.take_parts(order, row_of_part[order], column.n_rows), is_null=column.is_null
    )


def _on_sides(xy: F64Array, sides: tuple[float, float]) -> F64Array:
    """Return places (n, 2), on the sides where a cut left them beside these by rounding."""
    xy = xy.copy()
    for side in sides:
        xy[np.abs(xy[:, 0] - side) < 1e-9 * max(abs(side), 1.0), 0] = side
    return xy
