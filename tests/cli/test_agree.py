"""Words, ``--json`` and the report are made of the same facts, and ``--json`` is as its schema says."""

from __future__ import annotations

import itertools
import json
import os
import re
import shlex
import shutil
import subprocess
import tempfile
import unittest
from html import unescape
from pathlib import Path
from unittest import mock

from polygene.cli import manual, outcome, schema, show
from polygene.commands import COMMANDS
from polygene.notes import Warned
from polygene.recipe.kept import Told
from polygene.recipe.report import step_words
from polygene.sample import tolva
from tests.golden import PAGES, commands_of
from tests.support.cli import WithSample, polygene_here
from tests.support.schema import faults

MANUAL = Path(__file__).parents[2] / "man"
SCHEMA = Path(__file__).parents[2] / "docs" / "output.schema.json"
UNITS = {"km²": 1e6, "ha": 1e4, "km": 1e3, "mm": 1e-3, "cm": 0.01, "%": 0.01}
NUMBER = re.compile(
    r"(?<![\w.#])(\d[\d,]*(?:\.\d+)?(?:e[+-]?\d+)?)\s*(km²|ha|km|mm|cm|%)?(?![\w²])"
)


def played(page: Path, sample: Path):
    """Yield what each command of a golden page tells: its document, and the outcome behind it."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(shutil.copytree(sample, Path(place) / "tolva"))
        for line in commands_of(page):
            words = [word for word in shlex.split(line) if word != "-q"]
            with outcome.keeping() as kept:
                done = polygene_here(*words, "--json", folder=folder)
            yield line, json.loads(done.out), kept[-1] if kept else None


def numbers_of(value) -> set[float]:
    """Return the numbers among facts, and how many things lists and objects hold."""
    if isinstance(value, bool) or value is None:
        return set()
    if isinstance(value, (int, float)):
        return {float(value)}
    if isinstance(value, str):
        return set()
    found = {float(len(value))}
    for item in value.values() if isinstance(value, dict) else value:
        found |= numbers_of(item)
    return found


def texts_of(value) -> set[str]:
    if isinstance(value, str):
        return {value}
    if isinstance(value, dict):
        return set(value) | set().union(*map(texts_of, value.values()), set())
    if isinstance(value, list):
        return set().union(*map(texts_of, value), set())
    return set()


class Agree(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        """Play every page once."""
        with tempfile.TemporaryDirectory() as place:
            tolva.write(Path(place))
            tolva.write_recipe(Path(place))
            cls.told = [
                (page.stem, *one)
                for page in sorted(PAGES.glob("*.txt"))
                for one in played(page, Path(place))
            ]

    def test_the_schema_is_that_of_the_facts(self):
        """``python -m polygene.cli.schema > docs/output.schema.json`` writes it anew."""
        self.assertEqual(SCHEMA.read_text(encoding="utf-8"), schema.text())

    def test_the_manual_is_that_of_the_help(self):
        """``make pages`` writes it anew."""
        there = {page.name: page.read_text(encoding="utf-8") for page in MANUAL.glob("*")}
        self.assertEqual(there, dict(manual.pages()))
        self.assertEqual(len(there), len(COMMANDS) + 1)
        if man := shutil.which("man"):
            page = str(MANUAL / "polygene-clip.1")
            shown = subprocess.run(
                [man, "--warnings", "-l", page], capture_output=True, text=True, check=True,
                env={**os.environ, "MANWIDTH": "80", "LC_ALL": "C.UTF-8"},
            )  # fmt: skip
            self.assertEqual(shown.stderr, "")
            self.assertIn("--with OTHER", re.sub(".\b", "", shown.stdout))

    def test_every_command_prints_what_the_schema_says(self):
        known = json.loads(SCHEMA.read_text(encoding="utf-8"))
        for _, line, document, _ in self.told:
            with self.subTest(command=line):
                self.assertEqual(faults(document, known, known), [])
        self.assertEqual({name for name, *_ in self.told}, set(COMMANDS) - {"demo"})
        with tempfile.TemporaryDirectory() as place:
            done = polygene_here("demo", "tolva", "--json", folder=Path(place))
            document = json.loads(done.out)
            self.assertEqual((done.code, faults(document, known, known)), (0, []))
            for written in document["results"][0]["written"]:
                self.assertTrue((Path(place) / written).is_file(), written)

    def test_a_document_that_is_wrong_is_told_from_one_that_is_right(self):
        known = json.loads(SCHEMA.read_text(encoding="utf-8"))
        right = next(d for name, _, d, _ in self.told if name == "buffer")
        for path, value in (
            (("results", 0, "summary", "out"), "five"),
            (("results", 0, "summary", "more"), 1),
            (("command",), "clip"),
            (("notes",), "none"),
        ):
            wrong = json.loads(json.dumps(right))
            place = wrong
            for key in path[:-1]:
                place = place[key]
            place[path[-1]] = value
            with self.subTest(path=path):
                self.assertTrue(faults(wrong, known, known))

    def test_every_number_in_the_words_is_a_fact(self):
        """Or a sum or difference of two: what is left when those too thin are taken off."""
        checked = 0
        for _, line, document, told in self.told:
            if told is None or told.command in ("lineage", "run"):
                continue  # the one has its facts in PROV, the other tells of steps that are here too
            words = show.text_of(told.words.blocks) + "\n".join(told.words.notes)
            words = " ".join(words.split())
            for text in sorted(texts_of(document["results"]), key=len, reverse=True):
                if re.search(r"\d", text):
                    words = words.replace(" ".join(text.split()), "§")
            words = re.sub(r"EPSG:\d+|row \d+( \(id \d+\))?", "§", words)
            facts = numbers_of(document["results"])
            small = [float(n) for n in re.findall(r"\bunder ([\d.]+) ", words)]
            self.assertTrue(all(any(0 < f < n for f in map(abs, facts)) for n in small), words)
            words = re.sub(r"\bunder [\d.]+ ", "§ ", words)
            sums = {a + b for a, b in itertools.product(facts, repeat=2) if len(facts) < 400}
            sums |= {a - b for a, b in itertools.product(facts, repeat=2) if len(facts) < 400}
            for match in NUMBER.finditer(words):
                with self.subTest(command=line, number=match[0]):
                    self.assertTrue(is_among(match, facts) or is_among(match, sums), words)
                    checked += 1
        self.assertGreater(checked, 500)

    def test_the_report_says_what_the_program_says(self):
        for _, line, document, told in self.told:
            if told is None:
                continue
            with self.subTest(command=line):
                said = show.text_of(told.words.blocks)
                own = Told(said, document)
                shown = unescape(re.sub(r"<[^>]+>", "", step_words(own)))
                self.assertEqual(shown.split(), said.split())
                self.assertEqual(own.notes, document["notes"])
                warned = [note for note in own.notes if isinstance(note, Warned)]
                self.assertEqual(warned, document["warnings"])
        warned = [document["warnings"] for *_, document, _ in self.told]
        self.assertTrue(any(warned) and not all(warned))


def timeless(value):
    """Return a document without what tells one run from the next: seconds, and what was written."""
    if isinstance(value, dict):
        dropped = ("seconds", "written", "chart")
        return {k: timeless(v) for k, v in value.items() if k not in dropped}
    return [timeless(v) for v in value] if isinstance(value, list) else value


class Truly(WithSample):
    """Of what was written, and of what was not, the truth is told."""

    in_process = True

    def document(self, *arguments):
        done = self.run_polygene(*arguments, "--json")
        self.assertEqual(done.code, 0, done.err)
        return json.loads(done.out)

    def test_a_dry_run_does_all_the_work_and_writes_nothing(self):
        """It tells the same facts, and that is all that is left of it."""
        kelda, park = "tolva.gpkg#beds_kelda", "tolva.gpkg#park"
        for words in (
            ("clip", "tolva.gpkg#*", "--with", park, "-o", "o.gpkg"),
            ("dissolve", kelda, "--by", "SPEC", "-o", "o.gpkg"),
            ("join", "tolva.gpkg#buoys", "--with", "tolva.gpkg#slipways", "--relation", "nearest",
             "--links", "l.gpkg", "-o", "o.gpkg"),
            ("merge", "tolva.gpkg#beds_*", "-o", "o.gpkg"),
            ("merge", "tolva.gpkg#beds_*", "--propose", "o.yaml"),
            ("audit", kelda, "-o", "o.gpkg"),
            ("tally", kelda, "--by", "SPEC", "-o", "o.csv", "--chart", "o.png"),
            ("draw", kelda, "-o", "o.png", "--keep-style", "o.yaml"),
            ("lineage", kelda, "--diagram", "o.svg"),
        ):  # fmt: skip
            with self.subTest(command=words[0]):
                tried = self.document(*words, "--dry-run")
                self.assert_only("tolva.gpkg", "resurvey.geojson")
                said = self.run_polygene(*words, "--dry-run")
                self.assertIn("nothing was written; it would go to o.", said.words)
                self.assert_only("tolva.gpkg", "resurvey.geojson")
                done = self.document(*words)
                for path in self.folder.glob("[ol].*"):
                    path.unlink()
                self.assertEqual((tried.pop("dry_run"), done.get("dry_run")), (True, None))
                self.assertEqual(timeless(tried), timeless(done))

    def test_an_error_after_writing_does_not_deny_it(self):
        clip = ("clip", "tolva.gpkg#buoys", "--with", "tolva.gpkg#park", "-o", "o.gpkg")
        for error, code in ((ZeroDivisionError, 3), (KeyboardInterrupt, 130), (MemoryError, 1)):
            for place, said in (
                ("polygene.cli.words.results.words_of", "o.gpkg had been written by then"),
                ("polygene.writing.destination.write_all", "nothing was written"),
            ):
                with self.subTest(error=error, place=place), mock.patch(place, side_effect=error):
                    done = self.run_polygene(*clip, "--replace")
                    self.assertEqual(done.code, code)
                    self.assertIn(f"; {said}", done.words)


def is_among(match: re.Match, facts: set[float]) -> bool:
    """Whether a number as it is printed is one of the facts, in its unit and to its digits."""
    text = match[1].replace(",", "")
    value, size = float(text), UNITS.get(match[2] or "", 1.0)
    if "e" in text or "." not in text:
        digits = len(text.split("e")[0].replace(".", "").strip("0")) or 1
        slack = (
            max(10**-digits * abs(value) * 5, 0.0)
            if "e" in text
            else 0.5 * (size != 1.0 or value >= 1e4)
        )
    else:
        slack = 0.5 * 10.0 ** -len(text.split(".")[1])
    sizes = {size, 1.0}  # some facts have a unit of their own
    return any(abs(abs(f) / one - value) <= slack * 1.001 for f in facts for one in sizes)
