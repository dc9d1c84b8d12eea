"""Rows of a database taken into arrays and put from them, held to Python's own module."""

from __future__ import annotations

import contextlib
import sqlite3
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from polygene.formats.geopackage import putting, stepping
from polygene.formats.geopackage.library import BLOB, REAL, TEXT, WHOLE, NotSoError, library
from polygene.formats.geopackage.package import opened
from polygene.kernels import plain
from tests.support.chance import many

TYPES = {WHOLE: pa.int64(), REAL: pa.float64(), TEXT: pa.string(), BLOB: pa.binary()}
EDGES = st.sampled_from([2**53, -(2**53), 2**53 + 1, 2**63 - 1, -(2**63)])
VALUES = {
    WHOLE: st.integers(-9, 9) | EDGES,
    REAL: st.floats() | EDGES,
    TEXT: st.text(st.characters(exclude_categories=["Cs"]), max_size=9) | st.just("ß" * 300),
    BLOB: st.binary(max_size=9),
}
KINDS = st.lists(st.sampled_from(list(VALUES)), min_size=1, max_size=4)


def columns_of(data, kinds):
    n = data.draw(st.integers(1, 9))
    return [data.draw(st.lists(st.none() | VALUES[kind], min_size=n, max_size=n)) for kind in kinds]


@contextlib.contextmanager
def database(n_columns):
    """Give a database with an empty table; its columns are of no type, so values stay as they are."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "some.gpkg")
        connection = sqlite3.connect(path, isolation_level=None)
        with contextlib.closing(connection):
            connection.execute("CREATE TABLE gpkg_contents (id)")
            connection.execute(f"CREATE TABLE t ({', '.join(f'c{k}' for k in range(n_columns))})")
            yield path, connection


@unittest.skipUnless(library(), "needs compiled kernels and the library of Python's module")
class Rows(unittest.TestCase):
    @settings(max_examples=many(80, 40), deadline=None)
    @given(st.data())
    def test_taken(self, data):
        kinds = data.draw(KINDS)
        rows = list(zip(*columns_of(data, kinds), strict=True))
        odd = st.tuples(*(st.none() | st.one_of(*VALUES.values()) for _ in kinds))
        rows += data.draw(st.lists(odd, max_size=1))
        n_a_piece, room = data.draw(st.integers(1, 5)), data.draw(st.sampled_from([1, 7, 2000]))
        enough = data.draw(st.sampled_from([1, 16, 1 << 26]))
        with database(len(kinds)) as (path, connection):
            marks = ", ".join("?" * len(kinds))
            connection.executemany(f"INSERT INTO t VALUES ({marks})", rows)
            kept = connection.execute("SELECT * FROM t").fetchall()
            taken, is_strange = [], False
            with (
                opened(path, is_strict=True) as own,
                mock.patch.object(stepping, "_ROOM", room),
                mock.patch.object(stepping, "_ENOUGH", enough),
            ):
                try:
                    for piece in stepping.pieces(own, path, "SELECT * FROM t", kinds, n_a_piece):
                        taken += zip(*(column.to_pylist() for column in piece), strict=True)
                except NotSoError:
                    is_strange = True
        columns, has_strange = plain.take_rows(kept, kinds)
        self.assertEqual(is_strange, has_strange)
        wanted = list(zip(*columns, strict=True))
        # Those of the piece that the strange one is in are lost with it.
        n_sure = len(wanted) // n_a_piece * n_a_piece if is_strange else len(wanted)
        n_sure = len(taken) if is_strange and enough < 100 else n_sure
        self.assertEqual(repr(taken), repr(wanted[:n_sure]))

    @settings(max_examples=80, deadline=None)
    @given(st.data())
    def test_put(self, data):
        kinds = data.draw(KINDS)
        columns = [
            [None if value is None else float(value) if kind == REAL else value for value in column]
            for kind, column in zip(kinds, columns_of(data, kinds), strict=True)
        ]
        arrays = [pa.array(own, TYPES[kind]) for own, kind in zip(columns, kinds, strict=True)]
        with database(len(kinds)) as (path, connection):
            connection.execute("BEGIN")
            with putting.putting(connection, path, putting.MANY) as put:
                put("t", arrays)
                put("t", [own.slice(len(own) // 2) for own in arrays])
            connection.execute("COMMIT")
            found = connection.execute("SELECT * FROM t").fetchall()
        wanted = plain.put_rows([own + own[len(own) // 2 :] for own in columns])
        self.assertEqual(repr(found), repr(wanted))

    def test_what_is_refused_is_said_as_the_module_says_it(self):
        with database(1) as (path, connection):
            connection.execute("CREATE UNIQUE INDEX i ON t (c0)")
            connection.execute("BEGIN")
            with (
                self.assertRaisesRegex(sqlite3.DatabaseError, "UNIQUE constraint failed: t.c0"),
                putting.putting(connection, path, putting.MANY) as put,
            ):
                put("t", [pa.array([1, 2, 1])])
