"""Reading GML: a layer for each type of feature."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import chain
from operator import itemgetter, methodcaller
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pyarrow as pa

from polygene import proj
from polygene.arrays import BoolArray, I64Array, count_by, distinct
from polygene.classes import NamedTuple
from polygene.errors import FileError, GeometryError, UnknownLayerError
from polygene.formats import once
from polygene.formats.base import Reading, collecting_no_garbage
from polygene.formats.columns import ADVICE, info_of, layers_of
from polygene.formats.gml import schema, shapes, srs
from polygene.formats.markup import parsing, texts
from polygene.formats.markup.parsing import get_tag, get_text, local
from polygene.geometry import Family
from polygene.info import LayerInfo
from polygene.layer import distinct_name
from polygene.notes import Warned, counted
from polygene.text.assemble import columns_of

_MEMBERS = ("featureMember", "featureMembers", "member")
_COLLECTION = "FeatureCollection"
_NIL = "{http://www.w3.org/2001/XMLSchema-instance}nil"
_HREF = "{http://www.w3.org/1999/xlink}href"
_UNIT = "uom"
_BOUNDS = "boundedBy"


class _Document(NamedTuple):
    """What a file holds: its features by the names of their layers."""

    root: Any
    features: dict[str, list[Any]]


def _document(path: Path) -> _Document:
    root = parsing.root_of(path, "GML", ())
    return once.made_once(("gml", str(path), id(root)), lambda: _looked_through(root, path))


def _looked_through(root: Any, path: Path) -> _Document:
    holders = list(root.iter(*(f"{{*}}{name}" for name in _MEMBERS)))
    found = list(chain.from_iterable(holders))
    if not found and not (holders or local(root.tag).endswith(_COLLECTION)):
        if not any(map(_is_geometry, root.iter())):
            raise FileError(
                f"{path} is XML but no GML: its outermost element is <{local(root.tag)}>, with no "
                "member that is a feature"
            )
        found = [root]
    tags = list(map(get_tag, found))
    codes = {tag: k for k, tag in enumerate(dict.fromkeys(tags))}
    code = np.fromiter(map(codes.__getitem__, tags), np.int64, len(tags))
    features: dict[str, list[Any]] = {}
    for tag, k in codes.items():
        own = map(found.__getitem__, np.flatnonzero(code == k).tolist())
        features[distinct_name(local(tag), features)] = list(own)
    return _Document(root, features)


def _is_geometry(element: Any) -> bool:
    return local(element.tag) in shapes.GEOMETRIES and "/gml" in element.tag


@collecting_no_garbage()
def layer_names(path: Path) -> list[str]:
    """Return the names of the types of features, in the order of the file."""
    return list(_document(path).features)


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layers; the file is read for it."""
    return [info for name in layer_names(path) for info in describe(path, name)]


def describe(path: Path, name: str) -> list[LayerInfo]:
    """Describe one layer; of several dimensions each."""
    return [info_of(layer) for layer in read(path, name).layers]


class _Properties(NamedTuple):
    """The properties of features.

    row, code : (n,) the feature each is of, and the place of its tag in ``tags``
    size : (n,) how many elements it holds
    """

    elements: list[Any]
    row: I64Array
    code: I64Array
    size: I64Array
    tags: list[str]

    def taken(self, which: BoolArray) -> list[Any]:
        return list(map(self.elements.__getitem__, np.flatnonzero(which).tolist()))


@collecting_no_garbage()
def read(path: Path, name: str) -> Reading:
    """Read a layer; several come back if its geometry has several dimensions.

    Raises
    ------
    UnknownLayerError, FileError, GeometryError, DataError
    """
    document = _document(path)
    if name not in document.features:
        raise UnknownLayerError(name, str(path), list(document.features))
    features = document.features[name]
    notes: list[str] = []
    properties = _properties(features)
    is_spatial = _are_spatial(properties)
    chosen = _geometry_property(properties, is_spatial, name, notes)
    geometries, crs = _geometry(document.root, properties, chosen, features, path, name, notes)
    types = schema.types_of(document.root, get_tag(features[0]), path)
    table = _table(features, properties, is_spatial, types, name, notes)
    return layers_of(path, geometries, table, crs, None, notes, name)


def _properties(features: list[Any]) -> _Properties:
    elements = list(chain.from_iterable(features))
    counts = np.fromiter(map(len, features), np.int64, len(features))
    tags = list(map(get_tag, elements))
    known = {tag: k for k, tag in enumerate(dict.fromkeys(tags))}
    code = np.fromiter(map(known.__getitem__, tags), np.int64, len(tags))
    size = np.fromiter(map(len, elements), np.int64, len(elements))
    return _Properties(
        elements, np.repeat(np.arange(len(features)), counts), code, size, list(known)
    )


def _are_spatial(properties: _Properties) -> BoolArray:
    """Return (n_tags,) which properties hold geometry: those that do in any feature."""
    found = np.zeros(len(properties.tags), bool)
    is_full = properties.size > 0
    inner = map(get_tag, map(itemgetter(0), properties.taken(is_full)))
    is_own = np.fromiter((local(tag) in shapes.GEOMETRIES for tag in inner), bool, is_full.sum())
    found[distinct(properties.code[is_full][is_own])] = True
    return found


def _geometry_property(
    properties: _Properties, is_spatial: BoolArray, name: str, notes: list[str]
) -> int:
    """Return the property that is the geometry: the one most features have; -1 if there is none."""
    places = np.flatnonzero(is_spatial)
    if not len(places):
        return -1
    counts = count_by(properties.code, len(properties.tags))[places]
    chosen = int(places[np.argmax(counts)])
    others = [local(properties.tags[k]) for k in places.tolist() if k != chosen]
    if others:
        own = local(properties.tags[chosen])
        notes.append(Warned(f"{name}: geometry is its {own}; left out: {', '.join(others)}"))
    return chosen


def _geometry(
    root: Any,
    properties: _Properties,
    chosen: int,
    features: list[Any],
    path: Path,
    name: str,
    notes: list[str],
) -> tuple[Sequence[Any], proj.CRS | None]:
    which = (properties.code == chosen) & (properties.size > 0)
    rows = properties.row[which]
    n = len(features)
    _check_links(properties, chosen, path)
    if len(distinct(rows)) < len(rows):  # a feature that has the property several times
        what = counted(len(rows) - len(distinct(rows)), "feature")
        notes.append(f"{name}: {what} with several geometries, taken as one of several parts")
    elements = properties.taken(which)
    system = srs.of_geometry(root, features, elements, path, name, notes)
    found = shapes.found_in(elements, system.n_axes, path, rows)
    parts = [
        part._replace(
            row=rows[part.row],
            xy=np.ascontiguousarray(part.xy[:, ::-1]) if system.begins_north else part.xy,
        )
        for part in found.parts
    ]
    is_null, is_multi = np.ones(n, bool), np.zeros(n, bool)
    is_null[rows] = False
    is_multi[rows[found.is_multi]] = True
    for part in parts:
        is_multi |= count_by(part.row, n) > 1
    return columns_of(parts, n, is_null, is_multi, Family.POINTS), system.crs


def _check_links(properties: _Properties, chosen: int, path: Path) -> None:
    """Refuse a feature whose geometry is somewhere else: it would come out as one without.

    Raises
    ------
    GeometryError
        If there is one, naming the first.
    """
    which = np.flatnonzero((properties.code == chosen) & (properties.size == 0))
    for k in which.tolist():
        element = properties.elements[k]
        if link := element.get(_HREF):
            where = f"row {int(properties.row[k]) + 1:,} (line {element.sourceline:,})"
            raise GeometryError(str(path), where, shapes.refers_to(link), ADVICE)


def _table(
    features: list[Any],
    properties: _Properties,
    is_spatial: BoolArray,
    types: dict[str, pa.DataType],
    name: str,
    notes: list[str],
) -> pa.Table:
    columns: dict[str, pa.Array] = {}
    n_rows, n_nested = len(features), 0
    for k, tag in enumerate(properties.tags):
        own = local(tag)
        if is_spatial[k] or own in (_BOUNDS, "location"):
            continue
        is_own = properties.code == k
        n_nested += int((properties.size[is_own] > 0).sum())
        is_own &= properties.size == 0
        if not is_own.any():
            continue
        rows = properties.row[is_own]
        values = _values(properties.taken(is_own), rows, own, name, notes)
        rows = distinct(rows)
        column = texts.column_of(rows, values, n_rows)
        column, said = texts.typed(column, types[own]) if own in types else texts.guessed(column)
        notes += [f"{name}: field {own} {said}"] if said else []
        columns[distinct_name(own, columns)] = column
    for own, kind in types.items():
        if own not in columns and own not in map(local, properties.tags):
            columns[own] = pa.nulls(n_rows, kind)
    if n_nested:
        what = counted(n_nested, "value")
        notes.append(Warned(f"{name}: {what} with parts of their own, left out"))
    ids = list(map(methodcaller("get", _id_of(features)), features))
    if any(ids) and "id" not in columns:
        columns = {"id": pa.array(ids, pa.string()), **columns}
    ordered = [*(n for n in ("id",) if n in columns), *types, *columns]
    return pa.table({own: columns[own] for own in dict.fromkeys(ordered) if own in columns})


def _id_of(features: list[Any]) -> str:
    """Return the name that the identifier of a feature has in this version of GML."""
    return next((key for key in features[0].attrib if local(key) in ("id", "fid")), "id")


def _values(
    elements: list[Any], rows: I64Array, own: str, name: str, notes: list[str]
) -> list[str | None]:
    """Return the texts of a property, one for each of its features; of several a list as text."""
    values: list[str | None] = [text or "" for text in map(get_text, elements)]
    nil = list(map(methodcaller("get", _NIL), elements))
    if any(nil):
        values = [None if said in ("true", "1") else v for v, said in zip(values, nil, strict=True)]
    hrefs = list(map(methodcaller("get", _HREF), elements))
    if any(hrefs):
        values = [v or link for v, link in zip(values, hrefs, strict=True)]
    units = set(map(methodcaller("get", _UNIT), elements)) - {None}
    if units:
        notes.append(f"{name}: field {own} is in {', '.join(sorted(units))}")
    if len(distinct(rows)) == len(rows):
        return values
    notes.append(f"{name}: field {own} holds lists; read as text")
    found: dict[int, list[str | None]] = {}
    for row, value in zip(rows.tolist(), values, strict=True):
        found.setdefault(row, []).append(value)
    return [v[0] if len(v) == 1 else orjson.dumps(v).decode() for v in found.values()]
