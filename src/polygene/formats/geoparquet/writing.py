"""Writing GeoParquet: the box of each row beside it, groups small enough to be read alone."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import orjson
import pyarrow as pa
import pyarrow.parquet as pq

from polygene import computing as pc
from polygene.arrays import F64Array, I64Array
from polygene.commit.together import replacing
from polygene.errors import FileError, reason_of
from polygene.formats.base import Written, only_one
from polygene.formats.columns import (
    sum_of_wkb,
    to_wkb,
)
from polygene.formats.geoparquet.stated import metadata_for
from polygene.formats.hilbert import order_to_write
from polygene.geometry import extent_of
from polygene.layer import Layer, distinct_name

# Rows that are read together. In the order of a curve few, so that a corner is read alone: of 2,048
# and 1,024 rows a box takes less, and what is stated of the groups more.
ROW_GROUP, ALONG_CURVE = 8_192, 2_048


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
    _put(table, path, ROW_GROUP if order is None else ALONG_CURVE)
    return Written(notes, [layer], sums={layer.name: [sum_of_wkb(pa.chunked_array([shapes]))]})


def write_groups(place: Path, layer: Layer, groups: I64Array) -> tuple[F64Array, list[int]]:
    """Write a layer as a new file at once, in groups of rows (n_groups + 1,) offsets.

    Returns the bounds (n_rows, 4) of its rows, and the checksum of each group's geometry as written.

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
    pieces = (shapes[first:stop] for first, stop in itertools.pairwise(groups.tolist()))
    return bounds, [sum_of_wkb(pa.chunked_array([piece])) for piece in pieces]


def _table_of(layer: Layer, bounds: F64Array) -> tuple[pa.Table, pa.Array]:
    """Return what is written of a layer, with the box of each row, and its geometry as WKB."""
    taken = {name.casefold() for name in layer.table.column_names}
    geometry, box = (distinct_name(name, taken) for name in ("geometry", "bbox"))
    is_none = layer.geometry.is_empty
    boxes = pa.StructArray.from_arrays(
        [pc.with_nulls(bounds[:, k], is_none) for k in range(4)],
        names=["xmin", "ymin", "xmax", "ymax"],
        mask=pc.column(is_none),
    )
    table = layer.table if layer.table.num_columns else pa.table({})
    shapes = pc.cast(to_wkb(layer.geometry), pa.binary())
    columns = [*table.columns, shapes, boxes]
    fields = [*table.schema, pa.field(geometry, pa.binary()), pa.field(box, boxes.type)]
    metadata: dict[str, Any] = {
        "geo": orjson.dumps(metadata_for(layer, geometry, box, extent_of(bounds)))
    }
    if layer.lineage is not None:
        metadata["lineage"] = layer.lineage.to_json()
    return pa.table(columns, pa.schema(fields, metadata=metadata)), shapes


def _put(table: pa.Table, path: Path, group: int = ROW_GROUP) -> None:
    with replacing(path) as temporary:
        try:
            pq.write_table(table, temporary, row_group_size=group, **_way_of(table))
        except MemoryError:  # Arrow's is of both kinds
            raise
        except pa.ArrowException as err:
            raise FileError(f"cannot write {path}: {str(err).splitlines()[0]}") from err


def _way_of(table: pa.Table) -> dict[str, Any]:
    """Return how a table is compressed, and of which columns least and most are stated."""
    # Numbers hardly ever come twice: looking for those that do costs half the time.
    is_number = [pa.types.is_floating(f.type) or f.name == "geometry" for f in table.schema]
    texts = [f.name for f, odd in zip(table.schema, is_number, strict=True) if not odd]
    columns = [
        f"{f.name}.{part.name}"
        for f in table.schema
        if pa.types.is_struct(f.type)
        for part in f.type
    ]
    # Of WKB they say nothing, and take more room than all else that is stated.
    columns += [f.name for f in table.schema if f.name != "geometry"]
    return {"compression": "zstd", "use_dictionary": texts, "write_statistics": columns}
