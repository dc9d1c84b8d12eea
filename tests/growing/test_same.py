"""In tasks comes out what the whole at once gives: the same files to the byte, the same facts."""

from __future__ import annotations

import contextlib
import json
import shutil
import sqlite3
import struct
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

import polygene
from polygene import crs
from polygene.formats.address import LayerRef
from polygene.formats.flatgeobuf import writing
from polygene.geometry import concatenate
from polygene.growing import far_edges, nearest, portions
from polygene.growing.running import Grounds, OneTaskError, run
from polygene.progress import SILENT
from polygene.reading import Choice
from polygene.table.expression import Expression
from tests.support import flat
from tests.support import generators as make
from tests.support.cases import KINDS, STEPS
from tests.support.chance import many, some_of
from tests.support.growing import call_of, differences, in_tasks, put, sums

UTM = crs.parse("EPSG:32633")
OPERATIONS = (
    ("union", 2, {"origins": True}),
    ("clip", 2, {}),
    ("erase", 2, {}),
    ("intersect", 2, {}),
    ("imprint", 2, {}),
    ("contrast", 2, {}),
    ("dissolve", 1, {"by": ("group",), "aggregate": ("total = sum(v)",)}),
    ("dissolve", 1, {"single_parts": True}),
    ("buffer", 1, {"distance": 5.0}),
    ("mend", 1, {}),
    ("measure", 1, {"area": ("ha",)}),
    ("hull", 1, {"each": True}),
    ("parts", 1, {}),
    ("join", 2, {"aggregate": ("total = sum(v)",)}),
    ("join", 2, {"best": "shared"}),
    ("subset", 2, {"relation": "touches"}),
    ("join", 2, {"relation": "nearest", "count": 2}),
    ("subset", 2, {"up_to": 6.0}),
    ("supersede", 2, {}),
    ("erase", 2, {"invalid": "leave-out"}),
    ("dissolve", 1, {"by": ("group",), "invalid": "leave-out"}),
)
ON_A_GRID = frozenset(
    {
        "supersede",
        "union",
        "clip",
        "erase",
        "intersect",
        "imprint",
        "contrast",
        "dissolve",
        "join",
        "subset",
    }
)


def tiled(rng: np.random.Generator, kind) -> tuple:
    """Two layers of several cases of a kind beside and over each other, rows in any order."""
    columns: tuple[list, list] = ([], [])
    for at in np.ndindex(1, 2):
        for own, column in zip(columns, kind(rng), strict=True):
            own.append(column.with_xy(column.xy + np.array(at) * rng.uniform(40, 110)))
    return tuple(concatenate(own) for own in columns)


def layer(rng: np.random.Generator, name: str, column) -> polygene.Layer:
    column = column.take(rng.permutation(column.n_rows))
    fields = {"group": np.arange(column.n_rows) % 3, "v": rng.random(column.n_rows)}
    return make.layer(name, column, UTM, **fields)


class Compared(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def compare(self, operation, layers, n_tasks: int, **more) -> None:
        """Compare one operation on layers that `put` has written, at once and in tasks."""
        command, n_layers, arguments = operation
        call = call_of(command, **arguments, **(more if command in ON_A_GRID else {}))
        refs = [ref for ref, _ in layers[:n_layers]]
        whole = call.on(*(own for _, own in layers[:n_layers]), progress=SILENT)
        result = replace(whole.layer.as_result(), name="whole")
        wanted = sums(put(self.folder, result, 2_000_000).path)
        shutil.rmtree(self.folder / "whole.parquet")
        found = in_tasks(call, refs, self.folder, Grounds(tasks=n_tasks))
        self.assertEqual(sums(found.folder), wanted, operation)
        self.assertEqual(differences(whole.summary, found.summary), [], operation)

    def written(self, *layers: polygene.Layer, n_bytes: int = 300) -> list:
        refs = [put(self.folder, own, n_bytes) for own in layers]
        return [(ref, polygene.read(str(ref.path))) for ref in refs]


class Hostile(Compared):
    """Every kind of trouble, on fine and on coarse grids."""

    def test_every_operation_on_every_kind(self):
        for number, kind in some_of(enumerate(KINDS)):
            rng = np.random.default_rng([7, number])
            columns = tiled(rng, kind)
            layers = self.written(*(layer(rng, n, c) for n, c in zip("ab", columns, strict=True)))
            # An eighth of them with each kind: the long hunts are for `make random`.
            for k, operation in enumerate(OPERATIONS):
                if (k + number) % 8:
                    continue
                step, n_tasks = STEPS[(number + k) % len(STEPS)], (3, 7, 12)[(number + k) % 3]
                with self.subTest(kind=kind.__name__, operation=operation, step=step):
                    self.compare(operation, layers, n_tasks, precision=step)
            for name in "ab":
                shutil.rmtree(self.folder / f"{name}.parquet")

    def test_a_country_over_all_and_islands_in_it(self):
        rng = np.random.default_rng(3)
        cells = make.coverage(5, 5, 32, rng)
        country = make.polygons([[[make.star(rng, 300, 90, (80, 80))]]])
        islands = make.polygons(
            [[[make.star(rng, 9, 3, tuple(at))]] for at in rng.uniform(20, 140, (15, 2))]
        )
        all_rows = layer(rng, "a", concatenate([cells, country]))
        layers = self.written(all_rows, layer(rng, "b", concatenate([islands, country])))
        for large in (20_000, 100):  # vertices of a row of which only what is near is brought
            for operation in some_of(OPERATIONS[:7] if large == 100 else OPERATIONS[13:17]):
                with (
                    mock.patch.object(far_edges, "LARGE", large),
                    self.subTest(operation=operation, large=large),
                ):
                    self.compare(operation, layers, 7)

    def test_lines_and_points(self):
        rng = np.random.default_rng(4)
        lines = make.lines([[make.path(rng, 8, 160, 4)] for _ in range(15)])
        points = make.points([[at] for at in rng.uniform(0, 160, (25, 2)).round(1)])
        cells = layer(rng, "cells", make.coverage(4, 4, 38, rng))
        for column in (lines, points):
            layers = self.written(layer(rng, "a", column), cells)
            for operation in some_of(OPERATIONS):
                if operation[0] in ("union", "contrast", "supersede", "hull", "measure", "parts"):
                    continue
                if operation[2].get("best"):
                    continue
                if operation[2].get("relation") == "touches" and column is points:
                    continue
                with self.subTest(operation=operation, family=column.family.words):
                    self.compare(operation, layers, 7)
            for name in ("a", "cells"):
                shutil.rmtree(self.folder / f"{name}.parquet")


class Nearest(Compared):
    def test_however_far_it_is_and_where_several_are_as_near(self):
        rng = np.random.default_rng(9)
        spots = rng.uniform(0, 900, (6, 2))
        crowd = make.points(
            [[at] for at in (spots[:, None] + rng.normal(0, 9, (6, 25, 2))).reshape(-1, 2)]
        )
        even = make.points([[at] for at in 5.0 * np.argwhere(np.ones((12, 12)))])
        far = make.points([[at] for at in np.array([(5e3, 40.0), (30.0, 30.0), (-9e3, 9e4)])])
        lines = make.lines([[make.path(rng, 5, 60, 4)] for _ in range(40)])
        cells = make.coverage(5, 5, 12, rng)
        ways = (
            ("join", 2, {"relation": "nearest"}),
            ("join", 2, {"relation": "nearest", "count": 3}),
            ("join", 2, {"relation": "nearest", "count": 9, "up_to": 30.0, "pairs": True}),
            ("join", 2, {"relation": "nearest", "count": 2, "aggregate": ("n = count()",)}),
            ("subset", 2, {"up_to": 12.5, "invert": True}),
            ("join", 2, {"best": "distance"}),
        )
        pairs = [
            (crowd, even), (even, crowd), (crowd, far), (far, crowd), (even, even),
            (cells, lines), (lines, cells), (cells, even), (crowd, cells), (lines, far),
        ]  # fmt: skip
        for k, (one, other) in some_of(enumerate(pairs), 3):
            small = mock.patch.multiple(nearest, CHUNKS=(256, 4)[k % 2], SLICE=2)
            self.enterContext(small)
            layers = self.written(layer(rng, "a", one), layer(rng, "b", other), n_bytes=900)
            for operation in some_of(ways if k < 2 else ways[k % 3 :: 3]):
                with self.subTest(k=k, operation=operation):
                    self.compare(operation, layers, 6)
            for name in "ab":
                shutil.rmtree(self.folder / f"{name}.parquet")


class Lengths(Compared):
    def test_longitude_and_latitude(self):
        rng = np.random.default_rng(5)
        cells = make.coverage(6, 6, 25, rng)
        degrees = cells.with_xy(cells.xy * 1e-3 + np.array([10.0, 69.0]))
        other = make.polygons([[[make.star(rng, 40, 60, (70, 70))]]])
        layers = [
            replace(layer(rng, name, column), crs=crs.parse("EPSG:4326"))
            for name, column in (
                ("a", degrees),
                ("b", other.with_xy(other.xy * 1e-3 + np.array([10.0, 69.0]))),
            )
        ]
        written = self.written(*layers)
        for operation in (OPERATIONS[0], OPERATIONS[6], ("buffer", 1, {"distance": "50m"})):
            with self.subTest(operation=operation):
                self.compare(operation, written, 7)


class Many(Compared):
    def test_bricks_left_of_and_below_the_origin(self):
        """Straight borders with the corners of others, at negative coordinates: that crashed."""
        rows = [
            [[make.square(x, y, 2) * (1.0, 0.5) - 5000]]
            for y in range(0, 16, 2)
            for x in np.arange(0, 16, 2) + 0.25 * (y % 4)
        ]
        layers = self.written(layer(np.random.default_rng(1), "bricks", make.polygons(rows)))
        self.compare(("dissolve", 1, {"by": ("group",)}), layers, 5)

    def test_many_tasks(self):
        rng = np.random.default_rng(8)
        n = many(9, 7)
        columns = (make.coverage(n, n, 20, rng), make.coverage(n - 2, n - 2, 26, rng))
        layers = self.written(*(layer(rng, n, c) for n, c in zip("ab", columns, strict=True)))
        self.compare(OPERATIONS[0], layers, many(50, 25))


class Portions(Compared):
    @contextlib.contextmanager
    def edited(self, path: Path):
        """A package as another program would change it, without the functions of its triggers."""
        with contextlib.closing(sqlite3.connect(path)) as connection, connection:
            triggers = "SELECT name FROM sqlite_master WHERE type = 'trigger'"
            for (name,) in connection.execute(triggers).fetchall():
                connection.execute(f'DROP TRIGGER "{name}"')
            yield connection

    def test_a_field_that_breaks_its_type_in_one_of_them(self):
        """It is text in all, as it is where the file is read at once; a filter sees it so too."""
        rng = np.random.default_rng(9)
        own = layer(rng, "cells", make.coverage(6, 5, 20, rng))
        path = self.folder / "cells.gpkg"
        polygene.write(own, path)
        with self.edited(path) as connection:
            connection.execute("ALTER TABLE cells ADD COLUMN seen DATE DEFAULT '2026-05-01'")
            connection.execute("ALTER TABLE cells ADD COLUMN near FLOAT DEFAULT 0.5")
            connection.execute("UPDATE cells SET seen = 'by night', near = 0.1 WHERE id = 25")
        ref = LayerRef(path, "cells")
        for where in (None, "seen = 'by night' OR seen LIKE '%-01' AND v > 0.5"):
            with self.subTest(where=where), mock.patch.object(portions, "ROWS", 10):
                choice = Choice(where=where and Expression(where))
                layers, notes = choice.read(ref)[:2]
                (whole, words) = choice.of(layers[0])
                place = self.folder / f".work{where is None}"
                call, grounds = call_of("measure", area=("ha",)), Grounds(tasks=3)
                found = run(call, [ref], [choice], place, grounds, SILENT)
                parts = found.folder.glob("p*.parquet")
                table = pa.concat_tables([polygene.read(part).table for part in sorted(parts)])
                self.assertEqual(sorted(found.notes), sorted({*notes, *words, *found.notes}))
                self.assertEqual(len(notes), 1)
                self.assertEqual(str(table.schema.field("seen").type), "string")
                self.assertEqual(str(table.schema.field("near").type), "double")
                for name in ("seen", "near", "v"):
                    pairs = (table.column(name), whole.table.column(name))
                    self.assertEqual(*(sorted(column.to_pylist()) for column in pairs))

    def test_unsigned_numbers_of_which_one_has_no_room(self):
        """They are texts in all of them; a filter sees it so too, of the whole and in tasks."""
        n, key = 25, str(2**64 - 1)
        points = make.points([[np.array([k, 0.0])] for k in range(n)])
        third = self.folder / "f.fgb"
        keys = [-1 if k == 14 else k for k in range(n)]
        polygene.write(make.layer("f", points, UTM, kk=keys), third)
        data = bytearray(third.read_bytes())
        data[data.rindex(b"\x07\x04\0\0\0", 0, data.index(b"kk"))] = 8  # from Long to ULong
        third.write_bytes(data)
        columns = self.folder / "c.parquet"
        polygene.write(make.layer("c", points, UTM, kk=keys), columns)
        table = pq.read_table(columns)
        unsigned = pa.array(np.asarray(table["kk"]).view(np.uint64))
        table = table.set_column(table.column_names.index("kk"), "kk", unsigned)
        pq.write_table(table, columns, row_group_size=4)
        for path in (third, columns):
            for where, n_found in ((None, n), ("kk = '3'", 1), (f"kk IN ('{key}', '24')", 2)):
                with self.subTest(path=path, where=where), mock.patch.object(portions, "ROWS", 10):
                    ref, choice = LayerRef(path, path.stem), Choice(where and Expression(where))
                    layer = choice.of(choice.read(ref)[0][0])[0]
                    call, place = (
                        call_of("measure", centroid=True),
                        self.folder / f"{path.stem}{n_found}",
                    )
                    found = run(call, [ref], [choice], place, Grounds(tasks=3), SILENT)
                    parts = [polygene.read(p) for p in sorted(found.folder.glob("p*.parquet"))]
                    for some in ([layer], parts):
                        values = sorted(k for y in some for k in y.table["kk"].to_pylist())
                        self.assertEqual((len(values), {*map(type, values)}), (n_found, {str}))
                        self.assertTrue({*values} <= {key, *map(str, range(n))})

    def test_dates_that_begin_in_a_later_one(self):
        """A FlatGeobuf has one type for dates and times: the values say what they are, nulls do not."""
        day, ten = "2026-05-01", "2026-05-01T10:00:00Z"
        for k, (values, kind) in enumerate((
            ([None] * 12 + [day] * 13, "date32[day]"),
            ([None] * 12 + [ten] * 13, "timestamp[ms, tz=UTC]"),
            ([day] * 12 + [ten] * 13, "string"),
        )):  # fmt: skip
            path, place = self.folder / f"d{k}.fgb", self.folder / f".d{k}"
            fields = [{"name": "seen", "type": 13}]
            texts = [b"" if value is None else flat.text(0, value) for value in values]
            own = [
                {"geometry": {"xy": [float(k), 0.0]}, "values": text}
                for k, text in enumerate(texts)
            ]
            header = {"type": 1, "crs": {"org": "EPSG", "code": 32633}, "fields": fields}
            flat.write(path, {**header, "count": len(own)}, own)
            ref = LayerRef(path, path.stem)
            whole, notes = Choice().read(ref)[:2]
            with self.subTest(kind=kind), mock.patch.object(portions, "ROWS", 10):
                call = call_of("measure", centroid=True)
                found = run(call, [ref], [Choice()], place, Grounds(tasks=2), SILENT)
                parts = [polygene.read(part) for part in sorted(found.folder.glob("p*.parquet"))]
                for one in (*whole, *parts):
                    self.assertEqual(str(one.table.schema.field("seen").type), kind)
                self.assertEqual(set(notes), set(found.notes))

    def test_geometry_that_begins_in_a_later_one(self):
        """Of a table that does not say of what family it is, as packages from elsewhere may not."""
        points = make.points([[np.array([k, 0.0])] for k in range(25)])
        layer = make.layer("spots", points, UTM, n=list(range(25)))
        path = self.folder / "spots.gpkg"
        polygene.write(layer, path)
        with self.edited(path) as connection:
            connection.execute("UPDATE spots SET geometry = NULL WHERE n < 20")
            connection.execute("UPDATE gpkg_geometry_columns SET geometry_type_name = 'GEOMETRY'")
        geo = {"encoding": "WKB", "geometry_types": []}
        geo = {"version": "1.1.0", "primary_column": "g", "columns": {"g": geo}}
        shapes = [None if k < 20 else struct.pack("<BIdd", 1, 1, k, 0.0) for k in range(25)]
        table = pa.table({"g": pa.array(shapes, pa.binary()), "n": range(25)})
        table = table.replace_schema_metadata({"geo": json.dumps(geo)})
        pq.write_table(table, path.with_suffix(".parquet"), row_group_size=5)
        third, header = path.with_suffix(".fgb"), writing.Header
        late = make.points([[] if k < 20 else [np.array([k, 0.0])] for k in range(25)])
        late = replace(late, is_null=late.is_empty)
        with mock.patch.object(
            writing, "Header", side_effect=lambda **own: header(**{**own, "geometry_type": 0})
        ):
            polygene.write(replace(layer, geometry=late), third)
        for k, own in enumerate((path, path.with_suffix(".parquet"), third)):
            ref, place = LayerRef(own, "spots"), self.folder / f".w{k}"
            with self.subTest(path=own), mock.patch.object(portions, "ROWS", 10):
                call = call_of("measure", centroid=True)
                found = run(call, [ref], [Choice()], place, Grounds(tasks=2), SILENT)
                parts = [polygene.read(part) for part in sorted(found.folder.glob("p*.parquet"))]
                self.assertEqual({part.geometry.family.words for part in parts}, {"points"})
                nulls = np.concatenate([part.geometry.is_null for part in parts])
                self.assertEqual((len(nulls), int(nulls.sum())), (25, 20))


class OneTask(Compared):
    def test_what_cannot_be_cut_says_why(self):
        rng = np.random.default_rng(6)
        ((ref, own),) = self.written(layer(rng, "a", make.coverage(3, 3, 25, rng)))
        for command, arguments, reason in (
            ("buffer", {"distance": 5.0, "dissolve": True}, "what overlaps is joined"),
            ("union", {}, "with itself"),
            ("hull", {"by": ("group",)}, "joined, however far"),
            ("dissolve", {"aggregate": ("a = sum(area())",)}, "has no geometry yet"),
        ):
            with self.assertRaisesRegex(OneTaskError, reason):
                in_tasks(call_of(command, **arguments), [ref], self.folder, Grounds())
        bow = np.array([(0, 0), (4, 4), (4, 0), (0, 4), (0, 0)], float)
        rows = make.polygons([[[bow + (10.0 * k, 0)]] for k in range(9)])
        bad = put(self.folder, make.layer("bad", rows, UTM, g=[k % 2 for k in range(9)]))
        with self.assertRaisesRegex(OneTaskError, "all of its features are left out"):
            call = call_of("dissolve", by=("g",), invalid="leave-out")
            in_tasks(call, [bad], self.folder, Grounds(tasks=2))
        nowhere = replace(own, crs=None, name="c")
        with self.assertRaisesRegex(OneTaskError, "without a CRS"):
            in_tasks(call_of("mend"), [put(self.folder, nowhere)], self.folder, Grounds())


if __name__ == "__main__":
    unittest.main()
