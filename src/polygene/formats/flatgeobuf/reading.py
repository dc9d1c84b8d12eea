"""Reading a FlatGeobuf: all features at once by arrays of positions, or those of a corner."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import kernels, provenance
from polygene.arrays import BoolArray, I64Array, U8Array, offsets_from
from polygene.classes import NamedTuple
from polygene.errors import FileError, reason_of
from polygene.formats import moments, origins
from polygene.formats.base import Reading
from polygene.formats.columns import layers_of, named, numbered
from polygene.formats.flatgeobuf import index
from polygene.formats.flatgeobuf.header import (
    STORED,
    TYPES,
    WITH_LENGTH,
    Field,
    Header,
    read_header,
)
from polygene.formats.flatgeobuf.shapes import FAMILIES, shapes_of
from polygene.formats.flatgeobuf.tables import (
    Damaged,
    followed,
    values_at,
    vectors_at,
    whole,
)
from polygene.formats.wanted import ALL, Wanted
from polygene.geometry import Extent, Family
from polygene.info import LayerInfo
from polygene.notes import Warned
from polygene.text.assemble import columns_of

_WORDS = {1: "point", 2: "line", 3: "polygon", 4: "multipoint", 5: "multiline", 6: "multipolygon"}
_UNSIGNED, _MOMENT = 8, 13
_FIRST_LOOK = 1 << 14  # bytes


def layer_names(path: Path) -> list[str]:
    return [path.stem]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layer from the header alone."""
    header = _header(path)
    dims = f"{'Z' if header.has_z else ''}{'M' if header.has_m else ''}"
    words = f"{_WORDS.get(header.geometry_type, 'mixed')} {dims}".strip()
    extent: Extent | None = None
    if len(header.envelope) == 4 and header.envelope[0] <= header.envelope[2]:
        x0, y0, x1, y1 = header.envelope
        extent = (x0, y0, x1, y1)
    n_rows = header.features
    if n_rows == 0:
        data = _data(path)
        n_rows = len(_places(data, header, path))
    fields = [
        (own.name, "uint64" if own.number == _UNSIGNED else str(_arrow_field(own).type))
        for own in header.fields
    ]
    return [
        LayerInfo(
            name=path.stem,
            geometry=words,
            n_rows=n_rows,
            crs=header.crs,
            extent=extent,
            fields=fields,
            title=header.title,
        )
    ]


def read(path: Path, name: str, wanted: Wanted = ALL) -> Reading:
    """Read the layer; of what is not wanted, what the index and the attributes leave out stays.

    Raises
    ------
    FileError
        If the file is damaged.
    GeometryError
        If a geometry is of a type that is not read.
    """
    header = _header(path)
    data = _data(path)
    try:
        numbers, places, total = _chosen_places(data, header, path, wanted)
        has_more = len(places) == total and _ends_before(data, places)
        if wanted.span is not None:
            own = (numbers >= wanted.span[0]) & (numbers < wanted.span[1])
            numbers, places = numbers[own], places[own]
        features = followed(data, places + 4)
        entries = _entries(data, header, features)
        fields = list(enumerate(header.fields))
        names = wanted.fields([own.name for own in header.fields])
        kinds = dict(wanted.types)
        if names:
            first = [(k, own) for k, own in fields if own.name in names]
            table, _ = _table(data, entries, len(features), first, kinds)
            kinds |= {field.name: field.type for field in table.schema}
            rows = wanted.rows(table)
            features, entries = features[rows], entries.of(rows)
            numbers = numbers[rows]
        looked_at = None
        if header.geometry_type in FAMILIES:
            looked_at = wanted.looked_at([own.name for own in header.fields])
        fields = [(k, own) for k, own in fields if looked_at is None or own.name in looked_at]
        table, odd = _table(data, entries, len(features), fields, kinds)
        if looked_at is None:
            shapes = shapes_of(data, header, features, path)
        else:
            shapes = [], np.ones(len(features), bool), np.zeros(len(features), bool)
    except Damaged as err:
        raise FileError(f"{path} is damaged or cut short: {err}") from err
    else_ = Family.POLYGONS if wanted.family is None else wanted.family
    default = FAMILIES.get(header.geometry_type, else_)
    parts, is_null, is_multi = shapes
    chosen = columns_of(parts, len(features), is_null, is_multi, default)
    notes: list[str] = [f"{path.name}: field {name} {words}" for name, words in odd]
    if header.crs_words:
        notes.append(
            Warned(f"{path.name}: its CRS, {header.crs_words}, is not known; read without one")
        )
    if header.has_times:
        notes.append(Warned(f"{path.name}: times of its vertices left out"))
    if has_more:
        words = f"its header counts no more than {total:,} of its features; the others are left out"
        notes.append(Warned(f"{path.name}: {words}"))
    reading = layers_of(
        path=path, geometries=chosen, table=table, crs=header.crs, ids=None, notes=notes
    )
    layers = [
        replace(
            layer,
            title=header.title if k == 0 else "",
            description=header.description,
            total=total if total > len(features) else None,
            rows=numbered(layer, numbers) if total > len(features) else layer.rows,
            lineage=provenance.parse(header.metadata),
        )
        for k, layer in enumerate(reading.layers)
    ]
    return named(Reading(layers, reading.notes), path, name)


def _header(path: Path) -> Header:
    try:
        if origins.is_partial(path):
            origins.fill(path, [0], [_FIRST_LOOK])
            with path.open("rb") as file:
                head = file.read(12)
            origins.fill(path, [0], [12 + int.from_bytes(head[8:12], "little")])
        return read_header(path)
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err


def _data(path: Path) -> U8Array:
    try:
        return np.memmap(path, np.uint8, "c")
    except (OSError, ValueError) as err:
        raise FileError(f"cannot read {path}: {err}") from err


def _first(header: Header) -> int:
    """Return the byte where the features begin."""
    return header.start + index.index_bytes(header.features, header.node_size)


def _nodes(data: U8Array, header: Header) -> np.ndarray:
    stop = _first(header)
    if stop > len(data):
        raise Damaged("its index is not whole")
    return np.frombuffer(data[header.start : stop], index.NODE)


def _places(data: U8Array, header: Header, path: Path) -> I64Array:
    """Return where each feature begins: from the leaves of the index, else from one to the next."""
    origins.whole(path)
    first = _first(header)
    if first > header.start:
        leaves = _nodes(data, header)["offset"][-header.features :]
        return first + leaves.astype(np.int64)
    most = (len(data) - first) // 8 + 1
    places = np.empty(min(most, header.features or most), np.int64)
    found = kernels.run(kernels.wkb.follow_sizes, data, first, places)
    if found < 0 or (header.features and found < header.features):
        raise FileError(f"{path} is damaged or cut short: its features end too early")
    return places[:found]


def _ends_before(data: U8Array, places: I64Array) -> bool:
    """Whether there is more after the last of all features."""
    if not len(places):
        return False
    last = places.max(keepdims=True)
    return bool((last + 4 + whole(data, last, "<u4") < len(data)).all())


def _chosen_places(
    data: U8Array, header: Header, path: Path, wanted: Wanted
) -> tuple[I64Array, I64Array, int]:
    """Return which features lie in the box (all without an index), their places, how many there are."""
    boxes = wanted.boxes(header.crs)
    if not boxes or _first(header) == header.start:
        places = _places(data, header, path)
        return np.arange(len(places)), places, len(places)
    nodes, n_rows = _nodes(data, header), header.features

    def fill(first: I64Array, stop: I64Array) -> None:
        size = index.NODE.itemsize
        origins.fill(path, header.start + first * size, header.start + stop * size)

    try:
        found = index.search(nodes, n_rows, header.node_size, boxes, fill)
    except (ValueError, IndexError) as err:
        raise Damaged(str(err)) from err
    at = len(nodes) - n_rows + found
    if origins.is_partial(path):
        fill(at, np.minimum(at + 2, len(nodes)))  # where a feature ends, the next begins
    places = _first(header) + nodes["offset"][at].astype(np.int64)
    if origins.is_partial(path):
        ends = _first(header) + nodes["offset"][np.minimum(at + 1, len(nodes) - 1)].astype(np.int64)
        origins.fill(path, places, np.where(at + 1 < len(nodes), ends, len(data)))
    return found, places, n_rows


class _Entries(NamedTuple):
    """Values of fields: the feature, the field, and where the value lies."""

    feature: I64Array
    column: I64Array
    at: I64Array

    def of(self, rows: BoolArray) -> _Entries:
        """Return those of chosen features, numbered anew."""
        numbers = np.cumsum(rows) - 1
        keep = rows[self.feature]
        return _Entries(numbers[self.feature[keep]], self.column[keep], self.at[keep])


def _entries(data: U8Array, header: Header, features: I64Array) -> _Entries:
    """Walk the values of all features side by side, the first of each, then the second ..."""
    starts, sizes = vectors_at(data, features, 1, 1)
    at, stop = starts.copy(), starts + sizes
    rows = np.flatnonzero(at + 2 <= stop)
    found: list[tuple[I64Array, I64Array, I64Array]] = []
    numbers = np.array([own.number for own in header.fields], np.int64)
    widths = np.array([np.dtype(STORED.get(n, "<u4")).itemsize for n in range(16)])
    for _ in range(len(numbers) + 1):
        if len(rows) == 0:
            break
        column = whole(data, at[rows], "<u2")
        if (column >= len(numbers)).any():
            raise Damaged("a value is of a field that is not there")
        value = at[rows] + 2
        found.append((rows, column, value))
        number = numbers[column]
        size = widths[number]
        is_long = np.isin(number, WITH_LENGTH)
        size[is_long] += whole(data, value[is_long], "<u4")
        at[rows] = value + size
        if (at[rows] > stop[rows]).any():
            raise Damaged("a value is longer than its feature")
        rows = rows[at[rows] + 2 <= stop[rows]]
    if len(rows):
        raise Damaged("a feature has more values than there are fields")
    none = np.zeros(0, np.int64)
    parts = [np.concatenate([none, *(f[k] for f in found)]) for k in range(3)]
    return _Entries(*parts)


def _arrow_field(own: Field) -> pa.Field:
    metadata = {"width": str(own.width)} if own.number == 11 and own.width > 0 else None
    return pa.field(own.name, TYPES[own.number], metadata=metadata)


def _table(
    data: U8Array,
    entries: _Entries,
    n_rows: int,
    fields: Sequence[tuple[int, Field]],
    kinds: Mapping[str, pa.DataType],
) -> tuple[pa.Table, list[tuple[str, str]]]:
    """Return some fields, given with their numbers, and of which there is something to say.

    ``kinds`` are types that are known of some, of which these rows alone may not show them.
    """
    columns, kept, odd = [], [], []
    nothing: dict[pa.DataType, pa.Array] = {}  # one for all fields that no feature has
    for k, own in fields:
        is_own = entries.column == k
        kind, words = kinds.get(own.name), ""
        if is_own.any():
            own_rows, at = entries.feature[is_own], entries.at[is_own]
            column, words = _column(data, own, own_rows, at, n_rows, kind)
        else:
            can_differ = own.number in (_UNSIGNED, _MOMENT) and kind is not None
            kind = kind if can_differ else TYPES[own.number]
            column = nothing.setdefault(kind, pa.nulls(n_rows, kind))
        if words:
            odd.append((own.name, words))
        columns.append(column)
        kept.append(_arrow_field(own).with_type(column.type))
    return pa.table(columns, pa.schema(kept)), odd


def _column(
    data: U8Array,
    own: Field,
    rows: I64Array,
    at: I64Array,
    n_rows: int,
    known: pa.DataType | None,
) -> tuple[pa.Array, str]:
    """Return the values of one field, and what there is to say; rows that have none are null."""
    kind = TYPES[own.number]
    has = np.zeros(n_rows, bool)
    has[rows] = True
    if own.number in STORED:
        values = np.zeros(n_rows, np.dtype(STORED[own.number]))
        values[rows] = values_at(data, at, STORED[own.number])
        if own.number == 2:
            values = values.astype(bool)
        column = pc.with_nulls(values, ~has)
        is_beyond = known == pa.string() or (values > np.iinfo(np.int64).max).any()
        if own.number == _UNSIGNED and is_beyond:  # some would be others as real numbers
            return pc.cast(column, pa.string()), "has numbers over 2^63; taken as text"
        return pc.cast(column, kind), ""
    lengths = np.zeros(n_rows, np.int64)
    starts = np.zeros(n_rows, np.int64)
    starts[rows], lengths[rows] = at + 4, whole(data, at, "<u4")
    if lengths.sum() > len(data):
        raise Damaged("many of its features share their values")
    raw = np.empty(int(lengths.sum()), np.uint8)
    kernels.run(kernels.wkb.gather_ranges, data, starts, lengths, raw)
    array = pc.of_bytes(pa.large_binary(), offsets_from(lengths), raw, ~has)
    if own.number == 14:
        return pc.cast(array, pa.binary()), ""
    try:
        texts = pc.cast(pc.cast(array, pa.large_string()), pa.string())
    except pa.ArrowInvalid as err:
        raise Damaged(f"field {own.name} holds text that is not UTF-8") from err
    return _moments(texts, known) if own.number == _MOMENT else (texts, "")


def _moments(texts: pa.Array, kind: pa.DataType | None) -> tuple[pa.Array, str]:
    """Return dates if all are such, else dates with times; what is neither stays text, which is said.

    ``kind`` is what they are in all of the file, if that is known.
    """
    lengths = pc.unique(pc.drop_null(pc.utf8_length(texts))).to_pylist()
    try:
        if kind != pa.string() and (lengths == [10] or (not lengths and kind == pa.date32())):
            return pc.cast(texts, pa.date32()), ""
        if kind != pa.string():
            return moments.from_texts(texts)
    except pa.ArrowInvalid:
        pass
    return texts, "has values that are no dates or no times, or some are each; read as text"
