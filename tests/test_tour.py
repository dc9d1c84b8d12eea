"""The tour for library users runs as it stands, and prints what it says that it prints."""

from __future__ import annotations

import contextlib
import io
import os
import re
import unittest
import warnings
from pathlib import Path

from polygene.sample import tolva
from tests.support.cli import InFolder

PAGE = Path(__file__).parents[1] / "docs" / "scripting.md"


class Tour(InFolder):
    maxDiff = None

    def test_each_line_prints_what_is_said(self):
        tolva.write(self.folder)
        tolva.write_recipe(self.folder)
        before = Path.cwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, before)
        blocks = re.findall(r"```python\n(.*?)```", PAGE.read_text(encoding="utf-8"), re.DOTALL)
        self.assertGreater(len(blocks), 6)
        names: dict = {}
        said, printed = [], io.StringIO()
        with contextlib.redirect_stdout(printed), warnings.catch_warnings():
            warnings.simplefilter("error")
            for block in blocks:
                exec(block, names)
                said += re.findall(r"print\(.*\)  # (.*)", block)
        self.assertEqual(printed.getvalue().splitlines(), said)


if __name__ == "__main__":
    unittest.main()
