"""The documents of a service that are not features: what it is, its collections, their fields."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import pyarrow as pa

from polygene import __version__
from polygene import computing as pc
from polygene.crs import CRS84, to_uri
from polygene.formats import moments
from polygene.layer import Layer

if TYPE_CHECKING:
    from polygene.serving.app import Service

JSON, GEOJSON, HTML = "application/json", "application/geo+json", "text/html"
SCHEMA = "application/schema+json"
OPENAPI = "application/vnd.oai.openapi+json;version=3.0"
_QUERYABLES = "http://www.opengis.net/def/rel/ogc/1.0/queryables"


def crs_uris(layer: Layer) -> list[str]:
    """Return the URIs of the CRS that a layer is offered in, longitude and latitude first."""
    found, own = [CRS84], to_uri(layer.crs)
    return found if own == CRS84 else [*found, own]


def self_and_other(url: str, kind: str, is_html: bool) -> list[dict[str, str]]:
    """Return links to a document as it is asked for, and to its other form (OGC 17-069r4, 7.16).

    ``url`` may have a query, without ``f``.
    """
    mark = "&" if "?" in url else "?"
    own = {"type": kind, "href": url if not is_html else f"{url}{mark}f=json"}
    page = {"type": HTML, "href": f"{url}{mark}f=html"}
    first, second = (page, own) if is_html else (own, page)
    return [
        {"rel": "self", "title": "this document", **first},
        {"rel": "alternate", "title": "for programs" if is_html else "for people", **second},
    ]


def landing(service: Service, base: str, is_html: bool = False) -> dict[str, Any]:
    return {
        "title": service.title,
        "description": f"Layers for reading, served by Polygene {__version__}",
        "links": [
            *self_and_other(f"{base}/", JSON, is_html),
            {"rel": "service-desc", "type": OPENAPI,
             "title": "the API", "href": f"{base}/api"},
            {"rel": "service-doc", "type": HTML, "title": "the API, for people",
             "href": f"{base}/api?f=html"},
            {"rel": "conformance", "type": JSON, "title": "what it conforms to",
             "href": f"{base}/conformance"},
            {"rel": "data", "type": JSON, "title": "collections", "href": f"{base}/collections"},
        ],
    }  # fmt: skip


def collections(service: Service, base: str, is_html: bool = False) -> dict[str, Any]:
    return {
        "title": service.title,
        "collections": [collection(service, name, base) for name in service.layers],
        "links": self_and_other(f"{base}/collections", JSON, is_html),
    }


def collection(service: Service, name: str, base: str, is_html: bool = False) -> dict[str, Any]:
    layer = service.layers[name]
    at = place_of(base, name)
    told: dict[str, Any] = {
        "id": name,
        "title": layer.title or name,
        "itemType": "feature",
        "crs": crs_uris(layer),
        "storageCrs": to_uri(layer.crs),
        "links": [
            *self_and_other(at, JSON, is_html),
            {"rel": "items", "type": GEOJSON, "title": "features", "href": f"{at}/items"},
            {"rel": "items", "type": HTML, "title": "features, for people",
             "href": f"{at}/items?f=html"},
            {"rel": _QUERYABLES, "type": SCHEMA, "href": f"{at}/queryables"},
        ],
    }  # fmt: skip
    if layer.description:
        told["description"] = layer.description
    extent: dict[str, Any] = {}
    box = service.in_degrees(name).geometry.extent() if layer.n_rows else None
    if box is not None:
        extent["spatial"] = {"bbox": [list(box)], "crs": CRS84}
    interval = _interval(layer)
    if interval is not None:
        extent["temporal"] = {"interval": [interval]}
    if extent:
        told["extent"] = extent
    return told


def place_of(base: str, name: str) -> str:
    """Return the address of a collection."""
    return f"{base}/collections/{quote(name, safe='')}"


def field_of_time(layer: Layer) -> str | None:
    """Return the field that tells of what time a feature is: the first of dates or moments."""
    for field in layer.table.schema:
        if pa.types.is_date(field.type) or pa.types.is_timestamp(field.type):
            return str(field.name)
    return None


def _interval(layer: Layer) -> list[str] | None:
    """Return the first and last moment of a layer's features (RFC 3339)."""
    field = field_of_time(layer)
    if field is None:
        return None
    column = layer.table.column(field)
    ends = pc.min_max(column)
    if not ends["min"].is_valid:
        return None
    texts = moments.as_text(pa.chunked_array([[ends["min"], ends["max"]]], column.type))
    first, last = texts.to_pylist()
    if pa.types.is_date(column.type):  # a day is from its first moment to its last
        return [f"{first}T00:00:00Z", f"{last}T23:59:59Z"]
    return [first, last]


def queryables(name: str, layer: Layer, base: str) -> dict[str, Any]:
    """Return the schema of the fields that a filter may name (OGC 19-079r2, clause 6)."""
    shapes = {} if layer.is_table else {"geometry": {"format": _shape_of(layer)}}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": f"{place_of(base, name)}/queryables",
        "type": "object",
        "title": layer.title or name,
        "properties": shapes | {own.name: type_of(own.type) for own in layer.table.schema},
        "additionalProperties": False,
    }


def _shape_of(layer: Layer) -> str:
    """Return what the standard calls geometry of a family (OGC 19-079r2, clause 6)."""
    words = ("point", "linestring", "polygon")[layer.geometry.family]
    return f"geometry-{'multi' if layer.geometry.is_multi else ''}{words}"


def type_of(kind: pa.DataType) -> dict[str, str]:
    """Return the JSON Schema of a field's values."""
    if pa.types.is_boolean(kind):
        return {"type": "boolean"}
    if pa.types.is_integer(kind):
        return {"type": "integer"}
    if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return {"type": "number"}
    if pa.types.is_date(kind):
        return {"type": "string", "format": "date"}
    return (
        {"type": "string", "format": "date-time"}
        if pa.types.is_timestamp(kind)
        else {"type": "string"}
    )
