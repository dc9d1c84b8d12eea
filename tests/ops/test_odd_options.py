"""Options that mean nothing are refused in words from Python too, where nothing reads them first."""

import inspect
import math
import unittest

import polygene
from polygene import crs
from polygene.errors import UsageError
from tests.support import generators as make

SQUARES = make.polygons([[[make.square(0, 0, 2)]], [[make.square(3, 0, 2)]]])
LAYER = make.layer("s", SQUARES, crs.parse("EPSG:32633"), n=[1, 2])
NO_LENGTHS = (math.nan, math.inf, -math.inf, 1e300, "1e400m", "nan", "-5m", "5 parsecs", "")


class Odd(unittest.TestCase):
    def test_lengths_that_are_none(self):
        """One that is infinite gave an empty result, or ended as a fault of ours."""
        for value in NO_LENGTHS:
            for name, call in {
                "buffer": lambda v: polygene.buffer(LAYER, v),
                "precision": lambda v: polygene.union(LAYER, LAYER, precision=v),
                "snap": lambda v: polygene.clip(LAYER, LAYER, snap=v),
                "up_to": lambda v: polygene.join(LAYER, LAYER, "nearest", up_to=v),
                "coverage": lambda v: polygene.mend(LAYER, coverage=v),
                "dissolve": lambda v: polygene.dissolve(LAYER, precision=v),
            }.items():
                if name == "buffer" and value == "-5m":  # shrinks
                    continue
                with self.subTest(name=name, value=value), self.assertRaises(UsageError):
                    call(value)

    def test_numbers_and_boxes_that_are_none(self):
        for call in (
            lambda: polygene.join(LAYER, LAYER, "nearest", count=0),
            lambda: polygene.join(LAYER, LAYER, "nearest", count=10**30),
            lambda: polygene.tally(LAYER, "n", top=0),
            lambda: polygene.tally(LAYER, "n", top=math.nan),
            lambda: polygene.subset(LAYER, limit=-1),
            lambda: polygene.subset(LAYER, box=(1, 1, 0, 0)),
            lambda: polygene.subset(LAYER, box=(math.nan, 0, 1, 1)),
            lambda: polygene.subset(LAYER, box=(0, 0, 1)),
            lambda: polygene.buffer(LAYER, 1.0, mitre_limit=math.nan),
            lambda: polygene.buffer(LAYER, 1.0, mitre_limit=0.5),
            lambda: polygene.buffer(LAYER, 1.0, chord_error=0.0),
            lambda: polygene.buffer(LAYER, 1.0, chord_error=1.5),
        ):
            with self.subTest(call=inspect.getsource(call)), self.assertRaises(UsageError):
                call()


if __name__ == "__main__":
    unittest.main()
