"""Files held to their standards, clause by clause: what is not as is written there, and if it matters.

Each module here judges one format; it reads the bytes itself where a reader would be lenient.
"""

from __future__ import annotations

import importlib
from pathlib import Path

from polygene.errors import FileError, PolygeneError
from polygene.formats import origins
from polygene.formats.clauses.finding import Finding, Judged
from polygene.formats.registry import format_of, readable_format

__all__ = ["Finding", "Judged", "judged"]

_MODULES = {
    "GeoPackage": "geopackage",
    "GeoParquet": "geoparquet",
    "FlatGeobuf": "flatgeobuf",
    "Shapefile": "shapefile",
    "GeoJSON": "geojson",
    "GeoJSON sequence": "geojson",
    "CSV": "tables",
    "Arrow": "arrow",
    "KML": "marked",
    "GPX": "marked",
    "GML": "marked",
}


def judged(path: Path) -> Judged:
    """Hold a file to the standard of its format.

    Raises
    ------
    FileError
        If there is no such file, or none is known for its ending.
    """
    name = format_of(path).NAME
    if name not in _MODULES:
        raise FileError(f"{path}: there are no clauses for a {name}, which has no geometry")
    origins.whole(path)
    module = importlib.import_module(f"polygene.formats.clauses.{_MODULES[name]}")
    try:
        source = readable_format(path)
    except PolygeneError as err:
        if not path.is_file() or path.stat().st_size == 0:
            raise
        return Judged(name, "", [Finding("", "the file", str(err), "refused")])
    found: Judged = module.judge(path)
    is_read = name != "CSV" and not any(one.weight == "refused" for one in found.findings)
    if is_read:
        for layer in _names(path, found):
            try:
                source.read(path, layer)
            except PolygeneError as err:
                found.findings.append(Finding("", f"layer {layer}", str(err), "refused"))
    return found


def _names(path: Path, found: Judged) -> list[str]:
    try:
        return format_of(path).layer_names(path)
    except PolygeneError as err:
        found.findings.append(Finding("", "the file", str(err), "refused"))
        return []
