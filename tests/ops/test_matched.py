"""Overlays in which only features of one key have to do with each other."""

import inspect
import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
import pyarrow as pa

import polygene
from polygene.errors import ExpressionError, UsageError
from polygene.layer import Layer
from polygene.measures import row_measures, ruler_for
from polygene.plane import selfcheck
from tests.support import generators as make
from tests.support.chance import some_of


def keyed(name, column, rng, **more):
    codes = rng.choice(["a", "b", "c", None], column.n_rows, p=[0.4, 0.3, 0.2, 0.1]).tolist()
    table = pa.table({"row": np.arange(column.n_rows), "key": pa.array(codes, pa.string()), **more})
    return Layer(name, column, table)


def stars(rng, n, size=4.0):
    return make.polygons(
        [[[make.star(rng, 8, 2.5, tuple(rng.uniform(0, size, 2)))]] for _ in range(n)]
    )


def sizes(layer, by=("row",)):
    """Return the measure of each combination of rows, all its pieces together."""
    found = {}
    measures = row_measures(layer.geometry, ruler_for(None))
    columns = [layer.table[name].to_pylist() for name in by]
    for size, *names in zip(measures, *columns, strict=True):
        found[tuple(names)] = found.get(tuple(names), 0.0) + size
    return {names: size for names, size in found.items() if size > 1e-6}


class Matched(unittest.TestCase):
    def one_by_one(self, operation, layer, other, **how):
        """Do the same with INPUT and OTHER of each key by themselves; rows without one find nothing."""
        parts = []
        keys = layer.table["key"].to_pylist()
        theirs = np.array(other.table["key"].to_pylist(), object)
        for key in set(keys):
            own = layer.take(np.array([k == key for k in keys]))
            same = (
                other.take(theirs == key) if key is not None else other.take(np.zeros(0, np.int64))
            )
            if same.n_rows:
                parts.append(operation(own, same, **how).layer)
            elif operation is polygene.erase:
                parts.append(own)
        return parts

    def same(self, operation, layer, other, by=("row",)):
        made = operation(layer, other, match="key")
        wanted = {}
        for part in self.one_by_one(operation, layer, other):
            wanted |= sizes(part, by)
        found = sizes(made.layer, by)
        self.assertEqual(found.keys(), wanted.keys())
        for names, size in wanted.items():
            self.assertAlmostEqual(found[names], size, delta=1e-3)
        return made

    def test_what_overlays_are_not_told_is_refused(self):
        """From Python too, where any keyword would do: one that is passed over changes the result."""
        squares = make.polygons([[[make.square(0, 0, 2)]], [[make.square(3, 0, 2)]]])
        layer = make.layer("s", squares, n=[1, 2])
        for name in ("clip", "erase", "intersect", "union", "imprint", "contrast", "supersede"):
            for more in ({"precison": 1.0}, {"whole": True}, {"match": "n"}, {"origins": True}):
                operation = getattr(polygene, name)
                if set(more) & set(inspect.signature(operation).parameters):
                    continue
                with self.subTest(name=name, more=more), self.assertRaisesRegex(TypeError, *more):
                    operation(layer, layer, **more)
        with self.assertRaisesRegex(TypeError, "did you mean 'precision'"):
            polygene.union(layer, precison=1.0)

    def test_as_if_each_key_were_alone(self):
        with mock.patch.object(selfcheck, "is_on", return_value=True):
            for seed in some_of(range(6)):
                rng = np.random.default_rng(seed)
                other = keyed("other", stars(rng, 9), rng)
                paths = make.lines([[make.path(rng, 9, 5.0, 0.1)] for _ in range(8)])
                spots = make.points([[rng.uniform(0, 5, 2)] for _ in range(40)])
                for column in (stars(rng, 7), paths, spots):
                    layer = keyed("own", column, rng)
                    with self.subTest(seed=seed, family=column.family.words):
                        self.same(polygene.erase, layer, other)
                        self.same(polygene.clip, layer, other)
                        self.same(polygene.intersect, layer, other, ("row", "other_row"))

    def test_with_itself_every_feature_gives_way_to_its_own_only(self):
        rng = np.random.default_rng(4)
        layer = keyed("own", stars(rng, 6), rng)
        made = polygene.erase(layer, replace(layer, name="again"), match="row")
        self.assertEqual(made.layer.n_rows, 0)
        self.assertEqual(made.summary.match, ["row"])
        self.assertIn("6 features of 6 find their key in again", made.summary.notes[-1])

    def test_hulls_without_their_own_patches(self):
        rng = np.random.default_rng(9)
        spots = make.polygons([[[make.square(*rng.uniform(0, 9, 2), 1)]] for _ in range(12)])
        patches = Layer("patches", spots, pa.table({"fire": [k % 3 for k in range(12)]}))
        hulls = polygene.hull(patches, by="fire").layer
        left = polygene.erase(hulls, patches, match="fire").layer
        whole = row_measures(hulls.geometry, ruler_for(None)).sum()
        gone = polygene.dissolve(patches, "fire").layer
        rest = row_measures(left.geometry, ruler_for(None)).sum()
        self.assertAlmostEqual(whole - rest, row_measures(gone.geometry, ruler_for(None)).sum(), 3)
        once = polygene.hull(patches, by="fire", without=patches, match="fire")
        self.assertEqual(once.layer.table.to_pydict(), left.table.to_pydict())
        np.testing.assert_array_equal(once.layer.geometry.xy, left.geometry.xy)
        self.assertAlmostEqual(once.summary.taken_off, whole - rest, 3)

    def test_what_does_not_go_together(self):
        rng = np.random.default_rng(2)
        layer, other = keyed("own", stars(rng, 3), rng), keyed("other", stars(rng, 3), rng)
        with self.assertRaises(UsageError):
            polygene.clip(layer, other, match="key", whole=True)
        with self.assertRaises(UsageError):
            polygene.erase(layer, other, match="key", snap=0.1)
        with self.assertRaises(ExpressionError):
            polygene.erase(layer, other, match="key = row")
