"""Superseding by key: what is left of features that are there anew."""

import unittest

import numpy as np
import pyarrow as pa

import polygene
from polygene.errors import UsageError
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from tests.support import generators as make


def plots(name, *squares, **columns):
    rings = make.polygons([[[make.square(*at)]] for at in squares])
    return Layer(name, rings, pa.table(columns))


def area(layer):
    return row_measures(layer.geometry, ruler_for(None)).sum()


class Leftovers(unittest.TestCase):
    def setUp(self):
        self.old = plots("old", (0, 0, 2), (5, 0, 2), (9, 0, 1), bed=["A", "B", "C"])
        # A was drawn smaller, B has moved away, D is new
        self.new = plots("new", (0, 0, 1), (20, 0, 2), (1, 1, 3), bed=["A", "B", "D"])

    def test_by_key(self):
        areas = {}
        for leftovers, beds in (
            ("drop", ["C", "A", "B", "D"]), ("keep", ["A", "B", "C", "A", "B", "D"]),
            ("only", ["A", "B"]),
        ):  # fmt: skip
            made = polygene.supersede(self.old, self.new, key="bed", leftovers=leftovers)
            self.assertEqual(made.layer.table["bed"].to_pylist(), beds)
            told = made.summary.leftovers
            self.assertEqual((told.done, told.rows.first), (leftovers, ["row 1", "row 2"]))
            self.assertAlmostEqual(told.area, 2 + 4, places=6)
            self.assertEqual(made.summary.out, len(beds))
            counts = made.summary
            kept = counts.whole + counts.cut + counts.dropped + counts.without_geometry
            self.assertEqual(kept, 3)
            areas[leftovers] = area(made.layer)
        self.assertAlmostEqual(areas["keep"], areas["drop"] + areas["only"], places=6)

    def test_without_a_key_it_is_said(self):
        made = polygene.supersede(self.old, self.new)
        told = made.summary.leftovers
        self.assertEqual((told.key, told.done, told.rows.count), (["bed"], "", 2))
        other = plots("new", (0, 0, 1), bed=["Z"])
        self.assertIsNone(polygene.supersede(self.old, other).summary.leftovers)

    def test_names_that_differ_and_numbers_for_texts(self):
        new = plots("new", (0, 0, 1), bed_no=["a"])
        made = polygene.supersede(self.old, new, key="casei(bed) = bed_no")
        self.assertEqual(made.layer.table["bed"].to_pylist(), ["B", "C", None])
        with self.assertRaises(UsageError):
            polygene.supersede(self.old, self.new, key="bed", leftovers="some")

    def test_a_name_of_rows_that_is_a_text_in_one_and_a_number_in_the_other(self):
        new = plots("new", (0, 0, 1), (20, 0, 2), bed=[1, 2])
        made = polygene.supersede(self.old, new)
        self.assertIsNone(made.summary.leftovers)
        self.assertEqual(made.layer.table["new_bed"].to_pylist(), [None, None, None, 1, 2])
        quoted = {'say "so"': ["A", "B", "C"]}
        old = plots("old", (0, 0, 2), (5, 0, 2), (9, 0, 1), **quoted)
        new = plots("new", (0, 0, 1), **{'say "so"': ["A"]})
        self.assertEqual(polygene.supersede(old, new).summary.leftovers.rows.count, 1)

    def test_fields_that_differ_by_capitals_only(self):
        old = plots("old", (0, 0, 2), Bed=["A"], bed=[1])
        new = plots("new", (9, 0, 1), bed=[2], BED=["C"])
        rows = polygene.supersede(old, new).layer.table.to_pylist()
        self.assertEqual(rows, [{"Bed": "A", "bed": 1}, {"Bed": "C", "bed": 2}])

    def test_random_layers_lose_nothing_else(self):
        for seed in range(8):
            rng = np.random.default_rng(seed)
            layers = []
            for name in ("old", "new"):
                stars = [[[make.star(rng, 7, 2.0, tuple(rng.uniform(0, 6, 2)))]] for _ in range(8)]
                keys = rng.integers(0, 10, 8)
                layers.append(make.layer(name, make.polygons(stars), None, k=keys))
            made = {
                how: polygene.supersede(*layers, key="k", leftovers=how).layer
                for how in ("keep", "drop", "only")
            }
            gone = set(layers[1].table["k"].to_pylist())
            self.assertTrue(set(made["only"].table["k"].to_pylist()) <= gone)
            n_new = layers[1].n_rows
            old = made["drop"].table["k"].to_pylist()[: made["drop"].n_rows - n_new]
            self.assertEqual(set(old) & gone, set())
            total = area(made["drop"]) + area(made["only"])
            self.assertAlmostEqual(area(made["keep"]), total, places=6)
