"""KML (OGC 12-007r2), GPX 1.1 and GML of the simple features profile (OGC 10-100r3)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from operator import methodcaller
from pathlib import Path
from typing import Any

import numpy as np

from polygene.arrays import distinct
from polygene.errors import PolygeneError
from polygene.formats.clauses.finding import Finding, Judged, some_of
from polygene.formats.markup import parsing, positions
from polygene.formats.markup.parsing import Stream, get_parent, get_tag, local
from polygene.formats.markup.positions import PositionError

_KML = ("http://www.opengis.net/kml/2.2", "http://www.opengis.net/kml/2.3")
_GPX = "http://www.topografix.com/GPX/1/1"
_GML = ("http://www.opengis.net/gml", "http://www.opengis.net/gml/3.2")


def judge(path: Path) -> Judged:
    """Hold a document to the standard of its ending."""
    name, version, of = {
        ".kml": ("KML", "2.3", _of_kml),
        ".gpx": ("GPX", "1.1", _of_gpx),
        ".gml": ("GML", "simple features profile 2.0", _of_gml),
    }[path.suffix.lower()]
    try:
        root = parsing.root_of(path, name, ())
    except PolygeneError as err:
        return Judged(name, version, [Finding("XML 1.0", "the file", str(err), "refused")])
    return Judged(name, version, list(of(root)))


def _namespace(root: Any) -> str:
    return str(root.tag).rpartition("}")[0].removeprefix("{")


def _lines(stream: Stream, at: np.ndarray) -> str:
    """Return elements as a place, by the lines that they begin in."""
    return some_of([e.sourceline for e in stream.at(at)], "line")


def _of_kml(root: Any) -> Iterator[Finding]:
    if local(root.tag) != "kml":
        words = f"its outermost element is <{local(root.tag)}>"
        yield Finding("OGC 12-007r2, 7.1", "the file", words, "misread")
    elif _namespace(root) not in _KML:
        words = f"its namespace is {_namespace(root)!r}, of no standard"
        yield Finding("OGC 12-007r2, 2", "the file", words, "misread")
    names = ("Point", "LineString", "LinearRing", "coordinates", "SimpleData", "SimpleField")
    stream = Stream(root, names)
    yield from _of_coordinates(stream)
    declared = set(
        map(methodcaller("get", "name"), stream.at(np.flatnonzero(stream.are("SimpleField"))))
    )
    data = np.flatnonzero(stream.are("SimpleData"))
    named = list(map(methodcaller("get", "name"), stream.at(data)))
    odd = np.array([name not in declared for name in named], bool)
    if odd.any():
        words = f"data of the name {named[int(np.flatnonzero(odd)[0])]!r}, which no schema has"
        yield Finding("OGC 12-007r2, 9.5", _lines(stream, data[odd]), words, "misread")


def _of_coordinates(stream: Stream) -> Iterator[Finding]:
    at = np.flatnonzero(stream.are("coordinates"))
    try:
        found = positions.of_tuples(stream.texts_of(at))
    except PositionError as err:
        place = _lines(stream, at[[err.text]])
        yield Finding("OGC 12-007r2, 10.4", place, err.reason, "refused")
        return
    kind = stream.parents_of(at)
    is_far = (np.abs(found.xy) > (180, 90)).any(axis=1)
    far = distinct(np.repeat(np.arange(len(at)), found.counts)[is_far])
    if len(far):
        words = "its coordinates are no longitudes and latitudes"
        yield Finding("OGC 12-007r2, 10.4", _lines(stream, at[far]), words, "misread")
    for name, least, most in (("Point", 1, 1), ("LineString", 2, None), ("LinearRing", 4, None)):
        is_own = kind == stream.code_of(name)
        odd = is_own & ((found.counts < least) | (most is not None and found.counts > (most or 0)))
        if odd.any():
            words = f"a {name} has {found.counts[odd][0]} positions"
            yield Finding("OGC 12-007r2, 10", _lines(stream, at[odd]), words, "refused")
    ends = np.cumsum(found.counts)
    rings = np.flatnonzero((kind == stream.code_of("LinearRing")) & (found.counts > 0))
    first, last = found.xy[ends[rings] - found.counts[rings]], found.xy[ends[rings] - 1]
    odd = rings[(first != last).any(axis=1)]
    if len(odd):
        words = "a ring is not closed"
        yield Finding("OGC 12-007r2, 10.8", _lines(stream, at[odd]), words, "refused")


def _of_gpx(root: Any) -> Iterator[Finding]:
    if local(root.tag) != "gpx":
        words = f"its outermost element is <{local(root.tag)}>"
        yield Finding("GPX 1.1, gpx", "the file", words, "refused")
        return
    version = root.get("version")
    if _namespace(root) != _GPX or version != "1.1":
        words = f"it is of version {version or 'unknown'}, its namespace {_namespace(root)!r}"
        yield Finding("GPX 1.1, gpx", "the file", words, "form")
    if not root.get("creator"):
        yield Finding("GPX 1.1, gpx", "the file", "it does not say what made it", "form")
    stream = Stream(root, ("wpt", "rtept", "trkpt"))
    at = np.arange(len(stream.elements))
    for name, most in (("lat", 90.0), ("lon", 180.0)):
        texts = list(map(methodcaller("get", name, ""), stream.elements))
        values = np.array([_number(text) for text in texts])
        for is_odd, words, weight in (
            (np.isnan(values), f"a point has no {name}", "refused"),
            (np.abs(values) > most, f"a {name} is beyond {most:g}", "misread"),
        ):
            if is_odd.any():
                yield Finding("GPX 1.1, wptType", _lines(stream, at[is_odd]), words, weight)  # type: ignore[arg-type]


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return float("nan")


def _of_gml(root: Any) -> Iterator[Finding]:
    tags = dict.fromkeys(map(get_tag, root.iter()))
    spaces = {tag.rpartition("}")[0].removeprefix("{") for tag in tags if isinstance(tag, str)}
    if not spaces & set(_GML):
        yield Finding("OGC 10-100r3, 7.2", "the file", "nothing in it is of GML", "refused")
        return
    keys = Counter(map(str, root.xpath("//@*[local-name()='id']")))
    twice = next((key for key, n in keys.items() if n > 1), None)
    if twice is not None:
        yield Finding("OGC 10-100r3, 8.4.2", f"id {twice!r}", "several elements have it", "form")
    kinds = (
        "Point",
        "LineString",
        "Curve",
        "Polygon",
        "Surface",
        "MultiPoint",
        "MultiCurve",
        "MultiSurface",
    )
    stream = Stream(root, kinds)
    parents = [local(tag) for tag in map(get_tag, map(get_parent, stream.elements))]
    is_outer = np.array([not parent.endswith(("Member", "Members")) for parent in parents], bool)
    named = np.array([bool(e.get("srsName")) for e in stream.elements], bool)
    odd = np.flatnonzero(is_outer & ~named) if len(named) else np.zeros(0, int)
    if len(odd):
        words = "a geometry does not say its CRS"
        yield Finding("OGC 10-100r3, 8.4.4", _lines(stream, odd), words, "misread")
