"""GPX 1.1, and 1.0: what a receiver of satellites recorded, in WGS 84. It is only read.

A file has up to five layers: ``waypoints``, ``routes`` as lines with their ``turnpoints``, and
``tracks`` as lines with their ``fixes``, the points that were recorded, each with its time.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from operator import methodcaller
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene import crs as crs_module
from polygene.arrays import F64Array, I64Array, count_by, offsets_from, run_lengths
from polygene.classes import NamedTuple
from polygene.errors import FileError, GeometryError, UnknownLayerError
from polygene.formats import moments
from polygene.formats.base import Reading, Written, collecting_no_garbage
from polygene.formats.columns import ADVICE, info_of
from polygene.formats.markup import parsing, texts
from polygene.formats.markup.parsing import Stream
from polygene.formats.markup.positions import PositionError, numbers
from polygene.geometry import Family, GeometryColumn
from polygene.info import LayerInfo
from polygene.layer import Layer, distinct_name

NAME = "GPX"
ENDINGS = (".gpx",)
KEEPS_LINEAGE = False
HOLDS_MANY = True
HOLDS_TABLES = False
READS_PART = False
IS_ONLY_READ = True
INSTEAD = ".kml or .geojson"

_LAYERS = {
    "waypoints": "wpt",
    "routes": "rte",
    "turnpoints": "rtept",
    "tracks": "trk",
    "fixes": "trkpt",
}
_POINTS_OF = {"rte": "rtept", "trk": "trkpt"}
_PATHS_OF = {"rtept": "rte", "trkpt": "trk"}
_NUMBERED = {"rtept": "route", "trkpt": "track"}  # the field by which a point is told its path
# What may be in a point or path, in the order of the schema, with the type it has there.
_KINDS: dict[str, pa.DataType] = {
    "time": pa.timestamp("ms", tz="UTC"),
    "magvar": pa.float64(),
    "geoidheight": pa.float64(),
    "name": pa.string(),
    "cmt": pa.string(),
    "desc": pa.string(),
    "src": pa.string(),
    "link": pa.string(),
    "number": pa.int64(),
    "sym": pa.string(),
    "type": pa.string(),
    "fix": pa.string(),
    "sat": pa.int64(),
    "hdop": pa.float64(),
    "vdop": pa.float64(),
    "pdop": pa.float64(),
    "ageofdgpsdata": pa.float64(),
    "dgpsid": pa.int64(),
    "speed": pa.float64(),  # of 1.0, as is course
    "course": pa.float64(),
}
_HEIGHT, _EXTENSIONS = "ele", "extensions"
_OUTER = ("gpx", "metadata", "trkseg")
_NO_FIELDS = (_HEIGHT, _EXTENSIONS, *_OUTER, *_LAYERS.values())
is_like = parsing.is_xml


def _root(path: Path) -> Any:
    return parsing.root_of(path, NAME, ("gpx",))


@collecting_no_garbage()
def layer_names(path: Path) -> list[str]:
    root = _root(path)
    return [
        name for name, tag in _LAYERS.items() if next(root.iter(f"{{*}}{tag}"), None) is not None
    ]


def table_names(path: Path) -> list[str]:
    """Return the layers that are the points of others: who asks for the only layer means the path."""
    return [name for name in layer_names(path) if _LAYERS[name] in _PATHS_OF]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layers; the file is read for it."""
    return [info_of(read(path, name).layers[0]) for name in layer_names(path)]


@collecting_no_garbage()
def read(path: Path, name: str) -> Reading:
    """Read a layer.

    Raises
    ------
    UnknownLayerError, FileError, GeometryError
    """
    names = layer_names(path)
    if name not in names:
        raise UnknownLayerError(name, str(path), names)
    root, tag = _root(path), _LAYERS[name]
    notes: list[str] = []
    if tag in _POINTS_OF:
        geometry, table = _paths(root, tag, path, name, notes)
    else:
        geometry, table = _points(root, tag, path, name, notes)
    crs = crs_module.parse(crs_module.LONGITUDE_LATITUDE)
    return Reading([Layer(name, geometry, table, crs)], notes)


def write(path: Path, layers: Sequence[Layer]) -> Written:
    """Refuse: GPX is only read."""
    del layers
    raise FileError(f"{path}: a GPX is only read here; write {INSTEAD}")


class _Elements(Stream):
    """All of a document that fields may come from.

    is_extended : (n,) what is in extensions, at whatever depth
    """

    def __init__(self, root: Any) -> None:
        found: list[Any] = []
        if next(root.iter(f"{{*}}{_EXTENSIONS}"), None) is not None:
            found = root.xpath(f"//*[local-name()='{_EXTENSIONS}']//*[not(*)]")
        extended = map(parsing.local, map(parsing.get_tag, found))
        super().__init__(
            root, [*_LAYERS.values(), *_OUTER, _HEIGHT, _EXTENSIONS, *_KINDS, *extended]
        )
        inside = set(found)
        self.is_extended = np.fromiter(
            map(inside.__contains__, self.elements), bool, len(self.elements)
        )


class _Places(NamedTuple):
    """The points of one kind in a document: which elements they are, and where."""

    stream: _Elements
    at: I64Array  # elements of the stream that are such points
    xy: F64Array
    z: F64Array | None


def _places(root: Any, tag: str, path: Path, name: str, notes: list[str]) -> _Places:
    stream = _Elements(root)
    at = np.flatnonzero(stream.are(tag))
    elements = stream.at(at)
    axes = []
    for axis in ("lon", "lat"):
        words = pa.array(map(methodcaller("get", axis, ""), elements), pa.string())
        try:
            axes.append(numbers(pc.utf8_trim_whitespace(words), np.arange(len(at))))
        except PositionError as err:
            place = f"{name}, row {err.text + 1} (line {elements[err.text].sourceline:,})"
            raise GeometryError(str(path), place, f"its {axis}: {err.reason}", ADVICE) from err
    z, heights = None, _owned(stream, _HEIGHT, tag)
    if len(heights.rows):
        column = texts.column_of(heights.rows, heights.texts, len(at))
        z = texts.numbers_or_none(column, name, "height", notes)
        z = None if np.isnan(z).all() else z
    return _Places(stream, at, np.stack(axes, axis=1), z)


class _Owned(NamedTuple):
    rows: I64Array
    texts: list[str | None]


def _owned(stream: _Elements, child: str, tag: str, inside: bool = False) -> _Owned:
    """Return texts of elements of a name that are in those of a tag, each with the number of that.

    ``inside`` takes those at any depth of what extends the schema.
    """
    at = np.flatnonzero(stream.are(child) & (stream.is_extended == inside))
    if inside:
        outer = np.flatnonzero(stream.are(_EXTENSIONS))
        holders = stream.parents_of(outer)
        outer, holders = outer[holders >= 0], holders[holders >= 0]  # not those within others
        last = np.searchsorted(outer, at, "right") - 1
        at = at[(last >= 0) & (holders[np.maximum(last, 0)] == stream.code_of(tag))]
    else:
        at = at[stream.parents_of(at) == stream.code_of(tag)]
    found = stream.texts_of(at)
    if child == "link":
        found = list(map(methodcaller("get", "href"), stream.at(at)))
    return _Owned(stream.number_of(tag)[at], found)


def _fields(
    stream: _Elements, tag: str, n_rows: int, name: str, notes: list[str]
) -> dict[str, pa.Array]:
    columns: dict[str, pa.Array] = {}
    for child, inside in ((child, inside) for inside in (False, True) for child in stream.names):
        if (child in _NO_FIELDS) or (child not in _KINDS and not inside):
            continue
        rows, found = _owned(stream, child, tag, inside)
        if not len(rows):
            continue
        column = texts.column_of(rows, found, n_rows)
        lost = texts.passed_over(f"{name}: field {child}", rows, found, n_rows, column)
        column, said = texts.guessed(column) if inside else texts.typed(column, _KINDS[child])
        own = distinct_name(child, columns)
        notes += lost
        columns[own] = column
        notes += [f"{name}: field {own} {said}"] if said else []
    return columns


def _points(
    root: Any, tag: str, path: Path, name: str, notes: list[str]
) -> tuple[GeometryColumn, pa.Table]:
    places = _places(root, tag, path, name, notes)
    stream, n = places.stream, len(places.at)
    columns = _fields(stream, tag, n, name, notes)
    if tag in _PATHS_OF:
        which = {_NUMBERED[tag]: pc.column(stream.number_of(_PATHS_OF[tag])[places.at] + 1)}
        if tag == "trkpt":
            which["segment"] = pc.column(_segment_in_track(stream)[places.at] + 1)
        columns = {**which, **{k: v for k, v in columns.items() if k not in which}}
    return replace(GeometryColumn.from_points(places.xy), z=places.z), _table(columns, n)


def _table(columns: dict[str, pa.Array], n_rows: int) -> pa.Table:
    return pa.table(columns) if columns else pa.table({"row": pc.column(np.arange(1, n_rows + 1))})


def _segment_in_track(stream: _Elements) -> I64Array:
    """Return (n,) the number of the segment within its track."""
    segment, track = stream.number_of("trkseg"), stream.number_of("trk")
    before = np.zeros(int(track.max(initial=-1)) + 2, np.int64)
    is_start = stream.are("trk")
    before[track[is_start]] = segment[is_start] + 1
    return segment - before[np.maximum(track, 0)]


def _paths(
    root: Any, tag: str, path: Path, name: str, notes: list[str]
) -> tuple[GeometryColumn, pa.Table]:
    point = _POINTS_OF[tag]
    places = _places(root, point, path, name, notes)
    stream = places.stream
    n_rows = int(stream.are(tag).sum())
    row = stream.number_of(tag)[places.at]
    # A route is one part, a track has one for each of its segments.
    part = stream.number_of("trkseg")[places.at] if tag == "trk" else row
    is_first = np.diff(part, prepend=-1) != 0
    counts = run_lengths(is_first)
    row_of_part = row[is_first]
    n_parts = count_by(row_of_part, n_rows)
    geometry = GeometryColumn(
        family=Family.LINES,
        xy=places.xy,
        ring_offsets=offsets_from(counts),
        part_offsets=np.arange(len(counts) + 1),
        row_offsets=offsets_from(n_parts),
        is_null=np.zeros(n_rows, bool),
        is_multi=tag == "trk",
        z=places.z,
    )
    columns = _fields(stream, tag, n_rows, name, notes)
    columns |= _spans(stream, point, row, n_rows, name, notes)
    return geometry, _table(columns, n_rows)


def _spans(
    stream: _Elements, point: str, row: I64Array, n_rows: int, name: str, notes: list[str]
) -> dict[str, pa.Array]:
    """Return when the first and the last point of each path were recorded, if that is known."""
    rows, found = _owned(stream, "time", point)
    if not len(rows):
        return {}
    try:
        times, said = moments.from_texts(texts.column_of(rows, found, len(row)))
    except pa.ArrowInvalid:
        return {}
    notes += [f"{name}: time {said}"] if said else []
    table = pa.table({"row": row, "time": times}).group_by("row")
    ends = table.aggregate([("time", "min"), ("time", "max")])
    at = np.full(n_rows, -1)
    at[np.asarray(ends["row"])] = np.arange(len(ends))
    index = pc.with_nulls(at, at < 0)
    names = {"begins": "time_min", "ends": "time_max"}
    return {own: ends[given].combine_chunks().take(index) for own, given in names.items()}
