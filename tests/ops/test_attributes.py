"""Subset, fields, measure, tally, compare; stored measures through a cut."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

import polygene
from polygene import crs
from polygene.errors import DataError, LossError, UnknownFieldError, UsageError
from polygene.measures import row_areas, row_lengths
from polygene.ops.compare import compare
from polygene.ops.fields import fields
from polygene.ops.measure import measure
from polygene.ops.overlays.stored import stored_measures
from polygene.ops.subset import subset
from polygene.ops.tally import tally
from polygene.places import centroids, inside_points
from polygene.plane.signatures import signatures
from polygene.table.expression import Expression
from tests.support import exact
from tests.support import generators as make
from tests.support.cases import tangles

UTM = crs.parse("EPSG:32633")


def cells(**columns):
    rng = np.random.default_rng(3)
    column = make.coverage(3, 2, 100, rng)
    n = column.n_rows
    table = {
        "code": ["b", "a", None, "b", "a", "c"],
        "Depth": [3, 1, None, 2, 5, 4],
        "note": [" x ", "", "y", None, "z  ", "ok"],
        **columns,
    }
    assert n == 6
    return replace(make.layer("cells", column, **table), crs=UTM)


class Subset(unittest.TestCase):
    def test_filter_box_order_limit_and_fields(self):
        layer = cells()
        result = subset(
            layer, Expression("Depth > 1"), sort=["-Depth"], limit=3, keep=["code", "Depth"]
        )
        self.assertEqual(
            result.layer.table.to_pydict(), {"code": ["a", "c", "b"], "Depth": [5, 4, 3]}
        )
        order = subset(layer, sort=["code", "-Depth"]).layer.table["Depth"].to_pylist()
        self.assertEqual(order, [5, 1, 3, 2, 4, None])
        x, y = layer.geometry.xy[0]
        near = subset(layer, box=(x - 1, y - 1, x + 1, y + 1)).layer
        self.assertIn(0, near.rows)
        self.assertLess(near.n_rows, 6)
        self.assertEqual(subset(layer, drop=["note"]).layer.table.column_names, ["code", "Depth"])
        with self.assertRaises(UsageError):
            subset(layer, keep=["code"], drop=["note"])
        with self.assertRaises(UnknownFieldError):
            subset(layer, sort=["-depht"])
        with self.assertRaisesRegex(UsageError, "at most, not -1"):
            subset(layer, limit=-1)

    def test_nulls_come_last_and_equal_rows_stay_in_their_order(self):
        rng = np.random.default_rng(6)
        n = 3_000
        nan = float("nan")
        values = [None if k == 7 else nan if k == 8 else k / 2 for k in rng.integers(0, 9, n)]
        texts = [None if k == 4 else f"t{k}" for k in rng.integers(0, 5, n)]
        columns = {
            "v": pa.chunked_array([values[:70], values[70:]], pa.float64()),
            "t": pa.chunked_array([texts[:999], texts[999:]], pa.string()),
        }
        layer = make.layer("many", make.points([[]] * n), None, row=np.arange(n), **columns)
        for way in (1, -1):
            by_number = [(v is None, v != v, 0 if v is None or v != v else v * way) for v in values]
            by_both = [(t is None, t or "", *v) for t, v in zip(texts, by_number, strict=True)]
            sign = "-" if way < 0 else ""
            for sort, keys in (([f"{sign}v"], by_number), (["t", f"{sign}v"], by_both)):
                wanted = sorted(range(n), key=keys.__getitem__)
                found = subset(layer, sort=sort).layer.table["row"].to_pylist()
                self.assertEqual(found, wanted)
                few = subset(layer, sort=sort, limit=5).layer.table["row"].to_pylist()
                self.assertEqual(few, wanted[:5])


class Fields(unittest.TestCase):
    def change(self, layer=None, only=None, on_loss="refuse", compute=(), **plan):
        return fields(layer or cells(), where=only, on_loss=on_loss, compute=list(compute), **plan)

    def test_all_at_once_in_the_order_said(self):
        result = self.change(
            rename={"Depth": "depth"}, retype={"depth": "text(1)"},
            compute=["half = number(depth) / 2", "half = half * 2"], trim=True, drop=["code"],
            order=["half"],
        )  # fmt: skip
        self.assertEqual(
            result.layer.table.to_pydict(),
            {
                "half": [3.0, 1.0, None, 2.0, 5.0, 4.0],
                "depth": ["3", "1", None, "2", "5", "4"],
                "note": ["x", None, "y", None, "z", "ok"],
            },
        )
        np.testing.assert_array_equal(result.layer.geometry.xy, cells().geometry.xy)

    def test_only_some_features(self):
        result = self.change(only="Depth > 3", compute=["Depth = Depth * 10", "big = true"])
        self.assertEqual(result.layer.table["Depth"].to_pylist(), [3, 1, None, 2, 50, 40])
        self.assertEqual(result.layer.table["big"].to_pylist(), [None] * 4 + [True] * 2)
        self.assertEqual(result.summary.rows, 2)

    def test_losses_stop_or_are_counted(self):
        with self.assertRaises(LossError) as caught:
            self.change(compute=["Depth = Depth / 2"])
        self.assertEqual((caught.exception.count, caught.exception.field), (3, "Depth"))
        self.assertIn("row 1: 1.5", str(caught.exception))
        result = self.change(compute=["Depth = Depth / 2"], on_loss="null")
        self.assertEqual(result.layer.table["Depth"].to_pylist(), [None, None, None, 1, None, 2])
        result = self.change(compute=["Depth = Depth / 2"], on_loss="cut")
        self.assertEqual(result.layer.table["Depth"].to_pylist(), [1, 0, None, 1, 2, 2])
        self.assertEqual(result.summary.lost, {"Depth": 3})
        zero = self.change(compute=["r = Depth / (Depth - 2)"])
        self.assertEqual(zero.summary.zero_divisions, 1)

    def test_names_that_clash(self):
        with self.assertRaisesRegex(UsageError, "two fields would be called"):
            self.change(rename={"note": "CODE"})
        self.assertEqual(
            self.change(compute=["DEPTH = 1"]).layer.table.column_names, ["code", "Depth", "note"]
        )


class Parts(unittest.TestCase):
    def test_fields_that_are_there_are_not_taken_twice(self):
        layer = make.layer("l", make.polygons([[[make.square(0, 0, 1)]]]), n=[1])
        found = polygene.parts(layer, number="part", source="of").layer.table.to_pydict()
        self.assertEqual(found, {"n": [1], "part": [1], "of": [1]})
        for names in ({"number": "N"}, {"source": "n"}, {"number": "k", "source": "K"}):
            with self.assertRaisesRegex(UsageError, "already"):
                polygene.parts(layer, **names)


class Measure(unittest.TestCase):
    def test_sizes_in_units_and_what_was_stored(self):
        layer = cells(area_ha=[1.0, 2, 3, 4, 5, 6])
        result = measure(layer, area="area_ha=ha", perimeter="km")
        np.testing.assert_allclose(result.layer.table["area_ha"], row_areas(layer.geometry) / 1e4)
        np.testing.assert_allclose(
            result.layer.table["perimeter_km"], row_lengths(layer.geometry) / 1e3
        )
        self.assertEqual(result.summary.totals[0].changed, 6)
        self.assertEqual(result.summary.invalid.count, 0)
        bow = make.square(0, 0, 10)[[0, 2, 1, 3, 0]]
        crossed = make.layer("bow", make.polygons([[[make.square(20, 0, 10)]], [[bow]]]))
        self.assertEqual(measure(crossed, area="crs").summary.invalid.first, ["row 2"])
        with self.assertRaisesRegex(DataError, "have no length"):
            measure(layer, length="m")
        with self.assertRaisesRegex(UsageError, "no unit of area"):
            measure(layer, area="km")
        with self.assertRaisesRegex(UsageError, "has no CRS"):
            measure(replace(layer, crs=None), area="ha")

    def test_points_inside_are_inside_and_centroids_balance(self):
        rng = np.random.default_rng(2)
        rows = [
            [[make.star(rng, 15, 60, (500, 500)), make.square(495, 495, 2)[::-1]]]
            for _ in range(30)
        ]
        column = make.polygons(rows + [[], [[make.square(0, 0, 4)], [make.square(1e6, 0, 4)]]])
        inside = inside_points(column)
        for row, (x, y) in zip(make.rows_of(column), inside, strict=True):
            if row:
                self.assertGreater(exact.is_covered(row, (x, y)), 0)
        self.assertTrue(np.isnan(inside[30]).all())
        centre = centroids(column)
        np.testing.assert_allclose(centre[31], (5e5 + 2, 2))
        moved = centroids(column.with_xy(column.xy + (100, -7)))
        np.testing.assert_allclose(moved, centre + (100, -7))
        turned = make.polygons([[[ring[::-1] for ring in part] for part in row] for row in rows])
        np.testing.assert_allclose(centroids(turned), centre[:30], atol=1e-9)
        lines = make.lines([[np.array([(0, 0), (4, 0), (4, 2.0)])]])
        np.testing.assert_allclose(centroids(lines), [(16 / 6, 2 / 6)])


class Tally(unittest.TestCase):
    def test_rows_columns_and_totals_add_up(self):
        layer = cells()
        found = tally(layer, ["code"], ["n = count()", "s = sum(Depth)", "m = mean(Depth)"])
        self.assertEqual(found.body["code"].to_pylist(), ["a", "b", "c", None])
        self.assertEqual(found.body["n"].to_pylist(), [2, 2, 1, 1])
        self.assertEqual(found.body["s"].to_pylist(), [6, 5, 4, None])
        self.assertEqual(found.totals.to_pylist(), [{"code": None, "n": 6, "s": 15, "m": 3.0}])
        crossed = tally(layer, ["code"], ["a = sum(area(ha))"], across="Depth")
        self.assertEqual(crossed.body.column_names, ["code", *"12345", "(null)", "total"])
        parts = crossed.body.select(crossed.body.column_names[1:-1])
        np.testing.assert_allclose(
            sum(pc.fill_null(c, 0).to_numpy() for c in parts.columns), crossed.body["total"]
        )


class Compare(unittest.TestCase):
    def test_what_was_added_removed_and_changed(self):
        before = cells(key=[1, 2, 3, 4, 5, 6])
        after = before.take(np.array([5, 0, 1, 3, 4]))
        xy = after.geometry.xy.copy()
        start, stop = after.geometry.vertex_offsets_of_rows[[2, 3]]
        xy[start:stop] += 1
        table = after.table.set_column(1, "Depth", pa.array([4.0, 3.0, 1.0, 99.0, 5.0]))
        after = replace(after, geometry=after.geometry.with_xy(xy), table=table)
        found = compare(before, after, "key").summary.changes
        self.assertEqual(found.removed.first, ["row 3"])
        self.assertEqual(found.added.count, 0)
        self.assertEqual(found.moved.first, ["row 2"])
        self.assertEqual(found.edited.first, ["row 4"])
        self.assertEqual(found.same, 3)
        self.assertFalse(compare(before, before, "key").differs)

    def test_a_geometry_is_the_same_however_it_is_drawn(self):
        rng = np.random.default_rng(1)
        column = tangles(rng)[0]
        rows = make.rows_of(column)
        other = make.polygons([
            [[np.array([*r[k:-1], *r[: k + 1]])[::-1] for k, r in ((2, np.array(r)) for r in part)]
             for part in row[::-1]] for row in rows
        ])  # fmt: skip
        np.testing.assert_array_equal(signatures(column), signatures(other))
        moved = other.with_xy(
            other.xy + np.where(np.arange(other.n_vertices) == 1, 1e-9, 0)[:, None]
        )
        self.assertNotEqual(signatures(other)[0], signatures(moved)[0])


class StoredMeasures(unittest.TestCase):
    def layer(self):
        base = cells()
        size = row_areas(base.geometry)
        return cells(area_ha=size / 1e4, acres=(size / 4046.8564224).round(2), people=[60] * 6)

    def test_are_recognised(self):
        found = stored_measures(self.layer())
        self.assertEqual({n: tuple(m) for n, m in found.items()},
                         {"area_ha": ("area", "ha"), "acres": ("area", "ac")})  # fmt: skip
        lines = make.layer("l", make.lines([[np.array([(0, 0), (k, 0.0)])] for k in (1, 2, 5)]),
                           n=[1.0, 2.0, 5.0], m=[1, 2, 3])  # fmt: skip
        self.assertEqual(stored_measures(lines)["n"].words, "length")
        self.assertEqual(set(stored_measures(lines)), {"n"})

    def test_are_recognised_among_many(self):
        """Whether all or a hundredth of the features have a value; not where every ninth is wrong."""
        n = np.arange(1.0, 5001.0)
        rare = np.where(n % 100 == 7, n, np.nan)
        fields = {
            "right": np.where(n % 33 == 0, 0, n),
            "wrong": np.where(n % 9 == 0, 0, n),
            "rare": pa.array(rare, mask=np.isnan(rare)),
            "other": n * 1.2,
        }
        paths = [[np.array([(0, 0), (k, 0.0)])] for k in n]
        layer = make.layer("l", make.lines(paths), **fields)
        self.assertEqual(set(stored_measures(layer)), {"right", "rare"})

    def test_stay_are_refreshed_or_apportioned(self):
        layer = self.layer()
        park = make.layer("park", make.polygons([[[make.square(50, 20, 120)]]]), area_ha=[1.44])
        park = replace(park, crs=UTM)
        kept = polygene.clip(layer, park)
        told = {s.field: (s.done, s.cut) for s in kept.summary.stored}
        self.assertEqual(told["area_ha"], ("kept", kept.summary.cut))
        both = polygene.union(layer, park, refresh=["area_ha"], apportion=["people"])
        areas = row_areas(both.layer.geometry)
        has_own = np.array(pc.is_valid(both.layer.table["people"]))
        stored = both.layer.table["area_ha"].to_pylist()
        for value, size, own in zip(stored, areas, has_own, strict=True):
            if own:
                self.assertAlmostEqual(value, size / 1e4)
            else:
                self.assertIsNone(value)
        self.assertAlmostEqual(pc.sum(both.layer.table["people"]).as_py(), 360, places=6)
        parts = polygene.erase(layer, park, apportion=["people"], single_parts=True)
        inside = polygene.clip(layer, park, apportion=["people"])
        total = sum(pc.sum(r.layer.table["people"]).as_py() for r in (parts, inside))
        self.assertAlmostEqual(total, 360, places=6)
        with self.assertRaisesRegex(DataError, "cannot be refreshed"):
            polygene.clip(layer, park, refresh=["people"])
        one = polygene.clip(park, layer, refresh=["area_ha"])  # of a single feature
        self.assertEqual([s.done for s in one.summary.stored], ["refreshed"])
        size = row_areas(one.layer.geometry)[0] / 1e4
        self.assertAlmostEqual(one.layer.table["area_ha"][0].as_py(), size)
        with self.assertRaisesRegex(DataError, "no field 'peopel'.*did you mean"):
            polygene.clip(layer, park, apportion=["peopel"])


if __name__ == "__main__":
    unittest.main()
