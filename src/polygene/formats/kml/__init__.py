"""KML 2.3 (OGC 12-007r2), and older versions of it: longitude and latitude, a folder for each layer."""

from polygene.formats.kml.reading import describe, layer_names, list_layers, read
from polygene.formats.kml.writing import write
from polygene.formats.markup.parsing import is_xml as is_like

NAME = "KML"
ENDINGS = (".kml",)
KEEPS_LINEAGE = False
HOLDS_MANY = True
HOLDS_TABLES = False
READS_PART = False

__all__ = [
    "ENDINGS",
    "HOLDS_MANY",
    "HOLDS_TABLES",
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
