"""Maps: what is drawn where, classes, and what cannot be drawn."""

from __future__ import annotations

import datetime
import itertools
import re
import tempfile
import unittest
import unittest.mock
import warnings
from dataclasses import replace
from pathlib import Path
from unittest import mock

import matplotlib.image
import numpy as np
import pyarrow as pa
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.text import Text

import polygene
from polygene import crs
from polygene.errors import DataError, UnknownFieldError, UsageError
from polygene.geometry import Family
from polygene.pictures import charts, insets, lettering, maps
from polygene.pictures.charts import draw_chart
from polygene.pictures.classes import MOST_CLASSES, NULL, Scheme, classes_of
from polygene.pictures.furniture import Entry, write_legend
from polygene.pictures.labels import Type, write_labels
from polygene.pictures.looks import Look, dressed
from polygene.pictures.maps import MapPlan, draw_map
from tests.support import generators as make
from tests.support.chance import some_of
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
        spots = make.points([[np.array([k, 0.0])] for k in range(30)])
        spots = make.layer("spots", spots, None, k=[f"v{k:02d}" for k in range(30)])
        many = classes_of(spots, "k")
        self.assertEqual(len(many.names), MOST_CLASSES)
        self.assertEqual(many.names[-1], "21 others")
        graded = classes_of(squares(40, k=list(range(40))), "k", 4)
        self.assertEqual(np.bincount(graded.number).tolist(), [10, 10, 10, 10])
        equal = classes_of(squares(5, k=[0, 1, 2, 3, 100]), "k", 2, "equal")
        self.assertEqual(equal.number.tolist(), [0, 0, 0, 0, 1])
        odd = [0.5, 1.5, np.nan, 2.5, np.inf, None, -np.inf, 3.5]
        for scheme in (None, classes_of(squares(8, k=odd), "k", 2).scheme):
            found = classes_of(squares(8, k=odd), "k", 2, scheme=scheme)
            self.assertEqual(found.names[2:], ["(no finite number)", "(null)"])
            self.assertEqual(found.number.tolist(), [0, 0, 2, 1, 2, 3, 2, 1])
            self.assertEqual(len(found.colours), 4)
        none = classes_of(squares(3, k=[np.nan, np.inf, -np.inf]), "k", 2)
        self.assertEqual(sorted(none.names), ["-inf", "inf", "nan"])
        nothing = classes_of(squares(2, k=[None, None]), "k")
        self.assertEqual(nothing.names, ["(null)"])
        with self.assertRaises(UnknownFieldError):
            classes_of(squares(1), "nope")

    def test_neighbours_of_many_values_have_unlike_colours(self):
        rng = np.random.default_rng(5)
        cells = make.coverage(8, 7, 10.0, rng)
        layer = make.layer("cells", cells, None, k=[f"v{k:02d}" for k in range(56)])
        found = classes_of(layer, "k")
        self.assertTrue(found.is_reused)
        self.assertEqual(found.names, layer.table["k"].to_pylist())
        self.assertLessEqual(len(set(found.colours)), 6)
        places = [{tuple(p) for p in np.array(ring)} for ((ring,),) in make.rows_of(cells)]
        pairs = [(a, b) for a in range(56) for b in range(a) if len(places[a] & places[b]) > 1]
        self.assertGreater(len(pairs), 90)
        for a, b in pairs:
            self.assertNotEqual(found.colours[a], found.colours[b])
        # Over each other, and with a border of which they have no vertices in common.
        large = [[[make.square(0, 0, 9)]], [[make.square(4, 4, 9)]]]
        small = [[[make.square(-1, k, 1)]] for k in range(1, 8)] + [[[make.square(13, 6, 1)]]]
        over = make.polygons([*large, *small, [[make.square(20, 20, 1)]]])
        colours = classes_of(make.layer("over", over, None, k=list("abcdefghijk")), "k").colours
        self.assertNotEqual(colours[0], colours[1])
        self.assertFalse({colours[0]} & set(colours[2:9]))
        self.assertNotEqual(colours[1], colours[9])
        self.assertLessEqual(len(set(colours)), 5)
        # Where hundreds lie over each other nothing is apart, and nobody waits for it to be told.
        heap = make.polygons([[[make.square(k, k, 900)]] for k in range(300)])
        heaped = make.layer("heap", heap, None, k=[f"h{k}" for k in range(300)])
        with unittest.mock.patch("polygene.pictures.classes.relate", side_effect=AssertionError):
            self.assertEqual(len(classes_of(heaped, "k").colours), 300)
        # What has no neighbours has several colours too.
        lone = make.polygons([[[make.square(9 * k, 0, 1)]] for k in range(20)])
        colours = classes_of(
            make.layer("lone", lone, None, k=list("abcdefghijklmnopqrst")), "k"
        ).colours
        self.assertEqual([colours.count(c) for c in set(colours)], [4] * 5)

    def test_fields_of_one_name_share_classes_if_they_are_of_one_kind(self):
        layers = [squares(2, k=k) for k in (["b", "a"], [3, 4], [4.0, -0.0], [True, False])]
        found = [one.classes for one in dressed(layers, [Look(colour_by="k")] * 4)]
        self.assertEqual(
            [f.names for f in found], [["a", "b"], *[["0", "3", "4"]] * 2, ["false", "true"]]
        )
        self.assertEqual(found[1].number.tolist() + found[2].number.tolist(), [1, 2, 2, 0])
        self.assertEqual(found[1].colours, found[2].colours)
        with self.assertRaisesRegex(UnknownFieldError, "nope"):
            dressed(layers, [Look(label="nope")] * 4)
        for other in (found[0], found[3]):
            self.assertFalse({*other.colours} & {*found[1].colours})

    def test_limits_are_round_and_do_not_overlap(self):
        rng = np.random.default_rng(22)
        for values in (rng.lognormal(9, 1, 200), rng.integers(-5, 60, 100), rng.normal(0, 1, 80) * 1e-3,
                       -rng.lognormal(3, 1, 50), rng.integers(8000, 12300, 60)):  # fmt: skip
            for breaks in ("quantile", "equal"):
                found = classes_of(squares(len(values), k=values), "k", 5, breaks)
                edges = np.array(found.scheme.breaks)
                self.assertTrue((np.diff(edges) > 0).all())
                self.assertTrue(edges[0] <= values.min() and edges[-1] >= values.max())
                for number in range(len(edges) - 1):  # each has its lower limit, the last both
                    own = values[found.number == number]
                    below = (
                        own <= edges[-1] if number == len(edges) - 2 else own < edges[number + 1]
                    )
                    self.assertTrue((own >= edges[number]).all() and below.all())
                self.assertFalse(any("e+" in name for name in found.names), found.names)
                if breaks == "quantile":
                    counts = np.bincount(found.number)
                    self.assertLess(counts.max(), 2 * len(values) / 5)
        # One value that is far off widens no class but its own.
        for sign in (1, -1):
            values = sign * np.array([-3e5, -1e-9, 0, 0.1, 0.2, 0.3, 5, 5, 5, 7, 1e12])
            edges = classes_of(squares(11, k=values), "k").scheme.breaks
            self.assertEqual({edges[0], edges[-1]}, {-3e5 * sign, 1e12 * sign})
        whole = classes_of(squares(40, k=list(range(40))), "k", 4)
        self.assertEqual(whole.names, ["0 to 9", "10 to 19", "20 to 29", "30 to 40"])

    def test_days_and_times_are_graded_as_numbers_are(self):
        rng = np.random.default_rng(4)
        days = np.datetime64("1965-03-01") + rng.integers(0, 9000, 80)
        times = days.astype("M8[ms]") + rng.integers(0, 86_400_000, 80)
        zoned = pa.array(times).cast(pa.timestamp("ms", tz="UTC"))
        for breaks in ("quantile", "equal"):
            found = classes_of(squares(80, k=pa.array(days)), "k", 4, breaks)
            self.assertEqual(found.names, classes_of(squares(80, k=zoned), "k", 4, breaks).names)
            ranges = [np.array(name.split(" to "), "M8[D]") for name in found.names]
            for number, (first, last) in enumerate(ranges):
                own = days[found.number == number]
                self.assertTrue((own >= first).all() and (own <= last).all())
            self.assertEqual((ranges[0][0], ranges[-1][1]), (days.min(), days.max()))
            for (_, before), (after, _) in itertools.pairwise(ranges):
                self.assertEqual(after - before, np.timedelta64(1, "D"))
        years = pa.array([datetime.date(y, 6, 5) for y in range(2001, 2011)])
        told = classes_of(squares(10, k=years), "k", 5)
        self.assertEqual(told.names[1], "2003-01-01 to 2004-12-31")  # whole years where they do
        few = classes_of(squares(4, k=pa.array(days[:4])), "k")
        self.assertEqual(len(few.names), 4)
        later = classes_of(squares(2, k=pa.array(days[:2])), "k", scheme=found.scheme)
        self.assertEqual(later.number.tolist(), found.number[:2].tolist())
        for wrong in (squares(2, k=[1, 2]), squares(2, k=["a", "b"])):
            with self.assertRaisesRegex(UsageError, "breaks 'k' by days"):
                classes_of(wrong, "k", scheme=found.scheme)
        with self.assertRaisesRegex(UsageError, "by numbers"):
            numbers = classes_of(squares(40, k=list(range(40))), "k", 4).scheme
            classes_of(squares(2, k=pa.array(days[:2])), "k", scheme=numbers)
        with tempfile.TemporaryDirectory() as place:
            layer, sheet = squares(80, k=pa.array(days)), Path(place, "d.yaml")
            first, again = Path(place, "a.svg"), Path(place, "b.svg")
            polygene.draw([layer], first, colour_by=["k"], keep_style=sheet)
            self.assertRegex(sheet.read_text(), r"- '?19\d\d-\d\d-\d\d'?\n")
            polygene.draw([layer], again, style=sheet)
            self.assertEqual(first.read_bytes(), again.read_bytes())

    def test_a_scheme_is_kept_to(self):
        scheme = Scheme({"a": "#111111", "b": "#222222"}, null="#333333", others="#444444")
        found = classes_of(squares(4, k=["b", None, "x", "a"]), "k", scheme=scheme)
        self.assertEqual([found.colours[k][1] for k in found.number], ["2", "3", "4", "1"])
        graded = classes_of(squares(40, k=list(range(40))), "k", 4).scheme
        later = classes_of(squares(4, k=[-1.0, 0.0, 39.0, 12.0]), "k", scheme=graded)
        self.assertEqual(later.number.tolist(), [4, 0, 3, 1])
        self.assertEqual(later.names[4], "(others)")
        with self.assertRaisesRegex(UsageError, "breaks 'k' by numbers"):
            classes_of(squares(1, k=["a"]), "k", scheme=graded)


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
        draw_map(MapPlan([layer, hole], [Look("k"), Look()]), path)
        picture = (matplotlib.image.imread(path)[:, :, :3] * 255).astype(int)
        self.assertEqual(picture.shape[:2], (800, 1280))
        inside = picture[60:740, 45:950].reshape(-1, 3)
        colours, counts = np.unique(inside, axis=0, return_counts=True)
        large = colours[np.argsort(-counts)][:4].tolist()
        self.assertEqual(large[0], [255, 255, 255])
        areas = np.sort(counts)[::-1][1:3]
        self.assertLess(abs(areas[0] - areas[1]) / areas[0], 0.05)  # two squares of one size
        ring = counts[(np.abs(colours - (236, 234, 242)).sum(axis=1) < 12)].sum()
        self.assertAlmostEqual(ring / areas[0], 0.84, delta=0.06)  # a hole of 16 in 100

    def test_a_single_point_has_a_map(self):
        for crs_, at in (("EPSG:32633", (500_000.0, 6_600_000.0)), ("EPSG:4326", (12.0, 60.0))):
            spot = make.layer("p", make.points([[np.array(at)]]), crs.parse(crs_), t=["x"])
            out = self.folder / f"{at[0]:.0f}.png"
            self.assertEqual(polygene.draw(spot, out, label="t").features, 1)
            picture = (matplotlib.image.imread(out)[:, :, :3] * 255).astype(int)
            blue = (np.abs(picture[60:740, 45:950] - (43, 106, 143)).sum(axis=2) < 30).nonzero()
            self.assertGreater(len(blue[0]), 10)
            middle = [axis.mean() for axis in blue]
            self.assertLess(np.hypot(middle[0] + 60 - 408, middle[1] + 45 - 499), 6)

    def test_every_kind_of_picture_and_what_cannot_be(self):
        lines = make.layer("l", make.lines([[np.array([(0, 0), (30, 9.0)])]]))
        spots = make.layer("p", make.points([[np.array([5.0, 5.0])]]), t=["x"])
        for ending in (".png", ".svg", ".pdf"):
            path = self.folder / f"a{ending}"
            draw_map(
                MapPlan([squares(2), lines, spots], [Look(), Look(), Look(label="t")], "T", "C"),
                path,
            )
            self.assertGreater(path.stat().st_size, 2000)
        same = self.folder / "b.svg"
        draw_map(
            MapPlan([squares(2), lines, spots], [Look(), Look(), Look(label="t")], "T", "C"), same
        )
        self.assertEqual(same.read_bytes(), (self.folder / "a.svg").read_bytes())
        with self.assertRaisesRegex(UsageError, "no picture that is known"):
            draw_map(MapPlan([squares(1)], [Look()]), self.folder / "a.bmp")
        with self.assertRaisesRegex(DataError, "nothing to draw"):
            draw_map(MapPlan([squares(1).take(np.zeros(0, int))], [Look()]), self.folder / "c.png")


class Placed(unittest.TestCase):
    """Where labels, insets and legends stand, asked of what Matplotlib was given to draw."""

    def axes(self, size=(1000.0, 700.0)):
        axes = Figure(figsize=(10, 7)).add_axes((0, 0, 1, 1))
        axes.set_xlim(0, size[0])
        axes.set_ylim(0, size[1])
        return axes

    def test_no_border_crosses_a_label_where_there_is_room(self):
        rng = np.random.default_rng(11)
        type_ = Type(letter=6.0, line=14.0)
        cells = make.coverage(6, 4, 165.0, rng)
        dents = make.polygons(
            [
                [[make.star(rng, 9, 110.0, (150 + 230 * k, 150 + 200 * j))]]
                for k in range(4)
                for j in range(3)
            ]
        )
        for column, least in ((cells, 24), (dents, 6)):
            layer = make.layer("x", column, None, t=[f"No {k}" for k in range(column.n_rows)])
            axes, taken = self.axes(), []
            write_labels(axes, layer, "t", type_, taken)
            n_clear = 0
            for text, box in zip(axes.texts, taken, strict=True):
                row = int(text.get_text().split()[1])
                rings = make.rows_of(column)[row][0]
                edges = [edge for ring in rings for edge in itertools.pairwise(ring)]
                n_clear += not any(meets(a, b, box) for a, b in edges)
            self.assertGreaterEqual(n_clear, least)
            for k, one in enumerate(taken):
                for other in taken[:k]:
                    self.assertTrue(
                        one[0] >= other[2] or other[0] >= one[2]
                        or one[1] >= other[3] or other[1] >= one[3]
                    )  # fmt: skip

    def test_of_a_part_the_features_that_are_seen_are_labelled_within_it(self):
        layer = make.layer(
            "x", make.polygons([[[make.square(-2000, -50, 2400)]]]), None, t=["Wide"]
        )
        axes, taken = self.axes(), []
        self.assertEqual(write_labels(axes, layer, "t", Type(6.0, 14.0), taken), [])
        ((x0, y0, x1, y1),) = taken
        self.assertTrue(0 <= x0 < x1 <= 400 and 0 <= y0 < y1 <= 700)

    def test_a_crowd_in_a_corner_has_an_inset(self):
        rng = np.random.default_rng(3)
        near = [(rng.uniform(0, 60), rng.uniform(0, 60)) for _ in range(30)]
        view = (-50.0, -50.0, 1050.0, 850.0)
        crowded = make.layer(
            "c", make.polygons([[[make.square(*at, 4)]] for at in [*near, (990, 790)]])
        )
        box = insets.crowd([crowded], view)
        self.assertLess(max(box[2] - box[0], box[3] - box[1]), 150)
        bounds = crowded.geometry.row_bounds()[:30]
        self.assertTrue((bounds[:, :2] >= box[:2]).all() and (bounds[:, 2:] <= box[2:]).all())
        part = insets.emptiest([crowded], view, box)
        self.assertGreater(max(part[:2]), 0.1)  # the crowd is at the lower left, the inset is not
        spread = make.layer(
            "s", make.polygons([[[make.square(*p, 4)]] for p in rng.uniform(0, 800, (40, 2))])
        )
        self.assertIsNone(insets.crowd([spread], view))
        self.assertIsNone(insets.crowd([crowded.take(np.arange(5))], view))
        # In one place, and in one line.
        column = make.points([[np.array([7.0, y])] for y in (*range(0, 40, 2), 800)])
        x0, y0, x1, y1 = insets.crowd([make.layer("l", column)], view)
        self.assertTrue(x0 < 7 < x1 and y0 <= 0 and 38 <= y1 < 100)
        pile = make.points([[np.array([7.0, 7.0])]] * 20 + [[np.array([900.0, 7.0])]])
        self.assertIsNone(insets.crowd([make.layer("p", pile)], view))

    def test_the_scale_bar_hides_no_points_that_it_need_not(self):
        def dark(where):
            """How many pixels of the bar's ink there are where it would be."""
            column = make.points([[np.array(p)] for p in [(25.0, 0.0), (50.0, 55.0), where]])
            polygene.draw(make.layer("p", column), path, replace=True)
            rows = matplotlib.image.imread(path)[705:745, :, :3]
            ink = (rows.max(axis=2) < 0.2).sum(axis=0)
            return int(ink[40:300].sum()) > 100, int(ink[700:955].sum()) > 100

        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "p.png"
            for where, wanted in (((30.0, 0.0), (True, False)), ((0.0, 0.1), (False, True))):
                self.assertEqual(dark(where), wanted, where)

    def test_a_legend_keeps_to_the_picture_and_tells_the_unit(self):
        figure = Figure(figsize=(12.8, 8))
        entries = [Entry("x, by k", is_heading=True)]
        entries += [Entry(f"class {k}", Family.POLYGONS, "#2b6a8f", Look()) for k in range(60)]
        write_legend(figure, entries, 0.77)
        lefts = {round(text.get_position()[0], 4) for text in figure.texts}
        self.assertEqual(
            len(lefts), 2
        )  # headings and remarks at the left, names beside their signs
        self.assertGreater(min(text.get_position()[1] for text in figure.texts), 0.02)
        left_out = 60 - sum(text.get_text().startswith("class") for text in figure.texts)
        self.assertEqual(figure.texts[-1].get_text(), f"and {left_out} more")
        layer = squares(40, area_ha=np.arange(40.0), depth=np.arange(40.0))
        of_name, of_sheet, of_none = dressed(
            [layer] * 3, [Look("area_ha"), Look("depth", unit="m"), Look("depth")]
        )
        titles = [own.title for own in (of_name, of_sheet, of_none)]
        self.assertEqual(titles, ["area_ha (ha)", "depth (m)", "depth"])

    def test_texts_are_as_they_are_and_keep_to_the_picture(self):
        """No formula, no letter that turns the line, none beyond the edge; what is cut ends in dots."""
        kinds = [
            "costs $5 and $6",
            "$\\frac{1}",
            "W" * 90,
            "i" * 90,
            "\u202eabc",
            "two\nlines",
            "a_b^c",
        ]
        layer = squares(len(kinds), kind=kinds, size=[0.1 + 0.2, True, 3, 4, 5, 6, 7])
        plan = MapPlan(
            [layer],
            [Look("kind", "size")],
            "T $x$ " + 80 * "W ",
            "© $y$ " + "Office for the Sea " * 40,
        )
        figures: list[Figure] = []
        with (
            tempfile.TemporaryDirectory() as folder,
            mock.patch.object(lettering, "save", lambda figure, *_: figures.append(figure) or []),
            mock.patch.object(maps, "save", lambda figure, *_: figures.append(figure) or []),
        ):
            notes = draw_map(plan, Path(folder) / "a.png")
        (figure,) = figures
        renderer = FigureCanvasAgg(figure).get_renderer()
        texts = [own for own in figure.findobj(Text) if own.get_text()]
        for own in texts:
            self.assertFalse(own.get_parse_math())
            extent = own.get_window_extent(renderer)
            self.assertLessEqual(extent.x1, renderer.width, own.get_text())
        written = [own.get_text() for own in texts]
        for text in (
            "costs $5 and $6  (1)",
            "$\\frac{1}  (1)",
            "\\u202eabc  (1)",
            "two lines  (1)",
            "0.3",
        ):
            self.assertIn(text, written)
        self.assertEqual(sum(text.endswith("…  (1)") for text in written), 2)
        self.assertIn("no CRS", written, "the CRS is not cut for the credit")
        self.assertTrue(any("the credit is longer" in note for note in notes), notes)

    def test_letters_that_no_font_has_are_told(self):
        layer = squares(1, name=["\U0001fbf0 \u65e5 ü"])
        with tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
            warnings.simplefilter("error")
            with mock.patch.object(lettering, "_NO_TEXT", tuple("ABCDEFGHIJKLMNOPQRSTUVWXYZcdms")):
                notes = draw_map(MapPlan([layer], [Look(label="name")]), Path(folder) / "a.png")
        self.assertIn("2 letters of the texts", " ".join(notes))

    def test_layers_without_classes_differ_from_classes_and_each_other(self):
        layer = squares(40, k=np.arange(40.0))
        lines = make.layer("l", make.lines([[np.array([(0, 0), (30, 9.0)])]]))
        found = dressed(
            [layer, layer, layer, lines, lines], [Look("k"), Look(), Look(), Look(), Look()]
        )
        own = [one.colour for one in found[1:]]
        self.assertEqual(len(set(own)), 4)
        self.assertFalse(set(own) & set(found[0].classes.colours))


def meets(a, b, box) -> bool:
    """Whether an edge has a point in the inside of a box, tried in steps much finer than the box."""
    steps = np.linspace(0, 1, 400)[:, None]
    points = np.array(a) + steps * (np.array(b) - np.array(a))
    inside = (points > np.array(box[:2]) + 1e-9) & (points < np.array(box[2:]) - 1e-9)
    return bool(inside.all(axis=1).any())


class Command(WithSample):
    in_process = True

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

    def test_two_maps_beside_each_other_and_looks_kept(self):
        done = self.run_polygene(
            "draw", "tolva.gpkg#sectors", "tolva.gpkg#beds_marram", "--colour-by",
            "sectors.district_name", "--colour-by", "beds_marram.species", "--beside",
            "tolva.gpkg#islands", "--keep-style", "looks.yaml", "-o", "two.png",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        picture = (matplotlib.image.imread(self.folder / "two.png")[:, :, :3] * 255).round()
        halves = picture[80:750, 45:530], picture[80:750, 560:1040]
        blue = np.array([43, 106, 143])
        has_blue = [bool((np.abs(h - blue).sum(axis=2) < 80).any()) for h in halves]
        self.assertEqual(has_blue, [True, False])
        again = self.run_polygene(
            "draw", "tolva.gpkg#beds_marram", "--style", "looks.yaml", "--keep-style", "more.yaml",
            "-o", "one.svg",
        )  # fmt: skip
        self.assertEqual(again.code, 0, again.err)
        first, more = ((self.folder / f).read_text() for f in ("looks.yaml", "more.yaml"))
        species = first[first.index("  beds_marram:") : first.index("  islands")]
        self.assertIn(species, more)
        for old, new, reason in [
            ("others: ", "other: ", "line 11: the look of a layer has no 'other'"),
            ("'#c9c6c0'", "blu", "line 12: 'blu' is no colour"),
            ("style sheet: 1", "style sheet: 2", "does not begin with style sheet: 1"),
            ("    others: ", "    hatch: maybe\n    others: ", "'hatch' is true or false"),
            ("    others: ", "    label: [name]\n    others: ", "line 11: 'label' has one value"),
        ]:
            (self.folder / "looks.yaml").write_text(first.replace(old, new, 1))
            bad = self.run_polygene(
                "draw", "tolva.gpkg#sectors", "--style", "looks.yaml", "-o", "bad.png"
            )
            self.assertEqual(bad.code, 2)
            self.assertIn(reason, bad.words)

    def test_nothing_and_what_is_far_off_have_a_place_on_a_map_too(self):
        out, degrees = self.folder / "m.svg", crs.parse("OGC:CRS84")
        none = make.layer("none", make.lines([]), degrees, k=[])
        near = make.layer("near", make.points([[np.array([10.0, 50.0])]]), degrees, k=["a"])
        # About the place on the other side of the earth, which has no one place on a plane.
        ring = make.closed(np.array([(-171, -51), (-169, -51), (-169, -49), (-171, -49)], float))
        far = make.layer("far", make.polygons([[[ring]]]), degrees, k=["b"])
        for other, is_on_plane in ((none, True), (far, False)):
            layers = [near, other]
            done = polygene.draw(
                layers, out, colour_by=["k"], label=[f"{other.name}.k"], replace=True
            )
            told = " ".join(done.notes)
            self.assertEqual("equal-area plane" in told, is_on_plane, told)

    def test_looks_that_were_kept_give_the_same_map(self):
        many = [f"v{k:02d}" for k in range(15)]
        columns = (many, [*many[:-1], None], [-0.0, 0.0, 1.5] * 5, [k**2 for k in range(15)])
        areas = [squares(15, k=column) for column in columns]
        dots = make.points([[np.array([20.0 * k, 0])] for k in range(15)])
        names = ("first", "again")
        for layer in some_of((*areas, *(replace(area, geometry=dots) for area in areas))):
            first, again = (self.folder / f"{name}.png" for name in names)
            sheet = self.folder / "k.yaml"
            polygene.draw([layer], first, colour_by=["k"], keep_style=sheet, replace=True)
            polygene.draw([layer], again, style=sheet, replace=True)
            self.assertEqual(first.read_bytes(), again.read_bytes(), sheet.read_text())

    def test_a_chart_of_a_tally(self):
        words = [
            "tally",
            "tolva.gpkg#sectors",
            "--by",
            "district",
            "--across",
            "no_take",
            "--chart",
        ]
        done = self.run_polygene(*words, "c.svg", "--title", "Sectors")
        self.assertEqual(done.code, 0, done.err)
        text = (self.folder / "c.svg").read_text()
        bars = re.findall(r'<g id="patch_', text)
        self.assertGreater(len(bars), 9)
        self.assertEqual(self.run_polygene(*words, "c.svg", "--out", "c.csv").code, 1)
        self.assertFalse((self.folder / "c.csv").exists())
        self.assertEqual(self.run_polygene(*words, "c.txt").code, 2)
        none = self.run_polygene(*words, "d.png", "--where", "no_take IS NULL", "--out", "d.csv")
        self.assertIn("nothing to draw", none.words)
        self.assertEqual([p.name for p in self.folder.glob("d.*")], [])
        whole = self.run_polygene("tally", "tolva.gpkg#sectors", "--chart", "e.svg")
        self.assertEqual(whole.code, 0, whole.err)

    def test_a_chart_of_the_least_and_the_largest_numbers(self):
        values = [5.0, 0.004, -2.5, 3e299, 1e308, np.inf, np.nan, None]
        body = pa.table({"k": list("abcdefgh"), "v": values, "w": [None] * 7 + [7.0]})
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            told = draw_chart(body, 1, "Most", "", self.folder / "c.svg", ".svg")
        self.assertEqual(told, ["3 values too large for a bar, or no finite number"])
        text = (self.folder / "c.svg").read_text()
        said = re.findall(r"<!-- (-?[\d.,e+-]+) -->", text)
        for one in ("5", "0.004", "-2.50", "3e+299", "7"):
            self.assertIn(one, said)

    def test_numbers_and_the_legend_stand_beside_the_bars(self):
        columns = {f"c{k}": [(-1.0) ** (k + i) * (5 + k) for i in range(3)] for k in range(12)}
        body = pa.table({"k": list("abc"), **columns})
        seen = []

        def look(figure, path, ending):
            figure.canvas.draw()
            (axes,) = figure.axes
            seen.append([[one.get_window_extent() for one in axes.patches]])
            seen[-1].append([one.get_window_extent() for one in axes.texts])
            seen[-1].append([axes.get_legend().get_window_extent()])
            return []

        with unittest.mock.patch.object(charts, "save", look):
            told = draw_chart(body, 1, "", "", self.folder / "c.png", ".png")
            self.assertEqual(told, ["the chart shows the first 10 of 12 columns"])
            many = pa.table({"k": range(60), **{c: list(range(1, 61)) for c in columns}})
            draw_chart(many, 1, "", "", self.folder / "c.png", ".png")
        bars, numbers, (legend,) = seen[0]
        self.assertEqual((len(bars), len(numbers)), (30, 30))
        for bar, number in zip(bars, numbers, strict=True):
            self.assertTrue(number.x0 > bar.x1 or number.x1 < bar.x0)
        self.assertFalse(any(legend.overlaps(one) for one in [*bars, *numbers]))
        self.assertEqual((len(seen[1][0]), len(seen[1][1])), (600, 0))  # too thin for numbers


if __name__ == "__main__":
    unittest.main()
