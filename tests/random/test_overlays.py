"""Random cases of clip, erase, intersect and union; see `tests.random.cases`."""

from __future__ import annotations

import unittest

from tests.random.cases import Random


class Proved(Random, unittest.TestCase):
    names = ("clip", "erase", "intersect", "union")


if __name__ == "__main__":
    unittest.main()
