"""The documents of a service that are not features: what it is, its collections, their fields."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, unquote

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
table { border-collapse: collapse; width: 100%; font-size: 14px; margin: 0 0 1.5rem }
td, th { text-align: left; border-bottom: 1px solid #d9d5cb; padding: 4px 10px 4px 0;
vertical-align: top } .number { text-align: right; font-variant-numeric: tabular-nums;
padding-right: 24px } .way { font-size: 14px; margin: 0 }"""


def html(title: str, told: dict[str, Any], base: str, path: str) -> bytes:
    """Return a document for people: the way to it, its collections or features, its links."""
    told = dict(told)
    title = str(told.pop("title", title))
    body = [_way(base, path), f"<h1>{escape(title)}</h1>"]
    if told.get("description"):
        body.append(f"<p>{escape(str(told.pop('description')))}</p>")
    links = told.pop("links", [])
    if "collections" in told:
        rows = [
            (
                _anchor(own["links"][0]["href"], own["id"]),
                escape(": ".join(filter(None, (own["title"], own.get("description"))))),
                _anchor(own["links"][1]["href"] + "?f=html", "features"),
            )
            for own in told.pop("collections")
        ]
        body.append(_table(("collection", "what it is", ""), rows))
    if "features" in told:
        found = told.pop("features")
        names = list(dict.fromkeys(name for own in found for name in own["properties"] or {}))
        values = [[own.get("id"), *map((own["properties"] or {}).get, names)] for own in found]
        is_number = [
            all(isinstance(v, (int, float, type(None))) and not isinstance(v, bool) for v in column)
            for column in zip(*values, strict=True)
        ]
        rows_of = [[escape(_plainly(v)) for v in row] for row in values]
        body.append(_table(("id", *names), rows_of, is_number))
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


def _way(base: str, path: str) -> str:
    """Return links to all that a document is part of."""
    parts = [part for part in path.split("/") if part]
    places = [f"{base}/", *(f"{base}/{'/'.join(parts[:k])}" for k in range(1, len(parts)))]
    names = ["first page", *map(unquote, parts[:-1])]
    links = [_anchor(f"{at}?f=html", name) for at, name in zip(places, names, strict=False)]
    return f'<p class="way">{" / ".join(links)}</p>' if parts else ""


def _plainly(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(map(_plainly, value))
    if isinstance(value, dict):
        return "; ".join(f"{name}: {_plainly(own)}" for name, own in value.items())
    return str(value)


def _anchor(href: str, text: str) -> str:
    return f'<a href="{escape(href, quote=True)}">{escape(text)}</a>'


def _table(head: Any, rows: Any, is_number: Sequence[bool] = ()) -> str:
    marks = [' class="number"' if own else "" for own in is_number] or [""] * len(head)
    top = "".join(f"<th{mark}>{escape(name)}</th>" for mark, name in zip(marks, head, strict=False))
    cells = [
        "".join(f"<td{mark}>{cell}</td>" for mark, cell in zip(marks, row, strict=False))
        for row in rows
    ]
    lines = "".join(f"<tr>{row}</tr>" for row in cells)
    return f"<table>{f'<tr>{top}</tr>' if any(head) else ''}{lines}</table>"
