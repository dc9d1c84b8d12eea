"""How layers came about: kept in every format, carried on, told, drawn, and run again."""

from __future__ import annotations

import contextlib
import itertools
import json
import re
import sqlite3
import unittest
import warnings
import xml.etree.ElementTree as ElementTree
from dataclasses import replace
from unittest import mock

import numpy as np

import polygene
from polygene import crs, provenance, record
from polygene.formats import address, addressed
from polygene.formats.base import files_beside
from polygene.formats.registry import format_of
from polygene.pictures.diagram import HIGH, WIDE, Arrow, Box, diagram
from polygene.provenance import Made, Step
from tests.support import cli

ENDINGS = (".gpkg", ".parquet", ".fgb", ".geojson", ".shp", ".csv", ".geojsonl")


def made(name: str, **more) -> Made:
    return Made(name, f"{name}.gpkg", 3, "EPSG:32633", **more)


def step(command: str, *used, **options) -> Step:
    return Step(command, options, "2026-05-01T00:00:00Z", "2026-05-01T00:00:01Z", "1", "", used)


class Documents(unittest.TestCase):
    def test_what_sources_bring_is_carried_on_once(self):
        a = provenance.source(made("a", checksum="1", credit="Harbour office", licence="CC0"))
        b = provenance.source(made("b", checksum="2"))
        cut = provenance.derived(made("cut"), step("clip", ("INPUT", a), ("OTHER", b), whole=True))
        both = provenance.derived(made("both"), step("union", ("INPUT", cut), ("OTHER", a)))
        both = provenance.parse(both.to_json())
        self.assertEqual([m.name for m in provenance.sources(both)], ["a", "b"])
        self.assertEqual(provenance.credits_of(both), ["Harbour office · CC0"])
        root = provenance.history(both)
        self.assertEqual(
            [(r, n.made.name) for r, n in root.used], [("INPUT", "cut"), ("OTHER", "a")]
        )
        self.assertEqual(root.used[0][1].options, {"whole": True})
        self.assertEqual(provenance.moved(both, "x", "y.gpkg").this["prov:location"], "y.gpkg")

    def test_relations_name_what_is_there(self):
        sources = [("INPUT", provenance.source(made(n))) for n in "abc"]
        found = provenance.derived(made("all"), step("merge", *sources)).document
        known = {*found["entity"], *found["activity"], *found["agent"]}
        for relation in ("used", "wasGeneratedBy", "wasAssociatedWith"):
            for item in found[relation].values():
                refs = [v for k, v in item.items() if k != "prov:role"]
                self.assertLessEqual(set(refs), known)
        self.assertEqual(sum("pg:this" in e for e in found["entity"].values()), 1)

    def test_what_is_no_lineage(self):
        for text in ("", "[]", "{}", '{"entity": 3}', '{"entity": {"a": {}}}', '{"entity": {"a": 1}}',
                     '{"entity": {"a": {"pg:this": true}}, "used": {"u": 1}}'):  # fmt: skip
            self.assertIsNone(provenance.parse(text))

    def test_a_circle_and_what_is_missing_end(self):
        own = provenance.derived(made("x"), step("mend", ("INPUT", provenance.source(made("s")))))
        document = json.loads(own.to_json())
        for use in document["used"].values():
            use["prov:entity"] = own.entity
        root = provenance.history(provenance.Lineage(document, own.entity))
        self.assertEqual(len(provenance.nodes(root)), 1)
        for use in document["used"].values():
            use["prov:entity"] = "pg:nowhere"
        root = provenance.history(provenance.Lineage(document, own.entity))
        self.assertEqual(root.used[0][1].made.name, "?")


class Diagrams(unittest.TestCase):
    def test_boxes_do_not_overlap_and_stand_right_of_what_they_are_made_of(self):
        rng = np.random.default_rng(4)
        for _ in range(20):
            n = int(rng.integers(1, 25))
            arrows = [
                Arrow(str(rng.integers(0, k)), str(k), bool(rng.integers(0, 2)))
                for k in range(1, n)
                for _ in range(int(rng.integers(0, 3)))
            ]
            boxes = [Box(str(k), f"<{k}>", "a & b") for k in range(n)]
            tree = ElementTree.fromstring(diagram(boxes, arrows))
            places = {}
            for group in tree.findall("{*}g"):
                rect, name = group.find("{*}rect"), group.find("{*}text").text
                places[name[1:-1]] = (float(rect.get("x")), float(rect.get("y")))
            self.assertEqual(len(places), n)
            for a, b in itertools.combinations(places.values(), 2):
                self.assertTrue(abs(a[0] - b[0]) >= WIDE or abs(a[1] - b[1]) >= HIGH)
            for arrow in arrows:
                self.assertLess(places[arrow.start][0], places[arrow.stop][0])


class Kept(cli.WithSample):
    in_process = True

    def lineage_of(self, text):
        (ref,) = address.resolve(f"{self.folder}/{text}")
        return addressed.read(ref).layers[0].lineage

    def test_every_format_keeps_it_and_the_next_step_carries_it_on(self):
        for ending in ENDINGS:
            with self.subTest(ending=ending):
                first = self.run_polygene(
                    "clip", "tolva.gpkg#sectors", "--with", "tolva.gpkg#park", "-o", f"a{ending}",
                    "--where", "depth_max > 5", "--credit", "Sound survey", "--licence", "CC BY 4.0",
                )  # fmt: skip
                self.assertEqual(first.code, 0, first.err)
                second = self.run_polygene(
                    "buffer", f"a{ending}", "--distance", "10m", "--crs", "EPSG:32633", "-o",
                    f"b_{ending[1:]}.gpkg",
                )  # fmt: skip
                self.assertEqual(second.code, 0, second.err)
                own = self.lineage_of(f"b_{ending[1:]}.gpkg")
                found = [(m.name, m.features, bool(m.checksum)) for m in provenance.sources(own)]
                self.assertEqual(found, [("sectors", 24, True), ("park", 1, True)])
                self.assertEqual(provenance.credits_of(own), ["Sound survey · CC BY 4.0"])
                cut = provenance.history(own).used[0][1]
                self.assertEqual((cut.command, cut.options), ("clip", {"where": "depth_max > 5"}))

    def test_a_result_is_made_of_its_own_input_only(self):
        self.run_polygene("clip", "tolva.gpkg#beds_*", "--with", "tolva.gpkg#park", "-o", "o.gpkg")
        names = [m.name for m in provenance.sources(self.lineage_of("o.gpkg#beds_kelda"))]
        self.assertEqual(names, ["beds_kelda", "park"])
        self.run_polygene("merge", "tolva.gpkg#beds_*", "-o", "m.gpkg")
        names = [m.name for m in provenance.sources(self.lineage_of("m.gpkg"))]
        self.assertEqual(names, ["beds_marram", "beds_kelda"])

    def test_what_was_changed_when_it_had_been_read_has_no_checksum(self):
        """Nor what is gone; in files of one piece, of several, and in a database."""
        layer = replace(polygene.read(f"{self.package}#sectors"), lineage=None)

        def write(path, n_rows):
            for part in files_beside(path):
                part.unlink(missing_ok=True)
            format_of(path).write(path, [layer.take(np.arange(n_rows))])

        for ending in ("geojson", "shp", "gpkg"):
            path = self.folder / f"a.{ending}"
            for n_left in (20, 0, None):
                write(path, 24)

                def checksum(of, path=path, n_left=n_left, real=record.checksum):
                    if n_left == 0:
                        path.unlink()
                    elif n_left is not None:
                        write(path, n_left)
                    return real(of)

                said = warnings.catch_warnings(record=True)
                with mock.patch.object(record, "checksum", checksum), said as told:
                    warnings.simplefilter("always")
                    back = polygene.read(path)
                with self.subTest(ending, n_left=n_left):
                    self.assertEqual(back.n_rows, 24)
                    (source,) = provenance.sources(back.lineage)
                    self.assertEqual(source.checksum != "", n_left is None)
                    self.assertEqual(
                        [str(w.message) for w in told if "no checksum" in str(w.message)],
                        [] if n_left is None else [f"{path} was changed when it had been read: "
                                                   "its lineage tells no checksum of it"],
                    )  # fmt: skip

    def test_other_texts_about_a_layer_travel_along_and_go_with_it(self):
        self.run_polygene("convert", "tolva.gpkg#sectors", "-o", "s.gpkg")
        with contextlib.closing(sqlite3.connect(self.folder / "s.gpkg")) as connection:
            connection.execute(
                "INSERT INTO gpkg_metadata VALUES (9, 'dataset', 'http://example.org/iso', "
                "'text/xml', '<md>Sectors</md>')"
            )
            connection.execute(
                "INSERT INTO gpkg_metadata_reference (reference_scope, table_name, md_file_id) "
                "VALUES ('table', 's', 9)"
            )
            connection.commit()
        for _ in range(2):
            self.run_polygene("clip", "s.gpkg", "--with", "tolva.gpkg#park", "-o", "c.gpkg#c",
                              "--replace")  # fmt: skip
        rows = self.sql("c.gpkg", "SELECT md_standard_uri, metadata FROM gpkg_metadata ORDER BY 1")
        self.assertEqual(rows[0], ("http://example.org/iso", "<md>Sectors</md>"))
        self.assertEqual(len(rows), 2)
        self.assertEqual(len(self.sql("c.gpkg", "SELECT * FROM gpkg_metadata_reference")), 2)
        names = self.sql("c.gpkg", "SELECT extension_name FROM gpkg_extensions ORDER BY 1")
        self.assertEqual(names, [("gpkg_metadata",), ("gpkg_metadata",), ("gpkg_rtree_index",)])

    def test_what_python_makes_tells_as_what_the_program_makes(self):
        """The same steps, sources and options; a recipe of it makes the same layer again."""
        import polygene

        sectors = polygene.read(f"{self.folder}/tolva.gpkg#sectors")
        islands = polygene.read(f"{self.folder}/tolva.gpkg#islands")
        water = polygene.erase(sectors, islands, give_slivers="30m").layer
        joined = polygene.dissolve(water, "district", aggregate="n = count()").layer
        polygene.write(joined, f"{self.folder}/made.gpkg")
        root = provenance.history(self.lineage_of("made.gpkg"))
        self.assertEqual(
            (root.command, root.options),
            ("dissolve", {"by": "district", "aggregate": "n = count()"}),
        )
        ((role, step),) = root.used
        self.assertEqual(
            (role, step.command, step.options), ("INPUT", "erase", {"give-slivers": "30m"})
        )
        self.assertEqual([role for role, _ in step.used], ["INPUT", "OTHER"])
        self.assertTrue(all(len(node.made.checksum) == 64 for _, node in step.used))
        made = self.run_polygene("run", "again.yaml", "--from-lineage", "made.gpkg")
        self.assertEqual(made.code, 0, made.err)
        self.assertEqual(self.run_polygene("run", "again.yaml").code, 0)
        compared = self.run_polygene("compare", "made.gpkg", "again.gpkg", "--strict")
        self.assertEqual(compared.code, 0, compared.out)

    def test_a_layer_of_arrays_says_where_it_is_from(self):
        import polygene
        from tests.support import generators as make

        spots = make.layer("spots", make.points([list(np.array([[0, 0], [5, 1.0]]))]))
        near = polygene.buffer(spots, 2.0).layer
        root = provenance.history(near.lineage)
        self.assertEqual((root.command, root.options), ("buffer", {"distance": 2.0}))
        self.assertEqual(root.used[0][1].made.place, "made in Python")
        placed = replace(spots, crs=crs.parse("EPSG:4326"))
        near = polygene.buffer(placed, rings=[2.0, 5], precision=0.25).layer
        options = provenance.history(near.lineage).options
        self.assertEqual(options, {"rings": ["2.0m", "5m"], "precision": "0.25m"})
        self.assertIsNone(spots.lineage)


class Told(cli.WithSample):
    in_process = True

    def setUp(self):
        super().setUp()
        self.run_polygene(
            "erase", "tolva.gpkg#sectors", "--with", "tolva.gpkg#islands", "-o", "w.gpkg#water",
            "--refresh", "area_ha",
        )  # fmt: skip
        self.run_polygene(
            "dissolve", "w.gpkg#water", "--by", "district", "-o", "w.gpkg#districts",
            "--aggregate", "sectors = count()", "--aggregate", "ha = sum(area_ha)",
        )  # fmt: skip

    def test_the_story_the_sources_and_the_diagram(self):
        story = self.run_polygene("lineage", "w.gpkg#districts").out
        self.assertRegex(
            story,
            r"(?s)districts +dissolve, aggregate sectors =.*ha = sum\(area_ha\),\s+by district",
        )
        self.assertRegex(story, r"    with islands +tolva.gpkg#islands +12")
        sources = self.run_polygene("lineage", "w.gpkg#districts", "--sources").out
        self.assertEqual(re.findall(r"^  (\w+) +tolva", sources, re.M), ["sectors", "islands"])
        (prov,) = json.loads(self.run_polygene("lineage", "w.gpkg#districts", "--json").out)[
            "results"
        ]
        self.assertEqual(len(prov["activity"]), 2)
        done = self.run_polygene("lineage", "w.gpkg#districts", "--diagram", "d.svg")
        self.assertEqual(done.code, 0)
        ElementTree.parse(self.folder / "d.svg")
        bare = self.run_polygene("lineage", "tolva.gpkg#park")
        self.assertIn("none is kept in it, so it is a source itself", bare.out)

    def test_the_recipe_written_from_it_gives_the_same_layer(self):
        done = self.run_polygene("run", "again.yaml", "--from-lineage", "w.gpkg#districts")
        self.assertIn("2 steps, 2 inputs", done.words)
        ran = self.run_polygene("run", "again.yaml")
        self.assertEqual(ran.code, 0, ran.err)
        columns = "district, sectors, ha, hex(geometry)"
        self.assertEqual(
            self.sql("again.gpkg", f"SELECT {columns} FROM districts"),
            self.sql("w.gpkg", f"SELECT {columns} FROM districts"),
        )
        refused = self.run_polygene("run", "again.yaml", "--from-lineage", "w.gpkg#districts")
        self.assertIn("--replace overwrites it", refused.words)
        unknown = self.run_polygene("run", "x.yaml", "--from-lineage", "tolva.gpkg#park")
        self.assertEqual(unknown.code, 1)
        self.assertIn("nothing is known of how it came about", unknown.words)
        with contextlib.closing(sqlite3.connect(self.folder / "tolva.gpkg")) as connection:
            connection.execute("DELETE FROM islands WHERE id = 1")
            connection.commit()
        changed = self.run_polygene("run", "y.yaml", "--from-lineage", "w.gpkg#districts")
        self.assertIn("tolva.gpkg is not what it was", changed.words)


if __name__ == "__main__":
    unittest.main()
