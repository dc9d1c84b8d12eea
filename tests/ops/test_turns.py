"""Longitudes that count from different meridians, as 0 to 360 beside -180 to 180: the same places."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

import polygene
from polygene import crs
from polygene.errors import DataError, ExpressionError
from polygene.geometry import Family, concatenate
from polygene.measures import row_areas
from polygene.ops.places.turns import within_a_turn
from polygene.pictures.together import on_one_map
from tests.support import exact
from tests.support import generators as make
from tests.support.chance import some_of

DEGREES = crs.parse("OGC:CRS84")
STEP = 1 / 64  # of coordinates: whole turns change none of their bits


def blobs(rng, n, at, spread):
    """Polygons of eight corners, some beside each other, about a longitude."""
    rows = []
    for _ in range(n):
        middle = np.array([at, 0]) + rng.integers(-spread, spread, 2) / (1, 4)
        ring = make.star(rng, 8, 9.0, middle)
        rows.append([[np.round(ring / STEP) * STEP]])
    return make.polygons(rows)


def turned(column, turns):
    """The same places with other longitudes: each row moved by whole turns (n_rows,)."""
    of = np.repeat(turns, np.diff(column.vertex_offsets_of_rows))
    return column.with_xy(column.xy + 360.0 * np.stack([of, np.zeros(len(of))], axis=1))


class Turns(unittest.TestCase):
    def test_overlays_are_those_of_layers_that_count_alike(self):
        """In whatever turn OTHER was drawn, row by row; only then may INPUT stay as it is."""
        n_moved = 0
        for seed in some_of(range(12)):
            rng = np.random.default_rng(seed)
            at = int(rng.choice((185, 200, 270, 340)))
            one = make.layer("one", blobs(rng, 8, at, 12), DEGREES, a=list(range(8)))
            column = blobs(rng, 8, at, 12)
            straight = make.layer("two", column, DEGREES, b=list(range(8)))
            other = replace(straight, geometry=turned(column, rng.integers(-2, 2, 8)))
            if one.geometry.extent()[0] < 0 or one.geometry.extent()[2] > 360:
                continue
            for operation in ("clip", "erase", "intersect", "union", "contrast", "supersede"):
                with self.subTest(seed=seed, operation=operation):
                    run = getattr(polygene, operation)
                    found, wanted = run(one, other), run(one, straight)
                    self.assertEqual(found.layer.table.to_pylist(), wanted.layer.table.to_pylist())
                    a, b = row_areas(found.layer.geometry), row_areas(wanted.layer.geometry)
                    np.testing.assert_allclose(a, b, rtol=1e-9, atol=1e-6)
                    for rings in make.rows_of(found.layer.geometry):
                        self.assertEqual(exact.faults(rings), [])
                    n_moved += sum(facts.turned for facts in found.summary.brought)
            near = [
                polygene.join(one, y, relation="nearest").layer.table.to_pylist()
                for y in (other, straight)
            ]
            self.assertEqual(*near)
        self.assertGreater(n_moved, 50)

    def test_boxes_and_written_geometry_choose_the_same_places(self):
        n_chosen = 0
        for seed in some_of(range(30)):
            rng = np.random.default_rng(seed)
            at = int(rng.choice((0, 90, 170, 185, 270)))
            column, numbers = blobs(rng, 12, at, 30), list(range(12))
            plain = make.layer("plain", column, None, k=numbers)
            layer = make.layer("l", turned(column, rng.integers(-1, 2, 12)), DEGREES, k=numbers)
            west, east = np.sort(rng.choice(np.arange(at - 30, at + 30), 2, replace=False)).tolist()
            wanted = polygene.subset(plain, box=(west, -4, east, 4)).layer.table["k"].to_pylist()
            n_chosen += len(wanted)
            for turn in (-360, 0, 360):
                box = (west + turn, -4, east + turn, 4)
                sides = ", ".join(map(str, box))
                for found in (
                    polygene.subset(layer, box=box),
                    polygene.subset(layer, f"S_INTERSECTS(geom, BBOX({sides}))"),
                    polygene.subset(layer, f"NOT S_DISJOINT(geom, BBOX({sides}))"),
                ):
                    self.assertEqual(found.layer.table["k"].to_pylist(), wanted, (seed, box))
        self.assertGreater(n_chosen, 10)
        pacific = make.layer(
            "p", make.points([np.array([(x, 0.0)]) for x in (10, 190, 350)]), DEGREES
        )
        for text, n in (
            ("S_WITHIN(geom, POLYGON((-175 -5, -165 -5, -165 5, -175 5, -175 -5)))", 1),
            ("S_EQUALS(geom, POINT(-170 0))", 1),
            ("S_INTERSECTS(geom, BBOX(-20, -5, 20, 5))", 2),
        ):
            self.assertEqual(polygene.subset(pacific, text).layer.n_rows, n, text)
        with self.assertRaisesRegex(ExpressionError, "the longitude from which the layer counts"):
            polygene.subset(
                pacific, "S_WITHIN(geom, POLYGON((-20 -5, 20 -5, 20 5, -20 5, -20 -5)))"
            )

    def test_a_comparison_is_of_places(self):
        rng = np.random.default_rng(3)
        column, numbers = blobs(rng, 9, 200, 12), list(range(9))
        one = make.layer("one", column, DEGREES, k=numbers)
        moved = column.take(np.array([0, *range(1, 8), 0]))  # the last lies where the first does
        two = make.layer("two", turned(moved, rng.integers(-1, 2, 9)), DEGREES, k=numbers)
        made = polygene.compare(one, two, "k").summary
        self.assertEqual((made.changes.same, made.changes.moved.count), (8, 1))
        self.assertIn(
            "two is compared with longitudes that begin where those of one do", made.notes[0]
        )

    def test_what_is_parted_at_one_meridian_is_joined_over_it(self):
        east, west = ((170.0, -5.0, 180.0, 5.0), (-180.0, -5.0, -170.0, 5.0))

        def ring(x0, y0, x1, y1):
            return np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0)])

        bay = make.layer("bay", make.polygons([[[ring(*east)], [ring(*west)]]]), DEGREES)
        sea = make.layer("sea", make.polygons([[[ring(160.0, -20.0, 200.0, 20.0)]]]), DEGREES)
        cut = polygene.clip(sea, bay).layer.geometry
        self.assertEqual((cut.n_parts, cut.extent()), (1, (170.0, -5.0, 190.0, 5.0)))
        back = polygene.clip(bay, sea).layer.geometry  # which counts as the bay does
        self.assertEqual((back.n_parts, back.extent()), (2, (-180.0, -5.0, 180.0, 5.0)))
        earth = make.polygons([[[ring(-180.0, -90.0, 180.0, -60.0)]]])
        found = within_a_turn(earth, DEGREES, 0.0)
        self.assertEqual((found.column.n_parts, found.column.extent()), (1, (0, -90, 360, -60)))
        self.assertEqual(row_areas(found.column).tolist(), row_areas(earth).tolist())

    def test_what_lies_along_a_parallel_is_there_too(self):
        """Alone, so that nothing makes its extent higher; on maps that end in it as well."""
        for rise in (0.0, 1e-12, 1e-10, 1e-6):
            line = make.lines([[np.array([(-10.0, 5.0), (10.0, 5.0 + rise)])]])
            found = within_a_turn(line, DEGREES, 0.0).column
            self.assertEqual((found.n_parts, found.extent()[::2]), (2, (0.0, 360.0)))
            over = make.layer("over", line.with_xy(line.xy + (180.0, 0.0)), DEGREES, k=[1])
            for code in ("EPSG:4326", "EPSG:3857", "EPSG:8857"):
                there = polygene.reproject(over, code).layer
                self.assertEqual(there.geometry.n_parts, 2, code)
                back = polygene.measure(polygene.reproject(there, DEGREES).layer, length="km")
                (length,) = back.layer.table.columns[-1].to_pylist()
                self.assertAlmostEqual(length, 2217.7, 0)

    def test_all_is_there_once_within_a_turn(self):
        """Of points, lines and areas: sizes stay, what lay within stays bit for bit."""
        for seed in some_of(range(20)):
            rng = np.random.default_rng(seed)
            column = concatenate([blobs(rng, 5, at, 20) for at in (-170, 0, 175, 350)])
            begin = float(rng.choice((-180, 0, 37.5)))
            found = within_a_turn(column, DEGREES, begin)
            low, _, high, _ = found.column.extent()
            self.assertTrue(begin <= low and high <= begin + 360)
            areas = row_areas(found.column)
            np.testing.assert_allclose(areas, row_areas(column), rtol=1e-9)
            self.assertTrue(found.is_moved.any() and not found.is_moved.all())
            for row in np.flatnonzero(~found.is_moved):
                np.testing.assert_array_equal(found.column.take([row]).xy, column.take([row]).xy)
            lines = replace(column, family=Family.LINES)
            parted = within_a_turn(lines, DEGREES, begin).column
            low, _, high, _ = parted.extent()
            self.assertTrue(begin <= low and high <= begin + 360)
            for own, other in ((lines, parted),):
                lengths = [
                    polygene.measure(make.layer("l", y, DEGREES), length="km") for y in (own, other)
                ]
                a, b = (y.layer.table.columns[0].to_pylist() for y in lengths)
                np.testing.assert_allclose(a, b, rtol=1e-6)
            points = make.points([[p] for p in column.xy])
            spots = within_a_turn(points, DEGREES, begin).column.xy
            self.assertEqual(((spots[:, 0] - column.xy[:, 0]) % 360).tolist(), [0.0] * len(spots))

    def test_on_a_map_they_lie_together(self):
        rng = np.random.default_rng(6)
        sea = make.layer("sea", blobs(rng, 4, 182, 4), DEGREES)
        park = make.layer("park", turned(sea.geometry, [-1] * 4), DEGREES)
        for layers in ([sea, park], [park, sea]):
            shown = on_one_map(layers, None)
            one, other = (y.geometry for y in shown.layers)
            self.assertIsNotNone(shown.plane)
            np.testing.assert_allclose(row_areas(one), row_areas(other), rtol=1e-6)
            np.testing.assert_allclose(one.row_bounds(), other.row_bounds(), atol=1e3)

    def test_what_goes_more_than_once_round_is_told_and_reprojected(self):
        rng = np.random.default_rng(4)
        world = concatenate([blobs(rng, 4, -150, 20), blobs(rng, 4, 184, 3)])
        world = make.layer("world", world, DEGREES, n=list(range(8)))
        park = make.layer("park", blobs(rng, 3, -176, 3), DEGREES)
        with self.assertRaisesRegex(DataError, "more than once round the earth.*OGC:CRS84 first"):
            polygene.clip(world, park)
        polygene.clip(world, make.layer("far", blobs(rng, 3, 20, 9), DEGREES))  # one longitude each
        # Two that are drawn alike beyond the meridian meet as they are drawn, where nothing else is.
        for north, is_told in ((60.0, False), (-25.0, True)):
            drawn = make.polygons(
                [[[make.square(-178.0, -20.0, 9.0)]], [[make.square(179.0, north, 11.0)]]]
            )
            wide = make.layer("wide", drawn, DEGREES)
            if is_told:
                with self.assertRaisesRegex(DataError, "from longitude -178 to 190"):
                    polygene.clip(wide, wide)
                continue
            alike = polygene.clip(wide, make.layer("alike", drawn, DEGREES))
            self.assertEqual((alike.layer.n_rows, alike.summary.brought), (2, []))
            np.testing.assert_array_equal(alike.layer.geometry.xy, drawn.xy)
        found = polygene.reproject(world, DEGREES)
        self.assertEqual(found.summary.turned, 4)
        self.assertLessEqual(np.abs(found.layer.geometry.xy[:, 0]).max(), 180)
        self.assertGreater(polygene.clip(found.layer, park).layer.n_rows, 3)
        east = make.layer("east", blobs(rng, 3, 200, 9), DEGREES)
        for layers, n in (([east, park], 1), ([east, east], 0), ([park, park], 0)):
            notes = polygene.merge(layers).summary.notes
            self.assertEqual(len([x for x in notes if "count on beyond" in x]), n, notes)


if __name__ == "__main__":
    unittest.main()
