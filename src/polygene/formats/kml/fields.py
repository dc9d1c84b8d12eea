"""Fields of placemarks: what the standard gives all of them, and what each adds (9.2 to 9.5)."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import chain
from operator import methodcaller
from typing import Any

import numpy as np
import pyarrow as pa

from polygene.arrays import I64Array
from polygene.classes import NamedTuple
from polygene.formats import once
from polygene.formats.markup import texts
from polygene.formats.markup.parsing import Stream, get_tag, local
from polygene.layer import distinct_name
from polygene.notes import Warned, counted

NAME, DESCRIPTION = "name", "description"
_PLAIN = (NAME, DESCRIPTION, "address", "phoneNumber")  # of a placemark, as texts
_TIMES = {"when": "TimeStamp", "begin": "TimeSpan", "end": "TimeSpan"}
_TRACK_TIMES = "Track"
_TYPES: dict[str, pa.DataType] = {
    "string": pa.string(),
    "int": pa.int64(),
    "uint": pa.int64(),
    "short": pa.int64(),
    "ushort": pa.int64(),
    "float": pa.float64(),
    "double": pa.float64(),
    "bool": pa.bool_(),
}
get_name = methodcaller("get", "name", "value")


class _Field(NamedTuple):
    """The values of a field in a document.

    kind : "text" as it stands, "time", or "data", whose type a schema states or its values show
    rows : (n,) numbers of placemarks
    """

    name: str
    kind: str
    rows: I64Array
    texts: list[str | None]


class _Found(NamedTuple):
    """The fields of all placemarks, and which schema each row follows."""

    fields: list[_Field]
    schema_rows: I64Array
    schemas: list[str]
    n_arrays: int


def table_of(root: Any, rows: I64Array, n_all: int, name: str, notes: list[str]) -> pa.Table:
    """Return the fields of some placemarks, given in rising order of their number."""
    found = once.made_once(("kml fields", id(root)), lambda: _found_in(root))
    place = np.full(n_all, -1)
    place[rows] = np.arange(len(rows))
    types = _types(root, found, place)
    columns: dict[str, pa.Array] = {}
    for own in found.fields:
        at = np.flatnonzero(place[own.rows] >= 0)
        if not len(at):
            continue
        given = own.texts if len(at) == len(own.texts) else [own.texts[k] for k in at.tolist()]
        column = texts.column_of(place[own.rows[at]], given, len(rows))
        where = f"{name}: field {own.name}"
        notes += texts.passed_over(where, place[own.rows[at]], given, len(rows), column)
        said = ""
        if own.kind == "data" and own.name in types:
            column, said = texts.typed(column, types[own.name])
        elif own.kind != "text":
            column, said = texts.guessed(column)
        columns[own.name] = column
        notes += [f"{name}: field {own.name} {said}"] if said else []
    for own_name, kind in types.items():
        if own_name not in columns:
            columns[own_name] = pa.nulls(len(rows), kind)
    if found.n_arrays:
        what = counted(found.n_arrays, "list")
        notes.append(Warned(f"{name}: {what} of values along tracks left out"))
    first = [n for n in _PLAIN if n in columns]
    rest = [n for n in (*types, *columns) if n not in first]
    ordered = dict.fromkeys([*first, *rest])
    return pa.table({own_name: columns[own_name] for own_name in ordered})


def _types(root: Any, found: _Found, place: I64Array) -> dict[str, pa.DataType]:
    """Return the types of fields that the schemas of the chosen placemarks state."""
    is_own = place[found.schema_rows] >= 0 if len(place) else np.zeros(0, bool)
    used = {found.schemas[k].rpartition("#")[2] for k in np.flatnonzero(is_own).tolist()}
    types: dict[str, pa.DataType] = {}
    for schema in root.iter("{*}Schema"):
        # Of a layer without features nothing says which schema is its own, unless it is the only one.
        if schema.get("id", schema.get("name", "")) in used or not len(place):
            for own in schema.iter("{*}SimpleField"):
                kind = (own.get("type") or "").rpartition(":")[2]
                types.setdefault(own.get("name", ""), _TYPES.get(kind, pa.string()))
    return types


def _found_in(root: Any) -> _Found:
    children = chain.from_iterable(root.iter("{*}ExtendedData"))
    known = {"Data", "SchemaData", "SimpleData", "SimpleArrayData", "value", "ExtendedData"}
    strange = [n for n in dict.fromkeys(map(local, map(get_tag, children))) if n not in known]
    names = [
        "Placemark",
        *_PLAIN,
        *_TIMES,
        *_TIMES.values(),
        _TRACK_TIMES,
        *sorted(known),
        *strange,
    ]
    stream = Stream(root, names)
    row = stream.number_of("Placemark")
    fields = [*_of_standard(stream, row), *_of_times(stream, row)]
    data = np.flatnonzero(stream.are("SimpleData"))
    fields += _by_name(map(get_name, stream.at(data)), row[data], stream.texts_of(data))
    values = np.flatnonzero(stream.are("value"))
    values = values[stream.parents_of(values) == stream.code_of("Data")]
    owners = map(methodcaller("getparent"), stream.at(values))
    fields += _by_name(map(get_name, owners), row[values], stream.texts_of(values))
    for own in strange:
        at = np.flatnonzero(stream.are(own))
        at = at[stream.parents_of(at) == stream.code_of("ExtendedData")]
        if len(at):
            fields.append(_Field(own, "data", row[at], _plain(stream.texts_of(at))))
    fields = _merged(own for own in fields if len(own.rows))
    used = np.flatnonzero(stream.are("SchemaData"))
    schemas = list(map(methodcaller("get", "schemaUrl", ""), stream.at(used)))
    return _Found(fields, row[used], schemas, int(stream.are("SimpleArrayData").sum()))


def _merged(fields: Iterable[_Field]) -> list[_Field]:
    """Return fields each once: what is given in several ways is one, unless the ways are of two kinds.

    Data that are called as an element of all placemarks are a field of another name.
    """
    found: dict[str, _Field] = {}
    for own in fields:
        before = found.get(own.name)
        name = own.name
        if before is not None and before.kind != own.kind:
            others = {n for n, field in found.items() if field.kind != own.kind}
            name = distinct_name(own.name, others)
            before = found.get(name)
        if before is not None:
            rows = np.concatenate([before.rows, own.rows])
            own = own._replace(rows=rows, texts=[*before.texts, *own.texts])
        found[name] = own._replace(name=name)
    return list(found.values())


def _plain(given: list[str | None]) -> list[str | None]:
    """Return texts with nothing, of an element that is there, as texts of no letters."""
    return [text or "" for text in given]


def _of_standard(stream: Stream, row: I64Array) -> Iterable[_Field]:
    for own in _PLAIN:
        at = np.flatnonzero(stream.are(own))
        at = at[stream.parents_of(at) == stream.code_of("Placemark")]
        found = stream.texts_of(at)
        if own == DESCRIPTION:  # some write HTML into it as elements
            full = np.fromiter(map(len, stream.at(at)), np.int64, len(at))
            for k in np.flatnonzero(full).tolist():
                found[k] = texts.of_whole(stream.elements[at[k]])
        yield _Field(own, "text", row[at], _plain(found))


def _of_times(stream: Stream, row: I64Array) -> Iterable[_Field]:
    for own, holder in _TIMES.items():
        at = np.flatnonzero(stream.are(own))
        at = at[stream.parents_of(at) == stream.code_of(holder)]
        yield _Field(own, "time", row[at], stream.texts_of(at))
    at = np.flatnonzero(stream.are("when"))
    at = at[stream.parents_of(at) == stream.code_of(_TRACK_TIMES)]
    for own, order in (("begin", at), ("end", at[::-1])):
        rows, firsts = np.unique(row[order], return_index=True)
        yield _Field(own, "time", rows, stream.texts_of(order[firsts]))


def _by_name(names: Iterable[str], rows: I64Array, given: list[str | None]) -> Iterable[_Field]:
    """Return fields with the values that are given in a row, in order of their first appearance."""
    listed = list(names)
    places = {own: k for k, own in enumerate(dict.fromkeys(listed))}
    code = np.fromiter(map(places.__getitem__, listed), np.int64, len(listed))
    values = np.array(_plain(given), object)
    for own, k in places.items():
        is_own = code == k
        yield _Field(own, "data", rows[is_own], values[is_own].tolist())
