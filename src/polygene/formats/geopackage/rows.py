"""The rows of a table or view, fetched a piece at a time and made into columns."""

from __future__ import annotations

import contextlib
from collections.abc import Generator, Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.arrays import I64Array
from polygene.classes import NamedTuple
from polygene.errors import GeometryError
from polygene.formats.base import Known, collecting_no_garbage
from polygene.formats.geopackage import stepping
from polygene.formats.geopackage.blobs import BadBlobError, decoded, n_of_other_systems
from polygene.formats.geopackage.choosing import CHOSEN, TABLE_OF_CHOSEN, Choice, Columns, numbers
from polygene.formats.geopackage.library import BLOB, WHOLE, NotSoError
from polygene.formats.geopackage.listing import Table
from polygene.formats.geopackage.package import Package, patient
from polygene.formats.geopackage.values import (
    CHUNK,
    Values,
    as_text,
    breaks,
    insert,
    storage_class,
    sum_of,
    to_arrow,
)
from polygene.formats.wanted import Wanted
from polygene.geometry import Family
from polygene.table.tokens import quoted
from polygene.text.assemble import OfFamily, Parts, columns_of

FEW = 1000  # rows
LONG = 120  # seconds to wait for each chunk of a view that is read


class OtherBytesError(Exception):
    """Geometry is not what it was thought to be."""


class Fetched(NamedTuple):
    """What came of a table or view.

    chosen : the rows with geometry of each family
    wrong : what is wrong with the values of fields that are read as text, by field
    n_elsewhere : geometries whose header names another reference system than the table
    """

    chosen: list[OfFamily]
    table: pa.Table
    ids: I64Array | None
    wrong: dict[str, str]
    n_elsewhere: int = 0


@collecting_no_garbage()
def fetch(
    connection: Package,
    table: Table,
    columns: Columns,
    path: Path,
    choice: Choice | None,
    known: Known | None,
    wanted: Wanted,
) -> Fetched:
    """Fetch rows as columns: those that were chosen, or all.

    Raises
    ------
    OtherBytesError
        If geometry is not what is known of it.
    GeometryError
        If it is no blob, or one that cannot be decoded.
    """
    source = _Source(connection, path, table, columns, choice, known is not None)
    plan = _Plan(connection, table, columns, path, choice, known, wanted)
    if source.gives_arrays():
        with contextlib.suppress(NotSoError), contextlib.closing(source.arrays()) as arrays:
            return _fetched(plan, source, arrays)
    with contextlib.closing(source.pieces()) as pieces:
        return _fetched(plan, source, pieces)


class _Plan(NamedTuple):
    """What is fetched, as `fetch` is told."""

    connection: Package
    table: Table
    columns: Columns
    path: Path
    choice: Choice | None
    known: Known | None
    wanted: Wanted


def _fetched(plan: _Plan, source: _Source, pieces: Iterator[Sequence[Values]]) -> Fetched:
    shapes = _Shapes(plan.table, plan.known, plan.wanted.family)
    keys = [np.zeros(0, np.int64)]
    types = plan.wanted.types
    fields = [_Field(field, types.get(field.name)) for field in plan.columns.fields]
    try:
        for geometry, *values in pieces:
            if source.has_keys:
                keys.append(np.array(values[-1], np.int64))
            for field, own in zip(fields, values, strict=False):
                field.add(own)
            shapes.add(geometry)
    except BadBlobError as err:
        row = err.row
        if plan.choice is not None:  # it is counted as the file does
            key = np.concatenate(keys)[row : row + 1]
            row = int(numbers(plan.connection, plan.table, plan.columns, key, plan.choice.total)[0])
        raise GeometryError(
            f"{plan.path}#{plan.table.name}",
            f"row {row + 1}",
            err.reason,
            "delete the row or its geometry, or take the layer from its source again",
        ) from err
    _read_as_text(source, fields)
    arrays = [field.array() for field in fields]
    return Fetched(
        chosen=shapes.columns(),
        table=pa.table(arrays, pa.schema([field.field for field in fields])),
        ids=np.concatenate(keys) if source.has_keys else None,
        wrong={field.name: field.wrong for field in fields if field.wrong},
        n_elsewhere=shapes.n_elsewhere,
    )


def _read_as_text(source: _Source, fields: Sequence[_Field]) -> None:
    """Take the values of fields that break their type anew: those that were cast have other letters.

    By the very same statement, for without a key another may give rows in another order.
    """
    broken = [(k, field) for k, field in enumerate(fields) if field.wrong]
    if not broken:
        return
    for _, field in broken:
        field.become_text()
    for _, *values in source.pieces():
        for k, field in broken:
            field.add_text(values[k])


class _Shapes:
    """The geometry of rows as it comes: decoded, or held against what is known of it."""

    def __init__(self, table: Table, known: Known | None, family: Family | None) -> None:
        declared = _declared_family(table.geometry_type)
        self._family = declared if family is None else family
        self._type, self._known, self._n_rows = table.geometry_type, known, 0
        self._srs_id, self.n_elsewhere = table.srs_id, 0
        self._parts: list[Parts] = []
        self._is_null, self._is_multi = [np.zeros(0, bool)], [np.zeros(0, bool)]

    def add(self, values: Values) -> None:
        if self._known is not None:
            k = self._n_rows // CHUNK
            if list(self._known.sums[k : k + 1]) != [sum_of(values)]:
                raise OtherBytesError
        else:
            blobs = self._blobs(values)
            parts, is_multi = decoded(blobs, self._n_rows)
            self.n_elsewhere += n_of_other_systems(blobs, self._srs_id)
            self._parts += parts
            self._is_multi.append(is_multi)
            self._is_null.append(np.asarray(pc.is_null(blobs)))
        self._n_rows += len(values)

    def _blobs(self, values: Values) -> pa.Array:
        if isinstance(values, pa.Array):
            return values
        try:
            return pa.array(values, pa.large_binary())
        except (pa.ArrowTypeError, pa.ArrowInvalid) as err:
            strange = (k for k, v in enumerate(values) if not isinstance(v, bytes | None))
            raise BadBlobError(self._n_rows + next(strange), "its geometry is no blob") from err

    def columns(self) -> list[OfFamily]:
        if self._known is not None:
            if self._known.geometry.n_rows != self._n_rows:
                raise OtherBytesError
            return [OfFamily(np.arange(self._n_rows), self._known.geometry)]
        is_null, is_multi = np.concatenate(self._is_null), np.concatenate(self._is_multi)
        if self._type.startswith("MULTI"):
            is_multi[:] = True
        return columns_of(self._parts, self._n_rows, is_null, is_multi, self._family)


class _Field:
    """The values of a field as they come; as text, without loss, if some are not of its type."""

    def __init__(self, field: pa.Field, in_all: pa.DataType | None) -> None:
        self.field, self.name, self.wrong = field, field.name, ""
        if in_all is not None and pa.types.is_string(in_all) and not pa.types.is_string(field.type):
            self.wrong = breaks(field)
        elif in_all is not None and pa.types.is_float64(in_all):
            self.field = field.with_type(in_all)
        self._chunks: list[pa.Array] = []

    def add(self, values: Values) -> None:
        if self.wrong:  # all will be read once more
            return
        array, self.wrong = to_arrow(values, self.field)
        if self.wrong and isinstance(values, pa.Array):
            raise NotSoError
        self._chunks.append(array)

    def become_text(self) -> None:
        """Forget the values so far; all come once more, by `add_text`."""
        self.field, self._chunks = pa.field(self.name, pa.string()), []

    def add_text(self, values: Values) -> None:
        self._chunks.append(as_text(values))

    def array(self) -> pa.ChunkedArray:
        # Some have more digits than declared.
        if any(pa.types.is_float64(chunk.type) for chunk in self._chunks):
            self.field = self.field.with_type(pa.float64())
        kind = self.field.type
        return pa.chunked_array([pc.cast(chunk, kind) for chunk in self._chunks], kind)


class _Source:
    """The rows of a table or view, a piece at a time."""

    def __init__(
        self,
        connection: Package,
        path: Path,
        table: Table,
        columns: Columns,
        choice: Choice | None,
        is_known: bool,
    ) -> None:
        self._connection, self._path, self._is_view = connection, path, table.is_view
        self._columns, self._choice, self._is_chosen = columns, choice, False
        self._is_known, self.has_keys = is_known, columns.key is not None and not is_known
        has_geometry = table.has_geometry and columns.has_geometry
        names = [table.geometry_column] if has_geometry else []
        names += [field.name for field in columns.fields]
        self._place = f" FROM {quoted(table.name)}"
        if columns.key is not None:
            names += [columns.key] if self.has_keys else []
            key = quoted(columns.key)
            self._last = f"SELECT max({key}){self._place}"
            self._place += f" WHERE {choice.condition}" if choice is not None else ""
            self._place += f" ORDER BY {key}"
        self._listed = ", ".join([*([] if has_geometry else ["NULL"]), *map(quoted, names)])

    def pieces(self) -> Generator[list[list[Any]], None, None]:
        """Yield the values of geometry, of each field, and of the key if there is one."""
        if self._choice is not None and self._choice.keys is not None and not self._is_chosen:
            self._is_chosen = True
            self._connection.execute(TABLE_OF_CHOSEN)
            insert(self._connection, CHOSEN, [pc.column(self._choice.keys)])
        with patient(self._connection, self._is_view, LONG) as renew:
            cursor = self._connection.execute(f"SELECT {self._listed}{self._place}")
            while rows := cursor.fetchmany(CHUNK):
                # Three times as fast as zip(), which turns thousands of rows by one of each at a time.
                yield [[row[k] for row in rows] for k in range(len(rows[0]))]
                renew()

    def gives_arrays(self) -> bool:
        """Whether `arrays` can be had, and are worth that the file is opened once more."""
        if self._is_view or not stepping.is_worth_it(self._connection, len(self._columns.fields)):
            return False
        if self._columns.key is None:
            return True
        # Few rows of a large file are soon read; as few as their keys say, or fewer.
        last = self._connection.execute(self._last).fetchone()[0]
        return isinstance(last, int) and last >= FEW

    def arrays(self) -> Generator[list[pa.Array], None, None]:
        """Yield the same as arrays, of which that of geometry is lent until the next piece.

        Raises
        ------
        NotSoError
            If they are not what fields say, or cannot be read.
        """
        kinds = [BLOB, *(storage_class(field.type) for field in self._columns.fields)]
        kinds += [WHOLE] if self.has_keys else []
        statement = f"SELECT {self._listed}{self._place}"
        first = None
        if self._choice is not None and self._choice.keys is not None:
            first = stepping.First(TABLE_OF_CHOSEN, CHOSEN, [pc.column(self._choice.keys)])
        # What is known of geometry is known of so many rows.
        yield from stepping.pieces(
            self._connection, self._path, statement, kinds, CHUNK, first, not self._is_known
        )


def _declared_family(geometry_type: str) -> Family:
    if "POINT" in geometry_type:
        return Family.POINTS
    return Family.LINES if "LINE" in geometry_type else Family.POLYGONS
