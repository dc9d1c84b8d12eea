"""GeoJSON (RFC 7946): longitude and latitude, one layer a file."""

from polygene.formats.geojson.reading import layer_names, list_layers, read
from polygene.formats.geojson.writing import write

NAME = "GeoJSON"
ENDINGS = (".geojson", ".json")
KEEPS_LINEAGE = False
HOLDS_MANY = False
HOLDS_TABLES = False
READS_PART = False


def is_like(head: bytes) -> bool:
    """Whether a file begins as a JSON object does."""
    return head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{") and b"\0" not in head


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
    "write",
]
