"""Joining by key: against a dictionary; the account; what is refused."""

import datetime
import random
import unicodedata
import unittest
from collections import Counter

import pyarrow as pa

import polygene
from polygene.errors import DataError, ExpressionError, UsageError
from polygene.table import keys
from tests.support.chance import some_of


def table(name="other", **columns):
    return polygene.as_layer(pa.table(columns), name)


def folded(text):
    """Fold a key with Python's own means, letter by letter."""
    apart = unicodedata.normalize("NFKD", text.casefold())
    found = "".join(c for c in apart if unicodedata.category(c) != "Mn" and not c.isspace())
    letters = []
    for k, c in enumerate(found):
        before = letters[-1] if letters else ""
        is_padding = c == "0" and not (before.isdigit() or before in (".", ",")) and (
            found[k + 1 : k + 2].isdigit() and found[k + 1].isascii()
        )  # fmt: skip
        if not is_padding:
            letters.append(c)
    return "".join(letters)


class AgainstADictionary(unittest.TestCase):
    def pairs(self, mine, theirs, fold):
        fold = folded if fold else (lambda text: text)
        return [
            (i, j)
            for i, a in enumerate(mine)
            for j, b in enumerate(theirs)
            if a and b and a.strip() and fold(a) == fold(b)
        ]

    def test_random_keys_find_their_partners(self):
        letters = [
            "a",
            "A",
            "ß",
            "SS",
            "é",
            "e\u0301",
            "0",
            "00",
            "7",
            " ",
            "\u00a0",
            ".",
            "-",
            "Ø",
        ]
        for case in some_of(range(80)):
            rng = random.Random(case)
            n, m = rng.randrange(12), rng.randrange(1, 12)
            texts = ["".join(rng.choices(letters, k=rng.randrange(4))) for _ in range(6)] + [None]
            mine, theirs = rng.choices(texts, k=n), rng.choices(texts, k=m)
            layer = table("own", k=pa.array(mine, pa.string()), n=pa.array(range(n), pa.int64()))
            other = table(j=pa.array(theirs, pa.string()), m=pa.array(range(m), pa.int64()))
            for fold in (False, True):
                with self.subTest(case=case, fold=fold, mine=mine, theirs=theirs):
                    wanted = self.pairs(mine, theirs, fold)
                    made = polygene.join(
                        layer, other, key="k = j", fold=fold, pairs=True, alone="drop"
                    )
                    got = made.layer.table.select(["n", "m"]).to_pydict()
                    self.assertEqual(list(zip(got["n"], got["m"], strict=True)), wanted)
                    self.account(made.summary, mine, theirs, wanted)
                    how = ["s = sum(m)", "c = count()"]
                    summed = polygene.join(layer, other, key="k = j", fold=fold, aggregate=how)
                    sums = [[j for i2, j in wanted if i2 == i] for i in range(n)]
                    columns = summed.layer.table.to_pydict()
                    self.assertEqual(columns["s"], [sum(s) if s else None for s in sums])
                    self.assertEqual(columns["c"], [len(s) for s in sums])
                    self.assertEqual(columns["matches"], [len(s) for s in sums])

    def account(self, told, mine, theirs, wanted):
        firsts, seconds = {i for i, _ in wanted}, {j for _, j in wanted}
        self.assertEqual(told.pairs, len(wanted))
        self.assertEqual((told.matched, told.used), (len(firsts), len(seconds)))
        self.assertEqual(told.matched + told.alone.rows + told.without_key, len(mine))
        self.assertEqual(told.used + told.other_alone.rows + told.other_without_key, len(theirs))
        carried = told.carried["m"]
        self.assertEqual((carried.total, carried.placed), (sum(range(len(theirs))), sum(seconds)))
        self.assertEqual(carried.after, sum(j for _, j in wanted))

    def test_one_to_one_keeps_order_and_all_fields(self):
        rng = random.Random(7)
        codes = [f"{k:05d}" for k in rng.sample(range(10**5), 500)]
        shuffled = rng.sample(codes, len(codes))
        layer = table("own", code=codes)
        other = table(code=shuffled, v=[int(c) for c in shuffled], t=shuffled)
        made = polygene.join(layer, other, key="code").layer.table
        self.assertEqual(
            made.to_pydict(), {"code": codes, "v": [int(c) for c in codes], "t": codes}
        )


class Kinds(unittest.TestCase):
    def matches(self, mine, theirs, key="k = j", fold=False):
        made = polygene.join(
            table("own", k=mine), table(j=theirs), key=key, fold=fold, aggregate="c = count()"
        )
        return made.layer.table["c"].to_pylist()

    def test_numbers_are_equal_where_they_are_equal_exactly(self):
        big = 2**53
        self.assertEqual(self.matches([float(big), big + 2.0, 0.5], [big, big + 1]), [1, 0, 0])
        self.assertEqual(self.matches([1, 2, None], pa.array([1, 2, 2], pa.int16())), [1, 2, 0])
        self.assertEqual(
            self.matches([-0.0, float("nan"), 0.1], [0.0, float("nan"), 0.1]), [1, 0, 1]
        )
        self.assertEqual(self.matches([1e300, 2.0**63], [2**62, 1]), [0, 0])

    def test_other_kinds(self):
        day = datetime.date(2026, 11, 28)
        self.assertEqual(self.matches([day, None], [day, day]), [2, 0])
        self.assertEqual(self.matches([True, False], [True, None]), [1, 0])
        self.assertEqual(self.matches(pa.nulls(2, pa.string()), pa.nulls(2, pa.string())), [0, 0])
        self.assertEqual(self.matches(pa.nulls(1), ["a"]), [0])
        self.assertEqual(self.matches(["0029", "x"], [29], fold=True), [1, 0])
        self.assertEqual(self.matches(["29.0", "29"], [29.0, 29.5], fold=True), [0, 1])
        for mine, theirs in ((["1"], [1]), ([day], ["2026-11-28"]), ([True], [1])):
            with self.assertRaisesRegex(ExpressionError, "never equal"):
                self.matches(mine, theirs)
        with self.assertRaisesRegex(ExpressionError, "`fold` compares"):
            self.matches(["01"], [1])

    def test_expressions_and_keys_of_several_fields(self):
        self.assertEqual(self.matches(["01029"], ["01"], "substring(k, 1, 2) = j"), [1])
        layer = table("own", a=["x", "x", None], b=[1, 2, 1])
        other = table(c=["x", "x", "x"], d=[1, 1, None], n=[5, 6, 7])
        made = polygene.join(layer, other, key=["a = c", "b = d"], aggregate="n = sum(n)")
        self.assertEqual(made.layer.table["n"].to_pylist(), [11, None, None])
        self.assertEqual(made.summary.without_key, 1)
        for wrong in ("k < j", "k =", "nothing = j", "k = nothing"):
            with self.subTest(wrong=wrong), self.assertRaises((ExpressionError, DataError)):
                self.matches(["a"], ["a"], wrong)

    def test_decimals_are_not_padding(self):
        texts = pa.chunked_array([["1.05", "007", "A-007", "0", "00", "x10"]])
        wanted = ["1.05", "7", "a-7", "0", "0", "x10"]
        self.assertEqual(keys.folded(texts).to_pylist(), wanted)


class Refused(unittest.TestCase):
    def test_rows_are_not_multiplied_in_silence(self):
        layer, other = (
            table("own", k=["a", "b", "a"]),
            table(k=["a", "a", "c", "c"], n=[1, 2, 3, 4]),
        )
        with self.assertRaisesRegex(
            DataError, r"1 key with several rows in other, first a \(2 rows"
        ):
            polygene.join(layer, other, key="k")
        self.assertEqual(polygene.join(layer, other, key="k", pairs=True).layer.n_rows, 5)
        made = polygene.join(layer, other, key="k", best="n")
        self.assertEqual(made.layer.table["n"].to_pylist(), [2, None, 2])
        self.assertEqual(made.summary.carried["n"].placed, 2)
        # What nobody asks for may come as often as it likes.
        unused = table(k=["a", "c", "c"], n=[1, 3, 4])
        self.assertEqual(polygene.join(layer, unused, key="k").layer.n_rows, 3)

    def test_the_best_is_a_number(self):
        own = table("own", k=["a", "b", "c"])
        nan = float("nan")
        other = table(k=["a", "a", "b", "b", "c"], v=[nan, 1.0, None, nan, None], n=[0, 1, 2, 3, 4])
        made = polygene.join(own, other, key="k", best="v").layer.table
        self.assertEqual(made["n"].to_pylist(), [1, 3, 4])

    def test_ten_million_rows_of_one_key_are_summed_but_not_paired(self):
        n = 100_000
        other = table(k=pa.array([1] * n), n=pa.array([1] * n))
        layer = table("own", k=[1] * 5000)
        with self.assertRaisesRegex(DataError, "500,000,000 pairs"):
            polygene.join(layer, other, key="k", pairs=True)
        summed = polygene.join(layer, other, key="k", aggregate="n = sum(n)").layer.table["n"]
        self.assertEqual(Counter(summed.to_pylist()), {n: 5000})

    def test_options_that_do_not_go_together(self):
        layer, other = table("own", k=["a"]), table(k=["a"], n=[1])
        for wrong in ({"relation": "within", "key": "k"}, {"fold": True}, {"key": "k", "count": 2},
                      {"key": "k", "best": "shared"}, {"key": "k", "pairs": True, "best": "n"},
                      {"key": "k", "aggregate": "sum(n)", "keep": "n"}):  # fmt: skip
            with self.subTest(wrong=wrong), self.assertRaises((UsageError, DataError)):
                polygene.join(layer, other, **wrong)

    def test_trailing_blanks_are_hinted_at(self):
        made = polygene.join(
            table("own", k=["a ", "B", "c"]), table(k=["a", "b"], n=[1, 2]), key="k"
        )
        self.assertEqual((made.summary.matched, made.summary.would_fold), (0, 2))

    def test_empty_tables(self):
        none = table(k=pa.array([], pa.string()), n=pa.array([], pa.int64()))
        made = polygene.join(table("own", k=["a"]), none, key="k")
        self.assertEqual(made.layer.table.to_pydict(), {"k": ["a"], "n": [None]})
        self.assertEqual(made.summary.carried["n"].share, None)
        self.assertEqual(polygene.join(none, table(k=["a"], m=[1]), key="k").layer.n_rows, 0)
