"""GeoJSON (RFC 7946) and its text sequences (RFC 8142)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import orjson

from polygene.errors import PolygeneError
from polygene.formats.base import collecting_no_garbage
from polygene.formats.clauses.finding import Finding, Judged, rows_of, rows_with, some_of
from polygene.formats.geojson import reading
from polygene.formats.sequences import ENDINGS, MARK
from polygene.geometry import Family, GeometryColumn
from polygene.winding import turned

_TYPES = (
    "Point", "MultiPoint", "LineString", "MultiLineString", "Polygon", "MultiPolygon",
    "GeometryCollection",
)  # fmt: skip
_BOM = b"\xef\xbb\xbf"


@collecting_no_garbage()
def judge(path: Path) -> Judged:
    """Hold GeoJSON, or a sequence of such, to its RFC."""
    data = path.read_bytes()
    is_sequence = path.suffix.lower() in ENDINGS
    findings: list[Finding] = []
    if data.startswith(_BOM):
        words = "it begins with a byte order mark"
        findings.append(Finding("RFC 8259, 8.1", "the file", words, "misread"))
    if is_sequence:
        documents = list(_sequence(data.removeprefix(_BOM), path, findings))
    else:
        try:
            documents = [orjson.loads(data.removeprefix(_BOM))]
        except orjson.JSONDecodeError as err:
            place = f"line {err.lineno}, column {err.colno}"
            findings.append(Finding("RFC 8259", place, err.msg, "refused"))
            documents = []
    features: list[Any] = []
    for document in documents:
        findings += _of_document(document)
        if isinstance(document, dict):
            own = document.get("features")
            is_many = document.get("type") == "FeatureCollection" and isinstance(own, list)
            features += own if is_many and own is not None else [document]
    findings += _of_features(features)
    if not any(finding.weight == "refused" for finding in findings):
        findings += _of_geometry([f for f in features if f.get("type") == "Feature"], path)
    return Judged("GeoJSON sequence" if is_sequence else "GeoJSON", "RFC 7946", findings)


def _sequence(data: bytes, path: Path, findings: list[Finding]) -> Iterator[Any]:
    """Yield the texts of a sequence; without record marks it is lines, which no RFC describes."""
    is_marked = MARK in data[:64]
    if path.suffix.lower() == ".geojsons" and data.strip() and not is_marked:
        words = "its texts have no record mark (1E) in front"
        findings.append(Finding("RFC 8142, 2.1", "the file", words, "misread"))
    if is_marked and not data.startswith(MARK):
        words = "there is something in front of the first record mark"
        findings.append(Finding("RFC 8142, 2.1", "the file", words, "misread"))
    texts = data.split(MARK)[1:] if is_marked else data.splitlines()
    if is_marked and any(not text.endswith(b"\n") for text in texts):
        words = "a text is not followed by a line feed"
        findings.append(Finding("RFC 8142, 2.1", "the file", words, "form"))
    for line, text in enumerate(texts, 1):
        if text.strip():
            try:
                yield orjson.loads(text)
            except orjson.JSONDecodeError as err:
                findings.append(Finding("RFC 8259", f"text {line}", err.msg, "refused"))


def _of_document(document: Any) -> Iterator[Finding]:
    place = "the file"
    if not isinstance(document, dict):
        yield Finding("RFC 7946, 2", place, "it is no JSON object", "refused")
        return
    kind = document.get("type")
    if kind not in (*_TYPES, "Feature", "FeatureCollection"):
        yield Finding("RFC 7946, 3", place, f"its type is {kind!r}", "refused")
    if kind == "FeatureCollection" and not isinstance(document.get("features"), list):
        yield Finding("RFC 7946, 3.3", place, "it has no list of features", "refused")
    if "crs" in document:
        words = "it has a member 'crs', which the RFC has done away with"
        yield Finding("RFC 7946, 4", place, words, "misread")
    for name in ("coordinates", "geometries", "geometry", "properties"):
        if kind == "FeatureCollection" and name in document:
            yield Finding("RFC 7946, 7.1", place, f"it has a member {name!r}", "misread")
    box = document.get("bbox")
    if box is not None and not (isinstance(box, list) and len(box) in (4, 6)):
        yield Finding("RFC 7946, 5", place, "its bbox is no list of four or six numbers", "misread")


def _of_features(features: list[Any]) -> Iterator[Finding]:
    own = [f if isinstance(f, dict) else {} for f in features]
    is_feature = np.array([f.get("type") == "Feature" for f in own], bool)
    is_geometry = np.array([f.get("type") in _TYPES for f in own], bool)
    if (~is_feature & ~is_geometry).any():
        place = rows_of(~is_feature & ~is_geometry)
        yield Finding("RFC 7946, 3.2", place, "it is no Feature", "refused")
    for name, clause in (("geometry", "RFC 7946, 3.2"), ("properties", "RFC 7946, 3.2")):
        lacks = is_feature & np.array([name not in f for f in own], bool)
        if lacks.any():
            yield Finding(clause, rows_of(lacks), f"it has no member {name!r}", "misread")
    odd = np.array([not isinstance(f.get("id", ""), (str, int, float)) for f in own], bool)
    if odd.any():
        yield Finding("RFC 7946, 3.2", rows_of(odd), "its id is neither text nor number", "misread")
    odd = np.array([not isinstance(f.get("properties"), (dict, type(None))) for f in own], bool)
    if odd.any():
        yield Finding("RFC 7946, 3.2", rows_of(odd), "its properties are no object", "refused")
    keys = Counter(f["id"] for f in own if isinstance(f.get("id"), (str, int)))
    twice = next((key for key, n in keys.items() if n > 1), None)
    if twice is not None:
        yield Finding("RFC 7946, 3.2", f"id {twice!r}", "several features have it", "form")
    geometries = [f.get("geometry") if kind else f for f, kind in zip(own, is_feature, strict=True)]
    nested = np.array([_is_nested(g) for g in geometries], bool)
    if nested.any():
        words = "a collection of geometry is within another"
        yield Finding("RFC 7946, 3.1.8", rows_of(nested), words, "misread")


def _is_nested(geometry: Any) -> bool:
    if not isinstance(geometry, dict) or geometry.get("type") != "GeometryCollection":
        return False
    inner = geometry.get("geometries") or []
    return any(isinstance(g, dict) and g.get("type") == "GeometryCollection" for g in inner)


def _of_geometry(features: list[dict[str, Any]], path: Path) -> Iterator[Finding]:
    try:
        found = reading.geometries_of(features, path, [])
    except PolygeneError:
        return  # `clauses.judged` tells of it
    for rows, column in found:

        def place(is_so: np.ndarray, rows: np.ndarray = rows) -> str:
            return some_of((rows[is_so] + 1).tolist(), "row")

        x, y = column.xy.T
        is_out = (np.abs(x) > 180) | (np.abs(y) > 90)
        if is_out.any():
            words = "its coordinates are no longitudes and latitudes"
            yield Finding(
                "RFC 7946, 4",
                place(rows_with(column.vertex_offsets_of_rows, is_out)),
                words,
                "misread",
            )
        if column.family == Family.LINES:
            is_short = np.diff(column.ring_offsets) < 2
            if is_short.any():
                words = "a line of fewer than two positions"
                where = place(rows_with(column.ring_offsets_of_rows, is_short))
                yield Finding("RFC 7946, 3.1.4", where, words, "refused")
        if column.family == Family.POLYGONS and column.n_rings:
            yield from _of_rings(column, place)


def _of_rings(column: GeometryColumn, place: Any) -> Iterator[Finding]:
    first, last = column.ring_offsets[:-1], column.ring_offsets[1:] - 1
    is_open = (column.xy[first] != column.xy[last]).any(axis=1)
    is_short = np.diff(column.ring_offsets) < 4
    for is_so, words in (
        (is_open, "a ring is not closed"),
        (is_short, "a ring of fewer than four"),
    ):
        if is_so.any():
            where = place(rows_with(column.ring_offsets_of_rows, is_so))
            yield Finding("RFC 7946, 3.1.6", where, words, "refused")
    moved = (turned(column, outer_is_counter_clockwise=True).xy != column.xy).any(axis=1)
    if moved.any():
        words = "an outer ring runs clockwise, or a hole does not"
        where = place(rows_with(column.vertex_offsets_of_rows, moved))
        yield Finding("RFC 7946, 3.1.6", where, words, "form")
    x = column.xy[:, 0]
    wide = np.zeros(column.n_vertices, bool)
    wide[:-1] = np.abs(np.diff(x)) > 180
    wide[last[last < column.n_vertices]] = False
    if wide.any():
        words = "an edge goes round more than half the earth; such are to be cut at 180 degrees"
        where = place(rows_with(column.vertex_offsets_of_rows, wide))
        yield Finding("RFC 7946, 3.1.9", where, words, "misread")
