"""What a service answers: OGC API – Features, Part 1 Core (OGC 17-069r4), Part 2 CRS (18-058r1) and
Part 3 Filtering with CQL2 text (19-079r2). Requests in, answers out; no network here.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from typing import Any
from urllib.parse import unquote, urlencode

import numpy as np
import orjson

from polygene import clock
from polygene.arrays import I64Array
from polygene.classes import NamedTuple, dataclass
from polygene.crs import CRS84
from polygene.errors import ExpressionError, PolygeneError
from polygene.formats.geojson.writing import texts_of_features, to_degrees
from polygene.layer import Layer
from polygene.serving import api, documents
from polygene.serving.asking import Query, RefusedError, begins_north, refuse_all
from polygene.serving.pages import html
from polygene.winding import turned

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
_HTML = "text/html; charset=utf-8"


class Request(NamedTuple):
    """A request: path as it was sent, the query's values by name, whether people want to read it.

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
            return error(err.status, err.why)
        except ExpressionError as err:
            return error(400, f"filter: {err}")
        except PolygeneError as err:
            return error(400, str(err))

    def _answer(self, request: Request) -> Answer:
        asked = request.query.get("f", [])
        if asked and asked[-1] not in ("json", "html"):
            raise RefusedError(400, f"f is json or html, not {asked[-1]!r}")
        wants_html = asked[-1] == "html" if asked else request.wants_html
        request = request._replace(wants_html=wants_html)
        parts = [unquote(part) for part in request.path.split("/") if part]
        tag = self._tag_of(request)
        if tag in [own.strip().removeprefix("W/") for own in request.tag.split(",")]:
            return Answer(304, b"", {"ETag": tag})
        found = self._document(parts, request)
        return replace(
            found, headers={**found.headers, "ETag": tag, "Vary": "Accept, Accept-Encoding"}
        )

    def _tag_of(self, request: Request) -> str:
        told = [request.base, request.path, str(request.wants_html), self.tag]
        told += [f"{name}={value}" for name, own in request.query.items() for value in own]
        return f'"{hashlib.sha256(chr(10).join(told).encode()).hexdigest()[:32]}"'

    def _document(self, parts: Sequence[str], request: Request) -> Answer:
        """Return the document at a path, of which there are parts."""
        base, is_html = request.base, request.wants_html
        if parts[:1] == ["collections"] and 2 <= len(parts) <= 4:
            return self._of_collection(parts[1:], request)
        match parts:
            case []:
                told = documents.landing(self, base, is_html)
                if is_html:  # people see at once what there is
                    told["collections"] = documents.collections(self, base)["collections"]
                return self._page(request, told)
            case ["collections"]:
                return self._page(request, documents.collections(self, base, is_html))
            case ["conformance"]:
                return self._page(request, {"conformsTo": list(CONFORMS)}, "What it conforms to")
            case ["api"]:
                return self._page(request, api.openapi(self, base), "The API", documents.OPENAPI)
        raise RefusedError(404, f"there is nothing at /{'/'.join(parts)}")

    def _of_collection(self, parts: Sequence[str], request: Request) -> Answer:
        """Return a document of the collection whose name is the first part."""
        name, base, is_html = parts[0], request.base, request.wants_html
        layer = self.layers.get(name)
        if layer is None:
            names = ", ".join(self.layers)
            raise RefusedError(404, f"there is no collection {name!r} (there are {names})")
        match parts[1:]:
            case ["items"]:
                return self._items(name, layer, request)
            case ["items", text]:
                return self._item(name, layer, text, request)
            case []:
                told, kind = documents.collection(self, name, base, is_html), documents.JSON
            case ["queryables"]:
                told, kind = documents.queryables(name, layer, base), documents.SCHEMA
            case _:
                raise RefusedError(404, f"there is nothing at /collections/{'/'.join(parts)}")
        return self._page(request, told, kind=kind)

    def _page(
        self, request: Request, told: dict[str, Any], title: str = "", kind: str = documents.JSON
    ) -> Answer:
        refuse_all({own for own in request.query if own != "f"})
        if request.wants_html:
            page = html(title or self.title, told, request.base, request.path)
            return Answer(200, page, {"Content-Type": _HTML})
        return Answer(200, orjson.dumps(told), {"Content-Type": kind})

    def _items(self, name: str, layer: Layer, request: Request) -> Answer:
        query = Query(request.query, layer)
        rows = self._rows(name, layer, query)
        page = rows[query.offset : query.offset + query.limit]
        body = self._features(name, page, query.crs)
        links = documents.self_and_other(
            _items_at(request, name), documents.GEOJSON, request.wants_html
        )
        if query.offset + len(page) < len(rows):
            following = {"offset": str(query.offset + query.limit), "limit": str(query.limit)}
            kind = documents.HTML if request.wants_html else documents.GEOJSON
            if request.wants_html:
                following["f"] = "html"
            links.append({"rel": "next", "type": kind, "href": _items_at(request, name, following)})
        head = {
            "type": "FeatureCollection",
            "numberMatched": len(rows),
            "numberReturned": len(page),
            "timeStamp": clock.now(),
            "links": links,
        }
        text = orjson.dumps(head)[:-1] + b',"features":[\n' + b",\n".join(body) + b"\n]}\n"
        return self._of_features(request, text, f"{layer.title or name}: features", query.crs)

    def _item(self, name: str, layer: Layer, text: str, request: Request) -> Answer:
        refuse_all({own for own in request.query if own not in ("f", "crs")})
        query = Query({k: v for k, v in request.query.items() if k == "crs"}, layer)
        digits = text.removeprefix("-")
        is_number = digits.isascii() and digits.isdigit() and len(digits) < 19
        rows = np.flatnonzero(_ids(layer) == int(text)) if is_number else np.zeros(0, np.int64)
        if not len(rows):
            raise RefusedError(404, f"collection {name!r} has no feature {text!r}")
        (own,) = self._features(name, rows[:1], query.crs)
        at = documents.place_of(request.base, name)
        asked = f"?{urlencode({'crs': query.crs})}" if "crs" in request.query else ""
        links = [
            *documents.self_and_other(
                f"{at}/items/{text}{asked}", documents.GEOJSON, request.wants_html
            ),
            {"rel": "collection", "type": documents.JSON, "href": at},
        ]
        body = own[:-1] + b',"links":' + orjson.dumps(links) + b"}"
        return self._of_features(request, body, f"{layer.title or name}: feature {text}", query.crs)

    def _of_features(self, request: Request, text: bytes, title: str, crs: str) -> Answer:
        """Return features as GeoJSON, or a page of them."""
        if request.wants_html:
            told = {**orjson.loads(text), "title": title}
            shown = html(title, told, request.base, request.path)
            return Answer(200, shown, {"Content-Type": _HTML})
        return Answer(200, text, {"Content-Type": documents.GEOJSON, "Content-Crs": f"<{crs}>"})

    def _features(self, name: str, rows: I64Array, uri: str) -> list[bytes]:
        """Return features as GeoJSON in the CRS that a URI names."""
        layer = self.in_degrees(name) if uri == CRS84 else self.layers[name]
        some = replace(layer, ids=_ids(layer), rows=None, total=None, lineage=None).take(rows)
        column = turned(some.geometry, outer_is_counter_clockwise=True)
        if begins_north(uri):
            column = column.with_xy(np.ascontiguousarray(column.xy[:, ::-1]))
        column = replace(column, m=None)
        ids = None if some.ids is None else some.ids.tolist()
        return list(texts_of_features(column, some.table, ids, some.n_rows))

    def _rows(self, name: str, layer: Layer, query: Query) -> I64Array:
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


def _ids(layer: Layer) -> I64Array:
    return layer.ids if layer.ids is not None else np.arange(1, layer.n_rows + 1)


def _items_at(request: Request, name: str, more: Mapping[str, str] | None = None) -> str:
    """Return the address of a collection's features with what was asked, and more."""
    given = {k: v[-1] for k, v in request.query.items() if k != "f"} | dict(more or {})
    query = f"?{urlencode(given)}" if given else ""
    return f"{documents.place_of(request.base, name)}/items{query}"


def error(status: int, why: str) -> Answer:
    """Return an answer that says what is wrong (OGC 17-069r4, 7.5.1)."""
    codes = {400: "InvalidParameterValue", 404: "NotFound", 405: "MethodNotAllowed"}
    told = {"code": codes.get(status, "Error"), "description": why}
    return Answer(status, orjson.dumps(told), {"Content-Type": documents.JSON})
