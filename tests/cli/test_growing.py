"""Work in tasks as it is asked for on the command line."""

from __future__ import annotations

import json
import resource
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import polygene
from tests.support.cli import polygene_here
from tests.support.growing import differences, sums


class Tasks(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder)
        done = polygene_here("demo", "t", folder=cls.folder)
        assert done.code == 0, done.err

    def run_(self, *arguments: str, code: int = 0):
        done = polygene_here(*arguments, folder=self.folder)
        self.assertEqual(done.code, code, done.err)
        self.assertNotIn("Traceback", done.err)
        return done

    def both(self, *arguments: str) -> tuple[dict, dict]:
        """Run a command at once and in tasks; return what both say, after a look at the files."""
        told = []
        for out, more in (("one", ()), ("tasks", ("--tasks", "5"))):
            place = self.folder / f"{out}.parquet"
            shutil.rmtree(place, ignore_errors=True)
            done = self.run_(*arguments, "-o", f"{out}.parquet/", "--json", *more)
            told.append(json.loads(done.out)["results"][0])
        one, tasks = (sums(self.folder / f"{out}.parquet") for out in ("one", "tasks"))
        self.assertEqual(one, tasks, arguments)
        return told[0], told[1]

    def test_several_inputs_go_into_one_package(self):
        words = ("clip", "t/tolva.gpkg#beds_*", "--with", "t/tolva.gpkg#park", "--replace")
        self.run_(*words, "-o", "once.gpkg")
        self.run_(*words, "-o", "apart.gpkg", "--tasks", "3")
        for _ in range(2):  # into a new package, and one that is there
            for name in ("beds_marram", "beds_kelda"):
                one, other = (
                    polygene.read(f"{self.folder}/{f}.gpkg#{name}") for f in ("once", "apart")
                )
                rows = [sorted(map(repr, y.table.to_pylist())) for y in (one, other)]
                self.assertEqual(*rows)
            self.run_(*words, "-o", "apart.gpkg", "--workers", "1")

    def test_a_disk_that_is_full_for_a_worker_is_told_and_the_work_goes_on_later(self):
        beds = ("t/tolva.gpkg#sectors", "--with", "t/tolva.gpkg#beds_kelda")
        words = ("union", *beds, "--origins", "--workers", "2", "--tasks", "5")
        place = self.folder / "full.parquet"
        done = subprocess.run(
            [sys.executable, "-m", "polygene", *words, "-o", "full.parquet/"],
            cwd=self.folder, capture_output=True, text=True,
            # No file may grow beyond this: as on a full disk, writing fails in the middle.
            preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (40_000, 40_000)),
        )  # fmt: skip
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertRegex(done.stderr, r"error: cannot write \S+p\d+.parquet")
        self.assertIn("with --resume goes on", " ".join(done.stderr.split()))
        self.assertFalse(place.exists())
        self.run_(*words, "-o", "full.parquet/", "--resume")
        self.run_("union", *beds, "--origins", "-o", "plain.parquet/")
        self.assertEqual(sums(place), sums(self.folder / "plain.parquet"))

    def test_the_sample_in_tasks(self):
        beds, park, sectors = (f"t/tolva.gpkg#{n}" for n in ("beds_marram", "park", "sectors"))
        for arguments in (
            ("clip", beds, "--with", park),
            ("union", sectors, "--with", park, "--origins"),
            ("dissolve", sectors, "--by", "district", "--aggregate", "n = count()"),
            ("join", sectors, "--with", "t/tolva.gpkg#buoys", "--aggregate", "n = count()"),
            ("buffer", "t/tolva.gpkg#slipways", "--distance", "100m"),
            ("fields", sectors, "--set", "ha = round(area(ha), 1)", "--drop", "area_ha"),
            ("reproject", beds, "--to", "EPSG:4326"),
            ("reproject", "t/waters.geojson", "--to", "EPSG:8859"),
            ("mend", beds),
            ("subset", beds, "--where", "NOT species = 'eelgrass'", "--keep", "species"),
        ):
            with self.subTest(arguments):
                one, tasks = self.both(*arguments)
                self.assertEqual(differences(one["summary"], tasks["summary"]), [])
                self.assertIn("done in", " ".join(tasks["notes"]))
        self.assertEqual([p.name for p in self.folder.glob(".*")], [], "nothing is left")

    def test_into_a_package_with_its_lineage(self):
        self.run_(
            "clip", "t/tolva.gpkg#beds_marram", "--with", "t/tolva.gpkg#park", "-o", "c.gpkg",
            "--workers", "1",
        )  # fmt: skip
        layer = polygene.read(str(self.folder / "c.gpkg"))
        self.assertEqual(layer.n_rows, 46)
        lineage = self.run_("lineage", "c.gpkg", "--json").out
        self.assertIn("clip", lineage)
        self.assertNotIn("workers", lineage)

    def test_a_dry_run_writes_nothing(self):
        done = self.run_(
            "clip", "t/tolva.gpkg#sectors", "--with", "t/tolva.gpkg#park", "-o", "d.parquet/",
            "--tasks", "3", "--dry-run",
        )  # fmt: skip
        self.assertIn("nothing was written", done.words)
        self.assertFalse((self.folder / "d.parquet").exists())

    def test_what_is_one_task_is_done_at_once_and_says_so(self):
        done = self.run_(
            "buffer", "t/tolva.gpkg#ferry_lanes", "--distance", "150m", "--dissolve",
            "-o", "lanes.gpkg", "--tasks", "3",
        )  # fmt: skip
        self.assertIn("with --dissolve it is one task", done.words)

    def test_audit(self):
        told = [
            self.run_("audit", "t/tolva.gpkg#sectors", *more).out for more in ((), ("--tasks", "3"))
        ]
        self.assertEqual(*told)

    def test_settings_hold_where_there_are_tasks(self):
        place = self.folder / "polygene.toml"
        place.write_text('workers = "many"\n')
        self.addCleanup(place.unlink)
        asked = ("mend", "t/tolva.gpkg#sectors", "-o", "m.gpkg", "--tasks", "2")
        done = self.run_(*asked, code=2)
        self.assertIn("polygene.toml: workers: 'many' is no number", done.words)
        place.write_text('workers = "1"\n')
        self.run_(*asked)

    def test_wrong_use(self):
        told = ("mend", "t/tolva.gpkg#sectors", "-o", "w.gpkg")
        done = self.run_(*told, "--cluster", "tcp://127.0.0.1:1", "--workers", "2", code=2)
        self.assertIn("workers of its own", done.words)
        done = self.run_(*told, "--memory", "12", code=2)
        self.assertIn("is no size", done.words)
        done = self.run_(*told, "--resume", "--tasks", "2")
        self.assertIn("done in", done.words)
        # What is refused is so again: no copies of the sources are kept for that.
        asked = ("clip", "t/tolva.gpkg#sectors", "--with", "t/tolva.gpkg#cables", "-o", "q.gpkg")
        left = self.folder / ".q.tasks"
        for more, is_left in ((), False), (("--dry-run",), False), (("--resume",), True):
            if is_left:
                left.mkdir()
            done = self.run_(*asked, "--tasks", "2", *more, code=1)
            self.assertNotIn("is kept in", done.words)
            self.assertEqual(left.exists(), is_left)


if __name__ == "__main__":
    unittest.main()
