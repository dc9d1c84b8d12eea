"""The same results whatever the kernels are built as and however many threads there are."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest

from tests.kernels.everything import everything
from tests.support.chance import many


def told(size: int, **environment: str) -> dict[str, str]:
    """Return the digests of a process of its own."""
    done = subprocess.run(
        [sys.executable, "-m", "tests.kernels.everything", str(size)],
        capture_output=True, text=True, check=True, env={**os.environ, **environment},
    )  # fmt: skip
    return dict(line.split("\t") for line in done.stdout.splitlines())


class Settings(unittest.TestCase):
    def test_uncompiled_kernels_give_the_same(self):
        self.assertEqual(told(3, POLYGENE_KERNELS="python"), everything(3))

    def test_so_does_any_number_of_threads(self):
        size = many(16, 8)
        alone = told(size, POLYGENE_THREADS="1")
        self.assertEqual(len(set(alone.values())), len(alone))
        self.assertEqual(told(size, POLYGENE_THREADS="5"), alone)


if __name__ == "__main__":
    unittest.main()
