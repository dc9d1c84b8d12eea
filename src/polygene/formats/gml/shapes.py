"""Geometry of GML as the simple features profile has it (OGC 10-100r3, 8.4.4), in flat arrays."""

from __future__ import annotations

from collections.abc import Sequence
from operator import methodcaller
from pathlib import Path
from typing import Any

import numpy as np

from polygene.arrays import (
    BoolArray,
    F64Array,
    I64Array,
    count_by,
    offsets_from,
    owners,
    run_lengths,
    spans,
)
from polygene.classes import NamedTuple
from polygene.errors import GeometryError
from polygene.formats.columns import ADVICE
from polygene.formats.markup import positions
from polygene.formats.markup.parsing import Stream, get_parent, get_tag, local
from polygene.formats.markup.positions import PositionError, Positions
from polygene.geometry import Family
from polygene.text.assemble import Parts

_LEAVES = ("pos", "posList", "coordinates", "coord")
_PATHS = ("LineString", "LineStringSegment")
_RINGS = ("LinearRing", "Ring")
_POLYGONS = ("Polygon", "PolygonPatch", "Triangle", "Rectangle")
_SURFACES = ("Surface", "TriangulatedSurface", "PolyhedralSurface")
_MULTI = (
    "MultiPoint",
    "MultiCurve",
    "MultiLineString",
    "MultiSurface",
    "MultiPolygon",
    "MultiGeometry",
)
_INNER = ("interior", "innerBoundaryIs")
_BENT = (
    "Arc", "ArcString", "ArcByBulge", "ArcStringByBulge", "ArcByCenterPoint", "Circle",
    "CircleByCenterPoint", "CubicSpline", "Bezier", "BSpline", "Clothoid", "Geodesic",
    "GeodesicString", "OffsetCurve", "OrientableCurve", "OrientableSurface",
    "Cone", "Cylinder", "Sphere", "Tin", "Solid", "CompositeCurve", "CompositeSurface", "Topo",
    "MultiSolid", "CompositeSolid", "GeometricComplex",
)  # fmt: skip
# What holds others and has no place of its own, or says more of them.
_HOLDERS = frozenset((
    "pointMember", "pointMembers", "curveMember", "curveMembers", "lineStringMember", "surfaceMember",
    "surfaceMembers", "polygonMember", "geometryMember", "geometryMembers", "exterior",
    "outerBoundaryIs", "segments", "patches", "polygonPatches", "trianglePatches", "X", "Y", "Z",
    "metaDataProperty", "description", "descriptionReference", "identifier", "name",
))  # fmt: skip
_GML, _HREF = "www.opengis.net/gml", "{http://www.w3.org/1999/xlink}href"
GEOMETRIES = frozenset(
    ("Point", "LineString", "Curve", *_SURFACES, *_RINGS, *_POLYGONS, *_MULTI, *_BENT)
)


class Found(NamedTuple):
    """The geometry in some properties, as their texts have it: axes are not turned yet.

    is_multi : (n_properties,)
    """

    parts: list[Parts]
    is_multi: BoolArray


def found_in(properties: Sequence[Any], n_axes: int, path: Path, rows: I64Array) -> Found:
    """Return the geometry that properties hold; the row of a part is the number of its property.

    Parameters
    ----------
    n_axes : dimension of positions where none is stated
    rows : (n_properties,) the features they are of, for messages

    Raises
    ------
    GeometryError
        If there is a geometry that is not of points and straight lines, or coordinates are none.
    """
    names = ["Point", *_PATHS, "Curve", *_SURFACES, *_RINGS, *_POLYGONS, *_MULTI, *_BENT, *_LEAVES]
    stream, owner, others, whose = Stream.of_each(properties, [*names, *_INNER])
    at = np.flatnonzero(stream.are(*_LEAVES))
    asked = _Asked(stream, at, owner, path, rows)
    bent = stream.at(np.flatnonzero(stream.are(*_BENT)))
    _check(bent, owner[stream.are(*_BENT)], asked)
    _check_others(others, whose, asked)
    found = asked.positions(n_axes)
    return Found(_parts(asked, found), _are_multi(stream, owner, len(properties)))


def _check(elements: Sequence[Any], owner: I64Array, asked: _Asked) -> None:
    """Refuse elements that say where a geometry lies by other means than points and straight lines."""
    for element, own in zip(elements[:1], owner[:1].tolist(), strict=True):
        name = local(element.tag)
        reason = f"its geometry has an element {name}; only points and straight lines are read"
        raise asked.error_at(element, own, reason)


def _check_others(others: Sequence[Any], owner: I64Array, asked: _Asked) -> None:
    """Refuse what is not known within a geometry, and what refers to others; else it would be lost."""
    strange = {
        tag for tag in set(map(get_tag, others)) if _GML in tag and local(tag) not in _HOLDERS
    }
    if strange:
        which = [k for k, one in enumerate(others) if one.tag in strange and not _is_about(one)]
        _check([others[k] for k in which], owner[which], asked)
    linked = [k for k, link in enumerate(map(methodcaller("get", _HREF), others)) if link]
    for k in linked[:1]:
        if not _is_about(others[k]):
            raise asked.error_at(others[k], int(owner[k]), refers_to(others[k].get(_HREF)))


def refers_to(link: str) -> str:
    return f"its geometry refers to {link!r} for a part of it, which is not followed"


def _is_about(element: Any) -> bool:
    """Whether an element tells about a geometry, and is none of it."""
    around = [element, *element.iterancestors()]
    return any(local(one.tag) in ("metaDataProperty", "descriptionReference") for one in around)


def _are_multi(stream: Stream, owner: I64Array, n: int) -> BoolArray:
    is_multi = np.zeros(n, bool)
    is_multi[owner[stream.are(*_MULTI)]] = True
    return is_multi


class _Asked(NamedTuple):
    """The elements of some properties, and which of them hold coordinates."""

    stream: Stream
    at: I64Array
    owner: I64Array
    path: Path
    rows: I64Array

    def error(self, k: int, reason: str) -> GeometryError:
        return self.error_at(self.stream.elements[k], int(self.owner[k]), reason)

    def error_at(self, element: Any, owner: int, reason: str) -> GeometryError:
        where = f"row {int(self.rows[owner]) + 1:,} (line {element.sourceline:,})"
        return GeometryError(str(self.path), where, reason, ADVICE)

    def positions(self, n_axes: int) -> Positions:
        """Return the positions of all elements that hold some."""
        stream, at = self.stream, self.at
        texts = stream.texts_of(at)
        # Of version 2: a position whose numbers are elements of their own.
        apart = np.flatnonzero(stream.code[at] == stream.code_of("coord"))
        words = map(methodcaller("itertext", "*"), stream.at(at[apart]))
        for k, text in zip(apart.tolist(), map(" ".join, words), strict=True):
            texts[k] = text
        is_old = stream.code[at] == stream.code_of("coordinates")
        for k in np.flatnonzero(is_old).tolist():
            element = stream.elements[at[k]]
            if element.attrib:  # rarely any
                texts[k] = _plain(texts[k], element)
        new = np.flatnonzero(~is_old)
        parts = []
        for which, read in (
            (np.flatnonzero(is_old), positions.of_tuples),
            (new, lambda own: positions.of_lists(own, self._dimensions(new, own, n_axes))),
        ):
            try:
                parts.append(read([texts[k] for k in which.tolist()]))
            except PositionError as err:
                raise self.error(int(at[which[err.text]]), err.reason) from err
        return _mixed(parts[0], parts[1], is_old)

    def _dimensions(self, which: I64Array, texts: Sequence[str | None], n_axes: int) -> I64Array:
        stream, at = self.stream, self.at[which]
        elements = stream.at(at)
        own = list(map(methodcaller("get", "srsDimension"), elements))
        found = np.fromiter(map(_number, own), np.int64, len(own))
        # What a position has stands in itself; a list takes it from the geometries round it.
        _, sizes = positions.words_of(texts)
        is_one = np.isin(stream.code[at], [stream.code_of("pos"), stream.code_of("coord")])
        found[is_one] = sizes[is_one]
        open_ones = np.flatnonzero(found == 0)
        if len(open_ones):
            outer = np.zeros(len(open_ones), np.int64)
            if stream.elements[0].getroottree().xpath("boolean(//@srsDimension)"):
                outer[:] = list(map(_dimension_round, stream.at(at[open_ones])))
            found[open_ones] = np.where(outer == 0, n_axes, outer)
        return found


def _mixed(one: Positions, other: Positions, is_one: BoolArray) -> Positions:
    """Return positions of texts of two sorts in the order that the texts have among each other."""
    counts = np.empty(len(is_one), np.int64)
    counts[is_one], counts[~is_one] = one.counts, other.counts
    of_one = np.repeat(is_one, counts)
    xy = np.empty((len(of_one), 2))
    xy[of_one], xy[~of_one] = one.xy, other.xy
    if one.z is None and other.z is None:
        return Positions(counts, xy, None)
    z = np.full(len(of_one), np.nan)
    for own, where in ((one.z, of_one), (other.z, ~of_one)):
        if own is not None:
            z[where] = own
    return Positions(counts, xy, z)


def _number(text: str | None) -> int:
    return int(text) if text and text.strip().isdigit() else 0


def _dimension_round(element: Any) -> int:
    """Return the dimension that an element round this one states, 0 if none does."""
    for outer in element.iterancestors():
        found = _number(outer.get("srsDimension"))
        if found:
            return found
    return 0


def _plain(text: str | None, element: Any) -> str | None:
    """Return the text of coordinates with commas within positions and spaces between them."""
    between, within = element.get("ts", " "), element.get("cs", ",")
    point = element.get("decimal", ".")
    if text is None or (between, within, point) == (" ", ",", "."):
        return text
    table = str.maketrans({between: " ", within: ",", point: "."})
    return text.translate(table)


def _parts(asked: _Asked, found: Positions) -> list[Parts]:
    stream, at = asked.stream, asked.at
    kind = stream.parents_of(at)
    in_ring = _are_in_rings(stream)[at]
    is_point = kind == stream.code_of("Point")
    is_ring = (kind == stream.code_of("LinearRing")) | in_ring
    is_path = np.isin(kind, [stream.code_of(name) for name in _PATHS]) & ~in_ring
    for k in np.flatnonzero(~(is_point | is_ring | is_path))[:1].tolist():
        raise asked.error(int(at[k]), "its coordinates are in no element that is known")
    of_curve = kind == stream.code_of("LineStringSegment")
    number = np.select(
        [is_point, is_ring, of_curve],
        [
            stream.number_of("Point")[at],
            stream.number_of(*_RINGS)[at],
            stream.number_of("Curve")[at],
        ],
        stream.number_of("LineString")[at],
    )
    group = np.select([is_point, is_ring, of_curve], [0, 1, 2], 3)
    is_first = (np.diff(number, prepend=-1) != 0) | (np.diff(group, prepend=-1) != 0)
    found = _without_joints(stream, at, is_first, found)
    unit = np.cumsum(is_first) - 1
    counts = np.zeros(int(is_first.sum()), np.int64)
    np.add.at(counts, unit, found.counts)
    heads = np.flatnonzero(is_first)
    units = _Units(counts, found.xy, found.z)
    owner, firsts = asked.owner[at][heads], at[heads]
    return [
        units.lines(Family.POINTS, is_point[heads] & (counts > 0), owner),
        units.lines(Family.LINES, is_path[heads] & (counts > 0), owner),
        _polygons(asked, units, np.flatnonzero(is_ring[heads] & (counts > 0)), firsts, owner),
    ]


def _are_in_rings(stream: Stream) -> BoolArray:
    """Return (n,) which elements are in a ring that is made of curves."""
    inside = np.zeros(len(stream.code), bool)
    if not stream.are("Ring").any():
        return inside
    curves = np.flatnonzero(stream.are("LineString", "Curve"))
    outer = map(get_parent, map(get_parent, stream.at(curves)))
    is_own = stream.codes(map(get_tag, outer), len(curves)) == stream.code_of("Ring")
    # What follows is in the last path that has begun.
    last = stream.number_of("LineString", "Curve")
    inside[last >= 0] = is_own[last[last >= 0]]
    starts = stream.are("LinearRing", "Point")
    n_other = np.maximum.accumulate(np.where(starts, np.arange(len(inside)), -1))
    n_path = np.maximum.accumulate(
        np.where(stream.are("LineString", "Curve"), np.arange(len(inside)), -1)
    )
    return inside & (n_path > n_other)


def _without_joints(
    stream: Stream, at: I64Array, is_first: BoolArray, found: Positions
) -> Positions:
    """Return positions without those by which a segment repeats the end of the one before it."""
    segment = stream.number_of(*_PATHS)[at]
    follows = ~is_first & (np.diff(segment, prepend=-1) != 0) & (found.counts > 0)
    starts = offsets_from(found.counts)[:-1][follows]
    starts = starts[starts > 0]
    joints = starts[(found.xy[starts] == found.xy[starts - 1]).all(axis=1)]
    if not len(joints):
        return found
    kept = np.ones(len(found.xy), bool)
    kept[joints] = False
    text_of = owners(offsets_from(found.counts))
    counts = found.counts - count_by(text_of[joints], len(found.counts))
    return Positions(counts, found.xy[kept], None if found.z is None else found.z[kept])


class _Units(NamedTuple):
    """Points, paths and rings, one after the other."""

    counts: I64Array
    xy: F64Array
    z: F64Array | None

    def taken(self, which: BoolArray) -> _Units:
        vertices = np.repeat(which, self.counts)
        z = None if self.z is None else self.z[vertices]
        z = None if z is None or np.isnan(z).all() else z
        return _Units(self.counts[which], self.xy[vertices], z)

    def lines(self, family: Family, which: BoolArray, owner: I64Array) -> Parts:
        own = self.taken(which)
        one = np.ones(len(own.counts), np.int64)
        return Parts(family, owner[which], one, own.counts, own.xy, own.z)


def _polygons(
    asked: _Asked, units: _Units, rings: I64Array, firsts: I64Array, owner: I64Array
) -> Parts:
    """Return rings as polygons; an interior that comes before its exterior goes behind it.

    Raises
    ------
    GeometryError
        If a polygon has interiors alone.
    """
    stream = asked.stream
    polygon = stream.number_of(*_POLYGONS)[firsts[rings]]
    number = stream.number_of(*_RINGS)[firsts[rings]]
    elements = stream.at(np.flatnonzero(stream.are(*_RINGS))[number])
    holders = stream.codes(map(get_tag, map(get_parent, elements)), len(rings))
    is_inner = np.isin(holders, [stream.code_of(name) for name in _INNER])
    is_lone = polygon < 0  # a ring that is a geometry by itself
    polygon = np.where(is_lone, -1 - np.arange(len(rings)), polygon)
    order = np.lexsort((np.arange(len(rings)), is_inner, polygon, owner[rings]))
    which = np.zeros(len(units.counts), bool)
    which[rings] = True
    own = units.taken(which)
    counts = own.counts[order]
    at = spans(offsets_from(own.counts)[order], counts)
    is_first = np.diff(polygon[order], prepend=np.iinfo(np.int64).min) != 0
    for k in firsts[rings[order[is_first & is_inner[order]]]][:1].tolist():
        raise asked.error(k, "a polygon has holes and no exterior")
    ring_counts = run_lengths(is_first)
    z = None if own.z is None else own.z[at]
    row = owner[rings][order][is_first]
    return Parts(Family.POLYGONS, row, ring_counts, counts, own.xy[at], z)
