"""Buffers of what lies over itself many deep: joined a few at a time, they are what they would be."""

import unittest
from unittest import mock

import numpy as np
import pyarrow as pa

import polygene
from polygene import crs
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.ops.places.buffer_degrees import grid_round
from polygene.plane import buffering, heaps
from polygene.plane.grid import Grid
from polygene.plane.offsets import Style
from polygene.plane.validity import invalid_rows
from tests.support.chance import many, some_of


def track(rng: np.random.Generator, n: int, step: float = 5.0) -> np.ndarray:
    return np.cumsum(rng.normal(size=(n, 2)) * step, axis=0)


def coast(rng: np.random.Generator, n: int, rough: float) -> np.ndarray:
    angle = np.arange(n) * 2 * np.pi / n
    reach = 300 * (1 + rng.uniform(-rough, rough, n))
    ring = np.stack([reach * np.cos(angle), reach * np.sin(angle)], axis=1)
    return np.concatenate([ring, ring[:1]])


def some_rows(rng: np.random.Generator) -> GeometryColumn:
    """Return clouds, tracks, some closed or with vertices twice, or coasts, some with a lake."""
    kind, n = rng.integers(3), int(rng.integers(1, 4))
    if kind == 0:
        clouds = [rng.normal(size=(int(rng.integers(1, 50)), 2)) * 30 for _ in range(n)]
        return GeometryColumn.from_rings([[[p[None]] for p in c] for c in clouds], Family.POINTS)
    if kind == 1:
        lines = []
        for _ in range(n):
            line = track(rng, int(rng.integers(2, 60)), float(rng.choice([1, 10])))
            line = np.round(line) if rng.random() < 0.3 else line
            line = np.concatenate([line, line[:1]]) if rng.random() < 0.3 else line
            line = np.repeat(line, 2, axis=0) if rng.random() < 0.2 else line
            lines.append([[line], [line[:1] + 3.0]] if rng.random() < 0.2 else [[line]])
        return GeometryColumn.from_rings(lines, Family.LINES)
    rings = [coast(rng, int(rng.integers(3, 70)), 0.2) for _ in range(n)]
    lake = [[r, 0.3 * r[::-1]] if rng.random() < 0.5 else [r] for r in rings]
    return GeometryColumn.from_rings([[r] for r in lake], Family.POLYGONS)


def off(points: np.ndarray, line: np.ndarray) -> np.ndarray:
    """Return how far points (n, 2) lie from a line of several vertices."""
    best = np.full(len(points), np.inf)
    for a, b in zip(line[:-1], line[1:], strict=True):
        way = b - a
        share = np.clip((points - a) @ way / (way @ way), 0, 1)
        best = np.minimum(best, np.hypot(*(points - a - share[:, None] * way).T))
    return best


def layer_of(column: GeometryColumn, code: str = "EPSG:32633") -> Layer:
    table = pa.table({"id": np.arange(column.n_rows)})
    return Layer("fixes", column, table, crs.parse(code))


def area(column: GeometryColumn) -> float:
    return float(polygene.measures.ring_areas(column.xy, column.ring_offsets).sum())


class Heaps(unittest.TestCase):
    def holds(self, column: GeometryColumn, points: np.ndarray) -> np.ndarray:
        found = polygene.join(layer_of(GeometryColumn.from_points(points)), layer_of(column))
        return np.asarray(found.layer.table["matches"]) > 0

    def test_the_same_as_in_one(self):
        """All rows cut into runs and all places heaps, against one arrangement for each row."""
        for seed in some_of(range(60)):
            rng = np.random.default_rng(seed)
            column = some_rows(rng)
            style = Style(str(rng.choice(["round", "flat", "square"])))
            distance = rng.choice([0.5, 5.0, 50.0, 300.0], column.n_rows)
            if column.family == Family.POLYGONS:
                distance = np.where(rng.random(column.n_rows) < 0.5, distance, -distance / 3)
            step = 10.0 ** -int(rng.integers(1, 5))
            grid = grid_round(column, distance, style, step)
            flat = buffering.buffered_rows(column, distance, style, grid)
            with (
                mock.patch.multiple(buffering, TURNS=-1.0, MANY=0, RUN=int(rng.integers(2, 9))),
                mock.patch.multiple(heaps, HEAP=1, FEW=int(rng.integers(2, 9))),
            ):
                piled = buffering.buffered_rows(column, distance, style, grid)
            self.assertFalse(invalid_rows(piled).any(), seed)
            about = Grid.over([c.extent() or (0, 0, 1, 1) for c in (flat, piled)], step)
            border = np.hypot(*np.diff(np.concatenate([flat.xy, piled.xy]), axis=0).T).sum()
            for a, b in ((flat, piled), (piled, flat)):
                self.assertLessEqual(
                    area(buffering.left_over(a, b, about)), 4 * step * border, seed
                )

    def test_who_comes_first_is_no_matter(self):
        rng = np.random.default_rng(5)
        fixes = track(rng, 900)
        for code, scale in (("EPSG:32633", 1.0), ("EPSG:4326", 1e-5)):
            found = []
            for order in (np.arange(900), rng.permutation(900), np.arange(900)[::-1]):
                column = GeometryColumn.from_points(fixes[order] * scale + 5)
                found.append(polygene.buffer(layer_of(column, code), "40m", dissolve=True).layer)
            self.assertLess(found[0].geometry.n_vertices, 900)
            for other in found[1:]:
                np.testing.assert_array_equal(found[0].geometry.xy, other.geometry.xy)

    def test_about_poles_and_the_meridian(self):
        """In degrees, of which a part lies on the other side, or round a pole: as far as it goes."""
        rng = np.random.default_rng(4)
        n = 150
        walk = np.cumsum(rng.normal(size=(n, 2)) * [2e-4, 1e-4], axis=0)
        over = np.stack([(walk[:, 0] + 360) % 360 - 180, 60 + walk[:, 1]], axis=1)
        # The last is one whose ring ended half a step of the grid beside where it began.
        lon, lat = rng.uniform(-180, 180, n), 90 - np.abs(rng.normal(size=n)) * 0.003
        polar = np.stack([np.append(lon, 59.99572073870), np.append(lat, 89.99991163904)], axis=1)
        for fixes in (over, polar):
            layer = layer_of(GeometryColumn.from_points(fixes), "EPSG:4326")
            each = polygene.buffer(layer, "300m")
            sizes = polygene.measures.row_areas(
                each.layer.geometry, polygene.measures.ruler_for(layer.crs)
            )
            np.testing.assert_allclose(sizes, np.pi * 300**2, rtol=0.01)
            whole = polygene.buffer(layer, "300m", dissolve=True).summary.area
            self.assertGreater(whole, sizes.max())
            self.assertLess(whole, sizes.sum() / 4)

    def test_by_distance(self):
        """Of a cloud, a track and coasts that grow and shrink: points near enough are in, no others."""
        rng = np.random.default_rng(8)
        fixes, path = track(rng, 2000), track(rng, 1200)
        shore = coast(rng, 1500, 0.02)
        cloud = polygene.buffer(layer_of(GeometryColumn.from_points(fixes)), 40.0, dissolve=True)
        lines = layer_of(GeometryColumn.from_rings([[[path]]], Family.LINES))
        land = GeometryColumn.from_rings([[[shore]]], Family.POLYGONS)
        asked = rng.uniform(-400, 400, (many(8_000, 3_000), 2))
        for column, far in ((lines.geometry, 40.0), (land, 60.0), (land, -60.0)):
            self.assertTrue(buffering._lie_over_themselves(column, np.array([far]), Style())[0])
        to_shore, on_land = off(asked, shore), self.holds(land, asked)
        inner = np.where(on_land, to_shore, -to_shore)
        for made, near, distance in (
            (cloud, np.hypot(*(asked[:, None] - fixes[None, ::1]).T).min(axis=0), 40.0),
            (polygene.buffer(lines, 40.0), off(asked, path), 40.0),
            (polygene.buffer(layer_of(land), 60.0), -inner, 60.0),
            (polygene.buffer(layer_of(land), -60.0), 60.0 - inner, 0.0),
        ):
            is_in = self.holds(made.layer.geometry, asked)
            slack = 0.006 * 60  # chords of arcs
            self.assertTrue(is_in[near < distance - slack].all())
            self.assertFalse(is_in[near > distance + slack].any())


if __name__ == "__main__":
    unittest.main()
