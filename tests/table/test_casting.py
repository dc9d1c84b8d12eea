"""Values from one type to another: what comes out, and what counts as lost."""

from __future__ import annotations

import datetime
import random
import unittest

import numpy as np
import pyarrow as pa

from polygene.errors import LossError, UsageError
from polygene.layer import Layer
from polygene.table.casting import fitted, recast
from polygene.table.types import type_words, typed_field, widened
from tests.support import generators as make
from tests.support.chance import many

DAY, LATER = datetime.date(2020, 1, 5), datetime.date(2021, 12, 31)
UTC = datetime.UTC


class Casting(unittest.TestCase):
    def check(self, values, words, wanted, lost=(), cut=None, dates=None, kind=None):
        found = recast(pa.chunked_array([pa.array(values, kind)]), typed_field("x", words), dates)
        self.assertEqual(found.data.to_pylist(), wanted)
        self.assertEqual([k for k, is_lost in enumerate(found.lost) if is_lost], list(lost))
        if cut is not None:
            self.assertEqual(found.cut.to_pylist(), cut)

    def test_each_way(self):
        none = None
        self.check(["1", " 2 ", "+3", "x", "", none], "integer", [1, 2, 3, none, none, none], [3])
        self.check(["1.5", "2e3", ".5", "1,5"], "real", [1.5, 2000, 0.5, none], [3])
        self.check([1, 300, -129, none], "integer 8", [1, none, none, none], [1, 2])
        self.check([1.0, 2.5, 1e30], "integer", [1, none, none], [1, 2], cut=[1, 2, none])
        texts = ["1", "2.5", "1e30", "x"]
        self.check(texts, "integer", [1, none, none, none], [1, 2, 3], cut=[1, 2, none, none])
        self.check([2**53 + 1, 2**53], "real", [none, 2.0**53], [0])
        self.check([1e300, 0.1], "real 32", [none, 0.10000000149011612], [0])
        self.check(["abc", "äö", none], "text(2)", [none, "äö", none], [0], cut=["ab", "äö", none])
        self.check([True, none], "text", ["true", none])
        self.check([1.5, 1e20], "text", ["1.5", "1e+20"])
        self.check(["yes", "No", "0", "maybe"], "boolean", [True, False, False, none], [3])
        self.check(["2020-01-05", "2020-02-30", "5.1.2020"], "date", [DAY, none, none], [1, 2])
        self.check(["5.1.2020", "31.12.2021", "31.02.2020"], "date", [DAY, LATER, none], [2],
                   dates="DD.MM.YYYY")  # fmt: skip
        self.check(["31/12/21"], "date", [LATER], dates="DD/MM/YY")
        moment = datetime.datetime(2020, 1, 5, 10, 30, 0, 250_000, UTC)
        self.check(["2020-01-05T10:30:00.25Z"], "date and time", [moment])
        self.check(["2020-01-05 24:00", "2020-01-05T10:30:00+24:00"], "date and time",
                   [none, none], [0, 1])  # fmt: skip
        zones = [f"2020-01-05T{text}" for text in (
            "12:30:00.25+02:00", "10:00:00.2500-0030", "08:30:00,25-02", "10:30:00.2500001Z"
        )]  # fmt: skip
        self.check(zones, "date and time", [moment] * 3 + [none], [3], cut=[moment] * 4)
        self.check(["2020-01-05T01:00+01:00", "2020-01-05T00:00+01:00"], "date", [DAY, none], [1])
        self.check([moment, moment.replace(hour=0, minute=0, microsecond=0)], "date", [none, DAY],
                   [0], kind=pa.timestamp("ms", tz="UTC"))  # fmt: skip
        late = moment.replace(hour=0, minute=0, microsecond=1)
        self.check([late], "date", [none], [0], kind=pa.timestamp("us", tz="UTC"))
        self.check([0.0, -0.0, 1.0, 2.0], "boolean", [False, False, True, none], [3])
        self.check([1], "date", [none], [0])

    def test_whole_numbers_in_texts_are_read_as_they_are_written(self):
        """However many digits they have and whatever stands beside them."""
        rng = random.Random(2)

        def written():
            n = rng.choice([1, 15, 16, 17, 18, 19, 19, 19, 20, 38, 39, 45])
            near = 2 ** rng.choice([53, 54, 62, 63, 64, 100]) + rng.choice([-1, 0, 1, 2])
            digits = str(rng.choice([rng.randint(10 ** (n - 1), 10**n - 1), near]))
            zeros = rng.choice(["", "", "0", "000"])
            return rng.choice(["", "-", "+"]) + zeros + digits + rng.choice(["", "", ".", ".00"])

        for _ in range(many(400, 150)):
            texts = [written(), rng.choice([written(), "0.5", "1e3", "x"])]
            column = pa.chunked_array([texts])
            whole, real = (recast(column, typed_field("x", words)) for words in ("integer", "real"))
            number = int(texts[0].split(".")[0])
            fits = -(2**63) <= number < 2**63
            is_real = int(float(number)) == number
            with self.subTest(texts=texts):
                self.assertEqual(whole.data[0].as_py(), number if fits else None)
                self.assertEqual(whole.cut[0].as_py(), number if fits else None)
                self.assertEqual(real.data[0].as_py(), float(number) if is_real else None)
                self.assertEqual([whole.lost[0], real.lost[0]], [not fits, not is_real])

    def test_words(self):
        for words in ("integer", "integer 16", "real 32", "text", "text(20)", "boolean", "date",
                      "date and time"):  # fmt: skip
            self.assertEqual(type_words(typed_field("x", words)), words)
        for wrong in ("varchar", "text(0)", "integer 7"):
            with self.assertRaisesRegex(UsageError, "there is no type"):
                typed_field("x", wrong)
        with self.assertRaisesRegex(UsageError, "no way to write a date"):
            recast(pa.chunked_array([["x"]]), typed_field("x", "date"), "MM/YYYY")

    def test_widening_loses_nothing(self):
        for one, other, wide in [
            ("integer 16", "integer 32", "integer 32"),
            ("integer 32", "real", "real"),
            ("integer", "real", None),
            ("real 32", "real", "real"),
            ("text(5)", "text(9)", "text(9)"),
            ("text(5)", "text", "text"),
            ("date", "date and time", "date and time"),
            ("text", "integer", None),
            ("boolean", "integer", None),
        ]:
            for a, b in ((one, other), (other, one)):
                found = widened(typed_field("x", a), typed_field("y", b))
                self.assertEqual(found and type_words(found), wide, (a, b))


class Codes(unittest.TestCase):
    def test_a_code_does_not_fit_a_number_unless_it_is_cut(self):
        column = pa.chunked_array([["01029", "+49", "7", "0.5", "-03", None, "0"]])
        where = Layer("x", make.points([[np.zeros(2)]] * 7), pa.table({"c": column}), None)
        field = pa.field("c", pa.float64())
        with self.assertRaisesRegex(LossError, "3 values do not fit"):
            fitted(column, field, "refuse", where)
        data, n_lost = fitted(column, field, "null", where)
        self.assertEqual((data.to_pylist(), n_lost), ([None, None, 7, 0.5, None, None, 0], 3))
        data, _ = fitted(column, field, "cut", where)
        self.assertEqual(data.to_pylist(), [1029, 49, 7, 0.5, -3, None, 0])


if __name__ == "__main__":
    unittest.main()
