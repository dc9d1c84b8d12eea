"""Types of fields by the schema of a GML file (W3C XML Schema), where it lies beside the file."""

from __future__ import annotations

from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import unquote, urlsplit

import pyarrow as pa

from polygene.errors import FileError
from polygene.formats.markup import parsing
from polygene.formats.markup.parsing import local

_LOCATIONS = "{http://www.w3.org/2001/XMLSchema-instance}schemaLocation"
_WHOLE = (
    "integer", "int", "long", "short", "byte", "nonNegativeInteger", "positiveInteger", "unsignedInt",
    "unsignedShort", "unsignedByte", "negativeInteger", "nonPositiveInteger",
)  # fmt: skip
_TYPES: dict[str, pa.DataType] = {
    **dict.fromkeys(_WHOLE, pa.int64()),
    **dict.fromkeys(("decimal", "double", "float", "MeasureType", "LengthType"), pa.float64()),
    **dict.fromkeys(
        ("string", "CodeType", "ReferenceType", "anyURI", "time", "token"), pa.string()
    ),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "dateTime": pa.timestamp("ms", tz="UTC"),
}


def types_of(root: Any, tag: str, path: Path) -> dict[str, pa.DataType]:
    """Return the types of the fields of features with a tag; nothing if there is no schema beside."""
    for place in _places(root, path):
        try:
            schema = parsing.root_of(place, "XML Schema", ("schema",))
        except FileError:
            continue
        found = _fields(schema, local(tag))
        if found:
            return found
    return {}


def _places(root: Any, path: Path) -> list[Path]:
    """Return the files that the document names as its schemas, or that are called like it."""
    words = (root.get(_LOCATIONS) or "").split()
    names = [PurePosixPath(unquote(urlsplit(word).path)).name for word in words[1::2]]
    places = [path.parent / name for name in (*names, f"{path.stem}.xsd") if name.endswith(".xsd")]
    return [place for place in dict.fromkeys(places) if place.is_file()]


def _fields(schema: Any, name: str) -> dict[str, pa.DataType]:
    """Return the elements of the complex type that an element has, with those whose type is simple."""
    element = next((e for e in schema.iterfind("{*}element") if e.get("name") == name), None)
    if element is None:
        return {}
    wanted = (element.get("type") or "").rpartition(":")[2]
    holder = next(
        (t for t in schema.iterfind("{*}complexType") if t.get("name") == wanted), element
    )
    found: dict[str, pa.DataType] = {}
    for own in holder.iter("{*}element"):
        base = own.get("type")
        if base is None:
            inner = next(own.iter("{*}restriction", "{*}extension"), None)
            base = None if inner is None else inner.get("base")
        kind = _TYPES.get((base or "").rpartition(":")[2])
        if kind is not None and own.get("name"):
            found[own.get("name")] = kind
    return found
