"""Exact sums, and that every proof of the engine fails where something is wrong."""

from __future__ import annotations

import random
import unittest
from dataclasses import replace

import numpy as np

import polygene
from polygene import crs
from polygene.errors import BalanceError, ProofError, ValidityError
from polygene.geometry import GeometryColumn
from polygene.ops.overlays.sampled import check_groups, check_overlay
from polygene.ops.proved import prove_valid
from polygene.plane import rules, sums
from polygene.plane.borders import outline
from polygene.plane.grid import Grid
from polygene.plane.overlay import overlay
from polygene.plane.proof import prove_pieces, prove_places, prove_rows, prove_steps
from polygene.plane.rings import Pieces, trace_rings
from polygene.plane.steps import steps_of
from polygene.plane.sums import Sums
from tests.support import generators as make
from tests.support.chance import some_of


def whole_numbers(found: Sums) -> list[int]:
    return [int(h) * 2**60 + int(k) for h, k in zip(*found, strict=True)]


class ExactSums(unittest.TestCase):
    def test_sums_of_groups_are_those_of_whole_numbers(self):
        rng = random.Random(3)
        values = [rng.randint(-(2**100), 2**100) for _ in range(500)]
        group = np.array([rng.randint(0, 6) for _ in values])
        found = Sums(
            np.array([v >> 60 for v in values]), np.array([v & (2**60 - 1) for v in values])
        ).by_group(group, np.arange(500), 8)
        wanted = [sum(v for v, g in zip(values, group, strict=True) if g == k) for k in range(8)]
        self.assertEqual(whole_numbers(found), wanted)
        np.testing.assert_allclose(found.to_float(), np.array(wanted, float), rtol=1e-15)

    def test_a_face_of_one_square_unit_beside_one_of_a_continent(self):
        """No digit is lost however far out: twice 1 is 2."""
        side = 4e6
        column = make.polygons([[[make.square(0, 0, side)]], [[make.square(side, 1e6, 1e-4)]]])
        grid = Grid.over([(0, 0, side + 1, side)], 1e-4)
        none = column.take(np.zeros(0, np.int64))
        plan = overlay(column, none, outline(none, grid), grid)
        faces = sums.of_faces(plan.arrangement)
        self.assertEqual(sorted(whole_numbers(faces)[1:]), [2, 2 * (4 * 10**10) ** 2])
        prove_rows(plan, faces)


class WhatIsWrongIsFound(unittest.TestCase):
    """Each proof holds for what the engine made, and fails when it is spoilt."""

    def setUp(self):
        rng = np.random.default_rng(4)
        self.a, self.b = make.coverage(3, 3, 30, rng), make.coverage(2, 2, 45, rng)
        grid = Grid.over([(-50, -50, 150, 150)], 1e-4)
        self.plan = overlay(self.a, self.b, outline(self.b, grid), grid)
        self.faces = sums.of_faces(self.plan.arrangement)

    def test_rows(self):
        prove_rows(self.plan, self.faces)
        labels = self.plan.arrangement.labels.copy()
        labels[0] = (labels[0] + 1) % 9
        spoilt = self.plan._replace(arrangement=self.plan.arrangement._replace(labels=labels))
        with self.assertRaisesRegex(BalanceError, "a row's faces and its borders"):
            prove_rows(spoilt, self.faces)
        outline_ = self.plan.own_outline
        moved = outline_._replace(
            x=outline_.x + np.where(np.arange(len(outline_.x)) == 3, 50000, 0)
        )
        with self.assertRaisesRegex(BalanceError, "where its borders were led"):
            prove_rows(self.plan._replace(own_outline=moved), self.faces)

    def test_pieces_and_places(self):
        face, row = self.plan.own_labels()
        arrangement = self.plan.arrangement
        rings = trace_rings(arrangement, Pieces.of_sorted(face, row, arrangement.n_faces, 9))
        wanted = self.faces.by_group(row, face, 9)
        keeps = np.ones(len(rings.halfedge), bool)
        prove_pieces(self.plan, rings, keeps, wanted)
        with self.assertRaisesRegex(BalanceError, "a piece and its faces"):
            prove_pieces(self.plan, rings, keeps, Sums(wanted.high, wanted.low ^ 1))
        keeps[5:8] = False
        with self.assertRaisesRegex(BalanceError, "without its strangers' nodes"):
            prove_pieces(self.plan, rings, keeps, wanted)
        prove_places(self.plan)
        xy = self.plan.node_xy.copy()
        xy[7, 0] += 2e-4
        with self.assertRaisesRegex(BalanceError, "1 nodes would be written beside"):
            prove_places(self.plan._replace(node_xy=xy))

    def test_steps_of_lines(self):
        path = make.lines([[np.array([(0, 0), (100, 80), (3, 90.0)])]])
        grid = Grid.over([(-50, -50, 150, 150)], 1e-4)
        plan = overlay(path, self.b, outline(self.b, grid), grid)
        steps = steps_of(plan)
        prove_steps(plan, steps)
        with self.assertRaises(BalanceError):
            prove_steps(plan, type(steps)(*(np.delete(c, 1) for c in steps)))

    def test_validity_and_samples(self):
        prove_valid(self.a, "test")
        bow = make.polygons([[[make.closed(np.array([(0, 0), (2, 2), (2, 0), (0, 2.0)]))]]])
        with self.assertRaisesRegex(ValidityError, "row 1 of what came out is invalid"):
            prove_valid(bow, "test")
        result = polygene.clip(
            make.layer("a", self.a, k=np.arange(9)), make.layer("b", self.b)
        ).layer
        own = np.asarray(result.table["k"])
        rows = np.stack([own, np.full(len(own), -1)], axis=1)
        columns = [self.a, self.b]
        self.assertGreater(check_overlay(columns, rules.CLIP, result.geometry, rows, 1e-4), 8)
        with self.assertRaisesRegex(ProofError, "clip: at "):
            check_overlay(columns, rules.CLIP, result.geometry, rows[::-1], 1e-4)
        with self.assertRaisesRegex(ProofError, "cover, where"):
            check_groups(self.a, np.arange(9) % 2, self.a.take(np.arange(2)), 1e-4, "dissolve")


class NationalData(unittest.TestCase):
    """Layers of countries against themselves from another source: nothing is refused, all adds up."""

    def test_whatever_the_other_source_did(self):
        places = {
            "EPSG:32633": (1e5, 5e6), "EPSG:3035": (3.5e6, 2.5e6), "EPSG:27700": (0, 0),
            "OGC:CRS84": (-10, 35),
        }  # fmt: skip
        for seed in some_of(range(12)):
            code = list(places)[seed % 4]
            rng = np.random.default_rng([seed, 9])
            is_degrees = code == "OGC:CRS84"
            width = rng.uniform(3, 40) if is_degrees else rng.uniform(3e5, 4e6)
            column = make.national(rng, 150, width, places[code])
            how = make.DISTURBANCES[seed // 3]
            by = 10.0 ** rng.integers(-4, 0) * (1e-5 if is_degrees else 1)
            other = make.disturbed(column, how, by, rng)
            system = crs.parse(code)
            a = make.layer("a", column, system, ka=np.arange(column.n_rows))
            b = make.layer("b", other, system, kb=np.arange(column.n_rows))
            with self.subTest(seed=seed, code=code, how=how, by=by):
                union, back = polygene.union(a, b), polygene.union(b, a)
                self.assertEqual(self.told(union.layer), self.told(back.layer))
                for operation in (polygene.intersect, polygene.imprint, polygene.erase):
                    balance = operation(a, b).summary.balance
                    self.assertLessEqual(abs(balance.difference), balance.bound)

    def told(self, layer) -> list[tuple[str, ...]]:
        """The rows, byte for byte, in an order of their own."""
        return sorted(
            (*map(str, keys), str(row))
            for *keys, row in zip(
                layer.table["ka"].to_pylist(), layer.table["kb"].to_pylist(),
                make.rows_of(layer.geometry), strict=True,
            )
        )  # fmt: skip


class Bounds(unittest.TestCase):
    def test_rows_of_a_column_cannot_be_written_to_by_chance(self):
        column: GeometryColumn = make.polygons([[[make.square(0, 0, 1)]]])
        with self.assertRaises(ValueError):
            column.row_bounds()[0] = 0
        self.assertEqual(replace(column, xy=column.xy + 1).row_bounds()[0].tolist(), [1, 1, 2, 2])


if __name__ == "__main__":
    unittest.main()
