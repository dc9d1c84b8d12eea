"""Well-known text (OGC 06-103r4, 7.2), by way of the nested lists that GeoJSON has."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import orjson

from polygene.geometry import Family, GeometryColumn
from polygene.text.assemble import columns_of
from polygene.text.coordinates import parts_of

_KINDS = {
    name.upper(): name
    for name in ("Point", "MultiPoint", "LineString", "MultiLineString", "Polygon", "MultiPolygon")
}
_WKT = re.compile(
    r"\s*(?:SRID=\d+;)?\s*([A-Za-z]+)\s*(ZM|Z|M)?\s*(EMPTY\s*$|\(.*\)\s*$)", re.S | re.I
)


def parsed(text: str) -> dict[str, Any]:
    """Return a text as a GeoJSON geometry.

    Raises
    ------
    ValueError
        If it is none that is known.
    """
    match = _WKT.fullmatch(text)
    if match is None or match[1].upper() not in _KINDS:
        raise ValueError(text)
    kind = _KINDS[match[1].upper()]
    if match[3].upper().startswith("EMPTY"):
        return {"type": kind, "coordinates": []}
    body = match[3]
    if kind == "MultiPoint":
        body = re.sub(r"\(\s*([^()]+?)\s*\)", r"\1", body[body.index("(") + 1 : body.rindex(")")])
        body = f"({body})"
    if match[2] and match[2].upper() == "M":
        raise ValueError("M alone")
    lists = re.sub(r"[^(),]+", lambda m: _numbers(m[0]), body)
    coordinates = orjson.loads(lists.replace("(", "[").replace(")", "]"))
    return {"type": kind, "coordinates": coordinates[0] if kind == "Point" else coordinates}


def _numbers(text: str) -> str:
    if not text.strip():
        return ""
    return "[" + ",".join(repr(float(v)) for v in text.split()[:3]) + "]"


def members_of(text: str) -> list[GeometryColumn]:
    """Return a text as columns of one row: several of a collection, else one.

    Raises
    ------
    ValueError
        If it is none that is known.
    """
    match = re.match(r"\s*geometrycollection\s*z?\s*\(", text, re.I)
    if match is None:
        return [column_of(text)]
    body, depth, parts = text[match.end() : text.rindex(")")], 0, [""]
    for sign in body:
        depth += (sign == "(") - (sign == ")")
        if sign == "," and not depth:
            parts.append("")
        else:
            parts[-1] += sign
    return [column for part in parts for column in members_of(part)]


def column_of(text: str) -> GeometryColumn:
    """Return a text as a column of one row.

    Raises
    ------
    ValueError
        If it is none that is known.
    """
    geometry = parsed(text)
    row = np.zeros(1, np.int64)
    parts = [parts_of(geometry["type"], [geometry["coordinates"]], row)]
    nothing = np.zeros(1, bool)
    return columns_of(parts, 1, nothing, nothing, Family.POINTS)[0].geometry
