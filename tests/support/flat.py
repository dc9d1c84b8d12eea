"""FlatGeobuf made with the FlatBuffers library, as others may write it."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import flatbuffers

_PUT = {
    "byte": "PrependUint8Slot",
    "flag": "PrependBoolSlot",
    "number": "PrependInt32Slot",
    "count": "PrependUint64Slot",
    "short": "PrependUint16Slot",
    "at": "PrependUOffsetTRelativeSlot",
}
# Of each table its fields: the slot, and how it is put.
_SYSTEM = {
    "org": (0, "text"),
    "code": (1, "number"),
    "wkt": (4, "text"),
    "code_string": (5, "text"),
}
_COLUMN = {"name": (0, "text"), "type": (1, "byte")}
_GEOMETRY: dict[str, tuple[int, Any]] = {
    "ends": (0, "Uint32"),
    "xy": (1, "Float64"),
    "z": (2, "Float64"),
    "m": (3, "Float64"),
    "type": (6, "byte"),
}
_GEOMETRY["parts"] = (7, [_GEOMETRY])
_FEATURE = {"geometry": (0, _GEOMETRY), "values": (1, "Byte")}
_HEADER = {
    "type": (2, "byte"),
    "has_z": (3, "flag"),
    "has_t": (5, "flag"),
    "fields": (7, [_COLUMN]),
    "count": (8, "count"),
    "node_size": (9, "short"),
    "crs": (10, _SYSTEM),
}


def _vector(builder: flatbuffers.Builder, values: Any, kind: str) -> int:
    size = {"Byte": 1, "Uint32": 4, "Float64": 8, "UOffsetTRelative": 4}[kind]
    builder.StartVector(size, len(values), size)
    for value in reversed(values):
        getattr(builder, f"Prepend{kind}")(value)
    return builder.EndVector()


def _table(builder: flatbuffers.Builder, shape: dict[str, Any], given: dict[str, Any]) -> int:
    slots = {}
    for name, value in given.items():
        slot, how = shape[name]
        if isinstance(how, list):
            value = [_table(builder, how[0], one) for one in value]
            value, how = _vector(builder, value, "UOffsetTRelative"), "at"
        elif isinstance(how, dict):
            value, how = _table(builder, how, value), "at"
        elif how == "text":
            value, how = builder.CreateString(value), "at"
        elif how not in _PUT:
            value, how = _vector(builder, value, how), "at"
        slots[slot] = (how, value)
    builder.StartObject(14)
    for slot, (how, value) in slots.items():
        getattr(builder, _PUT[how])(slot, value, None)
    return builder.EndObject()


def _bytes(shape: dict[str, Any], given: dict[str, Any]) -> bytes:
    builder = flatbuffers.Builder(0)
    builder.FinishSizePrefixed(_table(builder, shape, given))
    return bytes(builder.Output())


def write(path: Path, header: dict[str, Any], features: list[dict[str, Any]]) -> Path:
    """Write a file without an index, by the names of fields above."""
    head = _bytes(_HEADER, {"node_size": 0, **header})
    body = b"".join(_bytes(_FEATURE, feature) for feature in features)
    path.write_bytes(b"fgb\x03fgb\x01" + head + body)
    return path


def text(field: int, value: str) -> bytes:
    """Return a value that is text as it stands among those of a feature."""
    raw = value.encode()
    return struct.pack("<HI", field, len(raw)) + raw
