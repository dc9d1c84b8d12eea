"""Reading layers of a GeoPackage, column by column."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

from polygene import computing as pc
from polygene.arrays import I64Array
from polygene.errors import UnknownLayerError
from polygene.formats.base import Known, Reading
from polygene.formats.geopackage import choosing, metadata, rows
from polygene.formats.geopackage.choosing import Columns
from polygene.formats.geopackage.listing import Table, columns_declared, tables, types_held
from polygene.formats.geopackage.package import opened
from polygene.formats.geopackage.systems import UNDEFINED, read_crs
from polygene.formats.geopackage.values import arrow_field
from polygene.formats.wanted import ALL, Wanted
from polygene.geometry import GeometryColumn
from polygene.layer import Layer, row_numbers
from polygene.notes import Warned, counted


def _columns(connection: sqlite3.Connection, table: Table) -> Columns:
    """Return the key and the attribute fields of a table or view."""
    found = columns_declared(connection, table)
    held = types_held(connection, table, [name for name, declared in found.fields if not declared])
    fields = [arrow_field(name, declared or held[name]) for name, declared in found.fields]
    return Columns(found.key, metadata.with_titles(connection, table.name, fields))


def _says(table: Table, own: GeometryColumn) -> bool:
    """Whether a table says that it holds geometry of the type of a column."""
    words = ("POINT", "LINESTRING", "POLYGON")[own.family]
    is_tall = (table.has_z, table.has_m) == (own.z is not None, own.m is not None)
    return is_tall and table.geometry_type == ("MULTI" if own.is_multi else "") + words


def read(path: Path, name: str, wanted: Wanted = ALL, known: Known | None = None) -> Reading:
    """Read one layer; several come back if its geometry has mixed dimensions.

    Of what is not wanted, the rows outside the box are left in the file where there is a spatial
    index, and those that the filter leaves out where it looks at attributes only.

    Raises
    ------
    UnknownLayerError, FileError
    GeometryError
        If a row's geometry cannot be decoded.
    """
    try:
        return _read(path, name, wanted, is_strict=True, known=known)
    except rows.OtherBytesError:
        return _read(path, name, wanted, is_strict=True)
    except UnicodeDecodeError:
        reading = _read(path, name, wanted, is_strict=False)
        note = f"{name}: some text is not UTF-8; letters that cannot be read became \ufffd"
        return Reading(reading.layers, [*reading.notes, note])


def _read(
    path: Path, name: str, wanted: Wanted, is_strict: bool, known: Known | None = None
) -> Reading:
    with opened(path, is_strict) as connection:
        every = tables(connection)
        table = next((t for t in every if t.name == name), None)
        if table is None:
            raise UnknownLayerError(name, str(path), [t.name for t in every])
        columns = _columns(connection, table)
        looked_at = wanted.looked_at([field.name for field in columns.fields])
        if looked_at is not None and _is_of_one_family(table):
            fields = [field for field in columns.fields if field.name in looked_at]
            columns = Columns(columns.key, fields, has_geometry=False)
        crs = read_crs(connection, table.srs_id) if table.has_geometry else None
        lineage, others = metadata.read(connection, table.name)
        if known is not None and not _says(table, known.geometry):
            known = None
        with _as_it_stands(connection):
            choice = choosing.choose(connection, path, table, columns, wanted, crs)
            fetched = rows.fetch(connection, table, columns, path, choice, known, wanted)
            numbers, total = None, None if choice is None else choice.total
            if total is not None and fetched.ids is not None:
                numbers = choosing.numbers(connection, table, columns, fetched.ids, total)
    notes = [f"{name}: field {f} {wrong}; read as text" for f, wrong in fetched.wrong.items()]
    if table.has_geometry and crs is None and table.srs_id not in UNDEFINED:
        words = f"{name}: the file does not say which CRS its srs_id {table.srs_id} is"
        notes.append(Warned(f"{words}; read without one"))
    if fetched.n_elsewhere:
        n = counted(fetched.n_elsewhere, "geometry", "geometries")
        words = f"{n} of another srs_id than the table's, {table.srs_id}, taken as in that"
        notes.append(Warned(f"{name}: {words}"))
    layers = []
    for k, chosen in enumerate(fetched.chosen):
        own = name if len(fetched.chosen) == 1 else f"{name}_{chosen.geometry.family.words}"
        is_all = len(fetched.chosen) == 1
        layers.append(
            Layer(
                name=own,
                geometry=chosen.geometry,
                table=fetched.table if is_all else pc.take(fetched.table, row_numbers(chosen.rows)),
                crs=crs,
                ids=fetched.ids if is_all or fetched.ids is None else fetched.ids[chosen.rows],
                title=table.title if k == 0 and table.title != table.name else "",
                description=table.description,
                total=total,
                rows=_of_kind(numbers, chosen.rows, is_all),
                lineage=lineage,
                metadata=others,
                no_geometry="" if table.has_geometry else "it has attributes only",
            )
        )
    if len(layers) > 1:
        counts = ", ".join(f"{layer.name} ({layer.n_rows:,})" for layer in layers)
        notes.append(f"{name} holds geometry of several dimensions; taken as layers {counts}")
    return Reading(layers, notes)


def _of_kind(numbers: I64Array | None, rows: I64Array, is_all: bool) -> I64Array | None:
    """Return the numbers of the rows of one kind; nothing where a layer has all of the table."""
    if is_all:
        return numbers
    return rows if numbers is None else numbers[rows]


def _is_of_one_family(table: Table) -> bool:
    """Whether a table says of what family its geometry is, or has none."""
    words = ("POINT", "LINESTRING", "POLYGON")
    return not table.has_geometry or table.geometry_type.removeprefix("MULTI") in words


@contextlib.contextmanager
def _as_it_stands(connection: sqlite3.Connection) -> Iterator[None]:
    """Have all statements see the file as it is now, whoever writes to it; tables made for it go."""
    connection.execute("BEGIN")
    try:
        yield
    finally:
        if connection.in_transaction:
            connection.execute("ROLLBACK")
