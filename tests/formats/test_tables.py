"""Tables without geometry: as others write them, kept as they are, refused where geometry is needed."""

import csv
import datetime
import json
import random
import re
import struct
import warnings
import zipfile
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq

import polygene
from polygene.errors import (
    DataError,
    FileError,
    PolygeneError,
    TableError,
    UnknownLayerError,
    UsageError,
)
from polygene.formats import address, sheet_cells
from polygene.formats.columns import to_wkb
from polygene.formats.registry import format_of
from tests.formats.test_round_trips import geometries
from tests.support import generators as make
from tests.support.cli import InFolder, WithSample, polygene_here
from tests.support.layers import quietly

CODES = ["01029", "+31", "1E5", "7 ", "", None, "Ærø"]


def workbook(path: Path) -> Path:
    """Write a workbook as people have them: a title over merged cells, codes by number format."""
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.title = "people"
    sheet.append(["People of Tolva Sound"])
    sheet.merge_cells("A1:D1")
    sheet.append([])
    sheet.append(["code", "people", "since", "people", None, "mixed"])
    for row in ([29, 5120, datetime.datetime(2020, 1, 1), 1.5, None, "x"],
                [1031, None, datetime.datetime(2021, 5, 6, 7, 8), 2, None, 7]):  # fmt: skip
        sheet.append(row)
        sheet.cell(sheet.max_row, 1).number_format = "00000"
    book.create_sheet("plain").append(["a", "b"])
    book["plain"].append(["=1+1", True])
    book.create_sheet("hidden").sheet_state = "hidden"
    book.save(path)
    return path


def dbase(path: Path, rows: list[tuple[str, int]]) -> Path:
    """Write a table of dBASE III with pyshp's neighbour, the struct module."""
    head = struct.pack("<BBBBIHH20x", 3, 126, 11, 28, len(rows), 32 + 64 + 1, 1 + 6 + 8)
    fields = [("CODE", "C", 6), ("PEOPLE", "N", 8)]
    head += b"".join(
        struct.pack("<11sc4xBB14x", n.encode(), k.encode(), w, 0) for n, k, w in fields
    )
    body = b"".join(b" " + c.encode().ljust(6) + str(n).rjust(8).encode() for c, n in rows)
    path.write_bytes(head + b"\r" + body + b"\x1a")
    return path


class Reading(InFolder):
    def read(self, name, text, **how):
        path = self.folder / name
        path.write_text(text, encoding="utf-8")
        return polygene.read(path, **how)

    def test_codes_stay_codes_in_csv(self):
        found = self.read(
            "a.csv",
            'lead,plus,e,quoted,n,r,sci\n01,+5,1E5,"7",5,1.5,1e+05\n10,6,22,"8",6,0.25,2\n',
        )
        self.assertTrue(found.is_table)
        texts = {
            "lead": ["01", "10"],
            "plus": ["+5", "6"],
            "e": ["1E5", "22"],
            "quoted": ["7", "8"],
        }
        for name, values in texts.items():
            self.assertEqual(found.table[name].to_pylist(), values)
        numbers = {"n": [5, 6], "r": [1.5, 0.25], "sci": [1e5, 2.0]}
        for name, values in numbers.items():
            self.assertEqual(found.table[name].to_pylist(), values)

    def test_quotes_and_texts_are_as_the_csv_module_has_them(self):
        random_ = random.Random(24)
        letters = ['"', ",", "\n", "5", "0", " ", "x", '","', '"5"', ';"7"']
        rows = [["".join(random_.choices(letters, k=random_.randrange(1, 6))) for _ in range(3)]
                for _ in range(300)]  # fmt: skip
        rows = [["x" + cell for cell in row[:2]] + [row[2] + "é"] for row in rows]
        path = self.folder / "q.csv"
        with path.open("w", newline="", encoding="utf-8") as file:
            csv.writer(file, quoting=csv.QUOTE_ALL).writerows([["a", "b", "c"], *rows])
        table = polygene.read(path).table
        self.assertEqual([list(row.values()) for row in table.to_pylist()], rows)

    def test_points_in_quotes_are_points(self):
        found = self.read("p.csv", 'x,y,code\n"1.5","2","07"\n')
        self.assertEqual(found.geometry.xy.tolist(), [[1.5, 2.0]])

    def test_decimal_commas(self):
        """Numbers where no comma parts values; texts stay what is in quotes, a code, or thousands."""
        path = self.folder / "k.csv"
        path.write_text(
            'x;y;d;thousands;code;quoted\n473539,5;8046000,2;1,5;1,000;007,5;"1,5"\n-1;2;;2,500;1;\n'
        )
        (found,) = format_of(path).read(path, "k").layers
        self.assertEqual(found.geometry.xy.tolist(), [[473539.5, 8046000.2], [-1, 2]])
        values = found.table.drop_columns(["x", "y"]).to_pylist()[0]
        wanted = {"d": 1.5, "thousands": "1,000", "code": "007,5", "quoted": "1,5"}
        self.assertEqual(values, wanted)
        self.assertIn(
            "read with decimal commas: x, y, d", " ".join(format_of(path).read(path, "k").notes)
        )
        polygene.write(found, f"{self.folder}/again.tsv")
        self.assertEqual(polygene.read(f"{self.folder}/again.tsv").table, found.table)
        for text, wanted in (("lon;lat\n14,105;72,538\n", [14.105, 72.538]),
                             ('x,y\n"473539,5","2,5"\n', [473539.5, 2.5])):  # fmt: skip
            path.write_text(text)
            self.assertEqual(polygene.read(path).geometry.xy.tolist(), [wanted])
        for x, y in (("x", "y"), ("X", "Y"), ("Easting", "Northing"), (" Rechtswert", "HOCHWERT")):
            path.write_text(f"{x};{y}\n14,105;72,538\n")
            said = f"'{x}' holds texts such as '14,105', .* part thousands"
            with self.subTest(x), self.assertRaisesRegex(FileError, said):
                polygene.read(path)

    def test_utf_16(self):
        """Programs on Windows write tables so, with a mark at the beginning; GeoJSON is never in it."""
        text = 'id;näme;x;y\r\n01;ü;3,5;4\r\n02;"a;b\nc";1,5;6\r\n'
        rows = [
            {"id": "01", "näme": "ü", "x": 3.5, "y": 4},
            {"id": "02", "näme": "a;b\nc", "x": 1.5, "y": 6},
        ]
        path = self.folder / "w.csv"
        for name, said in (
            ("utf-16", ""),
            ("utf-16", "UTF-16"),
            ("utf-16-be", "utf_16_be"),
            ("utf-16-le", "utf-16le"),
        ):
            path.write_bytes(text.encode(name))
            self.assertEqual(polygene.read(path, encoding=said).table.to_pylist(), rows)
        with self.assertRaisesRegex(FileError, "no byte order mark; say `encoding` utf-16-le"):
            polygene.read(path, encoding="utf-16")
        path.write_bytes(text.encode("utf-16")[:-1])
        with self.assertRaisesRegex(FileError, "w.csv is no text in utf-16-le: truncated data"):
            polygene.read(path)
        path = self.folder / "w.geojson"
        path.write_bytes('{"type": "FeatureCollection", "features": []}'.encode("utf-16"))
        with self.assertRaisesRegex(FileError, "is text in UTF-16, which GeoJSON is not"):
            polygene.read(path)
        with self.assertRaisesRegex(UsageError, "no table of dBASE is in UTF-16"):
            polygene.read(dbase(self.folder / "w.dbf", [("a", 1)]), encoding="utf-16")

    def test_what_texts_of_wkt_say_besides(self):
        path = self.folder / "g.csv"

        def read(*texts):
            path.write_text("geom;n\n" + "".join(f'"{text}";1\n' for text in texts))
            return format_of(path).read(path, "g")

        found = read("SRID=32633;POINT (1 2)", "SRID=32633;POINT Z (3 4 5)", "")
        self.assertEqual(found.layers[0].crs.to_epsg(), 32633)
        with self.assertRaisesRegex(DataError, "SRID 32633 in row 1 and 4326 in row 3"):
            read("SRID=32633;POINT (1 2)", "POINT (1 2)", "SRID=4326;POINT (1 2)")
        self.assertIsNone(read("SRID=0;POINT (1 2)").layers[0].crs)
        found = read("POINT M (1 2 7)", "POINT ZM (1 2 3 7)", "POINTZ(1 2 3)")
        self.assertIn("M values of 2 rows left out", " ".join(found.notes))
        self.assertEqual(np.isnan(found.layers[0].geometry.z).tolist(), [True, False, False])
        found = read("GEOMETRYCOLLECTION (POINT (1 2), GEOMETRYCOLLECTION (LINESTRING (0 0, 1 1)))")
        self.assertEqual(
            [y.geometry.xy.tolist() for y in found.layers], [[[1, 2]], [[0, 0], [1, 1]]]
        )

    def test_a_head_below_a_title(self):
        found = self.read("t.csv", "People of the Sound\n\na,b\n1,2\n", header=3)
        self.assertEqual(found.table.to_pylist(), [{"a": 1, "b": 2}])

    def test_the_sign_between_values(self):
        """Told by the lines that follow; what stands in quotes or in names alone does not count."""
        for text, rows, header in (
            ("a|b\n1|2\n", [{"a": 1, "b": 2}], None),
            (
                'b|a\n""|1\nz|2\n|3\n',
                [{"b": b, "a": a} for b, a in (("", 1), ("z", 2), (None, 3))],
                None,
            ),
            ('a|b\n"7"|x\n', [{"a": "7", "b": "x"}], None),
            ('"Depth, m";"Area, ha"\n1;2\n', [{"Depth, m": 1, "Area, ha": 2}], None),
            ("Depth, m\tname\n1\tx\n", [{"Depth, m": 1, "name": "x"}], None),
            ("share\n3|5\n", [{"share": "3|5"}], None),
            ("share\n3,5\n2,5\n", [{"share": 3.5}, {"share": 2.5}], None),
            ("Beds, by depth\n\na;b\n1;2\n", [{"a": 1, "b": 2}], 3),
            ("code\n0x1F\n12\n", [{"code": "0x1F"}, {"code": "12"}], None),
        ):
            with self.subTest(text=text):
                found = self.read("s.csv", text, **({"header": header} if header else {}))
                self.assertEqual(found.table.to_pylist(), rows)

    def test_geometry_in_hexadecimal_digits(self):
        """As databases give it: WKB of either order of bytes, and what they put before for the CRS."""
        for words, column in geometries().items():
            texts = [None if v is None else v.hex().upper() for v in to_wkb(column).to_pylist()]
            body = "".join(f"{k},9,{text or ''}\n" for k, text in enumerate(texts))
            back = self.read("h.csv", f"x,y,shape\n{body}")
            with self.subTest(words=words):
                self.assertEqual(back.table.column_names, ["x", "y"])
                np.testing.assert_array_equal(back.geometry.xy, column.xy)
                np.testing.assert_array_equal(back.geometry.is_null, column.is_null)
                self.assertEqual(back.geometry.family, column.family)
        little = "0101000020E964000000000000000000400000000000000840"
        big = "00200000010000" + "64E9" + "40000000000000004008000000000000"
        back = self.read("h.csv", f"id,g\n1,{little}\n2,\\x{big.lower()}\n3,\n")
        self.assertEqual(back.geometry.xy.tolist(), [[2.0, 3.0]] * 2)
        self.assertEqual(back.crs.to_epsg(), 25833)
        for body, said in (
            (f"{little}\n2,zz", "row 2: its geometry is no WKB in hexadecimal"),
            (f"{little}\n2,{little[:-1]}", "row 2: its geometry is no WKB in hexadecimal"),
            (f"{little}\n2,{little[:-2]}", "row 2"),
            (
                f"{little}\n2,{little.replace('E964', 'E610')}",
                "SRID 25833 in row 1 and 4326 in row 2|several",
            ),
        ):
            with self.subTest(body), self.assertRaisesRegex(PolygeneError, said):
                self.read("h.csv", f"id,g\n1,{body}\n")
        codes = self.read("h.csv", "id,g\n1,010100000012345678901234\n2,01\n")
        self.assertTrue(codes.is_table)

    def test_a_first_line_that_says_the_sign(self):
        for sign in ",;|\t":
            for line in (f"sep={sign}\r\n", f'"sep={sign}"\n', f"\ufeffSEP={sign}\n"):
                for name in ("s.csv", "s.tsv"):
                    table = self.read(name, f"{line}a{sign}b\n1{sign}x\n").table
                    self.assertEqual(table.to_pylist(), [{"a": 1, "b": "x"}], (line, name))
        self.assertEqual(self.read("s.csv", "sep=;\n;\n1;2\n3;4\n", header=3).n_rows, 1)

    def test_workbooks(self):
        path = workbook(self.folder / "people.xlsx")
        self.assertEqual([r.name for r in address.resolve(f"{path}#*")], ["people", "plain"])
        with self.assertRaisesRegex(DataError, r"row 1 has one cell.*`header` 3"):
            polygene.read(f"{path}#people")
        found = polygene.read(path, sheet="people", header=3).table
        self.assertEqual(found.column_names, ["code", "people", "since", "people_2", "mixed"])
        self.assertEqual(found["code"].to_pylist(), ["00029", "01031"])
        self.assertEqual(found["people"].to_pylist(), [5120, None])
        self.assertEqual(found["people_2"].to_pylist(), [1.5, 2.0])
        self.assertEqual(found["mixed"].to_pylist(), ["x", "7"])
        self.assertEqual(str(found.schema.field("since").type), "timestamp[ms, tz=UTC]")
        with self.assertRaisesRegex(UnknownLayerError, "people, plain"):
            polygene.read(path, sheet="poeple")
        with self.assertRaises(DataError):
            polygene.read(path, sheet="people", header=99)

    def test_what_a_sheet_shows_and_its_values_do_not(self):
        book = openpyxl.Workbook()
        sheet = book.active
        for row in (["k", "n", datetime.date(2019, 1, 1)], [1, 5, "a"], [], [2, "#N/A", None],
                    [3, "=A2", "#N/A"], [4, 6, "=B2"]):  # fmt: skip
            sheet.append(row)
        sheet["C5"].data_type = "s"  # a text
        sheet.merge_cells("C2:C4")
        sheet.merge_cells("E1:F1")
        book.save(self.folder / "given.xlsx")
        part = "xl/worksheets/sheet1.xml"
        with zipfile.ZipFile(self.folder / "given.xlsx") as archive:
            parts = {name: archive.read(name).decode() for name in archive.namelist()}
        plain = parts[part].replace("</sheetData>", "</sheetData><!-- row> -->")
        result = '<c r="C6" t="str"><f>B2</f><v></v></c>'
        short = re.sub(r"<dimension[^>]*>", '<dimension ref="A1:B2"/>', parts[part])
        for text, unknown in (
            (parts[part], "2 formulas without a result in the file (B5, C6)"),
            (short, "2 formulas without a result"),
            (parts[part].replace('"', "'"), "2 formulas without a result in the file (B5, C6)"),
            (
                re.sub(r'<c r="C6".*?</c>', result, plain),
                "1 formula without a result in the file (B5)",
            ),
        ):
            with zipfile.ZipFile(self.folder / "a.xlsx", "w") as archive:
                for name, own in {**parts, part: text}.items():
                    archive.writestr(name, own)
            for piece in (7, 300, 1 << 22):
                with mock.patch.object(sheet_cells, "_PIECE", piece):
                    reading = format_of(Path("a.xlsx")).read(self.folder / "a.xlsx", "Sheet")
                table, notes = reading.layers[0].table, " ".join(reading.notes)
                self.assertEqual(table["k"].to_pylist(), [1, 2, 3, 4])
                self.assertEqual(table["n"].to_pylist(), [5, None, None, 6])
                self.assertEqual(table["2019-01-01"].to_pylist()[:3], ["a", None, "#N/A"])
                for said in (unknown, "1 area of merged cells (C2:C4)", "1 empty row left out",
                             "n has 1 cell with an error in place of a value, #N/A"):  # fmt: skip
                    self.assertIn(said, notes)

    def test_damaged_workbooks_are_refused_in_words(self):
        whole = workbook(self.folder / "whole.xlsx").read_bytes()
        path = self.folder / "a.xlsx"
        for size in (0, 3, 500, len(whole) // 2, len(whole) - 30):
            path.write_bytes(whole[:size])
            with self.subTest(size=size), self.assertRaises(FileError):
                polygene.read(path, sheet="plain")
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("x.txt", "no workbook")
        with self.assertRaisesRegex(FileError, "no workbook"):
            polygene.read(path)

    def test_dbase_alone_but_not_beside_its_shapes(self):
        path = dbase(self.folder / "codes.dbf", [("00029", 5120), ("01031", 88)])
        found = polygene.read(path)
        self.assertEqual(found.table.to_pylist()[0], {"CODE": "00029", "PEOPLE": 5120})
        square = make.layer("z", make.polygons([[[make.square(0, 0, 1)]]]), None, n=[1])
        polygene.write(square, self.folder / "z.shp")
        names = [r.path.name for r in address.resolve(f"{self.folder}/")]
        self.assertEqual(names, ["z.shp"])
        names = [r.path.name for r in address.resolve(f"{self.folder}/*.dbf")]
        self.assertEqual(names, ["codes.dbf", "z.dbf"])  # as they were asked for
        with zipfile.ZipFile(self.folder / "z.zip", "w") as archive:
            for part in self.folder.glob("z.*"):
                if part.suffix != ".zip":
                    archive.write(part, part.name)
        self.assertEqual(quietly(polygene.read, self.folder / "z.zip").n_rows, 1)
        with self.assertRaisesRegex(PolygeneError, "only read"):
            polygene.write(found, self.folder / "new.dbf")

    def test_what_programs_of_tables_leave_in_parquet(self):
        path = self.folder / "plain.parquet"
        pq.write_table(pa.table({"photo": [b"\xff\xd8", None], "n": [1, 2]}), path)
        self.assertTrue(polygene.read(path).is_table)
        (info,) = polygene.layers(path)[str(path)]
        self.assertEqual((info.geometry, info.n_rows), ("none", 2))
        point = struct.pack("<BIdd", 1, 1, 2.0, 3.0)
        pq.write_table(pa.table({"geometry": [point, None]}), path)
        self.assertEqual(polygene.read(path).geometry.xy.tolist(), [[2.0, 3.0]])


class Kept(InFolder):
    def test_every_format_that_holds_tables_gives_them_back(self):
        day = datetime.date(1899, 2, 3)
        table = pa.table({
            "code": pa.array(CODES, pa.string()), "n": pa.array([2**62, None, 1, 2, 3, 4, 5]),
            "r": [0.1, None, float("inf"), 1e300, 5e-324, -0.0, 1 / 3],
            "day": pa.array([day, None, *[datetime.date(2026, 11, 28)] * 5]),
            "yes": [True, None, False, True, True, True, True],
            "f": ["=A1", "+1", "@x", "#N/A", "\x01", "a\nb", None],
        })  # fmt: skip
        whole = polygene.as_layer(table, "codes")
        for ending in ("csv", "tsv", "parquet", "arrow", "gpkg", "xlsx"):
            with self.subTest(ending=ending):
                path = self.folder / f"codes.{ending}"
                with warnings.catch_warnings(action="ignore"):
                    polygene.write(whole, path)  # and its proof
                back = polygene.read(path)
                self.assertTrue(back.is_table)
                kept = [None if v == "" and ending == "xlsx" else v for v in CODES]
                self.assertEqual(back.table["code"].to_pylist(), kept)
                self.assertEqual(back.table.column_names, table.column_names)
                if ending not in ("xlsx", "csv", "tsv"):
                    self.assertEqual(back.table.to_pydict(), table.to_pydict())
        for ending in ("shp", "geojson", "geojsons", "fgb"):
            with self.assertRaisesRegex(DataError, "a table without geometry"):
                polygene.write(whole, self.folder / f"codes.{ending}")
            self.assertFalse((self.folder / f"codes.{ending}").exists())

    def test_a_workbook_keeps_formulas_as_texts_and_loses_no_other_sheet(self):
        path = self.folder / "t.xlsx"
        polygene.write(polygene.as_layer(pa.table({"f": ["=1+1"], "n": [7]}), "t"), path)
        cell = openpyxl.load_workbook(path).active["A2"]
        self.assertEqual((cell.value, cell.data_type), ("=1+1", "s"))
        with self.assertRaisesRegex(DataError, "other sheets"):
            polygene.write(polygene.as_layer(pa.table({"n": [8]}), "u"), f"{path}#u")
        polygene.write(polygene.as_layer(pa.table({"n": [8]}), "t"), f"{path}#t", "replace")
        self.assertEqual(polygene.read(path).table.to_pylist(), [{"n": 8}])

    def test_rows_of_nothing_but_nulls_are_rows(self):
        """Where a line or row of nothing would be passed over, a field numbers all."""
        for ending in ("csv", "tsv", "xlsx", "parquet", "gpkg"):
            for fields in (
                {"n": [7, None, None]},
                {"n": [None]},
                {"Row": ["a", None], "n": [1, None]},
            ):
                texts = {k: [None if v is None else str(v) for v in c] for k, c in fields.items()}
                table = pa.table({k: pa.array(c, pa.string()) for k, c in texts.items()})
                with self.subTest(ending=ending, fields=fields):
                    path = self.folder / f"t.{ending}"
                    polygene.write(polygene.as_layer(table, "t"), path, "replace")
                    found = polygene.read(path).table
                    self.assertEqual(found.num_rows, table.num_rows)
                    is_odd = ending == "xlsx" or (ending in ("csv", "tsv") and len(fields) == 1)
                    name = "row_2" if "Row" in fields else "row"
                    self.assertEqual(found.column_names, [*[name] * is_odd, *fields])
                    for own in fields:
                        values = found.column(own).to_pylist()
                        self.assertEqual([v if v is None else str(v) for v in values], texts[own])

    def test_names_and_values_that_tables_have_otherwise(self):
        """Each is written, under a name that is read again as what it is, and what changes is said."""
        moment = datetime.datetime(9999, 1, 2, 3, 4, 5, 1)
        wkt = "POINT (1 2)"
        for ending, fields, names in (
            ("csv", {"geometry": ["bay"], "n": [1]}, ["geometry_2", "n"]),
            ("csv", {"wkt": [wkt, None]}, ["row", "wkt"]),
            ("csv", {"x": [1.5], "y": [2.5], "place": ["a"]}, ["x", "y", "place"]),
            ("tsv", {"x": [1.5], "Y": ["north"]}, ["x", "Y_2"]),
            ("csv", {"at": [moment, None], "n": [1, 2]}, ["at", "n"]),
            ("xlsx", {" n ": [1], "n": [2], "": [3], "a\nb": [4]}, ["n", "n_2", "column_3", "a b"]),
            ("xlsx", {"blob": [b"\xff\x00"]}, ["blob"]),
            ("gpkg", {"": ["a"], "n": [1]}, ["", "n"]),
        ):
            with self.subTest(ending=ending, fields=fields):
                path = self.folder / f"t.{ending}"
                polygene.write(quietly(polygene.as_layer, pa.table(fields), "t"), path, "replace")
                if ending in ("csv", "tsv"):
                    with path.open(newline="") as file:
                        head, *rows = csv.reader(file, delimiter="\t" if ending == "tsv" else ",")
                    self.assertEqual((head, len(rows)), (names, len(next(iter(fields.values())))))
                else:
                    self.assertEqual(polygene.read(path).table.column_names, names)
        found = polygene.read(self.folder / "t.xlsx").table
        self.assertEqual(found["blob"].to_pylist(), ["ff00"])

    def test_a_field_of_wkt_does_not_take_the_place_of_geometry(self):
        """However late the first geometry comes; of none at all the field is told to be one."""
        texts = [f"POINT ({k} 0)" for k in range(2_000)]
        points = make.points([[]] * 1_999 + [[np.array([5.0, 7.0])]])
        points = replace(points, is_null=np.arange(2_000) < 1_999)
        path = self.folder / "late.csv"
        polygene.write(make.layer("late", points, None, origin=texts), path)
        found = quietly(polygene.read, path)
        self.assertEqual(
            (found.geometry.xy.tolist(), int(found.geometry.is_null.sum())), ([[5, 7]], 1_999)
        )
        self.assertEqual(found.table["origin"].to_pylist(), texts)
        nothing = replace(make.points([[]] * 2_000), is_null=np.ones(2_000, bool))
        none = make.layer("none", nothing, None, origin=texts)
        notes = " ".join(format_of(path).write(path, [none]).notes)
        self.assertRegex(notes, "without geometry, of which none.*origin will be read as geometry")
        polygene.write(none, path, "replace")
        with path.open(newline="") as file:
            self.assertEqual([row[0] for row in csv.reader(file)], ["origin", *texts])

    def test_heights_are_those_of_all_vertices_of_a_row_or_none(self):
        ways = make.lines([[np.array([(0.0, k), (1, k)])] for k in range(3)])
        ways = replace(ways, z=np.array([5.0, np.nan, 1, 2, np.nan, np.nan]), is_multi=False)
        path = self.folder / "h.csv"
        with self.assertWarnsRegex(
            UserWarning, "heights of 1 feature that some vertices have none"
        ):
            polygene.write(make.layer("h", ways, None, k=[0, 1, 2]), path)
        lines = path.read_text().splitlines()[1:]
        wanted = ["(0.0 0.0,1.0 0.0)", "Z (0.0 1.0 1.0,1.0 1.0 2.0)", "(0.0 2.0,1.0 2.0)"]
        self.assertEqual(lines, [f'{k},"LINESTRING {text}"' for k, text in enumerate(wanted)])

    def test_rows_of_megabytes(self):
        """A coast of 90,000 vertices among small ones, first, last, or between; each is a line."""
        turn = np.linspace(0, 2 * np.pi, 90_000)
        coast = 5e5 + 1e5 * np.stack([np.cos(turn), np.sin(turn)], axis=1)
        coast[-1] = coast[0]
        small = [[[make.square(x, 0, 1)]] for x in range(3)]
        for at in (0, 1, 3):
            rows = make.polygons([*small[:at], [[coast]], *small[at:]])
            own = make.layer("coast", rows, None, code=["007", "1", "2", "3"], n=[1, 2, 3, None])
            for ending in ("csv", "tsv"):
                polygene.write(own, f"{self.folder}/coast.{ending}", "replace")
                found = polygene.read(f"{self.folder}/coast.{ending}")
                np.testing.assert_array_equal(found.geometry.xy, own.geometry.xy)
                self.assertEqual(found.table.to_pydict(), own.table.to_pydict())

    def test_a_sheet_with_coordinates_is_a_layer_of_points(self):
        book = openpyxl.Workbook()
        for title, rows in {
            "wells": [("id", " Lon ", "LAT"), (1, 14.25, 72), (2, None, 72.5), (3, 14, -72.5)],
            "sides": [("code", "x", "y"), ("a", "left", "right"), ("b", 1, 2)],
            "mixed": [("x", "y"), (1, 2), ("three", 4)],
            "below": [("Wells of 2024",), ("x", "y"), (5, 6)],
        }.items():
            sheet = book.create_sheet(title)
            for row in rows:
                sheet.append(row)
        del book["Sheet"]
        path = self.folder / "points.xlsx"
        book.save(path)
        wells = polygene.read(f"{path}#wells", "EPSG:4326")
        self.assertEqual(wells.geometry.xy.tolist(), [[14.25, 72], [14, -72.5]])
        self.assertEqual(wells.geometry.is_null.tolist(), [False, True, False])
        self.assertEqual(wells.table.column_names, ["id", "Lon", "LAT"])
        for name in ("sides", "mixed"):
            self.assertTrue(polygene.read(f"{path}#{name}").is_table, name)
        self.assertEqual(polygene.read(f"{path}#below", header=2).geometry.xy.tolist(), [[5, 6]])
        (only,) = polygene.layers(path).values()
        self.assertEqual(only[0].geometry, "point")
        # As the only layer beside tables it needs no name; written, it says the same again.
        del book["below"]
        book.save(path)
        done = polygene_here(
            "convert", "points.xlsx", "--crs", "EPSG:4326", "-o", "w.xlsx", folder=self.folder
        )
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("points taken from its columns Lon and LAT", done.words)
        self.assertIn("does not say the CRS", done.words)
        self.assertNotIn("left out", done.words)
        again = polygene.read(self.folder / "w.xlsx")
        self.assertTrue(np.array_equal(again.geometry.xy, wells.geometry.xy))
        moved = wells.geometry.with_xy(wells.geometry.xy + 1)
        with self.assertWarnsRegex(UserWarning, "geometry left out"):
            polygene.write(replace(wells, geometry=moved), self.folder / "m.xlsx")

    def test_columns_of_a_workbook_are_as_wide_as_what_is_in_them(self):
        path = self.folder / "w.xlsx"
        table = pa.table({"name": ["x" * 30, None], "n": [1, 2], "long": ["y" * 5000, ""]})
        polygene.write(quietly(polygene.as_layer, table, "w"), path)
        sheet = openpyxl.load_workbook(path).active
        wide = [sheet.column_dimensions[letter].width for letter in "ABC"]
        self.assertTrue(30 < wide[0] < 35 and 8 < wide[1] < 9 and wide[2] == 60, wide)

    def test_names_that_a_workbook_cannot_hold(self):
        place = make.points([[np.zeros(2)]])
        odd = make.layer("odd", place, None, **{"n\x04": [1], "n": ["x\x04"]})
        path = self.folder / "odd.xlsx"
        with self.assertWarnsRegex(UserWarning, "1 text with control characters, left out"):
            polygene.write(odd, path)
        self.assertEqual(polygene.read(path).table.to_pydict(), {"n": [1], "n_2": ["x"]})
        for name, other in (("a[1]", "a_1_"), ("x:y", "x_y"), ("n" * 40, "n" * 31)):
            with self.assertRaisesRegex(DataError, f"name of a sheet.*#{other}$"):
                polygene.write(replace(odd, name=name), f"{self.folder}/new.xlsx#{name}")
        self.assertFalse((self.folder / "new.xlsx").exists())

    def test_of_a_layer_a_workbook_has_the_fields(self):
        """Geometry has no place there, which is said, or refused; without fields there is nothing."""
        squares = make.polygons([[[make.square(0, 0, 1)]], [[make.square(2, 0, 1)]]])
        layer = make.layer("plots", squares, None, n=[1, 2], name=["a", None])
        path = self.folder / "plots.xlsx"
        with self.assertWarnsRegex(UserWarning, "geometry left out"):
            polygene.write(layer, path)
        found = polygene.read(path)
        self.assertTrue(found.is_table)
        self.assertEqual(found.table.to_pydict(), {"n": [1, 2], "name": ["a", None]})
        with self.assertRaisesRegex(DataError, "no fields.*no place"):
            polygene.write(make.layer("plots", squares, None), self.folder / "b.xlsx")
        self.assertFalse((self.folder / "b.xlsx").exists())
        with self.assertRaisesRegex(DataError, "geometry left out"):
            polygene.write(layer, self.folder / "c.xlsx", if_changed="refuse")

    def test_a_table_and_a_layer_change_places_in_a_package(self):
        path = self.folder / "a.gpkg"
        rows = make.polygons([[[make.square(0, 0, 1)]]])
        polygene.write(make.layer("t", rows, None, n=[1]), f"{path}#t")
        polygene.write(polygene.as_layer(pa.table({"n": [8]}), "t"), f"{path}#t", "replace")
        self.assertTrue(polygene.read(f"{path}#t").is_table)
        self.assertEqual(polygene.check(path)[str(path)].findings, [])
        polygene.write(make.layer("t", rows, None, n=[1]), f"{path}#t", "replace")
        self.assertFalse(polygene.read(f"{path}#t").is_table)
        self.assertEqual(polygene.check(path)[str(path)].findings, [])


class Used(WithSample):
    in_process = True

    def told(self, *arguments):
        run = self.run_polygene(*arguments, "--json")
        self.assertEqual(run.code, 0, run.err)
        return json.loads(run.out)["results"]

    def test_what_works_on_fields_works_on_tables_and_the_rest_refuses(self):
        table, sample = workbook(self.folder / "people.xlsx"), self.folder / "tolva.gpkg"
        (said,) = self.told("peek", table, "--sheet", "people", "--header", "3")
        self.assertEqual((said["geometry"], said["features"]), ("none", 2))
        self.told("subset", f"{table}#plain", "--where", "b = TRUE", "-o", "s.csv")
        self.assertEqual(polygene.read(self.folder / "s.csv").n_rows, 1)
        how = ("--with", f"{sample}#park", "-o", "x.gpkg")
        run = self.run_polygene("clip", f"{table}#plain", *how)
        self.assertEqual(run.code, 1)
        self.assertIn("plain is a table without geometry", run.words)
        run = self.run_polygene(
            "clip", f"{sample}#buoys", "--with", f"{table}#plain", "-o", "x.gpkg"
        )
        self.assertEqual(run.code, 1)
        self.assertFalse((self.folder / "x.gpkg").exists())
        (told,) = self.told("clip", f"{table}#plain", f"{sample}#buoys", *how)
        self.assertIn("plain is a table without geometry; left out", told["notes"])
        for asked in (["--by", "a", "--aggregate", "s = sum(area())"], ["--by", "b"]):
            run = self.run_polygene("tally", f"{table}#plain", *asked)
            self.assertEqual(run.code, 2 if "--aggregate" in asked else 0, run.err)
        with self.assertRaises(TableError):
            polygene.hull(quietly(polygene.read, f"{table}#plain"))
