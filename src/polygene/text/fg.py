"""Features of JSON-FG (OGC 21-045r1): geometry in a CRS of its own, as the member ``place``."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from operator import methodcaller
from typing import Any

_CURIE = re.compile(r"\[([A-Za-z]+):([^\]:]+)\]")
_get_place = methodcaller("get", "place")


class PlaceError(ValueError):
    """Places that are in no CRS that a layer can be in."""


def placed(
    features: Sequence[dict[str, Any]], document: Mapping[str, Any]
) -> tuple[Sequence[dict[str, Any]], str | None]:
    """Return features with their place as geometry and the URI of its CRS, if they have one.

    Without a place, geometry is as in GeoJSON, in longitude and latitude (7.4 and 7.5).

    Raises
    ------
    PlaceError
        If places are in several CRS, in none that has a URI, or some features have none.
    """
    places = list(map(_get_place, features))
    if dict not in set(map(type, places)):
        return features, None
    stated = [
        _uri(place.get("coordRefSys") or own.get("coordRefSys") or document.get("coordRefSys"))
        for own, place in zip(features, places, strict=True)
        if isinstance(place, dict)
    ]
    uris = list(dict.fromkeys(stated))
    if len(uris) > 1:
        raise PlaceError(f"places are in several CRS: {', '.join(map(str, uris[:4]))}")
    rest = [own for own, place in zip(features, places, strict=True) if place is None]
    if any(own.get("geometry") is not None for own in rest):
        raise PlaceError("some features have a place in another CRS, and some only a geometry")
    return [{**own, "geometry": place} for own, place in zip(features, places, strict=True)], uris[
        0
    ]


def _uri(stated: Any) -> str | None:
    """Return the URI that a statement of a CRS means; None if there is no statement."""
    if isinstance(stated, dict):
        stated = stated.get("href")
    if stated is None:
        return None
    found = _CURIE.fullmatch(stated) if isinstance(stated, str) else None
    if found:
        return f"http://www.opengis.net/def/crs/{found[1]}/0/{found[2]}"
    if not isinstance(stated, str):
        raise PlaceError(f"the CRS of places is {str(stated)[:60]}, which is no single one")
    return stated
