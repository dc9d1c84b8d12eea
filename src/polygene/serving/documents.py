"""The documents of a service that are not features: what it is, its collections, their fields."""

from __future__ import annotations

from html import escape
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import pyarrow as pa

from polygene import __version__
from polygene.crs import CRS84, to_uri
from polygene.layer import Layer

if TYPE_CHECKING:
    from polygene.serving.app import Service

_JSON, _GEOJSON = "application/json", "application/geo+json"
_QUERYABLES = "http://www.opengis.net/def/rel/ogc/1.0/queryables"


def crs_uris(layer: Layer) -> list[str]:
    """Return the URIs of the CRS that a layer is offered in, longitude and latitude first."""
    found, own = [CRS84], to_uri(layer.crs)
    return found if own == CRS84 else [*found, own]


def landing(service: Service, base: str) -> dict[str, Any]:
    return {
        "title": service.title,
        "description": f"Layers for reading, served by Polygene {__version__}",
        "links": [
            {"rel": "self", "type": _JSON, "title": "this document", "href": f"{base}/"},
            {"rel": "service-desc", "type": "application/vnd.oai.openapi+json;version=3.0",
             "title": "the API", "href": f"{base}/api"},
            {"rel": "conformance", "type": _JSON, "title": "what it conforms to",
             "href": f"{base}/conformance"},
            {"rel": "data", "type": _JSON, "title": "collections", "href": f"{base}/collections"},
        ],
    }  # fmt: skip


def collections(service: Service, base: str) -> dict[str, Any]:
    return {
        "title": service.title,
        "collections": [collection(service, name, base) for name in service.layers],
        "links": [{"rel": "self", "type": _JSON, "href": f"{base}/collections"}],
    }


def collection(service: Service, name: str, base: str) -> dict[str, Any]:
    layer = service.layers[name]
    at = f"{base}/collections/{quote(name)}"
    told: dict[str, Any] = {
        "id": name,
        "title": layer.title or name,
        "itemType": "feature",
        "crs": crs_uris(layer),
        "storageCrs": to_uri(layer.crs),
        "links": [
            {"rel": "self", "type": _JSON, "href": at},
            {"rel": "items", "type": _GEOJSON, "title": "features", "href": f"{at}/items"},
            {"rel": _QUERYABLES, "type": "application/schema+json", "href": f"{at}/queryables"},
        ],
    }
    if layer.description:
        told["description"] = layer.description
    extent = service.in_degrees(name).geometry.extent() if layer.n_rows else None
    if extent is not None:
        told["extent"] = {"spatial": {"bbox": [list(extent)], "crs": CRS84}}
    return told


def queryables(name: str, layer: Layer, base: str) -> dict[str, Any]:
    """Return the schema of the fields that a filter may name (OGC 19-079r2, clause 6)."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": f"{base}/collections/{quote(name)}/queryables",
        "type": "object",
        "title": layer.title or name,
        "properties": {own.name: _type(own.type) for own in layer.table.schema},
        "additionalProperties": False,
    }


def _type(kind: pa.DataType) -> dict[str, str]:
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


def openapi(service: Service, base: str) -> dict[str, Any]:
    """Return a description of the API (OpenAPI 3.0)."""

    def path(what: str, *names: str) -> dict[str, Any]:
        parameters = [
            {"name": n, "in": "query", "required": False, "schema": {"type": "string"}}
            for n in names
        ]
        return {
            "get": {
                "summary": what,
                "parameters": parameters,
                "responses": {"200": {"description": what}},
            }
        }

    asked = (
        "limit",
        "offset",
        "bbox",
        "bbox-crs",
        "crs",
        "filter",
        "filter-lang",
        "filter-crs",
        "f",
    )
    paths = {
        "/": path("What the service is", "f"),
        "/conformance": path("What it conforms to", "f"),
        "/collections": path("Its collections", "f"),
    }
    for name in service.layers:
        at = f"/collections/{quote(name)}"
        paths[at] = path(f"The collection {name}", "f")
        paths[f"{at}/queryables"] = path(f"Fields of {name}", "f")
        paths[f"{at}/items"] = path(f"Features of {name}", *asked)
    info = {"title": service.title, "version": __version__}
    return {"openapi": "3.0.3", "info": info, "servers": [{"url": base}], "paths": paths}


_STYLE = """body { font: 16px/1.5 system-ui, sans-serif; margin: 2rem auto; max-width: 60rem;
padding: 0 1rem; color: #1b2a33; background: #fbfaf7 } a { color: #0b5c6b }
table { border-collapse: collapse; width: 100%; font-size: 14px } td, th { text-align: left;
border-bottom: 1px solid #d9d5cb; padding: 4px 10px 4px 0; vertical-align: top }"""


def html(title: str, told: dict[str, Any]) -> bytes:
    """Return a document for people: its links, its collections or features as a table."""
    told = dict(told)
    title = str(told.pop("title", title))
    body = [f"<h1>{escape(title)}</h1>"]
    if told.get("description"):
        body.append(f"<p>{escape(str(told.pop('description')))}</p>")
    links = told.pop("links", [])
    if "collections" in told:
        rows = [
            (_anchor(own["links"][0]["href"], own["title"]), escape(own.get("description", "")))
            for own in told.pop("collections")
        ]
        body.append(_table(("collection", "what it is"), rows))
    if "features" in told:
        found = told.pop("features")
        names = list(dict.fromkeys(name for own in found for name in own["properties"] or {}))
        rows_of = [
            [escape(str(own.get("id", "")))]
            + [escape(str((own["properties"] or {}).get(name, ""))) for name in names]
            for own in found
        ]
        body.append(_table(("id", *names), rows_of))
    facts = [(escape(name), escape(_plainly(value))) for name, value in told.items()]
    body.append(_table(("", ""), facts) if facts else "")
    listed = [
        _anchor(own["href"], own.get("title") or own["rel"].rpartition("/")[2]) for own in links
    ]
    body.append(f"<p>{' · '.join(listed)}</p>")
    text = (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{escape(title)}</title>'
        f"<style>{_STYLE}</style><body>{''.join(body)}</body></html>"
    )
    return text.encode()


def _plainly(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(map(_plainly, value))
    if isinstance(value, dict):
        return "; ".join(f"{name}: {_plainly(own)}" for name, own in value.items())
    return str(value)


def _anchor(href: str, text: str) -> str:
    return f'<a href="{escape(href, quote=True)}">{escape(text)}</a>'


def _table(head: Any, rows: Any) -> str:
    top = "".join(f"<th>{escape(name)}</th>" for name in head) if any(head) else ""
    lines = "".join(f"<tr>{''.join(f'<td>{cell}</td>' for cell in row)}</tr>" for row in rows)
    return f"<table><tr>{top}</tr>{lines}</table>"
