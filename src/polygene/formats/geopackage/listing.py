"""What layers a GeoPackage holds, by its own tables: with SQLite alone, as nothing is read."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from polygene.classes import NamedTuple
from polygene.formats.geopackage.package import Package, opened, patient
from polygene.formats.geopackage.systems import read_crs
from polygene.formats.geopackage.types import field_type
from polygene.info import NO_GEOMETRY, LayerInfo
from polygene.table.tokens import quoted

if TYPE_CHECKING:
    from polygene.geometry import Extent

SHORT = 3  # seconds to wait for a view that is listed


class Table(NamedTuple):
    """What the standard's tables tell of a layer; of one without geometry, no geometry column."""

    name: str
    title: str
    description: str
    geometry_column: str
    geometry_type: str
    has_z: int
    has_m: int
    srs_id: int
    extent: tuple[float | None, ...]
    is_view: bool

    @property
    def has_geometry(self) -> bool:
        return bool(self.geometry_column)


def tables(connection: Package) -> list[Table]:
    """Return what there is, read once for each state of the file."""
    version, known = connection.known
    if version != connection.version():
        known = _read_tables(connection)
        connection.known = connection.version(), known
    return known


def _read_tables(connection: sqlite3.Connection) -> list[Table]:
    rows = connection.execute(
        # Some programs leave out the row of the contents; the table is there all the same.
        "SELECT coalesce(c.table_name, g.table_name), c.identifier, c.description, g.column_name, "
        "g.geometry_type_name, g.z, g.m, g.srs_id, c.min_x, c.min_y, c.max_x, c.max_y "
        "FROM gpkg_geometry_columns g "
        "LEFT JOIN gpkg_contents c ON c.table_name = g.table_name COLLATE NOCASE "
        "WHERE c.data_type = 'features' OR (c.table_name IS NULL AND g.table_name IN "
        "(SELECT name FROM sqlite_master)) ORDER BY c.table_name IS NULL, c.rowid, g.rowid"
    ).fetchall()
    rows += connection.execute(
        "SELECT table_name, identifier, description, '', '', 0, 0, 0, NULL, NULL, NULL, NULL "
        "FROM gpkg_contents WHERE data_type = 'attributes' AND table_name IN "
        "(SELECT name FROM sqlite_master) ORDER BY rowid"
    ).fetchall()
    found = connection.execute("SELECT lower(name) FROM sqlite_master WHERE type = 'view'")
    views = {name for (name,) in found}
    return [
        Table(
            name=r[0],
            title=r[1] or "",
            description=r[2] or "",
            geometry_column=r[3],
            geometry_type=str(r[4]).upper(),
            has_z=r[5],
            has_m=r[6],
            srs_id=r[7],
            extent=r[8:],
            is_view=str(r[0]).lower() in views,
        )
        for r in rows
    ]


def layer_names(path: Path) -> list[str]:
    """Return the names of the layers, in the file's order, then those of tables without geometry."""
    with opened(path) as connection:
        return [table.name for table in tables(connection)]


def table_names(path: Path) -> list[str]:
    """Return the names of the tables without geometry."""
    with opened(path) as connection:
        return [table.name for table in tables(connection) if not table.has_geometry]


def list_layers(path: Path) -> list[LayerInfo]:
    """Describe the layers without reading their geometry."""
    with opened(path) as connection:
        return [_info(connection, table) for table in tables(connection)]


def _info(connection: sqlite3.Connection, table: Table) -> LayerInfo:
    words = _geometry_words(table)
    try:
        with patient(connection, table.is_view, SHORT):
            n_rows = connection.execute(f"SELECT count(*) FROM {quoted(table.name)}").fetchone()[0]
        declared = columns_declared(connection, table).fields
        held = types_held(connection, table, [name for name, text in declared if not text])
        fields = [(name, field_type(text or held[name])[0]) for name, text in declared]
    except sqlite3.OperationalError as err:
        return LayerInfo(
            name=table.name,
            geometry=words,
            n_rows=0,
            crs=None,
            extent=None,
            fields=[],
            title=table.title,
            problem=str(err),
        )
    return LayerInfo(
        name=table.name,
        geometry=words,
        n_rows=n_rows,
        crs=read_crs(connection, table.srs_id) if table.has_geometry else None,
        extent=_extent(connection, table),
        fields=fields,
        title=table.title,
    )


def _geometry_words(table: Table) -> str:
    if not table.has_geometry:
        return NO_GEOMETRY
    words = {
        "POINT": "point",
        "MULTIPOINT": "multipoint",
        "LINESTRING": "line",
        "MULTILINESTRING": "multiline",
        "POLYGON": "polygon",
        "MULTIPOLYGON": "multipolygon",
    }.get(
        table.geometry_type,
        "mixed" if table.geometry_type == "GEOMETRY" else table.geometry_type.lower(),
    )
    dims = ("Z" if table.has_z else "") + ("M" if table.has_m else "")
    return f"{words} {dims}".strip()


def _extent(connection: sqlite3.Connection, table: Table) -> Extent | None:
    """Return the true extent from the spatial index if there is one, else the stated one."""
    if not table.has_geometry:
        return None
    index = f"rtree_{table.name}_{table.geometry_column}"
    try:
        row = connection.execute(
            f"SELECT min(minx), min(miny), max(maxx), max(maxy) FROM {quoted(index)}"
        ).fetchone()
    except sqlite3.OperationalError:
        row = (None,)
    stated = table.extent
    if any(value is None for value in stated):
        if any(value is None for value in row):
            return None
        return float(row[0]), float(row[1]), float(row[2]), float(row[3])
    return float(stated[0]), float(stated[1]), float(stated[2]), float(stated[3])  # type: ignore[arg-type]


class Declared(NamedTuple):
    """The key of a table or view, if it has one, and names and declared types of its attributes."""

    key: str | None
    fields: list[tuple[str, str]]


def columns_declared(connection: sqlite3.Connection, table: Table) -> Declared:
    """Return the columns of a table or view but that of geometry.

    Raises
    ------
    sqlite3.OperationalError
        If it is not there.
    """
    rows = connection.execute(f"PRAGMA table_xinfo({quoted(table.name)})").fetchall()
    if not rows:
        raise sqlite3.OperationalError(f"table {table.name} is missing")
    is_key = [row[5] > 0 and "INT" in str(row[2]).upper() for row in rows]
    key = rows[is_key.index(True)][1] if sum(is_key) == 1 else None
    fields = [
        (row[1], row[2])
        for row in rows
        if row[1] != key
        and not (table.has_geometry and row[1].lower() == table.geometry_column.lower())
    ]
    return Declared(key, fields)


def types_held(
    connection: sqlite3.Connection, table: Table, names: Sequence[str]
) -> dict[str, str]:
    """Return the types that all values of columns are of for which none is declared, as of what a view
    computes; text where they are of several, or where it takes long to see.
    """
    if not names:
        return {}
    asked = ", ".join(f"typeof({quoted(name)})" for name in names)
    kinds: list[set[str]] = [set() for _ in names]
    with (
        contextlib.suppress(sqlite3.OperationalError),
        patient(connection, table.is_view, SHORT),
    ):
        found = connection.execute(f"SELECT DISTINCT {asked} FROM {quoted(table.name)}").fetchall()
        kinds = [set(column) - {"null"} for column in zip(*found, strict=True)] or kinds
    return {name: _type_of(own) for name, own in zip(names, kinds, strict=True)}


def _type_of(kinds: set[str]) -> str:
    held = {"INTEGER": {"integer"}, "DOUBLE": {"integer", "real"}, "BLOB": {"blob"}}
    return next((name for name, known in held.items() if kinds and kinds <= known), "TEXT")
