"""What readers of single-layer formats share: from WKB columns and loose parts to layers."""

from __future__ import annotations

import zlib
from collections import Counter
from collections.abc import Sequence
from dataclasses import field, replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import proj
from polygene.arrays import BoolArray, I64Array, U8Array, owners
from polygene.classes import NamedTuple, dataclass
from polygene.crs import begins_north
from polygene.errors import GeometryError, UnknownLayerError
from polygene.formats import moments, wkb
from polygene.formats.base import Reading
from polygene.geometry import Family, GeometryColumn
from polygene.glimpse import geometry_words
from polygene.info import NO_GEOMETRY, LayerInfo
from polygene.layer import Layer, distinct_name, row_numbers
from polygene.notes import Changed, Lost, counted
from polygene.text.assemble import OfFamily, columns_of

ADVICE = "mend the file or take the layer from its source again"


def without_zero_signs(layer: Layer) -> tuple[Layer, list[str]]:
    """Return a layer without signs of value zero in its texts; see `table_without_zero_signs`."""
    table, notes = table_without_zero_signs(layer.table, layer.name)
    return replace(layer, table=table), notes


def table_without_zero_signs(table: pa.Table, name: str) -> tuple[pa.Table, list[str]]:
    """Return a table without signs of value zero in its texts, at which some formats end; say so."""
    notes: list[str] = []
    for k, own in enumerate(table.schema):
        if not pa.types.is_string(own.type):
            continue
        column = table.column(k)
        n = pc.sum(pc.match_substring(column, "\0")).as_py() or 0
        if n:
            table = table.set_column(k, own, pc.replace_substring(column, "\0", ""))
            what = f"{counted(n, 'value')} with signs of value zero, left out"
            notes.append(Lost(f"{name}: field {own.name}: {what}"))
    return table, notes


def with_rows_told(layer: Layer) -> tuple[Layer, list[str]]:
    """Return a layer without a row of nothing but nulls, which would be no row in some tables.

    If there are such rows, a field numbers all, and that is said.
    """
    has_any = np.zeros(layer.n_rows, bool)
    for column in layer.table.columns:
        has_any |= np.asarray(pc.is_valid(column))
    n = int((~has_any).sum())
    if not n:
        return layer, []
    taken = {name.casefold() for name in layer.table.column_names}
    name = distinct_name("row", taken, folds=True)
    table = layer.table.add_column(0, name, pc.column(np.arange(1, layer.n_rows + 1)))
    said = f"{layer.name}: field {name} numbers the rows, lest {counted(n, 'row')} of nulls be none"
    return replace(layer, table=table), [Changed(said)]


@dataclass
class NotKept:
    """What a format has no place for in the values of a layer: what is not finite, parts of a second.

    Pieces of the layer are looked at one by one.
    """

    name: str
    keeps_nan: bool
    keeps_infinite: bool
    counts: Counter[tuple[str, str]] = field(default_factory=Counter)

    def look(self, table: pa.Table) -> None:
        """Count the values of some rows that are not kept as they are."""
        for own in table.schema:
            column = table.column(own.name)
            if pa.types.is_floating(own.type) and not (self.keeps_nan and self.keeps_infinite):
                is_lost = pc.invert(pc.is_finite(column))
                if self.keeps_infinite:
                    is_lost = pc.is_nan(column)
                self.counts[own.name, "number"] += pc.sum(is_lost).as_py() or 0
            self.counts[own.name, "moment"] += moments.finer_than_kept(column)

    @property
    def notes(self) -> list[str]:
        what = "are no number" if self.keeps_infinite else "are not finite"
        return [
            Lost(
                f"{self.name}: field {name}: "
                + (
                    f"{counted(n, 'value')} that {what}, null there"
                    if kind == "number"
                    else f"{counted(n, 'moment')} cut to milliseconds"
                )
            )
            for (name, kind), n in self.counts.items()
            if n
        ]

    @property
    def fields(self) -> frozenset[str]:
        """The fields that this is about."""
        return frozenset(name for (name, _), n in self.counts.items() if n)


def not_kept(layer: Layer, keeps_nan: bool, keeps_infinite: bool) -> NotKept:
    """Say which values of a layer a format has no place for."""
    found = NotKept(layer.name, keeps_nan, keeps_infinite)
    found.look(layer.table)
    return found


def info_of(layer: Layer) -> LayerInfo:
    """Describe a layer that was read."""
    fields = [(own.name, str(own.type)) for own in layer.table.schema]
    return LayerInfo(
        name=layer.name,
        geometry=NO_GEOMETRY if layer.is_table else geometry_words(layer.geometry),
        n_rows=layer.n_rows,
        crs=layer.crs,
        extent=layer.geometry.extent(),
        fields=fields,
    )


def named(reading: Reading, path: Path, name: str) -> Reading:
    """Return the layer of a name; all of them if it is the file's own.

    Raises
    ------
    UnknownLayerError
        If there is none.
    """
    if name == path.stem:
        return reading
    chosen = [layer for layer in reading.layers if layer.name == name]
    if not chosen:
        raise UnknownLayerError(name, str(path), [path.stem, *(y.name for y in reading.layers)])
    return Reading(chosen, reading.notes)


def distinct_columns(table: pa.Table, path: Path, notes: list[str]) -> pa.Table:
    """Give columns of one name numbers, for a field is found by its name; that is said.

    Signs of value zero, at which the names of many formats end, are left out of names.
    """
    given = table.column_names
    if len(set(given)) == len(given) and not any("\0" in name for name in given):
        return table
    taken, names = set(given), list[str]()
    for k, name in enumerate(given):
        own = name.replace("\0", "") or (f"column_{k + 1}" if name else "")
        if own in names or (own != name and own in taken):
            own = distinct_name(own, taken)
        if own != name:
            which = (
                "has a sign of value zero in its name" if "\0" in name else f"is a second {name!r}"
            )
            notes.append(f"{path.name}: its column {k + 1} {which}; called {own}")
        taken.add(own)
        names.append(own)
    return table.rename_columns(names)


def east_first(column: GeometryColumn, crs: proj.CRS) -> GeometryColumn:
    """Return geometry whose axes are as the authority of its CRS has them with the easting first."""
    if not begins_north(crs):
        return column
    return column.with_xy(np.ascontiguousarray(column.xy[:, ::-1]))


def numbered(layer: Layer, numbers: I64Array) -> I64Array:
    """Return which rows of the file those of a layer are, by the numbers of the rows that were read."""
    return numbers if layer.rows is None else numbers[layer.rows]


def table_of(path: Path, table: pa.Table, why: str, notes: list[str], name: str = "") -> Reading:
    """Return a table without geometry, named like the file unless it has a name of its own.

    ``why`` says why it is taken for one.
    """
    table = distinct_columns(table, path, notes)
    geometry = GeometryColumn.nulls(table.num_rows)
    return Reading([Layer(name or path.stem, geometry, table, no_geometry=why)], notes)


def layers_of(
    path: Path,
    geometries: Sequence[OfFamily],
    table: pa.Table,
    crs: proj.CRS | None,
    ids: I64Array | None,
    notes: list[str],
    name: str = "",
) -> Reading:
    """Return a layer for each family there is, named like the file unless there is a name."""
    layers = []
    table = distinct_columns(table, path, notes)
    name = name or path.stem
    for rows, geometry in geometries:
        own = name if len(geometries) == 1 else f"{name}_{geometry.family.words}"
        own_table = pc.take(table, row_numbers(rows)) if table.num_columns else table
        own_ids = None if ids is None else ids[rows]
        numbers = rows if len(geometries) > 1 else None
        layers.append(Layer(own, geometry, own_table, crs, own_ids, rows=numbers))
    if len(layers) > 1:
        counts = ", ".join(f"{layer.name} ({layer.n_rows:,})" for layer in layers)
        what = path.name if name == path.stem else name
        notes.append(f"{what} holds geometry of several dimensions; taken as layers {counts}")
    return Reading(layers, notes)


class Held(NamedTuple):
    """Bytes of values, where each (n,) begins and ends in them, and which are null."""

    data: U8Array
    starts: I64Array
    stops: I64Array
    is_null: BoolArray


def from_wkb(
    column: pa.ChunkedArray, path: Path, default: Family = Family.POINTS
) -> list[OfFamily]:
    """Decode a column of WKB.

    Raises
    ------
    GeometryError
        If a row cannot be decoded.
    """
    return from_bytes(bytes_of(column), path, default)


def from_bytes(held: Held, path: Path, default: Family = Family.POINTS) -> list[OfFamily]:
    """Decode geometries as WKB: see `from_wkb`."""
    data, starts, stops, is_null = held
    try:
        parts, is_multi = wkb.parts_of(data, starts, stops)
    except wkb.WkbError as err:
        raise GeometryError(str(path), f"row {err.row + 1}", err.reason, ADVICE) from err
    return columns_of(parts, len(is_null), is_null, is_multi, default)


def check_finite(layer: Layer, kind: str) -> None:
    """Refuse a layer with coordinates that texts cannot have, ``kind`` of file being written.

    Raises
    ------
    GeometryError
        If one is infinite or no number.
    """
    is_bad = np.zeros(layer.n_rows, bool)
    column = layer.geometry
    is_odd = ~np.isfinite(column.xy).all(axis=1)
    if column.z is not None:
        is_odd |= np.isinf(column.z)
    if is_odd.any():
        is_bad[owners(column.vertex_offsets_of_rows)[is_odd]] = True
        row = f"row {int(np.argmax(is_bad)) + 1}"
        what = f"a coordinate is not a finite number, which {kind} cannot hold"
        raise GeometryError(
            f"layer {layer.name!r}", row, what, "leave the feature out with `where`"
        )


def bytes_of(column: pa.ChunkedArray) -> Held:
    """Return the bytes of binary values."""
    array = column.combine_chunks()
    if isinstance(array, pa.ChunkedArray):
        array = pa.concat_arrays(array.chunks) if array.num_chunks else pa.array([], pa.binary())
    array = pc.cast(array, pa.large_binary())
    n_rows = len(array)
    _, offset_buffer, data_buffer = array.buffers()
    at = array.offset
    offsets = (
        np.frombuffer(offset_buffer, np.int64)[at : at + n_rows + 1] if n_rows else np.zeros(1, int)
    )
    data = (
        np.frombuffer(data_buffer, np.uint8) if data_buffer is not None else np.zeros(0, np.uint8)
    )
    is_null = np.asarray(pc.is_null(array))
    starts = np.ascontiguousarray(offsets[:-1], np.int64)
    stops = np.where(is_null, starts, offsets[1:]).astype(np.int64)
    return Held(data, starts, stops, is_null)


def sum_of_wkb(column: pa.ChunkedArray) -> int:
    """Return a checksum (CRC-32) of binary values, with the length of each and which are null."""
    found, about = 0, [np.asarray(pc.is_null(column)).tobytes()]
    for chunk in column.chunks:
        wide = pc.cast(chunk, pa.large_binary())
        _, offsets, data = wide.buffers()
        at = wide.offset  # of a slice the cast may begin anew
        ends = np.frombuffer(offsets, np.int64)[at : at + len(chunk) + 1]
        about.append(np.diff(ends).tobytes())
        if data is not None and len(ends):
            found = zlib.crc32(memoryview(data)[ends[0] : ends[-1]], found)
    return zlib.crc32(b"".join(about), found)


def to_wkb(column: GeometryColumn) -> pa.Array:
    """Encode a column as WKB (ISO, little-endian); null stays null."""
    data, offsets = wkb.encode(column, np.zeros((column.n_rows, 0), np.uint8))
    return pc.of_bytes(pa.large_binary(), offsets, data, np.asarray(column.is_null))
