"""The tables, rows and triggers that the GeoPackage standard asks for."""

from __future__ import annotations

import contextlib
import re
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple, cast

import pyproj
from pyproj.enums import WktVersion
from pyproj.exceptions import CRSError

from polygene.crs import code as authority_code
from polygene.crs import is_same
from polygene.errors import FileError
from polygene.formats.base import kept_open

APPLICATION_ID = 0x47504B47  # "GPKG"
USER_VERSION = 10400
UNDEFINED = {-1: "Undefined Cartesian", 0: "Undefined geographic"}

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


def quoted(name: str) -> str:
    """Return a name as SQL writes it, whatever is in it."""
    return '"' + name.replace('"', '""') + '"'


@contextlib.contextmanager
def opened(path: Path, is_strict: bool = False) -> Iterator[Package]:
    """Open for reading only, leaving nothing beside the file; word SQLite's complaints.

    Text that is not UTF-8 raises a UnicodeDecodeError if strict, else its letters become U+FFFD.

    Raises
    ------
    FileError
        If the file is no GeoPackage, damaged, or cannot be read.
    """
    kept = kept_open.get()
    key = (path, threading.get_ident())
    connection = kept.pop(key, None) if kept is not None else None
    is_whole = False
    try:
        if connection is None or not cast(Package, connection).is_of(path):
            if connection is not None:
                connection.close()
            connection = _connected(path)
        package = cast(Package, connection)
        package.text_factory = bytes.decode if is_strict else _lenient
        yield package
        is_whole = True
    except sqlite3.DatabaseError as err:
        raise FileError(f"{path} cannot be read: {worded(err)}") from err
    finally:
        if connection is not None:
            may_stay = is_whole and kept is not None and key not in kept
            if may_stay and kept is not None and cast(Package, connection).file:
                kept[key] = connection
            else:
                connection.close()


class Package(sqlite3.Connection):
    """A connection that may stay open for the next layer that is read.

    To open one anew has all of the schema parsed: for each of 1,000 layers, that took half a second.

    file : what the file is known by; empty if it is not to stay open, for its log would stay too
    known : what has been read of its layers, and the number of its version then
    """

    file: tuple[int, ...] = ()
    known: tuple[int, list[Any]] = (-1, [])

    def is_of(self, path: Path) -> bool:
        """Whether what is open is still what the path leads to."""
        try:
            return self.file == _known_by(path)
        except OSError:
            return False

    def version(self) -> int:
        """Return a number that changes when somebody else changes the file."""
        return int(self.execute("PRAGMA data_version").fetchone()[0])


def _known_by(path: Path) -> tuple[int, ...]:
    state = path.stat()
    return state.st_dev, state.st_ino, state.st_mtime_ns, state.st_size


def _connected(path: Path) -> Package:
    # A write-ahead file's readers make side files even if they only read, unless told that nobody
    # writes. That is safe to say when no log lies there.
    uri = path.resolve().as_uri() + "?mode=ro"
    is_ahead, has_log = _is_write_ahead(path), Path(f"{path}-wal").exists()
    if is_ahead and not has_log:
        uri += "&immutable=1"
    connection = sqlite3.connect(uri, uri=True, factory=Package)
    try:
        if not is_ahead and not has_log:
            connection.file = _known_by(path)
        if not _has_contents(connection, path):
            raise FileError(
                f"{path} is an SQLite database but no GeoPackage: it has no table gpkg_contents"
            )
    except BaseException:
        connection.close()
        raise
    return connection


@contextlib.contextmanager
def patient(
    connection: sqlite3.Connection, is_view: bool, seconds: float
) -> Iterator[Callable[[], None]]:
    """End a query of a view that does not end by itself, as a recursive one may.

    Gives what is to be called when something has come, to wait as long again.

    Raises
    ------
    sqlite3.OperationalError
        Some seconds after the last call.
    """
    end = time.monotonic() + seconds

    def renew() -> None:
        nonlocal end
        end = time.monotonic() + seconds

    connection.set_progress_handler((lambda: time.monotonic() > end) if is_view else None, 100_000)
    try:
        yield renew
    except sqlite3.OperationalError as err:
        if str(err) != "interrupted":
            raise
        if (
            time.monotonic() <= end
        ):  # a request to stop ended it, and SQLite has kept that for itself
            raise KeyboardInterrupt from err
        raise sqlite3.OperationalError(
            f"its view gives nothing for {seconds:g} s, and may have no end"
        ) from err
    finally:
        connection.set_progress_handler(None, 0)


def _has_contents(connection: sqlite3.Connection, path: Path) -> bool:
    try:
        found = connection.execute(
            "SELECT count(*) FROM sqlite_master WHERE lower(name) = 'gpkg_contents'"
        )
        return bool(found.fetchone()[0])
    except UnicodeDecodeError as err:  # of what SQLite says of a schema that it cannot read
        raise FileError(f"{path} cannot be read: its schema is damaged") from err


def _lenient(text: bytes) -> str:
    return text.decode("utf-8", "replace")


def _is_write_ahead(path: Path) -> bool:
    with path.open("rb") as file:
        return file.read(20)[18:20] == b"\2\2"


def worded(err: sqlite3.Error) -> str:
    """Return what SQLite's complaint means for the file."""
    text = str(err)
    if "malformed" in text or "not a database" in text:
        return "the file is damaged or cut short; take it from a backup or its source again"
    if "locked" in text:
        return "another program is writing to it; try again when that is done"
    if "full" in text:
        return "the disk is full"
    return text


def read_crs(connection: sqlite3.Connection, srs_id: int) -> pyproj.CRS | None:
    """Return the CRS of a row of gpkg_spatial_ref_sys; None for the undefined ones."""
    if srs_id in UNDEFINED:
        return None
    names = ["organization", "organization_coordsys_id", "definition", *_newer_text(connection)]
    row = connection.execute(
        f"SELECT {', '.join(names)} FROM gpkg_spatial_ref_sys WHERE srs_id = ?", (srs_id,)
    ).fetchone()
    if row is None:
        return None
    organization, number, *definitions = row
    with contextlib.suppress(CRSError):
        return pyproj.CRS.from_authority(str(organization).upper(), number)
    for definition in definitions[::-1]:  # the newer text, where there is one, says more
        with contextlib.suppress(CRSError):
            return pyproj.CRS.from_user_input(definition)
    return None


def _newer_text(connection: sqlite3.Connection) -> list[str]:
    """Return the column for WKT 2, if the extension for it is there (OGC 12-128r19, F.10)."""
    columns = connection.execute("SELECT name FROM pragma_table_info('gpkg_spatial_ref_sys')")
    return [name for (name,) in columns if name.lower() == "definition_12_063"]


def definition_of(crs: pyproj.CRS) -> str:
    """Return the definition in the text of OGC 01-009, or the newer one of OGC 18-010 if need be."""
    first = next(version for version in WktVersion if version.name.startswith("WKT1"))
    with contextlib.suppress(CRSError):
        return re.sub(r"\s*\n\s*", "", crs.to_wkt(first))
    return crs.to_wkt()


def ensure_crs(connection: sqlite3.Connection, crs: pyproj.CRS | None) -> int:
    """Return the srs_id of a CRS, adding its row if the file has none."""
    if crs is None:
        return -1
    if is_same(crs, pyproj.CRS.from_epsg(4326)):
        return 4326
    authority = authority_code(crs)
    if authority is not None and authority[1].isdigit():
        organization, number = authority[0], int(authority[1])
        found = connection.execute(
            "SELECT srs_id FROM gpkg_spatial_ref_sys "
            "WHERE upper(organization) = ? AND organization_coordsys_id = ?",
            (organization.upper(), number),
        ).fetchone()
        if found:
            return int(found[0])
        srs_id = number if organization.upper() == "EPSG" else 0
    else:
        organization, number, srs_id = "NONE", 0, 0
        definition = definition_of(crs)
        found = connection.execute(
            "SELECT srs_id FROM gpkg_spatial_ref_sys WHERE definition = ?", (definition,)
        ).fetchone()
        if found:
            return int(found[0])
    taken = connection.execute(
        "SELECT count(*) FROM gpkg_spatial_ref_sys WHERE srs_id = ?", (srs_id,)
    ).fetchone()[0]
    if srs_id == 0 or taken:
        highest = connection.execute("SELECT max(srs_id) FROM gpkg_spatial_ref_sys").fetchone()[0]
        srs_id = max(100_000, highest + 1)
    _add_crs(
        connection=connection,
        srs_id=srs_id,
        name=crs.name,
        organization=organization,
        number=number or srs_id,
        definition=definition_of(crs),
        crs=crs,
    )
    return srs_id


def _add_crs(
    connection: sqlite3.Connection,
    srs_id: int,
    name: str,
    organization: str,
    number: int,
    definition: str,
    crs: pyproj.CRS | None = None,
) -> None:
    names = ["srs_name", "srs_id", "organization", "organization_coordsys_id", "definition"]
    values: list[object] = [name, srs_id, organization, number, definition]
    for column in _newer_text(connection):
        names.append(column)
        values.append(definition if crs is None else crs.to_wkt())
    connection.execute(
        f"INSERT INTO gpkg_spatial_ref_sys ({', '.join(names)}) "
        f"VALUES ({', '.join('?' * len(values))})",
        values,
    )


def create_core(connection: sqlite3.Connection) -> None:
    """Make an empty database a GeoPackage."""
    connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
    connection.execute(f"PRAGMA user_version = {USER_VERSION}")
    for statement in CORE_TABLES.split(";\n"):
        connection.execute(statement)
    for srs_id, name in UNDEFINED.items():
        _add_crs(
            connection=connection,
            srs_id=srs_id,
            name=name,
            organization="NONE",
            number=srs_id,
            definition="undefined",
        )
    wgs84 = pyproj.CRS.from_epsg(4326)
    _add_crs(
        connection=connection,
        srs_id=4326,
        name=wgs84.name,
        organization="EPSG",
        number=4326,
        definition=definition_of(wgs84),
    )
