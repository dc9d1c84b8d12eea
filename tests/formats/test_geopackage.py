"""GeoPackage: round trips, the standard's own demands, damage, and what is left behind."""

from __future__ import annotations

import contextlib
import datetime
import os
import random
import shutil
import signal
import sqlite3
import struct
import subprocess
import sys
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa

from polygene import crs
from polygene.errors import DataError, FileError, GeometryError, UnknownLayerError
from polygene.formats import address, addressed, base, destination, geopackage
from polygene.formats.geopackage import listing, package, rows, schema, writing
from polygene.formats.geopackage.library import library
from polygene.formats.wanted import ALL, Wanted
from polygene.geometry import Family
from polygene.ops.subset import subset
from polygene.table.expression import Expression
from tests.support import generators as make
from tests.support import layers as some
from tests.support.arrays import by_arrays
from tests.support.chance import some_of

# Another program: keeps edit after edit until its input ends, and says how many it was told are kept.
EDITOR = """
import sqlite3, sys, threading, time
over = threading.Event()
threading.Thread(target=lambda: (sys.stdin.read(), over.set())).start()
kept, said = 0, False
while not over.is_set():
    connection = sqlite3.connect(sys.argv[1], timeout=30)
    try:
        connection.execute("INSERT INTO notes VALUES ('kept')")
        time.sleep(0.04)  # a slow disk
        connection.commit()
        kept += 1
    except sqlite3.OperationalError:
        pass  # told, so not lost
    connection.close()
    if kept and not said:
        said = print(flush=True) is None
print(kept)
"""


class InFolder(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.path = Path(holder.name) / "a.gpkg"

    @contextlib.contextmanager
    def edited(self):
        """The file as another program would change it, with the functions its triggers need."""
        connection = sqlite3.connect(self.path)
        for k, name in enumerate(("ST_MinX", "ST_MaxX", "ST_MinY", "ST_MaxY")):
            at = 13 + 8 * (k > 1)  # of a point without envelope
            connection.create_function(
                name, 1, lambda b, at=at: struct.unpack("<d", b[at : at + 8].ljust(8))[0]
            )
        connection.create_function("ST_IsEmpty", 1, lambda b: b is not None and bool(b[3] & 16))
        try:
            with connection:
                yield connection
        finally:
            connection.close()

    def sql(self, statement, *values):
        with self.edited() as connection:
            return connection.execute(statement, values).fetchall()

    def only_layer(self, name="things"):
        reading = geopackage.read(self.path, name)
        self.assertEqual(len(reading.layers), 1)
        return reading.layers[0]


class RoundTrip(InFolder):
    def test_every_geometry_and_field_type_comes_back(self):
        for name, column in some.geometries().items():
            with self.subTest(name=name):
                self.path.unlink(missing_ok=True)
                layer = some.layer(column)
                geopackage.write(self.path, [layer])
                found = self.only_layer()
                some.same_geometry(self, column, found.geometry)
                self.assertTrue(found.table.equals(layer.table), found.table.schema)
                self.assertEqual(found.table.schema.field("text").metadata, {b"width": b"60"})
                np.testing.assert_array_equal(found.ids, layer.ids)
                self.assertEqual(crs.code(found.crs), ("EPSG", "32633"))

    def test_names_that_are_no_sql(self):
        """Layers and fields may be called anything; key and geometry column make way."""
        rows = make.polygons([[[make.square(0, 0, 1)]]])
        for name in ('a"b', "drop table x; --", "order", "Ähre 7"):
            table = {"id": ["x"], "geometry": [1], 'q"; select': [True], "": ["empty"]}
            layer = make.layer(name, rows, crs.parse("EPSG:32633"), **table)
            geopackage.write(self.path, [layer])
            self.assertTrue(self.only_layer(name).table.equals(layer.table))
        self.assertEqual(len(geopackage.layer_names(self.path)), 4)

    def test_a_crs_without_code_and_none(self):
        rows = make.polygons([[[make.square(0, 0, 1)]]])
        own = crs.parse("+proj=laea +lat_0=52 +lon_0=10 +ellps=GRS80 +units=m")
        geopackage.write(self.path, [make.layer("own", rows, own), make.layer("none", rows, None)])
        geopackage.write(self.path, [make.layer("again", rows, own)])
        self.assertTrue(crs.is_same(self.only_layer("own").crs, own))
        self.assertIsNone(self.only_layer("none").crs)
        self.assertEqual(self.sql("SELECT count(*) FROM gpkg_spatial_ref_sys"), [(4,)])

    def test_both_byte_orders_and_all_envelopes(self):
        """Blobs as other programs write them, big-endian, with every envelope, in one column."""
        square = make.square(0, 0, 2)
        geopackage.write(
            self.path, [make.layer("things", make.polygons([[[square]]]), None, n=[0])]
        )
        rows = []
        for k, (order, size) in enumerate([(o, s) for o in "<>" for s in (0, 4, 6, 6, 8)]):
            flags = (order == "<") | (k % 5) << 1
            wkb = struct.pack(f"{order}BIII", order == "<", 3, 1, 5) + b"".join(
                struct.pack(f"{order}dd", *v) for v in square
            )
            header = struct.pack(f"{order}2sBBi", b"GP", 0, flags, 0) + struct.pack(
                f"{order}{size}d", *[0] * size
            )
            rows.append((10 + k, header + wkb, k))
        with self.edited() as connection:
            for (name,) in connection.execute(
                "SELECT name FROM sqlite_master WHERE type = 'trigger'"
            ).fetchall():
                connection.execute(f'DROP TRIGGER "{name}"')
            connection.executemany("INSERT INTO things VALUES (?, ?, ?)", rows)
        found = self.only_layer().geometry
        np.testing.assert_array_equal(found.xy, np.tile(square, (11, 1)))

    def test_mixed_dimensions_become_layers(self):
        geopackage.write(
            self.path, [make.layer("things", make.points([[np.zeros(2)]]), None, n=[0])]
        )
        line = struct.pack("<2sBBi", b"GP", 0, 1, 0) + struct.pack("<BII4d", 1, 2, 2, 0, 0, 5, 5)
        with self.edited() as connection:
            connection.execute("UPDATE gpkg_geometry_columns SET geometry_type_name = 'GEOMETRY'")
            connection.execute("DROP TRIGGER rtree_things_geometry_insert")
            connection.executemany(
                "INSERT INTO things VALUES (?, ?, ?)", [(5, line, 1), (6, line, 2), (7, None, 3)]
            )
        reading = geopackage.read(self.path, "things")
        self.assertEqual(
            [(y.name, y.n_rows) for y in reading.layers],
            [("things_lines", 3), ("things_points", 1)],
        )
        self.assertEqual(reading.layers[0].ids.tolist(), [5, 6, 7])
        self.assertIn("several dimensions", reading.notes[0])

    def test_values_that_break_their_type_are_read_as_text(self):
        geopackage.write(
            self.path, [make.layer("things", make.points([[np.zeros(2)]] * 3), None, n=[1, 2, 3])]
        )
        with self.edited() as connection:
            connection.execute("UPDATE things SET n = 'many' WHERE id = 2")
        reading = geopackage.read(self.path, "things")
        self.assertEqual(reading.layers[0].table["n"].to_pylist(), ["1", "many", "3"])
        self.assertIn("field n holds values that are no INTEGER", reading.notes[0])

    def test_what_a_view_computes_is_of_the_type_of_its_values(self):
        """No type is declared for it; and of a CRS that the file does not describe it is said."""
        points = make.points([[np.zeros(2)]] * 3)
        geopackage.write(self.path, [make.layer("b", points, crs.parse("EPSG:32633"), n=[1, 2, 3])])
        with self.edited() as connection:
            connection.executescript(
                "CREATE VIEW v AS SELECT id, geometry, n * 2 AS whole, n / 2.0 AS half, "
                "n || '' AS said, CASE n WHEN 2 THEN 'x' ELSE n END AS two, "
                "nullif(n, n) AS none FROM b;"
                "INSERT INTO gpkg_contents (table_name, data_type, identifier, srs_id) "
                "VALUES ('v', 'features', 'v', 77);"
                "INSERT INTO gpkg_geometry_columns VALUES ('v', 'geometry', 'POINT', 77, 0, 0)"
            )
        reading = geopackage.read(self.path, "v")
        table = reading.layers[0].table
        rows = {"whole": [2, 4, 6], "half": [0.5, 1.0, 1.5], "said": ["1", "2", "3"]}
        rows |= {"two": ["1", "x", "3"], "none": [None] * 3}
        for name, values in rows.items():
            self.assertEqual(table[name].to_pylist(), values)
        said = " ".join(reading.notes)
        self.assertIn("does not say which CRS its srs_id 77 is", said)
        self.assertIn("3 geometries of another srs_id than the table's, 77", said)
        self.assertEqual(geopackage.read(self.path, "b").notes, [])
        listed = dict(geopackage.list_layers(self.path)[-1].fields)
        self.assertEqual(listed, {field.name: str(field.type) for field in table.schema})


class Standard(InFolder):
    def test_tables_rows_and_index_are_as_the_standard_asks(self):
        rng = np.random.default_rng(1)
        cells = make.coverage(40, 40, 10, rng)
        geopackage.write(
            self.path, [make.layer("cells", cells, crs.parse("EPSG:32633"), n=list(range(1600)))]
        )
        self.assertEqual(self.sql("PRAGMA application_id"), [(0x47504B47,)])
        self.assertEqual(self.sql("PRAGMA user_version"), [(10400,)])
        self.assertEqual(self.sql("PRAGMA integrity_check"), [("ok",)])
        self.assertEqual(self.sql("PRAGMA foreign_key_check"), [])
        self.assertEqual(self.sql("SELECT rtreecheck('rtree_cells_geometry')"), [("ok",)])
        ids = {row[0] for row in self.sql("SELECT srs_id FROM gpkg_spatial_ref_sys")}
        self.assertEqual(ids, {-1, 0, 4326, 32633})
        (definition,) = self.sql(
            "SELECT definition FROM gpkg_spatial_ref_sys WHERE srs_id = 32633"
        )[0]
        self.assertTrue(definition.startswith('PROJCS["'))
        self.assertEqual(
            self.sql("SELECT extension_name, scope FROM gpkg_extensions"),
            [("gpkg_rtree_index", "write-only")],
        )
        extent = self.sql("SELECT min_x, min_y, max_x, max_y FROM gpkg_contents")[0]
        self.assertEqual(extent, cells.extent())
        triggers = {
            n.rsplit("_", 1)[1]
            for (n,) in self.sql("SELECT name FROM sqlite_master WHERE type = 'trigger'")
        }
        self.assertEqual(
            triggers, {"insert", "update2", "update4", "update5", "update6", "update7", "delete"}
        )
        bounds = cells.row_bounds()
        for low, high in ((55.5, 60.0), (0, 3), (399, 500)):
            found = self.sql(
                "SELECT id FROM rtree_cells_geometry "
                "WHERE minx <= ? AND maxx >= ? AND miny <= ? AND maxy >= ?",
                high,
                low,
                high,
                low,
            )
            meets = (bounds[:, :2] <= high).all(axis=1) & (bounds[:, 2:] >= low).all(axis=1)
            self.assertEqual(sorted(k - 1 for (k,) in found), np.flatnonzero(meets).tolist())

    def test_the_index_lives_on(self):
        """Rows that others add, change and delete are kept in the index by the triggers."""
        geopackage.write(self.path, [make.layer("things", make.points([[np.zeros(2)]] * 60), None)])
        with self.edited() as connection:
            blob = struct.pack("<2sBBi", b"GP", 0, 1, 0) + struct.pack("<BIdd", 1, 1, 8, 9)
            connection.execute("INSERT INTO things VALUES (100, ?)", (blob,))
            connection.execute("DELETE FROM things WHERE id = 3")
            connection.execute("UPDATE things SET geometry = NULL WHERE id = 4")
            connection.execute("UPDATE things SET id = 200 WHERE id = 5")
            connection.execute("UPDATE things SET geometry = ? WHERE id = 6", (blob,))
            ids = {row[0] for row in connection.execute("SELECT id FROM rtree_things_geometry")}
            moved = connection.execute(
                "SELECT minx, maxy FROM rtree_things_geometry WHERE id = 6"
            ).fetchone()
        self.assertEqual(ids, (set(range(1, 61)) | {100, 200}) - {3, 4, 5})
        self.assertEqual(moved, (8, 9))

    def test_names_that_differ_by_case_are_refused(self):
        with self.assertRaisesRegex(DataError, "differ only by case"):
            geopackage.write(self.path, [make.layer("x", make.points([]), None, Code=[], code=[])])
        self.assertFalse(self.path.exists())


class Damage(InFolder):
    def setUp(self):
        super().setUp()
        cells = make.coverage(20, 20, 10, np.random.default_rng(1))
        geopackage.write(self.path, [make.layer("cells", cells, None, n=list(range(400)))])

    def test_truncated_anywhere(self):
        """A cut file is refused in words or read rightly, never with a crash or a wrong answer."""
        data = self.path.read_bytes()
        refused = 0
        for share in (0.001, 0.1, 0.3, 0.5, 0.7, 0.9, 0.99):
            self.path.write_bytes(data[: int(len(data) * share)])
            try:
                self.assertEqual(self.only_layer("cells").n_rows, 400)
            except FileError as err:
                self.assertIn("damaged or cut short", str(err))
                refused += 1
        self.assertGreaterEqual(refused, 6)

    def test_broken_geometry_names_its_row(self):
        good = self.sql("SELECT geometry FROM cells WHERE id = 17")[0][0]
        for blob, reason in [
            (good[:60], "counts more|ends too early"),
            (good[:41], "ends too early"),
            (good[:5], "cut short"),
            (b"XX" + good[2:], "no GeoPackage geometry"),
            (good[:3] + bytes([good[3] | 32]) + good[4:], "extended type"),
            (good[:3] + b"\x0f" + good[4:], "envelope"),
            (good[:40] + b"\x07" + good[41:], "byte order"),
            (good[:41] + b"\xff\xff\x00\x00" + good[45:], "type that is not read"),
            (good[:45] + b"\xff\xff\xff\xff" + good[49:], "counts more"),
            (good[:40] + struct.pack("<BII", 1, 7, 1) * 40 + good[40:], "nested too deeply"),
            ("POLYGON EMPTY", "no GeoPackage geometry"),
            (5, "no blob"),
        ]:
            with self.subTest(reason=reason):
                with self.edited() as connection:
                    for (name,) in connection.execute(
                        "SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'cells'"
                    ).fetchall():
                        connection.execute(f"DROP TRIGGER {name}")
                    connection.execute("UPDATE cells SET geometry = ? WHERE id = 17", (blob,))
                for wanted in (ALL, Wanted(span=(5, 300))):  # rows are counted as in the file
                    with self.assertRaisesRegex(GeometryError, f"row 17: .*({reason})"):
                        geopackage.read(self.path, "cells", wanted)

    def test_a_column_that_breaks_its_type_is_read_as_the_text_that_is_there(self):
        values = {
            "DATETIME": ["2026-05-01T10:00:00.000Z", "2026-05-01T10:00:00Z", None, "by night"],
            "BOOLEAN": [1, 0, None, 7],
            "DOUBLE": [2.0, 1e300, None, "deep"],
            "INTEGER": [7, 2**62, None, b"\x01\xff"],
        }
        with self.edited() as connection:
            for kind, own in values.items():
                connection.execute(f"ALTER TABLE cells ADD COLUMN f_{kind} {kind}")
                pairs = [(value, 1 + k) for k, value in enumerate(own)]
                connection.executemany(f"UPDATE cells SET f_{kind} = ? WHERE id = ?", pairs)
        for n in (1, 3, 1000):
            with self.subTest(rows_at_a_time=n), mock.patch.object(rows, "CHUNK", n):
                reading = geopackage.read(self.path, "cells", Wanted(span=(0, 4)))
                for kind, own in values.items():
                    texts = [v.hex() if isinstance(v, bytes) else v and str(v) for v in own]
                    texts = [str(v) if v == 0 else t for v, t in zip(own, texts, strict=True)]
                    column = reading.layers[0].table.column(f"f_{kind}")
                    self.assertEqual(column.to_pylist(), texts)
                    self.assertIn(f"f_{kind} holds values that are no {kind}", str(reading.notes))

    def test_moments_as_the_functions_of_sqlite_write_them(self):
        ten = datetime.datetime(2026, 5, 1, 10, tzinfo=datetime.UTC)
        for texts in (
            ["2026-05-01 10:00:00", "2026-05-01T10:00:00", "2026-05-01T12:00:00+02:00"],
            ["2026-05-01T10:00:00.000001Z"],  # finer than is kept: text
        ):
            with self.edited() as connection:
                connection.execute(f"ALTER TABLE cells ADD COLUMN s{len(texts)} DATETIME")
                pairs = [(text, 1 + k) for k, text in enumerate(texts)]
                connection.executemany(f"UPDATE cells SET s{len(texts)} = ? WHERE id = ?", pairs)
            layer = geopackage.read(self.path, "cells", Wanted(span=(0, len(texts)))).layers[0]
            wanted = [ten] * 3 if len(texts) == 3 else texts
            self.assertEqual(layer.table[f"s{len(texts)}"].to_pylist(), wanted)

    def test_such_a_column_of_a_table_without_a_key_goes_with_its_rows(self):
        """An index of the column has another order than the table."""
        with self.edited() as connection:
            connection.execute("CREATE TABLE coded (code TEXT PRIMARY KEY, v INTEGER, n INTEGER)")
            connection.execute("CREATE INDEX by_v ON coded (v)")
            rows = [(f"c{k}", "x" if k == 7 else 50 - k, k) for k in range(20)]
            connection.executemany("INSERT INTO coded VALUES (?, ?, ?)", rows)
            connection.execute(
                "INSERT INTO gpkg_contents (table_name, data_type) VALUES ('coded', 'attributes')"
            )
        (layer,) = geopackage.read(self.path, "coded").layers
        found = zip(*(layer.table.column(c).to_pylist() for c in ("code", "v", "n")), strict=True)
        self.assertEqual(sorted(found), sorted((c, str(v), n) for c, v, n in rows))

    def test_not_a_geopackage(self):
        with self.assertRaises(UnknownLayerError):
            geopackage.read(self.path, "cell")
        self.path.unlink()
        with self.edited() as connection:
            connection.execute("CREATE TABLE x (y)")
        with self.assertRaisesRegex(FileError, "no table gpkg_contents"):
            geopackage.layer_names(self.path)


class WholeOrNot(InFolder):
    def test_adding_and_replacing_keep_the_rest(self):
        rows = make.polygons([[[make.square(0, 0, 1)]]])
        geopackage.write(
            self.path, [make.layer("a", rows, None, n=[1]), make.layer("b", rows, None, n=[2])]
        )
        with self.edited() as connection:
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("CREATE TABLE notes (text)")
        geopackage.write(
            self.path, [make.layer("a", rows, None, n=[3]), make.layer("c", rows, None, n=[4])]
        )
        self.assertEqual(geopackage.layer_names(self.path), ["b", "a", "c"])
        self.assertEqual(
            [self.only_layer(n).table["n"].to_pylist() for n in "abc"], [[3], [2], [4]]
        )
        self.assertEqual(self.sql("SELECT count(*) FROM notes"), [(0,)])
        self.assertEqual([p.name for p in self.path.parent.iterdir()], ["a.gpkg"])

    def test_reading_a_write_ahead_file_leaves_nothing(self):
        geopackage.write(self.path, [make.layer("a", make.points([[np.zeros(2)]]), None)])
        with self.edited() as connection:
            connection.execute("PRAGMA journal_mode = WAL")
        self.path.chmod(0o444)
        self.only_layer("a")
        self.assertEqual([p.name for p in self.path.parent.iterdir()], ["a.gpkg"])

    def test_a_file_that_another_program_writes_is_left_alone(self):
        rows = make.points([[np.zeros(2)]])
        geopackage.write(self.path, [make.layer("a", rows)])
        with self.edited() as connection:
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("CREATE TABLE notes (text)")
            connection.commit()
            with (
                mock.patch.object(writing, "PATIENCE", 0.1),
                self.assertRaisesRegex(FileError, "another program"),
            ):
                geopackage.write(self.path, [make.layer("b", rows)])
        self.assertEqual(geopackage.layer_names(self.path), ["a"])

    def test_an_editor_and_we_wait_for_each_other(self):
        """What an editor has not kept yet is waited for; an editor that comes later is told."""
        rows = make.points([[np.zeros(2)]])
        geopackage.write(self.path, [make.layer("a", rows)])
        with self.edited() as editor:
            editor.isolation_level = None
            editor.execute("CREATE TABLE notes (text)")
            editor.execute("BEGIN")
            editor.executemany("INSERT INTO notes VALUES (?)", [("kept",)] * 400)
            with (
                mock.patch.object(writing, "PATIENCE", 0.1),
                self.assertRaisesRegex(FileError, "another program is writing to it"),
            ):
                geopackage.write(self.path, [make.layer("b", rows)])
            editor.execute("COMMIT")
            geopackage.write(self.path, [make.layer("b", rows)])
            with self.assertRaisesRegex(sqlite3.OperationalError, "readonly"):
                editor.execute("INSERT INTO notes VALUES ('into nothing')")
        self.assertEqual(self.sql("SELECT count(*) FROM notes"), [(400,)])
        self.assertEqual(geopackage.layer_names(self.path), ["a", "b"])

    def test_many_writers_by_many_ways_lose_nothing(self):
        """Runs by links in other folders, and an editor that keeps its edits all the while."""
        rows = make.points([[np.zeros(2)]])
        geopackage.write(self.path, [make.layer("a", rows)])
        with self.edited() as first:
            first.execute("CREATE TABLE notes (text)")
        other = self.path.parent / "elsewhere"
        other.mkdir()
        (other / "link.gpkg").symlink_to(self.path)

        def write(k: int) -> None:
            path = self.path if k % 2 else other / "link.gpkg"
            layer = make.layer(f"run_{k}", rows)
            destination.write_all([(destination.Target(path, layer.name), layer)])

        command = [sys.executable, "-c", EDITOR, self.path]
        with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as editor:
            editor.stdout.readline()
            with ThreadPoolExecutor(4) as pool:
                list(pool.map(write, range(20)))
            n_kept = int(editor.communicate()[0])
        self.assertEqual(len(geopackage.layer_names(self.path)), 21)
        self.assertEqual(self.sql("SELECT count(*) FROM notes"), [(n_kept,)])
        self.assertGreater(n_kept, 1)

    def test_a_failure_leaves_the_old_file(self):
        rows = make.polygons([[[make.square(0, 0, 1)]]])
        geopackage.write(self.path, [make.layer("a", rows, None, n=[1])])
        before = self.path.read_bytes()
        too_large = replace(
            make.layer("b", rows), table=pa.table({"n": pa.array([2**63], pa.uint64())})
        )
        with self.assertRaisesRegex(DataError, "64 bits"):
            geopackage.write(self.path, [make.layer("a", rows, None, n=[2]), too_large])
        self.assertEqual(self.path.read_bytes(), before)
        self.assertEqual(len(list(self.path.parent.iterdir())), 1)

    def test_what_other_programs_leave_out_or_add(self):
        rows = make.polygons([[[make.square(0, 0, 1)]], [[make.square(5, 0, 1)]]])
        geopackage.write(self.path, [make.layer(n, rows, None, n=[1, 2]) for n in ("a", "b")])
        with contextlib.closing(sqlite3.connect(self.path)) as connection:
            connection.executescript(
                "DELETE FROM gpkg_contents WHERE table_name = 'a';"
                "CREATE TABLE codes (id INTEGER PRIMARY KEY, word TEXT);"
                "INSERT INTO codes VALUES (1, 'x');"
                "INSERT INTO gpkg_contents (table_name, data_type) VALUES ('codes', 'attributes');"
                "CREATE VIEW v AS SELECT id AS own_key, geometry AS geom, n FROM b WHERE n = 2;"
                "INSERT INTO gpkg_contents (table_name, data_type) VALUES ('v', 'features');"
                "INSERT INTO gpkg_geometry_columns VALUES ('v', 'geom', 'POLYGON', 0, 0, 0);"
            )
        self.assertEqual(geopackage.layer_names(self.path), ["b", "v", "a", "codes"])
        self.assertEqual(self.only_layer("a").n_rows, 2)
        self.assertEqual(self.only_layer("v").table["n"].to_pylist(), [2])
        self.assertEqual(geopackage.list_layers(self.path)[-1].n_rows, 1)
        (codes,) = addressed.read(address.resolve(f"{self.path}#codes")[0]).layers
        self.assertEqual((codes.is_table, codes.table["word"].to_pylist()), (True, ["x"]))

    def test_what_an_index_does_not_know_is_chosen_too(self):
        """Programs fill it at the end, or not at all if they are stopped before."""
        layer = make.layer("a", make.points([[np.full(2, 5.0 * k)] for k in range(40)]), None)
        geopackage.write(self.path, [replace(layer, table=pa.table({"k": np.arange(40)}))])
        with contextlib.closing(sqlite3.connect(self.path)) as connection:
            names = "SELECT name FROM sqlite_master WHERE type = 'trigger' AND name LIKE 'rtree%'"
            for (name,) in connection.execute(names).fetchall():
                connection.execute(f'DROP TRIGGER "{name}"')
            for lost in ("id = 11", "id > 30", "id > 0"):
                connection.execute(f"DELETE FROM rtree_a_geometry WHERE {lost}")
                connection.commit()
                box = Wanted(box=(48.0, 48.0, 102.0, 102.0))
                (found,) = geopackage.read(self.path, "a", box).layers
                self.assertLessEqual(set(range(10, 21)), set(found.table["k"].to_pylist()))
                self.assertEqual(subset(found, box=box.box).layer.n_rows, 11)

    def test_counts_that_other_programs_keep_are_kept_true(self):
        rows = make.polygons([[[make.square(0, 0, 1)]], [[make.square(5, 0, 1)]]])
        geopackage.write(self.path, [make.layer(n, rows, None, n=[1, 2]) for n in ("a", "b")])
        with contextlib.closing(sqlite3.connect(self.path)) as connection:
            connection.executescript(
                "CREATE TABLE gpkg_counts_of_another (table_name TEXT, feature_count INTEGER);"
                "INSERT INTO gpkg_counts_of_another VALUES ('a', 2), ('b', 2);"
            )
        geopackage.write(self.path, [make.layer("a", rows.take(np.array([1])), None, n=[3])])
        with contextlib.closing(sqlite3.connect(self.path)) as connection:
            found = connection.execute("SELECT * FROM gpkg_counts_of_another ORDER BY 1").fetchall()
        self.assertEqual(found, [("a", 1), ("b", 2)])

    def test_a_crs_in_the_newer_text_alone_and_reals_finer_than_declared(self):
        rows = make.polygons([[[make.square(0, 0, 1)]], [[make.square(5, 0, 1)]]])
        single = pa.array([0.5, 0.25], pa.float32())
        given = make.layer("a", rows, crs.parse("EPSG:32633"), f=[1, 2])
        given = replace(given, table=pa.table({"f": single, "g": single}))
        geopackage.write(self.path, [given])
        wkt = crs.parse("EPSG:25833").to_wkt().replace("UTM zone 33N", "our zone")
        with contextlib.closing(sqlite3.connect(self.path)) as connection:
            for function in ("IsEmpty", "MinX", "MaxX", "MinY", "MaxY"):  # what triggers ask for
                connection.create_function(f"ST_{function}", 1, lambda blob: 0)
            connection.executescript(
                "ALTER TABLE gpkg_spatial_ref_sys ADD COLUMN "
                "definition_12_063 TEXT NOT NULL DEFAULT 'undefined';"
                "UPDATE a SET f = 0.1 WHERE id = 1;"
            )
            connection.execute(
                "UPDATE gpkg_spatial_ref_sys SET organization = 'NONE', definition = 'undefined', "
                "definition_12_063 = ? WHERE srs_id = 32633", (wkt,)
            )  # fmt: skip
            connection.commit()
        layer = self.only_layer("a")
        self.assertIn("our zone", layer.crs.name)
        self.assertEqual(layer.table["f"].to_pylist(), [0.1, 0.25])
        self.assertEqual(str(layer.table["g"].type), "float")
        geopackage.write(self.path, [make.layer("b", rows, crs.parse("EPSG:3035"), n=[1, 2])])
        with contextlib.closing(sqlite3.connect(self.path)) as connection:
            texts = connection.execute(
                "SELECT definition_12_063 FROM gpkg_spatial_ref_sys WHERE srs_id = 3035"
            ).fetchall()
        self.assertIn("PROJCRS", texts[0][0])

    def test_a_view_without_end_is_told_and_left_and_a_request_to_stop_is_heard(self):
        geopackage.write(
            self.path, [make.layer("a", make.polygons([[[make.square(0, 0, 1)]]]), None)]
        )
        with contextlib.closing(sqlite3.connect(self.path)) as connection:
            connection.executescript(
                "CREATE VIEW v AS WITH RECURSIVE n(k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM n) "
                "SELECT n.k AS k, a.geometry AS geometry FROM a JOIN n WHERE n.k < 0;"
                "INSERT INTO gpkg_contents (table_name, data_type) VALUES ('v', 'features');"
                "INSERT INTO gpkg_geometry_columns VALUES ('v', 'geom', 'POLYGON', 0, 0, 0);"
            )
        with mock.patch.object(listing, "SHORT", 0.2), mock.patch.object(rows, "LONG", 0.2):
            infos = geopackage.list_layers(self.path)
            self.assertEqual([info.problem != "" for info in infos], [False, True])
            with self.assertRaisesRegex(FileError, "may have no end"):
                geopackage.read(self.path, "v")
        words = ["convert", f"{self.path}#v", "-o", f"{self.path.parent}/v.fgb"]
        stuck = "import threading as t; t.Thread(target=t.Event().wait).start(); "
        stuck += "import polygene.cli.main as m; m.program()"  # a thread that waits for ever
        requests = (
            (signal.SIGINT, ["-m", "polygene"]),
            (signal.SIGTERM, ["-m", "polygene"]),
            (signal.SIGHUP, ["-c", stuck]),
        )
        for number, how in some_of(requests):
            program = [sys.executable, *how, *words]
            process = subprocess.Popen(program, stderr=subprocess.PIPE, text=True)
            time.sleep(1.5)
            asked = time.monotonic()
            process.send_signal(number)
            self.assertRegex(process.communicate()[1], "interrupted; nothing was written")
            self.assertLess(time.monotonic() - asked, 1.5)
            self.assertEqual(process.returncode, 130)

    def test_many_layers_at_once_beside_what_others_have_made(self):
        point = make.points([[np.zeros(2)], [np.ones(2)]])
        geopackage.write(self.path, [make.layer(f"layer_{k}", point, None) for k in range(30)])
        with contextlib.closing(sqlite3.connect(self.path)) as connection:
            connection.executescript(
                "CREATE TABLE notes (id INTEGER PRIMARY KEY AUTOINCREMENT, said TEXT UNIQUE);"
                "CREATE INDEX by_length ON notes (length(said)); CREATE VIEW n AS SELECT * FROM notes;"
                "CREATE TRIGGER t AFTER DELETE ON notes BEGIN INSERT INTO notes VALUES (9, 'no'); END;"
                "INSERT INTO notes VALUES (1, 'one');"
            )
        new = [make.layer(f"layer_{k}", point, None) for k in range(20, 70)]
        geopackage.write(self.path, new)
        self.assertEqual(self.sql("PRAGMA integrity_check"), [("ok",)])
        self.assertEqual(len(geopackage.layer_names(self.path)), 70)
        with contextlib.closing(sqlite3.connect(self.path)) as connection:
            for name in ("layer_3", "layer_25", "layer_40", "layer_69"):
                index = f"rtree_{name}_geometry"
                checked = connection.execute("SELECT rtreecheck(?)", (index,)).fetchone()
                found = connection.execute(f"SELECT id FROM {index} WHERE minx > 0.5").fetchall()
                triggers = connection.execute(
                    "SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?",
                    (name,),
                ).fetchone()
                expected = [("ok",), [(2,)], (len(schema.RTREE_TRIGGERS),)]
                self.assertEqual([checked, found, triggers], expected, name)
            connection.execute("DELETE FROM notes")
            self.assertEqual(connection.execute("SELECT said FROM n").fetchall(), [("no",)])
            with self.assertRaises(sqlite3.IntegrityError):
                connection.execute("INSERT INTO notes (said) VALUES ('no')")

    def test_a_package_read_again_and_again_is_opened_once_and_seen_as_it_is(self):
        point = make.points([[np.zeros(2)]])
        geopackage.write(
            self.path, [make.layer("a", point, None, n=[1]), make.layer("b", point, None)]
        )
        opening = mock.patch.object(package, "_connected", wraps=package._connected)
        with base.keeping_open(), opening as new:
            for name in ("a", "b"):
                self.assertEqual(self.only_layer(name).n_rows, 1)
            self.assertEqual(new.call_count, 1)
            with contextlib.closing(sqlite3.connect(self.path)) as connection:
                connection.execute("ALTER TABLE a RENAME COLUMN n TO m")
                connection.commit()
            self.assertEqual(self.only_layer("a").table.column_names, ["m"])
            geopackage.write(self.path, [make.layer("a", point, None, n=[3])])
            self.assertEqual(self.only_layer("a").table["n"].to_pylist(), [3])

    def test_a_killed_run_leaves_the_old_file(self):
        rows = make.coverage(60, 60, 10, np.random.default_rng(1))
        geopackage.write(self.path, [make.layer("a", rows, None)])
        before = self.path.read_bytes()
        spare = self.path.with_name("spare.gpkg")
        shutil.copy(self.path, spare)
        code = (
            "import sys; from pathlib import Path; from polygene.formats import geopackage as g\n"
            "layer = g.read(Path(sys.argv[2]), 'a').layers[0]; print('ready', flush=True)\n"
            "while True: g.write(Path(sys.argv[1]), [layer] )"
        )
        for pause in some_of((0.01, 0.05, 0.1, 0.2)):
            process = subprocess.Popen(
                [sys.executable, "-c", code, self.path, spare], stdout=subprocess.PIPE
            )
            process.stdout.readline()
            time.sleep(pause)
            os.kill(process.pid, signal.SIGKILL)
            process.wait()
            process.stdout.close()
            self.assertEqual(self.only_layer("a").n_rows, 3600)
            self.assertEqual(self.sql("PRAGMA integrity_check"), [("ok",)])
            self.assertFalse(list(self.path.parent.glob("a.gpkg-*")))
        self.assertEqual(len(before) // 4096, len(self.path.read_bytes()) // 4096)


class Empty(InFolder):
    def test_layers_without_rows_keep_fields_and_kind(self):
        for family in Family:
            column = make.GeometryColumn.from_rings([], family)
            layer = replace(make.layer("none", column, None), table=some.every_type().slice(0, 0))
            geopackage.write(self.path, [layer])
            found = self.only_layer("none")
            self.assertEqual((found.n_rows, found.geometry.family), (0, family))
            self.assertEqual(found.table.schema, layer.table.schema)
            self.assertIsNone(geopackage.list_layers(self.path)[0].extent)


class ByArrays:
    """The same where rows are read and written by arrays, as many are."""

    def setUp(self):
        self.enterContext(by_arrays())
        super().setUp()


class RoundTripByArrays(ByArrays, RoundTrip):
    pass


class StandardByArrays(ByArrays, Standard):
    pass


class DamageByArrays(ByArrays, Damage):
    pass


class WholeOrNotByArrays(ByArrays, WholeOrNot):
    # What has nothing to do with rows, or takes seconds and has processes of its own.
    test_names_of_crs_without_proj_are_those_of_proj = None
    test_many_writers_by_many_ways_lose_nothing = None
    test_a_killed_run_leaves_the_old_file = None
    test_a_view_without_end_is_told_and_left_and_a_request_to_stop_is_heard = None
    test_an_editor_and_we_wait_for_each_other = None


class ReadByBoth(InFolder):
    DECLARED = (
        *("INTEGER", "TINYINT", "BOOLEAN", "DOUBLE", "NUMERIC", "TEXT", "TEXT(5)", "BLOB", "DATE"),
        *("DATETIME", "DECIMAL(9,2)", ""),
    )
    ODD = (None, 5, -5.5, 3.0, "text", "5", b"\xff", 2**60, 256, 1e20, "2026-13-45", 2**53 + 1, "")

    def good(self, chance, declared):
        day = f"{chance.randint(1, 9999):04}-0{chance.randint(1, 9)}-11"
        values = {
            "INTEGER": chance.randint(-(2**63), 2**63 - 1), "TINYINT": chance.randint(-128, 127),
            "BOOLEAN": chance.randint(0, 1), "BLOB": chance.randbytes(chance.randint(0, 4)),
            "DATE": day, "DATETIME": f"{day}T10:00:00.{chance.randint(0, 999):03}Z",
            **dict.fromkeys(("DOUBLE", "NUMERIC", "DECIMAL(9,2)"), chance.randint(-90, 90) / 4),
        }  # fmt: skip
        texts = ("ß" * chance.randint(0, 4), "a\0b", "")
        return chance.choice((None, *[values.get(declared, chance.choice(texts))] * 3))

    def written(self, chance):
        """A table as others may make it: keyed or not, with gaps, some values of no type declared."""
        self.path.unlink(missing_ok=True)
        kinds = [chance.choice(self.DECLARED) for _ in range(chance.randint(1, 5))]
        key = chance.choice(("id INTEGER PRIMARY KEY, ", "id TEXT PRIMARY KEY, ", ""))
        listed = ", ".join(f"f{k} {kind}" for k, kind in enumerate(kinds))
        with contextlib.closing(sqlite3.connect(self.path)) as connection, connection:
            if chance.random() < 0.2:
                connection.execute("PRAGMA encoding = 'UTF-16'")
            schema.create_core(connection)
            connection.execute(f"CREATE TABLE t ({key}{listed})")
            connection.execute(
                "INSERT INTO gpkg_contents (table_name, data_type) VALUES ('t', 'attributes')"
            )
            names = ", ".join(f"f{k}" for k in range(len(kinds)))
            share, marks = chance.choice((0, 0, 0.02)), ", ".join("?" * len(kinds))
            odd = chance.randrange(len(kinds))
            values = [
                [
                    chance.choice(self.ODD) if k == odd and chance.random() < share
                    else self.good(chance, kind) for k, kind in enumerate(kinds)
                ]
                for _ in range(chance.choice((0, 1, 40)))
            ]  # fmt: skip
            connection.executemany(f"INSERT INTO t ({names}) VALUES ({marks})", values)
            connection.execute("DELETE FROM t WHERE rowid % 7 = 3")
        return kinds

    def test_a_file_that_takes_its_place_meanwhile_is_not_mixed_up_with_it(self):
        point, other = make.points([[np.zeros(2)]] * 3), self.path.with_name("other.gpkg")
        geopackage.write(self.path, [make.layer("a", point, None, n=[1, 2, 3])])
        geopackage.write(other, [make.layer("a", point, None, n=[4, 5, 6])])
        own = rows._Source.arrays

        def arrays(source):
            os.replace(other, self.path)
            return own(source)

        with by_arrays(), mock.patch.object(rows._Source, "arrays", arrays):
            self.assertEqual(self.only_layer("a").table["n"].to_pylist(), [1, 2, 3])
        with by_arrays():
            self.assertEqual(self.only_layer("a").table["n"].to_pylist(), [4, 5, 6])

    def test_what_others_have_made_is_the_same(self):
        used, own = 0, rows._Source.pieces
        for seed in range(60):
            chance = random.Random(seed)
            kinds = self.written(chance)
            is_number = kinds[0] in ("INTEGER", "TINYINT", "DOUBLE")
            few = Expression("f0 > 0" if is_number else "f0 IS NULL")
            wanted = chance.choice((ALL, ALL, Wanted(span=(2, 9)), Wanted(where=few)))
            found = []
            for is_so in (True, False):
                with (
                    by_arrays(is_so), mock.patch.object(rows, "CHUNK", 9),
                    mock.patch.object(rows._Source, "pieces", autospec=True, side_effect=own) as plain,
                ):  # fmt: skip
                    reading = geopackage.read(self.path, "t", wanted)
                used += is_so and not plain.called
                (layer,) = reading.layers
                ids, where = ((None if a is None else a.tolist()) for a in (layer.ids, layer.rows))
                values = layer.table.to_pydict()
                found.append(repr((layer.table.schema, values, ids, where, reading.notes)))
            self.assertEqual(*found, f"seed {seed}")
        if library() is not None:
            self.assertGreater(used, 40)


if __name__ == "__main__":
    unittest.main()
