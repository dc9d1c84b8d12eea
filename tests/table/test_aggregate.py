"""Aggregates, against the standard library and pyarrow on the same groups."""

from __future__ import annotations

import itertools
import math
import statistics
import unittest
from collections import Counter
from fractions import Fraction
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import polygene
from polygene import parallel
from polygene.errors import ExpressionError
from polygene.layer import Layer
from polygene.table.aggregate import Entries, Take, aggregate
from polygene.table.groups import group_rows
from polygene.table.ranking import order_keys
from polygene.table.sums import exact_sum, rounded_sums
from tests.support import generators as make
from tests.support.chance import many


def of(text, values, group, n_groups, kind=None, **more):
    column = make.points([[np.array([k, 0.0])] for k in range(len(values))])
    table = pa.table({"v": pa.array(values, kind), **more})
    entries = Entries(np.arange(len(values)), np.array(group, np.int64), n_groups)
    return aggregate(Take.parse(text), Layer("t", column, table), entries)


def members(values, group, n):
    return [[v for v, g in zip(values, group, strict=True) if g == k] for k in range(n)]


def commonest(values):
    ranked = Counter(values).most_common(2)
    if not ranked or (len(ranked) == 2 and ranked[0][1] == ranked[1][1]):
        return None
    return ranked[0][0]


REFERENCE = {
    "count": len,
    "sum": lambda v: sum(v) if v else None,
    "mean": lambda v: statistics.fmean(v) if v else None,
    "median": lambda v: statistics.median(v) if v else None,
    "min": lambda v: min(v, default=None),
    "max": lambda v: max(v, default=None),
    "first": lambda v: v[0] if v else None,
    "last": lambda v: v[-1] if v else None,
    "commonest": commonest,
    "list": lambda v: "; ".join(dict.fromkeys(map(str, v))) or None,
}
numbers = st.one_of(st.none(), st.integers(-50, 50))
words = st.one_of(st.none(), st.sampled_from(["a", "Ä", "zz", "\U0001f30a", "b;c"]))


class Functions(unittest.TestCase):
    @settings(max_examples=many(60, 30), deadline=None)
    @given(st.lists(st.tuples(numbers, words, st.integers(0, 3)), max_size=25))
    def test_each_against_the_obvious_one(self, rows):
        numbers, texts, group = (list(c) for c in zip(*rows, strict=True)) if rows else ([], [], [])
        for values, kind in ((numbers, pa.int32()), (texts, pa.string())):
            for name, reference in REFERENCE.items():
                if kind == pa.string() and name in ("sum", "mean", "median"):
                    continue
                found = of(f"x = {name}(v)", values, group, 5, kind).data.to_pylist()
                kept = [[v for v in m if v is not None] for m in members(values, group, 5)]
                for mine, wanted in zip(found, map(reference, kept), strict=True):
                    self.assertEqual(mine is None, wanted is None, name)
                    if isinstance(wanted, float):
                        self.assertAlmostEqual(mine, wanted)
                    else:
                        self.assertEqual(mine, wanted, name)
            agreed = of("agreed(v)", values, group, 5, kind)
            sets = [set(m) for m in members(values, group, 5)]
            wanted = [s.pop() if len(s) == 1 else None for s in map(set, sets)]
            self.assertEqual(agreed.data.to_pylist(), wanted)
            self.assertEqual(agreed.disagreed, sum(len(s) > 1 for s in sets))

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(words, numbers, st.integers(0, 2)), max_size=20), st.booleans())
    def test_the_value_of_the_largest(self, rows, is_smallest):
        texts, ranks, group = (list(c) for c in zip(*rows, strict=True)) if rows else ([], [], [])
        how = "smallest" if is_smallest else "largest"
        found = of(
            f"value(v, {how} = r * 2)", texts, group, 4, pa.string(), r=pa.array(ranks, pa.int64())
        )
        wanted, ties = [], 0
        for pairs in members(list(zip(texts, ranks, strict=True)), group, 4):
            known = [(v, r) for v, r in pairs if r is not None]
            best = (min if is_smallest else max)((r for _, r in known), default=None)
            values = {v for v, r in known if r == best}
            wanted.append(values.pop() if len(values) == 1 else None)
            ties += len(values) > 1
        self.assertEqual(found.data.to_pylist(), wanted)
        self.assertEqual(found.disagreed, ties)
        self.assertEqual(found.field.name, "value_v")

    def test_weights_types_and_exact_sums(self):
        found = of(
            "m = mean(v, weight=w)", [1, 3, None, 5], [0, 0, 0, 1], 2, w=[1.0, 3.0, 9.0, 0.0]
        )
        self.assertEqual(found.data.to_pylist(), [2.5, None])
        found = of("s = sum(v, weight=w * 2)", [1, 3], [0, 0], 1, w=[0.5, 1.0])
        self.assertEqual(found.data.to_pylist(), [7.0])
        large = [2**53 + 1, 2**53 + 3]
        self.assertEqual(of("sum(v)", large, [0, 0], 1).data.to_pylist(), [2**54 + 4])
        dates = pa.array(["2024-02-01", None, "2023-05-05"]).cast(pa.date32()).to_pylist()
        self.assertEqual(of("min(v)", dates, [0, 0, 0], 1).data.to_pylist(), [dates[2]])
        self.assertEqual(of("x = max(v)", dates, [0, 0, 0], 1).field.type, pa.date32())
        self.assertEqual(of("s = sum(v * 2 + 1)", [1, 2], [0, 0], 1).data.to_pylist(), [8])
        self.assertEqual(of("mean(v)", [1], [0], 1).field.name, "mean_v")

    def test_complaints(self):
        for text, reason, column in [
            ("x = sum(w)", "no field 'w'", 8),
            ("x = averge(v)", "no aggregate 'averge'", 4),
            ("x = sum()", "takes one field", 4),
            ("x = max(v, weight=v)", "only sum and mean can be weighted", 18),
            ("x + 1", "NAME = FUNCTION(FIELD)", 0),
            ("x = sum(upper('a'))", "sum needs a number, and this is a text", 8),
            ("x = sum(v", "ends too early", 9),
            ("x = value(v)", "value(FIELD, largest = EXPRESSION)", 4),
            ("x = value(v, biggest = v)", "value(FIELD, largest = EXPRESSION)", 4),
            ("x = max(v, largest = v)", "takes one field", 4),
        ]:
            with self.subTest(text=text), self.assertRaises(ExpressionError) as caught:
                of(text, [1], [0], 1)
            self.assertIn(reason, caught.exception.reason)
            self.assertEqual(caught.exception.column, column)
        with self.assertRaisesRegex(ExpressionError, "too large"):
            of("sum(v)", [2**62, 2**62], [0, 0], 1)


class RoundedSums(unittest.TestCase):
    """Sums are those of fractions, rounded once: what is told by the order of additions is certain."""

    def check(self, values: np.ndarray, group: np.ndarray, n: int):
        with np.errstate(all="ignore"):
            found = rounded_sums(group, values, n)
        for g in range(n):
            exact = sum(map(Fraction, values[group == g].tolist()), Fraction(0))
            try:
                wanted = float(exact)
            except OverflowError:
                wanted = math.inf if exact > 0 else -math.inf
            self.assertEqual(found[g], wanted, values[group == g].tolist())

    @given(
        st.lists(
            st.tuples(
                st.integers(0, 3),
                st.one_of(
                    st.floats(allow_nan=False, allow_infinity=False),
                    st.sampled_from([1.0, 2.0**-53, -(2.0**-53), 2.0**53, 5e-324, 1e16, 1e308]),
                ),
            )
        )
    )
    @settings(max_examples=300, deadline=None)
    def test_of_few_awkward_numbers(self, pairs):
        group = np.array([g for g, _ in pairs], np.int64)
        self.check(np.array([v for _, v in pairs], np.float64), group, 4)

    def test_of_many(self):
        rng = np.random.default_rng(4)
        for values in (
            rng.normal(size=30_000),
            np.round(rng.uniform(0, 100, 30_000), 2),
            np.concatenate([rng.normal(size=9000) * 1e18, rng.normal(size=9000)])[
                rng.permutation(18_000)
            ],
            np.tile([1.0, 2.0**-53, 2.0**-53, -1.0], 5000),
        ):
            self.check(values, rng.integers(0, 5, len(values)), 5)
            order = rng.permutation(len(values))
            group = np.zeros(len(values), np.int64)
            self.assertEqual(rounded_sums(group, values, 1), rounded_sums(group, values[order], 1))

    def test_means_are_rounded_once_too(self):
        """Plain and weighted ones, of reals and of whole numbers beyond 2^53."""
        rng = np.random.default_rng()
        halfway = ([-36028797018963971, 9007199254740993], [0.1, 0.1])
        for k in range(60):
            whole = k % 3 == 0
            n = int(rng.integers(1, 9))
            values = (
                rng.choice([2**53 + 1, 2**61 + 7, -(2**55) - 3, 3], n)
                if whole
                else np.round(rng.normal(size=n) * 10.0 ** rng.integers(-3, 17, n), 2)
            ).tolist()
            weights = rng.choice([0.1, 0.3, 2.5, 1e9], n).tolist()
            if not k:
                n, (values, weights) = 2, halfway
            total = sum(Fraction(v) * Fraction(w) for v, w in zip(values, weights, strict=True))
            kind = pa.int64() if whole else pa.float64()
            layer = polygene.as_layer(pa.table({"v": pa.array(values, kind), "w": weights}), "t")
            takes = ["m = mean(v)", "h = mean(v, weight=w)", "s = sum(v, weight=w)"]
            (row,) = polygene.tally(layer, (), takes).totals.to_pylist()
            with self.subTest(values=values, weights=weights):
                self.assertEqual(row["m"], float(sum(map(Fraction, values)) / n))
                self.assertEqual(row["h"], float(total / sum(map(Fraction, weights))))
                self.assertEqual(row["s"], float(total))

    def test_of_what_may_not_be_written_to(self):
        column = pa.chunked_array([pa.array([0.1, 0.2, 0.3, None])])
        self.assertEqual(exact_sum(column), math.fsum([0.1, 0.2, 0.3]))

    def test_of_what_is_not_finite(self):
        values = np.array([np.inf, 1.0, np.inf, -np.inf, 2.0, np.nan, 1e308, 1e308, 1e308])
        group = np.array([0, 0, 1, 1, 1, 2, 3, 3, 3])
        with np.errstate(all="ignore"):
            found = rounded_sums(group, values, 5)
        np.testing.assert_array_equal(found, [np.inf, np.nan, np.nan, np.inf, 0.0])


words_alike = st.lists(
    st.sampled_from(["", "a", "b", "\0", "é", "\U0001f30a", "x" * 7, "y" * 70]), max_size=3
).map("".join)
reals = st.one_of(
    st.floats(), st.sampled_from([0.0, -0.0, math.inf, -math.inf, math.nan, 5e-324, -5e-324])
)


class Ranked(unittest.TestCase):
    """The least, the largest and the middle of groups; side by side the same as one after the other."""

    @given(st.lists(st.tuples(st.integers(0, 3), words_alike), max_size=40))
    @settings(max_examples=150, deadline=None)
    def test_texts_by_their_bytes(self, pairs):
        group, texts = (list(c) for c in zip(*pairs, strict=True)) if pairs else ([], [])
        for name, best in (("min", min), ("max", max)):
            found = of(f"m = {name}(v)", texts, group, 5, pa.string()).data.to_pylist()
            wanted = [best(m, key=str.encode, default=None) for m in members(texts, group, 5)]
            self.assertEqual(found, wanted)

    @given(st.lists(st.tuples(st.integers(0, 3), st.one_of(st.none(), reals)), max_size=40))
    @settings(max_examples=150, deadline=None)
    def test_reals_what_is_no_number_only_where_all_are_none(self, pairs):
        group, values = (list(c) for c in zip(*pairs, strict=True)) if pairs else ([], [])
        rank = lambda v: (math.isnan(v), 0 if math.isnan(v) else v)  # noqa: E731
        kept = [[v for v in m if v is not None] for m in members(values, group, 5)]
        last = lambda v: (not math.isnan(v), 0 if math.isnan(v) else v)  # noqa: E731
        for name, best, key in (("min", min, rank), ("max", max, last)):
            found = of(f"m = {name}(v)", values, group, 5, pa.float64()).data.to_pylist()
            wanted = [best(m, key=key, default=None) for m in kept]
            np.testing.assert_array_equal(
                np.array(found, np.float64), np.array(wanted, np.float64), str(pairs)
            )
        keys = order_keys(pa.chunked_array([pa.array(values, pa.float64())])).tolist()
        known = [(rank(v), k) for v, k in zip(values, keys, strict=True) if v is not None]
        for (a, j), (b, k) in itertools.pairwise(sorted(known)):
            self.assertEqual((a < b, a == b), (j < k, j == k))

    def test_equal_numbers_are_of_one_group(self):
        """Nothing and minus nothing, and what is no number, whatever its bits; null is neither."""
        odd = np.array([0, -1]).view(np.float64).tolist()[1]  # no number, of all bits
        values = [0.0, -0.0, None, math.nan, odd, -math.nan, 0.0, None]
        for more in ([], [1e300], [-5e-324, None]):
            table = pa.table({"v": pa.chunked_array([values[:3], values[3:] + more], pa.float64())})
            groups = group_rows(table, ["v"], table.num_rows)
            self.assertEqual(groups.group.tolist()[:8], [0, 0, 1, 2, 2, 2, 0, 1])
        for own, wanted in ((values[:2], 0), (values[3:6], 0), ([0.0, None], 1), ([None, 0], 1)):
            self.assertEqual(
                of("agreed(v)", own, [0] * len(own), 1, pa.float64()).disagreed, wanted
            )
        for whole in ([-(2**63), 2**63 - 1, 0, None], [-(2**63), 1 - 2**63, -(2**63), None]):
            table = pa.table({"v": pa.array(whole, pa.int64())})
            wanted = [list(dict.fromkeys(whole)).index(v) for v in whole]
            self.assertEqual(group_rows(table, ["v"], 4).group.tolist(), wanted)

    def test_every_type_that_has_an_order(self):
        rng = np.random.default_rng(2)
        whole = rng.integers(0, 200, 300)
        for kind in (
            pa.int8(), pa.uint8(), pa.int32(), pa.int64(), pa.uint64(), pa.float16(), pa.float32(),
            pa.bool_(), pa.date32(), pa.timestamp("ms"), pa.timestamp("us", "UTC"), pa.time32("s"),
            pa.duration("s"), pa.decimal128(30, 2), pa.binary(), pa.large_string(),
        ):  # fmt: skip
            column = pa.array(whole % 100)
            column = (
                column.cast(pa.string()) if kind in (pa.binary(), pa.large_string()) else column
            )
            column = column.cast(pa.int32()) if kind in (pa.date32(), pa.time32("s")) else column
            column = column.cast(kind)
            keys = order_keys(pa.chunked_array([column[:100], column[100:]]))
            for a, b in rng.integers(0, 300, (200, 2)):
                values = column[a].as_py(), column[b].as_py()
                self.assertEqual(values[0] < values[1], keys[a] < keys[b], kind)
                self.assertEqual(values[0] == values[1], keys[a] == keys[b], kind)

    def test_many_rows_in_threads(self):
        """As many as are parted, in few groups and many, in columns of pieces with nulls."""
        rng = np.random.default_rng(8)
        self.enterContext(mock.patch.object(parallel, "WORTH_A_PART", 2_000))
        n = 6_001
        values = rng.integers(0, 10**6, n) / 8
        numbers = pa.chunked_array([values[: n // 3], values[n // 3 :]])
        texts = [f"k{v}" if v % 7 else None for v in rng.integers(0, 300, n)]
        column = pa.chunked_array([texts[:999], texts[999 : n // 2], texts[n // 2 :]], pa.string())
        layer = Layer("t", make.points([[]] * n), pa.table({"v": numbers, "t": column}))
        for n_groups in (1, 3, n // 2):
            group = rng.integers(0, n_groups, n)
            order = np.lexsort((values, group))
            ends = np.searchsorted(group[order], np.arange(n_groups + 1))
            has = ends[:-1] < ends[1:]
            ordered = values[order]
            got = {}
            for text in (
                "min(v)",
                "max(v)",
                "median(v)",
                "sum(v)",
                "min(t)",
                "max(t)",
                "agreed(t)",
            ):
                entries = Entries(None, group, n_groups)
                got[text] = aggregate(Take.parse(text), layer, entries).data.to_pylist()
                with mock.patch.dict("os.environ", POLYGENE_THREADS="1"):
                    alone = aggregate(Take.parse(text), layer, entries).data.to_pylist()
                self.assertEqual(got[text], alone, (text, n_groups))
            least, most = np.array(got["min(v)"], float)[has], np.array(got["max(v)"], float)[has]
            np.testing.assert_array_equal(least, ordered[ends[:-1][has]])
            np.testing.assert_array_equal(most, ordered[ends[1:][has] - 1])
            middle = (ends[:-1] + ends[1:])[has]
            wanted = (ordered[(middle - 1) // 2] + ordered[middle // 2]) / 2
            np.testing.assert_array_equal(np.array(got["median(v)"], float)[has], wanted)
            known = [[t for t in m if t] for m in members(texts, group.tolist(), min(n_groups, 3))]
            self.assertEqual(got["min(t)"][:3], [min(m, default=None) for m in known])
        for name in ("t", "v"):
            groups = group_rows(layer.table, [name], n)
            own = layer.table.column(name).to_pylist()
            numbers = {value: k for k, value in enumerate(dict.fromkeys(own))}
            self.assertEqual(groups.group.tolist(), [numbers[value] for value in own])
            self.assertEqual([own[k] for k in groups.firsts], list(numbers))


if __name__ == "__main__":
    unittest.main()
