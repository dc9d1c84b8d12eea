"""Writing a FlatGeobuf: features laid out as FlatBuffers in whole arrays, with the packed index.

A feature is, from its size on: the list of its fields and its table (32 bytes), its geometry, its
values. A geometry is the list of its fields and its table (48 bytes), then the vectors of its
coordinates, heights and ring ends, or of the parts of a multipolygon, each a geometry itself. All
begin at multiples of eight bytes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels
from polygene.arrays import F64Array, I64Array, U8Array, offsets_from, owners, put_rows
from polygene.classes import NamedTuple
from polygene.commit.together import replacing
from polygene.formats import moments
from polygene.formats.base import Way, Written, only_one
from polygene.formats.columns import NotKept, not_kept
from polygene.formats.flatgeobuf import index
from polygene.formats.flatgeobuf.header import STORED, Field, Header, header_bytes, number_of
from polygene.formats.hilbert import order_to_write
from polygene.formats.pieces import Pieces
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.provenance import told
from polygene.table.casting import as_text
from polygene.table.types import width_of

CHUNK = 50_000  # rows laid out at a time

_FEATURE = np.dtype(
    [
        ("size", "<u4"),
        ("root", "<u4"),
        ("fields", "<u2", (4,)),
        ("back", "<i4"),
        ("geometry", "<u4"),
        ("values", "<u4"),
        ("pad", "<u4"),
    ]
)
_GEOMETRY = np.dtype(
    [
        ("fields", "<u2", (10,)),
        ("back", "<i4"),
        ("ends", "<u4"),
        ("xy", "<u4"),
        ("z", "<u4"),
        ("m", "<u4"),
        ("parts", "<u4"),
        ("type", "u1"),
        ("pad", "u1", (3,)),
    ]
)
# Where in the table each field lies; the lists of fields in the order of the format.
_AT = {"ends": 4, "xy": 8, "z": 12, "m": 16, "parts": 20, "type": 24}
_SLOT = {"ends": 0, "xy": 1, "z": 2, "m": 3, "type": 6, "parts": 7}
_TABLE = 20  # bytes from the beginning of a geometry to its table


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Write the one layer, whole or not at all, with the index that a corner is read by.

    Raises
    ------
    DataError
        If there are several.
    FileError
        If it cannot be written.
    """
    layer = only_one(path, layers, "a FlatGeobuf")
    order, notes = order_to_write(_bounds(layer), path.name)
    if order is not None:
        layer = layer.take(order)
    kept = not_kept(layer, keeps_nan=True, keeps_infinite=True)
    lineage = told(layer.lineage, kept.notes)
    _write(path, Pieces.of(replace(layer, lineage=lineage)))
    return Written([*notes, *kept.notes], [layer], Way(kept.fields))


def write_pieces(path: Path, layers: Sequence[Pieces]) -> Written:
    """Write the one layer piece by piece, in the order in which they come.

    Raises
    ------
    DataError, FileError
        As of `write`.
    """
    pieces = only_one(path, layers, "a FlatGeobuf")
    kept = NotKept(pieces.like.name, keeps_nan=True, keeps_infinite=True)
    if any(pa.types.is_timestamp(own.type) for own in pieces.like.table.schema):
        for piece in pieces.each():  # what is lost stands in the header, before all else
            kept.look(piece.table)
    lineage = told(pieces.like.lineage, kept.notes)
    _write(path, replace(pieces, like=replace(pieces.like, lineage=lineage)))
    return Written(kept.notes, [], Way(kept.fields))


def _write(path: Path, pieces: Pieces) -> None:
    like, n_rows = pieces.like, pieces.n_rows
    column = like.geometry
    fields = [
        Field(own.name, number_of(own.type), width_of(own) or -1) for own in like.table.schema
    ]
    header = Header(
        name=like.name,
        envelope=tuple(pieces.extent() or ()),
        geometry_type=1 + column.family + 3 * column.is_multi,
        has_z=column.z is not None,
        has_m=column.m is not None,
        fields=fields,
        features=n_rows,
        node_size=index.NODE_SIZE if n_rows else 0,
        crs=like.crs,
        title=like.title,
        description=like.description,
        metadata="" if like.lineage is None else like.lineage.to_json(),
    )
    offsets, bounds = np.zeros(n_rows, np.int64), np.zeros((n_rows, 4))
    with replacing(path) as temporary, temporary.open("r+b") as file:
        file.write(header_bytes(header))
        start = file.tell()
        file.seek(index.index_bytes(header.features, header.node_size), 1)
        at = first = 0
        for piece in pieces.each():
            bounds[first : first + piece.n_rows] = _bounds(piece)
            for begin in range(0, piece.n_rows, CHUNK):
                rows = np.arange(begin, min(begin + CHUNK, piece.n_rows))
                data, places = _features(piece.take(rows), fields)
                offsets[first + rows] = at + places
                at += len(data)
                file.write(data.data)
            first += piece.n_rows
        if n_rows:
            file.seek(start)
            file.write(index.build(bounds, offsets).tobytes())


def _bounds(layer: Layer) -> F64Array:
    bounds = layer.geometry.row_bounds()
    return np.where(np.isfinite(bounds).all(axis=1, keepdims=True), bounds, np.nan)


def _features(layer: Layer, fields: Sequence[Field]) -> tuple[U8Array, I64Array]:
    """Return the bytes of features, and where in them each begins."""
    column = layer.geometry
    shapes = _Shapes.of(column)
    values = [_values(layer.table.column(k), own, k) for k, own in enumerate(fields)]
    value_sizes = np.zeros(layer.n_rows, np.int64)
    for own in values:
        value_sizes += own.sizes
    geometry_sizes = np.where(column.is_null, 0, shapes.row_sizes)
    sizes = _FEATURE.itemsize + geometry_sizes + _padded(np.where(value_sizes, value_sizes + 4, 0))
    places = offsets_from(sizes)
    data = np.zeros(int(places[-1]), np.uint8)
    heads = np.zeros(layer.n_rows, _FEATURE)
    heads["size"], heads["root"], heads["back"] = sizes - 4, 12, 8
    heads["fields"][:, 0], heads["fields"][:, 1] = 8, 12
    heads["fields"][:, 2] = np.where(column.is_null, 0, 4)
    heads["fields"][:, 3] = np.where(value_sizes > 0, 8, 0)
    # The table lies 16 bytes from the beginning, its geometry from 32 on.
    heads["geometry"] = np.where(column.is_null, 0, 32 + _TABLE - 20)
    heads["values"] = np.where(value_sizes > 0, 32 + geometry_sizes - 24, 0)
    put_rows(data, places[:-1], heads)
    shapes.put(data, places[:-1] + _FEATURE.itemsize, ~column.is_null)
    at = places[:-1] + _FEATURE.itemsize + geometry_sizes
    has = value_sizes > 0
    put_rows(data, at[has], value_sizes[has].astype("<u4"))
    at = at + 4
    for own in values:
        own.put(data, at)
        at = at + own.sizes
    return data, places[:-1]


def _padded(sizes: I64Array) -> I64Array:
    return -(-sizes // 8) * 8


class _Shapes(NamedTuple):
    """Geometries that hold their own coordinates: rows, or the parts of a multipolygon's rows.

    vertices, rings : (n + 1,) where their vertices and rings begin
    parts_of : (n_rows + 1,) where each row's begin, if rows are made of them
    """

    column: GeometryColumn
    vertices: I64Array
    rings: I64Array
    parts_of: I64Array | None
    sizes: I64Array
    row_sizes: I64Array

    @staticmethod
    def of(column: GeometryColumn) -> _Shapes:
        has_parts = column.family == Family.POLYGONS and column.is_multi
        rings = column.part_offsets if has_parts else column.part_offsets[column.row_offsets]
        vertices = column.ring_offsets[rings]
        n_vertices, n_ends = np.diff(vertices), np.diff(rings)
        heights = (column.z is not None) + (column.m is not None)
        # What is empty has vectors too, of no length: some readers look into them unasked.
        sizes = _GEOMETRY.itemsize + 8 + 16 * n_vertices + heights * (8 + 8 * n_vertices)
        if column.family == Family.POINTS:
            n_ends = np.zeros_like(n_ends)
        sizes += np.where(n_ends > 1, _padded(4 + 4 * n_ends), 0)
        if not has_parts:
            return _Shapes(
                column=column,
                vertices=vertices,
                rings=rings,
                parts_of=None,
                sizes=sizes,
                row_sizes=sizes,
            )
        inner = np.diff(offsets_from(sizes)[column.row_offsets])
        own = _GEOMETRY.itemsize + _padded(4 + 4 * np.diff(column.row_offsets))
        return _Shapes(
            column=column,
            vertices=vertices,
            rings=rings,
            parts_of=column.row_offsets,
            sizes=sizes,
            row_sizes=own + inner,
        )

    def put(self, data: U8Array, at: I64Array, is_there: np.ndarray) -> None:
        """Lay the rows out from bytes (n_rows,) on; those that are null have none."""
        if self.parts_of is None:
            code = 1 + self.column.family + 3 * self.column.is_multi
            self._put_shapes(data, at, np.flatnonzero(is_there), code)
            return
        rows = np.flatnonzero(is_there)
        counts = np.diff(self.parts_of)
        heads = _heads(len(rows), 6)
        _refer(heads, "parts", np.full(len(rows), _GEOMETRY.itemsize), counts[rows] >= 0)
        put_rows(data, at[rows], heads)
        list_at = at + _GEOMETRY.itemsize
        put_rows(data, list_at[rows], counts[rows].astype("<u4"))
        row_of = owners(self.parts_of)
        within = np.arange(len(row_of)) - self.parts_of[row_of]
        before = offsets_from(self.sizes)[:-1]
        begin = (list_at + _padded(4 + 4 * counts))[row_of] + before
        begin -= before[np.minimum(self.parts_of[row_of], max(len(before) - 1, 0))]
        refer_at = list_at[row_of] + 4 + 4 * within
        put_rows(data, refer_at, (begin + _TABLE - refer_at).astype("<u4"))
        self._put_shapes(data, begin, np.arange(len(row_of)), 3)

    def _put_shapes(self, data: U8Array, at: I64Array, which: I64Array, code: int) -> None:
        """Lay out geometries that hold coordinates, one a place in ``at`` for each there is."""
        column, at = self.column, at[which]
        n_vertices, n_ends = np.diff(self.vertices)[which], np.diff(self.rings)[which]
        heads = _heads(len(which), code)
        has = np.ones(len(which), bool)
        place = np.full(len(which), _GEOMETRY.itemsize)
        arrays = [("xy", column.xy, 16), ("z", column.z, 8), ("m", column.m, 8)]
        for name, values, size in arrays:
            if values is None:
                continue
            _refer(heads, name, place + 4, has)
            put_rows(data, (at + place)[has] + 4, (n_vertices * (size // 8))[has].astype("<u4"))
            raw = np.ascontiguousarray(values, "<f8").view(np.uint8).reshape(-1)
            lengths = n_vertices * size
            # Null rows have no vertices, so the rest lie in the order of the column.
            kernels.run(kernels.wkb.scatter_ranges, raw, at + place + 8, lengths, data)
            place = place + 8 + lengths
        if column.family != Family.POINTS:
            has_ends = n_ends > 1
            _refer(heads, "ends", place, has_ends)
            put_rows(data, (at + place)[has_ends], n_ends[has_ends].astype("<u4"))
            rings = self.rings[:-1][which]
            owner = owners(offsets_from(np.where(has_ends, n_ends, 0)))
            nth = np.arange(len(owner)) - offsets_from(np.where(has_ends, n_ends, 0))[owner]
            stops = column.ring_offsets[rings[owner] + nth + 1]
            stops = stops - self.vertices[:-1][which][owner]
            put_rows(data, (at + place)[owner] + 4 + 4 * nth, stops.astype("<u4"))
        put_rows(data, at, heads)


def _heads(n: int, code: int) -> np.ndarray:
    heads = np.zeros(n, _GEOMETRY)
    heads["fields"][:, 0], heads["fields"][:, 1] = 20, 28
    heads["back"] = _TABLE
    heads["type"] = code
    heads["fields"][:, 2 + _SLOT["type"]] = _AT["type"]
    return heads


def _refer(heads: np.ndarray, name: str, place: I64Array, has: np.ndarray) -> None:
    """Let a field point to what lies so many bytes from the geometry's beginning."""
    heads["fields"][:, 2 + _SLOT[name]] = np.where(has, _AT[name], 0)
    heads[name] = np.where(has, place - _TABLE - _AT[name], 0)


class _Values(NamedTuple):
    """The values of a field: the bytes each row needs, where they are, all in a row."""

    number: int
    position: int
    sizes: I64Array
    has: np.ndarray
    raw: np.ndarray

    def put(self, data: U8Array, at: I64Array) -> None:
        at = at[self.has]
        put_rows(data, at, np.full(len(at), self.position, "<u2"))
        if self.number in STORED:
            put_rows(data, at + 2, self.raw)
            return
        lengths = self.sizes[self.has] - 6
        put_rows(data, at + 2, lengths.astype("<u4"))
        kernels.run(kernels.wkb.scatter_ranges, self.raw, at + 6, lengths, data)


def _values(column: pa.ChunkedArray, own: Field, position: int) -> _Values:
    has = ~np.asarray(pc.is_null(column), bool)
    number = own.number
    if number in STORED:
        kind = np.dtype(STORED[number])
        filled = pc.fill_null(column, False if number == 2 else 0)
        raw = np.asarray(filled).astype(kind)[has]
        return _Values(number, position, np.where(has, 2 + kind.itemsize, 0), has, raw)
    if number == 13:
        column = moments.as_text(column)
    elif number == 11 and not pa.types.is_string(column.type):
        column = as_text(column)
    wide = pc.cast(column, pa.large_string() if number != 14 else pa.large_binary())
    array = pc.fill_null(wide, b"").combine_chunks()  # under a null there may be bytes too
    if isinstance(array, pa.ChunkedArray):
        array = pa.concat_arrays(array.chunks) if array.num_chunks else pa.array([], array.type)
    if len(array) == 0:
        return _Values(number, position, np.zeros(0, np.int64), has, np.zeros(0, np.uint8))
    _, offset_buffer, data_buffer = array.buffers()
    offsets = np.frombuffer(offset_buffer, np.int64)[array.offset : array.offset + len(array) + 1]
    lengths = np.where(has, np.diff(offsets), 0)
    raw = np.zeros(0, np.uint8)
    if data_buffer is not None:
        raw = np.frombuffer(data_buffer, np.uint8)[offsets[0] : offsets[-1]].copy()
    return _Values(number, position, np.where(has, lengths + 6, 0), has, raw)
