"""GeoPackage 1.2 to 1.4 (OGC 12-128r15 to r19): the core, features, and the extensions we write."""

from __future__ import annotations

import contextlib
import re
import sqlite3
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from polygene.arrays import offsets_from
from polygene.errors import PolygeneError
from polygene.formats import geopackage
from polygene.formats.clauses.finding import Finding, Judged, rows_of, some_of
from polygene.formats.geopackage.package import opened
from polygene.formats.geopackage.schema import APPLICATION_ID
from polygene.formats.geopackage.values import CHUNK
from polygene.layer import Layer
from polygene.table.tokens import quoted

_VERSIONS = {10200: "1.2", 10300: "1.3", 10400: "1.4"}
_MOMENT = r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z"
_TYPE = (
    r"BOOLEAN|TINYINT|SMALLINT|MEDIUMINT|INT|INTEGER|FLOAT|DOUBLE|REAL|TEXT(\(\d+\))?|BLOB(\(\d+\))?"
    r"|DATE|DATETIME"
)
_GEOMETRY = (
    "GEOMETRY|(MULTI)?(POINT|LINESTRING|POLYGON|CURVE|SURFACE)|GEOMETRYCOLLECTION"
    "|CIRCULARSTRING|COMPOUNDCURVE|CURVEPOLYGON"
)
_COLUMNS = {
    ("gpkg_spatial_ref_sys", "requirement 10"): (
        "srs_name srs_id organization organization_coordsys_id definition description"
    ),
    ("gpkg_contents", "requirement 13"): (
        "table_name data_type identifier description last_change min_x min_y max_x max_y srs_id"
    ),
    ("gpkg_geometry_columns", "requirement 21"): (
        "table_name column_name geometry_type_name srs_id z m"
    ),
    ("gpkg_extensions", "requirement 58"): (
        "table_name column_name extension_name definition scope"
    ),
    ("gpkg_data_columns", "annex F.9"): (
        "table_name column_name name title description mime_type constraint_name"
    ),
    ("gpkg_metadata", "annex F.8"): "id md_scope md_standard_uri mime_type metadata",
    ("gpkg_metadata_reference", "annex F.8"): (
        "reference_scope table_name column_name row_id_value timestamp md_file_id md_parent_id"
    ),
}
_OPTIONAL = ("gpkg_data_columns", "gpkg_extensions", "gpkg_metadata", "gpkg_metadata_reference")


def judge(path: Path) -> Judged:
    """Hold a GeoPackage to its standard; `clauses.judged` says the rest."""
    findings: list[Finding] = []
    version = ""
    try:
        with opened(path) as connection:
            number = connection.execute("PRAGMA user_version").fetchone()[0]
            version = _VERSIONS.get(number, "")
            for rule in _RULES:
                findings += _followed(rule, connection)
            if not any(finding.weight == "refused" for finding in findings):
                for table in _tables(connection):
                    findings += _of_layer(connection, path, table)
    except PolygeneError as err:
        findings.append(Finding("requirement 1", "the file", str(err), "refused"))
    if path.suffix != ".gpkg":
        findings.append(Finding("requirement 3", "the name", "its ending is not .gpkg", "form"))
    return Judged("GeoPackage", version, findings)


def _followed(
    rule: Callable[[sqlite3.Connection], Iterator[Finding]], connection: sqlite3.Connection
) -> list[Finding]:
    """Return what a rule finds; one that meets a table that is missing has nothing to look at."""
    found: list[Finding] = []
    with contextlib.suppress(sqlite3.OperationalError):
        found.extend(rule(connection))
    return found


def _identity(connection: sqlite3.Connection) -> Iterator[Finding]:
    own = connection.execute("PRAGMA application_id").fetchone()[0]
    number = connection.execute("PRAGMA user_version").fetchone()[0]
    older = (0x47503130, 0x47503131)  # "GP10", "GP11"
    if own in older:
        yield Finding("requirement 2", "the header", "it is of version 1.0 or 1.1", "form")
    elif own != APPLICATION_ID:
        words = f"its application id is {own}, not that of a GeoPackage"
        yield Finding("requirement 2", "the header", words, "refused")
    elif number not in _VERSIONS:
        words = f"its user version is {number}, none of {', '.join(map(str, _VERSIONS))}"
        yield Finding("requirement 2", "the header", words, "form")


def _wholeness(connection: sqlite3.Connection) -> Iterator[Finding]:
    said = connection.execute("PRAGMA integrity_check(3)").fetchall()
    if said != [("ok",)]:
        words = "; ".join(str(row[0]) for row in said)
        yield Finding("requirement 6", "the database", words, "misread")
    for table, row, parent, _ in connection.execute("PRAGMA foreign_key_check").fetchmany(5):
        words = f"it refers to what is not in {parent}"
        yield Finding("requirement 7", f"{table}, row {row}", words, "misread")


def _core_tables(connection: sqlite3.Connection) -> Iterator[Finding]:
    for (table, clause), listed in _COLUMNS.items():
        there = connection.execute(f"PRAGMA table_xinfo({quoted(table)})").fetchall()
        if not there:
            if table not in _OPTIONAL:
                yield Finding(clause, table, "there is no such table", "refused")
            continue
        missing = set(listed.split()) - {str(row[1]).lower() for row in there}
        if missing:
            words = f"it has no column {', '.join(sorted(missing))}"
            yield Finding(clause, table, words, "refused")


def _reference_systems(connection: sqlite3.Connection) -> Iterator[Finding]:
    there = connection.execute("SELECT srs_id, organization, definition FROM gpkg_spatial_ref_sys")
    found = {row[0]: row for row in there}
    for srs_id in (-1, 0, 4326):
        if srs_id not in found:
            words = f"there is no row for srs_id {srs_id}"
            yield Finding("requirement 11", "gpkg_spatial_ref_sys", words, "form")
    for table in ("gpkg_contents", "gpkg_geometry_columns"):
        used = connection.execute(f"SELECT DISTINCT srs_id, table_name FROM {table}").fetchall()
        for srs_id, name in used:
            if srs_id is not None and srs_id not in found:
                words = f"its srs_id {srs_id} is not in gpkg_spatial_ref_sys"
                yield Finding("requirement 12", f"{table}, {name}", words, "misread")
    columns = [str(r[1]) for r in connection.execute("PRAGMA table_info(gpkg_spatial_ref_sys)")]
    for srs_id, (_, organization, definition) in found.items():
        if not str(definition).strip() or (
            str(definition).lower() == "undefined" and srs_id > 0 and len(columns) == 6
        ):
            words = f"srs_id {srs_id} ({organization}) has no definition"
            yield Finding("requirement 10", "gpkg_spatial_ref_sys", words, "misread")


def _contents(connection: sqlite3.Connection) -> Iterator[Finding]:
    names = {str(r[0]).lower() for r in connection.execute("SELECT name FROM sqlite_master")}
    rows = connection.execute(
        "SELECT c.table_name, c.data_type, c.last_change, c.srs_id, g.srs_id, g.table_name "
        "FROM gpkg_contents c LEFT JOIN gpkg_geometry_columns g ON g.table_name = c.table_name"
    ).fetchall()
    for name, kind, changed, srs_id, own_id, in_columns in rows:
        place = f"gpkg_contents, {name}"
        if str(name).lower() not in names:
            yield Finding("requirement 14", place, "there is no table of that name", "refused")
        if not re.fullmatch(_MOMENT, str(changed)):
            words = f"last_change is {changed!r}, not as 2026-05-31T12:00:00.000Z"
            yield Finding("requirement 15", place, words, "form")
        if kind == "features" and in_columns is None:
            yield Finding(
                "requirement 22", place, "it has no row in gpkg_geometry_columns", "refused"
            )
        if in_columns is not None and srs_id != own_id:
            words = f"its srs_id is {srs_id}, and {own_id} in gpkg_geometry_columns"
            yield Finding("requirement 146", place, words, "misread")


def _geometry_columns(connection: sqlite3.Connection) -> Iterator[Finding]:
    rows = connection.execute(
        "SELECT g.table_name, g.column_name, g.geometry_type_name, g.z, g.m, c.data_type "
        "FROM gpkg_geometry_columns g LEFT JOIN gpkg_contents c ON c.table_name = g.table_name"
    ).fetchall()
    for name, column, kind, z, m, data_type in rows:
        place = f"layer {name}"
        if data_type != "features":
            words = "gpkg_contents does not have it as a table of features"
            yield Finding("requirement 23", place, words, "misread")
        if not re.fullmatch(_GEOMETRY, str(kind).upper()):
            yield Finding("requirement 25", place, f"{kind!r} is no type of geometry", "refused")
        for clause, dimension, value in (("requirement 27", "z", z), ("requirement 28", "m", m)):
            if value not in (0, 1, 2):
                yield Finding(
                    clause, place, f"{dimension} is {value!r}, none of 0, 1, 2", "misread"
                )
        there = connection.execute(f"PRAGMA table_xinfo({quoted(name)})").fetchall()
        own = [row for row in there if str(row[1]).lower() == str(column).lower()]
        if not own:
            yield Finding("requirement 24", place, f"it has no column {column!r}", "refused")
        elif str(own[0][2]).upper() != str(kind).upper():
            words = f"its column is declared {own[0][2] or 'without a type'}, its type is {kind}"
            yield Finding("requirement 31", place, words, "form")
        is_view = connection.execute(
            "SELECT count(*) FROM sqlite_master WHERE type = 'view' AND name = ?", (name,)
        ).fetchone()[0]
        keys = [row for row in there if row[5] > 0]
        if not is_view and (len(keys) != 1 or str(keys[0][2]).upper() != "INTEGER"):
            words = "it has no primary key of one whole number"
            yield Finding("requirement 29", place, words, "misread")
        for row in there:
            if row not in own and not re.fullmatch(_TYPE, str(row[2]).upper()):
                words = f"column {row[1]!r} is declared {row[2] or 'without a type'}"
                yield Finding("requirement 5", place, words, "misread")


def _extensions(connection: sqlite3.Connection) -> Iterator[Finding]:
    names = {str(r[0]).lower() for r in connection.execute("SELECT name FROM sqlite_master")}
    rows = connection.execute(
        "SELECT table_name, column_name, extension_name, scope FROM gpkg_extensions"
    )
    for table, column, name, scope in rows.fetchall():
        place = f"gpkg_extensions, {name}"
        if table is not None and str(table).lower() not in names:
            yield Finding("requirement 60", place, f"there is no table {table!r}", "form")
        elif table is not None and column is not None:
            there = connection.execute(f"PRAGMA table_xinfo({quoted(table)})").fetchall()
            if str(column).lower() not in {str(row[1]).lower() for row in there}:
                words = f"table {table!r} has no column {column!r}"
                yield Finding("requirement 61", place, words, "form")
        if not re.fullmatch(r"[A-Za-z0-9]+_\w+", str(name)):
            yield Finding("requirement 62", place, "it names no author before a '_'", "form")
        if scope not in ("read-write", "write-only"):
            yield Finding("requirement 64", place, f"its scope is {scope!r}", "misread")


def _metadata(connection: sqlite3.Connection) -> Iterator[Finding]:
    rows = connection.execute(
        "SELECT r.reference_scope, r.timestamp, r.md_file_id, m.id FROM gpkg_metadata_reference r "
        "LEFT JOIN gpkg_metadata m ON m.id = r.md_file_id"
    ).fetchall()
    scopes = ("geopackage", "table", "column", "row", "row/col")
    for scope, moment, wanted, there in rows:
        place = f"gpkg_metadata_reference, {wanted}"
        if scope not in scopes:
            yield Finding("annex F.8", place, f"its scope is {scope!r}", "form")
        if there is None:
            yield Finding("annex F.8", place, "there is no such metadata", "form")
        if not re.fullmatch(_MOMENT, str(moment)):
            yield Finding("annex F.8", place, f"its timestamp is {moment!r}", "form")


_RULES = (
    _identity,
    _wholeness,
    _core_tables,
    _reference_systems,
    _contents,
    _geometry_columns,
    _extensions,
    _metadata,
)


def _tables(connection: sqlite3.Connection) -> list[tuple[str, str, str, int, int, int]]:
    return connection.execute(
        "SELECT g.table_name, g.column_name, g.geometry_type_name, g.srs_id, g.z, g.m "
        "FROM gpkg_geometry_columns g JOIN gpkg_contents c ON c.table_name = g.table_name"
    ).fetchall()


def _of_layer(
    connection: sqlite3.Connection, path: Path, table: tuple[str, str, str, int, int, int]
) -> Iterator[Finding]:
    name, column, kind, srs_id, z, m = table
    place = f"layer {name}"
    there = connection.execute(f"PRAGMA table_xinfo({quoted(name)})").fetchall()
    keys = [str(row[1]) for row in there if row[5] > 0 and "INT" in str(row[2]).upper()]
    key = quoted(keys[0]) if len(keys) == 1 else "row_number() OVER ()"  # a view has none
    rows = connection.execute(f"SELECT {key}, {quoted(column)} FROM {quoted(name)}")
    has_more: dict[tuple[str, str, str], list[int]] = {}
    while chunk := rows.fetchmany(CHUNK):
        for finding, own in _of_blobs(chunk, kind.upper(), srs_id, (z, m)):
            has_more.setdefault(finding, []).extend(own)
    for (clause, words, weight), own in has_more.items():
        where = f"{place}, {some_of(own, 'feature')}"
        yield Finding(clause, where, words, weight)  # type: ignore[arg-type]
    yield from _of_index(connection, path, name, column)


_NUMBERS = {"POINT": 1, "LINESTRING": 2, "POLYGON": 3, "MULTIPOINT": 4, "MULTILINESTRING": 5}
_NUMBERS |= {"MULTIPOLYGON": 6, "GEOMETRYCOLLECTION": 7}


def _of_blobs(
    chunk: list[tuple[int, bytes | None]], kind: str, srs_id: int, dims: tuple[int, int]
) -> Iterator[tuple[tuple[str, str, str], list[int]]]:
    """Yield what is wrong with the blobs of geometry (section 2.1.3), with the keys of the rows."""
    blobs = [(key, bytes(b)) for key, b in chunk if b is not None]
    keys = np.array([key for key, _ in blobs], np.int64)
    own = [b for _, b in blobs]
    starts = offsets_from(np.fromiter(map(len, own), np.int64, len(own)))
    data = np.frombuffer(b"".join(own) + bytes(80), np.uint8)  # so that no look goes beyond

    def number(at: np.ndarray, is_little: np.ndarray) -> np.ndarray:
        four = data[at[:, None] + np.arange(4)]
        little, big = (np.ascontiguousarray(four).view(t)[:, 0] for t in ("<i4", ">i4"))
        return np.where(is_little, little, big).astype(np.int64)

    at, ends = starts[:-1], starts[1:]
    flags = data[at + 3]
    sizes = np.array([0, 32, 48, 48, 64, 0, 0, 0])[(flags >> 1) & 7]
    is_odd = (data[at] != ord("G")) | (data[at + 1] != ord("P")) | (data[at + 2] != 0)
    is_odd |= ends - at < 13 + sizes
    clause = "requirement 19"
    said = (clause, "its geometry is cut short, or does not begin with GP and version 0", "refused")
    yield from _if(said, keys, is_odd)
    is_open = (flags >> 1) & 7 > 4
    yield from _if((clause, "its envelope is of no known kind", "refused"), keys, ~is_odd & is_open)
    said = (clause, "bits of its flags are set that are reserved", "form")
    yield from _if(said, keys, ~is_odd & (flags > 63))
    system = number(at + 4, (flags & 1) == 1)
    words = f"its geometry states another srs_id than the layer's, {srs_id}"
    yield from _if(("requirement 33", words, "misread"), keys, ~is_odd & (system != srs_id))
    fits = ~is_odd & ~is_open & ((flags & 32) == 0)
    body = np.where(fits, at + 8 + sizes, 0)
    codes = np.where(fits, number(body + 1, data[body] == 1), 1)
    is_iso = (codes > 0) & (codes < 4000)
    said = ("requirement 20", "its WKB is of a form that ISO has not", "misread")
    yield from _if(said, keys, fits & ~is_iso)
    base, extra = codes % 1000, codes // 1000
    if kind in _NUMBERS:
        words = f"its geometry is no {kind}, which the layer is said to hold"
        wrong = fits & is_iso & (base != _NUMBERS[kind])
        yield from _if(("requirement 32", words, "misread"), keys, wrong)
    for clause, bit, dimension, stated in (
        ("requirement 27", 1, "Z", dims[0]),
        ("requirement 28", 2, "M", dims[1]),
    ):
        has = ((extra & bit) > 0) & fits & is_iso
        words = f"its geometry has {dimension}, which the layer is said not to have"
        if stated == 0:
            yield from _if((clause, words, "misread"), keys, has)
        words = f"its geometry has no {dimension}, which the layer is said to have"
        if stated == 1:
            yield from _if((clause, words, "misread"), keys, fits & is_iso & ~has)


def _if(
    finding: tuple[str, str, str], keys: np.ndarray, mask: np.ndarray
) -> Iterator[tuple[tuple[str, str, str], list[int]]]:
    if mask.any():
        yield finding, keys[mask].tolist()


def _of_index(
    connection: sqlite3.Connection, path: Path, name: str, column: str
) -> Iterator[Finding]:
    """Look whether a spatial index that is registered knows every feature, and its box (annex F.3)."""
    place, index = f"layer {name}", f"rtree_{name}_{column}"
    try:
        registered = connection.execute(
            "SELECT count(*) FROM gpkg_extensions WHERE extension_name = 'gpkg_rtree_index' "
            "AND lower(table_name) = lower(?)", (name,)
        ).fetchone()[0]  # fmt: skip
    except sqlite3.OperationalError:
        return
    if not registered:
        return
    try:
        rows = connection.execute(
            f"SELECT id, minx, miny, maxx, maxy FROM {quoted(index)} ORDER BY id"
        ).fetchall()
    except sqlite3.OperationalError:
        yield Finding("annex F.3", place, f"its spatial index {index} is not there", "refused")
        return
    triggers = connection.execute(
        "SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND name LIKE ? ESCAPE '!'",
        (index.replace("!", "!!").replace("_", "!_").replace("%", "!%") + "!_%",),
    ).fetchone()[0]
    if triggers < 6:
        words = f"its spatial index has {triggers} of its triggers, so edits may not reach it"
        yield Finding("annex F.3", place, words, "misread")
    layers = geopackage.read(path, name).layers
    if len(layers) == 1:
        yield from _of_boxes(layers[0], np.array(rows, float).reshape(-1, 5), place)


def _of_boxes(layer: Layer, entries: np.ndarray, place: str) -> Iterator[Finding]:
    bounds = layer.geometry.row_bounds()
    has = np.isfinite(bounds).all(axis=1)
    ids = np.arange(1, layer.n_rows + 1) if layer.ids is None else layer.ids
    known = np.isin(ids, entries[:, 0].astype(np.int64))
    if (has & ~known).any():
        words = "its spatial index does not know these features"
        yield Finding("annex F.3", f"{place}, {rows_of(has & ~known)}", words, "misread")
    if not len(entries):
        return
    at = np.clip(np.searchsorted(entries[:, 0], ids), 0, len(entries) - 1)
    boxes = entries[at, 1:]
    with np.errstate(invalid="ignore"):
        is_out = (boxes[:, :2] > bounds[:, :2]).any(axis=1) | (boxes[:, 2:] < bounds[:, 2:]).any(
            axis=1
        )
    if (has & known & is_out).any():
        words = "its spatial index has other boxes for these features"
        yield Finding("annex F.3", f"{place}, {rows_of(has & known & is_out)}", words, "misread")
