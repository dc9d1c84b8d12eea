"""What a page carries: nothing of the data as markup, places within what is stated, every row."""

from __future__ import annotations

import base64
import hashlib
import html.parser
import json
import re
import tempfile
import unittest
import zlib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyproj
from hypothesis import given, settings
from hypothesis import strategies as st

from polygene import crs
from polygene.errors import TableError, UsageError
from polygene.geometry import GeometryColumn, concatenate
from polygene.pages import html as pages
from polygene.pages.blocks import Blocks
from polygene.pages.ground import described, ground_for
from polygene.pages.making import page
from tests.support import generators as make
from tests.support.layers import every_type

HOSTILE = [
    "<script>alert(1)</script>", "</script><b>", "\"'><img src=x onerror=alert(1)>",
    "a\u2028b\u2029c", "\u202eright to left\u202c", "&amp;<!--", "${1}`'\\u0041", "]]>",
]  # fmt: skip


def opened(text: str) -> list[bytes]:
    """The blocks of a page."""
    found = re.findall(r'data-block="(\d+)">([A-Za-z0-9+/=]*)</script>', text)
    return [zlib.decompress(base64.b64decode(data)) for _, data in found]


def counts(data: bytes) -> np.ndarray:
    return (
        np.frombuffer(data, np.uint8).reshape(4, -1).T.copy().view("<u4").ravel().astype(np.int64)
    )


def places(data: bytes) -> np.ndarray:
    """The sums of steps, in 32 bits as in the page."""
    folded = counts(data)
    return np.cumsum((folded >> 1) ^ -(folded & 1)).astype(np.int32).astype(np.int64)


class Parsed(html.parser.HTMLParser):
    """Which elements a page has, and which attributes."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.found: list[tuple[str, dict[str, str | None]]] = []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.found.append((tag, dict(attrs)))


class InAFolder(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def made(self, *layers, **given):
        out = self.folder / "look.html"
        self.told = page(list(layers), out, replace=True, **given)
        self.text = out.read_text("utf-8")
        self.blocks = opened(self.text)
        return json.loads(self.blocks[0])


class Markup(InAFolder):
    def test_what_the_data_say_is_never_markup(self):
        names = {f"{text} {k}": HOSTILE for k, text in enumerate(HOSTILE)}
        cells = make.polygons([[[make.square(20 * k, 0, 10)]] for k in range(len(HOSTILE))])
        layer = replace(make.layer(HOSTILE[1], cells, **names), title=HOSTILE[0])
        field = next(iter(names))
        given = self.made(layer, title=HOSTILE[2], credit=HOSTILE[0], colour_by=field, label=field)
        plain = Parsed(self.text).found
        without = self.made(make.layer("x", cells), title="t", credit="c")
        self.assertEqual(without["layers"][0]["name"], "x")
        usual = {tag for tag, _ in Parsed(self.text).found}
        self.assertEqual({tag for tag, _ in plain}, usual)
        for _, attributes in plain:
            self.assertFalse([name for name in attributes if name.startswith("on")])
        self.assertEqual(given["layers"][0]["name"], HOSTILE[1])
        self.assertEqual([f["name"] for f in given["layers"][0]["fields"]], list(names))

    def test_only_its_own_script_and_looks_run(self):
        self.made(make.layer("x", make.polygons([[[make.square(0, 0, 10)]]])))
        found = Parsed(self.text).found
        policy = next(
            a["content"]
            for tag, a in found
            if tag == "meta" and "content" in a and "default" in a["content"]
        )
        rules = dict(rule.split(" ", 1) for rule in policy.split("; "))
        self.assertEqual(rules["default-src"], "'none'")
        self.assertNotIn("unsafe", policy)
        self.assertNotRegex(policy, r"https?:|\*")
        code = re.search(r'<script type="module"[^>]*>(.*?)</script>', self.text, re.DOTALL)[1]
        own = base64.b64encode(hashlib.sha256(code.encode()).digest()).decode()
        self.assertEqual(rules["script-src"], f"'sha256-{own}'")
        self.assertNotRegex(
            code, r"innerHTML|outerHTML|insertAdjacentHTML|document\.write|\beval\("
        )
        self.assertNotRegex(code, r"\bfetch\(|XMLHttpRequest|WebSocket|https?://")
        outward = [a for _, a in found if "src" in a or "href" in a]
        self.assertEqual(outward, [])

    def test_modules_are_told_after_what_they_need(self):
        code = pages.script()
        told = re.findall(r"^modules\.(\w+) = ", code, re.MULTILINE)
        files = {p.stem for p in (Path(pages.__file__).parent / "script").glob("*.js")}
        self.assertEqual(set(told), files)
        self.assertEqual(len(told), len(files))
        for k, name in enumerate(told):
            body = code[code.index(f"modules.{name} = ") :].split("\nmodules.")[0]
            self.assertLessEqual(set(re.findall(r"= modules\.(\w+);", body)), set(told[:k]))
        self.assertNotRegex(code, r"(?m)^(import|export) ")


class Packed(InAFolder):
    @given(st.lists(st.integers(-(2**31), 2**31 - 1), max_size=40))
    @settings(max_examples=60, deadline=None)
    def test_steps_come_back(self, values):
        blocks = Blocks()
        blocks.describe({})
        blocks.add_steps(np.array(values, np.int64))
        self.assertEqual(places(opened(blocks.html())[1]).tolist(), values)

    def test_places_are_within_half_a_step(self):
        rng = np.random.default_rng(7)
        for size, offset in ((1e-3, 5e5), (1.0, 0.0), (2e4, 6e6), (3e7, -1e7)):
            cells = make.coverage(5, 4, size / 5, rng)
            cells = cells.with_xy(cells.xy + offset)
            given = self.made(make.layer("cells", cells, crs.parse("EPSG:32633")))
            layer, step = given["layers"][0], given["step"]
            x, y = (places(self.blocks[layer["packed"][axis]]) for axis in "xy")
            n = counts(self.blocks[layer["packed"]["vertices"]])
            self.assertEqual(n.tolist(), (np.diff(cells.ring_offsets) - 1).tolist())
            back = np.stack([x, y], axis=1) * step + given["origin"]
            open_ring = np.ones(cells.n_vertices, bool)
            open_ring[cells.ring_offsets[1:] - 1] = False
            # Rings may begin and run otherwise; each place is there.
            mine = {tuple(np.round(p / step)) for p in cells.xy[open_ring] - given["origin"]}
            theirs = {tuple(np.round(p / step)) for p in back - given["origin"]}
            self.assertEqual(mine, theirs)
            self.assertLess(max(abs(x).max(), abs(y).max()), 2**30)
            stated = re.search(r"kept within (\S+) ", given["made"])[1]
            self.assertLessEqual(step / 2, float(stated) * 1.1)
            self.assertLessEqual(step, max(size * 2e-8, 1e-4, abs(offset) * 1e-14))

    def test_longitude_and_latitude_are_as_close_as_is_said(self):
        rng = np.random.default_rng(3)
        for code, extent in (
            ("EPSG:32633", (470000, 8044000, 490000, 8058000)),
            ("EPSG:3035", (2.6e6, 1.5e6, 6.5e6, 5.3e6)),
            ("EPSG:3857", (-8e6, -5e6, 9e6, 9e6)),
        ):
            ground = ground_for(crs.parse(code), [extent])
            blocks = Blocks()
            blocks.describe({})
            told, words = described(ground, blocks, is_equal_area=False)
            grid = told["grid"]
            nodes = np.frombuffer(opened(blocks.html())[grid["block"]]).reshape(
                grid["tall"], grid["wide"], 2
            )
            share = rng.uniform(0.25, 0.75, (200, 2))
            low, high = np.array(grid["box"][:2]), np.array(grid["box"][2:])
            whole = low + share * (high - low)
            mine = np.array(
                [cubic(nodes, *p) for p in share * (np.array([grid["wide"], grid["tall"]]) - 1)]
            )
            xy = whole * ground.step + ground.origin
            way = pyproj.Transformer.from_crs(code, "OGC:CRS84", always_xy=True)
            right = np.stack(way.transform(*xy.T), axis=1)
            said = float(re.search(r"within (\S+)°", words[1])[1])
            self.assertLess(np.abs(mine - right).max(), said, code)

    def test_every_type_of_value(self):
        table = every_type()
        layer = make.layer(
            "types", make.polygons([[[make.square(20 * k, 0, 9)]] for k in range(3)])
        )
        given = self.made(replace(layer, table=table))
        values = {
            f["name"]: json.loads(self.blocks[f["block"]]) for f in given["layers"][0]["fields"]
        }
        self.assertEqual(values["large"], [str(-(2**63)), str(2**63 - 1), None])
        self.assertEqual(values["single"], [1.5, -0.1, None])
        self.assertEqual(values["real"], [0.1, 1e300, None])
        self.assertEqual(values["flag"], [True, False, None])
        self.assertEqual(values["text"], table["text"].to_pylist())
        self.assertEqual(values["day"], ["1899-12-31", "2026-02-28", None])
        self.assertEqual(
            values["moment"], ["2026-05-04T03:02:01.123Z", "1969-01-01T00:00:00Z", None]
        )
        self.assertEqual(values["blob"], ["2 bytes", "0 bytes", None])
        odd = pa.table({"r": [float("nan"), float("inf"), None]})
        given = self.made(replace(layer, table=odd))
        values = [json.loads(self.blocks[f["block"]]) for f in given["layers"][0]["fields"]]
        self.assertEqual(values, [["nan", "inf", None]])


def cubic(nodes, x, y):
    """What the page's script does: cubics through four nodes each way (Lagrange)."""

    def weights(t, n):
        first = max(0, min(n - 4, int(t) - 1))
        u = t - first
        return first, [np.prod([(u - j) / (i - j) for j in range(4) if j != i]) for i in range(4)]

    i, wx = weights(x, nodes.shape[1])
    j, wy = weights(y, nodes.shape[0])
    return np.einsum("a,b,abk->k", wy, wx, nodes[j : j + 4, i : i + 4])


class Stretched(unittest.TestCase):
    def test_what_is_measured_on_a_plane_that_stretches_is_told(self):
        for code, (x, y), is_told in (
            ("EPSG:3857", (1_600_000.0, 8_390_000.0), True),
            ("EPSG:32633", (500_000.0, 6_650_000.0), False),
        ):
            ground = ground_for(crs.parse(code), [(x, y, x + 9000, y + 9000)])
            told, words = described(ground, Blocks(), is_equal_area=False)
            self.assertEqual("stretches here" in told["ways"]["words"], is_told)
            found = [word for word in words if "times those on the ground" in word]
            self.assertEqual(len(found), is_told, words)
            self.assertEqual("lengths and distances 2;" in " ".join(found), is_told, found)


class Chosen(InAFolder):
    def test_too_many_rows_and_a_box(self):
        cells = make.polygons([[[make.square(20 * k, 0, 10)]] for k in range(30)])
        layer = make.layer("cells", cells, n=list(range(30)))
        given = self.made(layer, most=10)
        self.assertEqual((given["layers"][0]["n"], self.told.shown.left_out), (10, 20))
        self.assertIn(
            "cells: the first 10 of 30 rows are shown; `box` or `where` choose others, `most` more",
            given["notes"],
        )
        given = self.made(layer, box=(95, 0, 125, 10))
        numbers = counts(self.blocks[given["layers"][0]["numbers"]])
        self.assertEqual(numbers.tolist(), [6, 7])
        self.assertEqual(json.loads(self.blocks[given["layers"][0]["fields"][0]["block"]]), [5, 6])

    def test_problems_with_their_places(self):
        bow = np.array([(0, 0), (10, 10), (10, 0), (0, 10), (0, 0)], float)
        cells = make.polygons([[[make.square(30, 0, 10)]], [[bow]]])
        for code, scale in (("EPSG:32633", 1.0), ("EPSG:4326", 0.001)):
            own = cells.with_xy(cells.xy * scale + (12, 55))
            given = self.made(make.layer("cells", own, crs.parse(code)), problems=True)
            (one,) = [p for p in given["problems"] if p["harms"]]
            self.assertEqual((one["rows"], one["total"]), ([1], 1))
            where = np.array(one["places"][0]) * given["step"] + given["origin"]
            corners = places(self.blocks[given["layers"][0]["packed"]["x"]])
            self.assertGreater(one["places"][0][0], corners.min())
            self.assertLess(one["places"][0][0], corners.max())
            if code == "EPSG:32633":
                np.testing.assert_allclose(where, (17, 60), atol=given["step"])
        self.made(make.layer("cells", cells.take(np.array([0]))), problems=True)
        self.assertEqual(self.told.shown.problems, 0)

    def test_what_cannot_be_a_page(self):
        layer = make.layer("x", make.polygons([[[make.square(0, 0, 10)]]]))
        for asked, words in (
            ({"out": "look.png"}, "no page of HTML"),
            ({"out": "look.html", "most": 0}, "1 or more"),
            ({"out": "look.html", "hatch": "y"}, "no layer 'y'"),
        ):
            asked = {**asked, "out": self.folder / asked["out"]}
            with self.assertRaisesRegex(UsageError, words):
                page(layer, **asked)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_layers_in_other_systems_are_brought_to_the_first_and_rows_stay(self):
        cells = make.coverage(3, 3, 400.0, np.random.default_rng(1))
        first = make.layer(
            "first", cells.with_xy(cells.xy + (500_000, 6_600_000)), crs.parse("EPSG:32633")
        )
        way = pyproj.Transformer.from_crs("EPSG:32633", "EPSG:4326", always_xy=True)
        there = np.stack(way.transform(*first.geometry.xy.T), axis=1)
        near = cells.with_xy(there)
        far = make.polygons([[[make.square(-100, -40, 1)]]])
        both = make.layer(
            "both", concatenate([near, far]), crs.parse("EPSG:4326"), k=list(range(10))
        )
        given = self.made(first, both)
        self.assertEqual([way.name for way in self.told.shown.brought], ["both"])
        one, other = given["layers"]
        self.assertEqual(other["n"], 10)
        mine, theirs = (places(self.blocks[y["packed"]["x"]]) for y in (one, other))
        step = given["step"]
        self.assertLess(np.abs(np.sort(mine) - np.sort(theirs)[: len(mine)]).max() * step, 0.01)
        parts = counts(self.blocks[other["packed"]["parts"]])
        self.assertEqual(parts.tolist(), [2] * 9 + [1])  # what is far has no place on the page
        self.assertEqual((one["away"], other["away"]), ([], [9]))
        self.assertIn("1 of 10 features are far from first", given["notes"][0])

    def test_the_page_has_the_system_of_the_first_layer_that_has_a_place(self):
        cells = make.coverage(3, 3, 400.0, np.random.default_rng(1))
        xy = cells.xy + (500_000, 6_600_000)
        after = make.layer("after", cells.with_xy(xy), crs.parse("EPSG:32633"), k=list(range(9)))
        way = pyproj.Transformer.from_crs("EPSG:32633", "EPSG:4326", always_xy=True)
        degrees = cells.with_xy(np.stack(way.transform(*xy.T), axis=1))
        before = make.layer("before", degrees, crs.parse("EPSG:4326"))
        nulls = make.layer("table", GeometryColumn.nulls(2), None, k=[1, 2])
        table = replace(nulls, no_geometry="a test")
        box = (
            500_010.0,
            6_600_010.0,
            500_300.0,
            6_600_300.0,
        )  # in the CRS of what is shown, not of before
        for layers in ([after], [table, after]):
            given = self.made(*layers, before=[before], box=box)
            shown = {layer["name"]: layer["n"] for layer in given["layers"]}
            self.assertEqual((shown["after"], shown["before"]), (1, 1))
            self.assertEqual(self.told.shown.first, "after")
            self.assertIn(
                "EPSG:32633, the CRS of after",
                given["notes"][0].replace(" WGS 84 / UTM zone 33N", ""),
            )
        for asked in ({"before": [table]}, {"outline": "table"}, {"label": "table.k"}):
            (option,) = asked
            layers = [after] if option == "before" else [table, after]
            with self.assertRaisesRegex(TableError, f"`{option}` works on geometry"):
                self.made(*layers, **asked)

    def test_as_many_classes_as_features(self):
        n = 70_000  # more than 16 bits hold
        spots = make.polygons([[[make.square(20 * k, 0, 10)]] for k in range(30)])
        cells = spots.take(np.arange(n) % 30)
        given = self.made(
            make.layer("many", cells, None, k=[f"v{k:05d}" for k in range(n)]), colour_by="k"
        )
        classes = counts(self.blocks[given["layers"][0]["packed"]["classes"]])
        self.assertEqual(classes.tolist(), list(range(n)))


class Planes(InAFolder):
    def test_degrees_are_shown_on_a_plane_of_equal_areas(self):
        cells = make.coverage(6, 5, 0.4, np.random.default_rng(2))
        for west, south in ((10.0, 59.0), (-1.0, -40.0), (178.9, 65.0)):
            own = cells.with_xy(cells.xy + (west, south))
            over = own.xy[:, 0] > 180
            layer = make.layer("cells", own, crs.parse("EPSG:4326"))
            if over.any():  # as files have it: on both sides of the map
                rows = np.flatnonzero(own.row_bounds()[:, 0] > 180)
                rest = np.flatnonzero(own.row_bounds()[:, 2] <= 180)
                xy = own.xy - np.where(over[:, None], (360, 0), (0, 0))
                layer = make.layer(
                    "cells",
                    own.with_xy(xy).take(np.sort(np.concatenate([rows, rest]))),
                    crs.parse("EPSG:4326"),
                )
            given = self.made(layer)
            self.assertIn("shown on an equal-area plane about", given["notes"][0])
            x, y = (places(self.blocks[given["layers"][0]["packed"][axis]]) for axis in "xy")
            area = np.ptp(x) * np.ptp(y) * given["step"] ** 2
            geod = pyproj.Geod(ellps="WGS84")
            right = sum(
                abs(geod.polygon_area_perimeter(*np.array(ring).T)[0])
                for ((ring,),) in make.rows_of(layer.geometry)
            )
            self.assertLess(
                abs(area / right - 1), 0.5
            )  # the box of a lattice that is turned a little

    def test_what_has_no_place_on_a_plane_stays_in_degrees(self):
        corners = np.array([(60, -60), (140, -60), (140, -90), (60, -90)], float)
        far = make.closed(corners)
        rng = np.random.default_rng(7)
        for _ in range(4):
            star = np.clip(
                make.star(rng, 9, 40.0, (rng.uniform(-170, 170), -72)), (-180, -90), (180, 90)
            )
            layer = make.layer("x", make.polygons([[[star]], [[far]]]), crs.parse("EPSG:4326"))
            self.assertEqual(self.made(layer)["layers"][0]["n"], 2)
        one = make.layer("one", make.points([[np.array((12.0, 60.0))]]), crs.parse("EPSG:4326"))
        given = self.made(one)
        self.assertLess(abs(given["near"] * given["step"] - 100), 1)

    def test_the_whole_world_stays_in_degrees(self):
        corners = [(-180, -90, 60), (100, 20, 60), (-20, 40, 30)]
        world = make.layer(
            "world", make.polygons([[[make.square(*c)]] for c in corners]), crs.parse("EPSG:4326")
        )
        given = self.made(world)
        self.assertEqual(given["notes"], [])
        self.assertEqual(given["ways"]["areas"], "authalic")
