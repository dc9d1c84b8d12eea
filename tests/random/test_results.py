"""Random cases of imprint, supersede, dissolve and self; see `tests.random.cases`."""

from __future__ import annotations

import unittest

from tests.random.cases import Random


class Proved(Random, unittest.TestCase):
    names = ("imprint", "supersede", "contrast", "dissolve", "self")


if __name__ == "__main__":
    unittest.main()
