"""Recipes: checked whole, run only as far as needed, the same as the commands typed by hand."""

from __future__ import annotations

import re
import unittest

import polygene
from polygene.measures import row_areas
from polygene.sample import tolva
from tests.support.cli import WithSample


class Recipes(WithSample):
    def setUp(self):
        super().setUp()
        self.recipe = tolva.write_recipe(self.folder)
        self.text = self.recipe.read_text()

    def reused(self, *more):
        done = self.run_polygene("run", "recipe.yaml", *more)
        self.assertEqual(done.code, 0, done.err)
        return {n for n, how in re.findall(r"^  (\w+) +\w+: .*?, ([^,\n]+)$", done.err, re.M)
                if how == "as last time"}  # fmt: skip

    def test_a_second_run_does_only_what_changed(self):
        everything = set(re.findall(r"    as: (\w+)", self.text))
        self.assertEqual(self.reused(), set())
        self.assertEqual(self.reused(), everything)
        self.assertEqual(
            everything - self.reused("--set", "distance=200m"), {"lane_zone", "quiet_zones"}
        )
        self.recipe.write_text(self.text.replace("drop-slivers: 1m", "drop-slivers: 2m"))
        self.assertEqual(everything - self.reused(), {"lane_zone", "quiet_zones"})
        patches = self.folder / "resurvey.geojson"
        patches.write_text(patches.read_text().replace('"patch":"R01"', '"patch":"R91"'))
        left = everything - self.reused()
        self.assertEqual(left, {"beds", "park_beds", "zones", "quiet_zones"})

    def test_the_results_are_those_of_the_commands_typed(self):
        self.reused()
        for line in (
            "mend tolva.gpkg#beds_marram -o w.gpkg#sound_beds",
            "supersede w.gpkg#sound_beds --with resurvey.geojson -o w.gpkg#beds",
            "clip w.gpkg#beds --with tolva.gpkg#park -o w.gpkg#park_beds",
        ):
            self.assertEqual(self.run_polygene(*line.split()).code, 0)
        mine, typed = (
            polygene.read(f"{self.folder}/{f}#park_beds") for f in ("result.gpkg", "w.gpkg")
        )
        self.assertEqual(mine.table, typed.table)
        self.assertEqual(row_areas(mine.geometry).tolist(), row_areas(typed.geometry).tolist())
        lines = [p for p in self.folder.iterdir() if not p.name.startswith(".")]
        self.assertNotIn("-journal", "".join(p.name for p in lines))

    def test_a_failure_leaves_the_outputs_and_goes_on_where_it_stopped(self):
        self.reused()
        before = (self.folder / "result.gpkg").read_bytes()
        self.recipe.write_text(self.text.replace("features: 5", "features: 6-9"))
        done = self.run_polygene("run", "recipe.yaml", "--set", "distance=90m")
        self.assertEqual(done.code, 2)
        self.assertIn("'districts' was expected to have 6-9 features, and has 5", done.words)
        self.assertEqual((self.folder / "result.gpkg").read_bytes(), before)
        self.recipe.write_text(self.text)
        self.assertIn("lane_zone", self.reused("--set", "distance=90m"))

    def test_mistakes_are_named_with_their_line_before_anything_runs(self):
        place = {line.strip(): k for k, line in enumerate(self.text.splitlines(), 1)}
        for old, new, line, reason in [
            ("- clip: beds", "- clop: beds", "- clip: beds", "no command 'clop'.*did you mean 'clip'"),
            ("with: park\n", "wiht: park\n", "with: park", "clip has no 'wiht'; did you mean 'with'"),
            ("- clip: beds", "- clip: bets", "- clip: beds", "neither an input nor a step"),
            ("as: zones", "as: water", "- union: water", "'water' is a step already"),
            ("${distance}", "${distnace}", "distance: ${distance}", "no parameter 'distnace'"),
            ("melt: true", "melt: 5", "melt: true", "'melt' is true or false"),
            ("title:", "titel:", "title: Seagrass and moorings in the Tolva Sound Marine Park",
             "did you mean 'title'"),
            ("  park_beds: result", "  park_bets: result", "park_beds: result.gpkg#park_beds",
             "no input or step 'park_bets'"),
            ("- mend: marram", "- mend: beds", "- mend: marram", "need each other in a circle"),
            ("  park: tolva.gpkg#park", "  park: tolva.gpkg#perk", None, "has no layer 'perk'"),
            ("steps:", "steps: [", None, "while parsing|expected"),
        ]:  # fmt: skip
            with self.subTest(new=new):
                self.recipe.write_text(self.text.replace(old, new, 1))
                done = self.run_polygene("run", "recipe.yaml")
                self.assertEqual((done.code, "Traceback" in done.err), (2, False), done.err)
                self.assertRegex(done.words, reason)
                if line is not None:
                    self.assertIn(f"line {place[line]}:", done.words)
                self.assertFalse((self.folder / ".polygene-work").exists())
        self.recipe.write_text(self.text)
        done = self.run_polygene("run", "recipe.yaml", "--set", "distence=1m")
        self.assertIn("no parameter 'distence'; did you mean 'distance'", done.words)
        plan = self.run_polygene("run", "recipe.yaml", "--dry-run")
        self.assertRegex(plan.out, r"lane_zone +buffer lanes, distance 150m, melt")


if __name__ == "__main__":
    unittest.main()
