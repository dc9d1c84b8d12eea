"""Arrow IPC with GeoArrow extension types (format and extension types, version 0.2)."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import orjson
import pyarrow as pa

from polygene import proj
from polygene.arrow import ABOUT, NAME, PREFIX
from polygene.formats.arrow_ipc import table_in
from polygene.formats.arrow_tables import WKB_NAMES
from polygene.formats.clauses.finding import Finding, Judged

_DEPTHS = {
    "point": 0, "linestring": 1, "multipoint": 1, "polygon": 2, "multilinestring": 2, "multipolygon": 3
}  # fmt: skip
_CRS_TYPES = ("projjson", "wkt2:2019", "authority_code", "srid")


def judge(path: Path) -> Judged:
    """Hold an Arrow file or stream to its format."""
    try:
        table, is_file = table_in(path)
    except (pa.ArrowException, OSError, EOFError, UnicodeDecodeError) as err:
        words = str(err).splitlines()[0] if str(err) else "it ends too soon"
        return Judged("Arrow", "", [Finding("IPC", "the file", words, "refused")])
    findings = [one for field in table.schema for one in _of_field(field)]
    names = [_extension(field) for field in table.schema]
    if not any(name.startswith(PREFIX) or name in WKB_NAMES for name in names):
        words = "no column is of a GeoArrow type"
        findings.append(Finding("extension types", "the schema", words, "misread"))
    return Judged("Arrow", "IPC file" if is_file else "IPC stream", findings)


def _extension(field: pa.Field) -> str:
    return (field.metadata or {}).get(NAME, b"").decode("utf-8", "replace")


def _of_field(field: pa.Field) -> Iterator[Finding]:
    own, place = _extension(field), f"column {field.name}"
    if not own.startswith(PREFIX):
        return
    encoding = own.removeprefix(PREFIX)
    if encoding in _DEPTHS:
        if (said := _of_storage(field.type, _DEPTHS[encoding])) is not None:
            yield Finding("memory layout", place, said, "refused")
    elif encoding not in ("wkb", "wkt", "box", "geometry", "geometrycollection"):
        yield Finding("extension types", place, f"there is no type {own}", "refused")
    try:
        about = orjson.loads((field.metadata or {}).get(ABOUT, b"") or b"{}")
    except orjson.JSONDecodeError:
        about = None
    if not isinstance(about, dict):
        yield Finding("extension metadata", place, "they are no JSON object", "misread")
        return
    if about.get("crs_type", "projjson") not in _CRS_TYPES:
        words = f"crs_type is {about['crs_type']!r}, none of {', '.join(_CRS_TYPES)}"
        yield Finding("extension metadata", place, words, "misread")
    if isinstance(about.get("crs"), dict):
        try:
            proj.CRS.from_json_dict(about["crs"])
        except proj.CRSError:
            yield Finding("extension metadata", place, "its crs is no PROJJSON", "misread")


def _of_storage(kind: pa.DataType, depth: int) -> str | None:
    for _ in range(depth):
        if not (pa.types.is_list(kind) or pa.types.is_large_list(kind)):
            return f"it is of {kind} where a list is to be"
        kind = kind.value_type
    if pa.types.is_struct(kind):
        names = [kind.field(k).name for k in range(kind.num_fields)]
        if names not in (["x", "y"], ["x", "y", "z"], ["x", "y", "m"], ["x", "y", "z", "m"]):
            return f"its coordinates are {', '.join(names)}"
        return None
    if pa.types.is_fixed_size_list(kind) and 2 <= kind.list_size <= 4:
        return None
    return f"its coordinates are of {kind}"
