"""Damaged files by the thousand: see `tests.support.mangled`."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import unittest
from pathlib import Path

COUNT = int(os.environ.get("POLYGENE_MANGLED", "500"))


class Mangled(unittest.TestCase):
    def test_every_end_has_words_and_comes_soon(self):
        seed = random.randrange(1 << 30)
        done = subprocess.run(
            [sys.executable, "-m", "tests.support.mangled", str(COUNT), str(seed)],
            env={**os.environ, "POLYGENE_THREADS": "1"},
            cwd=Path(__file__).parents[2], capture_output=True, text=True,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(done.stdout)
        print(f"mangled: {found['cases']} cases, seed {seed}")
        self.assertEqual(found["cases"], COUNT)
        self.assertEqual(found["wrong"], [], f"seed {seed}")


if __name__ == "__main__":
    unittest.main()
