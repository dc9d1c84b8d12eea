"""File names made of names of strangers stay in their folder; text of theirs steers no terminal."""

import os
import unittest
from dataclasses import replace
from pathlib import Path, PurePosixPath, PureWindowsPath

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

import polygene
from polygene import crs
from polygene.formats import geopackage
from polygene.formats.file_names import LONGEST, file_name
from polygene.geometry import concatenate
from polygene.notes import visible
from tests.support import generators as make
from tests.support.cli import InFolder

NAMES = st.text(st.characters() | st.sampled_from("/\\.:~ \x00\x1b\u202e"), max_size=300)


class FileNames(unittest.TestCase):
    @given(NAMES)
    def test_a_name_is_one_component_and_stays_what_it_is(self, name):
        safe = file_name(name)
        self.assertEqual(PurePosixPath(safe).parts, (safe,))
        self.assertEqual(PureWindowsPath(safe).parts, (safe,))
        self.assertNotIn(safe[0], "./")
        self.assertLessEqual(len(os.fsencode(safe)), LONGEST)
        self.assertEqual(file_name(safe), safe)

    def test_what_is_a_name_already_is_left(self):
        for name in ("beds_marram", "Größe 2", "a.b", "道路", "x-1 (2)"):
            self.assertEqual(file_name(name), name)

    @given(NAMES)
    def test_no_control_reaches_a_terminal(self, text):
        shown = visible(text)
        self.assertTrue(all(c >= " " and c not in "\x7f\u202e" for c in shown))
        shown.encode()


class Destinations(InFolder):
    in_process = True

    def test_layers_of_any_name_are_written_inside(self):
        names = ["../victim", f"{self.folder}/abs", "CON", ".hid", "plain", "a\nb", "a\x1bb"]
        point = make.layer("x", make.points([[np.zeros(2)]]), crs.parse("EPSG:32633"))
        inside = Path(self.folder) / "in"
        inside.mkdir()
        source = inside / "evil.gpkg"
        geopackage.write(source, [replace(point, name=name) for name in names])
        for out, ending in (("out/", "gpkg"), ("new/{name}.parquet", "parquet")):
            done = self.run_polygene("convert", f"{source}#*", "-o", f"in/{out}")
            self.assertEqual(done.code, 0, done.err)
            self.assertIn(
                "'../victim' cannot be a file's name; its file is called _._victim", done.words
            )
            self.assertNotIn("\x1b", done.err)
            made = sorted(p.name for p in (inside / out.split("/")[0]).iterdir())
            self.assertEqual(len(made), 7, made)
            self.assertTrue(all(name.endswith(f".{ending}") for name in made))
        self.assertEqual([p.name for p in Path(self.folder).iterdir()], ["in"])
        self.assertEqual(polygene.read(f"{inside}/out/_._victim.gpkg").name, "../victim")

    def test_nothing_is_no_name(self):
        """A variable in a script that is not set does not mean the whole folder."""
        self.assertIn("names no file", self.run_polygene("layers", "").words)
        for words in (("convert", "", "-o", "x.gpkg"), ("convert", "#", "-o", "x.gpkg")):
            self.assertIn("names no file", self.run_polygene(*words).words)
        polygene.write(make.layer("x", make.points([[np.zeros(2)]]), None), f"{self.folder}/a.gpkg")
        done = self.run_polygene("convert", "a.gpkg", "-o", "")
        self.assertEqual((done.code, "names no file to write to" in done.words), (2, True))
        for away in ("s3://bucket/x.gpkg", "https://example.org/{x}.gpkg"):
            done = self.run_polygene("convert", "a.gpkg", "-o", away)
            self.assertEqual((done.code, "is not on this machine" in done.words), (2, True))
        for command, away in (("draw", "https://example.org/x.png"), ("page", "s3://b/x.html")):
            done = self.run_polygene(command, "a.gpkg", "-o", away)
            self.assertEqual((done.code, f"{away} is not on this" in done.words), (2, True))
        self.assert_only("a.gpkg")

    def test_braces_in_names_and_values_are_no_holes(self):
        point = make.points([[np.zeros(2)]])
        rows = make.layer("b{r}", concatenate([point, point]), None, v=["{x}", "{name}"])
        polygene.write(rows, f"{self.folder}/b{{{{r}}}}.gpkg")
        self.assert_only("b{r}.gpkg")
        for out, made in (("o_{name}.gpkg", ["o_b{r}.gpkg"]), ("{v}.fgb", ["{name}.fgb", "{x}.fgb"]),
                          ("{{{v}}}.fgb", ["{{name}}.fgb", "{{x}}.fgb"])):  # fmt: skip
            done = self.run_polygene("convert", "b{r}.gpkg", "-o", out)
            self.assertEqual(done.code, 0, done.err)
            found = [p.name for p in Path(self.folder).iterdir() if p.name != "b{r}.gpkg"]
            self.assertEqual(sorted(found), made)
            for name in made:
                (Path(self.folder) / name).unlink()
        for out in ("c{.gpkg", "c}.gpkg", "c.gpkg#{name}{"):
            done = self.run_polygene("convert", "b{r}.gpkg", "-o", out)
            self.assertEqual(done.code, 2, out)
            self.assertIn("a brace that is meant as it stands is written twice", done.words)
        self.assertIn(
            "no field 'r'", self.run_polygene("convert", "b{r}.gpkg", "-o", "{r}.csv").words
        )
