"""Borders that nearly coincide: the snap, and slivers given away."""

from __future__ import annotations

import unittest

import numpy as np

import polygene
from polygene.crs import parse
from polygene.measures import PlaneRuler, row_areas, row_areas_and_lengths
from polygene.ops.overlays.slivers import widths
from polygene.ops.overlays.snap import snapped_onto
from tests.support import exact
from tests.support import generators as make
from tests.support.cases import borders, each
from tests.support.chance import many


def shaken(column, rng, by):
    """The same coverage with every place moved a little, the same for all that share it."""
    places, numbers = np.unique(column.xy, axis=0, return_inverse=True)
    return column.with_xy((places + rng.uniform(-by, by, places.shape))[numbers.reshape(-1)])


def with_middles(column, rng):
    """Half of the rings get vertices on the middle of their edges, which neighbours lack."""
    rows = []
    for ((points,),) in make.rows_of(column):
        ring = np.array(points, float)
        if rng.random() < 0.5:
            middles = np.round((ring[:-1] + ring[1:]) / 2, 4)
            ring = np.append(np.stack([ring[:-1], middles], 1).reshape(-1, 2), ring[:1], 0)
        rows.append([[ring]])
    return make.polygons(rows)


def thin_parts(layer, width):
    """How many parts are thinner than that."""
    sizes = row_areas_and_lengths(polygene.single_parts(layer).geometry, PlaneRuler())
    return int((widths(*sizes) < width).sum())


class Snap(unittest.TestCase):
    def cases(self, n=6):
        for seed in range(n):
            with self.subTest(seed=seed):
                rng = np.random.default_rng(seed)
                base = make.coverage(4, 3, 100, rng, detail=int(rng.integers(2, 5)))
                base = base.with_xy(np.round(base.xy / 2, 3) * 2)  # middles are on the grid too
                reach = float(rng.choice([1.0, 3.0, 6.0]))
                yield rng, reach, make.layer("mine", base), base

    def test_what_the_snap_comes_to_is_valid(self):
        """Invalid rows beyond the other layer's extent, but within the snap of it, are mended too."""
        bow = np.array([(0.0, 0), (4, 4), (4, 0), (0, 4), (0, 0)])
        square = make.square(4.4, 1, 2)
        for crs, unit, lat, snap in (
            (parse("EPSG:32633"), 1.0, 0.0, 0.5),
            (parse("EPSG:4326"), 1e-3, 0.0, "0.0005deg"),
            (parse("EPSG:4326"), 1e-3, 60.0, "0.0005deg"),
        ):
            odd, plain = (
                make.layer(name, make.polygons([[[ring * unit + (0, lat)]]]), crs)
                for name, ring in (("odd", bow), ("plain", square))
            )
            spots = make.layer("spots", make.points([[square[0] * unit + (0, lat)]]), crs)
            with self.subTest(crs=crs.name, lat=lat):
                for mine, other in ((plain, odd), (odd, plain), (spots, odd)):
                    done = polygene.imprint(mine, other, snap=snap)
                    self.assertGreater(done.summary.snap.changed, 0)

    def test_nothing_to_move_onto(self):
        """OTHER without geometry near, as from another CRS, leaves INPUT as it is."""
        mine = make.layer("mine", make.polygons([[[make.square(0, 0, 1)]]]), parse("EPSG:32633"))
        far = make.layer("far", make.polygons([[[make.square(60, 60, 1)]]]), parse("EPSG:4326"))
        self.assertEqual(polygene.erase(mine, far, snap=0.5).layer.n_rows, 1)

    def test_a_shaken_coverage_comes_back_without_slivers(self):
        for rng, reach, other, base in self.cases():
            mine = make.layer("mine", shaken(base, rng, 0.6 * reach), k=np.arange(base.n_rows))
            plain = polygene.imprint(mine, other)
            snapped = polygene.imprint(mine, other, snap=reach)
            self.assertGreater(plain.layer.n_rows, base.n_rows)
            self.assertEqual(snapped.layer.n_rows, base.n_rows)
            np.testing.assert_array_equal(
                np.unique(snapped.layer.geometry.xy, axis=0), np.unique(base.xy, axis=0)
            )
            facts = snapped.summary.snap
            self.assertEqual(facts.slivers_after, 0)
            self.assertGreater(facts.slivers_before, 0)
            self.assertLessEqual(facts.furthest, reach)

    def test_features_that_share_borders_share_them_afterwards(self):
        for rng, reach, other, base in self.cases():
            mine = make.layer("mine", with_middles(shaken(base, rng, 0.5 * reach), rng))
            other = make.layer("other", with_middles(base, rng))
            moved, _ = snapped_onto(mine, [other], reach)
            self.assertLess(polygene.union(moved).summary.balance.inside, 1e-2)
            joined = polygene.dissolve(moved).layer.geometry
            self.assertEqual((joined.n_parts, joined.n_rings), (1, 1))

    def test_corners_as_far_off_on_both_sides_of_a_border(self):
        """Whoever shares it goes to them in one order, and it is the same one in any order of rows."""
        rng = np.random.default_rng(5)
        n_shared = 0
        for _ in range(many(200, 30)):
            cells = []
            for x, y in np.ndindex(3, 3):
                ring = np.roll(make.square(10 * x, 10 * y, 10)[:-1], rng.integers(4), axis=0)
                cells.append([[make.closed(ring[:: rng.choice([1, -1])])]])
            needles = []
            for _ in range(3):
                x, y = rng.integers(1, 29), 10 * rng.integers(0, 4)
                for up in (1, -1):
                    tip = np.array([(x, y + up), (x + 0.5, y + 4 * up), (x - 0.5, y + 4 * up)])
                    needles.append([[make.closed(tip[:, :: rng.choice([1, -1])])]])
            mine, other = (make.layer("a", make.polygons(own)) for own in (cells, needles))
            moved, facts = snapped_onto(mine, [other], 1.0)
            order = rng.permutation(9)
            again, _ = snapped_onto(mine.take(order), [other.take(rng.permutation(6))], 1.0)
            found = borders(moved.geometry)
            self.assertEqual(borders(again.geometry), [found[k] for k in order])
            if not facts.tangled.count:
                self.assertEqual(polygene.union(moved).layer.n_rows, 9)
                n_shared += facts.moved + facts.added
        self.assertGreater(n_shared, many(500, 70))

    def test_what_is_far_stays_and_nothing_goes_further_than_told(self):
        for rng, _, mine, base in self.cases(3):
            far = make.layer("far", make.polygons([[[make.star(rng, 9, 60, (200, 150))]]]))
            moved, facts = snapped_onto(mine, [far], 5.0)
            self.assertLessEqual(facts.furthest, 5.0 * (1 + 1e-9))
            kept = np.isin(base.xy.view(complex), moved.geometry.xy.view(complex)).reshape(-1)
            away = np.hypot(*(base.xy - (200, 150)).T) > 66
            self.assertGreater(away.sum(), 0)
            self.assertTrue(kept[away].all())

    def test_lines_and_points_follow_too(self):
        border = make.layer("border", make.polygons([[[make.square(0, 0, 10)]]]))
        road = make.layer("road", make.lines([[np.array([(-5, 10.2), (5, 10.3), (9.8, 10.1)])]]))
        moved, _ = snapped_onto(road, [border], 0.5)
        np.testing.assert_array_equal(moved.geometry.xy, [(-5, 10.2), (0, 10), (5, 10), (10, 10)])
        spots = make.layer("spots", make.points([[np.array([10.4, 4.0])], [np.array([9, 20.0])]]))
        moved, facts = snapped_onto(spots, [border], 0.5)
        np.testing.assert_array_equal(moved.geometry.xy, [(10, 4), (9, 20)])
        self.assertEqual((facts.moved, facts.changed), (1, 1))

    def test_what_falls_together_is_named(self):
        small = make.polygons([[[make.square(0.1, 0.1, 0.2)]], [[make.square(3, 3, 1)]]])
        result = polygene.clip(
            make.layer("small", small), make.layer("big", make.polygons([[[make.square(0, 0, 9)]]])),
            snap=1.0,
        )  # fmt: skip
        self.assertEqual(result.summary.snap.fell.first, ["row 1"])
        self.assertEqual((result.layer.n_rows, result.summary.dropped), (1, 1))

    def test_what_a_coarse_grid_leaves_nothing_of_is_named(self):
        cells = make.coverage(2, 2, 1, np.random.default_rng(0))
        big = make.layer("big", make.polygons([[[make.square(-9, -9, 40)]]]))
        result = polygene.clip(make.layer("cells", cells), big, precision=100)
        self.assertEqual(result.summary.input.fell.count, 4)
        self.assertEqual(result.layer.n_rows, 0)


class Slivers(unittest.TestCase):
    def test_the_width_of_a_rectangle_is_its_shorter_side(self):
        long, short = np.array([100.0, 1e6, 5]), np.array([2.0, 1e-3, 5])
        np.testing.assert_allclose(widths(long * short, 2 * (long + short)), short, rtol=1e-9)

    def test_given_to_a_neighbour_and_what_is_covered_stays(self):
        """Only pieces that were cut go; what came out whole stays, however thin; counts add up."""
        for _, _, a, b in each(self, 3, steps=(1e-4,)):
            mine = make.layer("a", a, k=np.arange(a.n_rows))
            given = polygene.imprint(mine, make.layer("b", b), give_slivers=2.0)
            plain = polygene.imprint(mine, make.layer("b", b))
            facts, summary = given.summary.given_away, given.summary
            before, after = (polygene.dissolve(r.layer).summary.area for r in (plain, given))
            self.assertAlmostEqual(before, after, delta=1e-2)
            self.assertLessEqual(facts.count + facts.left, thin_parts(plain.layer, 2.0))
            self.assertEqual(given.layer.n_rows, plain.layer.n_rows - facts.rows)
            self.assertEqual(summary.out, given.layer.n_rows)
            self.assertEqual(summary.out, summary.both + summary.input_only)
            self.assertEqual(summary.whole + summary.cut + summary.dropped, a.n_rows)
            came = set(given.layer.table["k"].to_pylist())
            self.assertEqual(facts.gone.count, len(set(plain.layer.table["k"].to_pylist()) - came))
            for k, row in enumerate(make.rows_of(given.layer.geometry)):
                self.assertEqual(exact.faults(row), [], k)

    def test_what_no_border_cut_is_never_given_away(self):
        """A needle far off, and one beside the cut, come out as they were."""
        needles = [[[make.square(*at, 1) * (1, 0.01)]] for at in ((50, 0), (5, 300))]
        rows = [*needles, [[make.square(0, 3.01, 20)]]]
        layer = make.layer("a", make.polygons(rows), k=[0, 1, 2])
        other = make.layer("b", make.polygons([[[make.square(10, -50, 99)]]]))
        done = polygene.imprint(layer, other, give_slivers=1.0)
        self.assertEqual(sorted(done.layer.table["k"].to_pylist()), [0, 1, 2, 2])
        self.assertEqual((done.summary.given_away.count, done.summary.given_away.left), (0, 0))

    def test_the_longest_shared_border_wins_and_chains_follow(self):
        def box(x0, y0, x1, y1):
            return [[make.closed(np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1)], float))]]

        column = make.polygons([
            box(0, 0, 10, 10), box(10, 0, 10.1, 10), box(10.1, 0, 10.2, 10),
            box(10.2, 0, 20, 4), box(10.2, 4, 20, 10), box(50, 0, 50.1, 9),
        ])  # fmt: skip
        layer = make.layer("strips", column, k=np.arange(6))
        everywhere = make.layer("all", make.polygons([box(-1, -1, 99, 99)]))
        result = polygene.clip(layer, everywhere, give_slivers=0.5)
        self.assertEqual(result.layer.n_rows, 6)  # nothing was cut
        most = make.layer("most", make.polygons([box(-1, 1, 99, 99)]))
        result = polygene.clip(layer, most, give_slivers=0.5)
        self.assertEqual(result.layer.table["k"].to_pylist(), [0, 3, 4, 5])
        np.testing.assert_allclose(row_areas(result.layer.geometry), [90.9, 29.4, 59.7, 0.8])
        facts = result.summary.given_away
        self.assertEqual((facts.count, facts.left, facts.rows), (2, 1, 2))

    def test_of_neighbours_with_as_long_a_border_the_same_wins_in_any_order(self):
        """Squares over squares that lie a little aside: most strips have two neighbours alike."""
        rng = np.random.default_rng(3)
        n_given = 0
        for _ in range(many(60, 10)):
            first, second = (
                make.polygons([
                    [[make.square(at + 10 * x, at + 10 * y, 10)]]
                    for x, y in np.ndindex(3, 3) if rng.random() < 0.8
                ])
                for at in (0, rng.choice([-1, 0.5, 1]))
            )  # fmt: skip
            layers = (
                make.layer("a", first, ka=np.arange(first.n_rows)),
                make.layer("b", second, kb=np.arange(second.n_rows)),
            )
            again = [own.take(rng.permutation(own.n_rows)) for own in layers]
            one, two = (polygene.union(*own, give_slivers=1.1) for own in (layers, again))
            n_given += one.summary.given_away.count
            found = [
                zip(
                    y.table["ka"].to_pylist(),
                    y.table["kb"].to_pylist(),
                    borders(y.geometry),
                    strict=True,
                )
                for y in (one.layer, two.layer)
            ]
            self.assertCountEqual(*found)
        self.assertGreater(n_given, many(600, 90))


if __name__ == "__main__":
    unittest.main()
