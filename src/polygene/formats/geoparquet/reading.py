"""Reading GeoParquet: groups of rows that may be wanted, and of those the rows."""

from __future__ import annotations

import contextlib
import functools
from collections.abc import Iterator, Sequence
from contextvars import ContextVar
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from polygene import computing as pc
from polygene import provenance
from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from, spans
from polygene.errors import FileError, reason_of
from polygene.formats import origins
from polygene.formats.arrow_tables import is_attribute, layers_from
from polygene.formats.arrow_types import kept, plain
from polygene.formats.base import Known, Reading
from polygene.formats.columns import (
    bytes_of,
    distinct_columns,
    from_bytes,
    from_wkb,
    info_of,
    layers_of,
    named,
    numbered,
    sum_of_wkb,
)
from polygene.formats.geoarrow import from_lists
from polygene.formats.geometry_said import said_of
from polygene.formats.geoparquet.groups import as_they_keep_them, groups_meeting, rows_meeting
from polygene.formats.geoparquet.stated import (
    crs_of,
    families_stated,
    geometry_in,
    metadata_of,
    own_columns,
    paths_of_box,
    stated_family,
)
from polygene.formats.wanted import ALL, Wanted
from polygene.formats.wkb_systems import in_system_of_wkb
from polygene.geometry import GeometryColumn
from polygene.info import NO_GEOMETRY, LayerInfo
from polygene.layer import Layer
from polygene.text.assemble import OfFamily

MOST_OPEN = 32
_kept: ContextVar[dict[Path, pq.ParquetFile] | None] = ContextVar("polygene_parquet", default=None)


@contextlib.contextmanager
def staying_open() -> Iterator[None]:
    """Let the last files that were read stay open while this lasts: their ends are read once.

    Nobody may change them meanwhile. They are few, since a work may read more than a process may open.
    """
    files: dict[Path, pq.ParquetFile] = {}
    token = _kept.set(files)
    try:
        yield
    finally:
        _kept.reset(token)
        for file in files.values():
            file.close()


def layer_names(path: Path) -> list[str]:
    return [path.stem]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layer from the file's own metadata, without reading its rows."""
    file = _open(path)
    found = geometry_in(file, path)
    if found is None:
        fields = [(f.name, str(f.type)) for f in file.schema_arrow]
        if any(not is_attribute(f) for f in file.schema_arrow):
            return [info_of(layer) for layer in read(path, path.stem).layers]
        return [LayerInfo(path.stem, NO_GEOMETRY, file.metadata.num_rows, None, None, fields)]
    geo, column = found
    about = geo["columns"][column]
    types = about.get("geometry_types") or []
    bbox = about.get("bbox")
    fields = [
        (f.name, str(f.type)) for f in file.schema_arrow if f.name not in own_columns(geo, column)
    ]
    if not types or not bbox:
        return [info_of(layer) for layer in read(path, path.stem).layers]
    words = " or ".join(t.lower().replace("linestring", "line") for t in types)
    half = len(bbox) // 2
    extent = (bbox[0], bbox[1], bbox[half], bbox[half + 1])
    return [
        LayerInfo(
            name=path.stem,
            geometry=words,
            n_rows=file.metadata.num_rows,
            crs=crs_of(about),
            extent=extent,
            fields=fields,
        )
    ]


def _open(path: Path) -> pq.ParquetFile:
    kept = _kept.get()
    if kept is not None and path in kept:
        kept[path] = kept.pop(path)  # the last that was asked for
        return kept[path]
    try:
        if origins.is_partial(path):
            _fetch_footer(path)
        file = pq.ParquetFile(path)
        if kept is not None:
            if len(kept) == MOST_OPEN:
                kept.pop(next(iter(kept))).close()
            kept[path] = file
        return file
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, ValueError) as err:
        raise FileError(f"{path} is damaged or cut short: {str(err).splitlines()[0]}") from err


def _fetch_footer(path: Path) -> None:
    """See to it that the end of a file is there, which tells where all else is."""
    size = path.stat().st_size
    origins.fill(path, [size - (1 << 16)], [size])
    with path.open("rb") as file:
        file.seek(max(0, size - 8))
        length = int.from_bytes(file.read(4), "little")
    origins.fill(path, [size - 8 - length], [size])


def _fetch(
    file: pq.ParquetFile, path: Path, groups: Sequence[int], names: Sequence[str] | None = None
) -> None:
    """See to it that groups of rows, or only some columns of them, are there."""
    if not origins.is_partial(path):
        return
    starts, stops = [], []
    for group in groups:
        own = file.metadata.row_group(group)
        for column in map(own.column, range(own.num_columns)):
            if names is not None and column.path_in_schema.split(".")[0] not in names:
                continue
            first = column.data_page_offset
            if column.has_dictionary_page and column.dictionary_page_offset is not None:
                first = min(first, column.dictionary_page_offset)
            starts.append(first)
            stops.append(first + column.total_compressed_size)
    origins.fill(path, starts, stops)


def read(path: Path, name: str, wanted: Wanted = ALL, known: Known | None = None) -> Reading:
    """Read the layer; geometry as WKB or in the native encodings.

    Of what is not wanted, groups of rows are left in the file: those outside the box by the
    statistics of the boxes of their rows, and those in which the filter keeps nothing.
    """
    file = _open(path)
    geometry_of = geometry_in(file, path)
    if geometry_of is None:
        return _plain_table(file, path, name)
    geo, column = geometry_of
    about = geo["columns"][column]
    try:
        names = file.schema_arrow.names
        wanted = wanted if len(set(names)) == len(names) else ALL
        families = families_stated(about)
        looked_at = None
        if len(families) == 1:
            own = own_columns(geo, column)
            looked_at = wanted.looked_at([name for name in names if name not in own])
        numbers, table = _rows(file, path, about, column, wanted, looked_at)
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, OSError) as err:
        raise FileError(f"{path} is damaged or cut short: {str(err).splitlines()[0]}") from err
    others = [other for other in geo["columns"] if other != column and other in names]
    notes = said_of(about, others, path)
    table = distinct_columns(table, path, notes)
    encoding, crs = str(about["encoding"]), crs_of(about)
    if looked_at is not None:
        nothing = replace(GeometryColumn.nulls(table.num_rows), family=families.pop())
        geometries = [OfFamily(np.arange(table.num_rows), nothing)]
    elif known is not None and list(known.sums) == [sum_of_wkb(table.column(column))]:
        geometries = [OfFamily(np.arange(table.num_rows), known.geometry)]
    elif encoding.upper() == "WKB":
        held = bytes_of(table.column(column))
        geometries = from_bytes(held, path, stated_family(about, wanted.family))
        crs = in_system_of_wkb(held, crs, path, notes)
    else:
        geometry = from_lists(table.column(column), encoding, path)
        geometries = [OfFamily(np.arange(geometry.n_rows), geometry)]
    attributes = table.drop_columns(list(own_columns(geo, column) & set(table.column_names)))
    attributes = plain(attributes, notes, path, wanted.types)
    reading = layers_of(
        path=path, geometries=geometries, table=attributes, crs=crs, ids=None, notes=notes
    )
    lineage = provenance.parse(metadata_of(file).get(b"lineage", b""))
    if lineage is not None:
        reading = Reading([replace(y, lineage=lineage) for y in reading.layers], notes)
    if table.num_rows < file.metadata.num_rows:
        n_rows = file.metadata.num_rows
        layers = [replace(y, total=n_rows, rows=numbered(y, numbers)) for y in reading.layers]
        reading = Reading(layers, reading.notes)
    return named(reading, path, name)


def rows_of(
    path: Path, groups: Sequence[int], keeps: BoolArray | None = None
) -> tuple[Layer, list[str]]:
    """Return the rows of some groups of a file, those that ``keeps`` (rows of the groups,) marks.

    Raises
    ------
    FileError
        If they cannot be read.
    """
    file = _open(path)
    found = geometry_in(file, path)
    if found is None:
        raise FileError(f"{path} has no geometry")
    geo, column = found
    about = geo["columns"][column]
    notes: list[str] = []
    try:
        table = file.read_row_groups(list(groups)) if groups else file.schema_arrow.empty_table()
        table = table if keeps is None else kept(table, keeps)
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, OSError) as err:
        raise FileError(f"{path} is damaged or cut short: {str(err).splitlines()[0]}") from err
    geometries = from_wkb(table.column(column), path, stated_family(about))
    attributes = table.drop_columns(list(own_columns(geo, column) & set(table.column_names)))
    attributes = plain(attributes, notes, path)
    reading = layers_of(
        path=path, geometries=geometries, table=attributes, crs=crs_of(about), ids=None, notes=notes
    )
    return reading.layers[0], notes


def boxes_of(path: Path, groups: Sequence[int]) -> F64Array:
    """Return the boxes (n, 4) of the rows of some groups, NaN for what is empty; from their column.

    Raises
    ------
    FileError
        If there is none, or it cannot be read.
    """
    file = _open(path)
    found = geometry_in(file, path)
    paths = paths_of_box(file, found[0]["columns"][found[1]]) if found else []
    if not paths:
        raise FileError(f"{path} has no column with the boxes of its rows")
    try:
        table = file.read_row_groups(list(groups), columns=list({name for name, _ in paths}))
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, OSError) as err:
        raise FileError(f"{path} is damaged or cut short: {str(err).splitlines()[0]}") from err
    corners = [pc.struct_field(table.column(name), part) for name, part in paths]
    return np.column_stack([np.asarray(pc.fill_null(c, np.nan), np.float64) for c in corners])


def column_of(path: Path, groups: Sequence[int], name: str) -> I64Array:
    """Return the whole numbers in a column of some groups of a file.

    Raises
    ------
    FileError
        If they cannot be read.
    """
    try:
        return np.asarray(_open(path).read_row_groups(list(groups), columns=[name]).column(0))
    except (pa.ArrowException, OSError, IndexError) as err:
        raise FileError(f"{path} is damaged or cut short: {str(err).splitlines()[0]}") from err


def _plain_table(file: pq.ParquetFile, path: Path, name: str) -> Reading:
    """Read a table of which nothing says that it has geometry; a column may be some all the same."""
    _fetch(file, path, range(file.num_row_groups))
    try:
        table = file.read()
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, OSError) as err:
        raise FileError(f"{path} is damaged or cut short: {str(err).splitlines()[0]}") from err
    return named(layers_from(table, path), path, name)


def _rows(
    file: pq.ParquetFile,
    path: Path,
    about: dict[str, Any],
    column: str,
    wanted: Wanted,
    looked_at: list[str] | None,
) -> tuple[I64Array, pa.Table]:
    """Read the rows that may be wanted, by groups of them and then one by one, and their numbers.

    Of ``looked_at`` columns alone, if they are given.
    """
    groups = list(range(file.num_row_groups))
    boxes = wanted.boxes(crs_of(about)) if wanted.box is not None else []
    paths = paths_of_box(file, about) if boxes else []
    if paths:
        boxes = as_they_keep_them(file, paths, boxes)
        groups = groups_meeting(
            file, about, column, paths, boxes, functools.partial(_fetch, file, path)
        )
    masks: list[BoolArray] = []
    names = wanted.fields(file.schema_arrow.names)
    if names and groups:
        kept_groups = []
        _fetch(file, path, groups, names)
        for group in groups:
            own: list[str] = []
            fields = plain(file.read_row_group(group, columns=names), own, path)
            rows = np.ones(fields.num_rows, bool) if own else wanted.rows(fields)
            if rows.any():
                kept_groups.append(group)
                masks.append(rows)
        groups = kept_groups
    sizes = [file.metadata.row_group(g).num_rows for g in range(file.num_row_groups)]
    starts = offsets_from(sizes)
    if wanted.span is not None:
        first, stop = wanted.span
        groups = [g for g in groups if starts[g] < stop and starts[g + 1] > first]
    _fetch(file, path, groups, looked_at)
    if len(groups) == file.num_row_groups:
        table = file.read(columns=looked_at)
    elif groups:
        table = file.read_row_groups(groups, columns=looked_at)
    else:
        table = file.schema_arrow.empty_table()
    keeps = np.concatenate(masks) if masks else np.ones(table.num_rows, bool)
    if paths:
        keeps &= rows_meeting(table, paths, boxes)
    numbers = spans(starts[:-1][groups], np.array(sizes, np.int64)[groups])
    if wanted.span is not None:
        keeps &= (numbers >= wanted.span[0]) & (numbers < wanted.span[1])
    return numbers[keeps], kept(table, keeps)
