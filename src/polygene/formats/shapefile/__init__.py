"""Shapefile: several files that are one layer, names of ten characters."""

from pathlib import Path

from polygene.formats.shapefile.reading import list_layers, read
from polygene.formats.shapefile.writing import write

__all__ = ["is_like", "layer_names", "list_layers", "read", "write"]

NAME = "Shapefile"
ENDINGS = (".shp",)
KEEPS_LINEAGE = False
HOLDS_MANY = False
HOLDS_TABLES = False
READS_PART = False


def is_like(head: bytes) -> bool:
    """Whether a file begins with the code of a shapefile."""
    return head[:4] == b"\x00\x00\x27\x0a"


def layer_names(path: Path) -> list[str]:
    """Return the name of the one layer: that of the file."""
    return [path.stem]
