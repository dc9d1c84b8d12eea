"""All overlays: every point has the rows it should have, everything is valid, nothing is lost."""

from __future__ import annotations

import itertools
import unittest
from dataclasses import replace

import numpy as np

import polygene
from polygene import crs
from polygene.errors import DataError
from polygene.geometry import Family, GeometryColumn
from polygene.measures import row_areas, row_lengths
from tests.support import exact
from tests.support import generators as make
from tests.support.cases import (
    as_given,
    borders,
    each,
    rows_over,
    squares,
    stars,
    tangles,
)  # fmt: skip
from tests.support.chance import many, some_of

NONE = (None,)


def layers(a, b, rng):
    third = make.polygons([[[make.star(rng, 12, 45, (50, 50))]] for _ in range(2)])
    return (
        make.layer("a", a, ra=np.arange(a.n_rows), g=rng.integers(0, 3, a.n_rows)),
        make.layer("b", b, rb=np.arange(b.n_rows)),
        make.layer("c", third, rc=np.arange(2)),
    )


# What covers a point, in INPUT, OTHER and a third: which rows of the result must.
OVERLAYS = {
    "erase": (lambda a, b, c, **o: polygene.erase(a, b, **o),
              lambda ia, ib, ic: [] if ib else [(i,) for i in ia]),
    "intersect": (lambda a, b, c, **o: polygene.intersect(a, b, **o),
                  lambda ia, ib, ic: itertools.product(ia, ib)),
    "imprint": (lambda a, b, c, **o: polygene.imprint(a, b, **o),
                lambda ia, ib, ic: itertools.product(ia, ib or NONE)),
    "union": (lambda a, b, c, **o: polygene.union(a, b, **o),
              lambda ia, ib, ic: itertools.product(ia or NONE, ib or NONE) if ia or ib else []),
    "contrast": (lambda a, b, c, **o: polygene.contrast(a, b, c, **o),
                 lambda ia, ib, ic: itertools.product(ia or NONE, ib or NONE, ic or NONE)
                 if bool(ia) + bool(ib) + bool(ic) == 1 else []),
    "intersect of three": (lambda a, b, c, **o: polygene.intersect(a, b, c, **o),
                           lambda ia, ib, ic: itertools.product(ia, ib, ic)),
    "union of three": (lambda a, b, c, **o: polygene.union(a, b, c, **o),
                       lambda ia, ib, ic: itertools.product(ia or NONE, ib or NONE, ic or NONE)
                       if ia or ib or ic else []),
    "supersede": (lambda a, b, c, **o: polygene.supersede(a, b, **o),
                  lambda ia, ib, ic: [(None, j) for j in ib] or [(i, None) for i in ia]),
    "union with itself": (lambda a, b, c, **o: polygene.union(a, **o),
                          lambda ia, ib, ic: [(i,) for i in ia]),
}  # fmt: skip


def keys_of(table):
    columns = [table[name].to_pylist() for name in ("ra", "rb", "rc") if name in table.column_names]
    return list(zip(*columns, strict=True))


class Polygons(unittest.TestCase):
    def test_points_have_the_rows_they_should(self):
        for name, (overlay, rule) in some_of(OVERLAYS.items()):
            for rng, _, a, b in each(self, 2, steps=(1e-4,)):
                given = layers(a, b, rng)
                result = overlay(*given).layer
                sources = [make.rows_of(y.geometry) for y in given]
                out, keys = make.rows_of(result.geometry), keys_of(result.table)
                for x, y in rng.uniform(0, 100, (6, 2)):
                    wanted = rule(*(rows_over(rows, x, y) for rows in sources))
                    found = [keys[k] for k in rows_over(out, x, y)]
                    self.assertCountEqual(found, list(wanted), (name, x, y))

    def test_what_is_cut_is_valid_on_any_grid(self):
        n_checked = 0
        for name, (overlay, _) in OVERLAYS.items():
            for rng, step, a, b in each(self, 1):
                given = layers(a, b, rng)
                result = overlay(*given, precision=step).layer
                untouched = as_given(*(y.geometry for y in given))
                for parts in make.rows_of(result.geometry):
                    if tuple(map(str, parts)) not in untouched:
                        self.assertEqual(exact.faults(parts), [], name)
                        n_checked += 1
        self.assertGreater(n_checked, many(600, 150))

    def test_the_identities_of_the_trade(self):
        """clip + erase = INPUT; intersect + both erased = union; imprint without nulls = intersect."""
        for rng, _, a, b in each(self, 3, steps=(1e-4,)):
            first, second, _ = layers(a, b, rng)

            def area(result):
                return row_areas(result.layer.geometry).sum()

            clip, erase = polygene.clip(first, second), polygene.erase(first, second)
            balance = clip.summary.balance
            self.assertAlmostEqual(area(clip) + area(erase), balance.before, delta=balance.bound)
            union = polygene.union(first, second)
            shared, only = union.layer.table["ra"].is_valid(), union.layer.table["rb"].is_valid()
            both = np.asarray(shared) & np.asarray(only)
            parts = area(polygene.intersect(first, second)), area(erase)
            back = area(polygene.erase(second, first))
            self.assertAlmostEqual(sum(parts) + back, area(union), delta=1)
            sizes = row_areas(union.layer.geometry)
            self.assertAlmostEqual(sizes[both].sum(), parts[0], delta=1)
            imprint = polygene.imprint(first, second).layer
            has_none = np.asarray(imprint.table["rb"].is_null())
            self.assertAlmostEqual(row_areas(imprint.geometry)[has_none].sum(), parts[1], delta=1)

    def test_exchange_of_layers(self):
        """Intersect and union are the same the other way round, row by row."""
        for rng, step, a, b in each(self, 4, kinds=(stars, tangles, squares)):
            a, b = (c.with_xy(np.round(c.xy / step) * step) for c in (a, b))
            first, second, _ = layers(a, b, rng)
            for overlay in (polygene.intersect, polygene.union):
                one, two = (
                    overlay(*pair, precision=step).layer
                    for pair in ((first, second), (second, first))
                )
                mine = dict(zip(keys_of(one.table), row_areas(one.geometry), strict=True))
                theirs = dict(zip(keys_of(two.table), row_areas(two.geometry), strict=True))
                self.assertEqual(mine.keys(), theirs.keys())
                # Which nodes on a straight border go again depends on whose it is: by a grid unit.
                around = dict(zip(keys_of(one.table), row_lengths(one.geometry), strict=True))
                for key, size in mine.items():
                    self.assertAlmostEqual(size, theirs[key], delta=2 * step * around[key])

    def test_exchange_of_layers_on_a_grid_coarser_than_features(self):
        """The same rows come out, point by point, and all that does not is said to be lost."""
        n_lost = 0
        cases = ((step, *case) for case in each(self, 3) for step in (10.0, 30.0, 100.0))
        for step, rng, _, a, b in cases:
            given = layers(a, b.with_xy(b.xy + rng.uniform(0, 60, 2)), rng)[:2]
            for overlay in (polygene.union, polygene.contrast):
                found = [overlay(*pair, precision=step) for pair in (given, given[::-1])]
                one, two = (result.layer for result in found)
                self.assertCountEqual(
                    zip(keys_of(one.table), borders(one.geometry), strict=True),
                    zip(keys_of(two.table), borders(two.geometry), strict=True),
                )
                sides = [(r.summary.input, *r.summary.others) for r in found]
                self.assertEqual([y.fell for y in sides[0]], [y.fell for y in sides[1][::-1]])
            for name, own, side in zip(("ra", "rb"), given, sides[0], strict=True):
                came = set(polygene.union(*given, precision=step).layer.table[name].to_pylist())
                missing = set(own.table[name].to_pylist()) - came
                self.assertEqual(len(missing), side.fell.count, name)
                n_lost += len(missing)
        self.assertGreater(n_lost, many(60, 15))

    def test_what_is_thinner_than_the_grid_stays_where_nobody_meets_it(self):
        def needle(x, y):
            return [[make.closed(np.array([(x, y), (x + 40, y), (x + 40, y + 0.1), (x, y + 0.1)]))]]

        def square(x):
            return [[make.square(x, 0, 100)]]

        # Alone; inside a feature of the other layer; across its border; over a needle of it; far off.
        mine = [
            needle(201, 51),
            needle(431, 31),
            needle(481, 71),
            needle(241, 151),
            needle(-999, 9),
        ]
        theirs = [
            needle(221, 91),
            needle(31, 33),
            needle(-19, 53),
            needle(261, 151),
            needle(2000, 9),
        ]
        a = make.layer("a", make.polygons([square(0), *mine]), ra=np.arange(6))
        b = make.layer("b", make.polygons([square(400), *theirs]), rb=np.arange(6))
        for given in ((a, b), (b, a)):
            for overlay in (polygene.union, polygene.contrast):
                result = overlay(*given, precision=10)
                summary = result.summary
                found = keys_of(result.layer.table)
                self.assertCountEqual(
                    found, [(k, None) for k in (0, 1, 5)] + [(None, k) for k in (0, 1, 5)]
                )
                for side in (summary.input, *summary.others):
                    self.assertEqual(side.fell.first, ["row 3", "row 4", "row 5"])
                whole = as_given(a.geometry, b.geometry)
                for parts in make.rows_of(result.layer.geometry):
                    self.assertIn(tuple(map(str, parts)), whole)
                balance = summary.balance
                self.assertEqual((balance.before, balance.outside), (10020.0, 10008.0))
                self.assertEqual(balance.other_only, 10008.0)

    def test_what_was_cut_fits_what_it_was_cut_by(self):
        """No hairlines: what lies inside OTHER has nothing outside it, nor the other way round."""
        for seed in range(many(150, 12)):
            rng = np.random.default_rng(seed)
            turn, size = rng.uniform(0, 7), rng.choice([1, 100])
            way = size * np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
            a, b = (
                make.coverage(3, 3, 30, rng)
                if rng.random() < 0.6
                else make.polygons([[[make.star(rng, 9, 60, rng.uniform(30, 70, 2))]]])
                for _ in range(2)
            )
            a, b, _ = layers(*(c.with_xy(c.xy @ way + 4e5) for c in (a, b)), rng)
            clip, both = polygene.clip(a, b).layer, polygene.intersect(a, b).layer
            rest, back = polygene.erase(a, b).layer, polygene.erase(b, a).layer
            for one, two in ((clip, b), (both, a), (both, b), (clip, a)):
                self.assertEqual(polygene.erase(one, two).layer.n_rows, 0, seed)
            for one, two in ((rest, b), (rest, both), (rest, back), (back, clip)):
                self.assertEqual(polygene.clip(one, two).layer.n_rows, 0, seed)
            for first, second in ((clip, rest), (rest, both)):
                left = polygene.erase(polygene.erase(a, first).layer, second).layer
                self.assertEqual(left.n_rows, 0, seed)

    def test_a_gap_thinner_than_the_grid_is_none(self):
        """But what is as thin and stands alone is there, in OTHER as in INPUT."""
        left, right, needle = (
            make.closed(np.array(ring, float))
            for ring in (
                [(0, 0), (5, 0), (5, 10), (0, 10)],
                [(5, 0), (10, 0), (10, 10), (5 + 1e-4, 10)],
                [(5, 0), (5 + 1e-4, 10), (5, 10)],
            )
        )
        field = make.layer("a", make.polygons([[[make.square(1, 1, 7)]]]), ra=[0])
        halves = make.layer("b", make.polygons([[[left]], [[right]]]), rb=[0, 1])
        self.assertEqual(polygene.erase(field, halves, precision=1e-4).layer.n_rows, 0)
        alone = make.layer("b", make.polygons([[[needle]]]), rb=[0])
        for overlay in (polygene.clip, polygene.intersect):
            self.assertEqual(overlay(field, alone, precision=1e-4).layer.n_rows, 1)
            self.assertEqual(overlay(alone, field, precision=1e-4).layer.n_rows, 1)

    def test_union_gives_what_one_clip_per_zone_would(self):
        """Shore zones by sectors: the pieces in both, against a clip for each sector."""
        rng = np.random.default_rng(4)
        shores = make.layer(
            "shores",
            make.polygons([[[make.star(rng, 12, 9, p)]] for p in rng.uniform(0, 80, (12, 2))]),
            shore=np.arange(12),
        )
        sectors = make.layer("sectors", make.coverage(4, 4, 20, rng), sector=np.arange(16))
        union = polygene.union(shores, sectors).layer
        both = np.asarray(union.table["shore"].is_valid()) & np.asarray(
            union.table["sector"].is_valid()
        )
        keys = zip(union.table["shore"].to_pylist(), union.table["sector"].to_pylist(), strict=True)
        found = {
            k: v for k, v, keep in zip(keys, row_areas(union.geometry), both, strict=True) if keep
        }
        wanted = {}
        for sector in range(16):
            clip = polygene.clip(shores, sectors.take(np.array([sector]))).layer
            for shore, size in zip(
                clip.table["shore"].to_pylist(), row_areas(clip.geometry), strict=True
            ):
                wanted[shore, sector] = size
        self.assertEqual(found.keys(), wanted.keys())
        for key, size in wanted.items():
            self.assertAlmostEqual(found[key], size, delta=1e-2)

    def test_ten_thousand_features_at_one_place(self):
        """300 of them: as many pieces as the standard demands, in one go."""
        rows = [[[make.square(k * 1e-3, 0, 100)]] for k in range(300)]
        result = polygene.union(make.layer("a", make.polygons(rows)))
        self.assertEqual(result.layer.table.column_names, ["piece", "features"])
        self.assertEqual(result.layer.table["features"].to_numpy().max(), 300)
        self.assertAlmostEqual(row_areas(result.layer.geometry).sum(), 300 * 10_000, delta=1)


class Nothing(unittest.TestCase):
    """An OTHER of nothing is no fault: it is told, and what comes out is what is right."""

    def test_all_of_input_comes_out_or_nothing_and_it_is_told(self):
        rng = np.random.default_rng(5)
        here, there = crs.parse("EPSG:32633"), crs.parse("EPSG:4326")
        inputs = [
            make.polygons([[[make.square(k, 0, 1)]] for k in range(2)]),
            make.lines([[np.array([(0, 0), (3, 2.0)])]]),
            make.points([np.array([(1, 1.0)])]),
        ]
        for own, family, n, system in some_of(
            itertools.product(inputs, Family, (0, 3), (here, there)), 4
        ):
            nothing = replace(GeometryColumn.nulls(n), family=family)
            other = make.layer("b", nothing, system, rb=np.arange(n))
            layer = make.layer(
                "a", own.with_xy(own.xy + (5e5, 8e6)), here, ra=np.arange(own.n_rows)
            )
            for name in ("clip", "erase", "intersect", "imprint", "union", "contrast", "supersede"):
                if own.family != Family.POLYGONS and name in ("union", "contrast", "supersede"):
                    continue
                found = getattr(polygene, name)(layer, other)
                with self.subTest(name, family=family, n=n):
                    wanted = 0 if name in ("clip", "intersect") else layer.n_rows
                    is_own = np.asarray(found.layer.table["ra"].is_valid())
                    self.assertEqual(is_own.sum(), wanted)
                    if wanted:
                        rows = make.rows_of(found.layer.take(is_own).geometry)
                        self.assertEqual(str(rows), str(make.rows_of(layer.geometry)))
                    self.assertIn(
                        "OTHER, layer 'b', has nothing to lay on", str(found.summary.notes)
                    )
        a, b, c = layers(*stars(rng), rng)
        for name in ("union", "contrast", "intersect", "supersede"):
            with self.subTest(name):
                overlay = getattr(polygene, name)
                empty = replace(make.layer("d", GeometryColumn.nulls(0)), table=c.table[:0])
                one, two = overlay(a, b, empty), overlay(a, empty, b)
                self.assertEqual(one.layer.n_rows, two.layer.n_rows)
                wanted = (
                    overlay(a, b).layer if name != "intersect" else one.layer.take(np.arange(0))
                )
                self.assertEqual(
                    str(make.rows_of(one.layer.geometry)), str(make.rows_of(wanted.geometry))
                )


class LinesAndPoints(unittest.TestCase):
    def test_lengths_add_up_and_rows_are_right(self):
        for rng, _, _, b in each(self, 4, steps=(1e-4,), kinds=(squares, stars, tangles)):
            rows = [[make.path(rng, 6, 100, 10)] for _ in range(4)]
            first = make.layer("a", make.lines(rows), ra=np.arange(4))
            second = make.layer("b", b, rb=np.arange(b.n_rows))
            erase, clip = polygene.erase(first, second), polygene.clip(first, second)
            total = row_lengths(first.geometry).sum()
            kept = [row_lengths(r.layer.geometry).sum() for r in (erase, clip)]
            self.assertAlmostEqual(sum(kept), total, delta=0.01)
            imprint = polygene.imprint(first, second).layer
            has_none = np.asarray(imprint.table["rb"].is_null())
            self.assertAlmostEqual(
                row_lengths(imprint.geometry)[has_none].sum(), kept[0], delta=0.01
            )
            intersect = polygene.intersect(first, second).layer
            wanted = {}
            for i, j in itertools.product(range(4), range(b.n_rows)):
                one = polygene.clip(first.take(np.array([i])), second.take(np.array([j]))).layer
                if one.n_rows:
                    wanted[i, j] = row_lengths(one.geometry)[0]
            found = dict(
                zip(keys_of(intersect.table), row_lengths(intersect.geometry), strict=True)
            )
            self.assertEqual(found.keys(), wanted.keys())
            for key, length in wanted.items():
                self.assertAlmostEqual(found[key], length, delta=0.01)

    def test_a_loop_cut_by_zones_has_no_start(self):
        """A closed line over two zones gives one piece for each, wherever it begins."""
        zones = make.layer(
            "z", make.polygons([[[make.square(0, 0, 10)]], [[make.square(10, 0, 10)]]]), rb=[0, 1]
        )
        ring = make.square(5, 2, 8)
        for shift in range(4):
            turned = np.concatenate([ring[shift:-1], ring[: shift + 1]])
            loop = make.layer("l", make.lines([[turned]]), ra=[0])
            result = polygene.intersect(loop, zones).layer
            self.assertEqual([len(row) for row in make.rows_of(result.geometry)], [1, 1])

    def test_points_on_shared_borders_are_in_both(self):
        zones = make.layer(
            "z", make.polygons([[[make.square(0, 0, 10)]], [[make.square(10, 0, 10)]]]), rb=[0, 1]
        )
        xy = np.array([(5, 5), (10, 5), (10, 0), (15, 15), (20, 10.0)])
        points = make.layer("p", make.points([[p] for p in xy]), ra=np.arange(5))
        found = keys_of(polygene.imprint(points, zones).layer.table)
        self.assertEqual(found, [(0, 0), (1, 0), (1, 1), (2, 0), (2, 1), (3, None), (4, 1)])
        self.assertEqual(polygene.erase(points, zones).layer.table["ra"].to_pylist(), [3])

    def test_heights_are_kept_or_said_to_be_lost(self):
        flat = make.layer("b", make.polygons([[[make.square(5, 5, 10)]]]))
        sloping = make.polygons([[[make.square(0, 0, 10)]]])
        sloping = make.layer("a", replace(sloping, z=sloping.xy[:, 0]))
        for overlay in (polygene.clip, polygene.erase, polygene.intersect, polygene.imprint):
            self.assertFalse(np.isnan(overlay(sloping, flat).layer.geometry.z).any())
        within = make.layer("w", make.polygons([[[make.square(3, 3, 2)]]]))  # none of its border
        for overlay in (polygene.clip, polygene.imprint):
            found = overlay(sloping, within).layer.geometry
            np.testing.assert_allclose(found.z[:5], 5.0)
        xy = np.array([(0, 0), (10, 10), (10, 0), (0, 10), (-5, 5), (0, 0.0)])
        bow = make.polygons([[[xy]]])
        crossed = make.layer("c", replace(bow, z=bow.xy[:, 0]))
        for result in (polygene.mend(crossed), polygene.erase(crossed, flat)):
            found = result.layer.geometry
            self.assertFalse(np.isnan(found.z).any())
            is_own = (found.xy[:, None] == xy[None]).all(axis=2).any(axis=1)
            self.assertGreaterEqual(is_own.sum(), 4)
            np.testing.assert_array_equal(found.z[is_own], found.xy[is_own, 0])
        lossy = (polygene.union(sloping, flat), polygene.supersede(sloping, flat))
        for result in (*lossy, polygene.dissolve(sloping)):
            self.assertIsNone(result.layer.geometry.z)
            self.assertRegex(" ".join(result.summary.notes), "Z values.* dropped")

    def test_layers_without_rows_or_geometry(self):
        some = make.layer("b", make.polygons([[[make.square(0, 0, 1)]], []]), rb=[0, 1])
        for rows in ([], [[], []]):
            bare = make.layer("a", make.polygons(rows), ra=np.arange(len(rows)))
            for overlay in (polygene.clip, polygene.erase, polygene.intersect, polygene.imprint):
                self.assertEqual(overlay(bare, some).layer.n_rows, 0)
            self.assertEqual(keys_of(polygene.union(bare, some).layer.table), [(None, 0)])
            self.assertEqual(polygene.union(bare).layer.n_rows, 0)
            self.assertEqual(polygene.supersede(bare, some).layer.n_rows, 2)
            self.assertEqual(polygene.dissolve(bare).layer.n_rows, min(1, len(rows)))

    def test_a_union_refuses_lines(self):
        lines = make.layer("l", make.lines([[np.zeros((2, 2))]]))
        zones = make.layer("z", make.polygons([[[make.square(0, 0, 1)]]]))
        for operation, reason in (
            (polygene.union, "imprint splits lines"),
            (polygene.supersede, "only polygons"),
        ):
            with self.assertRaisesRegex(DataError, reason):
                operation(lines, zones)


class Attributes(unittest.TestCase):
    def test_clashing_names_nulls_and_origins(self):
        a = make.layer(
            "beds", make.polygons([[[make.square(0, 0, 4)]]]), name=["x"], Zones_Name=[1]
        )
        b = replace(
            make.layer(
                "zones", make.polygons([[[make.square(2, 0, 4)]]]), Name=["y"], zones_name_2=[2.5]
            ),
            ids=np.array([77]),
        )
        table = polygene.union(a, b, origins=True).layer.table
        self.assertEqual(
            table.column_names,
            ["name", "Zones_Name", "zones_Name_3", "zones_name_2", "beds_origin", "zones_origin"],
        )
        self.assertEqual(
            sorted(map(str, zip(*table.to_pydict().values(), strict=True))),
            [
                "('x', 1, 'y', 2.5, 1, 77)",
                "('x', 1, None, None, 1, None)",
                "(None, None, 'y', 2.5, None, 77)",
            ],
        )

    def test_supersede_brings_fields_together(self):
        old = make.layer("old", make.polygons([[[make.square(0, 0, 4)]]]), code=["a"], n=[1])
        new = make.layer(
            "new", make.polygons([[[make.square(2, 0, 4)]]]), Code=["b"], n=["many"], by=["me"]
        )
        newer = make.layer("newer", make.polygons([[[make.square(3, 0, 4)]]]), code=["c"])
        result = polygene.supersede(old, newer, new).layer
        self.assertEqual(
            result.table.to_pydict(),
            {
                "code": ["a", "b", "c"],
                "n": [1, None, None],
                "new_n": [None, "many", None],
                "by": [None, "me", None],
            },
        )
        np.testing.assert_allclose(row_areas(result.geometry), [8, 4, 16])
        spot = make.layer("spot", make.points([[np.zeros(2)]]))
        with self.assertRaisesRegex(DataError, "'spot', holds points; only polygons can supersede"):
            polygene.supersede(old, new, spot)


class Dissolve(unittest.TestCase):
    def test_edges_as_long_as_each_other_on_one_line_in_any_order(self):
        """Which vertices stay on such a line hung on the order of rows."""
        rng = np.random.default_rng(5)
        bow = np.array([(0, 0), (4, 4), (4, 0), (0, 4), (0, 0)], float)
        column = make.polygons([[[bow + at]] for at in rng.integers(0, 40, (300, 2))])
        layer = make.layer("bows", column, g=np.arange(300) % 3)
        found = [
            make.rows_of(polygene.dissolve(layer.take(order), "g").layer.geometry)
            for order in (np.arange(300), *(rng.permutation(300) for _ in range(3)))
        ]
        for other in found[1:]:
            self.assertEqual(str(sorted(map(str, found[0]))), str(sorted(map(str, other))))

    def test_a_vertex_of_the_other_layer_stays_whoever_runs_along_there(self):
        """Whichever layer comes first."""
        boxes = {"a": [(0, 0, 40, 30), (10, 10, 30, 20)], "b": [(0, 0, 20, 10), (20, 0, 40, 10)]}
        a, b = (
            make.layer(
                name,
                make.polygons([
                    [[make.closed(np.array([(x, y), (u, y), (u, v), (x, v)], float))]]
                    for x, y, u, v in given
                ]),
                **{name: [1, 2]},
            )
            for name, given in boxes.items()
        )  # fmt: skip
        for one, other in ((a, b), (b, a)):
            found = polygene.union(one, other).layer
            alone = [
                k for k, row in enumerate(found.table.to_pylist())
                if (row["a"], row["b"]) == (1, None)
            ]  # fmt: skip
            xy = found.take(np.array(alone)).geometry.xy
            self.assertIn((20.0, 10.0), set(map(tuple, xy.tolist())))

    def test_zero_and_minus_zero_in_any_order(self):
        squares = [make.square(0, 0, 4), make.square(-4, 0, 4)]
        squares[1][squares[1] == 0] = -0.0
        layer = make.layer("two", make.polygons([[[ring]] for ring in squares]))
        found = [
            polygene.dissolve(layer.take(np.array(o))).layer.geometry.xy for o in ([0, 1], [1, 0])
        ]
        self.assertEqual(found[0].tobytes(), found[1].tobytes())

    def test_groups_cover_what_their_rows_do(self):
        n_checked = 0
        for rng, step, a, b in each(self, 6):
            layer = layers(a, b, rng)[0]
            for by in (["g"], []):
                result = polygene.dissolve(layer, by, precision=step).layer
                for parts in make.rows_of(result.geometry):
                    if tuple(map(str, parts)) not in as_given(a):
                        self.assertEqual(exact.faults(parts), [])
                        n_checked += 1
                if step > 1e-4:
                    continue
                mine, out = make.rows_of(a), make.rows_of(result.geometry)
                for x, y in rng.uniform(0, 100, (10, 2)):
                    groups = {
                        layer.table["g"][k].as_py() if by else None for k in rows_over(mine, x, y)
                    }
                    found = [
                        result.table["g"][k].as_py() if by else None for k in rows_over(out, x, y)
                    ]
                    self.assertCountEqual(found, groups)
        self.assertGreater(n_checked, many(80, 15))

    def test_a_clean_coverage_dissolves_without_a_trace(self):
        """No vertex is lost or moved but those inside; the outline has the cells' own coordinates."""
        cells = make.coverage(6, 6, 10, np.random.default_rng(1))
        (outline,) = make.rows_of(polygene.dissolve(make.layer("c", cells)).layer.geometry)
        self.assertEqual(len(outline), 1)
        self.assertEqual(len(outline[0]), 1)
        self.assertLessEqual(set(map(tuple, outline[0][0])), set(map(tuple, cells.xy)))

    def test_values_stay_only_where_the_group_agrees(self):
        rows = make.polygons([[[make.square(k, 0, 1)]] for k in range(6)])
        layer = make.layer(
            "x", rows, by=["a", "a", None, None, "b", "b"], same=[1, 1, 2, 2, None, None],
            some=["p", "q", "r", "r", "s", None],
        )  # fmt: skip
        result = polygene.dissolve(layer, ["by"])
        self.assertEqual(
            result.layer.table.to_pydict(),
            {"by": ["a", None, "b"], "same": [1, 2, None], "some": [None, "r", None]},
        )
        self.assertEqual(result.summary.disagreements, {"some": 2})

    def test_lines_and_points_are_gathered(self):
        points = make.layer(
            "p", make.points([[np.array([k, 0.0])] for k in range(4)]), g=[1, 2, 1, 2]
        )
        result = polygene.dissolve(points, ["g"]).layer
        self.assertEqual(
            make.rows_of(result.geometry), [[[[[0, 0]]], [[[2, 0]]]], [[[[1, 0]]], [[[3, 0]]]]]
        )


if __name__ == "__main__":
    unittest.main()
