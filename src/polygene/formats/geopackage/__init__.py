"""GeoPackage (OGC 12-128r19, version 1.4)."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from polygene.formats.geopackage.listing import layer_names, list_layers, table_names

if TYPE_CHECKING:
    from polygene.formats.geopackage.reading import read
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


def __getattr__(name: str) -> Any:
    """Load what reads and writes when it is asked for: names of layers need SQLite alone."""
    if name == "read":
        from polygene.formats.geopackage import reading

        return reading.read
    if name in ("write", "write_pieces"):
        from polygene.formats.geopackage import writing

        return getattr(writing, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


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
