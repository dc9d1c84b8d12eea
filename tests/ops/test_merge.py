"""Merging: by name, by a proposed and edited sheet, and what would be lost."""

from __future__ import annotations

import datetime
import tempfile
import unittest
from collections import Counter
from fractions import Fraction
from pathlib import Path

import numpy as np
import pyarrow as pa

from polygene.errors import DataError, LossError, SheetError, UnknownFieldError, UsageError
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.ops.dissolve import dissolve
from polygene.ops.match_sheet import draft_text, propose, read_sheet
from polygene.ops.measure import measure
from polygene.ops.merge import merge
from polygene.ops.union import union
from polygene.sample import tolva
from polygene.table.likeness import name_likeness
from polygene.table.types import type_words
from tests.support import generators as make


def layer(name, /, **columns):
    n = len(next(iter(columns.values())))
    column = make.points([[np.array([k, 0.0])] for k in range(n)])
    return Layer(name, column, pa.table(columns))


def surveys():
    found = {y.name: y for y in tolva.layers()}
    return [found["beds_marram"], found["beds_kelda"]]


def pairs_of(draft, layers):
    """What was proposed as (first's field, second's field)."""
    first, second = (y.name for y in layers)
    return {
        (p.target.sources[first].fields[0], p.target.sources[second].fields[0])
        for p in draft.proposals
        if {first, second} <= set(p.target.sources)
    }


class ByName(unittest.TestCase):
    def test_fields_of_one_name_become_one_and_types_widen(self):
        a = layer("a", Name=["x", "y"], n=pa.array([1, 2], pa.int16()), only=[True, None])
        b = layer("b", name=["z"], n=pa.array([70000], pa.int32()), more=[1.5])
        c = layer("c", NAME=["w"], n=[0.5])
        result = merge([a, b, c], source="from")
        self.assertEqual(
            result.layer.table.to_pydict(),
            {
                "Name": ["x", "y", "z", "w"],
                "n": [1, 2, 70000, 0.5],
                "only": [True, None, None, None],
                "more": [None, None, 1.5, None],
                "from": ["a", "a", "b", "c"],
            },
        )
        self.assertEqual(result.summary.sources, {"a": (2, 2), "b": (1, 1), "c": (1, 1)})
        self.assertEqual(result.layer.geometry.n_rows, 4)

    def test_what_has_no_geometry_at_all_is_of_any_kind(self):
        """Files do not say which it would be: a quarter in which nothing was placed yet."""
        areas = make.layer("areas", make.polygons([[[make.square(0, 0, 1)]]]), k=[1])
        for rows in ([], [2, 3]):
            none = make.layer("none", GeometryColumn.nulls(len(rows)), k=pa.array(rows, pa.int64()))
            for given in ([none, areas], [areas, none]):
                found = merge(given).layer
                self.assertEqual(found.geometry.family, Family.POLYGONS)
                self.assertEqual(sorted(found.table["k"].to_pylist()), [1, *rows])
            self.assertEqual(union(none, areas).layer.n_rows, 1)
            for sizes in ({"area": "crs"}, {"length": "crs"}):
                measured = measure(none, **sizes).layer.table
                self.assertEqual(measured.column(1).null_count, len(rows))
        spot = layer("spot", k=[4])
        with self.assertRaisesRegex(DataError, "only layers of one kind"):
            merge([none, areas, spot])

    def test_types_without_one_in_common_stay_apart(self):
        result = merge([layer("a", code=[1]), layer("b", code=["K1"]), layer("c", code=[2.5])])
        self.assertEqual(
            result.layer.table.to_pydict(),
            {"code": [1.0, None, 2.5], "b_code": [None, "K1", None]},
        )
        self.assertIn("stays apart as b_code", result.summary.notes[0])
        # Never under the name of another field, of its own layer or of a later one.
        result = merge(
            [layer("a", no=[7]), layer("b", no=["x"], B_no=[True]), layer("c", b_no=[False])]
        )
        self.assertEqual(
            result.layer.table.to_pydict(),
            {"no": [7, None, None], "b_no_2": [None, "x", None], "B_no": [None, True, False]},
        )
        self.assertEqual(result.summary.unused, {})
        for wrong in ({"source": " "}, {"rename": {"code": ""}}):
            with self.assertRaisesRegex(UsageError, "name that is not empty"):
                merge([layer("a", code=[1]), layer("b", code=[2])], **wrong)
        large = merge([layer("a", n=[2**60]), layer("b", n=[0.5])])
        self.assertEqual(large.layer.table["n"].to_pylist(), [2**60, None])

    def test_large_whole_numbers_and_reals(self):
        def layer(name, values, kind):
            column = make.points([[np.zeros(2)]] * len(values))
            return Layer(name, column, pa.table({"v": pa.array(values, kind)}))

        reals = layer("b", [0.5], pa.float64())
        for value, names in ((2**53, ["v"]), (2**53 + 1, ["v", "b_v"]), (-(2**63), ["v", "b_v"])):
            made = merge([layer("a", [value, 1], pa.int64()), reals]).layer.table
            self.assertEqual(made.column_names, names)
            self.assertEqual(int(made["v"][0].as_py()), value)

    def test_every_value_comes_through_whatever_types_and_capitals(self):
        """Extreme values of all types of numbers and moments, names that differ by capitals."""
        rng = np.random.default_rng()
        sized = [f"{sign}int{bits}" for sign in ("", "u") for bits in (8, 16, 32)] + ["int64"]
        moments = [pa.timestamp("ms", tz="UTC"), pa.timestamp("us"), pa.date32()]
        kinds = [*map(np.dtype, sized), np.dtype("f4"), np.dtype("f8"), *moments]

        def column(kind):
            if not isinstance(kind, np.dtype):
                scale = 86_400_000_000 if kind == pa.date32() else 1000 if "ms" in str(kind) else 1
                past = rng.integers(-(10**15), 10**15, 2) // scale
                return pa.array(past.astype("i4" if kind == pa.date32() else "i8")).cast(kind)
            if kind.kind == "f":
                return pa.array((rng.normal(size=2) * 10.0 ** rng.integers(-9, 9)).astype(kind))
            ends = np.iinfo(kind)
            return pa.array(rng.choice([ends.min, ends.max, 1], 2).astype(kind))

        def seen(value):
            if isinstance(value, datetime.datetime):
                return value.replace(tzinfo=None)
            if isinstance(value, datetime.date):
                return datetime.datetime(value.year, value.month, value.day)
            return Fraction(value)

        for _ in range(60):
            layers = []
            for name in "abc"[: rng.integers(2, 4)]:
                fields = rng.choice(
                    ["bed", "Bed", "BED", "n", ""], rng.integers(1, 5), replace=False
                )
                columns = {own: column(kinds[rng.integers(len(kinds))]) for own in fields}
                layers.append(layer(name, **columns))
            rows = merge(layers).layer.table.to_pylist()
            given = [row for own in layers for row in own.table.to_pylist()]
            with self.subTest(schemas=[str(own.table.schema) for own in layers]):
                for one, other in zip(given, rows, strict=True):
                    there = [seen(v) for v in other.values() if v is not None]
                    self.assertEqual(Counter(map(seen, one.values())), Counter(there))

    def test_renamed_kept_and_dropped_without_a_sheet(self):
        def layer(name, **columns):
            return Layer(name, make.points([[np.zeros(2)]]), pa.table(columns))

        a, b = layer("a", bed=["1"], n=[1]), layer("b", BedNo=["2"], n=[2], bed_old=["x"])
        made = merge([a, b], rename={"BedNo": "bed"}, drop="bed_old").layer.table
        self.assertEqual(made.to_pydict(), {"bed": ["1", "2"], "n": [1, 2]})
        swapped = merge([a, b], rename={"bed": "n", "n": "bed"}, keep="n").layer.table
        self.assertEqual(swapped.column_names, ["n"])
        self.assertEqual(swapped["n"].to_pylist(), ["1", None])
        with self.assertRaises(UnknownFieldError):
            merge([a, b], rename={"nothing": "x"})
        with self.assertRaises(UsageError):
            merge([a, b], rename={"n": "bed"})

    def test_kinds_that_differ_are_refused(self):
        with self.assertRaisesRegex(DataError, "only layers of one kind"):
            merge([layer("a", n=[1]), make.layer("b", make.lines([[np.zeros((2, 2))]]))])

    def test_nothing_with_nothing(self):
        """Of layers without features the kind is that of the first; groups by any field are none."""
        none = layer("a", t=[datetime.datetime(2026, 1, 1)]).take(np.zeros(0, np.int64))
        lines = make.layer("b", make.lines([]))
        merged = merge([none, lines]).layer
        self.assertEqual((merged.n_rows, merged.geometry.family), (0, none.geometry.family))
        self.assertEqual(dissolve(none, "t").layer.n_rows, 0)


class Proposing(unittest.TestCase):
    def test_the_sample(self):
        layers = surveys()
        draft = propose(layers)
        self.assertEqual(
            pairs_of(draft, layers),
            {("bed_id", "BedNo"), ("species", "SPEC"), ("cover_pct", "Cover"),
             ("surveyed", "Date"), ("surveyor", "Obs")},
        )  # fmt: skip
        self.assertEqual(draft.unmatched, {"beds_kelda": ["Note"]})

    def test_made_up_tables(self):
        day = datetime.date
        for first, second, wanted in [
            (
                layer("wells", well_id=[11, 12, 13], depth_m=[4.5, 80.2, 31.0],
                      Owner=["Ada", "Bo", None], drilled=[day(1990, 1, 1), day(2001, 5, 6), None]),
                layer("bores", BoreNo=["B-1", "B-2", "B-3"], DEPTH=["12.5 m", "40 m", "7.2 m"],
                      ownership=["Cy", "Bo", "Di"], Drill_Date=["03/02/1999", "28/11/2010", ""]),
                {("well_id", "BoreNo"), ("depth_m", "DEPTH"), ("Owner", "ownership"),
                 ("drilled", "Drill_Date")},
            ),
            (  # names that mislead: each code is the other's under another name
                layer("plots", code=["oak", "ash", "elm", "oak"], site=["N1", "N2", "N3", "N4"],
                      height=[3.5, 9.0, 12.0, 7.0]),
                layer("trees", code=["N1", "N3", "N4", "N5"], kind=["elm", "ash", "oak", "fir"],
                      hgt=[4.0, 8.0, 11.0, 6.0]),
                {("code", "kind"), ("site", "code"), ("height", "hgt")},
            ),
            (
                layer("a", PARCEL=["1/2", "3/4"], zone=["R", "C"], open=[True, False], x9=[1.0, 2.0]),
                layer("b", parcel_no=["5/6", "7/8"], ZoneType=["C", "R"], is_open=["yes", "no"],
                      memo=["free text about it", "nothing to add"]),
                {("PARCEL", "parcel_no"), ("zone", "ZoneType"), ("open", "is_open")},
            ),
        ]:  # fmt: skip
            with self.subTest(first=first.name):
                self.assertEqual(pairs_of(propose([first, second]), [first, second]), wanted)

    def test_codes_that_lost_their_zeros(self):
        codes = [f"{k:05d}" for k in (29, 1031, 1044, 7, 90001)]
        old = layer("old", muni=codes, n=[1, 2, 3, 4, 5])
        new = layer("new", district_code=[int(c) for c in codes[:4]], n=[9, 8, 7, 6])
        draft = propose([old, new])
        (proposal,) = [p for p in draft.proposals if p.target.field.name == "muni"]
        self.assertEqual(type_words(proposal.target.field), "text(5)")
        self.assertEqual(proposal.target.sources["new"].pad, 5)
        self.assertIn("4 of 4 codes in common", proposal.evidence["new"].words)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "sheet.yaml"
            path.write_text(draft_text(draft, [old, new], "x"), encoding="utf-8")
            made = merge([old, new], read_sheet(path, [old, new])).layer.table
        self.assertEqual(made["muni"].to_pylist(), [*codes, *codes[:4]])
        # Numbers that happen to be of one length are no codes.
        plain = propose([layer("a", k=["11", "22", "33"]), layer("b", k=[11, 22, 33])])
        self.assertEqual({p.target.sources["b"].pad for p in plain.proposals}, {None})

    def test_likeness_of_names(self):
        for one, other, least in [
            ("parcel_no", "PARCEL", 0.7), ("bed_id", "BedNo", 0.9), ("spcs", "species", 0.6),
            ("surfaceArea", "SURFACE AREA", 1.0), ("pop2020", "population_2020", 0.9),
        ]:  # fmt: skip
            self.assertGreaterEqual(name_likeness(one, other), least, (one, other))
        for one, other in [("owner", "colour"), ("depth", "length"), ("x", "y")]:
            self.assertLess(name_likeness(one, other), 0.5, (one, other))


SHEET = """
match sheet: 1
layers:
  beds_kelda:
    where: SPEC <> '?'
fields:
  bed:
    type: text(10)
    from: {beds_marram: bed_id, beds_kelda: BedNo}
  species:
    type: text(20)
    from:
      beds_marram: species
      beds_kelda:
        field: SPEC
        values: {Z. mar: Zostera marina, Z. nol: Zostera noltei, Rup: Ruppia maritima}
  cover:
    type: integer 16
    from:
      beds_marram: {field: cover_pct, if-null: -1}
      beds_kelda: {field: Cover, without: '%'}
  seen:
    type: date
    from: {beds_marram: surveyed, beds_kelda: {field: Date, dates: DD.MM.YYYY}}
  who:
    type: text
    from: {beds_marram: {constant: Marram}, beds_kelda: {join: [Obs, Note], between: ', '}}
"""


class ByASheet(unittest.TestCase):
    def setUp(self):
        self.folder = tempfile.TemporaryDirectory()
        self.addCleanup(self.folder.cleanup)
        self.path = Path(self.folder.name) / "sheet.yaml"

    def merged(self, text, layers=None):
        layers = layers or surveys()
        self.path.write_text(text, encoding="utf-8")
        return merge(layers, read_sheet(self.path, layers))

    def test_the_two_surveys_of_the_sample(self):
        result = self.merged(SHEET)
        marram, kelda = surveys()
        known = [s != "?" for s in kelda.table["SPEC"].to_pylist()]
        self.assertEqual(result.summary.sources["beds_kelda"], (sum(known), 52))
        self.assertEqual(result.layer.n_rows, 64 + sum(known))
        table = result.layer.table
        self.assertEqual([type_words(f) for f in table.schema],
                         ["text(10)", "text(20)", "integer 16", "date", "text"])  # fmt: skip
        self.assertEqual(set(table["species"].to_pylist()) - {None},
                         {"Zostera marina", "Zostera noltei", "Ruppia maritima"})  # fmt: skip
        covers = zip(kelda.table["Cover"].to_pylist(), known, strict=True)
        percents = [int(v.rstrip(" %")) if v else None for v, k in covers if k]
        own = [-1 if v is None else v for v in marram.table["cover_pct"].to_pylist()]
        self.assertEqual(table["cover"].to_pylist(), own + percents)
        days = [datetime.datetime.strptime(v, "%d.%m.%Y").date()
                for v, k in zip(kelda.table["Date"].to_pylist(), known, strict=True) if k]  # fmt: skip
        self.assertEqual(table["seen"].to_pylist()[64:], days)
        self.assertEqual(table["who"].to_pylist()[:64], ["Marram"] * 64)
        self.assertEqual(result.summary.unused, {"beds_marram": ["surveyor"]})

    def test_a_proposed_sheet_runs_as_it_is(self):
        layers = surveys()
        result = self.merged(draft_text(propose(layers), layers, "polygene merge"))
        self.assertEqual(result.layer.n_rows, 116)
        self.assertEqual(result.layer.table["bed_id"].to_pylist()[64], "K/001")
        given = [layers[0].table["cover_pct"].to_pylist(), layers[1].table["Cover"].to_pylist()]
        n_null = sum(value in (None, "") for values in given for value in values)
        self.assertEqual(result.layer.table["cover_pct"].null_count, n_null)

    def test_a_proposed_sheet_loses_nothing(self):
        for one, other, wanted in (
            (["yes", "yes"], [0, 1, 0], ["yes", "yes", 0, 1, 0]),  # no numbers with a unit
            ([5.5, 77], ["0000", "0012"], ["5.5", "77", "0000", "0012"]),
            ([True, None], ["no", "nein"], [True, None, "no", "nein"]),
            ([1, 2], ["5e3", "7e3"], [1.0, 2.0, 5e3, 7e3]),
            ([1, 2], ["50 m", "70 m", None], [1, 2, 50, 70, None]),
        ):
            layers = [layer("a", v=one), layer("b", v=other)]
            with self.subTest(one=one, other=other):
                table = self.merged(draft_text(propose(layers), layers, "x"), layers).layer.table
                values = [v for row in table.to_pylist() for v in row.values() if v is not None]
                self.assertEqual(values, [v for v in wanted if v is not None])
        nothing = [
            Layer(name, make.points([[np.zeros(2)]]), pa.table({"v": pa.nulls(1)})) for name in "ab"
        ]
        table = self.merged(draft_text(propose(nothing), nothing, "x"), nothing).layer.table
        self.assertEqual(table["v"].to_pylist(), [None, None])

    def test_what_a_sheet_gives_is_text_as_it_is_written(self):
        layers = [layer("a", v=["01027", "yes", None], n=[1, 2, 3])]
        sheet = (
            "fields:\n"
            "  t: {type: text, from: {a: {field: v, if-null: 007, values: {01027: 010, yes: no}}}}\n"
            "  c: {type: text, from: {a: {constant: 1.50}}}\n"
            "  b: {type: boolean, from: {a: {constant: no}}}\n"
            "  d: {type: date, from: {a: {constant: 2026-05-31}}}\n"
            "  r: {type: real, from: {a: {field: n, pad: 2}}}\n"
        )
        with self.assertRaisesRegex(LossError, "'01'"):
            self.merged(sheet, layers)
        table = self.merged(sheet.replace(", pad: 2", ""), layers).layer.table
        self.assertEqual(table["t"].to_pylist(), ["010", "no", "007"])
        self.assertEqual(
            table.to_pylist()[2] | {"t": ""},
            {"t": "", "c": "1.50", "b": False, "d": datetime.date(2026, 5, 31), "r": 3.0},
        )

    def test_losses_stop_unless_the_sheet_says_what_to_do(self):
        layers = [layer("a", t=["3%", "%", " "])]
        sheet = "fields:\n  t:\n    type: real\n    from:\n      a: {field: t, without: '%'}\n"
        with self.assertRaisesRegex(LossError, r"1 value does not fit real[^\n]*\s+row 2: '%'"):
            self.merged(sheet, layers)
        layers = [layer("a", t=["abc", "ab", None])]
        sheet = "fields:\n  t:\n    type: text(2)\n    from: {a: t}\n"
        with self.assertRaises(LossError) as caught:
            self.merged(sheet, layers)
        self.assertIn("1 value does not fit text(2)", str(caught.exception))
        self.assertIn("row 1: 'abc'", str(caught.exception))
        for way, wanted in (("null", [None, "ab", None]), ("cut", ["ab", "ab", None])):
            result = self.merged(f"{sheet}    on-loss: {way}\n", layers)
            self.assertEqual(result.layer.table["t"].to_pylist(), wanted)
            self.assertEqual(result.summary.fields[0].lost, {"a": 1})
        mapped = "fields:\n  t:\n    type: text\n    from: {a: {field: t, values: {abc: A}}}\n"
        with self.assertRaisesRegex(SheetError, "1 value of field 't'.*not in the map.*'ab'"):
            self.merged(mapped, layers)
        for way, wanted in (("null", ["A", None, None]), ("cut", ["A", "ab", None])):
            result = self.merged(f"{mapped}    on-loss: {way}\n", layers)
            self.assertEqual(result.layer.table["t"].to_pylist(), wanted)

    def test_mistakes_name_the_line(self):
        for text, line, reason in [
            (SHEET.replace("BedNo}", "BedNr}"), 9, "no field 'BedNr'; did you mean 'BedNo'"),
            (SHEET.replace("  beds_kelda:\n    where", "  beds_keldo:\n    where"), 4, "no layer"),
            (SHEET.replace("type: date", "type: datum"), 23, "there is no type 'datum'"),
            (SHEET.replace("species:", "BED:"), 10, "'BED' is there already as 'bed'"),
            (SHEET.replace("without", "witout"), 21, "did you mean 'without'"),
            (SHEET.replace("DD.MM.YYYY", "dd"), 24, "no way to write a date"),
            (SHEET.replace("SPEC <>", "SPEC <> <>"), 5, "does not fit here"),
            (SHEET.replace("match sheet: 1", "matchsheet: 1"), 2, "did you mean 'match sheet'"),
            (SHEET.replace("fields:", "fields: ["), 8, "expected ',' or ']'"),
            ("fields:\n  a:\n    from: {beds_kelda: Note}\n  a:\n", 4, "comes twice"),
            ("fields:\n  a:\n    from:\n      beds_kelda: {field: [Note]}\n", 4, "one value"),
            ("- a\n- b\n", 1, "a mapping is wanted"),
            ("fields:\n", 1, "no fields"),
            ("fields:\n  a:\n    type: text\n", 3, "fed by no layer"),
            ("fields:\n  a:\n    from: {beds_kelda: Note, beds_marram: bed_id}\n", 3, "types that"),
            ("fields:\n  a:\n    from: {beds_kelda: {field: Note, constant: 1}}\n", 3, "give one of"),
        ]:  # fmt: skip
            with self.subTest(reason=reason), self.assertRaises(SheetError) as caught:
                self.merged(text)
            self.assertEqual(caught.exception.line, line)
            self.assertIn(reason, caught.exception.reason)


if __name__ == "__main__":
    unittest.main()
