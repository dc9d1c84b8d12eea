"""CQL2-Text on a table: what is true, and where it hurts."""

from __future__ import annotations

import unittest

import pyarrow as pa

from polygene.errors import ExpressionError
from polygene.table.describe import describe, value_counts
from polygene.table.expression import Expression

TABLE = pa.table(
    {
        "depth": [1, 2, None, 40],
        "name": ["Zostera", "o'x", None, "A%b"],
        "since": pa.array(["2020-01-01", "2021-01-01", None, "2022-02-02"]).cast(pa.date32()),
        "seen": pa.array(
            ["2020-01-01T10:00:00Z", "2021-01-01T00:00:00Z", None, "2022-02-02T00:00:00Z"]
        ).cast(pa.timestamp("ms", tz="UTC")),
        "two words": [1.5, 2.0, 0.0, None],
        "open": [True, False, None, True],
        "order": [4, 3, 2, 1],
    }
)


class True_(unittest.TestCase):
    def test_rows(self):
        for text, rows in {
            "depth = 1": [0],
            "depth <> 1": [1, 3],
            "NOT depth = 1": [1, 3],  # null is neither true nor false
            "NOT (depth = 1 OR depth IS NULL)": [1, 3],
            "depth >= 2 AND depth < 40": [1],
            "depth > 1 AND open OR name LIKE 'Z%'": [0, 3],
            "depth > 1 AND (open OR name LIKE 'Z%')": [3],
            "depth BETWEEN 1 AND 2": [0, 1],
            "depth NOT BETWEEN 1 AND 2": [3],
            "depth IN (1, 40, 7)": [0, 3],
            "depth NOT IN (1, 40)": [1],
            "name IN ('o''x')": [1],
            "name LIKE '%\\%b'": [3],
            "name LIKE '_''_'": [1],
            "name NOT LIKE 'Z%'": [1, 3],
            "CASEI(name) = 'zostera'": [0],
            "name IS NULL": [2],
            "name is not null and depth is not null": [0, 1, 3],
            '"two words" + 1 >= 2.5': [0, 1],
            "depth * 2 - 1 = 3": [1],
            "depth / 0 = 1 OR depth % 2 = 0": [1, 3],
            "depth div 3 = 13": [3],
            "2 ^ depth = 4": [1],
            "-depth = -1": [0],
            "open": [0, 3],
            "open = FALSE": [1],
            "since > DATE('2020-06-01')": [1, 3],
            "seen > TIMESTAMP('2020-01-01T09:59:59Z') AND seen < DATE('2021-01-01')": [0],
            'order = 3 OR "order" = 4': [0, 1],
            "1 = 1": [0, 1, 2, 3],
            "1 > 2": [],
            "depth = 1.0": [0],
        }.items():
            with self.subTest(text=text):
                found = Expression(text).true_rows(TABLE, "t")
                self.assertEqual(found.nonzero()[0].tolist(), rows)

    def test_an_empty_table(self):
        self.assertEqual(len(Expression("depth > 1").true_rows(TABLE.slice(0, 0), "t")), 0)


class Complaints(unittest.TestCase):
    def test_say_what_and_where(self):
        for text, reason, column in [
            ("depth = ", "ends too early", 8),
            ("depth == 1", "'==' is no comparison here; write =", 7),
            ("depth != 1", "write <>", 6),
            ("depht = 1", "did you mean 'depth'", 0),
            ("open AND depht = 1", "no field 'depht'", 9),
            ("depth = 'x'", "a number is compared with a text", 0),
            ("since > '2020'", "write a date as DATE", 0),
            ("depth = 1 AND", "ends too early", 13),
            ("name = 'x", "single quote that is never closed", 7),
            ("(depth = 1", "ends too early", 10),
            ("depth = 1)", "')' does not fit here", 9),
            ("", "is empty", 0),
            ("area(depth) > 1", "no function 'area'", 0),
            ("name + 1 = 2", "arithmetic needs a number", 0),
            ("depth", "gives a number, not true or false", 0),
            ("DATE('soon') = since", "'soon' is not a date", 0),
            ("depth > 9223372036854775807 + 1", "too large", 8),
            ("open AND depth", "AND needs a boolean", 9),
        ]:
            with self.subTest(text=text), self.assertRaises(ExpressionError) as caught:
                Expression(text).true_rows(TABLE, "t")
            self.assertIn(reason, str(caught.exception))
            self.assertEqual(caught.exception.column, column)


class Descriptions(unittest.TestCase):
    def test_ranges_commonest_values_and_nulls(self):
        found = {d.name: d for d in describe(TABLE)}
        self.assertEqual(
            (found["depth"].low, found["depth"].high, found["depth"].nulls), (1, 40, 1)
        )
        self.assertEqual(
            (found["open"].common, found["open"].distinct), ([(True, 2), (False, 1)], 2)
        )
        self.assertEqual(found["name"].type, "text")
        counted = value_counts(pa.chunked_array([["b", "a", None, "b"]])).to_pylist()
        self.assertEqual(
            [(v["value"], v["count"]) for v in counted], [("b", 2), ("a", 1), (None, 1)]
        )


if __name__ == "__main__":
    unittest.main()
