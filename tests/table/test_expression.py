"""CQL2-Text on a table: what is true, and where it hurts."""

from __future__ import annotations

import unittest
from unittest import mock

import lark
import numpy as np
import pyarrow as pa

import polygene
from polygene.errors import ExpressionError
from polygene.layer import Layer
from polygene.table import grammar
from polygene.table.describe import describe, value_counts
from polygene.table.expression import Expression
from polygene.table.tokens import names_of, terms_of
from tests.support import generators as make
from tests.support.cli import InFolder

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


def layer_of(table):
    column = make.points([[np.array([k, 0.0])] for k in range(table.num_rows)])
    return Layer("t", column, table)


LAYER = layer_of(TABLE)


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
            "T_AFTER(since, DATE('2020-06-01'))": [1, 3],
            "T_DURING(since, INTERVAL('2020-01-01', '2022-01-01'))": [1],
            "T_INTERSECTS(seen, INTERVAL('..', '2021-01-01'))": [0, 1],
            "T_BEFORE(INTERVAL(since, seen), TIMESTAMP('2020-01-01T11:00:00Z'))": [0],
            "T_EQUALS(seen, since)": [],  # a date is all of its day
            "T_DURING(seen, since) OR T_INTERSECTS(seen, since)": [0, 1, 3],
            "T_STARTS(INTERVAL(since, seen), DATE('2020-01-01'))": [0],
            "t_disjoint(since, INTERVAL('2021-01-01', '..'))": [0],
            "upper(left(name, 2)) = 'ZO'": [0],
            "joined(depth, 'm') = '40m' and characters(trim(' x')) = 1": [3],
            "coalesce(depth, -1) = -1": [2],
            "CASE WHEN open THEN depth ELSE 0 END > 1": [3],
            "case when depth > 30 then 'deep' when open then 'open' end IS NULL": [1, 2],
            "least(depth, 2) = 2 and greatest(depth, 2) = 40": [3],
            "year(since) = 2021 and month(seen) = 1 and day(since) = 1": [1],
            "days(since, DATE('2020-01-11')) = 10": [0],
            "centroid_x() > 1.5 and parts() = 1 and vertices() = 1": [2, 3],
            "number('7') + whole('1') = 8": [0, 1, 2, 3],
            "S_INTERSECTS(geom, BBOX(-1, -1, 1.5, 1))": [0, 1],
            "s_within(geom, POLYGON((0.5 -1, 2.5 -1, 2.5 1, 0.5 1, 0.5 -1)))": [1, 2],
            "S_CONTAINS(POLYGON((1 -1, 2.5 -1, 2.5 1, 1 1, 1 -1)), geom) AND depth > 0": [],
            "S_TOUCHES(geom, POLYGON((1 -1, 2.5 -1, 2.5 1, 1 1, 1 -1)))": [1],
            "NOT S_DISJOINT(geom, LINESTRING(0 0, 2 0))": [0, 1, 2],
            "S_EQUALS(geom, POINT(3 0)) OR S_INTERSECTS(geom, MULTIPOINT((0 0), (9 9)))": [0, 3],
            "day_of('01.02.2020', 'DD.MM.YYYY') < since": [1, 3],
            "replace(name, 'o', '0') LIKE 'Z0%'": [0],
            "round(depth / 3, 1) = 0.7 or sqrt(depth) = 1": [0, 1],
            "1 > 2": [],
            "depth = 1.0": [0],
        }.items():
            with self.subTest(text=text):
                found = Expression(text).true_rows(LAYER)
                self.assertEqual(found.nonzero()[0].tolist(), rows)

    def test_a_box_over_the_meridian_or_without_a_width(self):
        """OGC 21-065r2, 7.6: the west of such a box is larger than its east."""
        xy = np.array([[0.0, 0.0], [175, 5], [-175, 5], [180, 0], [-180, 0], [100, 0]])
        degrees, gon, plane = (
            make.layer("p", make.points([[own] for own in xy * size]), polygene.crs.parse(code))
            for size, code in ((1, "EPSG:4326"), (1 / 0.9, "EPSG:4807"), (1, "EPSG:32633"))
        )
        for layer, text, rows in (
            (degrees, "S_INTERSECTS(g, BBOX(170, -10, -170, 10))", [1, 2, 3, 4]),
            (degrees, "S_DISJOINT(g, BBOX(170, -10, -170, 10))", [0, 5]),
            (degrees, "S_WITHIN(g, BBOX(170, -10, -170, 10))", [1, 2]),
            (degrees, "S_INTERSECTS(g, BBOX(180, -10, -170, 10))", [2, 3, 4]),
            (degrees, "S_INTERSECTS(g, BBOX(-170, -10, 170, 10))", [0, 5]),
            (degrees, "S_INTERSECTS(g, BBOX(175, 5, -175, 5))", [1, 2]),
            (gon, "S_INTERSECTS(g, BBOX(190, -10, -190, 10))", [1, 2, 3, 4]),
            (plane, "S_INTERSECTS(g, BBOX(175, 5, 175, 5))", [1]),
            (plane, "S_INTERSECTS(g, BBOX(-180, 0, 180, 0))", [0, 3, 4, 5]),
            (plane, "S_INTERSECTS(g, BBOX(-175, -9, 3, -175, 9, 4))", [2]),
        ):
            with self.subTest(text=text):
                self.assertEqual(np.flatnonzero(Expression(text).true_rows(layer)).tolist(), rows)
        for layer, sides in (
            (plane, "5, 0, 1, 9"),
            (degrees, "0, 9, 5, 0"),
            (plane, "0, 0, NULL, 1"),
        ):
            with self.subTest(sides=sides), self.assertRaisesRegex(ExpressionError, "box"):
                Expression(f"S_INTERSECTS(g, BBOX({sides}))").true_rows(layer)

    def test_moments_of_any_unit_and_without_a_zone(self):
        """As tables from Python have them; without a zone they are taken as UTC, as all readers do."""
        texts = pa.array(
            ["2026-01-01T00:00:00", "2026-01-01T12:00:00", None, "2199-12-31T00:00:00"]
        )
        for unit, zone in (("s", None), ("us", None), ("ns", None), ("ns", "Europe/Berlin")):
            kind = pa.timestamp(unit, tz=zone)
            own = texts.cast(pa.timestamp("s")).cast(pa.timestamp("s", tz="UTC")).cast(kind)
            days = own.cast(pa.timestamp("s")).cast(pa.date64(), safe=False)
            layer = layer_of(pa.table({"t": own, "day": days}))
            for text, rows in (
                ("t > TIMESTAMP('2026-01-01T00:00:00Z')", [1, 3]),
                ("t = DATE('2026-01-01')", [0, 1]),
                ("T_DURING(t, INTERVAL('2025-12-31', '2026-01-02'))", [0, 1]),
                ("T_AFTER(t, TIMESTAMP('2026-01-01T11:59:59Z')) AND day < DATE('2030-01-01')", [1]),
            ):
                with self.subTest(unit=unit, zone=zone, text=text):
                    found = Expression(text).true_rows(layer)
                    self.assertEqual(np.flatnonzero(found).tolist(), rows)

    def test_an_empty_table(self):
        self.assertEqual(len(Expression("depth > 1").true_rows(layer_of(TABLE.slice(0, 0)))), 0)


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
            ("aria(depth) > 1", "no function 'aria'; did you mean 'area'", 0),
            ("area(depth) > 1", "area takes one of m2, ha", 5),
            ("upper(depth) = 'X'", "upper needs a text here, and this is a number", 6),
            ("left(name) = 'X'", "left takes text, number; here it has 1", 0),
            ("CASE WHEN depth THEN 1 END = 1", "WHEN needs a boolean", 10),
            ("CASE WHEN open THEN 1 ELSE 'x' END = 1", "a number and a text", 0),
            ("if(open, 1, 2) = 1", "if() is CASE WHEN condition THEN", 0),
            ("T_AFTER(depth, since)", "a date, time or interval is needed", 8),
            ("T_AFTER(since)", "takes two", 0),
            ("S_INTERSECTS(geom, depth)", "written out", 0),
            ('name = "Nord"', "a text stands in single quotes: 'Nord'", 7),
            ("S_WITHIN(geom, BBOX(1, 2))", "four numbers", 15),
            ("POINT(1 2) = 1", "only in spatial functions", 0),
            ("S_WITHIN(geom, POLYGON((a b)))", "no geometry that is known", 15),
            ("INTERVAL('2020', '..') = 1", "'2020' is not a date", 9),
            ("T_DURING(seen, INTERVAL('2021-01-02', '2021-01-01'))", "ends before it begins", 15),
            ("left(name, depth) = 'x'", "must be the same for all features", 0),
            ("name + 1 = 2", "arithmetic needs a number", 0),
            ("depth", "gives a number, not true or false", 0),
            ("DATE('soon') = since", "'soon' is not a date", 0),
            ("depth > 1e400", "larger than any number", 8),
            ("open AND depth", "AND needs a boolean", 9),
        ]:
            with self.subTest(text=text), self.assertRaises(ExpressionError) as caught:
                Expression(text).true_rows(LAYER)
            self.assertIn(reason, str(caught.exception))
            self.assertEqual(caught.exception.column, column)


class Lists(unittest.TestCase):
    def test_names_with_commas_and_quotes_in_them(self):
        for text, names in (
            ('a, "b, c" ,-d', ["a", "b, c", "-d"]),
            ('-"b, c",,', ["-b, c"]),
            ('"say ""so""",5" pipe', ['say "so"', '5" pipe']),
            ('x,"open', ["x", '"open']),
            (" ", []),
            (None, []),
        ):
            self.assertEqual(names_of(text), names)
        self.assertEqual(terms_of('"b, c",left(a, 1), x'), ['"b, c"', "left(a, 1)", "x"])

    def test_groups_of_a_name_in_quotes(self):
        table = polygene.as_layer(pa.table({"b, c": ["x", "y", "x"], "n": [1, 2, 3]}), "t")
        for by in ("b, c", '"b, c"'):
            found = polygene.tally(table, by, "s = sum(n)").body.to_pydict()
            self.assertEqual(found, {"b, c": ["x", "y"], "s": [4, 2]})


class Tables(InFolder):
    """The parser's tables, which are made when the package is built."""

    def test_the_installed_ones_are_of_this_grammar(self):
        with mock.patch.object(grammar, "_built", side_effect=AssertionError("made anew")):
            grammar.parser()

    def test_with_them_all_is_parsed_as_without(self):
        grammar.write_tables(self.folder)
        quick, slow = grammar.parser(self.folder), grammar.parser(self.folder / "none")
        for text in ("a > 1", "NOT (\"b c\" LIKE 'x%' OR d BETWEEN -1 AND f(2, g) * 3 ^ 2)",
                     "t = DATE('2020-01-01')", "a >", "a = 'x", "(a", "a b", "1 = 1)", ""):  # fmt: skip
            with self.subTest(text=text):
                self.assertEqual(self.outcome(quick, text), self.outcome(slow, text))

    @staticmethod
    def outcome(parser, text):
        try:
            tree = parser.parse(text)
        except lark.exceptions.UnexpectedInput as err:
            return type(err), err.line, err.column, sorted(getattr(err, "expected", ()))
        return tree, [
            (n.data, n.meta.start_pos, n.meta.end_pos) for n in tree.iter_subtrees() if n.children
        ]

    def test_damaged_ones_and_those_of_another_grammar_are_not_used(self):
        grammar.write_tables(self.folder)
        path = self.folder / grammar.TABLES
        whole = path.read_bytes()
        for data in (
            whole[:-9],
            whole[:40],
            whole[:3],
            b"",
            b"x" + whole[1:],
            whole[:32] + b"none",
        ):
            path.write_bytes(data)
            self.assertEqual(grammar.parser(self.folder).parse("a > 1").children[0].data, "compare")


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
