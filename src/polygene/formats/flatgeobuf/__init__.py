"""FlatGeobuf: a header, a packed index of boxes, and features one after the other as FlatBuffers."""

from polygene.formats.flatgeobuf.header import MAGIC
from polygene.formats.flatgeobuf.reading import layer_names, list_layers, read
from polygene.formats.flatgeobuf.writing import write, write_pieces

NAME = "FlatGeobuf"
ENDINGS = (".fgb",)
KEEPS_LINEAGE = True
HOLDS_MANY = False
HOLDS_TABLES = False
READS_PART = True


def is_like(head: bytes) -> bool:
    """Whether a file begins with the format's mark; the eighth byte is a patch number."""
    return head[:3] == MAGIC[:3] and head[4:7] == MAGIC[4:7]


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
    "write_pieces",
]
