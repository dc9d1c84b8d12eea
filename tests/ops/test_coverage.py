"""Coverages that nearly are one: gaps closed, overlaps given away, what is wider left alone."""

from __future__ import annotations

import unittest

import numpy as np

from polygene import crs
from polygene.arrays import owners
from polygene.errors import DataError, UsageError
from polygene.measures import row_areas, ruler_for
from polygene.ops.audit import audit
from polygene.ops.coverage import faces_of, lay_out, settle_coverage
from polygene.ops.dissolve import dissolve
from polygene.plane.validity import invalid_rows
from tests.support import exact
from tests.support import generators as make

METRES = crs.parse("EPSG:32633")


def moved(seed, by=0.3, at=(0.0, 0.0)):
    """A coverage of which some features were moved a little, each by itself."""
    rng = np.random.default_rng(seed)
    column = make.coverage(6, 5, 100, rng)
    shift = rng.normal(0, by, (column.n_rows, 2)) * (rng.random(column.n_rows) < 0.3)[:, None]
    row = owners(column.vertex_offsets_of_rows)
    return make.layer("near", column.with_xy(column.xy + shift[row] + at), METRES)


def odd_faces(layer):
    faces = faces_of(lay_out(layer, None), ruler_for(layer.crs))
    return int(faces.is_gap.sum()), int(faces.is_overlap.sum())


class Settled(unittest.TestCase):
    def test_what_comes_out_is_a_coverage(self):
        for seed in range(8):
            for at in ((0.0, 0.0), (500_000.0, 7_000_000.0)):
                with self.subTest(seed=seed, at=at):
                    given = moved(seed, at=at)
                    found = settle_coverage(given, 3.0)
                    self.assertEqual(odd_faces(found.layer), (0, 0))
                    self.assertFalse(invalid_rows(found.layer.geometry).any())
                    for row in make.rows_of(found.layer.geometry):
                        self.assertEqual(exact.faults(row), [])
                    covered = row_areas(dissolve(given).layer.geometry)[0]
                    self.assertAlmostEqual(
                        row_areas(found.layer.geometry).sum(), covered + found.summary.gap_area, 2
                    )

    def test_features_that_nothing_happens_to_stay_bit_for_bit(self):
        given = moved(3)
        found = settle_coverage(given, 3.0)
        same = 0
        for before, after in zip(
            make.rows_of(given.geometry), make.rows_of(found.layer.geometry), strict=True
        ):
            same += repr(before) == repr(after)
        self.assertEqual(same, given.n_rows - found.summary.changed - found.summary.met)
        again = settle_coverage(found.layer, 3.0)
        self.assertEqual((again.summary.changed, again.summary.met), (0, 0))
        np.testing.assert_array_equal(again.layer.geometry.xy, found.layer.geometry.xy)

    def test_who_gets_an_overlap_and_what_is_too_wide(self):
        rows = [[[make.square(0, 0, 10)]], [[make.square(9.5, 0, 12)]], [[make.square(30, 0, 10)]],
                [[make.square(35, 0, 10)]]]  # fmt: skip
        given = make.layer("two", make.polygons(rows), METRES)
        for prefer, areas in {
            "first": (100, 139), "last": (95, 144), "largest": (95, 144), "smallest": (100, 139)
        }.items():  # fmt: skip
            found = settle_coverage(given, 1.0, prefer=prefer)
            np.testing.assert_allclose(row_areas(found.layer.geometry)[:2], areas)
            self.assertEqual((found.summary.overlaps, found.summary.overlaps_left), (1, 1))
        ring = make.square(0, 0, 100)
        lakes = [make.square(10, 10, 20)[::-1], make.square(50, 50, 0.5)[::-1]]
        island = make.layer("i", make.polygons([[[ring, *lakes]]]), METRES)
        found = settle_coverage(island, 1.0)
        self.assertEqual((found.summary.gaps, found.summary.gaps_left), (1, 1))
        self.assertAlmostEqual(row_areas(found.layer.geometry)[0], 10_000 - 400)
        for wrong, reason in ((DataError, "only polygons"), (UsageError, "prefer is one of")):
            layer = (
                given
                if wrong is UsageError
                else make.layer("l", make.lines([[np.array([(0, 0), (1, 1.0)])]]))
            )
            with self.assertRaisesRegex(wrong, reason):
                settle_coverage(layer, 1.0, prefer="none" if wrong is UsageError else "first")

    def test_duplicates_empty_and_null_rows(self):
        rows = [[[make.square(0, 0, 10)]], [[make.square(0, 0, 10)]], [],
                [[make.square(0, 0, 10)]]]  # fmt: skip
        given = make.layer("d", make.polygons(rows), METRES)
        stays = settle_coverage(given, 1.0)
        self.assertEqual((stays.summary.changed, stays.summary.overlaps_left), (0, 1))
        goes = settle_coverage(given, 50.0)
        self.assertEqual(row_areas(goes.layer.geometry).tolist(), [100, 0, 0, 0])
        self.assertEqual(goes.summary.vanished.count, 2)
        nothing = make.layer("n", make.polygons([[], []]), METRES)
        self.assertEqual(settle_coverage(nothing, 1.0).summary.changed, 0)

    def test_the_audit_counts_by_width_what_it_finds(self):
        for seed in range(4):
            found = audit(moved(seed), coverage=True)
            kinds = {f.kind: f.count for f in found.findings}
            self.assertEqual(sum(c.gaps for c in found.nearly), kinds.get("gap", 0))
            self.assertEqual(sum(c.overlaps for c in found.nearly), kinds.get("overlap", 0))
            widths = [c.width for c in found.nearly]
            self.assertEqual(widths, sorted(widths))
            narrow = settle_coverage(moved(seed), widths[-2]).summary
            self.assertEqual(
                narrow.gaps + narrow.overlaps, sum(c.gaps + c.overlaps for c in found.nearly[:-1])
            )


if __name__ == "__main__":
    unittest.main()
