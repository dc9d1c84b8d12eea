"""GeoPackage (OGC 12-128r19, version 1.4)."""

from polygene.formats.geopackage.reading import (
    layer_names,
    list_layers,
    read,
    table_names,
)
from polygene.formats.geopackage.writing import write, write_pieces

NAME = "GeoPackage"
ENDINGS = (".gpkg",)
KEEPS_LINEAGE = True
HOLDS_MANY = True
HOLDS_TABLES = True
READS_PART = True


def is_like(head: bytes) -> bool:
    """Whether a file begins as an SQLite database does."""
    return head.startswith(b"SQLite format 3\0")


__all__ = [
    "ENDINGS",
    "HOLDS_MANY",
    "HOLDS_TABLES",
    "KEEPS_LINEAGE",
    "NAME",
    "READS_PART",
    "is_like",
    "layer_names",
    "list_layers",
    "read",
    "table_names",
    "write",
    "write_pieces",
]
