"""What results are told in: counted things that are known, measures with units, nothing to decipher."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

from tests.golden import PAGES

ROOT = Path(__file__).parents[2]
UNITS = {"mm", "cm", "m", "km", "m²", "ha", "km²", "s", "degrees", "units", "%"}
NOUNS = {
    "feature", "features", "layer", "layers", "field", "fields", "value", "values", "part", "parts",
    "point", "points", "pair", "pairs", "vertices", "source", "sources", "invalid", "groups", "step",
    "steps", "input", "inputs", "files", "texts", "vertex",
    "row", "rows",  # of a table without geometry
}  # fmt: skip
# What may follow a number whose noun stands in front of it, or that is one of so many.
OTHERWISE = {
    "of", "in", "to", "on", "with", "by", "and", "the", "at", "than", "more", "there", "others",
    "checked", "whole", "cut", "lay", "have", "several", "different", "narrower", "shared", "added",
    "without", "had", "are", "within", "moved", "null", "too", "stay", "were", "taken", "got",
}  # fmt: skip
LABELS = (
    "INPUT|OTHER|came out|left out|snap|slivers|balance|grid|valid|area|kept|changed|pairs|"
    "distance|measure|gaps|overlaps|mended|accuracy|vertices|computed|note|warning"
)


def told(text: str) -> list[str]:
    """Labelled lines, each with what goes on below it."""
    lines = re.sub(r"\n {8,}(?=\S)", " ", text).split("\n")
    return [line for line in lines if re.match(rf"  (?:{LABELS}) ", line)]


class Plain(unittest.TestCase):
    def setUp(self):
        docs = [p for p in (ROOT / "docs").glob("*.md") if p.name != "words.md"]
        self.lines = {
            f"{page.name}: {line}"
            for page in [*PAGES.glob("*.txt"), *docs]
            for line in told(page.read_text(encoding="utf-8"))
        }
        self.assertGreater(len(self.lines), 150)

    def test_what_is_counted_is_named(self):
        """So that no "rows" of a layer, no "items", no "objects" come in where features are meant."""
        odd = {}
        for line in self.lines:
            words = re.findall(r"(?<![\w.,#-])\d(?:[\d,]*\d)?(?:\.\d+)? ([a-z²%]+)", line)
            if wrong := set(words) - UNITS - NOUNS - OTHERWISE:
                odd[line] = wrong
        self.assertEqual(odd, {})

    def test_measures_have_units_and_few_digits(self):
        odd = {}
        for line in self.lines:
            bare = re.findall(r"(?<![\w.])\d[\d,]*\.\d+(?! ?(?:[a-zµ]+²?|%|° ))(?![\w°])", line)
            spelled = re.findall(r"\d(?:\.\d+)?e[-+]?\d+", line)
            long = re.findall(r"\d\.\d*[1-9]\d{5,}", line)
            glued = re.findall(r"(?<!-)\b\d+(?:mm|m|km)\b", line)
            if bare or spelled or long or glued:
                odd[line] = [*bare, *spelled, *long, *glued]
        self.assertEqual(odd, {})


if __name__ == "__main__":
    unittest.main()
