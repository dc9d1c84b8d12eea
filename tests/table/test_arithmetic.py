"""Arithmetic, comparison and rounding against whole numbers, fractions and decimals of Python."""

from __future__ import annotations

import datetime
import math
import operator
import random
import unittest
from decimal import ROUND_HALF_UP, Decimal
from fractions import Fraction

import numpy as np
import pyarrow as pa

import polygene
from polygene.errors import ExpressionError
from polygene.layer import Layer
from polygene.table.expression import Assignment, Expression
from tests.support import generators as make

UTC = datetime.UTC
WIDTHS = {"tiny": 8, "small": 16, "medium": 32, "large": 64}
LOW, HIGH = -(2**63), 2**63 - 1


def layer(columns: dict, n: int) -> Layer:
    return Layer("x", make.points([[np.zeros(2)]] * n), pa.table(columns), None)


def values(text: str, given: Layer) -> list:
    return Assignment.parse(f"found = {text}").expression.values(given).data.to_pylist()


def rows(chance: random.Random, n: int) -> dict[str, list]:
    """Whole numbers of every width with their extremes, reals with theirs, nulls."""
    found: dict[str, list] = {}
    for name, bits in WIDTHS.items():
        low, high = -(2 ** (bits - 1)), 2 ** (bits - 1) - 1
        some = [low, high, 0, 1, -1, 7, high - 1, low + 1, None]
        found[name] = [chance.choice([*some, chance.randint(low, high)]) for _ in range(n)]
    reals = [0.0, 0.1, -2.5, 1e308, 5e-324, float(2**53), -float(2**63), 9007199254740994.0, None]
    found["real"] = [chance.choice([*reals, chance.uniform(-9, 9)]) for _ in range(n)]
    return found


def exact(sign: str, a, b):
    """What Python makes of two values, null for what has none."""
    if a is None or b is None:
        return None
    if sign in ("/", "%", "div") and b == 0:
        return None
    if isinstance(a, int) and isinstance(b, int):
        cut = abs(a) // abs(b) * (1 if (a < 0) == (b < 0) else -1) if sign in ("%", "div") else 0
        whole = {
            "+": lambda: a + b, "-": lambda: a - b, "*": lambda: a * b, "/": lambda: a / b,
            "div": lambda: cut, "%": lambda: a - b * cut,
        }[sign]()  # fmt: skip
        return whole if sign == "/" or LOW <= whole <= HIGH else None
    x, y = float(a), float(b)
    try:
        found = {
            "+": lambda: x + y, "-": lambda: x - y, "*": lambda: x * y, "/": lambda: x / y,
            "div": lambda: float(math.trunc(x / y)), "%": lambda: math.fmod(x, y),
        }[sign]()  # fmt: skip
    except OverflowError:
        return None
    return found if math.isfinite(found) else None


class Arithmetic(unittest.TestCase):
    def test_five_hundred_random_expressions(self):
        chance = random.Random(1)
        types = {name: getattr(pa, f"int{bits}")() for name, bits in WIDTHS.items()}
        for _ in range(500):
            given = rows(chance, 12)
            table = {k: pa.array(v, types.get(k, pa.float64())) for k, v in given.items()}
            own = layer(table, 12)
            one, other = chance.choice(list(given)), chance.choice(list(given))
            sign = chance.choice(["+", "-", "*", "/", "div", "%"])
            text = f"{one} {sign} {other}"
            wanted = [exact(sign, a, b) for a, b in zip(given[one], given[other], strict=True)]
            with self.subTest(text=text, given=(given[one], given[other])):
                self.assertEqual(values(text, own), wanted)

    def test_comparisons_are_exact(self):
        """Whole numbers beside reals that are nearest to others, infinite, or none."""
        whole = [2**53, 2**53 + 1, 2**53 - 1, HIGH, LOW, 0, None, 5, -(2**53) - 1]
        real = [2.0**53, 2.0**63, -(2.0**63), math.inf, -math.inf, 5.0, 5.5, None, -(2.0**53)]
        pairs = [(a, b) for a in whole for b in real]
        own = layer(
            {"a": [a for a, _ in pairs], "b": pa.array([b for _, b in pairs], pa.float64())},
            len(pairs),
        )
        signs = {
            "=": operator.eq, "<>": operator.ne, "<": operator.lt, "<=": operator.le,
            ">": operator.gt, ">=": operator.ge,
        }  # fmt: skip
        for sign, test in signs.items():
            wanted = [a is not None and b is not None and test(a, b) for a, b in pairs]
            turned = [a is not None and b is not None and test(b, a) for a, b in pairs]
            with self.subTest(sign=sign):
                self.assertEqual(Expression(f"a {sign} b").true_rows(own).tolist(), wanted)
                self.assertEqual(Expression(f"b {sign} a").true_rows(own).tolist(), turned)
        no_number = layer({"a": [1, 2], "b": [math.nan, 2.0]}, 2)
        self.assertEqual(Expression("a = b").true_rows(no_number).tolist(), [False, True])
        self.assertEqual(Expression("a > 12345678901234567890").true_rows(own).sum(), 0)

    def test_what_has_no_value_is_null_and_counted(self):
        own = layer({"n": pa.array([LOW, 4, 0]), "x": [1e200, -4.0, 0.0]}, 3)
        for text, wanted, said in [
            ("abs(n)", [None, 4, 0], {"too large for any number": 1}),
            ("-n", [None, -4, 0], {"too large for any number": 1}),
            ("n - 1", [None, 3, -1], {"too large for any number": 1}),
            ("1 / n", [1 / LOW, 0.25, None], {"divided by zero": 1}),
            ("x * x", [None, 16.0, 0.0], {"too large for any number": 1}),
            ("x ^ 0.5", [1e100, None, 0.0], {"no real number": 1}),
            ("9223372036854775807 + 1", [None] * 3, {"too large for any number": 3}),
        ]:
            with self.subTest(text=text):
                found = Assignment.parse(f"y = {text}").expression.values(own)
                self.assertEqual(found.data.to_pylist(), wanted)
                self.assertEqual(found.lost, said)
        summary = polygene.fields(own, compute="y = x * x").summary
        self.assertEqual(summary.without_value, {"too large for any number": 1})

    def test_whole_numbers_beyond_real_ones(self):
        """Alone they stay as they are; beside real numbers see `test_choosing`."""
        large = [2**53 + 1, HIGH, LOW, None]
        given = layer({"w": large, "r": [0.5, -0.5, None, 1.0],
                       "f": pa.array([0.5, 1.5, 2.5, 3.5], pa.float32()),
                       "s": pa.array([1, -1, 3, 4], pa.int8())}, 4)  # fmt: skip
        for text, wanted in {
            "floor(w)": large, "ceiling(w)": large, "round(w)": large, "least(w, s)": [1, -1, LOW, 4],
            "greatest(w + 0.0, r)": [float(large[0]), float(HIGH), float(LOW), 1.0],
            "coalesce(w + 0.0, f)": [float(large[0]), float(HIGH), float(LOW), 3.5],
            "coalesce(w, whole(f))": [*large[:3], None], "coalesce(whole(r), w)": [*large[:3], 1],
            "case when s > 2 then f else s end": [1, -1, 2.5, 3.5],
            "case when s > 2 then s else w end": [*large[:2], 3, 4],
            "sqrt(w)": [math.sqrt(2**53), math.sqrt(2**63), None, None],
            "coalesce(f, 2 ^ 40 + 1)": [0.5, 1.5, 2.5, 3.5], "coalesce(NULL, s)": [1, -1, 3, 4],
        }.items():  # fmt: skip
            with self.subTest(text=text):
                self.assertEqual(values(text, given), wanted)
        for text, kind in {
            "coalesce(f, 1)": pa.float32(), "coalesce(f, 0.1)": pa.float64(),
            "coalesce(f, s)": pa.float64(), "greatest(f, -3)": pa.float32(),
        }.items():  # fmt: skip
            computed = Assignment.parse(f"found = {text}").expression.values(given).data
            self.assertEqual(computed.type, kind)
        found = polygene.tally(given, aggregate=["m = mean(s, weight = w)"]).body
        self.assertEqual(found.num_rows, 1)

    def test_null_written_out_makes_all_null(self):
        given = layer({"a": pa.array([1, None, 3], pa.int8()), "r": [0.5, None, -0.5]}, 3)
        for text in ("a + NULL", "NULL - r", "a * (1 - NULL)", "NULL / a", "a % NULL", "NULL div a",
                     "r ^ NULL", "-NULL", "abs(NULL)", "round(NULL, 1)", "NULL + NULL"):  # fmt: skip
            self.assertEqual(values(text, given), [None] * 3, text)

    def test_arguments_that_nobody_means(self):
        """Nothing replaced; null and numbers beyond all texts; the least of days and moments."""
        day, moment = datetime.date(2020, 2, 29), datetime.datetime(2020, 2, 29, 12, tzinfo=UTC)
        moments = pa.array([moment, moment, None], pa.timestamp("ms", "UTC"))
        days = pa.array([day, None, day], pa.date32())
        given = layer({"s": ["aXb", None, ""], "d": days, "m": moments}, 3)
        whole, none = ["aXb", None, ""], [None] * 3
        midnight = moment.replace(hour=0)
        for text, wanted in {
            "replace(s, '', 'y')": whole, "replace(s, NULL, 'y')": none, "replace(s, 'X', NULL)": none,
            "replace(s, 'X', '')": ["ab", None, ""], "left(s, 1e308)": whole,
            "left(s, -1)": ["", None, ""], "left(s, NULL)": none,
            "right(s, 9223372036854775807)": whole, "right(s, NULL)": none,
            "substring(s, 2, 1e300)": ["Xb", None, ""], "substring(s, NULL, 1)": none,
            "substring(s, -9223372036854775807, 2)": ["aX", None, ""], "round(1.26, NULL)": none,
            "day_of('1.2.2020', NULL)": none, "greatest(d, d)": [day, None, day],
            "least(d, m)": [midnight, moment, midnight], "greatest(m, m)": [moment, moment, None],
            "least(NULL, NULL)": none, "upper(NULL)": none, "NULL LIKE 'a%'": none,
        }.items():  # fmt: skip
            with self.subTest(text=text):
                self.assertEqual(values(text, given), wanted)
        for text in ("NULL = NULL", "s = NULL", "NULL IN (1, 2)"):
            with self.assertRaisesRegex(ExpressionError, "IS NULL tells"):
                values(text, given)

    def test_rounding_is_of_the_number_as_it_is_written(self):
        chance = random.Random(2)
        given = [2.675, 1.005, 0.5, -0.5, 2.5, 1e300, -1.45, 0.285, 1234567.125, None]
        given += [round(chance.uniform(-999, 999), chance.randint(0, 6)) for _ in range(300)]
        given += [chance.uniform(-1e15, 1e15) for _ in range(100)]
        own = layer({"x": given}, len(given))
        for n in (-2, 0, 1, 2, 3):
            wanted = [
                None if v is None
                else float(Decimal(repr(v)).scaleb(n).to_integral_value(ROUND_HALF_UP).scaleb(-n))
                for v in given
            ]  # fmt: skip
            text = f"round(x, {n})" if n >= 0 else f"round(x, 0 - {-n})"
            with self.subTest(n=n):
                self.assertEqual(values(text, own), wanted)
        whole = layer({"n": [15, 14, -15, HIGH, 0]}, 5)
        self.assertEqual(values("round(n, 0 - 1)", whole), [20, 10, -20, None, 0])


class Aggregates(unittest.TestCase):
    def test_sums_and_means_are_correctly_rounded(self):
        chance = random.Random(3)
        groups = {
            "a": [0.1] * 20_000, "b": [1e16, 1.0, -1e16], "c": [
                chance.uniform(-1, 1) * 10.0 ** chance.randint(-20, 20) for _ in range(999)
            ],
            "d": [5.0], "e": [0.1, 0.2], "f": [1e308, 1e308, -1e308], "g": [math.inf, 1.0, 2.0],
        }  # fmt: skip
        pairs = [(k, v) for k, own in groups.items() for v in own]
        chance.shuffle(pairs)
        own = layer({"k": [k for k, _ in pairs], "x": [v for _, v in pairs]}, len(pairs))
        done = polygene.dissolve(own, "k", aggregate=["s = sum(x)", "m = mean(x)"]).layer.table
        for key, s, m in zip(*(done.column(n).to_pylist() for n in ("k", "s", "m")), strict=True):
            with self.subTest(key=key):
                if key == "g":
                    self.assertEqual((s, m), (math.inf, math.inf))
                    continue
                wanted = Fraction(0)
                for value in groups[key]:
                    wanted += Fraction(value)
                self.assertEqual(s, float(wanted))
                self.assertAlmostEqual(m, float(wanted / len(groups[key])), delta=abs(m) * 2e-16)


class Texts(unittest.TestCase):
    def test_capitals_and_cases(self):
        names = [
            "o'brien",
            "it's",
            "d\u2019arc road",
            "e\u0301cole du lac",
            "STRASSE 5b",
            "anne-marie",
            None,
        ]
        own = layer({"t": names}, len(names))
        self.assertEqual(
            values("capitalised(t)", own),
            [
                "O'Brien",
                "It's",
                "D\u2019Arc Road",
                "E\u0301cole Du Lac",
                "Strasse 5b",
                "Anne-Marie",
                None,
            ],
        )
        fold = layer({"t": ["STRA\u1e9eE", "stra\u00dfe", "Strasse"]}, 3)
        self.assertTrue(Expression("CASEI(t) = CASEI('strasse')").true_rows(fold).all())
        quote = layer({"t": ["O'Brien"]}, 1)
        for text in ("t = 'O\\'Brien'", "t = 'O''Brien'"):
            self.assertTrue(Expression(text).true_rows(quote).all(), text)

    def test_a_date_is_all_of_its_day(self):
        at = [
            datetime.datetime(2026, 5, 31, h, m, tzinfo=UTC)
            for h, m in ((0, 0), (12, 30), (23, 59))
        ]
        at += [
            datetime.datetime(2026, 6, 1, tzinfo=UTC),
            datetime.datetime(2026, 5, 30, 23, tzinfo=UTC),
            None,
        ]
        own = layer({"t": pa.array(at, pa.timestamp("ms", tz="UTC"))}, 6)
        for text, wanted in [
            ("t = DATE('2026-05-31')", [1, 1, 1, 0, 0, 0]),
            ("t <> DATE('2026-05-31')", [0, 0, 0, 1, 1, 0]),
            ("t > DATE('2026-05-31')", [0, 0, 0, 1, 0, 0]),
            ("t <= DATE('2026-05-31')", [1, 1, 1, 0, 1, 0]),
            ("t BETWEEN DATE('2026-05-31') AND DATE('2026-06-01')", [1, 1, 1, 1, 0, 0]),
            ("t IN (DATE('2026-06-01'))", [0, 0, 0, 1, 0, 0]),
            ("T_INTERSECTS(t, DATE('2026-05-31'))", [1, 1, 1, 0, 0, 0]),
            ("T_AFTER(t, DATE('2026-05-31'))", [0, 0, 0, 1, 0, 0]),
            ("T_INTERSECTS(t, INTERVAL('2026-05-30', '2026-05-31'))", [1, 1, 1, 0, 1, 0]),
        ]:
            with self.subTest(text=text):
                self.assertEqual(Expression(text).true_rows(own).tolist(), list(map(bool, wanted)))


if __name__ == "__main__":
    unittest.main()
