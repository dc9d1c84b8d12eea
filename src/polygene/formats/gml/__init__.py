"""GML, simple features profile of level 0 (OGC 10-100r3), and older versions alike. It is only read."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from polygene.errors import FileError
from polygene.formats.base import Written
from polygene.formats.gml.reading import describe, layer_names, list_layers, read
from polygene.formats.markup.parsing import is_xml as is_like
from polygene.layer import Layer

NAME = "GML"
ENDINGS = (".gml",)
KEEPS_LINEAGE = False
HOLDS_MANY = True
HOLDS_TABLES = False
READS_PART = False
IS_ONLY_READ = True
INSTEAD = ".gpkg or .geojson"


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Refuse: GML is only read."""
    del layers
    raise FileError(f"{path}: a GML is only read here; write {INSTEAD}")


__all__ = [
    "ENDINGS",
    "HOLDS_MANY",
    "HOLDS_TABLES",
    "INSTEAD",
    "IS_ONLY_READ",
    "KEEPS_LINEAGE",
    "NAME",
    "READS_PART",
    "describe",
    "is_like",
    "layer_names",
    "list_layers",
    "read",
    "write",
]
