"""A client that knows nothing but HTTP, links and JSON Schema: documents are as the standards have them.

The schemas are those of OGC 17-069r4 (clause 7 and annex B), with what Part 2 and 3 add.
"""

# ruff: noqa: E501  (schemas)

from __future__ import annotations

import json
import urllib.error
import urllib.parse
import urllib.request

import jsonschema

from tests.serving.test_service import Served

TEXT = {"type": "string"}
NUMBERS = {"type": "array", "items": {"type": "number"}}
LINK = {
    "type": "object", "required": ["href", "rel"],
    "properties": {
        "href": {"type": "string", "pattern": "^https?://"}, "rel": TEXT, "type": TEXT, "hreflang": TEXT,
        "title": TEXT, "length": {"type": "integer"},
    },
}  # fmt: skip
LINKS = {"type": "array", "items": LINK}
LANDING = {
    "type": "object", "required": ["links"],
    "properties": {"title": TEXT, "description": TEXT, "attribution": TEXT, "links": LINKS},
}  # fmt: skip
CONFORMANCE = {
    "type": "object", "required": ["conformsTo"],
    "properties": {"conformsTo": {"type": "array", "items": {"type": "string", "format": "uri"}}},
}  # fmt: skip
EXTENT = {
    "type": "object",
    "properties": {
        "spatial": {
            "type": "object",
            "properties": {
                "bbox": {
                    "type": "array", "minItems": 1,
                    "items": {**NUMBERS, "oneOf": [{"minItems": 4, "maxItems": 4}, {"minItems": 6, "maxItems": 6}]},
                },
                "crs": {"enum": ["http://www.opengis.net/def/crs/OGC/1.3/CRS84"]},
            },
        },
        "temporal": {"type": "object"},
    },
}  # fmt: skip
COLLECTION = {
    "type": "object", "required": ["id", "links"],
    "properties": {
        "id": TEXT, "title": TEXT, "description": TEXT, "links": {**LINKS, "minItems": 1}, "extent": EXTENT,
        "itemType": {"enum": ["feature"]}, "crs": {"type": "array", "items": TEXT, "minItems": 1},
        "storageCrs": {"type": "string", "format": "uri"},
    },
}  # fmt: skip
COLLECTIONS = {
    "type": "object", "required": ["links", "collections"],
    "properties": {"links": LINKS, "collections": {"type": "array", "items": COLLECTION}},
}  # fmt: skip
POSITION = {**NUMBERS, "minItems": 2}
LINE = {"type": "array", "minItems": 2, "items": POSITION}
RING = {"type": "array", "minItems": 4, "items": POSITION}
POLYGON = {"type": "array", "items": RING}


def _kind(name: str, coordinates: dict) -> dict:
    return {
        "type": "object", "required": ["type", "coordinates"],
        "properties": {"type": {"const": name}, "coordinates": coordinates},
    }  # fmt: skip


GEOMETRY = {
    "oneOf": [
        {"type": "null"},
        _kind("Point", POSITION),
        _kind("MultiPoint", {"type": "array", "items": POSITION}),
        _kind("LineString", LINE),
        _kind("MultiLineString", {"type": "array", "items": LINE}),
        _kind("Polygon", POLYGON),
        _kind("MultiPolygon", {"type": "array", "items": POLYGON}),
    ]
}
FEATURE = {
    "type": "object", "required": ["type", "geometry", "properties"],
    "properties": {
        "type": {"const": "Feature"}, "geometry": GEOMETRY, "properties": {"type": ["object", "null"]},
        "id": {"oneOf": [TEXT, {"type": "integer"}]}, "links": LINKS,
    },
}  # fmt: skip
FEATURES = {
    "type": "object", "required": ["type", "features"],
    "properties": {
        "type": {"const": "FeatureCollection"}, "features": {"type": "array", "items": FEATURE}, "links": LINKS,
        "timeStamp": {"type": "string", "format": "date-time"},
        "numberMatched": {"type": "integer", "minimum": 0},
        "numberReturned": {"type": "integer", "minimum": 0},
    },
}  # fmt: skip
EXCEPTION = {
    "type": "object", "required": ["code"], "properties": {"code": TEXT, "description": TEXT},
}  # fmt: skip
API = {
    "type": "object", "required": ["openapi", "info", "paths"],
    "properties": {
        "openapi": {"type": "string", "pattern": r"^3\.0\.\d"},
        "info": {"type": "object", "required": ["title", "version"]},
        "paths": {"type": "object", "patternProperties": {"^/": {"type": "object"}}, "additionalProperties": False},
    },
}  # fmt: skip
QUERYABLES = {
    "type": "object", "required": ["$schema", "$id", "type", "properties"],
    "properties": {"type": {"const": "object"}, "properties": {"type": "object"}},
}  # fmt: skip


def schema_of(path: str) -> dict:
    """Return the schema of what a path of the service answers."""
    match path.strip("/").split("/"):
        case [""]:
            return LANDING
        case ["conformance"]:
            return CONFORMANCE
        case ["api"]:
            return API
        case ["collections"]:
            return COLLECTIONS
        case ["collections", _]:
            return COLLECTION
        case ["collections", _, "items"]:
            return FEATURES
        case ["collections", _, "items", _]:
            return FEATURE
        case ["collections", _, ("queryables" | "schema")]:
            return QUERYABLES
    raise AssertionError(f"no standard has {path}")


class AnyClient(Served):
    def fetched(self, url: str) -> tuple[int, str, bytes]:
        asked = urllib.request.Request(url, headers={"Accept": "*/*"})
        try:
            with urllib.request.urlopen(asked) as found:
                return found.status, found.headers.get_content_type(), found.read()
        except urllib.error.HTTPError as err:
            return err.code, err.headers.get_content_type(), err.read()

    def check(self, document: dict, schema: dict):
        checker = jsonschema.validators.validator_for(schema, jsonschema.Draft202012Validator)
        checker(schema, format_checker=checker.FORMAT_CHECKER).validate(document)

    def test_every_link_leads_to_what_it_says(self):
        """All that links lead to from the first page on, each as its schema and media type say."""
        open_, seen = [(f"{self.url}/", "")], set[tuple[str, str]]()
        kinds: dict[str, int] = {}
        while open_ and len(seen) < 150:
            url, said = open_.pop()
            if (url, said) in seen:
                continue
            seen.add((url, said))
            status, kind, body = self.fetched(url)
            self.assertEqual(status, 200, url)
            if said:
                self.assertEqual(kind, said.partition(";")[0], url)
            if "json" not in kind:
                continue
            document = json.loads(body)
            path = urllib.parse.urlsplit(url).path
            self.check(document, schema_of(path))
            kinds[schema_of(path)["required"][0]] = kinds.get(schema_of(path)["required"][0], 0) + 1
            found = [document, *document.get("collections", []), *document.get("features", [])[:2]]
            if path not in ("/api", "/conformance") and "queryables" not in path:
                rels = {(link["rel"], link["type"]) for link in document["links"]}
                self.assertLessEqual({("self", kind), ("alternate", "text/html")}, rels, url)
            for own in found:
                links = own.get("links", []) if isinstance(own, dict) else []
                here = [link for link in links if link["href"].startswith(self.url)]
                open_ += [(link["href"], link.get("type", "")) for link in here]
        self.assertLessEqual(
            {"links", "conformsTo", "openapi", "id", "type", "$schema"}, set(kinds)
        )
        pages = {urllib.parse.urlsplit(url).path for url, _ in seen}
        for name in self.service.layers:
            self.assertIn(f"/collections/{name}/items", pages)

    def test_the_description_is_of_what_is_there(self):
        """Every path of it answers, with the media types that it says, and takes what it says."""
        api = json.loads(self.fetched(f"{self.url}/api")[2])
        for path, ways in api["paths"].items():
            if "queryables" in path or "{" in path:
                continue
            told = ways["get"]
            self.assertEqual({own["in"] for own in told["parameters"]}, {"query"})
            for kind in told["responses"]["200"]["content"]:
                query = "?f=html" if kind == "text/html" else ""
                status, found, _ = self.fetched(f"{self.url}{path}{query}")
                self.assertEqual((status, found), (200, kind.partition(";")[0]), path)
            schemas = {own["name"]: own["schema"] for own in told["parameters"]}
            for name, schema in schemas.items():
                if "default" in schema:
                    query = urllib.parse.urlencode({name: schema["default"]})
                    self.assertEqual(self.fetched(f"{self.url}{path}?{query}")[0], 200, query)
        limit = schemas["limit"]
        self.assertEqual([limit[k] for k in ("type", "minimum", "maximum")], ["integer", 1, 10_000])
        self.assertEqual(schemas["bbox"]["items"], {"type": "number"})
        for own in api["paths"]["/collections/buoys/items/{featureId}"]["get"]["parameters"]:
            self.assertEqual(own["required"], own["in"] == "path")
        self.assertLessEqual({"datetime", "filter", "filter-crs", "buoy"}, {
            own["name"] for own in api["paths"]["/collections/buoys/items"]["get"]["parameters"]
        })  # fmt: skip

    def test_examples_of_requests(self):
        """What clause 7 of the standards shows as requests, on collections of ours."""
        utm, crs84 = (
            "http://www.opengis.net/def/crs/EPSG/0/32633",
            "http://www.opengis.net/def/crs/OGC/1.3/CRS84",
        )
        for query, n in (
            ("limit=5", 5),
            ("limit=10&offset=85", 5),
            ("bbox=14.0,72.0,15.0,73.0&limit=1000", 89),
            (f"bbox=14.0,72.0,15.0,73.0&bbox-crs={crs84}&limit=1000", 89),
            (f"crs={utm}&limit=3", 3),
            ("filter=kind%20IS%20NOT%20NULL&filter-lang=cql2-text&limit=1", 1),
        ):
            status, kind, body = self.fetched(f"{self.url}/collections/buoys/items?{query}")
            document = json.loads(body)
            with self.subTest(query):
                self.assertEqual((status, kind), (200, "application/geo+json"), document)
                self.check(document, FEATURES)
                self.assertEqual((len(document["features"]), document["numberReturned"]), (n, n))

    def test_errors_are_as_the_standard_has_them(self):
        for path, status in (
            ("/collections/none", 404),
            ("/collections/buoys/items/none", 404),
            ("/collections/buoys/items?limit=many", 400),
            ("/collections/buoys/items?bbox=1,2,3", 400),
            ("/collections/buoys/items?colour=red", 400),
            ("/collections/buoys/items?crs=http://www.opengis.net/def/crs/EPSG/0/1", 400),
            ("/collections/buoys/items?filter=kind%20=&filter-lang=cql2-text", 400),
        ):
            found, kind, body = self.fetched(self.url + path)
            with self.subTest(path):
                self.assertEqual(found, status)
                self.assertIn("json", kind)
                self.check(json.loads(body), EXCEPTION)
