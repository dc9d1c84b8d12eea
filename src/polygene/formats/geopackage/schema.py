"""The tables, rows and triggers that the GeoPackage standard asks for."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from polygene.classes import NamedTuple
from polygene.formats.geopackage.systems import UNDEFINED, WGS84, add_crs

APPLICATION_ID = 0x47504B47  # "GPKG"
USER_VERSION = 10400

CORE_TABLES = """
CREATE TABLE gpkg_spatial_ref_sys (
  srs_name TEXT NOT NULL,
  srs_id INTEGER NOT NULL PRIMARY KEY,
  organization TEXT NOT NULL,
  organization_coordsys_id INTEGER NOT NULL,
  definition TEXT NOT NULL,
  description TEXT
);
CREATE TABLE gpkg_contents (
  table_name TEXT NOT NULL PRIMARY KEY,
  data_type TEXT NOT NULL,
  identifier TEXT UNIQUE,
  description TEXT DEFAULT '',
  last_change DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')),
  min_x DOUBLE,
  min_y DOUBLE,
  max_x DOUBLE,
  max_y DOUBLE,
  srs_id INTEGER,
  CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id)
);
CREATE TABLE gpkg_geometry_columns (
  table_name TEXT NOT NULL,
  column_name TEXT NOT NULL,
  geometry_type_name TEXT NOT NULL,
  srs_id INTEGER NOT NULL,
  z TINYINT NOT NULL,
  m TINYINT NOT NULL,
  CONSTRAINT pk_geom_cols PRIMARY KEY (table_name, column_name),
  CONSTRAINT uk_gc_table_name UNIQUE (table_name),
  CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name),
  CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id)
);
"""

EXTENSIONS_TABLE = """
CREATE TABLE IF NOT EXISTS gpkg_extensions (
  table_name TEXT,
  column_name TEXT,
  extension_name TEXT NOT NULL,
  definition TEXT NOT NULL,
  scope TEXT NOT NULL,
  CONSTRAINT ge_tce UNIQUE (table_name, column_name, extension_name)
)
"""

METADATA_TABLES = """
CREATE TABLE IF NOT EXISTS gpkg_metadata (
  id INTEGER CONSTRAINT m_pk PRIMARY KEY ASC NOT NULL,
  md_scope TEXT NOT NULL DEFAULT 'dataset',
  md_standard_uri TEXT NOT NULL,
  mime_type TEXT NOT NULL DEFAULT 'text/xml',
  metadata TEXT NOT NULL DEFAULT ''
);
CREATE TABLE IF NOT EXISTS gpkg_metadata_reference (
  reference_scope TEXT NOT NULL,
  table_name TEXT,
  column_name TEXT,
  row_id_value INTEGER,
  timestamp DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')),
  md_file_id INTEGER NOT NULL,
  md_parent_id INTEGER,
  CONSTRAINT crmr_mfi_fk FOREIGN KEY (md_file_id) REFERENCES gpkg_metadata(id),
  CONSTRAINT crmr_mpi_fk FOREIGN KEY (md_parent_id) REFERENCES gpkg_metadata(id)
);
"""

DATA_COLUMNS_TABLE = """
CREATE TABLE IF NOT EXISTS gpkg_data_columns (
  table_name TEXT NOT NULL,
  column_name TEXT NOT NULL,
  name TEXT,
  title TEXT,
  description TEXT,
  mime_type TEXT,
  constraint_name TEXT,
  CONSTRAINT pk_gdc PRIMARY KEY (table_name, column_name),
  CONSTRAINT gdc_tn UNIQUE (table_name, name)
)
"""

SCHEMA_EXTENSION = (
    "gpkg_schema",
    "http://www.geopackage.org/spec120/#extension_schema",
    "read-write",
)

METADATA_EXTENSION = (
    "gpkg_metadata",
    "http://www.geopackage.org/spec120/#extension_metadata",
    "read-write",
)

RTREE_EXTENSION = (
    "gpkg_rtree_index",
    "http://www.geopackage.org/spec120/#extension_rtree",
    "write-only",
)

# OGC 12-128r19, annex F.3. {t} table, {c} geometry column, {i} key, {r} index: all quoted.
_ENTRY = "NEW.{i}, ST_MinX(NEW.{c}), ST_MaxX(NEW.{c}), ST_MinY(NEW.{c}), ST_MaxY(NEW.{c})"
_HAS_NEW = "(NEW.{c} NOTNULL AND NOT ST_IsEmpty(NEW.{c}))"
_NO_NEW = "(NEW.{c} ISNULL OR ST_IsEmpty(NEW.{c}))"
_HAD_OLD = "(OLD.{c} NOTNULL AND NOT ST_IsEmpty(OLD.{c}))"
_NO_OLD = "(OLD.{c} ISNULL OR ST_IsEmpty(OLD.{c}))"
RTREE_TRIGGERS = {
    "insert": f"AFTER INSERT ON {{t}} WHEN {_HAS_NEW} "
    f"BEGIN INSERT OR REPLACE INTO {{r}} VALUES ({_ENTRY}); END",
    "update2": f"AFTER UPDATE OF {{c}} ON {{t}} WHEN OLD.{{i}} = NEW.{{i}} AND {_NO_NEW} "
    "BEGIN DELETE FROM {r} WHERE id = OLD.{i}; END",
    "update4": f"AFTER UPDATE ON {{t}} WHEN OLD.{{i}} != NEW.{{i}} AND {_NO_NEW} "
    "BEGIN DELETE FROM {r} WHERE id IN (OLD.{i}, NEW.{i}); END",
    "update5": f"AFTER UPDATE ON {{t}} WHEN OLD.{{i}} != NEW.{{i}} AND {_HAS_NEW} "
    f"BEGIN DELETE FROM {{r}} WHERE id = OLD.{{i}}; "
    f"INSERT OR REPLACE INTO {{r}} VALUES ({_ENTRY}); END",
    "update6": f"AFTER UPDATE OF {{c}} ON {{t}} WHEN OLD.{{i}} = NEW.{{i}} AND {_HAS_NEW} "
    f"AND {_HAD_OLD} BEGIN UPDATE {{r}} SET minx = ST_MinX(NEW.{{c}}), maxx = ST_MaxX(NEW.{{c}}), "
    "miny = ST_MinY(NEW.{c}), maxy = ST_MaxY(NEW.{c}) WHERE id = NEW.{i}; END",
    "update7": f"AFTER UPDATE OF {{c}} ON {{t}} WHEN OLD.{{i}} = NEW.{{i}} AND {_HAS_NEW} "
    f"AND {_NO_OLD} BEGIN INSERT INTO {{r}} VALUES ({_ENTRY}); END",
    "delete": "AFTER DELETE ON {t} WHEN OLD.{c} NOTNULL "
    "BEGIN DELETE FROM {r} WHERE id = OLD.{i}; END",
}


class Entry(NamedTuple):
    """A row of the database's own table of what is in it, of something that has no pages."""

    kind: str
    name: str
    table: str
    page: int
    sql: str


@contextlib.contextmanager
def growing(connection: sqlite3.Connection, n_layers: int) -> Iterator[Callable[[], None]]:
    """Let many tables be made without having the whole schema looked through for each.

    Of a table that is made SQLite looks up the entry again, past all others: a package of 1,000 layers
    took half a minute that way. So entries are taken out of the table of the schema ("Database File
    Format", section 2.6) meanwhile and put back at the end; what is in them the connection knows.
    Gives what is to be called between layers. On a new file or a copy only; nothing may be dropped
    within this.
    """
    aside: list[tuple[Any, ...]] = []
    count = 0

    def step() -> None:
        nonlocal count
        if n_layers > _FEW and count % _FEW == 0:
            aside.extend(connection.execute("SELECT * FROM sqlite_master ORDER BY rowid"))
            _writing_schema(connection, "DELETE FROM sqlite_master", None)
        count += 1

    yield step
    if aside:
        rest = list(connection.execute("SELECT * FROM sqlite_master ORDER BY rowid"))
        _writing_schema(connection, "DELETE FROM sqlite_master", None)
        _writing_schema(connection, _ENTER, [*aside, *rest])


def enter(connection: sqlite3.Connection, entries: Sequence[Entry]) -> None:
    """Enter things that have no pages in the schema as SQLite would, all at once.

    This connection does not know of them; the next that opens the file does, since the tables made in
    the same transaction have counted up the schema's number.
    """
    _writing_schema(connection, _ENTER, entries)


_ENTER = "INSERT INTO sqlite_master VALUES (?, ?, ?, ?, ?)"
_FEW = 20


def _writing_schema(
    connection: sqlite3.Connection, statement: str, rows: Sequence[Sequence[Any]] | None
) -> None:
    connection.execute("PRAGMA writable_schema = ON")
    if rows is None:
        connection.execute(statement)
    else:
        connection.executemany(statement, rows)
    connection.execute("PRAGMA writable_schema = OFF")


def create_core(connection: sqlite3.Connection) -> None:
    """Make an empty database a GeoPackage."""
    connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
    connection.execute(f"PRAGMA user_version = {USER_VERSION}")
    for statement in CORE_TABLES.split(";\n"):
        connection.execute(statement)
    for srs_id, name in UNDEFINED.items():
        add_crs(
            connection=connection,
            srs_id=srs_id,
            name=name,
            organization="NONE",
            number=srs_id,
            definition="undefined",
        )
    add_crs(
        connection=connection,
        srs_id=4326,
        name="WGS 84",
        organization="EPSG",
        number=4326,
        definition=WGS84,
    )
