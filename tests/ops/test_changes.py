"""What changed between versions: every change that is made is found and named, and nothing else."""

import datetime
import math
import random
import unittest
from dataclasses import replace

import numpy as np
import pyarrow as pa

import polygene
from polygene.crs import parse
from polygene.errors import ExpressionError
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.ops.changes import KINDS
from tests.support import generators as make
from tests.support.chance import some_of


def block(column, row, width=0.8, height=0.8):
    """Return a ring round a plot of a lattice, with a corner of its own: none is like another."""
    x, y = float(column), float(row)
    dent = 0.01 * (1 + (column * 7 + row * 3) % 11)
    return np.array([
        (x, y), (x + width, y), (x + width, y + height), (x + dent, y + height - dent), (x, y)
    ])  # fmt: skip


def layer_of(features, crs="EPSG:32633"):
    """Return a layer of (key, ring, kind), in the order given."""
    column = GeometryColumn.from_rings([[[ring * 100]] for _, ring, _ in features], Family.POLYGONS)
    columns = {"key": [k for k, _, _ in features], "kind": [w for _, _, w in features]}
    return Layer("plots", column, pa.table(columns), parse(crs))


class Made(unittest.TestCase):
    """Random changes of a lattice of plots, found by key and without one."""

    def version(self, rng, keeps_key):
        """Return before, after and what was done: kind → keys of before (added: of now)."""
        plots = [(c, r) for r in range(6) for c in range(0, 12, 2)]
        before = {100 + k: (block(*at), rng.choice("abc")) for k, at in enumerate(plots)}
        after, done = dict(before), {kind: set() for kind in KINDS}
        keys = rng.sample(sorted(set(before) - {130, 131}), 20)
        new = iter(range(1000, 2000))
        for kind in (*("added", "removed", "split", "moved", "edited") * 2, "merged"):
            key = keys.pop()
            c, r = plots[key - 100]
            ring, word = before[key]
            if kind == "added":
                key = next(new)
                after[key] = (block(c + 1, r + 20), "a")
            elif kind == "removed":
                del after[key]
            elif kind == "split":
                cut = rng.uniform(0.3, 0.5)
                del after[key]
                first = key if keeps_key else next(new)
                after[first] = (block(c, r, width=cut), word)
                after[next(new)] = (block(c + cut, r, width=0.8 - cut), word)
            elif kind == "merged":
                key, other = 100 + 6 * 5, 100 + 6 * 5 + 1  # two neighbours of the last row
                before[key] = after[key] = (block(20, 5, width=1.0), "a")
                before[other] = after[other] = (block(21, 5, width=1.0), "a")
                del after[key], after[other]
                after[key if keeps_key else next(new)] = (block(20, 5, width=2.0), "a")
                done["merged"] |= {key, other}
            elif kind == "moved":
                after[key] = (ring + rng.uniform(0.02, 0.1), word)
            else:
                after[key] = (ring, word + "!")
            if kind != "merged":
                done[kind].add(key)
        return before, after, done

    def shuffled(self, rng, features):
        items = [(key, ring, word) for key, (ring, word) in features.items()]
        rng.shuffle(items)
        return layer_of([
            (key, np.concatenate([ring[k:-1], ring[: k + 1]])[:: rng.choice([1, -1])], word)
            for key, ring, word in items for k in [rng.randrange(4)]
        ])  # fmt: skip

    def found(self, before, after, made):
        """Return kind → keys of before (added: of now), from the layer of changes."""
        rows, found = made.layer.table.to_pylist(), {kind: set() for kind in KINDS}
        keys = [y.table["key"].to_pylist() for y in (before, after)]
        for row in rows:
            side = 1 if row["change"] == "added" else 0
            at = row["origin_after" if side else "origin_before"]
            found[row["change"]].add(keys[side][at - 1])
        return found

    def test_by_key(self):
        for seed in some_of(range(40)):
            rng = random.Random(seed)
            old, new, done = self.version(rng, keeps_key=seed % 2 == 0)
            before, after = self.shuffled(rng, old), self.shuffled(rng, new)
            made = polygene.compare(before, after, "key")
            with self.subTest(seed=seed):
                self.assertEqual(self.found(before, after, made), done)
                told = made.summary.changes
                changed = set().union(*(done[k] for k in KINDS if k != "added"))
                self.assertEqual(told.same, len(old) - len(changed))
                self.assertEqual(told.parts, 2 * len(done["split"]))
                self.assertEqual((told.merged.count, told.sources), (1, 2))
                self.assertEqual(told.edits, {"kind": len(done["edited"])})

    def test_without_a_key(self):
        for seed in some_of(range(40, 80)):
            rng = random.Random(seed)
            old, new, done = self.version(rng, keeps_key=True)
            before, after = self.shuffled(rng, old), self.shuffled(rng, new)
            bare = [y.table.drop_columns(["key"]) for y in (before, after)]
            plain = [replace(y, table=t) for y, t in zip((before, after), bare, strict=True)]
            made = polygene.compare(*plain, changes=True)
            with self.subTest(seed=seed):
                self.assertEqual(self.found(before, after, made), done)

    def test_what_lies_over_another_that_goes_on_is_no_part_of_it(self):
        """A zone in another is removed, and the other moved; so with one that is added."""
        large, small = block(0, 0, width=4.0), block(0.1, 0, width=1.0)
        both = layer_of([(1, large, "a"), (2, small, "b")])
        for key in ("key", ()):
            for way in (1, -1):
                alone = layer_of([(1, large + 0.05, "a")])
                made = polygene.compare(*(both, alone)[::way], key, changes=True).summary.changes
                counts = [getattr(made, k).count for k in KINDS]
                self.assertEqual(counts, [way < 0, way > 0, 0, 0, 1, 0], (key, way))

    def test_how_far_and_how_much(self):
        before = layer_of([(1, block(0, 0), "a"), (2, block(2, 0), "a")])
        xy = before.geometry.xy.copy()
        xy[:5] += (3, 4)
        after = replace(before, geometry=before.geometry.with_xy(xy))
        made = polygene.compare(before, after, "key").summary.changes
        self.assertEqual(made.moved.first, ["row 1"])
        self.assertAlmostEqual(made.largest_shift, 5.0, places=9)
        self.assertAlmostEqual(made.gained, made.lost, places=4)
        area = polygene.measure(polygene.erase(after, before).layer, area="m2").layer.table[
            "area_m2"
        ]
        self.assertAlmostEqual(made.gained, area[0].as_py(), delta=0.01)
        same = polygene.compare(before, after, "key", tolerance="5.01m").summary.changes
        self.assertEqual((same.same, same.count), (2, 0))
        near = polygene.compare(before, after, "key", tolerance=4.99).summary.changes
        self.assertEqual(near.moved.count, 1)


class Told(unittest.TestCase):
    def table(self, **columns):
        return polygene.as_layer(pa.table(columns), "t")

    def test_tables_edits_and_keys_of_other_names(self):
        before = self.table(a=["x", "y", "z"], b=[1, 2, 3], n=[1.0, None, float("nan")])
        after = self.table(code=["Z", "Y ", "X"], b=[3, 2, 1], n=[float("nan"), 5.0, 1.0])
        made = polygene.compare(before, after, ["a = code", "b"], fold=True)
        (row,) = made.layer.table.to_pylist()
        wanted = {
            "change": "edited",
            "key": "y / 2",
            "origin_before": 2,
            "origin_after": 2,
            "field": "n",
        }
        self.assertEqual({k: row[k] for k in wanted}, wanted)
        self.assertEqual((row["old"], row["new"]), (None, "5"))
        self.assertTrue(made.layer.is_table)

    def test_fields_that_differ_by_capitals_only(self):
        before = self.table(k=[1, 2], Bed=["a", "b"], bed=["c", "d"])
        after = self.table(bed=["c", "d"], BED=["a", "e"], k=[1, 2])
        made = polygene.compare(before, after, "k")
        (row,) = made.layer.table.to_pylist()
        self.assertEqual((row["field"], row["old"], row["new"]), ("Bed", "b", "e"))
        self.assertTrue(all(f.first and f.second for f in made.summary.fields))

    def test_keys_that_come_twice_and_no_keys(self):
        before = self.table(k=["a", "a", "b", None], v=[1, 2, 3, 4])
        after = self.table(k=["a", "a", None, "c"], v=[2, 1, 4, 5])
        made = polygene.compare(before, after, "k").summary.changes
        self.assertEqual((made.same, made.removed.count, made.added.count), (3, 1, 1))
        self.assertEqual(made.without_key, (1, 1))

    def test_no_change_whatever_the_order(self):
        rng = np.random.default_rng(5)
        before = make.layer(
            "x",
            make.polygons([[[make.star(rng, 9, 3.0, (10 * k, 0))]] for k in range(30)]),
            None,
            k=np.arange(30),
            v=np.arange(30) % 7,
        )
        after = before.take(rng.permutation(30))
        for how in ({"key": "k"}, {"changes": True}):
            made = polygene.compare(before, after, **how)
            self.assertEqual(made.summary.changes.same, 30)
            self.assertEqual(made.layer.n_rows, 0)
            self.assertFalse(made.differs)

    def test_points_and_lines_by_geometry(self):
        column = GeometryColumn.from_points(np.arange(10.0).reshape(5, 2))
        before = Layer("p", column, pa.table({"v": [1, 2, 3, 4, 5]}))
        xy = column.xy[::-1].copy()
        xy[0] += 1
        after = Layer("p", GeometryColumn.from_points(xy), pa.table({"v": [5, 4, 3, 9, 1]}))
        made = polygene.compare(before, after, changes=True).summary.changes
        self.assertEqual((made.same, made.added.count, made.removed.count), (3, 1, 1))
        self.assertEqual(made.edits, {"v": 1})

    def test_values_of_two_types_are_compared_as_they_are(self):
        """Whole numbers beside real ones not as rounded, moments whatever their unit."""
        noon = datetime.datetime(2026, 5, 31, 12, tzinfo=datetime.UTC)
        midnight, day = noon.replace(hour=0), noon.date()
        for one, other, n in (
            (pa.array([2**53 + 1, 2**53, None, 7]), pa.array([2.0**53, 2.0**53, None, math.nan]), 2),
            (pa.array([noon, None, noon], pa.timestamp("ms", "UTC")),
             pa.array([noon, None, midnight], pa.timestamp("us", "UTC")), 1),
            (pa.array([day, day]), pa.array([midnight, noon], pa.timestamp("ms", "UTC")), 1),
            (pa.array(["a", "b"]), pa.array(["a", "c"]).dictionary_encode(), 1),
            (pa.array([1, 2]), pa.array(["1", "x"]), 1),
        ):  # fmt: skip
            keys = np.arange(len(one))
            layers = [self.table(k=keys, v=values) for values in (one, other)]
            for first, second in (layers, layers[::-1]):
                found = polygene.compare(first, second, "k").summary.changes
                self.assertEqual(found.edited.count, n, (one, other))

    def test_what_cannot_be_compared(self):
        with self.assertRaises(ExpressionError):
            polygene.compare(self.table(k=[1]), self.table(k=["a"]), "k")
        one = Layer("p", GeometryColumn.from_points(np.zeros((1, 2))), pa.table({"k": [1]}))
        other = make.layer("q", make.polygons([[[make.square(0, 0, 1)]]]), None, k=[1])
        made = polygene.compare(one, other, "k")
        self.assertIsNone(made.layer)
        self.assertEqual(made.summary.changes.moved.count, 1)
