"""Python says what the program says: the same names, the same results, the same words."""

from __future__ import annotations

import inspect
import unittest
import warnings

import click
import numpy as np
import pyarrow as pa

import polygene
from polygene.cli.main import cli
from polygene.commands import COMMANDS
from polygene.errors import DataError, PolygeneError, UsageError
from polygene.ops.overlays.how import How
from tests.support.cli import WithSample

# Options that say where layers come from and go to, how much is said, or how a run is told to end.
OF_FILES = {
    "where", "with_where", "with_", "out", "replace", "next_", "crs", "encoding", "sheet", "header",
    "invalid", "box_crs", "as_json",
    "quiet", "raw", "no_proof", "if_changed", "piped", "stop_at_first", "dry_run", "keep_dump",
    "credit", "licence", "details", "strict", "memory", "workers", "cluster", "tasks", "resume",
    "fresh", "verbose",
}  # fmt: skip
# What another function does, or what has another name in Python where the option's is taken.
ELSEWHERE = {
    "lineage": {"diagram", "sources"}, "subset": {"differ", "relations"}, "clip": {"box"},
    "reproject": {"source", "target"}, "intersect": {"crossings"}, "merge": {"match", "propose"},
    "compare": {"report"}, "hull": {"of_each"}, "tally": {"chart", "title", "digits"},
    "run": {"from_lineage"},
}  # fmt: skip


class Names(unittest.TestCase):
    def test_what_a_command_can_be_told_its_function_can_be_told_by_the_same_name(self):
        for name in set(COMMANDS) - {"demo", "serve"}:
            with self.subTest(command=name):
                known = set(inspect.signature(getattr(polygene, name)).parameters)
                known |= set(How.__annotations__) if "how" in known else set()
                command = cli.get_command(click.Context(cli), name)
                told = {p.name for p in command.params if isinstance(p, click.Option)}
                self.assertEqual(told - known - OF_FILES - ELSEWHERE.get(name, set()), set())

    def test_every_function_says_what_it_does(self):
        for name in set(COMMANDS) - {"demo", "serve"}:
            with self.subTest(command=name):
                text = inspect.getdoc(getattr(polygene, name))
                self.assertRegex(text or "", r"^[A-Z].*\.")


class Plainly(WithSample):
    """Arguments are plain: a name, a text with a unit, an expression as text."""

    in_process = True

    def read(self, name):
        return polygene.read(f"{self.folder}/{name}")

    def same(self, layer, *command):
        """What Python made is what the program makes of the same words."""
        done = self.run_polygene(*command, "-o", "there.fgb", "--replace")
        self.assertEqual(done.code, 0, done.err)
        there = self.read("there.fgb")
        self.assertEqual(layer.table.to_pydict(), there.table.to_pydict())
        np.testing.assert_array_equal(layer.geometry.xy, there.geometry.xy)

    def test_lengths_names_and_expressions(self):
        beds, park = self.read("tolva.gpkg#beds_marram"), self.read("tolva.gpkg#park")
        resurvey = self.read("resurvey.geojson")
        marram = ("tolva.gpkg#beds_marram", "--with")
        self.same(
            polygene.union(beds, self.read("tolva.gpkg#beds_kelda"), snap="5m").layer,
            "union", *marram, "tolva.gpkg#beds_kelda", "--snap", "5m",
        )  # fmt: skip
        # Layers in different CRS are brought together as the command does.
        self.same(polygene.clip(beds, resurvey).layer, "clip", *marram, "resurvey.geojson")
        self.same(
            polygene.merge([beds, resurvey], source="survey").layer,
            "merge", "tolva.gpkg#beds_marram", "resurvey.geojson", "--source", "survey",
        )  # fmt: skip
        self.same(
            polygene.buffer(beds, "-200ft", by="species").layer,
            "buffer", "tolva.gpkg#beds_marram", "--distance", "-200ft", "--by", "species",
        )  # fmt: skip
        self.same(
            polygene.subset(beds, "cover_pct > 50", other=park, up_to="100m", sort="-cover_pct").layer,
            "subset", *marram, "tolva.gpkg#park", "--up-to", "100m", "--where", "cover_pct > 50",
            "--sort", "-cover_pct",
        )  # fmt: skip
        self.same(
            polygene.join(beds, park, "nearest", up_to="1km", keep="name").layer,
            "join", *marram, "tolva.gpkg#park", "--relation", "nearest", "--up-to", "1km",
            "--keep", "name",
        )  # fmt: skip
        self.same(
            polygene.fields(beds, compute="twice = cover_pct * 2", drop="surveyor").layer,
            "fields", "tolva.gpkg#beds_marram", "--set", "twice = cover_pct * 2", "--drop", "surveyor",
        )  # fmt: skip
        self.same(
            polygene.reproject(beds, "EPSG:3035").layer,
            "reproject", "tolva.gpkg#beds_marram", "--to", "EPSG:3035",
        )  # fmt: skip

    def test_a_box_is_an_other(self):
        box = (468000, 8044000, 480000, 8056000)
        self.same(
            polygene.clip(self.read("tolva.gpkg#sectors"), box).layer,
            "clip", "tolva.gpkg#sectors", "--box", ",".join(map(str, box)),
        )  # fmt: skip

    def test_arrays_of_ones_own(self):
        """Of other types, turned round, not to be written to; or such as do not go together."""
        square = np.array([(0, 0), (90, 0), (90, 60), (0, 60), (0, 0)])
        held = {
            "family": polygene.Family.POLYGONS, "xy": square, "ring_offsets": [0, 5],
            "part_offsets": [0, 1], "row_offsets": [0, 1], "is_null": [False],
        }  # fmt: skip

        def made(**other):
            column = polygene.GeometryColumn(**{**held, **other})
            return polygene.Layer("mine", column, pa.table({"a": [1]}), None)

        fixed = square.astype(float)
        fixed.flags.writeable = False
        for xy in (square.tolist(), square.astype("f4"), np.asfortranarray(square, float), fixed):
            found = polygene.clip(made(xy=xy), (30, 0, 60, 99)).layer.geometry
            self.assertEqual(
                sorted(map(tuple, found.xy[:-1])), [(30, 0), (30, 60), (60, 0), (60, 60)]
            )
        lines = polygene.Family.LINES
        for words, wrong in (
            ("ring_offsets do not go from 0 to 5", {"ring_offsets": [0, 6]}),
            ("ring_offsets do not go from 0 to 5", {"ring_offsets": []}),
            ("ring_offsets fall", {"ring_offsets": [0, 7, 5], "part_offsets": [0, 2]}),
            ("xy is of shape", {"xy": np.zeros((5, 3))}),
            ("z is of shape", {"z": np.zeros(4)}),
            ("null has parts", {"is_null": [True]}),
            ("number of rings", {"family": lines, "part_offsets": [0, 0, 1], "row_offsets": [0, 2]}),
            ("number of vertices", {"family": polygene.Family.POINTS}),
            ("is_multi is False", {"is_multi": False, "ring_offsets": [0, 2, 5],
                                   "part_offsets": [0, 1, 2], "row_offsets": [0, 2]}),
        ):  # fmt: skip
            for use in (polygene.audit, lambda one: polygene.write(one, f"{self.folder}/o.gpkg")):
                with self.assertRaisesRegex(DataError, f"layer 'mine' is made wrong: .*{words}"):
                    use(made(**wrong))
        with self.assertRaisesRegex(DataError, "1 geometries and 2 rows"):
            polygene.Layer("mine", made().geometry, pa.table({"a": [1, 2]}), None)

    def test_tables_and_crs_of_ones_own(self):
        """What Arrow has and files have not becomes what there is here; what becomes text is said."""
        points = polygene.GeometryColumn.from_points(np.arange(8.0).reshape(4, 2))
        layer = polygene.Layer("mine", points, {"k": ["a", "b"] * 2}, 32633, ids=[3, 4, 7, 9])
        self.assertEqual((layer.crs.to_epsg(), layer.table.column_names), (32633, ["k"]))
        same = polygene.Layer("mine", points, pa.record_batch({"k": ["a", "b"] * 2}), "EPSG:32633")
        self.assertEqual((same.crs, same.table), (layer.crs, layer.table))
        with self.assertRaisesRegex(DataError, "4 geometries and 2 ids"):
            polygene.Layer("mine", points, {}, ids=[1, 2])
        for ids in ([1.5, 2, 3, 4], ["a"] * 4, [None] * 4):
            with self.assertRaisesRegex(DataError, "no whole numbers"):
                polygene.Layer("mine", points, {}, ids=ids)
        with self.assertRaisesRegex(PolygeneError, "no CRS that is known"):
            polygene.Layer("mine", points, {}, "EPSG:99999999")
        is_text = {
            "list": pa.array([[1, 2]] * 4), "struct": pa.array([{"x": 1}] * 4),
            "duration": pa.array([1] * 4, pa.duration("s")), "time": pa.array([1] * 4, pa.time32("s")),
            "interval": pa.array([(1, 2, 3)] * 4, pa.month_day_nano_interval()),
            "large": pa.array([2**64 - 1] * 4, pa.uint64()),
        }  # fmt: skip
        others = {
            "coded": pa.array(["a", "b"] * 2).dictionary_encode(), "half": pa.array(np.ones(4, "f2")),
            "view": pa.array(["a"] * 4, pa.string_view()), "pair": pa.array([b"ab"] * 4, pa.binary(2)),
            "runs": pa.RunEndEncodedArray.from_arrays([2, 4], [1, 2]),
            "zoned": pa.array([1000] * 4, pa.timestamp("ns", "Asia/Tokyo")),
        }  # fmt: skip
        for name, column in {**is_text, **others}.items():
            odd = polygene.Layer("odd", points, pa.table({"v": column, "k": [1, 2] * 2}), 32633)
            with self.subTest(name), warnings.catch_warnings(record=True) as said:
                warnings.simplefilter("always")
                kept = polygene.clip(odd, (0, 0, 4.5, 9)).layer
                self.assertEqual((kept.n_rows, len(kept.table["v"].to_pylist())), (3, 3))
                polygene.tally(odd, by=["v"], aggregate=["m = max(v)", "f = first(v)"])
                polygene.peek(odd)
                polygene.merge([odd, odd])
                polygene.write(odd, f"{self.folder}/odd.gpkg", "replace")
            heard = [one for one in said if "taken as text" in str(one.message)]
            self.assertEqual(bool(heard), name in is_text, name)

    def test_what_is_no_box(self):
        sectors = self.read("tolva.gpkg#sectors")
        for wrong in ((1, 2), (5, 5, 1, 1), (float("nan"), 0, 1, 1), [sectors, sectors]):
            with self.assertRaisesRegex(UsageError, "x and y at least, then x and y at most, not"):
                polygene.clip(sectors, wrong)
            with self.assertRaisesRegex(UsageError, "`box` is x and y at least"):
                polygene.subset(sectors, box=wrong)

    def test_looking(self):
        found = polygene.layers(self.package)
        self.assertEqual([info.name for info in found[str(self.package)]][:2], ["park", "sectors"])
        buoys = self.read("tolva.gpkg#buoys")
        seen = polygene.peek(buoys, -2, where="tonnes > 1")
        self.assertEqual((seen.of, len(seen.rows)), (90, 2))
        counts = polygene.peek(buoys, distinct="kind").distinct
        self.assertEqual(sum(one["count"] for one in counts), 90)
        self.assertEqual(polygene.lineage(buoys).made.place, f"{self.package}#buoys")
        drawn = polygene.draw([buoys], self.folder / "map.png", colour_by="kind")
        self.assertEqual((drawn.layers, drawn.features), (["buoys"], 90))
        self.assertTrue((self.folder / "map.png").read_bytes().startswith(b"\x89PNG"))
        copied = polygene.convert(buoys, self.folder / "buoys.geojson")
        self.assertEqual(copied.summary.features, 90)

    def test_what_is_lost_in_reading_is_warned_of_where_it_was_asked_for(self):
        path = self.folder / "m.geojson"
        path.write_text('{"type":"Point","coordinates":[1,2,3,4]}')
        with self.assertWarnsRegex(UserWarning, "behind the third of 1 position left out") as said:
            polygene.read(path)
        self.assertEqual(said.filename, __file__)
        made = pa.table({"k": ["a"], "w": pa.array([[1]], pa.list_(pa.int64()))})
        with warnings.catch_warnings():
            warnings.simplefilter("error")  # what is only told otherwise is no loss
            polygene.as_layer(made)

    def test_what_is_no_layer_is_refused_in_words(self):
        beds, park = self.read("tolva.gpkg#beds_marram"), self.read("tolva.gpkg#park")
        out = self.folder / "none.gpkg"
        for call, said in (
            (
                lambda: polygene.clip("a.gpkg#b", park),
                r"`layer` of clip.*polygene\.read\('a.gpkg#b'\)",
            ),
            (
                lambda: polygene.clip(beds, "a.gpkg"),
                "`other` of clip is a Layer, and 'a.gpkg' is none",
            ),
            (lambda: polygene.union(beds, 3), "each of `others` of union is a Layer"),
            (lambda: polygene.join(beds, [park]), "`other` of join is a Layer"),
            (lambda: polygene.merge(beds), "`layers` of merge are several"),
            (lambda: polygene.merge(["a", beds]), "each of `layers` of merge is a Layer, and 'a'"),
            (lambda: polygene.merge([]), "nothing to merge"),
            (lambda: polygene.write("beds", out), "what is written is a Layer"),
            (lambda: polygene.draw(["beds"], out.with_suffix(".png")), "`layers` is a Layer"),
            (lambda: polygene.page(None, out.with_suffix(".html")), "`layers` is a Layer"),
            (
                lambda: polygene.reproject(beds, 4326),
                "a CRS is a text such as 'EPSG:32633', not 4326",
            ),
            (lambda: polygene.subset(beds, where=3), "an expression is a text"),
        ):
            with self.subTest(said), self.assertRaisesRegex(UsageError, said):
                call()
        fine = polygene.clip(beds, park, precision=np.float32(0.5))
        self.assertIn('"pg:option-precision":0.5', fine.layer.lineage.to_json())
        self.assertEqual(polygene.merge((beds, beds)).layer.n_rows, 2 * beds.n_rows)

    def test_a_recipe(self):
        (self.folder / "r.yaml").write_text(
            "parameters: {far: 100m}\ninputs: {lanes: tolva.gpkg#ferry_lanes}\n"
            'steps:\n- {buffer: lanes, distance: "${far}", as: zone}\noutputs: {zone: out.gpkg}\n'
        )
        done = polygene.run(self.folder / "r.yaml", given={"far": "50m"})
        self.assertEqual([ran.features for ran in done.ran], [5])
        self.assertEqual(self.read("out.gpkg").n_rows, 5)

    def test_errors_name_arguments_not_options(self):
        beds = self.read("tolva.gpkg#beds_marram")
        for call, name in (
            (lambda: polygene.write(beds, f"{self.package}#park"), "next"),
            (lambda: polygene.buffer(beds), "rings"),
            (lambda: polygene.join(beds, beds, count=3), "up_to"),
            (lambda: polygene.measure(beds), "centroid"),
            (lambda: polygene.union(beds, invalid="refuse"), "invalid"),
        ):
            with self.subTest(name=name), self.assertRaises(PolygeneError) as caught:
                call()
            self.assertIn(f"`{name}`", str(caught.exception))
            self.assertNotIn("--", str(caught.exception))
        for wrong in ("5 parsecs", "-3m", -3.0, "2deg"):
            with self.subTest(snap=wrong), self.assertRaises(PolygeneError):
                polygene.erase(beds, beds, snap=wrong)
