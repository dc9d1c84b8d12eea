"""GeoParquet 1.1: columns of attributes and one of geometry as WKB, compressed, read in parts."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import pyproj

from polygene import crs as crs_module
from polygene import provenance
from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from, spans
from polygene.commit.together import replacing
from polygene.errors import FileError, reason_of
from polygene.formats import origins
from polygene.formats.arrow_tables import is_attribute, layers_from
from polygene.formats.arrow_types import plain
from polygene.formats.base import Known, Reading, Written, only_one
from polygene.formats.columns import (
    distinct_columns,
    from_wkb,
    info_of,
    layers_of,
    named,
    numbered,
    sum_of_wkb,
    to_wkb,
)
from polygene.formats.geoarrow import from_lists
from polygene.formats.hilbert import order_to_write
from polygene.formats.wanted import ALL, Wanted
from polygene.geometry import Extent, Family, GeometryColumn, extent_of
from polygene.layer import NO_GEOMETRY, Layer, LayerInfo, distinct_name
from polygene.notes import Warned
from polygene.text.assemble import OfFamily

NAME = "GeoParquet"
ENDINGS = (".parquet",)
KEEPS_LINEAGE = True
HOLDS_MANY = False
HOLDS_TABLES = True
READS_PART = True
_TYPES = {Family.POINTS: "Point", Family.LINES: "LineString", Family.POLYGONS: "Polygon"}
_FAMILIES = {name: family for family, name in _TYPES.items()}
ROW_GROUP = 8_192  # rows read together: few, so that a corner of a large layer is read alone


def is_like(head: bytes) -> bool:
    """Whether a file begins as Parquet does."""
    return head.startswith(b"PAR1")


def layer_names(path: Path) -> list[str]:
    return [path.stem]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layer from the file's own metadata, without reading its rows."""
    file = _open(path)
    found = _geo(file, path)
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
        (f.name, str(f.type)) for f in file.schema_arrow if f.name not in _own_columns(geo, column)
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
            crs=_crs(about),
            extent=extent,
            fields=fields,
        )
    ]


def _open(path: Path) -> pq.ParquetFile:
    try:
        if origins.is_partial(path):
            _fetch_footer(path)
        return pq.ParquetFile(path)
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
    file: pq.ParquetFile, path: Path, groups: Sequence[int], names: Sequence[str] = ()
) -> None:
    """See to it that groups of rows, or only some columns of them, are there."""
    if not origins.is_partial(path):
        return
    starts, stops = [], []
    for group in groups:
        own = file.metadata.row_group(group)
        for column in map(own.column, range(own.num_columns)):
            if names and column.path_in_schema.split(".")[0] not in names:
                continue
            first = column.data_page_offset
            if column.has_dictionary_page and column.dictionary_page_offset is not None:
                first = min(first, column.dictionary_page_offset)
            starts.append(first)
            stops.append(first + column.total_compressed_size)
    origins.fill(path, starts, stops)


def _geo(file: pq.ParquetFile, path: Path) -> tuple[dict[str, Any], str] | None:
    """Return what is stated of the geometry, and its column; None if the file is a plain table."""
    raw = _metadata_of(file).get(b"geo")
    native = None if raw else _own_type(file)
    if native is not None:
        return native
    if raw is None:
        return None
    try:
        geo: dict[str, Any] = orjson.loads(raw or b"{}")
        column = str(geo["primary_column"])
        about = geo["columns"][column] = _well_formed(geo["columns"][column])
        if not isinstance(about["encoding"], str):
            raise TypeError("an encoding is a name")
    except (orjson.JSONDecodeError, KeyError, TypeError, AttributeError) as err:
        raise FileError(
            f"{path}: its 'geo' metadata are not those of GeoParquet, so its geometry cannot be found"
        ) from err
    if column not in file.schema_arrow.names:
        raise FileError(f"{path}: its metadata name a geometry column {column!r} that is not there")
    return geo, column


def _metadata_of(file: pq.ParquetFile) -> dict[bytes, bytes]:
    """Return the file's key-value metadata, with those that only its Arrow schema has."""
    return {**(file.schema_arrow.metadata or {}), **(file.metadata.metadata or {})}


def _own_type(file: pq.ParquetFile) -> tuple[dict[str, Any], str] | None:
    """Return what GeoParquet would state of the first column of Parquet's own type of geometry.

    Its CRS is a PROJJSON, a key of the metadata with one, or a code; longitude and latitude if it says
    none (Parquet logical types, "GEOMETRY" and "GEOGRAPHY").
    """
    schema, names = file.schema, file.schema_arrow.names
    for k in range(len(schema)):
        found = schema.column(k).logical_type
        if found.type not in ("GEOMETRY", "GEOGRAPHY") or schema.column(k).path not in names:
            continue
        stated = str(orjson.loads(found.to_json()).get("crs") or "")
        about: dict[str, Any] = {"encoding": "WKB"}
        if found.type == "GEOGRAPHY":
            about["edges"] = "spherical"
        kind, _, key = stated.partition(":")
        if kind.casefold() == "projjson":
            stated = _metadata_of(file).get(key.encode(), b"").decode("utf-8", "replace")
        if kind.casefold() == "srid":
            stated = f"EPSG:{key}" if key not in ("", "0") else ""
            about["crs"] = stated or None
        elif stated:
            about["crs"] = orjson.loads(stated) if stated.startswith("{") else stated
        return {
            "primary_column": schema.column(k).path,
            "columns": {schema.column(k).path: about},
        }, (schema.column(k).path)
    return None


def _well_formed(about: dict[str, Any]) -> dict[str, Any]:
    """Return what is stated of a geometry column without those hints that are not of their shape.

    Raises
    ------
    AttributeError
        If it is no object.
    """
    types, bbox, covering = (about.get(key) for key in ("geometry_types", "bbox", "covering"))
    box = covering.get("bbox") if isinstance(covering, dict) else None
    is_well = {
        "geometry_types": isinstance(types, list) and all(isinstance(t, str) for t in types),
        "bbox": isinstance(bbox, list)
        and len(bbox) in (4, 6)
        and all(isinstance(v, (int, float)) for v in bbox),
        "covering": isinstance(box, dict)
        and all(
            isinstance(v, list) and len(v) == 2 and all(isinstance(name, str) for name in v)
            for v in box.values()
        ),
    }
    return {key: value for key, value in about.items() if is_well.get(key, True)}


def _own_columns(geo: dict[str, Any], column: str) -> set[str]:
    """Return the columns that are no attributes: the geometry and the box of each row."""
    covering = geo["columns"][column].get("covering") or {}
    box = covering.get("bbox") or {}
    return {column, *(v[0] for v in box.values() if isinstance(v, list) and v)}


def _crs(about: dict[str, Any]) -> pyproj.CRS | None:
    if "crs" not in about:
        return crs_module.parse(crs_module.LONGITUDE_LATITUDE)
    if about["crs"] is None:
        return None
    text = about["crs"]
    return crs_module.parse(text if isinstance(text, str) else orjson.dumps(text).decode())


def read(path: Path, name: str, wanted: Wanted = ALL, known: Known | None = None) -> Reading:
    """Read the layer; geometry as WKB or in the native encodings.

    Of what is not wanted, groups of rows are left in the file: those outside the box by the
    statistics of the boxes of their rows, and those in which the filter keeps nothing.
    """
    file = _open(path)
    geometry_of = _geo(file, path)
    if geometry_of is None:
        return _plain_table(file, path, name)
    geo, column = geometry_of
    about = geo["columns"][column]
    try:
        names = file.schema_arrow.names
        numbers, table = _rows(file, path, about, wanted if len(set(names)) == len(names) else ALL)
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, OSError) as err:
        raise FileError(f"{path} is damaged or cut short: {str(err).splitlines()[0]}") from err
    notes: list[str] = []
    if about.get("edges", "planar") != "planar":
        notes.append(
            Warned(
                f"{path.name}: its edges follow the globe ({about['edges']}); they are taken as "
                "straight in longitude and latitude, which differs where they are long"
            )
        )
    table = distinct_columns(table, path, notes)
    encoding = str(about["encoding"])
    if known is not None and list(known.sums) == [sum_of_wkb(table.column(column))]:
        geometries = [OfFamily(np.arange(table.num_rows), known.geometry)]
    elif encoding.upper() == "WKB":
        geometries = from_wkb(table.column(column), path, _stated_family(about))
    else:
        geometry = from_lists(table.column(column), encoding, path)
        geometries = [OfFamily(np.arange(geometry.n_rows), geometry)]
    attributes = table.drop_columns(list(_own_columns(geo, column) & set(table.column_names)))
    attributes = plain(attributes, notes, path)
    reading = layers_of(
        path=path, geometries=geometries, table=attributes, crs=_crs(about), ids=None, notes=notes
    )
    own = provenance.parse(_metadata_of(file).get(b"lineage", b""))
    if own is not None:
        reading = Reading([replace(y, lineage=own) for y in reading.layers], notes)
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
    found = _geo(file, path)
    if found is None:
        raise FileError(f"{path} has no geometry")
    geo, column = found
    about = geo["columns"][column]
    notes: list[str] = []
    try:
        table = file.read_row_groups(list(groups)) if groups else file.schema_arrow.empty_table()
        if keeps is not None and not keeps.all():
            table = table.filter(pa.array(keeps))
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, OSError) as err:
        raise FileError(f"{path} is damaged or cut short: {str(err).splitlines()[0]}") from err
    geometries = from_wkb(table.column(column), path, _stated_family(about))
    attributes = table.drop_columns(list(_own_columns(geo, column) & set(table.column_names)))
    attributes = plain(attributes, notes, path)
    reading = layers_of(
        path=path, geometries=geometries, table=attributes, crs=_crs(about), ids=None, notes=notes
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
    found = _geo(file, path)
    paths = _paths_of_box(file, found[0]["columns"][found[1]]) if found else []
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
    file: pq.ParquetFile, path: Path, about: dict[str, Any], wanted: Wanted
) -> tuple[I64Array, pa.Table]:
    """Read the rows that may be wanted, by groups of them and then one by one, and their numbers."""
    groups = list(range(file.num_row_groups))
    paths = _paths_of_box(file, about) if wanted.box is not None else []
    if paths:
        assert wanted.box is not None
        groups = [g for g in groups if _meets(file.metadata.row_group(g), paths, wanted.box)]
    masks: list[BoolArray] = []
    names = wanted.fields(file.schema_arrow.names)
    if names and groups:
        kept = []
        _fetch(file, path, groups, names)
        for group in groups:
            own: list[str] = []
            fields = plain(file.read_row_group(group, columns=names), own, path)
            rows = np.ones(fields.num_rows, bool) if own else wanted.rows(fields)
            if rows.any():
                kept.append(group)
                masks.append(rows)
        groups = kept
    sizes = [file.metadata.row_group(g).num_rows for g in range(file.num_row_groups)]
    starts = offsets_from(sizes)
    if wanted.span is not None:
        first, stop = wanted.span
        groups = [g for g in groups if starts[g] < stop and starts[g + 1] > first]
    _fetch(file, path, groups)
    if len(groups) == file.num_row_groups:
        table = file.read()
    else:
        table = file.read_row_groups(groups) if groups else file.schema_arrow.empty_table()
    keeps = np.concatenate(masks) if masks else np.ones(table.num_rows, bool)
    if paths:
        assert wanted.box is not None
        x0, y0, x1, y1 = wanted.box
        corners = [pc.struct_field(table.column(name), part) for name, part in paths]
        keeps &= (np.asarray(corners[0]) <= x1) & (np.asarray(corners[2]) >= x0)
        keeps &= (np.asarray(corners[1]) <= y1) & (np.asarray(corners[3]) >= y0)
    numbers = spans(starts[:-1][groups], np.array(sizes, np.int64)[groups])
    if wanted.span is not None:
        keeps &= (numbers >= wanted.span[0]) & (numbers < wanted.span[1])
    return numbers[keeps], table if keeps.all() else table.filter(pa.array(keeps))


def _paths_of_box(file: pq.ParquetFile, about: dict[str, Any]) -> list[tuple[str, str]]:
    """Return where the file keeps the box of each row: four (column, part of it), or nothing."""
    covering = (about.get("covering") or {}).get("bbox") or {}
    paths: list[Any] = [covering.get(corner) for corner in ("xmin", "ymin", "xmax", "ymax")]
    schema = file.schema_arrow
    for path in paths:
        is_path = isinstance(path, list) and len(path) == 2 and path[0] in schema.names
        if not is_path or not pa.types.is_struct(schema.field(path[0]).type):
            return []
    return [(path[0], path[1]) for path in paths]


def _meets(group: Any, paths: list[tuple[str, str]], box: Extent) -> bool:
    """Whether a group of rows may hold one whose box meets another, by the group's statistics."""
    least, most = [-np.inf, -np.inf], [np.inf, np.inf]
    columns = {group.column(k).path_in_schema: k for k in range(group.num_columns)}
    for k, path in enumerate(paths):
        at = columns.get(".".join(path))
        statistics = None if at is None else group.column(at).statistics
        if statistics is None or not statistics.has_min_max:
            continue
        if k < 2:
            least[k] = statistics.min
        else:
            most[k - 2] = statistics.max
    return bool(
        least[0] <= box[2] and most[0] >= box[0] and least[1] <= box[3] and most[1] >= box[1]
    )


def _stated_family(about: dict[str, Any]) -> Family:
    """Return the family of what the file says it holds, for when no row is left to tell."""
    types = about.get("geometry_types") or ["Polygon"]
    name = str(types[0]).split(" ")[0].removeprefix("Multi")
    return _FAMILIES.get(name, Family.POLYGONS)


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write the one layer, whole or not at all, with the box of each row for readers that skip.

    Raises
    ------
    DataError
        If there are several.
    FileError
        If it cannot be written.
    """
    layer = only_one(path, layers, "a GeoParquet file")
    if layer.is_table:
        about = {} if layer.lineage is None else {"lineage": layer.lineage.to_json()}
        _put(layer.table.replace_schema_metadata(about or None), path)
        return Written([], [layer])
    bounds = layer.geometry.row_bounds()
    order, notes = order_to_write(bounds, path.name)
    if order is not None:
        layer, bounds = layer.take(order), bounds[order]
    table, shapes = _table_of(layer, bounds)
    _put(table, path)
    return Written(notes, [layer], sums={layer.name: [sum_of_wkb(pa.chunked_array([shapes]))]})


def write_groups(place: Path, layer: Layer, groups: I64Array) -> tuple[F64Array, int]:
    """Write a layer as a new file at once, in groups of rows (n_groups + 1,) offsets.

    Returns the bounds (n_rows, 4) of its rows, and the checksum of its geometry as it is written.

    Raises
    ------
    FileError
        If it cannot be written.
    """
    bounds = layer.geometry.row_bounds()
    table, shapes = _table_of(layer, bounds)
    table = table.combine_chunks()  # how it lies in memory would show in the pages of the file
    try:
        with pq.ParquetWriter(place, table.schema, **_way_of(table)) as file:
            for first, stop in itertools.pairwise(groups.tolist()):
                file.write_table(
                    table.slice(first, stop - first), row_group_size=max(1, stop - first)
                )
    except MemoryError:  # Arrow's is of both kinds
        raise
    except (pa.ArrowException, OSError) as err:
        reason = reason_of(err) if isinstance(err, OSError) else str(err).splitlines()[0]
        raise FileError(f"cannot write {place}: {reason}") from err
    return bounds, sum_of_wkb(pa.chunked_array([shapes]))


def _table_of(layer: Layer, bounds: F64Array) -> tuple[pa.Table, pa.Array]:
    """Return what is written of a layer, with the box of each row, and its geometry as WKB."""
    taken = {name.casefold() for name in layer.table.column_names}
    geometry, box = (distinct_name(name, taken) for name in ("geometry", "bbox"))
    is_none = layer.geometry.is_empty
    boxes = pa.StructArray.from_arrays(
        [pa.array(bounds[:, k], mask=is_none) for k in range(4)],
        names=["xmin", "ymin", "xmax", "ymax"],
        mask=pa.array(is_none),
    )
    table = layer.table if layer.table.num_columns else pa.table({})
    shapes = to_wkb(layer.geometry).cast(pa.binary())
    columns = [*table.columns, shapes, boxes]
    fields = [*table.schema, pa.field(geometry, pa.binary()), pa.field(box, boxes.type)]
    metadata: dict[str, Any] = {
        "geo": orjson.dumps(_metadata(layer, geometry, box, extent_of(bounds)))
    }
    if layer.lineage is not None:
        metadata["lineage"] = layer.lineage.to_json()
    return pa.table(columns, pa.schema(fields, metadata=metadata)), shapes


def _put(table: pa.Table, path: Path) -> None:
    with replacing(path) as temporary:
        try:
            pq.write_table(table, temporary, row_group_size=ROW_GROUP, **_way_of(table))
        except MemoryError:  # Arrow's is of both kinds
            raise
        except pa.ArrowException as err:
            raise FileError(f"cannot write {path}: {str(err).splitlines()[0]}") from err


def _way_of(table: pa.Table) -> dict[str, Any]:
    """Return how a table is compressed."""
    # Numbers hardly ever come twice: looking for those that do costs half the time.
    is_number = [pa.types.is_floating(f.type) or f.name == "geometry" for f in table.schema]
    texts = [f.name for f, odd in zip(table.schema, is_number, strict=True) if not odd]
    return {"compression": "zstd", "use_dictionary": texts}


def _types(column: GeometryColumn) -> list[str]:
    """Return what is stated of the kinds; nothing with M, for which the standard has no word."""
    if column.m is not None:
        return []
    name = f"{'Multi' if column.is_multi else ''}{_TYPES[column.family]}"
    return [name if column.z is None else f"{name} Z"]


def _metadata(layer: Layer, geometry: str, box: str, extent: Extent | None) -> dict[str, Any]:
    about: dict[str, Any] = {
        "encoding": "WKB",
        "geometry_types": _types(layer.geometry),
        "crs": None if layer.crs is None else layer.crs.to_json_dict(),
        "covering": {"bbox": {k: [box, k] for k in ("xmin", "ymin", "xmax", "ymax")}},
    }
    if extent is not None:
        about["bbox"] = list(extent)
    return {"version": "1.1.0", "primary_column": geometry, "columns": {geometry: about}}
