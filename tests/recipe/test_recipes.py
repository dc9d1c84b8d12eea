"""Recipes: checked whole, run only as far as needed, the same as the commands typed by hand."""

from __future__ import annotations

import atexit
import contextlib
import functools
import html.parser
import io
import json
import re
import shutil
import sqlite3
import tempfile
import unittest
from pathlib import Path

import polygene
from polygene.cli.run import run
from polygene.commit import locks
from polygene.errors import ExistsError, SheetError
from polygene.formats.columns import to_wkb
from polygene.measures import row_areas
from polygene.recipe.expectations import check_balance
from polygene.sample import tolva
from tests.pages.test_packing import opened
from tests.support.cli import WithSample, polygene_here, sample

EACH = """\
parameters: {distance: 50m}
settings: {folder: out, precision: 0.001}
inputs:
  marram: tolva.gpkg#beds_marram
  all: tolva.gpkg#beds_*
steps:
  - mend: marram
    as: sound
    expect:
      # a comment
      features: 30-64
      unique: bed_id
      no nulls in: bed_id
      valid: true
      no slivers under: 1m
  - for each: all
    buffer: ${each}
    distance: ${distance}
    as: ${each}_far
outputs:
  "*_far": r.gpkg#{name}
"""


PAGE = """
inputs:
  sectors: tolva.gpkg#sectors
  marram: tolva.gpkg#beds_marram
  kelda: tolva.gpkg#beds_kelda
steps:
  - fields: marram
    set: "far = 1"
    as: far
  - page: [sectors, far]
    before: kelda
    colour-by: sectors.district_name
    as: look
outputs:
  look: look.html
"""


SAID = """
inputs:
  sectors: tolva.gpkg#sectors
  park: tolva.gpkg#park
  codes: codes.csv
steps:
  - clip: sectors
    with: park
    as: cut
  - erase: sectors
    with: park
    as: half
  - for each: [one, two]
    fields: codes
    set: "a = 1"
    as: ${each}
  - subset: sectors
    where: "depth_max < -5"
    as: none
outputs:
  cut: a.shp
  codes: c.gpkg
  none: 'none/{district}.gpkg'
"""


MIXED = """
inputs:
  buoys: tolva.gpkg#buoys
  bare: bare.csv
steps:
  - fields: buoys
    set: "a = 1"
    as: with_crs
  - fields: bare
    set: "b = 1"
    as: without
outputs:
  with_crs: m.gpkg#with_crs
  without: m.gpkg#without
"""


def rows_in(address):
    """Return the features of a layer, in whatever order."""
    layer = polygene.read(address)
    shapes = map(bytes, to_wkb(layer.geometry).to_pylist())
    return sorted(zip(shapes, map(repr, layer.table.to_pylist()), strict=True))


@functools.cache
def run_once():
    """Return a folder where the sample recipe was run, once for all tests."""
    holder = tempfile.TemporaryDirectory()
    atexit.register(holder.cleanup)
    tolva.write_recipe(Path(holder.name))
    for path in sample():
        shutil.copy2(path, holder.name)
    done = polygene_here("run", "recipe.yaml", folder=Path(holder.name))
    assert done.code == 0, done.err
    return Path(holder.name)


class Recipes(WithSample):
    in_process = True

    def setUp(self):
        super().setUp()
        self.recipe = tolva.write_recipe(self.folder)
        self.text = self.recipe.read_text()

    def run_before(self):
        """Have the folder be one where the recipe was run."""
        shutil.copytree(run_once(), self.folder, dirs_exist_ok=True)

    def complaint(self, name):
        """What a recipe is refused for, without starting a program for each."""
        with contextlib.redirect_stderr(io.StringIO()), self.assertRaises(SheetError) as caught:
            run.main([str(self.folder / name)], standalone_mode=False)
        return " ".join(str(caught.exception).split())

    def reused(self, *more):
        done = self.run_polygene("run", "recipe.yaml", *more)
        self.assertEqual(done.code, 0, done.err)
        return set(re.findall(r"^  (\w+) +\w+: (?:.*, )?as last time$", done.err, re.M))

    def test_a_second_run_does_only_what_changed(self):
        everything = set(re.findall(r"    as: (\w+)\n", self.text)) | {"park_lanes", "park_cables"}
        self.run_before()
        self.assertEqual(self.reused(), everything)
        ends = {"quiet_zones", "quiet_measured", "seagrass_by_district", "district_map"}
        self.assertEqual(
            everything - self.reused("--set", "distance=200m"),
            {"lane_zone", "lane_over_cable", *ends},
        )
        self.reused()
        self.recipe.write_text(self.text.replace("give-slivers: 1m", "give-slivers: 2m"))
        self.assertEqual(everything - self.reused(), ends)
        sheet = self.folder / "surveys.yaml"
        sheet.write_text(sheet.read_text().replace("J. Ford", "J. Forde"))
        self.assertIn("surveyed", everything - self.reused())
        patches = self.folder / "resurvey.geojson"
        patches.write_text(patches.read_text().replace('"patch":"R01"', '"patch":"R91"'))
        left = everything - self.reused()
        self.assertEqual(left, {"beds", "park_beds", "zones", *ends})

    def test_the_results_are_those_of_the_commands_typed(self):
        self.run_before()
        for line in (
            "merge tolva.gpkg#beds_marram tolva.gpkg#beds_kelda --match surveys.yaml --source survey "
            "-o w.gpkg#surveyed",
            "mend w.gpkg#surveyed -o w.gpkg#sound_beds",
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

    def test_in_tasks_it_comes_to_the_same_with_results_in_folders(self):
        self.run_before()
        once = {n: rows_in(f"{self.folder}/result.gpkg#{n}") for n in ("quiet_zones", "districts")}
        shutil.rmtree(self.folder / ".polygene-work")
        wrong = self.text.replace("valid: true\n", "valid: true\n      no nulls in: name\n", 1)
        self.recipe.write_text(wrong)
        done = self.run_polygene("run", "recipe.yaml", "--tasks", "4", "--replace")
        self.assertEqual(done.code, 2)
        self.assertIn("has no field 'name'", done.words)
        folders = "  districts_buoys: far.parquet/\n  quiet_measured: result.gpkg#quiet_zones"
        text = self.text.replace("  quiet_measured: result.gpkg#quiet_zones", folders)
        self.recipe.write_text(text.replace("  districts_buoys: result.gpkg#districts\n", ""))
        self.assertNotIn("quiet_zones", self.reused("--tasks", "4", "--replace"))
        self.assertEqual(rows_in(f"{self.folder}/result.gpkg#quiet_zones"), once["quiet_zones"])
        self.assertEqual(rows_in(f"{self.folder}/far.parquet"), once["districts"])
        self.assertTrue((self.folder / "far.parquet" / "_parts.json").exists())
        told = polygene.read(f"{self.folder}/far.parquet").lineage
        self.assertIn("far.parquet", told.to_json())
        kept = list(
            (self.folder / ".polygene-work").glob("recipe/*/quiet_zones.parquet/p*.parquet")
        )
        self.assertEqual(len(kept), 1)
        self.recipe.write_text(self.text)
        self.assertIn(
            "quiet_zones", self.reused("--replace"), "at once it takes what tasks have made"
        )

    def test_a_failure_leaves_the_outputs_and_goes_on_where_it_stopped(self):
        self.run_before()
        before = (self.folder / "result.gpkg").read_bytes()
        self.recipe.write_text(self.text.replace("features: 5\n", "features: 6-9\n"))
        done = self.run_polygene("run", "recipe.yaml", "--set", "distance=90m")
        self.assertEqual(done.code, 2)
        self.assertIn("'districts' was expected to have 6-9 features, and has 5", done.words)
        self.assertEqual((self.folder / "result.gpkg").read_bytes(), before)
        self.recipe.write_text(self.text)
        self.assertIn("lane_zone", self.reused("--set", "distance=90m"))

    def test_a_second_run_of_it_is_refused_while_one_is_under_way(self):
        self.run_before()
        with locks.only_run(self.folder / ".polygene-work" / ".recipe.lock", "it"):
            done = self.run_polygene("run", "recipe.yaml")
            self.assertEqual(done.code, 1)
            self.assertIn("recipe.yaml is worked on by another run", done.words)
        self.assertIn("water", self.reused())

    def test_mistakes_are_named_with_their_line_before_anything_runs(self):
        lines = list(enumerate(self.text.splitlines(), 1))
        place = {line.strip(): k for k, line in reversed(lines)}
        for old, new, line, reason in [
            ("- clip: beds", "- clop: beds", "- clip: beds", "'clop' is no command.*did you mean"),
            ("- clip: beds", "- difference: beds", "- clip: beds", "'difference' .*that is erase here"),
            ("    dissolve: true", "    melt: true", "dissolve: true", "'melt' is called 'dissolve'"),
            ("with: park\n", "wiht: park\n", "with: park", "clip has no 'wiht'; did you mean 'with'"),
            ("- clip: beds", "- clip: bets", "- clip: beds", "neither an input nor a step"),
            ("as: zones", "as: water", "- union: water", "'water' is a step already"),
            ("${distance}", "${distnace}", "distance: ${distance}", "no parameter 'distnace'"),
            ("dissolve: true", "dissolve: 5", "dissolve: true", "'dissolve' is true or false"),
            ("title:", "titel:", "title: Seagrass and moorings in the Tolva Sound Marine Park",
             "did you mean 'title'"),
            ("  park_beds: result", "  park_bets: result", "park_beds: result.gpkg#park_beds",
             "no input or step 'park_bets'"),
            ("- mend: surveyed", "- mend: beds", "- mend: surveyed", "need each other in a circle"),
            ("  park: tolva.gpkg#park", "  park: tolva.gpkg#perk", None, "has no layer 'perk'"),
            ("steps:", "steps: [", None, "while parsing|expected"),
            ("distance: 150m", "distance:", "distance: ${distance}", "'distance' has no value"),
            ("by: district, district_name", "by:", None, "line 76: a value is wanted here"),
            ("distance: 150m", "distance: [1, 2]", None, "'distance' has one value"),
            ("150m        #", "150x        #", "distance: ${distance}", "'x' is no unit of length"),
            ("by: district, district_name", "by: district, distrct_name", "- dissolve: water",
             "'water' has no field 'distrct_name'; did you mean 'district_name'"),
            ("    with: islands", "    with: cables", "- erase: sectors", "needs polygons as OTHER"),
            ("    relation: nearest", "    relation: nearest\n    count: few", None, "'few' is not"),
            ("valid: true", "sound: true", "valid: true", "there is no expectation 'sound'"),
            ("  park_*: result.gpkg#{name}", "  park_*: result.gpkg#all",
             "park_*: result.gpkg#{name}", "stands for 3 results; put {name}"),
            ("- union: water", "- union: district_map", None,
             "needs a layer, and 'district_map' is what draw makes"),
            ("  distance: 150m", "  each: 150m", None, "'each' stands for"),
            ("  buoys_near: result.gpkg", "  buoys_near: nowhere/result.gpkg", None,
             "output 'buoys_near': .* there is no folder nowhere"),
            ("seagrass.csv", "seagrass.xls", None, "does not end in one of .csv"),
            ("parameters:", "settings: {colour: red}\nparameters:", None, "settings has no 'colour'"),
        ]:  # fmt: skip
            with self.subTest(new=new):
                self.recipe.write_text(self.text.replace(old, new, 1))
                words = self.complaint("recipe.yaml")
                self.assertRegex(words, reason)
                if line is not None:
                    self.assertIn(f"line {place[line]}:", words)
                self.assertFalse((self.folder / ".polygene-work").exists())
        self.recipe.write_text(self.text)
        done = self.run_polygene("run", "recipe.yaml", "--set", "distence=1m")
        self.assertIn("no parameter 'distence'; did you mean 'distance'", done.words)

    def test_steps_for_each_and_expectations(self):
        (self.folder / "out").mkdir()
        (self.folder / "each.yaml").write_text(EACH)
        done = self.run_polygene("run", "each.yaml")
        self.assertEqual(done.code, 0, done.err)
        names = [row[0] for row in self.sql("out/r.gpkg", "SELECT table_name FROM gpkg_contents")]
        self.assertEqual(names, ["beds_kelda_far", "beds_marram_far"])
        for old, new, reason in [
            ("features: 30-64", "features: 99", "expected to have 99 features, and has 64"),
            ("unique: bed_id", "unique: species", "no value of species twice"),
            ("no nulls in: bed_id", "no nulls in: species", "no nulls in species, and has"),
            ("slivers under: 1m", "slivers under: 90m", "no parts thinner than 90m, and has some"),
            ("unique: bed_id", "unique: bed_ids", "did you mean 'bed_id'"),
            ("valid: true", "balance: exact", "its command has no balance to tell"),
            ("valid: true", "valid: maybe", "valid is true or false"),
        ]:
            (self.folder / "each.yaml").write_text(EACH.replace(old, new))
            self.assertRegex(self.complaint("each.yaml"), f"each.yaml, line 1[1-9]: .*{reason}")

    def test_what_is_kept_is_used_only_as_it_was_told(self):
        """Facts, not words, say whether a balance holds; a result or its facts that somebody changed
        are made anew.
        """
        steps = "title: x\ninputs: {a: tolva.gpkg#sectors, b: tolva.gpkg#park}\nsteps:\n"
        steps += "  - clip: a\n    with: b\n    as: in_park\n    expect: {balance: exact}\n"
        self.recipe.write_text(steps + "outputs: {in_park: o.gpkg}\n")
        self.assertEqual((self.reused(), self.reused()), (set(), {"in_park"}))
        (beside,) = (self.folder / ".polygene-work" / "recipe").glob("in_park-*.told.json")
        whole = json.loads(beside.read_text())
        told = json.loads(whole["told"])
        balance = told["facts"]["results"][0]["summary"]["balance"]
        self.assertEqual(check_balance(told["facts"]), "")
        balance["inside"] += 1000.0
        self.assertRegex(check_balance(told["facts"]), "off by 1000 m² where the grid allows")
        beside.write_text(json.dumps({**whole, "told": json.dumps(told)}))
        self.assertEqual((self.reused(), self.reused()), (set(), {"in_park"}))
        place = beside.with_name(beside.name.replace(".told.json", ".gpkg"))
        with contextlib.closing(sqlite3.connect(place)) as file, file:
            file.execute("DELETE FROM in_park WHERE id < 9")
        self.assertEqual((self.reused(), self.reused()), (set(), {"in_park"}))
        place.write_bytes(place.read_bytes()[:5000])
        self.assertEqual((self.reused(), self.reused()), (set(), {"in_park"}))
        self.assertEqual(check_balance({}), check_balance({"results": [{"summary": {}}]}))

    def test_what_is_right_is_not_refused_before_the_run(self):
        """Names of fields that a step makes, that OTHER has, or that expressions are of."""
        self.recipe.write_text(
            "inputs: {a: tolva.gpkg#sectors, b: tolva.gpkg#park}\n"
            "steps:\n"
            "  - {fields: a, set: ['ha = area(ha)'], keep: [sector, ha], as: made}\n"
            "  - {fields: a, rename: [code=sector], keep: code, as: renamed}\n"
            "  - {dissolve: a, by: 'z = left(sector, 2), district', as: grouped}\n"
            "  - {tally: a, by: 'left(sector, 2)', aggregate: [n = count()], sort: -n, as: counts}\n"
            "  - {union: b, with: a, refresh: area_ha, as: both}\n"
            "outputs: {made: o.gpkg, counts: n.csv}\n"
        )
        self.run_polygene("run", "recipe.yaml")
        wrong = self.recipe.read_text().replace("left(sector, 2), d", "left(sectr, 2), d")
        (self.folder / "wrong.yaml").write_text(wrong)
        self.assertRegex(self.complaint("wrong.yaml"), "line 5: .*no field 'sectr'")

    def test_what_stands_there_is_text_as_it_is_written(self):
        """Codes with zeros in front, fields called no, times: not what YAML 1.1 makes of them."""
        self.recipe.write_text(
            "parameters: {code: 01027, at: 12:30, factor: 1.50}\n"
            "inputs: {a: tolva.gpkg#sectors}\n"
            "steps:\n"
            "  - fields: a\n"
            "    set: [\"no = '${code}'\", \"t = '${at} ${factor}'\"]\n"
            "    as: on\n"
            "  - {dissolve: on, by: no, aggregate: [t = first(t)], as: off}\n"
            "outputs: {off: o.gpkg}\n"
        )
        done = self.run_polygene("run", "recipe.yaml")
        self.assertEqual(done.code, 0, done.err)
        table = polygene.read(self.folder / "o.gpkg").table
        found = table.select(["no", "t"]).to_pylist()
        self.assertEqual(found, [{"no": "01027", "t": "12:30 1.50"}])

    def test_the_plan(self):
        plan = self.run_polygene("run", "recipe.yaml", "--dry-run")
        self.assertRegex(plan.out, r"lane_zone +buffer lanes, distance 150m, dissolve")

    def test_its_json_holds_what_each_step_told(self):
        plan = json.loads(self.run_polygene("run", "recipe.yaml", "--dry-run", "--json").out)
        self.assertFalse((self.folder / ".polygene-work").exists())
        done = json.loads(self.run_polygene("run", "recipe.yaml", "--json").out)
        self.assertEqual([s["step"] for s in plan["results"]], [s["step"] for s in done["results"]])
        (step,) = (s for s in done["results"] if s["step"] == "park_lanes")
        self.assertFalse(step["reused"])
        alone = self.run_polygene(
            "clip", "tolva.gpkg#ferry_lanes", "--with", "tolva.gpkg#park", "-o", "x.gpkg", "--json"
        )
        own = json.loads(alone.out)["results"][0]["summary"]
        told = step["told"][0]["summary"]
        for key in ("balance", "whole", "cut"):
            self.assertEqual(told[key], own[key])

    def test_what_steps_and_outputs_have_to_say_is_told_once_and_each_time(self):
        (self.folder / "codes.csv").write_text("x,y,code\n1,2,007\n3,4,008\n")
        (self.folder / "said.yaml").write_text(SAID)
        for is_again in (False, True):
            with self.subTest(is_again=is_again):
                done = self.run_polygene("run", "said.yaml", "--report", "said.html", "--replace")
                self.assertEqual(done.code, 0, done.err)
                told = " ".join(done.err.split())
                self.assertEqual(told.count("as last time"), 5 if is_again else 0)
                self.assertEqual(told.count("warning cut, half: sectors: field area_ha holds"), 1)
                self.assertIn("warning none: there is no feature, so nothing is written", told)
                # Read by two steps, and written as it is.
                self.assertEqual(told.count("code has codes such as 007"), 1)
                self.assertIn("note one, two: codes.csv: code has", told)
                self.assertIn("note a: field district_name is called district_n in a", told)
                self.assertLess(told.rindex("warning "), told.index("note "))
                page = re.sub(r"<[^>]+>", "", (self.folder / "said.html").read_text())
                self.assertIn("warning cut, half: sectors: field area_ha holds", page)
                self.assertIn("field district_name is called district_n in a shapefile", page)
        found = json.loads(self.run_polygene("run", "said.yaml", "--json").out)
        self.assertEqual(len(found["warnings"]), 3)
        self.assertEqual(found["notes"][:3], found["warnings"])
        self.assertIn("district_n", " ".join(found["notes"][3:]))
        finished = polygene.run(self.folder / "said.yaml")
        self.assertIn("district_n", " ".join(finished.notes))

    def test_it_writes_over_what_it_wrote_and_nothing_else(self):
        """Neither an input, whatever is said, nor what others made, but with `--replace`."""
        one = "inputs: {a: tolva.gpkg#sectors, b: tolva.gpkg#park, c: landings.csv}\nsteps:\n"
        one += "  - {clip: a, with: b, as: made}\n  - {tally: made, by: district, as: table}\n"
        one += "outputs:\n"
        recipe = self.folder / "own.yaml"
        shutil.copy(self.folder / "tolva.gpkg", self.folder / "mine.gpkg")
        for name in ("map.png", "mine.csv", "page.html"):
            (self.folder / name).write_text("mine")
        (self.folder / "landings.csv").write_text("code,n\nS01,1\n")

        def run(outputs, *more):
            recipe.write_text(one + outputs)
            return self.run_polygene("run", "own.yaml", *more)

        before = {p: p.read_bytes() for p in self.folder.iterdir() if p.is_file() and p != recipe}
        for outputs, more, said in (
            ("  made: tolva.gpkg#Sectors\n", ["--replace"], "tolva.gpkg#Sectors is the input 'a'"),
            (
                "  made: new.gpkg\n  table: landings.csv\n",
                ["--replace"],
                "the input 'c'",
            ),
            ("  made: new.gpkg#x\n  a: new.gpkg#X\n", [], "new.gpkg#X is where output 'made' goes"),
            ("  made: new.csv\n  table: ./new.csv\n", [], "new.csv is where output 'made' goes"),
            ("  made: mine.gpkg#sectors\n", [], "mine.gpkg#sectors exists already, and no run"),
            ("  made: mine.gpkg#sectors\n", ["--dry-run"], "mine.gpkg#sectors exists already"),
            ("  made: new.gpkg\n  table: mine.csv\n", [], "mine.csv exists already"),
            ("  made: new.gpkg\n", ["--report", "page.html"], "page.html exists already"),
        ):
            with self.subTest(outputs=outputs, more=more):
                done = run(outputs, *more)
                self.assertEqual(done.code, 1 if "exists" in said else 2, done.words)
                self.assertIn(said, done.words)
                self.assertEqual(before, {p: p.read_bytes() for p in before})
        with self.assertRaisesRegex(ExistsError, "exists already.*`replace`"):
            recipe.write_text(one + "  made: mine.gpkg#sectors\n")
            polygene.run(recipe)
        # Beside what is there, and over what it wrote itself; also parts, known at the end only.
        beside = "  made: mine.gpkg\n  table: own.csv\n"
        parts = "  made: 'parts/{district}.gpkg'\n"
        for outputs in (beside, beside, parts, parts):
            done = run(outputs, "--report", "own.html")
            self.assertEqual(done.code, 0, done.words)
            self.assertNotIn("of an earlier run", done.words)
        self.assertEqual(polygene.read(f"{self.folder}/mine.gpkg#sectors").n_rows, 24)
        # Parts that come no more are left, and told as long as they are there.
        of_all = one
        one = one.replace("with: b,", "with: b, where: \"district = 'MI'\",")
        more = (
            "parts/OS.gpkg#made, parts/SK.gpkg#made, parts/TH.gpkg#made, parts/VA.gpkg#made are of"
        )
        for told in (more, more.replace("parts/SK.gpkg#made, ", "")):
            self.assertIn(f"note {told} an earlier run, and no result", run(parts).words)
            (self.folder / "parts/SK.gpkg").unlink(missing_ok=True)
        recipe.write_text(of_all + parts)
        recipe.rename(self.folder / "other.yaml")
        other = self.run_polygene("run", "other.yaml")
        self.assertRegex(
            other.words, r"parts/\w+\.gpkg#made exists already, and no run of this recipe"
        )
        self.assertEqual(self.run_polygene("run", "other.yaml", "--replace").code, 0)
        self.assertEqual(self.run_polygene("run", "other.yaml").code, 0)

    def test_an_error_of_a_step_says_which_and_where(self):
        head = (
            "inputs: {s: tolva.gpkg#sectors, p: tolva.gpkg#park, m: 'tolva.gpkg#beds_*'}\nsteps:\n"
        )
        for step, code, said in (
            ("{clip: s, as: a}", 2, "line 3: step 'a': give either --with OTHER or --box"),
            (
                "{buffer: s, distance: -9km, where: name = 3, as: a}",
                2,
                "line 3: step 'a': a text is",
            ),
            (
                "{fields: s, type: name=integer, as: a}",
                1,
                "line 3: step 'a': layer 'sectors', field",
            ),
            ("{clip: [s, p], with: p, as: a}", 2, "line 3: clip makes a layer of each of 2"),
            ("{clip: m, with: p, as: a}", 2, "say `for each: [m]`"),
        ):
            (self.folder / "e.yaml").write_text(f"{head}- {step}\noutputs: {{a: e.gpkg}}\n")
            with self.subTest(step):
                done = self.run_polygene("run", "e.yaml")
                self.assertEqual(done.code, code, done.words)
                self.assertIn(said, done.words)
                self.assertNotIn(".polygene-work", done.words)

    def test_what_a_step_writes_beside_is_its_own_and_there_after_each_run(self):
        chart = self.folder / "c.svg"
        chart.write_text("mine")
        (self.folder / "c.yaml").write_text(
            "inputs: {s: tolva.gpkg#sectors}\nsteps:\n"
            "- {tally: s, by: district, chart: c.svg, as: t}\noutputs: {t: t.csv}\n"
        )
        refused = self.run_polygene("run", "c.yaml")
        self.assertEqual((refused.code, chart.read_text()), (1, "mine"))
        self.assertIn("line 3: c.svg exists already, and no run of this recipe", refused.words)
        chart.unlink()
        for reused in (0, 1, 0):
            done = self.run_polygene("run", "c.yaml")
            self.assertEqual((done.code, done.err.count("as last time")), (0, reused), done.err)
            self.assertTrue(chart.exists())
            if reused:
                chart.unlink()

    def test_a_page_is_a_step_and_what_lies_beside_is_a_layer_of_the_recipe(self):
        (self.folder / "look.yaml").write_text(PAGE)
        done = self.run_polygene("run", "look.yaml")
        self.assertEqual(done.code, 0, done.err)
        given = json.loads(opened((self.folder / "look.html").read_text())[0])
        sides = {layer["name"]: (layer["side"], layer["n"]) for layer in given["layers"]}
        self.assertEqual(
            sides, {"beds_kelda": ("before", 52), "sectors": ("after", 24), "far": ("after", 64)}
        )
        again = self.run_polygene("run", "look.yaml")
        self.assertIn("look page", " ".join(again.err.split()))
        self.assertEqual(again.err.count("as last time"), 2)
        (self.folder / "look.yaml").write_text(PAGE.replace("before: kelda", "before: nowhere"))
        self.assertIn(
            "needs 'nowhere', which is neither an input nor a step", self.complaint("look.yaml")
        )

    def test_outputs_that_cannot_be_on_one_map_have_each_its_own_in_the_report(self):
        (self.folder / "bare.csv").write_text("x,y\n1,2\n3,4\n")
        (self.folder / "mixed.yaml").write_text(MIXED)
        done = self.run_polygene("run", "mixed.yaml", "--report", "mixed.html")
        self.assertEqual(done.code, 0, done.err)
        page = (self.folder / "mixed.html").read_text()
        self.assertEqual(page.count('class="polygene-look"'), 2)

    def test_the_report_is_one_page_with_all_of_it(self):
        done = self.run_polygene("run", "recipe.yaml", "--report", "r.html")
        self.assertEqual(done.code, 0, done.err)
        page = (self.folder / "r.html").read_text()
        reader = html.parser.HTMLParser()
        reader.feed(page)
        self.assertNotRegex(page, r"(src|href)=.http")
        self.assertEqual(page.count("data:image/png;base64,"), 8)
        for text in ("Seagrass and moorings", "distance = 150m", "result.gpkg#quiet_zones",
                     "polygene clip beds --with park", "features: 5, as expected",
                     "<svg", "resurvey was brought from OGC:CRS84", "Zostera marina"):  # fmt: skip
            self.assertIn(text, page)
        again = self.run_polygene("run", "recipe.yaml", "--report", "r.html")
        self.assertEqual(again.code, 0)
        self.assertIn("resurvey was brought from OGC:CRS84", (self.folder / "r.html").read_text())
        self.assertEqual(self.run_polygene("run", "recipe.yaml", "--report", "r.pdf").code, 2)


if __name__ == "__main__":
    unittest.main()
