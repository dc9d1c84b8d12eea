"""Which rows of a table are read, where not all are wanted."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from polygene.arrays import I64Array
from polygene.classes import NamedTuple
from polygene.formats.base import collecting_no_garbage
from polygene.formats.geopackage import stepping
from polygene.formats.geopackage.library import WHOLE, NotSoError
from polygene.formats.geopackage.listing import Table
from polygene.formats.geopackage.package import Package
from polygene.formats.geopackage.values import CHUNK, Values, storage_class, to_arrow
from polygene.formats.wanted import Wanted
from polygene.geometry import Extent
from polygene.table.tokens import quoted

if TYPE_CHECKING:
    from pyproj import CRS

CHOSEN = "temp.polygene_chosen"
TABLE_OF_CHOSEN = f"CREATE TABLE {CHOSEN} (id INTEGER PRIMARY KEY)"


class Columns(NamedTuple):
    """The columns that are read: the key, those of fields, and geometry if it is not left out."""

    key: str | None
    fields: list[pa.Field]
    has_geometry: bool = True


class Choice(NamedTuple):
    """Some rows of a table: how many it has in all, and the condition that those chosen meet.

    keys : what a table `CHOSEN` of the connection's own is to hold then, if that is the condition
    """

    total: int
    condition: str
    keys: I64Array | None = None


@collecting_no_garbage()
def choose(
    connection: Package,
    path: Path,
    table: Table,
    columns: Columns,
    wanted: Wanted,
    crs: CRS | None,
) -> Choice | None:
    """Choose the rows of a table in a CRS that are wanted; None if all are to be read."""
    if columns.key is None:
        return None
    source, key = quoted(table.name), quoted(columns.key)
    names = wanted.fields([field.name for field in columns.fields])
    index = f"rtree_{table.name}_{table.geometry_column}"
    is_indexed = table.has_geometry and all(
        _has_table(connection, own) for own in (index, f"{index}_rowid")
    )
    boxes = wanted.boxes(crs) if is_indexed else []
    if not names and not boxes and wanted.span is None:
        return None
    total = int(connection.execute(f"SELECT count(*) FROM {source}").fetchone()[0])
    clauses = [_near(connection, index, key, boxes, total)] if boxes else []
    if wanted.span is not None:
        names = []
        clauses.append(_spanned(connection, source, key, wanted.span, total))
    condition = " AND ".join(clauses)
    if not names:
        return Choice(total, condition)
    place = f" WHERE {condition}" if clauses else ""
    fields = [field for field in columns.fields if field.name in names]
    listed = ", ".join(quoted(name) for name in (columns.key, *(f.name for f in fields)))
    statement = f"SELECT {listed} FROM {source}{place}"
    keys, *values = _fetched(connection, path, table, statement, fields)
    arrays = [to_arrow(own, field) for own, field in zip(values, fields, strict=True)]
    if any(wrong for _, wrong in arrays):
        return None
    kept = [f.with_type(a.type) for f, (a, _) in zip(fields, arrays, strict=True)]
    chosen = wanted.rows(pa.table([a for a, _ in arrays], pa.schema(kept)))
    if 2 * chosen.sum() > total:  # looking so many up costs more than reading past the others
        return None
    own = np.asarray(keys, np.int64)[chosen]
    return Choice(total, f"{key} IN {CHOSEN}", own)


def _near(connection: Package, index: str, key: str, boxes: Sequence[Extent], total: int) -> str:
    """Return the condition that rows may meet one of some boxes, by the index.

    So may those that the index does not know: programs fill it at the end, or not at all.
    """
    looks = [
        f"SELECT id FROM {quoted(index)} WHERE maxx >= {x0!r} AND minx <= {x1!r} "
        f"AND maxy >= {y0!r} AND miny <= {y1!r}"
        for x0, y0, x1, y1 in (map(float, box) for box in boxes)
    ]
    found = f"{key} IN ({' UNION '.join(looks)})"
    known = quoted(f"{index}_rowid")
    if connection.execute(f"SELECT count(*) FROM {known}").fetchone()[0] == total:
        return found
    return f"({found} OR {key} NOT IN (SELECT rowid FROM {known}))"


def _fetched(
    connection: Package, path: Path, table: Table, statement: str, fields: Sequence[pa.Field]
) -> Sequence[Values]:
    """Return the keys that a statement gives and the values of fields."""
    kinds = [WHOLE, *(storage_class(field.type) for field in fields)]
    if not table.is_view and stepping.is_worth_it(connection, len(kinds)):
        pieces = stepping.pieces(connection, path, statement, kinds, CHUNK)
        with (
            contextlib.suppress(NotSoError, pa.ArrowInvalid),
            contextlib.closing(pieces),
        ):
            found = [pa.concat_arrays(own) for own in zip(*pieces, strict=True)]
            if found:
                return found
    rows = connection.execute(statement).fetchall()
    return [[row[k] for row in rows] for k in range(len(kinds))]


def _spanned(
    connection: sqlite3.Connection, source: str, key: str, span: tuple[int, int], total: int
) -> str:
    """Return the condition that only rows ``span``, in the order of their keys, meet."""
    least, most = _ends(connection, source, key)
    if total and most - least + 1 == total:  # without gaps, as most are
        return f"{key} >= {least + span[0]} AND {key} < {least + span[1]}"
    ends = []
    for at in span:
        found = connection.execute(
            f"SELECT {key} FROM {source} ORDER BY {key} LIMIT 1 OFFSET {int(at)}"
        ).fetchone()
        ends.append(found[0] if found else None)
    first = f"{key} >= {ends[0]}" if ends[0] is not None else "0"
    return first if ends[1] is None else f"{first} AND {key} < {ends[1]}"


def _ends(connection: sqlite3.Connection, source: str, key: str) -> tuple[int, int]:
    """Return the least key and the greatest: asked for together, SQLite would look at all rows."""
    least, most = (f"(SELECT {what}({key}) FROM {source})" for what in ("min", "max"))
    found: tuple[int, int] = connection.execute(f"SELECT {least}, {most}").fetchone()
    return found


def numbers(
    connection: sqlite3.Connection,
    table: Table,
    columns: Columns,
    ids: I64Array,
    total: int,
) -> I64Array:
    """Return which of the ``total`` rows of the table, in the order of their keys, have some keys."""
    key, source = quoted(str(columns.key)), quoted(table.name)
    least, most = _ends(connection, source, key)
    if total and most - least + 1 == total:  # without gaps, as most are
        return ids - least
    keys = connection.execute(f"SELECT {key} FROM {source} ORDER BY {key}").fetchall()
    return np.searchsorted(np.array(keys, np.int64).reshape(-1), ids)


def _has_table(connection: sqlite3.Connection, name: str) -> bool:
    found = "SELECT count(*) FROM sqlite_master WHERE lower(name) = lower(?)"
    return bool(connection.execute(found, (name,)).fetchone()[0])
