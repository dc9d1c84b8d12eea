"""Geometry of KML: found in the order of the document, without an object for each of them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from polygene.arrays import BoolArray, I64Array, distinct, offsets_from, run_lengths, spans
from polygene.classes import NamedTuple
from polygene.errors import GeometryError
from polygene.formats.columns import ADVICE
from polygene.formats.markup.parsing import Stream, get_parent, get_tag
from polygene.formats.markup.positions import (
    PositionError,
    Positions,
    of_lists,
    of_tuples,
    words_of,
)
from polygene.geometry import Family
from polygene.text.assemble import Parts

_FEATURES = ("Placemark", "NetworkLink", "GroundOverlay", "ScreenOverlay", "PhotoOverlay")
_RINGS, _COORDINATES = ("outerBoundaryIs", "innerBoundaryIs"), "coordinates"
_SIMPLE = ("Point", "LineString", "LinearRing", "Polygon", "Track")
_MULTI = ("MultiGeometry", "MultiTrack")
_TRACKED = "coord"


class Shapes(NamedTuple):
    """The geometry of all placemarks.

    parts : by family
    is_null, is_multi : (n_rows,) whether a placemark has none, or one that is told to be several
    models : placemarks that have a model in three dimensions
    """

    parts: Sequence[Parts]
    is_null: BoolArray
    is_multi: BoolArray
    models: I64Array

    @property
    def n_models(self) -> int:
        return len(self.models)


def found_in(root: Any, path: Path) -> Shapes:
    """Return the geometry of all placemarks of a document.

    Raises
    ------
    GeometryError
        If coordinates are none.
    """
    stream = Stream(root, [*_FEATURES, *_SIMPLE, *_MULTI, *_RINGS, "Model", _COORDINATES, _TRACKED])
    feature = stream.number_of(*_FEATURES)
    row = stream.number_of("Placemark")
    # What lies in something else than a placemark, as the point of a photograph, is none of these.
    is_kept = np.zeros(int(feature.max(initial=-1)) + 1, bool)
    is_kept[feature[stream.are("Placemark")]] = True
    inside = (feature >= 0) & is_kept[np.maximum(feature, 0)] if len(is_kept) else feature >= 0
    n_rows = int(stream.are("Placemark").sum())
    has_any = np.zeros(n_rows, bool)
    has_any[row[inside & stream.are(*_SIMPLE, *_MULTI)]] = True
    is_multi = np.zeros(n_rows, bool)
    is_multi[row[inside & stream.are(*_MULTI)]] = True
    texts = np.flatnonzero(inside & stream.are(_COORDINATES))
    parts = [
        *_of_coordinates(stream, texts, row, path),
        *_of_tracks(stream, np.flatnonzero(inside & stream.are(_TRACKED)), row, path),
    ]
    models = row[inside & stream.are("Model")]
    return Shapes(parts, ~has_any, is_multi, distinct(models))


def _of_coordinates(stream: Stream, at: I64Array, row: I64Array, path: Path) -> list[Parts]:
    found = _read(lambda: of_tuples(stream.texts_of(at)), stream, at, row, path)
    kind = stream.parents_of(at)
    is_point = kind == stream.code_of("Point")
    for own in np.flatnonzero(is_point & (found.counts > 1))[:1]:
        raise _error(path, stream, at, row, int(own), "a point has several positions")
    is_ring = kind == stream.code_of("LinearRing")
    holder = np.full(len(at), -1)
    rings = np.flatnonzero(is_ring)
    outer = map(get_parent, map(get_parent, stream.at(at[rings])))
    holder[rings] = stream.codes(map(get_tag, outer), len(rings))
    is_inner = holder == stream.code_of("innerBoundaryIs")
    of_polygon = is_ring & (is_inner | (holder == stream.code_of("outerBoundaryIs")))
    is_line = (kind == stream.code_of("LineString")) | (is_ring & ~of_polygon)
    has = found.counts > 0
    polygon = stream.number_of("Polygon")[at]
    order = np.lexsort((np.arange(len(at)), is_inner, polygon))
    rings = order[(of_polygon & has)[order]]
    is_first = np.diff(polygon[rings], prepend=-1) != 0
    for own in rings[is_first & is_inner[rings]][:1].tolist():
        raise _error(path, stream, at, row, own, "a polygon has holes and no outer boundary")
    return [
        _lines(Family.POINTS, np.flatnonzero(is_point & has), found, row[at]),
        _lines(Family.LINES, np.flatnonzero(is_line & has), found, row[at]),
        _polygons(rings, polygon, found, row[at]),
    ]


def _chosen(found: Positions, which: I64Array) -> Positions:
    """Return the positions of some texts, in the order given."""
    counts = found.counts[which]
    at = spans(offsets_from(found.counts)[which], counts)
    return Positions(counts, found.xy[at], None if found.z is None else found.z[at])


def _lines(family: Family, which: I64Array, found: Positions, row: I64Array) -> Parts:
    own = _chosen(found, which)
    z = None if own.z is None or np.isnan(own.z).all() else own.z
    return Parts(family, row[which], np.ones(len(which), np.int64), own.counts, own.xy, z)


def _polygons(rings: I64Array, polygon: I64Array, found: Positions, row: I64Array) -> Parts:
    own = _chosen(found, rings)
    z = None if own.z is None or np.isnan(own.z).all() else own.z
    is_first = np.diff(polygon[rings], prepend=-1) != 0
    ring_counts = run_lengths(is_first)
    return Parts(Family.POLYGONS, row[rings][is_first], ring_counts, own.counts, own.xy, z)


def _of_tracks(stream: Stream, at: I64Array, row: I64Array, path: Path) -> list[Parts]:
    """Return the lines of tracks, each position of which is an element; it may be empty."""
    if not len(at):
        return []
    _, sizes = words_of(stream.texts_of(at))
    at, sizes = at[sizes > 0], sizes[sizes > 0]
    found = _read(lambda: of_lists(stream.texts_of(at), sizes), stream, at, row, path)
    track = stream.number_of("Track")[at]
    is_first = np.diff(track, prepend=-1) != 0
    counts = run_lengths(is_first)
    one = np.ones(len(counts), np.int64)
    return [Parts(Family.LINES, row[at][is_first], one, counts, found.xy, found.z)]


def _read(read: Any, stream: Stream, at: I64Array, row: I64Array, path: Path) -> Positions:
    try:
        found: Positions = read()
        return found
    except PositionError as err:
        raise _error(path, stream, at, row, err.text, err.reason) from err


def _error(
    path: Path, stream: Stream, at: I64Array, row: I64Array, own: int, reason: str
) -> GeometryError:
    line = stream.elements[at[own]].sourceline
    where = f"placemark {int(row[at[own]]) + 1:,} (line {line:,})"
    return GeometryError(str(path), where, reason, ADVICE)


def of_rows(shapes: Shapes, rows: I64Array) -> Shapes:
    """Return the geometry of some placemarks, which are given in rising order."""
    n = len(shapes.is_null)
    place = np.full(n, -1)
    place[rows] = np.arange(len(rows))
    parts = [_taken(part, place) for part in shapes.parts]
    models = shapes.models[place[shapes.models] >= 0]
    return Shapes(parts, shapes.is_null[rows], shapes.is_multi[rows], models)


def _taken(parts: Parts, place: I64Array) -> Parts:
    kept = place[parts.row] >= 0
    if kept.all() and (place[parts.row] == parts.row).all():
        return parts
    rings = np.repeat(kept, parts.ring_counts)
    vertices = np.repeat(rings, parts.vertex_counts)
    return parts._replace(
        row=place[parts.row[kept]],
        ring_counts=parts.ring_counts[kept],
        vertex_counts=parts.vertex_counts[rings],
        xy=parts.xy[vertices],
        z=None if parts.z is None else parts.z[vertices],
    )
