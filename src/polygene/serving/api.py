"""The description of what a service answers, for programs (OpenAPI 3.0; OGC 17-069r4, clause 9)."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from polygene import __version__
from polygene.crs import CRS84
from polygene.layer import Layer
from polygene.serving import documents
from polygene.serving.asking import LIMIT, MOST, PARAMETERS

if TYPE_CHECKING:
    from polygene.serving.app import Service

_TEXT: dict[str, Any] = {"type": "string"}
_OBJECT: dict[str, Any] = {"type": "object"}


def openapi(service: Service, base: str) -> dict[str, Any]:
    """Return the whole description."""
    paths = {
        "/": _path("What the service is", "service", _OBJECT),
        "/api": _path("This description", "api", _OBJECT, kind=documents.OPENAPI),
        "/conformance": _path("What it conforms to", "conformance", _OBJECT),
        "/collections": _path("Its collections", "collections", _OBJECT),
    }
    for k, (name, layer) in enumerate(service.layers.items()):
        paths |= _of_collection(name, layer, f"of{k}")
    return {
        "openapi": "3.0.3",
        "info": {"title": service.title, "version": __version__},
        "servers": [{"url": base}],
        "paths": paths,
        "components": {"schemas": _schemas(), "responses": _responses()},
    }


def _of_collection(name: str, layer: Layer, operation: str) -> dict[str, Any]:
    at = f"/collections/{quote(name, safe='')}"
    feature_id = {
        "name": "featureId", "in": "path", "required": True, "schema": {"type": "integer"},
        "description": "The identifier of a feature",
    }  # fmt: skip
    geojson = {"$ref": "#/components/schemas/featureCollection"}
    one = {"$ref": "#/components/schemas/feature"}
    of_items = [parameter(own, layer) for own in PARAMETERS]
    of_items += [
        {"name": own.name, "in": "query", "required": False, "schema": documents.type_of(own.type),
         "description": "Only features with this value"}
        for own in layer.table.schema if own.name not in PARAMETERS
    ]  # fmt: skip
    return {
        at: _path(f"The collection {name}", f"{operation}.collection", _OBJECT),
        f"{at}/queryables": _path(
            f"Fields of {name}", f"{operation}.queryables", _OBJECT, kind=documents.SCHEMA
        ),
        f"{at}/items": _path(
            f"Features of {name}", f"{operation}.items", geojson, of_items, documents.GEOJSON
        ),
        f"{at}/items/{{featureId}}": _path(
            f"A feature of {name}", f"{operation}.item", one,
            [feature_id, parameter("crs", layer), parameter("f", layer)], documents.GEOJSON,
        ),
    }  # fmt: skip


def parameter(name: str, layer: Layer) -> dict[str, Any]:
    """Return the description of a parameter of a collection's features."""
    uris = {**_TEXT, "format": "uri", "enum": documents.crs_uris(layer), "default": CRS84}
    what, schema = {
        "limit": (
            "How many features at most",
            {"type": "integer", "minimum": 1, "maximum": MOST, "default": LIMIT},
        ),
        "offset": ("How many to pass over", {"type": "integer", "minimum": 0, "default": 0}),
        "bbox": (
            "Only features that meet a box: its lower corner, then the upper one",
            {"type": "array", "items": {"type": "number"}, "minItems": 4, "maxItems": 6},
        ),
        "bbox-crs": ("The CRS of the box", uris),
        "datetime": (
            "Only features of a time: a date, a moment, or two with a slash between; of "
            f"{documents.field_of_time(layer) or 'none of the fields, so that all are'}",
            _TEXT,
        ),
        "crs": ("The CRS of the coordinates", uris),
        "filter": ("Only features for which this is true, in CQL2 text", _TEXT),
        "filter-lang": (
            "The language of the filter",
            {**_TEXT, "enum": ["cql2-text"], "default": "cql2-text"},
        ),
        "filter-crs": ("The CRS of geometry in the filter", uris),
        "f": ("JSON, or a page for people", {**_TEXT, "enum": ["json", "html"]}),
    }[name]
    told: dict[str, Any] = {
        "name": name, "in": "query", "required": False, "description": what, "schema": schema,
    }  # fmt: skip
    if name == "bbox":
        told |= {"style": "form", "explode": False}
    return told


def _path(
    what: str,
    operation: str,
    schema: dict[str, Any],
    parameters: list[dict[str, Any]] | None = None,
    kind: str = documents.JSON,
) -> dict[str, Any]:
    if parameters is None:
        parameters = [
            {"name": "f", "in": "query", "required": False, "description": "JSON, or a page for people",
             "schema": {**_TEXT, "enum": ["json", "html"]}}
        ]  # fmt: skip
    answers = {kind: {"schema": schema}, "text/html": {"schema": _TEXT}}
    refused = {code: {"$ref": "#/components/responses/exception"} for code in ("400", "404", "500")}
    return {
        "get": {
            "summary": what,
            "operationId": operation,
            "parameters": parameters,
            "responses": {
                "200": {"description": what, "content": answers},
                "304": {"description": "Nothing has changed"},
                **refused,
            },
        }
    }


def _responses() -> dict[str, Any]:
    schema = {"$ref": "#/components/schemas/exception"}
    return {
        "exception": {
            "description": "What is wrong with the request",
            "content": {documents.JSON: {"schema": schema}},
        }
    }


def _schemas() -> dict[str, Any]:
    link = {
        "type": "object", "required": ["href", "rel"],
        "properties": {"href": _TEXT, "rel": _TEXT, "type": _TEXT, "title": _TEXT},
    }  # fmt: skip
    links = {"type": "array", "items": link}
    feature = {
        "type": "object", "required": ["type", "geometry", "properties"],
        "properties": {
            "type": {**_TEXT, "enum": ["Feature"]}, "id": {"type": "integer"},
            "geometry": {"type": "object", "nullable": True},
            "properties": {"type": "object", "nullable": True}, "links": links,
        },
    }  # fmt: skip
    features = {
        "type": "object", "required": ["type", "features"],
        "properties": {
            "type": {**_TEXT, "enum": ["FeatureCollection"]},
            "features": {"type": "array", "items": {"$ref": "#/components/schemas/feature"}},
            "links": links, "timeStamp": {**_TEXT, "format": "date-time"},
            "numberMatched": {"type": "integer", "minimum": 0},
            "numberReturned": {"type": "integer", "minimum": 0},
        },
    }  # fmt: skip
    exception = {
        "type": "object", "required": ["code"],
        "properties": {"code": _TEXT, "description": _TEXT},
    }  # fmt: skip
    return {"feature": feature, "featureCollection": features, "exception": exception}
