"""What a service answers: OGC API – Features, Part 1 Core (OGC 17-069r4), Part 2 CRS (18-058r1) and
Part 3 Filtering with CQL2 text (19-079r2). Requests in, answers out; no network here.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple
from urllib.parse import quote, urlencode

import numpy as np
import orjson
import pyarrow as pa
import pyproj

from polygene import clock
from polygene import crs as crs_module
from polygene.arrays import I64Array, distinct
from polygene.crs import CRS84
from polygene.errors import ExpressionError, PolygeneError
from polygene.formats.geojson.writing import texts_of_features, to_degrees
from polygene.layer import Layer
from polygene.ops.places.carrying import box_layer
from polygene.ops.subset import subset
from polygene.serving import documents
from polygene.table.expression import Expression
from polygene.winding import turned

LIMIT, MOST = 100, 10_000  # features of a page, if nothing or too much is asked for
KEPT = 8  # selections that are kept for the pages after
CONFORMS = (
    "http://www.opengis.net/spec/ogcapi-common-1/1.0/conf/core",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/html",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/oas30",
    "http://www.opengis.net/spec/ogcapi-features-2/1.0/conf/crs",
    "http://www.opengis.net/spec/ogcapi-features-3/1.0/conf/queryables",
    "http://www.opengis.net/spec/ogcapi-features-3/1.0/conf/filter",
    "http://www.opengis.net/spec/ogcapi-features-3/1.0/conf/features-filter",
    "http://www.opengis.net/spec/cql2/1.0/conf/cql2-text",
    "http://www.opengis.net/spec/cql2/1.0/conf/basic-cql2",
)
_OF_ITEMS = frozenset(
    ["limit", "offset", "bbox", "bbox-crs", "crs", "filter", "filter-lang", "filter-crs", "f"]
)
_JSON, _GEOJSON, _HTML = "application/json", "application/geo+json", "text/html; charset=utf-8"


class Request(NamedTuple):
    """A request: path without query, the query's values by name, whether people want to read it.

    base : the address of the service, without a slash at its end; tag : of what who asks has
    """

    path: str
    query: Mapping[str, Sequence[str]]
    base: str
    wants_html: bool = False
    tag: str = ""


@dataclass(frozen=True)
class Answer:
    """An answer: status, body, headers."""

    status: int
    body: bytes = b""
    headers: Mapping[str, str] = field(default_factory=dict)


class RefusedError(Exception):
    """A request that cannot be answered, with its status and why."""

    def __init__(self, status: int, why: str) -> None:
        super().__init__(why)
        self.status, self.why = status, why


@dataclass
class Service:
    """Layers as collections, by their identifiers.

    tag : what changes when one of them does
    """

    title: str
    layers: Mapping[str, Layer]
    tag: str
    _selected: dict[tuple[str, ...], I64Array] = field(default_factory=dict)
    _degrees: dict[str, Layer] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)  # requests come side by side

    def in_degrees(self, name: str) -> Layer:
        """Return a layer in longitude and latitude, brought there once."""
        if name not in self._degrees:
            self._degrees[name] = to_degrees(self.layers[name])[0]
        return self._degrees[name]

    def answer(self, request: Request) -> Answer:
        """Answer a request; what is wrong with it is said in the answer."""
        try:
            return self._answer(request)
        except RefusedError as err:
            return _error(err.status, err.why)
        except ExpressionError as err:
            return _error(400, f"filter: {err}")
        except PolygeneError as err:
            return _error(400, str(err))

    def _answer(self, request: Request) -> Answer:
        asked = request.query.get("f", [])
        if asked and asked[-1] not in ("json", "html"):
            raise RefusedError(400, f"f is json or html, not {asked[-1]!r}")
        wants_html = asked[-1] == "html" if asked else request.wants_html
        request = request._replace(wants_html=wants_html)
        parts = [part for part in request.path.split("/") if part]
        tag = self._tag_of(request)
        if request.tag and tag in [own.strip() for own in request.tag.split(",")]:
            return Answer(304, b"", {"ETag": tag})
        found = self._document(parts, request)
        return replace(found, headers={**found.headers, "ETag": tag, "Vary": "Accept"})

    def _tag_of(self, request: Request) -> str:
        told = [request.base, request.path, str(request.wants_html), self.tag]
        told += [f"{name}={value}" for name, own in request.query.items() for value in own]
        return f'"{hashlib.sha256(chr(10).join(told).encode()).hexdigest()[:32]}"'

    def _document(self, parts: Sequence[str], request: Request) -> Answer:
        if not parts:
            told = documents.landing(self, request.base)
            if request.wants_html:  # people see at once what there is
                told["collections"] = documents.collections(self, request.base)["collections"]
            return self._page(request, told)
        only_f = {name for name in request.query if name != "f"}
        if parts == ["conformance"]:
            _refuse(only_f)
            return self._page(request, {"conformsTo": list(CONFORMS)}, "What it conforms to")
        if parts == ["api"]:
            _refuse(only_f)
            kind = "application/vnd.oai.openapi+json;version=3.0"
            return Answer(
                200, orjson.dumps(documents.openapi(self, request.base)), {"Content-Type": kind}
            )
        if parts[0] != "collections" or len(parts) > 4:
            raise RefusedError(404, f"there is nothing at /{'/'.join(parts)}")
        if len(parts) == 1:
            _refuse(only_f)
            return self._page(request, documents.collections(self, request.base))
        layer = self.layers.get(parts[1])
        if layer is None:
            names = ", ".join(self.layers)
            raise RefusedError(404, f"there is no collection {parts[1]!r} (there are {names})")
        if len(parts) == 2:
            _refuse(only_f)
            return self._page(request, documents.collection(self, parts[1], request.base))
        if parts[2] == "queryables" and len(parts) == 3:
            _refuse(only_f)
            told = documents.queryables(parts[1], layer, request.base)
            return Answer(200, orjson.dumps(told), {"Content-Type": "application/schema+json"})
        if parts[2] != "items":
            raise RefusedError(404, f"there is nothing at /{'/'.join(parts)}")
        if len(parts) == 3:
            return self._items(parts[1], layer, request)
        return self._item(parts[1], layer, parts[3], request)

    def _page(self, request: Request, told: dict[str, Any], title: str = "") -> Answer:
        if request.wants_html:
            page = documents.html(title or self.title, told, request.base, request.path)
            return Answer(200, page, {"Content-Type": _HTML})
        return Answer(200, orjson.dumps(told), {"Content-Type": _JSON})

    def _items(self, name: str, layer: Layer, request: Request) -> Answer:
        query = _Query(request.query, layer)
        rows = self._rows(name, layer, query)
        page = rows[query.offset : query.offset + query.limit]
        body, uri = self._features(name, page, query.crs)
        links = [_link(request, name, {}, "self")]
        if query.offset + len(page) < len(rows):
            following = {"offset": str(query.offset + query.limit), "limit": str(query.limit)}
            links.append(_link(request, name, following, "next"))
        head = {
            "type": "FeatureCollection",
            "numberMatched": len(rows),
            "numberReturned": len(page),
            "timeStamp": clock.now(),
            "links": links,
        }
        text = orjson.dumps(head)[:-1] + b',"features":[\n' + b",\n".join(body) + b"\n]}\n"
        if request.wants_html:
            told = {**orjson.loads(text), "title": f"{layer.title or name}: features"}
            shown = documents.html(name, told, request.base, request.path)
            return Answer(200, shown, {"Content-Type": _HTML})
        return Answer(200, text, {"Content-Type": _GEOJSON, "Content-Crs": f"<{uri}>"})

    def _item(self, name: str, layer: Layer, text: str, request: Request) -> Answer:
        _refuse({own for own in request.query if own not in ("f", "crs")})
        query = _Query({k: v for k, v in request.query.items() if k == "crs"}, layer)
        ids = _ids(layer)
        rows = (
            np.flatnonzero(ids == int(text))
            if text.isdigit() and len(text) < 19
            else np.zeros(0, int)
        )
        if not len(rows):
            raise RefusedError(404, f"collection {name!r} has no feature {text!r}")
        (own,), uri = self._features(name, rows[:1], query.crs)
        link = {
            "rel": "collection",
            "type": _JSON,
            "href": f"{request.base}/collections/{quote(name)}",
        }
        me = {
            "rel": "self",
            "type": _GEOJSON,
            "href": f"{request.base}/collections/{quote(name)}/items/{text}",
        }
        body = own[:-1] + b',"links":' + orjson.dumps([me, link]) + b"}"
        return Answer(200, body, {"Content-Type": _GEOJSON, "Content-Crs": f"<{uri}>"})

    def _features(self, name: str, rows: I64Array, uri: str) -> tuple[list[bytes], str]:
        """Return features as GeoJSON in a CRS, and its URI."""
        layer = self.in_degrees(name) if uri == CRS84 else self.layers[name]
        some = replace(layer, ids=_ids(layer), rows=None, total=None, lineage=None).take(rows)
        column = turned(some.geometry, outer_is_counter_clockwise=True)
        if _begins_north(uri):
            column = column.with_xy(np.ascontiguousarray(column.xy[:, ::-1]))
        column = replace(column, m=None)
        ids = None if some.ids is None else some.ids.tolist()
        return list(texts_of_features(column, some.table, ids, some.n_rows)), uri

    def _rows(self, name: str, layer: Layer, query: _Query) -> I64Array:
        """Return the rows that are asked for; kept for the pages that come after."""
        key = (name, *query.key)
        with self._lock:
            found = self._selected.get(key)
        if found is None:
            found = query.rows(layer)
            with self._lock:
                while len(self._selected) >= KEPT:
                    self._selected.pop(next(iter(self._selected)))
                self._selected[key] = found
        return found


class _Query:
    """What is asked of a collection.

    Raises
    ------
    RefusedError
        If something is wrong with it (OGC 17-069r4, requirements 8 and 9).
    """

    def __init__(self, query: Mapping[str, Sequence[str]], layer: Layer) -> None:
        given = {name: values[-1] for name, values in query.items()}
        fields = set(layer.table.column_names)
        _refuse(set(given) - _OF_ITEMS - fields)
        limit = _whole(given.get("limit", str(LIMIT)), "limit", 1)
        self.limit, self.offset = min(limit, MOST), _whole(given.get("offset", "0"), "offset", 0)
        self.crs = given.get("crs", CRS84)
        if self.crs not in documents.crs_uris(layer):
            raise RefusedError(400, f"crs {self.crs!r} is not one of the collection's")
        self.box: tuple[float, ...] | None = None
        self.box_crs = given.get("bbox-crs", CRS84)
        if "bbox" in given:
            self.box = _box(given["bbox"])
        if self.box_crs not in documents.crs_uris(layer):
            raise RefusedError(400, f"bbox-crs {self.box_crs!r} is not one of the collection's")
        if given.get("filter-lang", "cql2-text") != "cql2-text":
            raise RefusedError(400, "filter-lang is cql2-text here")
        if given.get("filter-crs", CRS84) not in documents.crs_uris(layer):
            raise RefusedError(400, "filter-crs is not one of the collection's")
        self.filter = given.get("filter")
        self.equal = {name: given[name] for name in sorted(set(given) & fields - _OF_ITEMS)}
        self.key = (repr(self.box), self.box_crs, repr(self.filter), repr(self.equal))

    def rows(self, layer: Layer) -> I64Array:
        numbered = replace(layer, rows=np.arange(layer.n_rows), total=None, lineage=None)
        if self.filter is not None:
            numbered = numbered.take(Expression(self.filter).true_rows(numbered))
        for name, text in self.equal.items():
            column = numbered.table.column(name)
            numbered = numbered.take(np.asarray(_equals(column, text, name), bool))
        if self.box is not None:
            crs, box = crs_module.of_uri(self.box_crs), self.box
            if _begins_north(self.box_crs):
                box = (box[1], box[0], box[3], box[2])
            hit = [np.zeros(0, np.int64)]
            for own in _parted(box, crs) if numbered.n_rows else ():
                found = subset(numbered, other=box_layer(own, crs), relation="intersects").layer
                hit.append(found.numbers - 1)
            return distinct(np.concatenate(hit))
        assert numbered.rows is not None
        return numbered.rows


def _parted(box: tuple[float, ...], crs: pyproj.CRS) -> list[tuple[float, float, float, float]]:
    """Return a box that runs over the 180th meridian as two (OGC 17-069r4, 7.15.3)."""
    x0, y0, x1, y1 = box
    if x0 <= x1 or not crs.is_geographic:
        return [(x0, y0, x1, y1)]
    return [own for own in ((x0, y0, 180.0, y1), (-180.0, y0, x1, y1)) if own[0] < own[2]]


def _equals(column: pa.ChunkedArray, text: str, name: str) -> Any:
    from polygene import computing as pc

    try:
        value = pc.cast(pa.scalar(text), column.type)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as err:
        raise RefusedError(400, f"{name} has no value such as {text!r}") from err
    return pc.fill_null(pc.equal(column, value), False)


def _box(text: str) -> tuple[float, ...]:
    try:
        found = tuple(float(v) for v in text.split(","))
    except ValueError as err:
        raise RefusedError(400, f"bbox {text!r} is no list of numbers") from err
    if len(found) == 6:
        found = (*found[:2], *found[3:5])
    if len(found) != 4 or not np.isfinite(found).all() or found[1] > found[3]:
        raise RefusedError(
            400, f"bbox {text!r} is no box: four or six numbers, the lower corner first"
        )
    # A point or a line as box meets what it meets: it gets the least of a width.
    x0, y0, x1, y1 = found
    x1, y1 = (b if a != b else float(np.nextafter(b, np.inf)) for a, b in ((x0, x1), (y0, y1)))
    return x0, y0, x1, y1


def _whole(text: str, name: str, least: int) -> int:
    if not (text.isdigit() and len(text) < 16 and int(text) >= least):
        raise RefusedError(400, f"{name} is a whole number from {least} on, not {text!r}")
    return int(text)


def _refuse(names: set[str]) -> None:
    if names:
        raise RefusedError(400, f"there is no parameter {', '.join(map(repr, sorted(names)))} here")


def _ids(layer: Layer) -> I64Array:
    return layer.ids if layer.ids is not None else np.arange(1, layer.n_rows + 1)


def _begins_north(uri: str) -> bool:
    return uri != CRS84 and crs_module.begins_north(crs_module.of_uri(uri))


def _link(request: Request, name: str, more: Mapping[str, str], rel: str) -> dict[str, str]:
    given = {k: v[-1] for k, v in request.query.items() if k != "f"} | dict(more)
    query = f"?{urlencode(given)}" if given else ""
    href = f"{request.base}/collections/{quote(name)}/items{query}"
    return {"rel": rel, "type": _GEOJSON, "href": href}


def _error(status: int, why: str) -> Answer:
    told = {
        "code": {400: "InvalidParameterValue", 404: "NotFound"}.get(status, "Error"),
        "description": why,
    }
    return Answer(status, orjson.dumps(told), {"Content-Type": _JSON})
