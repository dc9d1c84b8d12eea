"""What the endings of files stand for; imports nothing, since the shell asks at each press of a key."""

from __future__ import annotations

from pathlib import Path

# Module by ending. Imported when needed, since reading one format should not load the others.
MODULES = {
    ".gpkg": "geopackage",
    ".parquet": "geoparquet",
    ".shp": "shapefile",
    ".geojson": "geojson",
    ".json": "geojson",
    ".geojsons": "sequences",
    ".geojsonl": "sequences",
    ".ndjson": "sequences",
    ".csv": "csv_tables",
    ".tsv": "csv_tables",
    ".fgb": "flatgeobuf",
    ".arrow": "arrow_ipc",
    ".arrows": "arrow_ipc",
    ".feather": "arrow_ipc",
    ".xlsx": "workbook",
    ".dbf": "dbase_tables",
    ".gpx": "gpx",
    ".kml": "kml",
    ".gml": "gml",
}
ENDINGS = tuple(MODULES)
KMZ = ".kmz"  # a .zip of .kml with pictures (OGC 12-007r2, annex C)
ZIPPED = (".zip", KMZ)
PACKED = (*ZIPPED, ".gz")
LINEAGE = ".lineage.json"  # of a layer beside its file


def may_hold_layers(path: Path) -> bool:
    """Whether the ending of a file is one that layers come in, packed or not."""
    if path.suffix.lower() == ".gz":
        return Path(path.stem).suffix.lower() in ENDINGS
    is_layer = path.suffix.lower() in (*ENDINGS, *ZIPPED)
    return is_layer and not path.name.endswith(LINEAGE)
