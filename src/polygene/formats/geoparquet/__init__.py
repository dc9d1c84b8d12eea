"""GeoParquet 1.1: columns of attributes and one of geometry as WKB, compressed, read in parts."""

from polygene.formats.geoparquet.reading import (
    boxes_of,
    column_of,
    layer_names,
    list_layers,
    read,
    rows_of,
    staying_open,
)
from polygene.formats.geoparquet.writing import write, write_groups

NAME = "GeoParquet"
ENDINGS = (".parquet",)
KEEPS_LINEAGE = True
HOLDS_MANY = False
HOLDS_TABLES = True
READS_PART = True


def is_like(head: bytes) -> bool:
    """Whether a file begins as Parquet does."""
    return head.startswith(b"PAR1")


__all__ = [
    "ENDINGS",
    "HOLDS_MANY",
    "HOLDS_TABLES",
    "KEEPS_LINEAGE",
    "NAME",
    "READS_PART",
    "boxes_of",
    "column_of",
    "is_like",
    "layer_names",
    "list_layers",
    "read",
    "rows_of",
    "staying_open",
    "write",
    "write_groups",
]
