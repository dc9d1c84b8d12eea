"""Arrow's functions by their names: the same as those of ``pyarrow.compute``."""

import functools
import re
import unittest
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as real

import polygene
from polygene import computing

SOURCE = Path(polygene.__file__).parent
NUMBERS = pa.chunked_array([[3, None, -1], [], [3]])
REALS = pa.array([1.5, None, float("nan"), float("inf")])
TEXTS = pa.array([" aß", "", None, "b,a"])
TRUTHS = pa.array([True, None, False, True])
OURS = {"cast", "fill_null", "index", "column", "with_nulls", "of_bytes"}


@functools.cache
def used() -> frozenset[str]:
    """The names that the package asks for, wherever in its text."""
    texts = (path.read_text() for path in SOURCE.rglob("*.py"))
    return frozenset(name for text in texts for name in re.findall(r"\bpc\.(\w+)", text))


class Computing(unittest.TestCase):
    def test_what_is_asked_for_is_there(self):
        names = used()
        self.assertGreater(len(names), 70)
        for name in names:
            self.assertTrue(callable(getattr(computing, name)), name)
        with self.assertRaises(AttributeError):
            computing.no_such_function  # noqa: B018

    def test_one_column(self):
        n_same = 0
        for name in used() - OURS:
            for column in (NUMBERS, REALS, TEXTS, TRUTHS, pa.array([], pa.string())):
                try:
                    expected = getattr(real, name)(column)
                except (TypeError, pa.ArrowException):
                    with self.assertRaises((TypeError, pa.ArrowException)):
                        getattr(computing, name)(column)
                    continue
                n_same += 1
                self.assertEqual(str(getattr(computing, name)(column)), str(expected), name)
        self.assertGreater(n_same, 60)

    def test_options_and_more_columns(self):
        table = pa.table({"a": NUMBERS.combine_chunks(), "b": TRUTHS})
        for name, given, more in (
            ("equal", (NUMBERS, 3), {}),
            ("or_", (TRUTHS, pa.array([False] * 4)), {}),
            ("and_kleene", (TRUTHS, pa.scalar(None, pa.bool_())), {}),
            ("if_else", (TRUTHS, NUMBERS, None), {}),
            ("coalesce", (NUMBERS, 0, 1), {}),
            ("max_element_wise", (NUMBERS, 2), {"skip_nulls": False}),
            ("binary_join_element_wise", (TEXTS, TEXTS, "-"), {"null_handling": "skip"}),
            ("match_substring_regex", (TEXTS, "a$"), {}),
            ("replace_substring", (TEXTS, "a", "ö"), {}),
            ("replace_substring_regex", (TEXTS,), {"pattern": "[a-c]", "replacement": ""}),
            ("utf8_slice_codeunits", (TEXTS, 0, 2), {}),
            ("utf8_trim", (TEXTS, " b"), {}),
            ("is_in", (NUMBERS,), {"value_set": pa.array([3])}),
            ("sort_indices", (table,), {"sort_keys": [("a", "descending"), ("b", "ascending")]}),
            ("rank", (NUMBERS,), {"tiebreaker": "dense"}),
            ("any", (TRUTHS,), {"skip_nulls": False}),
            ("filter", (table, TRUTHS), {}),
            ("take", (table, pa.array([1, None, 0])), {}),
            ("take", (NUMBERS, pa.array([3, 0])), {}),
            ("cast", (REALS, pa.int32(), False), {}),
            ("cast", (pa.scalar("7"), pa.int64()), {}),
            ("fill_null", (NUMBERS, 7), {}),
            ("fill_null", (NUMBERS, pa.scalar(7.0)), {}),
            ("index", (NUMBERS, 3), {}),
            ("index", (TEXTS, "z"), {}),
        ):
            with self.subTest(name=name, given=given):
                expected = getattr(real, name)(*given, **more)
                self.assertTrue(getattr(computing, name)(*given, **more).equals(expected))

    def test_columns_of_numpy(self):
        none = np.array([False, True, False, True, True])
        for values in (
            np.arange(5), np.arange(10, dtype=np.uint8)[::2], np.arange(5.0, dtype=np.float32),
            none, np.arange(5).astype("M8[ms]"), np.array(["a", None, "bc", "", "d"], object),
            np.arange(5, dtype=">i4").astype("i4"), np.broadcast_to(np.array([True]), 5),
        ):  # fmt: skip
            with self.subTest(dtype=values.dtype):
                kind = pa.string() if values.dtype == object else None
                self.assertTrue(computing.column(values).equals(pa.array(values)))
                for mask in (none, np.zeros(5, bool), np.broadcast_to(np.array([True]), 5)):
                    found = computing.with_nulls(values, mask, kind)
                    expected = pa.array(values, kind, mask=mask)
                    found.validate(full=True)
                    self.assertTrue(found.equals(expected))
                    self.assertEqual(found[3:].null_count, expected[3:].null_count)
        days = computing.with_nulls(np.arange(5, dtype=np.int32), none, pa.date32())
        self.assertTrue(days.equals(pa.array(np.arange(5, dtype=np.int32), pa.date32(), mask=none)))
        self.assertEqual(computing.column(np.zeros(0)).type, pa.float64())
        self.assertEqual(computing.column([1, None]).to_pylist(), [1, None])

    def test_what_cannot_be(self):
        with self.assertRaises(pa.ArrowInvalid):
            computing.cast(REALS, pa.int32())
        with self.assertRaises(pa.ArrowInvalid):
            computing.cast(TEXTS, pa.int32(), safe=False)
        for wrong in (np.zeros((2, 2)), np.zeros(2, ">i4"), np.float64(1)):
            with self.assertRaises((pa.ArrowException, TypeError)):
                computing.column(wrong)
        with self.assertRaises(TypeError):
            computing.is_finite(REALS, 1)
        with self.assertRaises(pa.ArrowIndexError):
            computing.take(NUMBERS, pa.array([4]))


if __name__ == "__main__":
    unittest.main()
