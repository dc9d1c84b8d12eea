"""Random cases of mend, snap and buffer; see `tests.random.cases`."""

from __future__ import annotations

import unittest

from tests.random.cases import Random


class Proved(Random, unittest.TestCase):
    names = ("mend", "snap", "buffer")


if __name__ == "__main__":
    unittest.main()
