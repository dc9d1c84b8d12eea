"""Maps: what is drawn where, classes, and what cannot be drawn."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import matplotlib.image
import numpy as np

from polygene.draw.classes import MOST_CLASSES, NULL, classes_of
from polygene.draw.maps import Look, MapPlan, draw
from polygene.errors import DataError, UnknownFieldError, UsageError
from tests.support import generators as make
from tests.support.cli import WithSample


def squares(n, **columns):
    boxes = make.polygons([[[make.square(20 * k, 0, 10)]] for k in range(n)])
    return make.layer("squares", boxes, **columns)


class Classes(unittest.TestCase):
    def test_by_value_by_breaks_and_nulls(self):
        kinds = classes_of(squares(4, k=["b", "a", None, "b"]), "k")
        self.assertEqual(kinds.names, ["a", "b", "(null)"])
        self.assertEqual(kinds.number.tolist(), [1, 0, 2, 1])
        self.assertEqual(kinds.colours[2], NULL)
        many = classes_of(squares(30, k=[f"v{k:02d}" for k in range(30)]), "k")
        self.assertEqual(len(many.names), MOST_CLASSES)
        self.assertEqual(many.names[-1], "21 others")
        graded = classes_of(squares(40, k=list(range(40))), "k", 4)
        self.assertEqual(np.bincount(graded.number).tolist(), [10, 10, 10, 10])
        equal = classes_of(squares(5, k=[0, 1, 2, 3, 100]), "k", 2, "equal")
        self.assertEqual(equal.number.tolist(), [0, 0, 0, 0, 1])
        nothing = classes_of(squares(2, k=[None, None]), "k")
        self.assertEqual(nothing.names, ["(null)"])
        with self.assertRaises(UnknownFieldError):
            classes_of(squares(1), "nope")


class Maps(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def test_colours_lie_where_the_features_do(self):
        path = self.folder / "a.png"
        layer = squares(2, k=["a", "b"])
        hole = make.layer(
            "ring", make.polygons([[[make.square(0, 15, 10), make.square(3, 18, 4)[::-1]]]])
        )
        draw(MapPlan([layer, hole], [Look("k"), Look()]), path)
        picture = (matplotlib.image.imread(path)[:, :, :3] * 255).astype(int)
        self.assertEqual(picture.shape[:2], (800, 1280))
        inside = picture[60:740, 45:950].reshape(-1, 3)
        colours, counts = np.unique(inside, axis=0, return_counts=True)
        large = colours[np.argsort(-counts)][:4].tolist()
        self.assertEqual(large[0], [255, 255, 255])
        areas = np.sort(counts)[::-1][1:3]
        self.assertLess(abs(areas[0] - areas[1]) / areas[0], 0.05)  # two squares of one size
        ring = counts[(np.abs(colours - (247, 243, 231)).sum(axis=1) < 12)].sum()
        self.assertAlmostEqual(ring / areas[0], 0.84, delta=0.06)  # a hole of 16 in 100

    def test_every_kind_of_picture_and_what_cannot_be(self):
        lines = make.layer("l", make.lines([[np.array([(0, 0), (30, 9.0)])]]))
        spots = make.layer("p", make.points([[np.array([5.0, 5.0])]]), t=["x"])
        for ending in (".png", ".svg", ".pdf"):
            path = self.folder / f"a{ending}"
            draw(
                MapPlan([squares(2), lines, spots], [Look(), Look(), Look(label="t")], "T", "C"),
                path,
            )
            self.assertGreater(path.stat().st_size, 2000)
        same = self.folder / "b.svg"
        draw(MapPlan([squares(2), lines, spots], [Look(), Look(), Look(label="t")], "T", "C"), same)
        self.assertEqual(same.read_bytes(), (self.folder / "a.svg").read_bytes())
        with self.assertRaisesRegex(UsageError, "no picture that is known"):
            draw(MapPlan([squares(1)], [Look()]), self.folder / "a.bmp")
        with self.assertRaisesRegex(DataError, "nothing to draw"):
            draw(MapPlan([squares(1).take(np.zeros(0, int))], [Look()]), self.folder / "c.png")


class Command(WithSample):
    def test_a_map_of_the_sample(self):
        line = [
            "draw",
            "tolva.gpkg#sectors",
            "tolva.gpkg#islands",
            "resurvey.geojson",
            "-o",
            "m.png",
        ]
        done = self.run_polygene(*line, "--colour-by", "district", "--label", "islands.name")
        self.assertEqual(done.code, 0, done.err)
        self.assertGreater((self.folder / "m.png").stat().st_size, 20_000)
        self.assertEqual(self.run_polygene(*line).code, 1)
        for code, more in ((1, ["--colour-by", "nope"]), (2, ["--hatch", "nope"])):
            done = self.run_polygene(*line, "--replace", *more)
            self.assertEqual((done.code, "Traceback" in done.err), (code, False), done.err)


if __name__ == "__main__":
    unittest.main()
