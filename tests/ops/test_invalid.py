"""Every kind of invalid polygon through every operation: valid out, with the area the rule gives it."""

from __future__ import annotations

import unittest

import numpy as np

import polygene
from polygene import crs
from polygene.errors import GeometryError
from polygene.measures import row_areas
from polygene.ops.buffer import buffer
from polygene.ops.hull import hull
from polygene.ops.join import join
from polygene.ops.mend import mend
from polygene.plane.validity import invalid_rows
from tests.plane.test_validity import anything, reference
from tests.support import generators as make

ROWS = 48
BOX = make.polygons([[[make.square(-50, -50, 100)]]])
HALF = make.polygons([[[make.square(-50, -50, 53.1)]]])


def area(layer):
    return row_areas(layer.geometry).sum()


class Invalid(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(77)
        column = make.polygons(anything(rng, ROWS))
        self.layer = make.layer("odd", column, k=np.arange(ROWS))
        self.mended = mend(self.layer).layer
        self.n_bad = int(invalid_rows(column).sum())
        self.box, self.half = make.layer("box", BOX), make.layer("half", HALF)

    def test_valid_out_of_every_operation_and_areas_by_the_rule(self):
        self.assertGreater(self.n_bad, ROWS // 2)
        odd, whole = self.layer, area(self.mended)
        inside = area(polygene.clip(self.mended, self.half).layer)
        results = {
            "clip": (polygene.clip(odd, self.box), whole),
            "cut": (polygene.clip(odd, self.half), inside),
            "erase": (polygene.erase(odd, self.half), whole - inside),
            "intersect": (polygene.intersect(odd, self.half), inside),
            "imprint": (polygene.imprint(odd, self.half), whole),
            "union": (polygene.union(odd, self.box), None),
            "itself": (polygene.union(odd), whole),
            "supersede": (polygene.supersede(self.half, odd), None),
            "snap": (polygene.clip(odd, self.half, snap=0.01), inside),
            "dissolve": (polygene.dissolve(odd, ["k"]), whole),
            "into one": (polygene.dissolve(odd), area(polygene.dissolve(self.mended).layer)),
            "buffer": (buffer(odd, 0.5), area(buffer(self.mended, 0.5).layer)),
            "hull": (hull(odd, each=True), area(hull(self.mended, each=True).layer)),
        }
        for name, (result, wanted) in results.items():
            with self.subTest(name):
                self.assertEqual(result.summary.proved, result.layer.n_rows)
                if wanted is not None:
                    moved = 0.05 if name == "snap" else 1e-6
                    self.assertAlmostEqual(area(result.layer), wanted, delta=moved)
                for parts in make.rows_of(result.layer.geometry)[:12]:
                    self.assertEqual(reference(parts), [])

    def test_all_that_take_part_are_named_on_both_sides(self):
        found = polygene.union(self.layer, self.layer).summary
        for side in (found.input, found.others[0]):
            self.assertEqual(
                (side.admitted.checked, side.admitted.mended.count), (ROWS, self.n_bad)
            )
            self.assertAlmostEqual(
                side.admitted.after,
                area(self.mended.take(np.flatnonzero(invalid_rows(self.layer.geometry)))), 6,
            )  # fmt: skip
        left = polygene.supersede(self.box, self.layer, invalid="leave-out").summary
        self.assertEqual(left.others[0].admitted.left_out.count, self.n_bad)
        for operation in (
            lambda: polygene.erase(self.box, self.layer, invalid="refuse"),
            lambda: polygene.dissolve(self.layer, invalid="refuse"),
            lambda: buffer(self.layer, 1.0, invalid="refuse"),
            lambda: hull(self.layer, invalid="refuse"),
        ):
            with self.assertRaisesRegex(
                GeometryError, f"{self.n_bad} of {ROWS} features are invalid"
            ):
                operation()

    def test_what_is_left_out_takes_its_attributes_along(self):
        """Rows keep their own values, distances and stored areas when others are left out."""
        bad = invalid_rows(self.layer.geometry)
        sizes = row_areas(self.mended.geometry)
        far = np.where(bad, 9.0, 0.1 + np.arange(ROWS) / 100)
        layer = make.layer("odd", self.layer.geometry, k=np.arange(ROWS), area=sizes)
        kept = np.flatnonzero(~bad)
        grown = buffer(layer, far, invalid="leave-out")
        self.assertEqual(grown.layer.table["k"].to_pylist(), kept.tolist())
        alone = [area(buffer(layer.take(np.array([k])), float(far[k])).layer) for k in kept]
        np.testing.assert_allclose(row_areas(grown.layer.geometry), alone, rtol=1e-9)
        cut = polygene.clip(layer, self.half, invalid="leave-out", refresh=["area"]).layer
        np.testing.assert_allclose(np.asarray(cut.table["area"]), row_areas(cut.geometry))
        cut = polygene.intersect(layer, self.half, invalid="leave-out", apportion=["area"]).layer
        np.testing.assert_allclose(
            np.asarray(cut.table["area"]), row_areas(cut.geometry), rtol=1e-6
        )

    def test_of_the_other_only_those_near_are_refused_or_left_out(self):
        """As only those are mended: work in tasks never sees the rest."""
        bow = np.array([(0, 0), (4, 4), (4, 0), (0, 4), (0, 0)], float)
        one = make.layer("one", make.polygons([[[make.square(0, 0, 10)]], [[bow + 900]]]))
        two = make.layer("two", make.polygons([[[make.square(5, 0, 10)]], [[bow + 5000]]]))
        sound = one.take(np.array([0]))
        found = polygene.erase(sound, two, invalid="refuse")
        self.assertEqual(row_areas(found.layer.geometry).tolist(), [50.0])
        found = polygene.erase(sound, two, invalid="leave-out").summary.others[0].admitted
        self.assertEqual((found.checked, found.left_out.count), (1, 0))
        for call, left, right in ((polygene.clip, one, sound), (polygene.union, sound, two)):
            with self.assertRaisesRegex(GeometryError, "row 2"):
                call(left, right, invalid="refuse")

    def test_just_outside_of_the_other_they_have_no_part(self):
        """By so little that the cells which tell what is near reach them."""
        bow = np.array([(0, 0), (4, 4), (4, 0), (0, 4), (0, 0)], float)
        utm = crs.parse("EPSG:32633")
        other = make.layer("other", make.polygons([[[make.square(0, 0, 1000)]]]), utm)
        for beside in (1e-5, 2e-4, 0.008, 2.0):
            places = [
                (1000 + beside, 500),
                (500, 1000 + beside),
                (-4 - beside, 3),
                (3, -4 - beside),
            ]
            rows = [[[bow + place]] for place in places]
            one = [[make.square(900, 500, 200)]]
            layer = make.layer("own", make.polygons([*rows, one]), utm, k=range(5))
            for call in (polygene.clip, polygene.intersect):
                with self.subTest(beside=beside, call=call.__name__):
                    found = call(layer, other).layer
                    self.assertEqual(found.table["k"].to_pylist(), [4])
                    self.assertEqual(row_areas(found.geometry).tolist(), [20_000.0])

    def test_relations_are_those_of_the_mended_and_geometry_is_carried(self):
        mine, theirs = (
            join(y, self.half, "intersects").layer for y in (self.layer, self.mended)
        )  # fmt: skip
        self.assertEqual(mine.table["matches"], theirs.table["matches"])
        np.testing.assert_array_equal(mine.geometry.xy, self.layer.geometry.xy)


class OutOfBounds(unittest.TestCase):
    def test_what_cannot_be_computed_with_is_refused_with_its_row(self):
        from polygene import crs

        far, high = make.square(0, 0, 1), make.square(0, 89, 4)
        far[1, 0] = 1e299
        for square, code, words in (
            (far, None, "row 2: value 1e\\+299, and no more than 1e\\+150"),
            (np.where(far == 1, np.inf, far), None, "row 2: a coordinate is not a finite number"),
            (high, "OGC:CRS84", "row 2: a latitude of 93 degrees, beyond the pole"),
        ):
            system = None if code is None else crs.parse(code)
            rows = make.polygons([[[make.square(0, 0, 1)]], [[square]]])
            layer = make.layer("x", rows, system, k=[1, 2])
            for operation in (
                lambda y: polygene.clip(y, y), polygene.dissolve, mend, lambda y: buffer(y, 1.0), hull
            ):  # fmt: skip
                with np.errstate(invalid="ignore"), self.assertRaisesRegex(GeometryError, words):
                    operation(layer)
        left = polygene.clip(
            make.layer("x", make.polygons([[[make.square(0, 0, 1)]], [[far]]])),
            make.layer("b", BOX), invalid="leave-out",
        )  # fmt: skip
        self.assertEqual(left.layer.n_rows, 1)

    def test_few_rows_may_be_as_large_as_the_grid(self):
        """Each has a place of its own, alone if it must be; small ones between them too."""
        rng = np.random.default_rng(5)
        rows = []
        for k in range(24):
            size = 1e8 if k % 3 else 1.0
            rows.append([[make.tangle(rng, 9, 10, 1.0) * size]])
        layer = make.layer("huge", make.polygons(rows))
        found = mend(layer, precision=1e-3)
        self.assertFalse(invalid_rows(found.layer.geometry).any())
        alone = [area(mend(layer.take(np.array([k])), precision=1e-3).layer) for k in range(24)]
        np.testing.assert_allclose(row_areas(found.layer.geometry), alone, rtol=1e-12)
        spots = make.layer("p", make.points([[p] for p in rng.uniform(-1, 1, (9, 2)) * 1e5]))
        wide = buffer(spots, 9e7, precision=1e-4).layer.geometry
        np.testing.assert_allclose(row_areas(wide), row_areas(wide)[0], rtol=1e-9)

    def test_without_a_crs_the_grid_follows_the_extent(self):
        """Buildings of ten metres in degrees that nobody called so: each meets itself."""
        rng = np.random.default_rng(6)
        at = rng.uniform((10, 50), (11, 51), (300, 2))
        rows = make.polygons([[[make.square(*xy, 1e-4)]] for xy in at])
        layer = make.layer("b", rows, k=np.arange(300))
        found = polygene.intersect(layer, layer)
        self.assertLess(found.summary.precision, 1e-9)
        self.assertGreaterEqual(found.layer.n_rows, 300)
        metres = make.layer("m", make.polygons([[[make.square(5e5, 4e6, 9)]]]))
        self.assertEqual(polygene.dissolve(metres).summary.precision, 1e-5)


if __name__ == "__main__":
    unittest.main()
