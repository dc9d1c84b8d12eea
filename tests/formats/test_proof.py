"""What is written is read again: every difference is told, and what is no format's way is refused."""

from __future__ import annotations

import datetime
import itertools
import os
import tempfile
import unittest
import warnings
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as some

import polygene
from polygene import crs
from polygene.errors import DataError, FileError
from polygene.files import convert
from polygene.formats import beside
from polygene.formats.base import Known
from polygene.formats.registry import format_of
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from tests.support import generators as make
from tests.support.chance import some_of

ENDINGS = (
    ".gpkg",
    ".arrow",
    ".parquet",
    ".fgb",
    ".shp",
    ".geojson",
    ".geojsonl",
    ".csv",
    ".tsv",
    ".kml",
)
NUMBERS = [
    32633, 25832, 4326, 3857, 4258, 3035, 27700, 2056, 31287, 5514,
    3006, 2193, 6933, 3395, 4269, 26915, 5070, 3413, 4979,
]  # fmt: skip
CODES = [*(f"EPSG:{number}" for number in NUMBERS), "OGC:CRS84"]
EXAMPLES = int(os.environ.get("POLYGENE_ROUND_TRIPS", "8"))
UTC = datetime.UTC

names = some.text(some.characters(exclude_categories=["Cs", "Cc"]), min_size=1, max_size=12)
texts = some.text(some.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=300)
codes = some.from_regex(r"\A[0-9 +\-.,eE:TZtf=@']{0,12}\Z")
days = some.dates(datetime.date(1, 1, 1), datetime.date(9999, 12, 31))
moments = some.datetimes(
    datetime.datetime(1, 1, 2), datetime.datetime(9999, 12, 30), timezones=some.just(UTC)
)
KINDS = {
    "text": (pa.string(), texts | codes),
    "code": (pa.string(), codes),
    "whole": (pa.int64(), some.integers(-(2**63), 2**63 - 1)),
    "small": (pa.int16(), some.integers(-(2**15), 2**15 - 1)),
    "unsigned": (pa.uint32(), some.integers(0, 2**32 - 1)),
    "real": (pa.float64(), some.floats()),
    "single": (pa.float32(), some.floats(width=32)),
    "flag": (pa.bool_(), some.booleans()),
    "day": (pa.date32(), days),
    "moment": (pa.timestamp("ms", tz="UTC"), moments.map(lambda t: t.replace(microsecond=0))),
    "finer": (pa.timestamp("us", tz="UTC"), moments),
    "blob": (pa.binary(), some.binary(max_size=9)),
}


@some.composite
def tables(draw, n_rows: int) -> pa.Table:
    fields = draw(some.lists(names, max_size=5, unique_by=str.casefold))
    arrays = []
    for _ in fields:
        kind, values = KINDS[draw(some.sampled_from(sorted(KINDS)))]
        rows = draw(some.lists(some.none() | values, min_size=n_rows, max_size=n_rows))
        arrays.append(pa.array(rows, kind))
    return pa.table(arrays, fields)


@some.composite
def columns(draw, n_rows: int) -> GeometryColumn:
    family = draw(some.sampled_from(Family))
    shapes = {
        Family.POINTS: lambda x, y: [np.array([(x, y)])],
        Family.LINES: lambda x, y: [np.array([(x, y), (x + 1, y + 0.3), (x, y - 0.7)])],
        Family.POLYGONS: lambda x, y: [
            make.square(x, y, 0.9), make.square(x + 0.3, y + 0.3, 0.1)[::-1]
        ],
    }[family]  # fmt: skip
    place = some.floats(-80, 80)
    is_multi = draw(some.booleans())
    rows, nulls = [], []
    for k in range(n_rows):
        kind = draw(some.sampled_from(["some", "some", "some", "empty", "null"]))
        n = draw(some.integers(1, 3)) if is_multi else 1
        parts = [shapes(draw(place) + 0.0, 2.0 * j + k % 3) for j in range(n)]
        rows.append(parts if kind == "some" else [])
        nulls.append(kind == "null")
    column = GeometryColumn.from_rings(rows, family)
    n = column.n_vertices
    heights = some.none() | some.just(np.arange(n) + 0.1)
    return replace(
        column,
        is_multi=is_multi,
        is_null=np.array(nulls, bool),
        z=draw(heights),
        m=draw(heights),
    )


@some.composite
def layers(draw) -> Layer:
    n_rows = draw(some.integers(0, 5))
    return Layer(
        name=draw(some.sampled_from(["things", "Å b", "select", "x.y"])),
        geometry=draw(columns(n_rows)),
        table=draw(tables(n_rows)),
        crs=crs.parse(draw(some.sampled_from(CODES))),
    )


def plain(column: pa.ChunkedArray) -> list[str]:
    """Values with their types as Python shows them; what is no number equals itself, -0.0 is 0.0."""
    return [repr(v + 0.0 if isinstance(v, float) else v) for v in column.to_pylist()]


class RoundTrips(unittest.TestCase):
    @settings(
        max_examples=EXAMPLES,
        deadline=None,
        suppress_health_check=list(HealthCheck),
        derandomize="POLYGENE_ROUND_TRIPS" not in os.environ,
    )
    @given(layers(), some.sampled_from(list(itertools.product(ENDINGS, ENDINGS))))
    def test_each_difference_is_told(self, layer: Layer, pair: tuple[str, str]):
        with tempfile.TemporaryDirectory() as folder:
            for k, ending in enumerate(pair):
                path = Path(folder) / f"t{k}{ending}"
                done = convert(layer, path)
                found = format_of(path).read(path, f"t{k}").layers
                self.assertEqual(len(found), 1)
                self.tells(layer, found[0], done.summary.notes)
                layer = replace(found[0], crs=found[0].crs or crs.parse("OGC:CRS84"))

    def tells(self, layer: Layer, back: Layer, notes: list[str]):
        """By values one by one; a field whose values differ is named in a note."""
        self.assertEqual(layer.n_rows, back.n_rows)
        said = " ".join(notes)
        for name in layer.table.column_names:
            values = plain(layer.table.column(name))
            same = name in back.table.column_names and values == plain(back.table.column(name))
            if not same:
                self.assertTrue(
                    f"field {name}" in said or "raw" in said or "without features" in said,
                    (name, values[:5], said),
                )


class Proof(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        column = make.polygons([[[make.square(k, 0, 0.5)]] for k in range(3)])
        table = pa.table({"code": ["01", "02", "b"], "n": [1, 2, 3]})
        self.layer = Layer("beds", column, table, crs.parse("OGC:CRS84"))

    def files(self) -> list[str]:
        return sorted(path.name for path in self.folder.iterdir())

    def test_what_a_writer_does_wrong_is_found(self):
        """Each format made to write another layer than it says: geometry, a value, a row, the type."""
        xy = self.layer.geometry.xy.copy()
        xy[7, 1] = np.nextafter(xy[7, 1], 9)
        moved = replace(self.layer, geometry=self.layer.geometry.with_xy(xy))
        other = replace(self.layer, table=self.layer.table.set_column(1, "n", [[1, 2, 4]]))
        short = self.layer.take(np.arange(2))
        retyped = replace(self.layer, table=self.layer.table.set_column(1, "n", [["x", "y", "z"]]))
        for ending in ENDINGS:
            path = self.folder / f"beds{ending}"
            polygene.write(self.layer, path)
            before = path.read_bytes()
            right = format_of(path)
            for wrong in (moved, other, short, retyped):
                with self.subTest(ending=ending, wrong=wrong):
                    real = right.write

                    def write(path, layers, real=real, wrong=wrong):
                        done = real(path, [wrong])
                        return done._replace(meant=real_meant(real, layers, path), sums={})

                    refused = self.assertRaisesRegex(FileError, "read again, it does not hold")
                    with mock.patch.object(right, "write", write), refused:
                        polygene.write(self.layer, path, "replace")
                    self.assertEqual(path.read_bytes(), before)

    def test_geometry_is_decoded_if_its_sum_is_another(self):
        path = self.folder / "beds.gpkg"
        xy = self.layer.geometry.xy + 1.0
        moved = self.layer.geometry.with_xy(xy)
        for ending in (".gpkg", ".parquet"):
            path = self.folder / f"beds{ending}"
            done = format_of(path).write(path, [self.layer])
            sums = done.sums["beds"]
            right = Known(moved, sums)  # the sums of what is there: believed
            (back,) = format_of(path).read(path, "beds", known=right).layers
            self.assertIs(back.geometry, moved)
            wrong = Known(moved, [sums[0] ^ 1])
            (back,) = format_of(path).read(path, "beds", known=wrong).layers
            np.testing.assert_array_equal(back.geometry.xy, self.layer.geometry.xy)

    def test_a_change_is_refused_if_that_is_wanted(self):
        layer = replace(self.layer, table=pa.table({"a long name": [1.5, np.nan, 3]}))
        for ending, is_changed in ((".shp", True), (".gpkg", True), (".parquet", False)):
            with self.subTest(ending=ending):
                path = self.folder / f"beds{ending}"
                if not is_changed:
                    polygene.write(layer, path, if_changed="refuse")
                    continue
                with self.assertRaisesRegex(DataError, "cannot hold all as it is.*a long name"):
                    polygene.write(layer, path, if_changed="refuse")
                self.assertEqual(self.files(), [])

    def test_what_is_lost_is_a_warning_in_python_and_kept_in_the_lineage(self):
        layer = replace(self.layer, table=pa.table({"x": [1.5, np.nan, 3]}))
        for ending in (".gpkg", ".shp", ".geojson"):
            with self.subTest(ending=ending), warnings.catch_warnings(record=True) as told:
                warnings.simplefilter("always")
                path = self.folder / f"beds{ending}"
                polygene.write(layer, self.folder / "first.parquet", "replace")
                polygene.write(polygene.read(self.folder / "first.parquet"), path)
                self.assertIn("field x: 1 ", str(told[-1].message))
                own = polygene.read(path).lineage
                self.assertIn(
                    "field x: 1 ",
                    str(own.document if ending == ".gpkg" else beside.read(path).document),
                )

    def test_what_is_right_is_not_refused(self):
        """Heights of which none is known, fields called like ours, texts that look like moments."""
        odd = {
            "wkt": ["POINT (1 2)", "b", None], "geometry": ["x", "POINT (3 4)", ""],
            "rowid": ["a", "b", "c"], "at": ["2020-01-01 10:00", "2020-01-02 11:00", None],
            "time": ["10:00", "11:00:01", None], "zero": ["a\0b", "\0", "c"],
            "zone": pa.array([0, 1, None], pa.timestamp("ms", tz="Europe/Paris")),
            "list": [[1], [2, 3], None], "long": pa.array([1, 2, None], pa.duration("s")),
        }  # fmt: skip
        nothing = np.full(self.layer.geometry.n_vertices, np.nan)
        tall = replace(self.layer.geometry, z=nothing, m=nothing)
        for ending, (name, values) in some_of(itertools.product(ENDINGS, odd.items()), 3):
            with self.subTest(ending=ending, name=name), warnings.catch_warnings():
                warnings.simplefilter("ignore")
                path = self.folder / f"{name}{ending}"
                table = pa.table({name: values})
                polygene.write(replace(self.layer, geometry=tall, table=table), path)
                (back,) = format_of(path).read(path, name).layers
                np.testing.assert_array_equal(back.geometry.xy, self.layer.geometry.xy)
                self.assertEqual(polygene.check(path)[str(path)].findings, [])

    def test_without_proof_nothing_is_read(self):
        path = self.folder / "beds.gpkg"
        with mock.patch("polygene.formats.geopackage.read", side_effect=AssertionError):
            polygene.write(self.layer, path, proof=False)
            with self.assertRaises(AssertionError):
                polygene.write(self.layer, path, "replace")


def real_meant(write, layers, path):
    """What a writer means with the right layers, from writing them elsewhere."""
    with tempfile.TemporaryDirectory() as folder:
        return write(Path(folder) / path.name, layers).meant


if __name__ == "__main__":
    unittest.main()
