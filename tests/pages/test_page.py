"""The page in a real browser: what a reader does with map, table, problems and divider."""

from __future__ import annotations

import csv
import datetime
import io
import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyproj

from polygene import crs
from polygene.geometry import GeometryColumn
from polygene.ops.measure import measure
from polygene.pages.making import page
from tests.pages.test_packing import HOSTILE
from tests.support import generators as make
from tests.support.browser import Browser, browser_or_reason

UTM = crs.parse("EPSG:32633")
START = datetime.datetime(2024, 1, 1, tzinfo=datetime.UTC)
REASON = browser_or_reason()


def cells(n: int = 6, side: float = 100.0, at=(500_000.0, 6_600_000.0)) -> GeometryColumn:
    found = make.coverage(n, n, side, np.random.default_rng(4))
    return found.with_xy(found.xy + at)


def rows_at(column: GeometryColumn, places: np.ndarray) -> list[int]:
    """The cell that each place is in, by the crossings of a ray with its one ring."""
    found = np.full(len(places), -1)
    for row, ((ring,),) in enumerate(make.rows_of(column)):
        a, b = np.array(ring)[:-1, None], np.array(ring)[1:, None]
        spans = (a[..., 1] > places[:, 1]) != (b[..., 1] > places[:, 1])
        with np.errstate(divide="ignore", invalid="ignore"):
            x = a[..., 0] + (places[:, 1] - a[..., 1]) / (b - a)[..., 1] * (b - a)[..., 0]
        found[(spans & (places[:, 0] < x)).sum(axis=0) % 2 == 1] = row
    return found.tolist()


def setUpModule():
    if not REASON:
        InABrowser.browser = unittest.enterModuleContext(Browser())
        InABrowser.folder = Path(unittest.enterModuleContext(tempfile.TemporaryDirectory()))


@unittest.skipIf(REASON, REASON)
class InABrowser(unittest.TestCase):
    browser: Browser
    folder: Path

    def opened(self, *layers, size=(1280, 800), given=None, **how):
        """Make a page of layers and open it; at the end nothing may have gone wrong or outward."""
        path = self.folder / f"{self.id().rsplit('.')[-1]}.html"
        page(list(layers), path, replace=True, **how)
        tab = self.browser.open(path, size, **(given or {}))
        self.addCleanup(tab.close)
        self.addCleanup(self.assertEqual, tab.wrong, [])
        tab.settle()
        return tab

    def pixel_of(self, tab, xy) -> tuple[float, float]:
        """Where a place of the map is in the window."""
        return tuple(tab.run(
            """([x, y]) => {
              const { map, page } = document.querySelector(".polygene-look").look;
              const { origin, step } = page.given;
              const { view } = map;
              const { left, top } = map.canvas.getBoundingClientRect();
              return [left + ((x - origin[0]) / step - view.x) * view.scale + view.wide / 2,
                      top + (view.y - (y - origin[1]) / step) * view.scale + view.tall / 2];
            }""", list(xy)))  # fmt: skip

    def colour_at(self, tab, xy) -> tuple[int, ...]:
        x, y = self.pixel_of(tab, xy)
        return tuple(tab.run(
            """([x, y]) => {
              const { map } = document.querySelector(".polygene-look").look;
              const { left, top } = map.canvas.getBoundingClientRect();
              const at = [x - left, y - top].map((v) => Math.round(v * map.ratio));
              return [...map.canvas.getContext("2d").getImageData(...at, 1, 1).data].slice(0, 3);
            }""", [x, y]))  # fmt: skip

    def chosen(self, tab, k=0) -> list[int]:
        return sorted(tab.ask(f"[...look.page.layers[{k}].chosen]"))

    def shown_rows(self, tab, k=0) -> list[int]:
        return tab.ask(f"Array.from(look.tables[{k}].rows)")

    def type_filter(self, tab, text, k=0):
        tab.page.locator(f"#panel-rows-{k} input[type=search]").fill(text)
        tab.page.wait_for_timeout(60)


class Map(InABrowser):
    def test_a_click_chooses_the_row_that_is_there(self):
        layer = make.layer("cells", cells(), UTM, k=[f"c{k}" for k in range(36)])
        tab = self.opened(layer)
        rng = np.random.default_rng(1)
        places = rng.uniform((30, 30), (570, 570), (7, 2)) + (500_000, 6_600_000)
        pairs = rows_at(layer.geometry, places)
        for k, place in enumerate(places):
            for zooms in (0, 2):
                if zooms:
                    tab.page.mouse.move(*self.pixel_of(tab, place))
                    tab.page.mouse.wheel(0, -240 * zooms)
                    tab.settle()
                tab.page.mouse.click(*self.pixel_of(tab, place))
                self.assertEqual(self.chosen(tab), [pairs[k]])
                self.assertEqual(tab.page.locator(".card dd").inner_text(), f"c{pairs[k]}")
            tab.page.get_by_role("button", name="Whole").click()
            tab.settle()
        self.assertEqual([r for r in tab.requests if not r.startswith(("file:", "blob:"))], [])

    def test_layers_on_and_off_and_in_order(self):
        low = make.layer("low", make.polygons([[[make.square(0, 0, 100)]]]), UTM)
        high = make.layer("high", make.polygons([[[make.square(20, 20, 60)]]]), UTM)
        tab = self.opened(low, high)
        colours = [self.colour_at(tab, (50, 50)), self.colour_at(tab, (5, 5))]
        self.assertEqual([f"#{r:02x}{g:02x}{b:02x}" for r, g, b in colours], ["#d98a3d", "#2b6a8f"])
        tab.page.locator('[data-layer="1"]').uncheck()
        tab.settle()
        self.assertEqual(self.colour_at(tab, (50, 50)), colours[1])
        tab.page.locator('[data-layer="1"]').check()
        tab.page.get_by_role("button", name="further down: high").click()
        tab.settle()
        self.assertEqual(self.colour_at(tab, (50, 50)), colours[1])
        self.assertEqual(tab.page.locator(".layers .name").all_inner_texts(), ["low", "high"])
        tab.page.mouse.click(*self.pixel_of(tab, (50, 50)))
        self.assertEqual((self.chosen(tab, 0), self.chosen(tab, 1)), ([], [0]))
        tab.page.mouse.click(*self.pixel_of(tab, (50, 50)))  # again: what lies below
        self.assertEqual((self.chosen(tab, 0), self.chosen(tab, 1)), ([0], []))
        tab.page.keyboard.press("Escape")
        tab.page.get_by_label("How solid low is").fill("0")
        tab.settle()
        self.assertEqual(self.colour_at(tab, (5, 5)), (255, 255, 255))

    def test_moving_zooming_boxes_and_keys(self):
        tab = self.opened(make.layer("cells", cells(), UTM))
        start = tab.ask("look.map.view")
        tab.page.mouse.move(300, 300)
        tab.page.mouse.down()
        tab.page.mouse.move(360, 340, steps=4)
        tab.page.mouse.up()
        view = tab.ask("look.map.view")
        self.assertAlmostEqual((start["x"] - view["x"]) * view["scale"], 60, delta=0.01)
        self.assertAlmostEqual((view["y"] - start["y"]) * view["scale"], 40, delta=0.01)
        self.assertEqual(self.chosen(tab), [])
        tab.page.keyboard.press("ArrowRight")
        tab.page.keyboard.press("+")
        self.assertAlmostEqual(tab.ask("look.map.view.scale"), 2 * start["scale"])
        tab.page.keyboard.press("0")
        self.assertEqual(tab.ask("look.map.view"), start)
        tab.page.get_by_role("button", name="Choose in box").click()
        tab.page.mouse.move(*self.pixel_of(tab, (500_250, 6_600_250)))
        tab.page.mouse.down()
        tab.page.mouse.move(*self.pixel_of(tab, (500_350, 6_600_350)), steps=3)
        tab.page.mouse.up()
        steps = np.linspace(0, 100, 80)
        inside = np.stack(np.meshgrid(steps, steps), axis=-1).reshape(-1, 2) + (500_250, 6_600_250)
        met = set(rows_at(cells(), inside))
        self.assertEqual(self.chosen(tab), sorted(met))
        tab.page.get_by_role("button", name="Zoom box").click()
        corners = [self.pixel_of(tab, (500_000 + v, 6_600_000 + v)) for v in (200, 300)]
        tab.page.mouse.move(*corners[0])
        tab.page.mouse.down()
        tab.page.mouse.move(*corners[1], steps=3)
        tab.page.mouse.up()
        x, y, step = tab.ask("[look.map.view.x, look.map.view.y, look.page.given.step]")
        origin = tab.ask("look.page.given.origin")
        self.assertAlmostEqual(x * step + origin[0], 500_250, delta=1)
        self.assertAlmostEqual(y * step + origin[1], 6_600_250, delta=1)

    def test_lengths_areas_and_places(self):
        square = make.polygons([[[make.square(500_000, 6_600_000, 3000)]]])
        corners = [(500_000, 6_600_000), (503_000, 6_600_000), (503_000, 6_603_000)]
        on_earth = pyproj.Transformer.from_crs("EPSG:32633", "OGC:CRS84", always_xy=True)
        tab = self.opened(make.layer("square", square, UTM))
        tab.page.get_by_role("button", name="Measure").click()
        told = tab.page.locator(".told")
        for corner in corners:
            tab.page.mouse.click(*self.pixel_of(tab, corner))
        words = told.inner_text()
        self.assertRegex(
            words,
            r"^(5\.99|6|6\.0\d*) km, area 4\.(49|5|51)\d* km² on the plane of EPSG:32633",
        )
        tab.page.mouse.move(*self.pixel_of(tab, corners[1]))
        lon, lat = on_earth.transform(*corners[1])
        north, east = tab.page.locator(".where span").nth(1).inner_text().split(", ")
        self.assertAlmostEqual(float(north.split("°")[0]), lat, delta=1e-4)
        self.assertAlmostEqual(float(east.split("°")[0]), lon, delta=2e-4)
        # In degrees: on the ellipsoid, to a millionth, whatever the plane of the map does.
        rng = np.random.default_rng(8)
        ends = rng.uniform((5, 50), (15, 65), (2, 20, 2))
        bounds = make.polygons(
            [[[make.closed(np.array([(5, 50), (15, 50), (15, 65), (5, 65)], float))]]]
        )
        tab = self.opened(make.layer("part", bounds, crs.parse("EPSG:4326")))
        way = tab.ask("look.page.given.map.isGeographic")
        self.assertTrue(way)
        mine = tab.run(
            """(pairs) => {
              const { earth } = document.querySelector(".polygene-look").look.page;
              const at = ([lon, lat]) => {
                let [x, y] = [0, 0];
                for (let turn = 0; turn < 60; turn++) {
                  const found = earth.degrees(x, y) ?? [0, 0];
                  x += (lon - found[0]) * 5e4 / earth.given.step * Math.cos(lat / 57.3) * 1.5;
                  y += (lat - found[1]) * 1e5 / earth.given.step;
                }
                return [x, y];
              };
              return pairs.map(([a, b]) => earth.distance(at(a), at(b)));
            }""", np.stack(ends, axis=1).tolist())  # fmt: skip
        _, _, right = pyproj.Geod(ellps="WGS84").inv(*ends[0].T, *ends[1].T)
        np.testing.assert_allclose(mine, right, rtol=1e-5)

    def test_areas_over_much_of_the_earth(self):
        world = make.polygons(
            [[[make.closed(np.array([(-170, -80), (170, -80), (170, 80)], float))]]]
        )
        layer = make.layer("world", world, crs.parse("EPSG:4326"))
        tab = self.opened(layer)
        corners = np.array([(0, 0), (60, 70), (60, -5), (0, 0)], float)
        size = measure(
            make.layer("part", make.polygons([[[corners]]]), layer.crs), area="m2"
        ).layer.table
        mine = tab.run(
            """(corners) => {
              const { earth } = document.querySelector(".polygene-look").look.page;
              const { origin, step } = earth.given;
              const at = corners.map(([x, y]) => [(x - origin[0]) / step, (y - origin[1]) / step]);
              return [earth.area(at), earth.area([...at, [0, 91 / step - origin[1] / step]])];
            }""", corners[:3].tolist())  # fmt: skip
        self.assertAlmostEqual(mine[0] / size.column("area_m2")[0].as_py(), 1, delta=1e-8)
        self.assertTrue(np.isnan(mine[1]))

    def test_before_and_after(self):
        old = make.layer("old", make.polygons([[[make.square(0, 0, 100)]]]), UTM, k=["a"])
        new = make.layer("new", make.polygons([[[make.square(0, 0, 100)]]]), UTM, k=["b"])
        tab = self.opened(new, before=[old], colour_by="k")
        left, right = self.colour_at(tab, (10, 30)), self.colour_at(tab, (90, 30))
        self.assertNotEqual(left, right)
        tab.page.mouse.click(*self.pixel_of(tab, (10, 30)))
        self.assertEqual((self.chosen(tab, 0), self.chosen(tab, 1)), ([0], []))
        tab.page.keyboard.press("Escape")
        divider = tab.page.get_by_role("slider", name="Where before ends")
        divider.focus()
        tab.page.keyboard.press("Home")
        tab.settle()
        self.assertEqual(divider.get_attribute("aria-valuenow"), "0")
        self.assertEqual(self.colour_at(tab, (10, 30)), right)
        tab.page.keyboard.press("End")
        tab.settle()
        self.assertEqual(self.colour_at(tab, (90, 30)), left)
        tab.page.get_by_label("On which side old is").select_option("after")
        tab.settle()
        self.assertEqual(self.colour_at(tab, (90, 30)), (255, 255, 255))


class Table(InABrowser):
    def test_columns_are_as_wide_as_their_values_whoever_opened_them(self):
        squares = make.polygons([[[make.square(0, 0, 100)]], [[make.square(200, 0, 100)]]])
        first = make.layer("first", squares.take(np.array([0])), UTM, a=["b"])
        names = ["a name of thirty-one letters all", "b"]
        tab = self.opened(first, make.layer("second", squares, UTM, n=names))
        # A click shows what there is to know of a feature before its table has been seen.
        tab.page.mouse.click(*self.pixel_of(tab, (250, 50)))
        cell = tab.page.get_by_role("gridcell", name=names[0])
        cell.wait_for()
        tab.page.wait_for_timeout(100)
        self.assertGreater(cell.bounding_box()["width"], 8 * len(names[0]))
        self.assertFalse(tab.run("() => document.activeElement.matches(':focus-visible')"))

    def test_sorting_filtering_and_choosing(self):
        n = 3000
        rng = np.random.default_rng(3)
        depth = [
            None if k % 7 == 0 else float(v) for k, v in enumerate(rng.normal(0, 50, n).round(2))
        ]
        names = [None if k % 11 == 0 else f"Bed {v}" for k, v in enumerate(rng.integers(0, 400, n))]
        spots = make.points([[p] for p in rng.uniform(0, 1000, (n, 2))])
        layer = make.layer(
            "beds", spots, UTM, depth=depth, name=names, big=[2**60 + k for k in range(n)],
            at=[START + datetime.timedelta(hours=12 * k) for k in range(n)],
        )  # fmt: skip
        tab = self.opened(layer)
        for falls in (False, True):
            tab.page.get_by_role("columnheader", name="depth").get_by_role("button").click()
            tab.page.wait_for_timeout(100)
            known = [k for k in range(n) if depth[k] is not None]
            known.sort(key=lambda k: (depth[k], k), reverse=falls)
            self.assertEqual(
                self.shown_rows(tab), known + [k for k in range(n) if depth[k] is None]
            )
            how = tab.page.get_by_role("columnheader", name="depth").get_attribute("aria-sort")
            self.assertEqual(how, "descending" if falls else "ascending")
        tab.page.get_by_role("columnheader", name="name").get_by_role("button").click()
        tab.page.wait_for_timeout(100)
        shown = [names[k] for k in self.shown_rows(tab)]
        numbers = [int(v.split()[1]) for v in shown if v]
        self.assertEqual(numbers, sorted(numbers))  # Bed 9 before Bed 10
        self.assertEqual(shown[len(numbers) :], [None] * (n - len(numbers)))
        deep = [-1e9 if v is None else v for v in depth]
        called = [v or "" for v in names]
        for text, keeps in (
            ("depth > 10", lambda k: deep[k] > 10),
            ("depth<=-20.5 and name is not null", lambda k: -1e9 < deep[k] <= -20.5 and called[k]),
            (
                "depth is null or name like 'Bed 1_'",
                lambda k: depth[k] is None or called[k][:5] == "Bed 1" and len(called[k]) == 6,
            ),
            # As in `--where`: what is compared with a null is neither true nor false.
            ("not (depth > 0)", lambda k: -1e9 < deep[k] <= 0),
            ("not (depth > 0 or name is null)", lambda k: -1e9 < deep[k] <= 0 and called[k]),
            ("not (depth is null)", lambda k: deep[k] > -1e9),
            ("depth not between -9 and 60", lambda k: -1e9 < deep[k] < -9 or deep[k] > 60),
            ("name like 'bed%'", lambda k: False),
            ("at = DATE('2024-01-02')", lambda k: k in (2, 3)),
            ("at between '2024-01-02' and DATE('2024-01-03')", lambda k: 2 <= k <= 5),
            ("at < TIMESTAMP('2024-01-02T02:00:00.50+02:00')", lambda k: k < 3),
            (f"big > {2**60 + 7} and big <= {2**60 + 9}", lambda k: k in (8, 9)),
            ("NAME = 'Bed 7'", lambda k: called[k] == "Bed 7"),
            ("name in ('Bed 7', 'Bed 8')", lambda k: called[k] in ("Bed 7", "Bed 8")),
            ("bed 39", lambda k: "Bed 39" in called[k]),
        ):
            self.type_filter(tab, text)
            self.assertEqual(sorted(self.shown_rows(tab)), [k for k in range(n) if keeps(k)], text)
        self.type_filter(tab, "depht > 10")
        self.assertIn(
            "there is no field “depht”", tab.page.locator("#panel-rows-0 .said").inner_text()
        )
        self.type_filter(tab, "depth > deep")
        self.assertIn("“deep” is no number", tab.page.locator("#panel-rows-0 .said").inner_text())
        self.type_filter(tab, "depth > 100")
        few = self.shown_rows(tab)
        tab.page.get_by_label("on the map too").check()
        tab.settle()
        self.assertEqual(tab.ask("look.page.layers[0].mask.reduce((a, b) => a + b, 0)"), len(few))
        # Only what is seen is in the document.
        self.type_filter(tab, "")
        self.assertLess(tab.page.locator("#panel-rows-0 .line").count(), 60)
        tab.page.locator("#panel-rows-0 .scroller").focus()
        tab.page.keyboard.press("End")
        tab.settle()
        last = self.shown_rows(tab)[-1]
        self.assertEqual(self.chosen(tab), [last])
        self.assertTrue(tab.page.locator(f'#panel-rows-0 .line[data-row="{last}"]').is_visible())
        tab.page.keyboard.press("Enter")
        tab.settle()
        x, y = self.pixel_of(tab, spots.xy[last])
        left, top, wide, tall = tab.page.locator("canvas").bounding_box().values()
        self.assertLess(abs(x - left - wide / 2) + abs(y - top - tall / 2), 3)

    def test_what_is_handed_over_can_be_read(self):
        square = [
            [make.square(500_000, 6_600_000, 900), make.square(500_300, 6_600_300, 100)[::-1]]
        ]
        two = [[make.square(501_000, 6_600_000, 90)], [make.square(501_200, 6_600_000, 90)]]
        column = make.polygons([square, two, []])
        values = ['say "x", y', None, "=1+1"]
        layer = make.layer(
            "odd/name", column, UTM, t=values, n=[1, None, 3], b=[2**60 + 1, None, -1]
        )
        tab = self.opened(layer)

        def saved(words):
            with tab.page.expect_download() as found:
                tab.page.locator(f'[data-save="{words}"]').click()
            self.assertNotIn("/", found.value.suggested_filename)
            return Path(found.value.path()).read_text("utf-8")

        rows = list(csv.reader(io.StringIO(saved("CSV"), newline="")))
        big = str(2**60 + 1)
        self.assertEqual(
            rows, [["t", "n", "b"], [values[0], "1", big], ["", "", ""], ["'=1+1", "3", "-1"]]
        )
        found = json.loads(saved("GeoJSON"))["features"]
        self.assertEqual([f["properties"]["t"] for f in found], values)
        self.assertEqual([f["properties"]["b"] for f in found], [2**60 + 1, None, -1])
        for ring, is_outer in zip(found[0]["geometry"]["coordinates"], (True, False), strict=True):
            x, y = (np.array(ring) - ring[0]).T
            self.assertEqual((x[:-1] * y[1:] - x[1:] * y[:-1]).sum() > 0, is_outer)
        self.assertEqual(
            [f["geometry"]["type"] for f in found], ["Polygon", "MultiPolygon", "Polygon"]
        )
        self.assertEqual(found[2]["geometry"]["coordinates"], [])
        back = pyproj.Transformer.from_crs("OGC:CRS84", "EPSG:32633", always_xy=True)
        for ring, mine in zip(square[0], found[0]["geometry"]["coordinates"], strict=True):
            there = np.stack(back.transform(*np.array(mine).T), axis=1)
            self.assertEqual(mine[0], mine[-1])
            for place in there:
                self.assertLess(np.hypot(*(ring - place).T).min(), 1e-3)
        tab.page.locator('.line[data-row="1"]').click()
        self.assertEqual(len(json.loads(saved("GeoJSON"))["features"]), 1)


class Odd(InABrowser):
    def test_hostile_text_is_shown_as_it_is_written(self):
        n = len(HOSTILE)
        squares = make.polygons([[[make.square(20 * k, 0, 10)]] for k in range(n)])
        layer = replace(
            make.layer(HOSTILE[0], squares, UTM),
            table=pa.table({HOSTILE[1]: HOSTILE, HOSTILE[4]: HOSTILE[::-1]}),
        )
        tab = self.opened(
            layer, title=HOSTILE[1], colour_by=HOSTILE[1], label=HOSTILE[1], problems=True
        )
        tab.page.locator('.line[data-row="2"]').click()
        for name in ("#tab-facts", "#tab-problems", "#tab-rows-0"):
            tab.page.locator(name).click()
        texts = tab.page.locator('.line[data-row="2"] .cell bdi').all_text_contents()
        self.assertEqual(texts, [HOSTILE[2], HOSTILE[::-1][2]])
        heads = tab.ask("[...document.querySelectorAll('.head bdi')].map((y) => y.textContent)")
        self.assertEqual(heads, [HOSTILE[1], HOSTILE[4]])
        self.assertEqual(tab.ask("document.querySelector('h1').textContent"), HOSTILE[1])
        self.assertEqual(tab.ask("document.querySelector('.layers .name').textContent"), HOSTILE[0])
        self.assertEqual(
            tab.ask(
                "document.querySelectorAll('img, b, .polygene-look script:not([data-block])').length"
            ),
            0,
        )
        self.assertEqual(tab.wrong, [])

    def test_problems_lead_to_their_places(self):
        bow = np.array([(0, 0), (100, 100), (100, 0), (0, 100), (0, 0)], float) + (900, 0)
        squares = [[[make.square(300 * k, 0, 100)]] for k in range(3)]
        column = make.polygons([*squares, [[bow]]])
        layer = make.layer("cells", column.with_xy(column.xy + (500_000, 6_600_000)), UTM)
        tab = self.opened(layer, problems=True)
        tab.page.get_by_role("tab", name="Problems (1)").click()
        tab.page.get_by_role("button", name="row 4").click()
        tab.settle()
        self.assertEqual(self.chosen(tab), [3])
        x, y = self.pixel_of(tab, (500_950, 6_600_050))
        left, top, wide, tall = tab.page.locator("canvas").bounding_box().values()
        self.assertLess(abs(x - left - wide / 2) + abs(y - top - tall / 2), 3)
        self.assertTrue(
            tab.page.get_by_role("tab", name="Problems (1)").get_attribute("aria-selected")
        )

    def test_nothing_to_see_many_fields_and_no_crs(self):
        empty = make.layer("empty", make.polygons([]), UTM)
        nulls = make.layer("nulls", GeometryColumn.nulls(3), UTM, t=["a", None, "c"])
        table = replace(
            make.layer("table", GeometryColumn.nulls(2), None, k=[1, 2]), no_geometry="a test"
        )
        wide = make.layer(
            "wide",
            make.polygons([[[make.square(0, 0, 9)]]]),
            UTM,
            **{f"field_{k}": [k] for k in range(200)},
        )
        tab = self.opened(empty, nulls, table, wide)
        for k in range(4):
            tab.page.locator(f"#tab-rows-{k}").click()
            tab.page.wait_for_timeout(50)
        self.assertLess(tab.page.locator("#panel-rows-3 .line .cell").count(), 30)
        tab.page.locator("#panel-rows-3 .scroller").evaluate(
            "(y) => { y.scrollLeft = y.scrollWidth; }"
        )
        tab.page.wait_for_timeout(100)
        self.assertEqual(tab.page.locator("#panel-rows-3 .line .cell").last.inner_text(), "199")
        self.assertIn("this layer has no rows", tab.page.locator("#panel-rows-0").text_content())
        tab.page.locator("#tab-rows-1").click()
        tab.page.locator("#panel-rows-1 .line").first.click()
        self.assertIn("without geometry", tab.page.locator(".card h3").inner_text())
        tab.page.locator("#panel-rows-1").get_by_role("button", name="Zoom to").click()
        self.assertIn(
            "no geometry to zoom to", tab.page.locator("#panel-rows-1 .said").inner_text()
        )
        self.assertEqual(tab.wrong, [])
        nowhere = make.layer("nowhere", make.polygons([[[make.square(0, 0, 9)]]]))
        tab = self.opened(nowhere)
        tab.page.mouse.move(*self.pixel_of(tab, (4, 4)))
        self.assertRegex(tab.page.locator(".where").inner_text(), r"^4\.\d*, 4\.\d* units")

    def test_large_text_dark_and_narrow(self):
        layer = make.layer("cells", cells(), UTM, k=[f"c{k}" for k in range(36)])
        tab = self.opened(layer, given={"color_scheme": "dark"})
        dark = tab.ask("getComputedStyle(document.body).backgroundColor")
        self.assertLess(sum(int(v) for v in dark[4:-1].split(",")), 150)
        tab.page.evaluate("() => { document.documentElement.style.fontSize = '200%'; }")
        tab.page.set_viewport_size({"width": 1280, "height": 801})
        tab.settle()
        line = tab.page.locator("#panel-rows-0 .line").first.bounding_box()
        cell = tab.page.locator(".line .cell.text").first.evaluate(
            "(y) => [y.scrollHeight, y.clientHeight]"
        )
        self.assertGreater(line["height"], 40)
        self.assertLessEqual(cell[0], cell[1] + 4)
        for name in ("Measure", "Whole"):
            self.assertTrue(tab.page.get_by_role("button", name=name).is_visible())
        tab = self.opened(layer, size=(390, 844))
        self.assertLessEqual(tab.ask("document.documentElement.scrollWidth"), 390)
        tab.page.mouse.click(*self.pixel_of(tab, (500_250, 6_600_250)))
        self.assertEqual(len(self.chosen(tab)), 1)

    def test_fingers_move_zoom_and_choose(self):
        layer = make.layer("cells", cells(), UTM, k=[f"c{k}" for k in range(36)])
        tab = self.opened(layer, size=(390, 844), given={"has_touch": True, "is_mobile": True})
        session = tab.page.context.new_cdp_session(tab.page)

        def touch(kind, *places):
            points = [{"x": x, "y": y, "id": k} for k, (x, y) in enumerate(places)]
            session.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})

        start = tab.ask("look.map.view")
        touch("touchStart", (150, 300))
        touch("touchStart", (150, 300), (250, 300))
        for k in range(1, 6):
            touch("touchMove", (150 - 10 * k, 300), (250 + 10 * k, 300))
        touch("touchEnd")
        tab.settle()
        view = tab.ask("look.map.view")
        self.assertAlmostEqual(view["scale"] / start["scale"], 2, delta=0.05)
        touch("touchStart", (100, 300))
        for k in range(1, 5):
            touch("touchMove", (100 + 20 * k, 300))
        touch("touchEnd")
        moved = tab.ask("look.map.view")
        self.assertAlmostEqual((view["x"] - moved["x"]) * view["scale"], 80, delta=1)
        self.assertEqual(self.chosen(tab), [])
        place = (500_300, 6_600_300)
        tab.page.touchscreen.tap(*self.pixel_of(tab, place))
        self.assertEqual(self.chosen(tab), rows_at(cells(), np.array([place])))

    def test_what_a_screen_reader_is_told(self):
        layer = make.layer("cells", cells(), UTM, k=[f"c{k}" for k in range(36)])
        tab = self.opened(layer, problems=True)
        for role, name in (
            ("toolbar", "Map"), ("img", "Map. Arrow keys"), ("grid", "Rows of cells"),
            ("tablist", "Tables and facts"), ("checkbox", "cells"), ("separator", "How wide the map"),
        ):  # fmt: skip
            self.assertTrue(tab.page.get_by_role(role, name=name).first.is_visible(), (role, name))
        tab.page.get_by_role("tab", name="cells").focus()
        tab.page.keyboard.press("ArrowRight")
        self.assertEqual(tab.ask("document.activeElement.textContent"), "Problems (0)")
        tab.page.mouse.click(*self.pixel_of(tab, (500_250, 6_600_250)))
        self.assertRegex(tab.page.locator(".unseen").inner_text(), r"^cells, row \d+ chosen$")
