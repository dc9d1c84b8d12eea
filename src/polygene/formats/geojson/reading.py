"""Reading GeoJSON."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import chain
from operator import methodcaller
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pyarrow as pa

from polygene import computing as pc
from polygene import crs as crs_module
from polygene import kernels, proj
from polygene.arrays import BoolArray, I64Array
from polygene.classes import NamedTuple
from polygene.errors import DataError, FileError, GeometryError, PolygeneError, listed, reason_of
from polygene.formats.base import Reading, collecting_no_garbage
from polygene.formats.columns import east_first, info_of, layers_of, named
from polygene.formats.geojson.lifting import lift
from polygene.geometry import Family
from polygene.info import LayerInfo
from polygene.notes import Warned, counted
from polygene.text import coordinates as flat
from polygene.text.assemble import OfFamily, Parts, columns_of
from polygene.text.fg import PlaceError, placed
from polygene.text.lifted import Lifted, OddError

_ADVICE = "mend the file or take the layer from its source again"


def layer_names(path: Path) -> list[str]:
    """Return the layers' names: the file's, with the family behind it if there are several."""
    return [layer.name for layer in _read(path).layers]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layers; the file must be read for it."""
    return [info_of(layer) for layer in _read(path).layers]


def read(path: Path, name: str) -> Reading:
    """Read the layer of that name; all of them if it is the file's own name."""
    return named(_read(path), path, name)


@collecting_no_garbage()
def _read(path: Path) -> Reading:
    data = _data(path)
    emptied = lift(data) if kernels.IS_COMPILED else None
    if emptied is not None:
        try:
            return _taken(path, _parse(path, emptied.rest), emptied.lists)
        except (OddError, PolygeneError):
            pass  # the other way takes it, or says what is wrong
    return _taken(path, _parse(path, data), None)


def _taken(path: Path, document: dict[str, Any], lifted: Lifted | None) -> Reading:
    return taken(features_of(document, path), document, path, lifted)


def taken(
    given: Sequence[dict[str, Any]], document: dict[str, Any], path: Path, lifted: Lifted | None
) -> Reading:
    """Return the layers of features in the CRS that they, or what they stand in, say.

    Raises
    ------
    DataError
        If that is none that is known, or they are in several.
    """
    try:
        features, uri = placed(given, document)
    except PlaceError as err:
        raise DataError(f"{path}: {err}; take those of each CRS to a file of its own") from err
    if uri is None:
        return from_features(features, _crs(document, features, path), path, lifted)
    crs = crs_module.of_uri(uri)
    reading = from_features(features, crs, path, lifted)
    layers = [replace(y, geometry=east_first(y.geometry, crs)) for y in reading.layers]
    return Reading(layers, reading.notes)


# Members of features that are read, or say nothing of what a feature is; some are of JSON-FG.
_KNOWN = frozenset(
    ("type", "id", "geometry", "properties", "bbox", "crs", "links")
    + ("place", "coordRefSys", "featureType", "featureSchema", "conformsTo")
)


_get_crs = methodcaller("get", "crs")


def from_features(
    features: Sequence[dict[str, Any]], crs: proj.CRS, path: Path, lifted: Lifted | None = None
) -> Reading:
    """Return the layers of some features; ``path`` names them and is for messages."""
    notes: list[str] = []
    geometries = geometries_of(features, path, notes, lifted)
    table, ids = _attributes(features, path, notes)
    # What is not among the properties is no attribute (RFC 7946, section 6.1), and may be meant as one.
    foreign = sorted(set().union(*set(map(tuple, features))) - _KNOWN)
    if foreign:
        what = "member" if len(foreign) == 1 else "members"
        words = f"{what} {listed(foreign, 5)} of features, beside their properties, left out"
        notes.append(Warned(f"{path.stem}: {words}"))
    return layers_of(path=path, geometries=geometries, table=table, crs=crs, ids=ids, notes=notes)


def _data(path: Path) -> bytes:
    try:
        data = path.read_bytes()
    except OSError as err:
        raise FileError(f"cannot read {path}: {reason_of(err)}") from err
    return data.removeprefix(b"\xef\xbb\xbf")


def _parse(path: Path, data: bytes | memoryview) -> dict[str, Any]:
    try:
        document = orjson.loads(data)
    except orjson.JSONDecodeError as err:
        line, _, rest = bytes(data).lstrip().partition(b"\n")
        if rest.lstrip()[:1] == b"{" and is_document(line):
            raise FileError(
                f"{path} has a text of JSON in each line, as a GeoJSON sequence; give it the ending "
                ".geojsons"
            ) from err
        is_at_end = err.pos >= len(err.doc.rstrip())
        what = "is cut short" if is_at_end else f"is not valid JSON ({_lower(err.msg)})"
        raise FileError(f"{path} {what}: line {err.lineno}, column {err.colno}; {_ADVICE}") from err
    if not isinstance(document, dict) or "type" not in document:
        raise FileError(f"{path} is JSON but not GeoJSON: it is no object with a member 'type'")
    return document


def is_document(data: bytes) -> bool:
    """Whether bytes are a text of JSON from beginning to end."""
    try:
        orjson.loads(data)
    except orjson.JSONDecodeError:
        return False
    return True


def _lower(text: str) -> str:
    return text[:1].lower() + text[1:]


def features_of(document: dict[str, Any], path: Path) -> list[dict[str, Any]]:
    """Return the features of a document: itself, or those it has."""
    kind = document["type"]
    if kind == "Feature":
        return [document]
    if not isinstance(kind, str):
        raise FileError(f"{path} is JSON but not GeoJSON: its member 'type' is no text")
    if kind in flat.TYPES or kind == "GeometryCollection":
        return [{"type": "Feature", "geometry": document, "properties": None}]
    features = document.get("features")
    if kind != "FeatureCollection" or not isinstance(features, list):
        raise FileError(
            f"{path} is JSON but not GeoJSON: its type is {kind!r}, not a FeatureCollection with "
            "a list of features"
        )
    for row in np.flatnonzero([type(feature) is not dict for feature in features])[:1]:
        raise FileError(
            f"{path}, row {row + 1}: no feature but {str(features[row])[:40]}; {_ADVICE}"
        )
    return features


def _crs(document: dict[str, Any], features: Sequence[dict[str, Any]], path: Path) -> proj.CRS:
    """Return WGS 84, or what a ``crs`` member of the older, pre-RFC form says, of all or of each."""
    member = document.get("crs")
    if member is None:
        own = list(map(_get_crs, features))
        member = next((one for one in own if isinstance(one, dict)), None) if any(own) else None
        if member is not None and any(one != member for one in own):
            raise DataError(
                f"{path}: its features have no 'crs' that is the same for all; take those of each CRS "
                "to a file of its own"
            )
    if not isinstance(member, dict):
        return crs_module.parse(crs_module.LONGITUDE_LATITUDE)
    properties = member.get("properties")
    name = properties.get("name") if isinstance(properties, dict) else None
    if member.get("type") != "name" or not isinstance(name, str):
        raise DataError(f"{path}: its member 'crs' names no CRS; take it out or give `crs`")
    try:
        return crs_module.parse(name)
    except DataError as err:
        raise DataError(f"{path}: its member 'crs': {err}") from err


class _Kind(NamedTuple):
    """Geometries of one type with the rows that they belong to."""

    geometries: list[Any]
    rows: I64Array


def geometries_of(
    features: Sequence[dict[str, Any]],
    path: Path,
    notes: list[str],
    lifted: Lifted | None = None,
) -> list[OfFamily]:
    """Return the geometries of features, or of those whose coordinates were lifted.

    Raises
    ------
    GeometryError
        If one is not as its type demands.
    OddError
        If what was lifted is not all that, and nothing but that.
    """
    geometries = list(map(flat.get_geometry, features))
    n_rows = len(features)
    is_null: BoolArray = np.fromiter((g is None for g in geometries), bool, n_rows)
    rows = np.flatnonzero(~is_null)
    given = [g for g in geometries if g is not None]
    try:
        kinds = np.array(list(map(flat.get_type, given)), dtype=object)
        is_multi = np.zeros(n_rows, bool)
        parts: list[Parts] = []
        taken: list[Any] = []
        for kind, same in _by_kind(given, rows, kinds, is_multi).items():
            values = list(map(flat.get_coordinates, same.geometries))
            taken += values
            parts.append((lifted or flat).parts_of(kind, values, same.rows))
        # A list of that name elsewhere, or twice in one place, is a number now.
        if lifted is not None and (
            len(taken) != len(lifted.depth) or len(set(taken)) != len(taken)
        ):
            raise OddError
    except OddError:
        raise
    except (TypeError, ValueError, AttributeError, KeyError) as err:
        raise _first_fault(geometries, path, err) from err
    n_longer = sum(own.n_longer for own in parts)
    if n_longer:
        what = counted(n_longer, "position")
        notes.append(Warned(f"{path.name}: numbers behind the third of {what} left out"))
    return columns_of(parts, n_rows, is_null, is_multi, Family.POINTS)


def _by_kind(
    given: list[Any], rows: I64Array, kinds: np.ndarray, is_multi: BoolArray
) -> dict[str, _Kind]:
    """Group geometries by type, collections taken apart; mark rows given as multi."""
    groups: dict[str, _Kind] = {}
    for kind in dict.fromkeys(kinds.tolist()):
        chosen = np.flatnonzero(kinds == kind)
        same = given if len(chosen) == len(given) else [given[k] for k in chosen]
        if kind == "GeometryCollection":
            members = [flat.unpacked(geometry) for geometry in same]
            owner = np.repeat(rows[chosen], [len(m) for m in members])
            inner = list(chain.from_iterable(members))
            is_multi[rows[chosen]] = True
            types = np.array(list(map(flat.get_type, inner)), dtype=object)
            for name, found in _by_kind(inner, owner, types, is_multi).items():
                _join(groups, name, found)
            continue
        is_multi[rows[chosen]] |= flat.TYPES[kind][1]
        _join(groups, kind, _Kind(same, rows[chosen]))
    return groups


def _join(groups: dict[str, _Kind], kind: str, found: _Kind) -> None:
    if kind in groups:
        before = groups[kind]
        found = _Kind(
            before.geometries + found.geometries, np.concatenate([before.rows, found.rows])
        )
    groups[kind] = found


def _first_fault(geometries: list[Any], path: Path, err: Exception) -> GeometryError:
    """Find the first row whose geometry is not as its type demands; only after a failure."""
    for row, geometry in enumerate(geometries):
        reason = None if geometry is None else _fault_of(geometry)
        if reason:
            return GeometryError(str(path), f"row {row + 1}", reason, _ADVICE)
    return GeometryError(str(path), "some row", f"its geometry is damaged ({err})", _ADVICE)


def _fault_of(geometry: Any) -> str | None:
    if not isinstance(geometry, dict):
        return "its geometry is no object"
    try:
        members = flat.unpacked(geometry)
    except (ValueError, AttributeError) as err:
        return str(err)
    for member in members:
        kind = member.get("type")
        if not isinstance(kind, str) or kind not in flat.TYPES:
            return f"its geometry is of unknown type {kind!r}"
        reason = flat.fault_of(kind, member.get("coordinates"))
        if reason:
            return reason
    return None


def _attributes(
    features: Sequence[dict[str, Any]], path: Path, notes: list[str]
) -> tuple[pa.Table, I64Array | None]:
    properties = [p or {} for p in map(flat.get_properties, features)]
    try:
        names = list(dict.fromkeys(chain.from_iterable(properties)))
        columns = {name: list(map(methodcaller("get", name), properties)) for name in names}
    except (TypeError, AttributeError) as err:
        row = next(k for k, p in enumerate(properties) if not isinstance(p, dict))
        raise FileError(f"{path}, row {row + 1}: its properties are no object; {_ADVICE}") from err
    ids, own = _ids(list(map(flat.get_id, features)))
    if own is not None and "id" not in columns:
        columns = {"id": own, **columns}
    arrays = {}
    for name, values in columns.items():
        arrays[name], complaint = _column(values)
        if complaint:
            notes.append(f"{path.stem}: field {name} {complaint}; read as text")
    return pa.table(arrays), ids


def _ids(values: list[Any]) -> tuple[I64Array | None, list[Any] | None]:
    """Return the features' identifiers: as whole numbers if all are such, else as a column."""
    kinds = set(map(type, values))
    if kinds == {int} and len(set(values)) == len(values) and max(map(abs, values)) < 2**63:
        return np.array(values, np.int64), None
    return None, None if kinds <= {type(None)} else values


def _column(values: list[Any]) -> tuple[pa.Array, str]:
    """Return a column of the narrowest type that holds all values, else of text."""
    try:
        array = pc.column(values)
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError, pa.ArrowNotImplementedError):
        return _as_text(values), "holds values of several types"
    if pa.types.is_null(array.type):
        return pc.cast(array, pa.string()), ""
    if pa.types.is_nested(array.type):
        return _as_text(values), "holds lists or objects"
    # Behind a real, Arrow takes true for 1.
    if pa.types.is_floating(array.type) and bool in set(map(type, values)):
        return _as_text(values), "holds values of several types"
    return array, ""


def _as_text(values: list[Any]) -> pa.Array:
    texts = [v if v is None or isinstance(v, str) else orjson.dumps(v).decode() for v in values]
    return pa.array(texts, pa.string())
