"""Texts about a layer in the standard's metadata tables: its lineage, and whatever others put there.

OGC 12-128r19, annex F.8; titles and descriptions of fields by annex F.9.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

import pyarrow as pa

from polygene import provenance
from polygene.formats.geopackage import schema
from polygene.layer import Layer, Metadata
from polygene.provenance import Lineage

_MIME = "application/json"
_OF_LAYER = "lower(r.table_name) = lower(?) AND r.reference_scope = 'table'"


def _is_there(connection: sqlite3.Connection) -> bool:
    # Asked in this way it need not look through a schema of thousands of layers.
    tables = ("gpkg_metadata", "gpkg_metadata_reference")
    return all(connection.execute(f"PRAGMA table_info({t})").fetchone() for t in tables)


def read(connection: sqlite3.Connection, name: str) -> tuple[Lineage | None, tuple[Metadata, ...]]:
    """Return the lineage of a layer, if it has one, and the other texts about it."""
    if not _is_there(connection):
        return None, ()
    rows = connection.execute(
        "SELECT m.md_standard_uri, m.mime_type, m.metadata FROM gpkg_metadata m "
        f"JOIN gpkg_metadata_reference r ON r.md_file_id = m.id WHERE {_OF_LAYER} ORDER BY m.id",
        (name,),
    ).fetchall()
    own = None
    others = []
    for standard, mime_type, text in rows:
        found = provenance.parse(str(text)) if standard == provenance.STANDARD else None
        if found is not None:
            own = found
        else:
            others.append(Metadata(str(standard), str(mime_type), str(text)))
    return own, tuple(others)


def write(connection: sqlite3.Connection, layer: Layer) -> None:
    """Write the lineage of a layer and the texts that it carries along."""
    texts = list(layer.metadata)
    if layer.lineage is not None:
        texts.append(Metadata(provenance.STANDARD, _MIME, layer.lineage.to_json()))
    if not texts:
        return
    if not _is_there(connection):
        for statement in schema.METADATA_TABLES.split(";\n"):
            connection.execute(statement)
        connection.execute(schema.EXTENSIONS_TABLE)
        for table in ("gpkg_metadata", "gpkg_metadata_reference"):
            connection.execute(
                "INSERT INTO gpkg_extensions VALUES (?, NULL, ?, ?, ?)",
                (table, *schema.METADATA_EXTENSION),
            )
    for text in texts:
        done = connection.execute(
            "INSERT INTO gpkg_metadata (md_scope, md_standard_uri, mime_type, metadata) "
            "VALUES ('dataset', ?, ?, ?)",
            text,
        )
        connection.execute(
            "INSERT INTO gpkg_metadata_reference (reference_scope, table_name, md_file_id) "
            "VALUES ('table', ?, ?)",
            (layer.name, done.lastrowid),
        )


_ABOUT_FIELD = (b"title", b"description")


def with_titles(
    connection: sqlite3.Connection, name: str, fields: Sequence[pa.Field]
) -> list[pa.Field]:
    """Return the fields of a layer with what the package calls them for people, in their metadata."""
    if not connection.execute("PRAGMA table_info(gpkg_data_columns)").fetchone():
        return list(fields)
    rows = connection.execute(
        "SELECT lower(column_name), title, description FROM gpkg_data_columns "
        "WHERE lower(table_name) = lower(?)",
        (name,),
    )
    told = {
        column: {
            key: str(text)
            for key, text in zip(_ABOUT_FIELD, texts, strict=True)
            if text is not None
        }
        for column, *texts in rows
    }
    return [
        field.with_metadata({**(field.metadata or {}), **own})
        if (own := told.get(field.name.lower()))
        else field
        for field in fields
    ]


def write_titles(connection: sqlite3.Connection, layer: Layer) -> None:
    """Write what fields are called for people, where they have such."""
    told = [
        (layer.name, field.name, *((field.metadata or {}).get(key) for key in _ABOUT_FIELD))
        for field in layer.table.schema
    ]
    rows = [
        [v.decode() if isinstance(v, bytes) else v for v in row] for row in told if any(row[2:])
    ]
    if not rows:
        return
    connection.execute(schema.DATA_COLUMNS_TABLE)
    connection.execute(schema.EXTENSIONS_TABLE)
    connection.execute(
        "INSERT OR IGNORE INTO gpkg_extensions "
        "SELECT 'gpkg_data_columns', NULL, ?, ?, ? WHERE NOT EXISTS "
        "(SELECT 1 FROM gpkg_extensions WHERE table_name = 'gpkg_data_columns')",
        schema.SCHEMA_EXTENSION,
    )
    connection.executemany(
        "INSERT INTO gpkg_data_columns (table_name, column_name, title, description) "
        "VALUES (?, ?, ?, ?)",
        rows,
    )


def forget(connection: sqlite3.Connection, name: str) -> None:
    """Take out what is told of a layer, and texts that are told of nothing then."""
    if connection.execute("PRAGMA table_info(gpkg_data_columns)").fetchone():
        connection.execute(
            "DELETE FROM gpkg_data_columns WHERE lower(table_name) = lower(?)", (name,)
        )
    if not _is_there(connection):
        return
    ids = connection.execute(
        f"SELECT r.md_file_id FROM gpkg_metadata_reference r WHERE {_OF_LAYER}", (name,)
    ).fetchall()
    connection.execute(
        "DELETE FROM gpkg_metadata_reference WHERE lower(table_name) = lower(?)", (name,)
    )
    connection.executemany(
        "DELETE FROM gpkg_metadata WHERE id = ? AND id NOT IN "
        "(SELECT md_file_id FROM gpkg_metadata_reference)",
        ids,
    )
