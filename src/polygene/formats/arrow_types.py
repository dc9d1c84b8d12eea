"""Attributes of Arrow tables: their types brought to those that there are here."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import BoolArray
from polygene.errors import FileError
from polygene.formats import moments
from polygene.formats.columns import distinct_columns
from polygene.formats.wanted import ALL
from polygene.layer import Layer
from polygene.notes import Changed, Warned, counted
from polygene.table.types import in_milliseconds, rounded_as_real


def storable(layer: Layer) -> tuple[Layer, list[str]]:
    """Return a layer whose fields all formats can store in some way; what becomes text is said.

    Those are types that no reader gives, but tables of Arrow may have: nested and encoded ones,
    durations, times of the day, views, moments in other zones than UTC or in nanoseconds. Names
    without signs of value zero are among it.
    """
    own_names: list[str] = []
    table = distinct_columns(layer.table, Path(layer.name), own_names)
    notes: list[str] = [Changed(note) for note in own_names]
    for k, field in enumerate(table.schema):
        kind, column = field.type, table.column(k)
        if pa.types.is_timestamp(kind) and not (kind.unit == "ns" and _has_odd_ns(column)):
            unit = "us" if kind.unit == "ns" else kind.unit
            wanted = pa.timestamp(unit, tz=None if kind.tz is None else "UTC")
            if wanted == kind:
                continue
            column = pc.cast(column, wanted)
        elif any(test(kind) for test in _ODD):
            own: list[str] = []
            alone = pa.table([column], pa.schema([field]))
            column = plain(alone, own, Path(layer.name)).column(0)
            notes += map(Changed, own)
        else:
            continue
        table = table.set_column(k, field.with_type(column.type), column)
    return (layer if table is layer.table else replace(layer, table=table)), notes


_ODD = (
    pa.types.is_nested,
    pa.types.is_duration,
    pa.types.is_time,
    pa.types.is_string_view,
    pa.types.is_binary_view,
    pa.types.is_dictionary,
    pa.types.is_run_end_encoded,
    pa.types.is_interval,
    pa.types.is_float16,
    pa.types.is_fixed_size_binary,
    pa.types.is_uint64,
    pa.types.is_timestamp,  # those that are left: finer than microseconds
)


def _has_odd_ns(column: pa.ChunkedArray) -> bool:
    """Whether moments are finer than microseconds."""
    try:
        pc.cast(column, pa.timestamp("us", tz=column.type.tz))
    except pa.ArrowInvalid:
        return True
    return False


_VIEWS = {pa.string_view(): pa.string(), pa.binary_view(): pa.binary()}
_BLOBS = (pa.types.is_large_binary, pa.types.is_binary_view, pa.types.is_fixed_size_binary)
_NO_CAST = (pa.types.is_nested, pa.types.is_duration, pa.types.is_interval)


def plain(
    table: pa.Table, notes: list[str], path: Path, types: Mapping[str, pa.DataType] = ALL.types
) -> pa.Table:
    """Bring types to those there are here; what has none becomes text, and that is said.

    ``types`` are those that fields have in all of the file, if these are some of its rows.
    """
    for k, field in enumerate(table.schema):
        kind, column = field.type, table.column(k)
        if pa.types.is_run_end_encoded(kind) or pa.types.is_dictionary(kind):
            column = _decoded(column)
            kind = column.type
            table = table.set_column(k, field.with_type(kind), column)
        wanted = kind
        if pa.types.is_large_string(wanted) or pa.types.is_string_view(wanted):
            wanted = pa.string()
        elif any(test(wanted) for test in _BLOBS):
            wanted = pa.binary()
        elif pa.types.is_timestamp(wanted):
            wanted = pa.timestamp("ms", tz="UTC")
            n_cut = moments.finer_than_kept(column)
            column = in_milliseconds(column) if n_cut else column
            if n_cut:
                what = f"microseconds or nanoseconds of {counted(n_cut, 'value')} dropped"
                notes.append(Warned(f"{path.name}: field {field.name}: {what}"))
        elif pa.types.is_unsigned_integer(wanted):
            is_beyond = types.get(field.name) == pa.string()
            above = pc.any(pc.greater(column, pa.scalar(2**63 - 1, pa.uint64())))
            is_beyond |= above.as_py() or False  # of nulls alone, or of no rows, it is null
            wanted = pa.string() if is_beyond else pa.int64()
            if is_beyond:
                notes.append(
                    f"{path.name}: field {field.name} has numbers over 2^63; taken as text"
                )
        elif pa.types.is_decimal(wanted) or pa.types.is_float16(wanted):
            wanted = pa.float64()
            n_rounded = rounded_as_real(column) if pa.types.is_decimal(kind) else 0
            if n_rounded:
                what = f"{counted(n_rounded, 'value')} of {kind} rounded to real numbers"
                notes.append(Warned(f"{path.name}: field {field.name}: {what}"))
        elif pa.types.is_null(wanted):
            wanted = pa.string()
        elif pa.types.is_time(wanted):
            notes.append(f"{path.name}: field {field.name} is {kind}; taken as text")
            wanted = pa.string()
        elif any(test(wanted) for test in _NO_CAST):
            notes.append(f"{path.name}: field {field.name} is {kind}; taken as text")
            texts = _texts(column, f"{path}: field {field.name}")
            column, wanted = pa.chunked_array([pa.array(texts, pa.string())]), pa.string()
        if pa.types.is_string(wanted):
            _check_text(column, f"{path}: field {field.name}")
        if wanted != kind:
            column = pc.cast(column, wanted, safe=False)
            table = table.set_column(
                k, pa.field(field.name, wanted, metadata=field.metadata), column
            )
    return table


def kept(table: pa.Table, keeps: BoolArray) -> pa.Table:
    """Return the rows that are marked (rows,); what were views of texts and blobs are none any more."""
    if keeps.all():
        return table
    for k, field in enumerate(table.schema):
        wanted = _without_views(field.type)
        if wanted != field.type:
            table = table.set_column(k, field.with_type(wanted), pc.cast(table.column(k), wanted))
    return pc.filter(table, pc.column(keeps))


def _without_views(kind: pa.DataType) -> pa.DataType:
    """Return the type of the same values of which Arrow can take some, as of views it cannot."""
    if not _has_views(kind):
        return kind
    inner = [kind.field(k) for k in range(kind.num_fields)]
    plain = [field.with_type(_without_views(field.type)) for field in inner]
    if pa.types.is_struct(kind):
        return pa.struct(plain)
    if pa.types.is_map(kind):
        return pa.map_(plain[0].type.field(0), plain[0].type.field(1))
    if pa.types.is_fixed_size_list(kind):
        return pa.list_(plain[0], kind.list_size)
    if pa.types.is_list(kind):
        return pa.list_(plain[0])
    return pa.large_list(plain[0]) if pa.types.is_large_list(kind) else _VIEWS.get(kind, kind)


def _has_views(kind: pa.DataType) -> bool:
    return kind in _VIEWS or any(_has_views(kind.field(k).type) for k in range(kind.num_fields))


def _decoded(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return values in place of numbers of values, or of values with how long they go on."""
    kind, chunks = column.type, column.chunks
    if pa.types.is_run_end_encoded(kind):
        column = pa.chunked_array([pc.run_end_decode(c) for c in chunks], kind.value_type)
    elif pa.types.is_dictionary(kind):
        values = _VIEWS.get(kind.value_type, kind.value_type)  # views cannot be taken from
        found = [pc.take(pc.cast(c.dictionary, values), c.indices) for c in chunks]
        column = pa.chunked_array(found, values)
    else:
        return column
    return _decoded(column)


def _check_text(column: pa.ChunkedArray, where: str) -> None:
    """Refuse bytes that are no text, which Parquet does not look at."""
    try:
        column.validate(full=True)
    except pa.ArrowException as err:
        raise FileError(
            f"{where} is said to be text and holds bytes that are not UTF-8; write it anew as UTF-8"
        ) from err


def _texts(column: pa.ChunkedArray, where: str) -> list[str | None]:
    """Return values of a type that there is not here as text."""
    if pa.types.is_duration(column.type):
        column = pc.cast(column, pa.duration("us"), safe=False)
    try:
        values = column.to_pylist()
        if pa.types.is_nested(column.type):
            kind = column.type
            return [None if v is None else _as_json(_with_members(kind, v)) for v in values]
        return [None if v is None else str(v) for v in values]
    except (
        ValueError,
        OverflowError,
    ) as err:  # a time in nanoseconds, a year beyond 9999, no UTF-8
        raise FileError(f"{where} holds values that cannot be shown as text: {err}") from err


def _with_members(kind: pa.DataType, value: Any) -> Any:
    """Return a nested value with objects for maps from texts, where no key is there twice."""
    if value is None or not pa.types.is_nested(kind):
        return value
    if pa.types.is_struct(kind):
        fields = [kind.field(k) for k in range(kind.num_fields)]
        return {f.name: _with_members(f.type, value[f.name]) for f in fields}
    if pa.types.is_map(kind):
        pairs = [(key, _with_members(kind.item_type, own)) for key, own in value]
        has_names = all(isinstance(key, str) for key, _ in pairs)
        return dict(pairs) if has_names and len(dict(pairs)) == len(pairs) else pairs
    if pa.types.is_union(kind):
        return value
    return [_with_members(kind.value_type, own) for own in value]


def _as_json(value: Any) -> str:
    def text(own: Any) -> str:
        return own.hex() if isinstance(own, bytes) else getattr(own, "isoformat", own.__str__)()

    return json.dumps(value, ensure_ascii=False, separators=(",", ":"), default=text)
