"""A folder of GeoParquet as one layer: parts in the order of a curve through the plane, and an index.

Written for layers of any size, readable by whatever reads a folder of GeoParquet 1.1.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from polygene import provenance
from polygene.arrays import I64Array
from polygene.commit.together import replacing_folder
from polygene.errors import FileError, reason_of
from polygene.formats import geoparquet
from polygene.formats.base import Known, Reading, Way, Written, only_one
from polygene.formats.differences import FaultError, changes_read, check_count
from polygene.formats.joining import joined
from polygene.formats.parquet_parts.index import (
    NAME as INDEX,
)
from polygene.formats.parquet_parts.index import (
    Index,
    PartFacts,
    extent_of_boxes,
    files_in,
    read_index,
)
from polygene.formats.parquet_parts.order import Cells, Ordered, groups_of, ordered
from polygene.formats.wanted import ALL, Wanted
from polygene.geometry import GeometryColumn
from polygene.info import LayerInfo
from polygene.layer import Layer

NAME = "a folder of GeoParquet"
ENDINGS = (".parquet",)
KEEPS_LINEAGE = True
HOLDS_MANY = False
HOLDS_TABLES = False
READS_PART = True


def is_folder(path: Path) -> bool:
    """Whether a path is such a folder, by its name."""
    return path.suffix.lower() == ".parquet" and path.is_dir()


def is_like(head: bytes) -> bool:
    """Whether a file begins as one of these: none does, for it is a folder."""
    del head
    return False


def layer_names(path: Path) -> list[str]:
    return [path.stem]


def parts_of(path: Path) -> tuple[list[Path], Index | None]:
    """Return the files of a folder in their order, and its index if it has one.

    Raises
    ------
    FileError
        If there is none, or not those that the index names.
    """
    index = read_index(path)
    files = files_in(path) if index is None else [path / part.file for part in index.parts]
    if not files and index is None:
        raise FileError(f"{path} holds no Parquet file")
    return files, index


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layer from the files' own metadata."""
    files, _ = parts_of(path)
    if not files:
        return [replace(_empty_info(path), name=path.stem)]
    found = [geoparquet.list_layers(file)[0] for file in files]
    extents = [one.extent for one in found if one.extent is not None]
    extent = None
    if extents:
        boxes = np.array(extents)
        extent = extent_of_boxes(boxes)
    first = next((one for one in found if one.n_rows), found[0])
    n_rows = sum(one.n_rows for one in found)
    return [replace(first, name=path.stem, n_rows=n_rows, extent=extent)]


def _empty_info(path: Path) -> LayerInfo:
    return LayerInfo(path.stem, "nothing", 0, None, None)


def read(path: Path, name: str, wanted: Wanted = ALL) -> Reading:
    """Read all parts as one layer, but those that lie outside a box that is wanted.

    Raises
    ------
    DataError
        If they differ in kind, CRS or fields.
    """
    files, index = parts_of(path)
    if index is not None and wanted.box is not None:
        boxes = wanted.boxes(like_of(path, index, name).crs)
        near = [k for k, part in enumerate(index.parts) if any(_meets(part, b) for b in boxes)]
        files = [files[k] for k in near or [0]][: len(files)]
    readings, counts = [], []
    for file in files:
        reading = geoparquet.read(file, file.stem, wanted)
        readings.append(reading)
        counts.append(reading.layers[0].n_total)
    found = joined(str(path), path.stem, readings, [f.name for f in files])
    layer = found.layers[0]
    total = sum(counts) if index is None else index.n_rows
    if layer.n_rows < total:
        first = _first_rows(files, counts, index)
        rows = [
            first[k] + (np.arange(y.n_rows) if y.rows is None else y.rows)
            for k, y in enumerate(reading.layers[0] for reading in readings)
        ]
        layer = replace(layer, total=total, rows=np.concatenate(rows))
    if index is not None and index.lineage:
        layer = replace(layer, lineage=provenance.parse(index.lineage))
    return Reading([layer], found.notes)


def like_of(path: Path, index: Index, name: str) -> Layer:
    """Return the layer of a folder without its rows: its CRS, fields and lineage, and what kind it is.

    Raises
    ------
    FileError
        If no part can be read.
    """
    first = next((part for part in index.parts if part.n_rows), index.parts[0])
    like, _ = geoparquet.rows_of(path / first.file, [])
    lineage = provenance.parse(index.lineage) if index.lineage else None
    return replace(like, name=name, rows=None, total=None, lineage=lineage)


def _first_rows(files: Sequence[Path], counts: Sequence[int], index: Index | None) -> list[int]:
    """Return the row of the layer that each file begins with."""
    if index is None:
        return (np.cumsum(counts) - np.array(counts)).tolist()
    before = {}
    n_rows = 0
    for part in index.parts:
        before[part.file] = n_rows
        n_rows += part.n_rows
    return [before[file.name] for file in files]


def _meets(part: PartFacts, box: tuple[float, float, float, float]) -> bool:
    extent = extent_of_boxes(part.boxes)
    if extent is None:
        return False
    return (
        extent[0] <= box[2] and extent[2] >= box[0] and extent[1] <= box[3] and extent[3] >= box[1]
    )


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write the one layer as parts of about 100 MB, in the order of the curve.

    Raises
    ------
    DataError
        If there are several.
    FileError
        If they cannot be written.
    """
    layer = only_one(path, layers, "a folder of GeoParquet")
    with replacing_folder(path) as folder:
        rows = ordered(layer)
        ranges = Cells.of(rows).parts() or [(0, 0)]
        starts = np.searchsorted(rows.cells, [first for first, _ in ranges])
        stops = [*starts[1:].tolist(), rows.layer.n_rows]
        parts = [
            write_part(folder, k, cut_out(rows, start, stop))
            for k, (start, stop) in enumerate(zip(starts.tolist(), stops, strict=True))
        ]
        lineage = "" if layer.lineage is None else layer.lineage.to_json()
        write_index(folder, Index(parts, *_kind(layer.geometry), lineage))
    return Written([], [replace(rows.layer, rows=None)])


def cut_out(rows: Ordered, start: int, stop: int) -> Ordered:
    """Return some of the rows, in their order."""
    if start == 0 and stop == rows.layer.n_rows:
        return rows
    at = np.arange(start, stop)
    return Ordered(rows.layer.take(at), rows.places[start:stop], rows.sizes[start:stop])


def _kind(column: GeometryColumn) -> tuple[str, bool, str]:
    heights = ("" if column.z is None else "Z") + ("" if column.m is None else "M")
    return column.family.words, column.is_multi, heights


def write_part(folder: Path, number: int, rows: Ordered, proves: bool = False) -> PartFacts:
    """Write one part, and return what the index is to say of it.

    With ``proves`` it is read again and compared with what was meant.

    Raises
    ------
    FileError
        If it cannot be written, or is not what was meant.
    """
    file = f"p{number:05d}.parquet"
    groups = groups_of(rows.sizes)
    place = folder / file
    try:
        layer = replace(rows.layer, lineage=None)
        bounds, sums = geoparquet.write_groups(place, layer, groups)
        with place.open("rb") as written:
            checksum = hashlib.file_digest(written, "sha256").hexdigest()
        size = place.stat().st_size
    except OSError as err:
        raise FileError(f"cannot write {place}: {reason_of(err)}") from err
    if proves:
        _prove(place, layer, groups, sums)
    facts = facts_of(rows.layer.geometry, bounds, groups)
    return PartFacts(file, size, checksum, *facts)


def _prove(place: Path, layer: Layer, groups: I64Array, sums: Sequence[int]) -> None:
    """Read each group of rows again, one after the other: a part is much for a process of several."""
    try:
        check_count(geoparquet.list_layers(place)[0].n_rows, layer.n_rows)
        for first, stop, own in zip(groups[:-1].tolist(), groups[1:].tolist(), sums, strict=True):
            meant = layer.take(np.arange(first, stop))
            wanted, known = Wanted(span=(first, stop)), Known(meant.geometry, [own])
            found = geoparquet.read(place, place.stem, wanted, known).layers
            changes_read(replace(meant, rows=np.arange(first, stop)), found, Way())
    except FaultError as err:
        raise FileError(
            f"{place} is not written: read again, it does not hold what was meant ({err}). If there "
            "is room on the disk, this is a fault of polygene; please report it"
        ) from err


def facts_of(
    column: GeometryColumn, bounds: np.ndarray, groups: I64Array
) -> tuple[I64Array, I64Array, np.ndarray]:
    """Return the rows, vertices and boxes of groups of rows, (n_groups + 1,) offsets."""
    n_groups = len(groups) - 1
    boxes = np.full((n_groups, 4), np.nan)
    if n_groups:
        low, high = bounds[:, :2], bounds[:, 2:]
        has = np.isfinite(bounds).all(axis=1)
        low, high = np.where(has[:, None], low, np.inf), np.where(has[:, None], high, -np.inf)
        boxes[:, :2] = np.minimum.reduceat(low, groups[:-1])
        boxes[:, 2:] = np.maximum.reduceat(high, groups[:-1])
        boxes[~np.isfinite(boxes).all(axis=1)] = np.nan
    return np.diff(groups), np.diff(column.vertex_offsets_of_rows[groups]), boxes


def write_index(folder: Path, index: Index) -> None:
    """Write the index of a folder whose parts are there.

    Raises
    ------
    FileError
        If it cannot be.
    """
    try:
        (folder / INDEX).write_bytes(index.to_json())
    except OSError as err:
        raise FileError(f"cannot write {folder / INDEX}: {reason_of(err)}") from err
