"""Settings files: found above, won over by options, and mistakes in them named."""

from __future__ import annotations

import os
import unittest

from polygene import provenance, settings
from polygene.formats import address, addressed
from tests.support.cli import WithSample


class Settings(WithSample):
    in_process = True

    def setUp(self):
        super().setUp()
        self.sheet = self.folder / "polygene.toml"
        self.sheet.write_text(
            'folder = "results"\nformat = "parquet"\nprecision = "1m"\nperson = "A. Ardlow"\n'
            'credit = "Sound office"\n'
        )

    def test_its_folder_is_made_said_and_looked_in(self):
        first = self.run_polygene("subset", "tolva.gpkg#park", "-o", "p.gpkg")
        self.assertRegex(first.err, r"the folder results is the one that\s+polygene.toml names")
        second = self.run_polygene("clip", "tolva.gpkg#sectors", "--with", "p.gpkg", "-o", "q.gpkg")
        self.assertEqual(second.code, 0, second.err)
        self.assertRegex(second.err, r"p.gpkg is taken from the folder results")
        self.assertTrue((self.folder / "results" / "q.gpkg").exists())
        self.sheet.write_text('workspace = "x"')
        done = self.run_polygene("layers", "tolva.gpkg")
        self.assertRegex(done.err, r"'workspace' is called\s+'folder' now")

    def test_what_is_no_value_is_told_wherever_it_would_be_used(self):
        asked = ("clip", "tolva.gpkg#sectors", "--with", "tolva.gpkg#park", "-o", "c.gpkg")
        for text, words in (
            ('precision = "some"', "precision: 'some' is no distance"),
            ('workers = "0"', "workers: '0' is no number"),
            ('memory = "much"', "memory: 'much' is no size"),
            ('cache = "wide"', "cache: 'wide' is no size"),
        ):
            self.sheet.write_text(text)
            done = self.run_polygene(*asked)
            self.assertEqual(done.code, 2, text)
            self.assertIn(f"polygene.toml: {words}", done.words)

    def test_a_folder_at_home_and_none_that_stays_empty(self):
        # As an editor writes it that puts a byte order mark first.
        self.sheet.write_text('folder = "~/results/new"\n', encoding="utf-8-sig")
        home = self.folder / "home"
        home.mkdir()
        for layer, code in (("nothing", 1), ("park", 0)):
            done = self.run_polygene(
                "subset", f"tolva.gpkg#{layer}", "-o", "p.gpkg", HOME=str(home)
            )
            self.assertEqual(done.code, code, done.err)
            self.assertEqual([*home.rglob("*.gpkg")], [home / "results/new/p.gpkg"][code:])
            self.assertEqual((home / "results").exists(), not code)

    def test_one_that_others_may_write_is_not_obeyed(self):
        asked = ("subset", "tolva.gpkg#park", "-o", "p.gpkg", "--replace")
        for spoil in (lambda: self.sheet.chmod(0o646), lambda: os.chown(self.sheet, 12345, -1)):
            self.sheet.chmod(0o644)
            try:
                spoil()
            except PermissionError:
                continue  # only the administrator gives files to others
            done = self.run_polygene(*asked)
            self.assertEqual(done.code, 0)
            self.assertRegex(done.err, r"polygene.toml is\s+not obeyed: (everybody|it belongs)")
            self.assertFalse((self.folder / "results" / "p.gpkg").exists())

    def test_they_fill_in_what_is_not_said(self):
        clip = ["clip", "tolva.gpkg#sectors", "--with", "tolva.gpkg#park"]
        for words in (["-o", "a.gpkg"], ["-o", "./b.gpkg", "--precision", "0.01m"],
                      ["-o", "each/", "--credit", "Else"]):  # fmt: skip
            done = self.run_polygene(*clip, *words)
            self.assertEqual(done.code, 0, done.err)
        found = {}
        for name in ("results/a.gpkg", "b.gpkg", "each/sectors.parquet"):
            (ref,) = address.resolve(f"{self.folder}/{name}")
            own = addressed.read(ref).layers[0].lineage
            root = provenance.history(own)
            people = [a["dct:title"] for a in own.document["agent"].values()]
            found[name] = (root.options["precision"], root.made.credit, "A. Ardlow" in people)
        self.assertEqual(
            found,
            {
                "results/a.gpkg": ("1m", "Sound office", True),
                "b.gpkg": ("0.01m", "Sound office", True),
                "each/sectors.parquet": ("1m", "Else", True),
            },
        )

    def test_numbers_need_no_quotes(self):
        self.sheet.write_text("precision = 0.5\nworkers = 3\n")
        found = settings.read(self.sheet)
        self.assertEqual((found.precision, found.workers), ("0.5", "3"))

    def test_mistakes(self):
        for text, reason in [
            ('precison = "1m"', "there is no setting 'precison'; did you mean 'precision'"),
            ("precision = ", "it is no valid TOML"),
            ("folder = 1", "folder is a text in quotes"),
            ("workers = 1.5", "polygene.toml: workers: '1.5' is no number of processes"),
            ('crs = "EPSG:999999"', "polygene.toml: crs: 'EPSG:999999' is no CRS"),
            ('encoding = "utf-99"', "polygene.toml: encoding: 'utf-99' is no encoding"),
            ('format = "xls"', "'xls' is no format"),
            ('precision = "1x"', "'x' is no unit of length"),
        ]:
            self.sheet.write_text(text)
            done = self.run_polygene(
                "clip", "tolva.gpkg#sectors", "--with", "tolva.gpkg#park", "-o", "a.gpkg"
            )
            self.assertEqual(done.code, 2, done.err)
            self.assertIn(reason, done.words)


if __name__ == "__main__":
    unittest.main()
