"""A service of features: OGC API – Features, Part 1 (OGC 17-069r4), 2 (18-058r1) and 3 (19-079r2).

Its collections are layers. What is wanted of one is asked for as far as the service says it can do
that: a box, a filter in CQL2 text, coordinates as they are stored; the rest is done here.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlencode, urljoin, urlsplit, urlunsplit

import orjson

from polygene import crs as crs_module
from polygene import proj
from polygene.classes import dataclass
from polygene.errors import DataError, FileError
from polygene.geometry import Extent
from polygene.remote import cache, http
from polygene.remote.cache import Kept
from polygene.text import fg

PAGE = 10_000  # features asked for at a time; a service may send fewer
MOST_PAGES = 100_000
_CRS = "http://www.opengis.net/spec/ogcapi-features-2/1.0/conf/crs"
_FILTER = "http://www.opengis.net/spec/ogcapi-features-3/1.0/conf/features-filter"
_CQL2 = "http://www.opengis.net/spec/cql2/1.0/conf/cql2-text"
_BASIC = "http://www.opengis.net/spec/cql2/1.0/conf/basic-cql2"
_JSON = {"Accept": "application/geo+json, application/json;q=0.9"}
_DATA = ("data", "http://www.opengis.net/def/rel/ogc/1.0/data")
_CONFORMANCE = ("conformance", "http://www.opengis.net/def/rel/ogc/1.0/conformance")


@dataclass(frozen=True)
class Collection:
    """A collection as its service describes it.

    stored : the URI of the CRS that coordinates are asked for in, empty for longitude and latitude
    extent : in longitude and latitude; queryables : fields that a filter may name
    """

    id: str
    title: str
    description: str
    items: str
    stored: str
    extent: Extent | None
    licence: str
    credit: str
    queryables: str

    @property
    def crs(self) -> proj.CRS:
        return crs_module.of_uri(self.stored or crs_module.CRS84)


@dataclass(frozen=True)
class Service:
    """A service: its address, what it conforms to, its collections."""

    url: str
    conforms: frozenset[str]
    collections: tuple[Collection, ...]

    @property
    def takes_filter(self) -> bool:
        return {_FILTER, _CQL2, _BASIC} <= self.conforms

    def to_json(self) -> bytes:
        told = {
            "url": self.url,
            "conforms": sorted(self.conforms),
            "collections": [vars(own) for own in self.collections],
        }
        return orjson.dumps(told)

    @staticmethod
    def of_json(text: bytes) -> Service:
        told = orjson.loads(text)
        own = []
        for found in told["collections"]:
            if found["extent"] is not None:
                found["extent"] = tuple(found["extent"])
            own.append(Collection(**found))
        return Service(told["url"], frozenset(told["conforms"]), tuple(own))


def service_at(url: str) -> Service:
    """Ask a service what it has.

    Raises
    ------
    FileError
        If it cannot be reached, or is none.
    """
    landing, place = _document(url)
    links = _links(landing, place)
    data = _link(links, _DATA, "application/json")
    if data is None:
        raise FileError(
            f"{http.shown(url)} is no OGC API – Features: its first page has no link to collections; "
            "a file needs an ending that tells its format, as .geojson"
        )
    conformance = _link(links, _CONFORMANCE, "application/json")
    conforms: list[Any] = []
    if conformance is not None:
        _check_host(conformance, place)
        stated, _ = _document(conformance)
        conforms = stated.get("conformsTo") or []
    found: list[Collection] = []
    for document, at in _pages(data, place):
        told = [own for own in document.get("collections") or [] if isinstance(own, dict)]
        read = [_collection(own, at, _CRS in conforms) for own in told]
        found += [own for own in read if own is not None]
    return Service(place, frozenset(map(str, conforms)), tuple(found))


def _collection(told: dict[str, Any], place: str, takes_crs: bool) -> Collection | None:
    """Return a collection of features; None for one of something else."""
    links = _links(told, place)
    items = _link(links, ("items",), "application/geo+json", "application/json")
    if items is None or told.get("itemType", "feature") not in ("feature", "unknown"):
        return None
    stored = ""
    if takes_crs:
        offered = [str(uri) for uri in told.get("crs") or []]
        stored = str(told.get("storageCrs") or "")
        stored = stored if stored in offered or "#/crs" in offered else ""
        stored = "" if stored == crs_module.CRS84 or not _is_known(stored) else stored
    licence = next((own for own in links if own.get("rel") == "license"), {})
    return Collection(
        str(told.get("id")),
        str(told.get("title") or ""),
        str(told.get("description") or ""),
        items,
        stored,
        _extent(told),
        str(licence.get("title") or licence.get("href") or ""),
        str(told.get("attribution") or ""),
        _link(links, ("http://www.opengis.net/def/rel/ogc/1.0/queryables", "queryables"), "") or "",
    )


def _is_known(uri: str) -> bool:
    """Whether a URI names a CRS; longitude and latitude are asked for instead of one that does not."""
    try:
        crs_module.of_uri(uri)
    except DataError:
        return False
    return True


def _extent(told: Mapping[str, Any]) -> Extent | None:
    try:
        box = [float(v) for v in told["extent"]["spatial"]["bbox"][0]]
    except (KeyError, TypeError, IndexError, ValueError):
        return None
    if len(box) == 6:
        box = [*box[:2], *box[3:5]]
    return (box[0], box[1], box[2], box[3]) if len(box) == 4 else None


def _links(told: Mapping[str, Any], place: str) -> list[dict[str, Any]]:
    found = told.get("links")
    links = [own for own in found if isinstance(own, dict)] if isinstance(found, list) else []
    return [{**own, "href": urljoin(place, str(own.get("href") or ""))} for own in links]


def _link(links: Sequence[dict[str, Any]], rels: Sequence[str], *kinds: str) -> str | None:
    """Return where a link of some relation leads, of those of the first kind that there is."""
    own = [link for link in links if link.get("rel") in rels]
    for kind in kinds:
        for link in own:
            if str(link.get("type") or "").startswith(kind):
                return str(link["href"])
    untyped = [link for link in own if not link.get("type")]
    rest = untyped or ([] if any(kinds) else own)
    return str(rest[0]["href"]) if rest else None


def _check_host(url: str, of: str) -> None:
    """Refuse what a service says is on another host than itself."""
    if not http.is_remote(url) or _host(url) != _host(of):
        raise FileError(
            f"{http.shown(of)}: what comes next is said to be on another host, {http.shown(url)}; that "
            "is not followed"
        )


def _host(url: str) -> tuple[str | None, int | None]:
    parts = urlsplit(url)
    return parts.hostname, parts.port


def _document(url: str) -> tuple[dict[str, Any], str]:
    """Fetch a JSON object; return it and the address to which its links are."""
    kept = cache.fetched(url, headers=_JSON)
    return parsed(kept, url), kept.about.place or url


def parsed(kept: Kept, url: str) -> dict[str, Any]:
    """Return the JSON object of a document that was fetched.

    Raises
    ------
    FileError
        If it is none.
    """
    text = kept.place.read_bytes()
    try:
        found = orjson.loads(text)
    except orjson.JSONDecodeError as err:
        what = (
            "HTML, a page for people" if text.lstrip()[:1] == b"<" else f"no valid JSON ({err.msg})"
        )
        raise FileError(
            f"{http.shown(url)} answers with {what}; give the address of the service itself, or of a "
            "file with its ending"
        ) from err
    if not isinstance(found, dict):
        raise FileError(f"{http.shown(url)} answers with JSON that is no object")
    return found


def _pages(first: str, service: str) -> Iterator[tuple[dict[str, Any], str]]:
    """Yield the documents of a list, following its links to the next, and where each is from."""
    url, seen = first, set[str]()
    _check_host(first, service)
    while True:
        if url in seen or len(seen) > MOST_PAGES:
            raise FileError(
                f"{http.shown(service)}: its pages go round in a circle, at {http.shown(url)}"
            )
        seen.add(url)
        kept = cache.fetched(url, headers=_JSON)
        document = parsed(kept, url)
        document["polygene:kept"] = kept
        place = kept.about.place or url
        yield document, place
        following = _link(
            _links(document, place), ("next",), "application/geo+json", "application/json"
        )
        if following is None:
            return
        _check_host(following, service)
        url = following


@dataclass(frozen=True)
class Items:
    """Features that a service sent.

    of : the collection as it was asked for; features : as JSON has them; kept : the pages
    total : all that the collection has, if it is known
    """

    of: Collection
    features: list[dict[str, Any]]
    kept: list[Kept]
    total: int | None


def items_of(
    service: Service, own: Collection, box: Extent | None = None, filter_text: str | None = None
) -> Items:
    """Fetch the features of a collection, page by page.

    Parameters
    ----------
    box : in the CRS that the collection is asked for in
    filter_text : CQL2 text, where the service takes it

    Raises
    ------
    FileError
        If something cannot be fetched, or another number comes than is said.
    """
    query: dict[str, str] = {"limit": str(PAGE)}
    if own.stored:
        query["crs"] = own.stored
    if box is not None:
        is_turned = own.stored and crs_module.begins_north(own.crs)
        x0, y0, x1, y1 = box
        query["bbox"] = ",".join(map(repr, (y0, x0, y1, x1) if is_turned else (x0, y0, x1, y1)))
        if own.stored:
            query["bbox-crs"] = own.stored
    if filter_text is not None:
        query |= {"filter": filter_text, "filter-lang": "cql2-text"}
    features: list[dict[str, Any]] = []
    kept: list[Kept] = []
    matched: int | None = None
    came = own
    for k, (document, url) in enumerate(_pages(with_query(own.items, query), service.url)):
        found = document.get("features")
        if document.get("type") != "FeatureCollection" or not isinstance(found, list):
            raise FileError(f"{http.shown(url)}, page {k + 1}, is no GeoJSON feature collection")
        kept.append(document.pop("polygene:kept"))
        if not _is_as_asked(kept[-1], own):
            # What is in no stated CRS is asked for in that which needs no statement.
            return items_of(service, replace(own, stored=""), None, filter_text)
        try:
            placed, uri = fg.placed(found, document)
        except fg.PlaceError as err:
            raise FileError(f"{http.shown(url)}, page {k + 1}: {err}") from err
        if uri is not None:  # JSON-FG, though GeoJSON was asked for
            came = replace(own, stored=uri)
        features += placed
        told = document.get("numberMatched")
        if kept[-1].is_offline != kept[0].is_offline or (matched is not None and told != matched):
            raise FileError(f"{http.shown(own.items)}: its pages are not of one state; try again")
        matched = told if isinstance(told, int) else None
    _check_once(features, own)
    if matched is not None and matched != len(features):
        raise FileError(
            f"{http.shown(own.items)} says that {matched:,} features match and sent {len(features):,}; "
            "they change while they are read, or it is at fault: try again"
        )
    total = matched
    if len(query) > 1 + ("crs" in query):
        _, total = first_of(own)
    return Items(came, features, kept, total)


def _check_once(features: list[dict[str, Any]], own: Collection) -> None:
    """Refuse features that came twice: what is counted right may lack others then."""
    ids = [repr(feature["id"]) for feature in features if "id" in feature]
    if len(set(ids)) < len(ids):
        raise FileError(
            f"{http.shown(own.items)} sent a feature twice; they change while they are read, or its "
            "pages are not in one order: try again"
        )


def first_of(own: Collection) -> tuple[dict[str, Any] | None, int | None]:
    """Return the first feature of a collection, and how many it has as far as the service says."""
    query = {"limit": "1"} | ({"crs": own.stored} if own.stored else {})
    document, _ = _document(with_query(own.items, query))
    told, found = document.get("numberMatched"), document.get("features")
    first = found[0] if isinstance(found, list) and found and isinstance(found[0], dict) else None
    return first, told if isinstance(told, int) else None


def schema_of(own: Collection) -> dict[str, Any]:
    """Return what a service says of the fields that a filter may name; nothing if it does not say."""
    if not own.queryables:
        return {}
    _check_host(own.queryables, own.items)
    document, _ = _document(own.queryables)
    told = document.get("properties")
    return told if isinstance(told, dict) else {}


def _is_as_asked(kept: Kept, own: Collection) -> bool:
    """Whether a page is in the CRS that was asked for, as its header says (OGC 18-058r1, 6.3)."""
    if not own.stored:
        return True
    told = kept.about.crs
    return bool(told) and (
        told == own.stored or crs_module.is_same(crs_module.of_uri(told), own.crs)
    )


def with_query(url: str, query: Mapping[str, str]) -> str:
    """Return an address with a query in place of what it had of the same names."""
    parts = urlsplit(url)
    kept = [(n, v) for n, v in parse_qsl(parts.query, keep_blank_values=True) if n not in query]
    return urlunsplit(parts._replace(query=urlencode([*kept, *query.items()])))


def descriptor(service: Service, place: Path) -> Path:
    """Write down what a service has, where readers of files find it."""
    place.parent.mkdir(parents=True, exist_ok=True)
    handle, new = tempfile.mkstemp(dir=place.parent)
    with open(handle, "wb") as file:
        file.write(service.to_json())
    os.replace(new, place)  # another run may read it just now
    return place


def described(place: Path) -> Service:
    """Return the service that a file describes."""
    return Service.of_json(place.read_bytes())
