"""A service of features as a file of layers: a description of it, from which each layer is fetched."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from polygene import computing as pc
from polygene import proj
from polygene.crs import label
from polygene.errors import FileError, UnknownLayerError
from polygene.formats.base import Reading, Written, collecting_no_garbage
from polygene.formats.columns import east_first, info_of
from polygene.formats.geojson.reading import from_features
from polygene.formats.wanted import ALL, Wanted
from polygene.geometry import Family
from polygene.info import LayerInfo
from polygene.layer import Layer
from polygene.longitudes import goes_beyond
from polygene.provenance import Made, source
from polygene.remote import features
from polygene.remote.features import Collection, Items, Service
from polygene.remote.http import RefusedError, shown

NAME = "OGC API – Features"
ENDING = ".features"
ENDINGS: tuple[str, ...] = ()  # such files are made here, for addresses of services
KEEPS_LINEAGE = True
HOLDS_MANY = True
HOLDS_TABLES = False
READS_PART = True
IS_ONLY_READ = True

# What of the language every service that takes filters knows (OGC 21-065r2, basic CQL2).
_BASIC = frozenset(
    {"or_", "and_", "not_", "compare", "is_null", "not_null", "field", "text", "number", "minus"}
)
_KINDS: dict[tuple[Any, Any], pa.DataType] = {
    ("integer", None): pa.int64(),
    ("number", None): pa.float64(),
    ("boolean", None): pa.bool_(),
    ("string", "date"): pa.date32(),
    ("string", "date-time"): pa.timestamp("ms", tz="UTC"),
    ("string", None): pa.string(),
}
_FAMILIES = {
    "point": Family.POINTS,
    "linestring": Family.LINES,
    "curve": Family.LINES,
    "polygon": Family.POLYGONS,
    "surface": Family.POLYGONS,
}
_MOST_ASKED = 60  # collections of which a list tells how much they hold


def is_like(head: bytes) -> bool:
    """Whether a file begins as a description of a service."""
    return head.startswith(b'{"url":')


def layer_names(path: Path) -> list[str]:
    return [own.id for own in features.described(path).collections]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the collections as the service does, with the kind and fields of their first feature."""
    found = features.described(path).collections
    return [_info(own, len(found) <= _MOST_ASKED) for own in found]


def describe(path: Path, name: str) -> list[LayerInfo]:
    """Describe one collection."""
    found = features.described(path).collections
    return [_info(own, True) for own in found if own.id == name]


def _info(own: Collection, is_asked: bool) -> LayerInfo:
    kind, n_rows, fields = "unknown", 0, list[tuple[str, str]]()
    if is_asked:
        first, total = features.first_of(own)
        n_rows = total or 0
        if first is not None:
            reading = from_features([first], own.crs, Path(f"{own.id}{ENDING}"))
            info = info_of(reading.layers[0])
            kind, fields = info.geometry, info.fields
    extent = own.extent
    if extent is not None and own.stored:
        with contextlib.suppress(proj.ProjError):  # a box round the pole, perhaps
            way = proj.Transformer.from_crs("OGC:CRS84", own.crs, always_xy=True)
            extent = way.transform_bounds(*extent, errcheck=True)
    return LayerInfo(own.id, kind, n_rows, own.crs, extent, fields, own.title)


@collecting_no_garbage()
def read(path: Path, name: str, wanted: Wanted = ALL) -> Reading:
    """Fetch a collection, or what is wanted of it as far as the service can choose.

    Raises
    ------
    UnknownLayerError, FileError
    """
    service = features.described(path)
    own = next((one for one in service.collections if one.id == name), None)
    if own is None:
        raise UnknownLayerError(name, service.url, layer_names(path))
    schema = features.schema_of(own)
    text = _filter(service, schema, wanted)
    # Services count longitudes within half a turn (RFC 7946, 5.2); layers of them need not.
    extents = (wanted.box, own.extent)
    box = None if any(goes_beyond(one, own.crs) for one in extents) else wanted.box
    try:
        items = features.items_of(service, own, box, text)
    except RefusedError:
        if text is None:
            raise
        text, items = None, features.items_of(service, own, box)
    place = Path(f"{name}{ENDING}")
    reading = from_features(items.features, items.of.crs, place)
    notes = list(reading.notes)
    if wanted.where is not None and text is None and service.takes_filter:
        notes.append(f"{name}: the service cannot take the filter, so that all is fetched")
    layers = [
        _as_layer(
            _with_kind(
                replace(layer, table=_typed(_with_unseen(layer, schema, wanted), schema)), schema
            ),
            items,
            len(reading.layers) == 1,
        )
        for layer in reading.layers
    ]
    return Reading([_with_lineage(layer, service, items) for layer in layers], notes)


def _with_unseen(layer: Layer, schema: Mapping[str, Any], wanted: Wanted) -> pa.Table:
    """Return a layer's table with fields that the service has, if no feature that came names them.

    All of them where none came; else those of the filter, for a service may leave out what is null.
    """
    table = layer.table
    asked = wanted.where.fields if wanted.where is not None else []
    for name in asked if layer.n_rows else schema:
        kind = _kind_of(schema.get(name))
        if kind is not None and name not in table.column_names:
            table = table.append_column(name, pa.nulls(layer.n_rows, kind))
    return table


def _with_kind(layer: Layer, schema: Mapping[str, Any]) -> Layer:
    """Return a layer of no features as of the kind that the service states (OGC 19-079r2, clause 6)."""
    told = [str(own.get("format", "")) for own in schema.values() if isinstance(own, dict)]
    shapes = [text.split("-")[1] for text in told if text.startswith("geometry-")]
    found = {_FAMILIES.get(shape.removeprefix("multi")) for shape in shapes}
    families = [family for family in found if family is not None]
    return layer.without_geometry_as(families[0]) if len(families) == 1 else layer


def _kind_of(told: Any) -> pa.DataType | None:
    """Return the type that a service states of a field, if it is one there is here.

    JSON Schema may list several (2020-12, Validation 6.1.1), as ``["integer", "null"]``.
    """
    if not isinstance(told, dict):
        return None
    given = told.get("type")
    kinds = [one for one in (given if isinstance(given, list) else [given]) if one != "null"]
    form = told.get("format")
    is_known = len(kinds) == 1 and all(isinstance(v, str | None) for v in (kinds[0], form))
    return _KINDS.get((kinds[0], form)) if is_known else None


def _typed(table: pa.Table, schema: Mapping[str, Any]) -> pa.Table:
    """Return a table with the types that the service states, where all values are such."""
    for k, own in enumerate(table.schema):
        kind = _kind_of(schema.get(own.name))
        if kind is None or kind == own.type:
            continue
        column = table.column(k)
        with contextlib.suppress(pa.ArrowInvalid, pa.ArrowNotImplementedError):
            if pa.types.is_timestamp(kind) and pa.types.is_string(own.type):
                column = pc.cast(column, pa.timestamp("us", tz="UTC"))
            table = table.set_column(k, own.with_type(kind), pc.cast(column, kind))
    return table


def _as_layer(layer: Layer, items: Items, is_only: bool) -> Layer:
    own = items.of
    column = east_first(layer.geometry, own.crs) if own.stored else layer.geometry
    n = len(items.features)
    return replace(
        layer,
        name=own.id if is_only else layer.name,
        geometry=column,
        title=own.title,
        description=own.description,
        total=items.total if items.total is not None and items.total > n else None,
    )


def _with_lineage(layer: Layer, service: Service, items: Items) -> Layer:
    """Return a layer whose lineage tells from where and when it came."""
    told = "\n".join(one.about.checksum for one in items.kept)
    validators = [one.about.validator for one in items.kept if one.about.validator]
    made = Made(
        layer.name,
        f"{shown(service.url)}#{items.of.id}",
        layer.n_total,
        label(items.of.crs),
        hashlib.sha256(told.encode()).hexdigest(),
        items.of.credit,
        items.of.licence,
        max((one.about.retrieved for one in items.kept), default=""),
        validators[0] if len(set(validators)) == 1 else "",
    )
    return replace(layer, lineage=source(made))


def _filter(service: Service, schema: Mapping[str, Any], wanted: Wanted) -> str | None:
    """Return the filter as the service takes it; None if it is to be done here."""
    if wanted.where is None or not service.takes_filter:
        return None
    tree = wanted.where.tree
    if any(node.data not in _BASIC for node in tree.iter_subtrees()):
        return None
    return wanted.where.text if set(wanted.where.fields) <= set(schema) else None


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Refuse: a service is only read."""
    del layers
    raise FileError(f"{path}: a service is only read here")
