"""What commands say on the sample data is what the golden pages say."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from polygene.commands import COMMANDS
from polygene.sample import tolva
from tests.golden import PAGES, played
from tests.support.chance import some_of


class Golden(unittest.TestCase):
    maxDiff = None

    def test_every_command_says_what_its_page_says(self):
        """``python -m tests.golden`` writes the pages anew where a change of words is meant."""
        with tempfile.TemporaryDirectory() as place:
            tolva.write(Path(place))
            tolva.write_recipe(Path(place))
            for page in some_of(sorted(PAGES.glob("*.txt"))):
                with self.subTest(page=page.stem):
                    self.assertEqual(page.read_text(encoding="utf-8"), played(page, Path(place)))

    def test_every_command_has_a_page(self):
        self.assertEqual({page.stem for page in PAGES.glob("*.txt")}, set(COMMANDS) - {"demo"})
