"""Points that are told to be covered without noding, against the arrangement of all of them."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np

from polygene.geometry import Family, GeometryColumn, concatenate
from polygene.plane import covering, members, relating
from polygene.plane.borders import outline
from polygene.plane.covering import cover
from polygene.plane.grid import Grid
from polygene.plane.location import Locator
from polygene.plane.overlay import overlay
from polygene.plane.relating import relate
from tests.support import generators as make
from tests.support.chance import many, some_of


def points_about(rng, areas: GeometryColumn, step: float) -> GeometryColumn:
    """Anywhere, on borders and vertices, within a few units of them, and far outside; some empty."""
    low, high = areas.xy.min(axis=0), areas.xy.max(axis=0)
    wide = rng.uniform(low - 0.2 * (high - low), high + 0.2 * (high - low), (300, 2))
    at = rng.integers(0, areas.n_vertices - 1, 300)
    share = rng.choice([0.0, 0.5, 1.0, 0.3], (300, 1))
    on = areas.xy[at] + share * (areas.xy[at + 1] - areas.xy[at])
    off = on[:150] + rng.integers(-9, 10, (150, 2)) * step
    lined_up = np.stack([areas.xy[at, 0], areas.xy[rng.permutation(at), 1]], axis=1)
    xy = np.concatenate([wide, on, off, lined_up, high + [[0, 0], [step, 0]], low[None]])
    rows = np.repeat(np.arange(len(xy) + 1), np.where(np.arange(len(xy) + 1) % 17, 1, 2))
    steps, n_rows = np.arange(len(xy) + 1), len(rows) - 1
    found = GeometryColumn.from_points(xy)
    offsets = np.searchsorted(steps, rows[: n_rows + 1])
    return GeometryColumn(
        Family.POINTS, found.xy, steps, steps, offsets, np.zeros(n_rows, bool), is_multi=False
    )


class Covering(unittest.TestCase):
    def test_places_are_in_what_their_faces_are_in(self):
        """Asked of OTHER's rows without its arrangement, and of that; wherever both are told at all."""
        rng = np.random.default_rng(8)
        n_covered = 0
        for step in (1e-4, 0.5, 3.0) * 4:
            stars = [[[make.star(rng, 9, 30, rng.uniform(0, 100, 2)).round(1)]] for _ in range(12)]
            own, other = make.coverage(3, 2, 40, rng), make.polygons(stars)
            grid = Grid.over([own.extent(), other.extent()], step)
            plan = overlay(own, other, outline(other, grid), grid)
            xy = points_about(rng, other, step).xy
            is_near = cover(other, GeometryColumn.from_points(xy), grid).is_left
            faces = members.of_faces(plan)
            with mock.patch.object(Locator, "is_built", False):
                found = members.of_far_places(plan, faces, xy[~is_near])
                near = members.of_far_places(plan, faces, xy)
            x, y = grid.to_units(xy[~is_near])
            wanted = members.of_places(plan, faces, 2 * x, 2 * y)
            np.testing.assert_array_equal(found.offsets, wanted.offsets)
            np.testing.assert_array_equal(found.rows, wanted.rows)
            n_covered += len(found.rows)
            self.assertEqual(len(near.offsets), len(xy) + 1)
        self.assertGreater(n_covered, 100)

    def test_is_what_the_arrangement_says(self):
        """Pairs and matrices, in their order, both ways round; cells that touch and pile up."""
        rng = np.random.default_rng(4)
        n_far = 0
        for k in some_of(range(24)):
            areas = make.coverage(4, 4, 30.0, rng, 1 + k % 9)
            if k % 3 == 1:  # piled up
                areas = concatenate([areas, areas.with_xy(areas.xy * 0.7 + 11), areas])
            if k % 3 == 2:  # holes, parts, islands in lakes
                box = make.square
                lake = [[box(0, 0, 100), box(10, 10, 80)[::-1]], [box(20, 20, 60)]]
                areas = concatenate([areas, make.polygons([lake, [[box(-40, 50, 70)]]])])
            step = (1e-4, 0.1, 1.0)[k % 3]
            shift = (0.0, 5e5)[k % 2]
            areas = areas.with_xy(areas.xy + shift)
            points = points_about(rng, areas, step)
            grid = Grid.over([areas.extent(), points.extent()], step)
            pairs = [(areas, points), (points, areas)]
            made = [relate(*pair, grid) for pair in pairs]
            with mock.patch.object(covering, "MOST_ASKED", (0, 1)[k % 2]):  # parted again and again
                parted = [relate(*pair, grid) for pair in pairs]
            for a, b in zip([*made[0], *made[1]], [*parted[0], *parted[1]], strict=True):
                np.testing.assert_array_equal(a, b)
            with mock.patch.object(relating, "_are_points_and_areas", lambda *_: False):
                wanted = [relate(*pair, grid) for pair in pairs]
            for one, other in zip(made, wanted, strict=True):
                for a, b in zip(one, other, strict=True):
                    np.testing.assert_array_equal(a, b)
            n_far += len(covering.cover(areas, points, grid).point)
        self.assertGreater(n_far, many(3000, 100))

    def test_only_where_it_may(self):
        square = make.polygons([[[make.square(0, 0, 9)]]])
        crossed = make.polygons([[[make.closed(np.array([(0, 0), (9, 9), (9, 0), (0, 9.0)]))]]])
        spot = GeometryColumn.from_points(np.array([[3.0, 2.0]]))
        spots = make.points([[np.array([3.0, 2.0]), np.array([7.0, 2.0])]])
        asked = relating._are_points_and_areas
        self.assertTrue(asked(square, spot) and asked(spot, square))
        self.assertFalse(asked(crossed, spot) or asked(square, spots) or asked(spot, spot))
        nothing = make.polygons([[]])
        self.assertEqual(len(relate(nothing, spot, Grid(1e-4, 0, 0)).first), 0)
        self.assertEqual(
            len(relate(spot.take(np.zeros(0, int)), square, Grid(1e-4, 0, 0)).first), 0
        )


if __name__ == "__main__":
    unittest.main()
