"""The header of a FlatGeobuf: what the layer is called, its fields, CRS, number of features."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import field
from pathlib import Path

import flatbuffers
import pyarrow as pa
from flatbuffers import number_types as kinds
from flatbuffers.table import Table

from polygene import crs as crs_module
from polygene import proj
from polygene.classes import dataclass
from polygene.errors import DataError, FileError
from polygene.formats.definitions import wkt2_of

MAGIC = b"fgb\x03fgb\x01"
VERSION = 3
_LARGEST = 64 << 20  # bytes; a header that claims more is damaged

# Type of a field by its number in the format, with the type it has here.
TYPES: dict[int, pa.DataType] = {
    0: pa.int8(),
    1: pa.int64(),
    2: pa.bool_(),
    3: pa.int16(),
    4: pa.int64(),
    5: pa.int32(),
    6: pa.int64(),
    7: pa.int64(),
    8: pa.int64(),
    9: pa.float32(),
    10: pa.float64(),
    11: pa.string(),
    12: pa.string(),
    13: pa.timestamp("ms", tz="UTC"),
    14: pa.binary(),
}
# How the values are stored: the fixed ones as NumPy types, the others with their length in front.
STORED = {
    0: "<i1",
    1: "<u1",
    2: "<u1",
    3: "<i2",
    4: "<u2",
    5: "<i4",
    6: "<u4",
    7: "<i8",
    8: "<u8",
    9: "<f4",
    10: "<f8",
}
WITH_LENGTH = (11, 12, 13, 14)
_NUMBERS = {
    pa.int8(): 0,
    pa.bool_(): 2,
    pa.int16(): 3,
    pa.int32(): 5,
    pa.int64(): 7,
    pa.float32(): 9,
    pa.float64(): 10,
    pa.string(): 11,
    pa.binary(): 14,
}


@dataclass(frozen=True)
class Field:
    """A field: its name, the number of its type, the width of a text or -1."""

    name: str
    number: int
    width: int = -1


@dataclass(frozen=True)
class Header:
    """What a header tells; ``start`` is the byte where the index begins, ``features`` 0 unknown.

    ``crs_words`` call a CRS that is stated and not known here.
    """

    name: str = ""
    envelope: tuple[float, ...] = ()
    geometry_type: int = 0
    has_z: bool = False
    has_m: bool = False
    has_times: bool = False
    fields: list[Field] = field(default_factory=list)
    features: int = 0
    node_size: int = 16
    crs: proj.CRS | None = None
    crs_words: str = ""
    title: str = ""
    description: str = ""
    metadata: str = ""
    start: int = 0


def number_of(kind: pa.DataType) -> int:
    """Return the number of a type as the format counts them; dates and times are texts of type 13."""
    if pa.types.is_date(kind) or pa.types.is_timestamp(kind):
        return 13
    return _NUMBERS.get(kind, 11)


class _Reader:
    """A table of FlatBuffers, its fields by number."""

    def __init__(self, table: Table) -> None:
        self.table = table

    def at(self, slot: int) -> int:
        """Return where a field lies, 0 if it is not there."""
        offset = self.table.Offset(4 + 2 * slot)
        return offset + self.table.Pos if offset else 0

    def value(self, slot: int, flags: type, default: int) -> int:
        at = self.at(slot)
        return int(self.table.Get(flags, at)) if at else default

    def text(self, slot: int) -> str:
        at = self.at(slot)
        return bytes(self.table.String(at)).decode("utf-8", "replace") if at else ""

    def tables(self, slot: int) -> list[_Reader]:
        offset = self.table.Offset(4 + 2 * slot)
        if not offset:
            return []
        first, n = self.table.Vector(offset), self.table.VectorLen(offset)
        if n > len(self.table.Bytes) // 4:
            raise IndexError("a vector longer than the header")
        places = [self.table.Indirect(first + 4 * k) for k in range(n)]
        return [_Reader(Table(self.table.Bytes, place)) for place in places]

    def numbers(self, slot: int) -> tuple[float, ...]:
        offset = self.table.Offset(4 + 2 * slot)
        if not offset:
            return ()
        first, n = self.table.Vector(offset), self.table.VectorLen(offset)
        return struct.unpack_from(f"<{n}d", self.table.Bytes, first) if n <= 8 else ()

    def only(self, slot: int) -> _Reader | None:
        at = self.at(slot)
        return _Reader(Table(self.table.Bytes, self.table.Indirect(at))) if at else None


def read_header(path: Path) -> Header:
    """Read the header of a file.

    Raises
    ------
    FileError
        If it is damaged, cut short, or of another version.
    """
    with path.open("rb") as file:
        head = file.read(12)
        if len(head) < 12 or head[3] != VERSION:
            raise FileError(f"{path}: it is cut short or not of version {VERSION} of FlatGeobuf")
        size = int.from_bytes(head[8:12], "little")
        raw = file.read(size) if size <= _LARGEST else b""
    if len(raw) < size or size < 8:
        raise FileError(f"{path} is damaged or cut short: its header is not whole")
    try:
        root = _Reader(Table(raw, int.from_bytes(raw[:4], "little")))
        return _header_of(root, 12 + size)
    except (struct.error, IndexError, ValueError, TypeError, OverflowError) as err:
        raise FileError(f"{path} is damaged: its header makes no sense") from err


def _header_of(root: _Reader, start: int) -> Header:
    fields = []
    for column in root.tables(7):
        number = column.value(1, kinds.Uint8Flags, 0)
        if number not in TYPES:
            raise ValueError("a field of an unknown type")
        fields.append(Field(column.text(0), number, column.value(4, kinds.Int32Flags, -1)))
    crs, crs_words = _crs_of(root.only(10))
    return Header(
        name=root.text(0),
        envelope=root.numbers(1),
        geometry_type=root.value(2, kinds.Uint8Flags, 0),
        has_z=bool(root.value(3, kinds.Uint8Flags, 0)),
        has_m=bool(root.value(4, kinds.Uint8Flags, 0)),
        has_times=any(root.value(slot, kinds.Uint8Flags, 0) for slot in (5, 6)),
        fields=fields,
        features=root.value(8, kinds.Uint64Flags, 0),
        node_size=root.value(9, kinds.Uint16Flags, 16),
        crs=crs,
        crs_words=crs_words,
        title=root.text(11),
        description=root.text(12),
        metadata=root.text(13),
        start=start,
    )


def _crs_of(found: _Reader | None) -> tuple[proj.CRS | None, str]:
    """Return the CRS that is stated, and how it is called if it is none that is known."""
    if found is None:
        return None, ""
    code = found.value(1, kinds.Int32Flags, 0)
    codes = [str(code) if code else "", found.text(5)]
    texts = [f"{found.text(0) or 'EPSG'}:{own}" for own in codes if own]
    texts += [text for text in (found.text(4), found.text(5), found.text(2)) if text]
    for text in texts:
        try:
            return crs_module.parse(text, found.text(4)), ""
        except DataError:
            continue
    return None, texts[0][:60] if texts else ""


def header_bytes(header: Header) -> bytes:
    """Return the mark and the header as they stand at the beginning of a file."""
    builder = flatbuffers.Builder(1024)
    texts = {
        slot: builder.CreateString(text)
        for slot, text in (
            (0, header.name),
            (11, header.title),
            (12, header.description),
            (13, header.metadata),
        )
        if text
    }
    columns = _offsets(builder, [_column(builder, own) for own in header.fields])
    system = None if header.crs is None else _system(builder, header.crs)
    envelope = None
    if header.envelope:
        builder.StartVector(8, len(header.envelope), 8)
        for value in reversed(header.envelope):
            builder.PrependFloat64(value)
        envelope = builder.EndVector()
    builder.StartObject(14)
    builder.PrependUint64Slot(8, header.features, 0)
    for slot, offset in (*texts.items(), (7, columns), (10, system), (1, envelope)):
        if offset is not None:
            builder.PrependUOffsetTRelativeSlot(slot, offset, 0)
    builder.PrependUint16Slot(9, header.node_size, 16)
    builder.PrependUint8Slot(2, header.geometry_type, 0)
    builder.PrependBoolSlot(3, header.has_z, False)
    builder.PrependBoolSlot(4, header.has_m, False)
    builder.FinishSizePrefixed(builder.EndObject())
    return MAGIC + bytes(builder.Output())


def _offsets(builder: flatbuffers.Builder, offsets: Sequence[int]) -> int:
    """Write a list of tables; one of no length is written too, for readers that look unasked."""
    builder.StartVector(4, len(offsets), 4)
    for offset in reversed(offsets):
        builder.PrependUOffsetTRelative(offset)
    return int(builder.EndVector())


def _column(builder: flatbuffers.Builder, own: Field) -> int:
    name = builder.CreateString(own.name)
    builder.StartObject(11)
    builder.PrependUOffsetTRelativeSlot(0, name, 0)
    builder.PrependInt32Slot(4, own.width, -1)
    builder.PrependUint8Slot(1, own.number, 0)
    return int(builder.EndObject())


def _system(builder: flatbuffers.Builder, crs: proj.CRS) -> int:
    code = crs_module.code(crs)
    organisation = builder.CreateString(code[0]) if code else None
    text = builder.CreateString(code[1]) if code and not code[1].isdigit() else None
    name, wkt = builder.CreateString(crs.name), builder.CreateString(wkt2_of(crs))
    builder.StartObject(6)
    if organisation is not None:
        builder.PrependUOffsetTRelativeSlot(0, organisation, 0)
    if code and code[1].isdigit():
        builder.PrependInt32Slot(1, int(code[1]), 0)
    builder.PrependUOffsetTRelativeSlot(2, name, 0)
    builder.PrependUOffsetTRelativeSlot(4, wkt, 0)
    if text is not None:
        builder.PrependUOffsetTRelativeSlot(5, text, 0)
    return int(builder.EndObject())
