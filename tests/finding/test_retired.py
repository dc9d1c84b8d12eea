"""Names and sentences that are no more: nowhere in help, messages and docs."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

import click

from polygene.cli.main import cli
from polygene.commands import COMMANDS

ROOT = Path(__file__).parents[2]
RETIRED = re.compile(
    r"--(drop-slivers|distance-from|melt|within|single|unmatched|take|inside|descending)(?![\w-])"
    r"|\bmajority\b|a right to\b|by its rings|signs of their rings|worked on with|not sound"
    r"|used by none|in the middle,|and so it is|superseded with|row of its own\.|not any\.|workspace = "
)
# Where old names are told: what changed, and what people say.
TELLING = {"CHANGELOG.md", "words.md"}


class Retired(unittest.TestCase):
    def found(self, texts):
        return {name: m[0] for name, text in texts.items() if (m := RETIRED.search(text))}

    def test_not_in_help(self):
        context = click.Context(cli)
        helps = {name: cli.get_command(context, name).get_help(context) for name in COMMANDS}
        self.assertEqual(self.found({**helps, "": cli.get_help(context)}), {})

    def test_not_in_docs(self):
        pages = [
            p for p in [*(ROOT / "docs").glob("*.md"), ROOT / "README.md"] if p.name not in TELLING
        ]
        self.assertGreater(len(pages), 10)
        self.assertEqual(self.found({p.name: p.read_text() for p in pages}), {})

    def test_not_in_messages_and_recipes(self):
        said = {}
        for path in (ROOT / "src").rglob("*"):
            if path.suffix in (".py", ".yaml") and "finding" not in path.parts:
                text = re.sub(r'""".*?"""', "", path.read_text(), flags=re.DOTALL)
                texts = re.findall(r'"[^"\n]*"', text) if path.suffix == ".py" else [text]
                said[path.name] = " ".join(texts)
        self.assertEqual(self.found(said), {})


if __name__ == "__main__":
    unittest.main()
