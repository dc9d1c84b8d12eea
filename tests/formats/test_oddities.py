"""Files as they should not be: each is read as what it can be, or refused in words that name it."""

import contextlib
import io
import json
import struct
import zipfile
from dataclasses import replace

import numpy as np
import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq
import shapefile

import polygene
from polygene import crs
from polygene.errors import DataError, FileError, GeometryError, PolygeneError, SheetError
from polygene.formats import address, addressed, destination, packed
from polygene.formats.destination import Target
from polygene.formats.wishes import written_so
from polygene.lined_yaml import load
from polygene.table.casting import as_text
from tests.support import cli
from tests.support import generators as make
from tests.support.cli import InFolder
from tests.support.layers import quietly

POINT = struct.pack("<BIdd", 1, 1, 1.0, 2.0)
GEO = {"encoding": "WKB", "geometry_types": ["Point"], "bbox": [1, 2, 1, 2]}


class Odd(InFolder):
    def file(self, name, content):
        path = self.folder / name
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
        return str(path)

    def parquet(self, geo=None, columns=(), names=()):
        about = {"version": "1.1.0", "primary_column": "geometry", "columns": {"geometry": GEO}}
        table = pa.Table.from_arrays([pa.array([POINT]), *columns], ["geometry", *names])
        path = self.folder / "odd.parquet"
        pq.write_table(table.replace_schema_metadata({"geo": geo or json.dumps(about)}), path)
        return str(path)

    def sheet(self, keys):
        """A workbook with numbers as they are given; openpyxl has 16 digits of each."""
        book, path = openpyxl.Workbook(), self.folder / "k.xlsx"
        for value in ("k", *range(7_000, 7_000 + len(keys))):
            book.active.append([value])
        book.save(path)
        with zipfile.ZipFile(path) as packed_:
            parts = {name: packed_.read(name) for name in packed_.namelist()}
        own = "xl/worksheets/sheet1.xml"
        for k, key in enumerate(keys):
            parts[own] = parts[own].replace(b"<v>%d</v>" % (7_000 + k), b"<v>%s</v>" % key.encode())
        with zipfile.ZipFile(path, "w") as packed_:
            for name, content in parts.items():
                packed_.writestr(name, content)
        return str(path)

    def notes_of(self, path):
        (ref,) = address.resolve(path)
        return " ".join(addressed.read(ref).notes)


class Columns(Odd):
    def test_columns_of_one_name_get_numbers(self):
        table = self.file("a.csv", 'WKT,a,a,WKT\n"POINT (1 2)",3,4,"POINT (5 6)"\n')
        parquet = self.parquet(columns=[pa.array([3]), pa.array([4])], names=["a", "a"])
        for path in (table, parquet):
            layer = quietly(polygene.read, path)
            self.assertEqual(layer.table.select(["a", "a_2"]).to_pylist(), [{"a": 3, "a_2": 4}])
            self.assertEqual(layer.geometry.xy.tolist(), [[1.0, 2.0]])
            self.assertIn("column 3 is a second 'a'; called a_2", self.notes_of(path))

    def test_signs_of_value_zero_are_in_no_name(self):
        """Names end at them in SQL, in dBASE and in CSV, in which those were not written at all."""
        feature = {"type": "Feature", "geometry": {"type": "Point", "coordinates": [1, 2]}}
        feature["properties"] = {"a\0b": 1, "ab": 2, "\0": 3}
        path = self.file(
            "z.geojson", json.dumps({"type": "FeatureCollection", "features": [feature]})
        )
        row = {"ab_2": 1, "ab": 2, "column_3": 3}
        self.assertEqual(polygene.read(path).table.to_pylist(), [row])
        self.assertIn(
            "column 1 has a sign of value zero in its name; called ab_2", self.notes_of(path)
        )
        layer = make.layer(
            "z", make.points([[np.zeros(2)]]), crs.parse("OGC:CRS84"), **{"a\0b": [1]}
        )
        for ending in (".gpkg", ".csv", ".shp"):
            out = f"{self.folder}/z{ending}"
            polygene.write(layer, out)
            self.assertEqual(polygene.read(out).table.to_pylist(), [{"ab": 1}])

    def test_types_that_are_not_ours(self):
        beyond = pa.array([2**63 + 1], pa.uint64())
        nanos = pa.array([45_296_123_456_789], pa.time64("ns"))
        path = self.parquet(
            columns=[beyond, nanos, pa.array([1_000_001], pa.duration("ns"))], names="uts"
        )
        (row,) = polygene.read(path).table.to_pylist()
        self.assertEqual(
            row, {"u": str(2**63 + 1), "t": "12:34:56.123456789", "s": "0:00:00.001000"}
        )
        self.assertRegex(self.notes_of(path), "u has numbers over .*t is time64.*s is duration")

    def test_whole_numbers_that_no_real_number_is_do_not_become_others(self):
        """A field of them and of others that are none is text, in every format that states no type."""
        keys = [str(2**53 + 1), "0.5", "12345678901234567890"]
        table = self.file("k.csv", "x,y,k,m\n" + "".join(f"1,2,{key},{2**54}.5\n" for key in keys))
        marks = "".join(
            f"<Placemark><ExtendedData><Data name='k'><value>{key}</value></Data></ExtendedData>"
            "<Point><coordinates>1,2</coordinates></Point></Placemark>"
            for key in keys
        )
        kml = self.file(
            "k.kml",
            f"<kml xmlns='http://www.opengis.net/kml/2.2'><Document>{marks}</Document></kml>",
        )
        features = [
            f'{{"type":"Feature","properties":{{"k":{key}}},"geometry":null}}' for key in keys
        ]
        json_ = self.file(
            "k.json", f'{{"type":"FeatureCollection","features":[{",".join(features)}]}}'
        )
        for path in (table, kml, json_, self.sheet(keys)):
            with self.subTest(path=path):
                self.assertEqual(polygene.read(path).table["k"].to_pylist(), keys)
        self.assertIn(
            f"k has whole numbers that no real number is, such as {keys[0]}", self.notes_of(table)
        )
        self.assertEqual(polygene.read(table).table["m"].to_pylist(), [2.0**54] * 3)  # measured

    def test_declared_numbers_that_are_larger_than_any_of_ours(self):
        """N(20, 0) of a dBASE table by another writer, and an unsigned field of a FlatGeobuf."""
        with shapefile.Writer(str(self.folder / "n"), shapeType=1) as writer:
            writer.field("k", "N", 20, 0)
            for key in (12345678901234567890, 1):
                writer.point(1, 2)
                writer.record(key)
        path = str(self.folder / "n.shp")
        self.assertEqual(
            quietly(polygene.read, path).table["k"].to_pylist(), ["12345678901234567890", "1"]
        )
        self.assertIn("k holds numbers beyond 64 bits; read as text", self.notes_of(path))
        path = str(self.folder / "u.fgb")
        polygene.write(make.layer("u", make.points([[np.zeros(2)]] * 2), None, kk=[-1, 5]), path)
        data = bytearray((self.folder / "u.fgb").read_bytes())
        data[data.rindex(b"\x07\x04\0\0\0", 0, data.index(b"kk"))] = 8  # from Long to ULong
        self.file("u.fgb", bytes(data))
        self.assertEqual(polygene.read(path).table["kk"].to_pylist(), [str(2**64 - 1), "5"])
        self.assertIn("kk has numbers over 2^63; taken as text", self.notes_of(path))

    def test_parts_of_a_millisecond_are_not_dropped_without_a_word(self):
        moment, kept = "1960-01-05T10:30:00.1234567Z", "1960-01-05T10:30:00.123Z"
        point = "<Point><coordinates>1,2</coordinates></Point>"
        files = [
            self.file("t.csv", f"x,y,time\n1,2,{moment}\n"),
            self.file("t.kml", "<kml xmlns='http://www.opengis.net/kml/2.2'><Placemark><ExtendedData>"
                      f"<Data name='time'><value>{moment}</value></Data></ExtendedData>{point}"
                      "</Placemark></kml>"),
            self.file("t.gpx", "<gpx version='1.1' xmlns='http://www.topografix.com/GPX/1/1'>"
                      f"<wpt lat='1' lon='2'><time>{moment}</time></wpt></gpx>"),
        ]  # fmt: skip
        for path in files:
            with self.subTest(path=path):
                (found,) = as_text(
                    quietly(polygene.read, path).table["time"].combine_chunks()
                ).to_pylist()
                self.assertEqual(found, kept)
                self.assertIn("time has 1 moment cut to milliseconds", self.notes_of(path))

    def test_bytes_that_are_no_text(self):
        path = self.parquet(columns=[pa.array([b"\xff\xfe"]).view(pa.string())], names=["s"])
        with self.assertRaisesRegex(FileError, "odd.parquet: field s .* not UTF-8"):
            polygene.read(path)

    def test_dates_that_python_has_not(self):
        turn = 146_097  # days in 400 years, after which the calendar begins anew
        days = pa.array([7_000 * turn, None, 0], pa.int32()).cast(pa.date32())
        seconds = pa.array([-5_570 * turn * 86_400, 0, None], pa.int64())
        times = seconds.cast(pa.timestamp("s", tz="UTC"))
        layer = make.layer("x", make.points([[np.zeros(2)]] * 3), crs.parse("EPSG:32633"))
        layer = replace(layer, table=pa.table({"d": days, "t": times}), ids=None)
        texts = ["2801970-01-01", None, "1970-01-01"]
        for out in ("odd.parquet", "odd.shp", "odd.gpkg", "odd.geojson", "odd.fgb", "odd.csv"):
            polygene.write(layer, self.folder / out)
            found = polygene.peek(polygene.read(self.folder / out))
            with self.subTest(out=out):
                self.assertEqual([row["d"] and str(row["d"]) for row in found.rows], texts)
                self.assertRegex(found.rows[0]["t"], "^-2226030-01-01T00:00:00")


class Metadata(Odd):
    def test_hints_of_the_wrong_shape_are_no_hints(self):
        for key in ("geometry_types", "bbox", "covering", "orientation", "edges", "epoch"):
            for wrong in (3, "x", [1], {"a": 1}, {"bbox": 3}, {"bbox": {"xmin": "x"}}):
                about = {"primary_column": "geometry", "columns": {"geometry": {**GEO, key: wrong}}}
                path = self.parquet(json.dumps(about))
                with self.subTest(key=key, wrong=wrong):
                    self.assertEqual(quietly(polygene.read, path).n_rows, 1)
                    (info,) = polygene.layers(path)[path]
                    self.assertEqual(info.n_rows, 1)

    def test_what_is_no_metadata_is_refused(self):
        for geo in (
            "x", "[]", "null", "3", b"\xff", '{"columns": {}}', '{"primary_column": 3, "columns": []}',
            '{"primary_column": "geometry", "columns": {"geometry": 3}}',
            '{"primary_column": "geometry", "columns": {"geometry": {"encoding": [1]}}}',
        ):  # fmt: skip
            with self.subTest(geo=geo), self.assertRaisesRegex(FileError, "odd.parquet.*geo"):
                polygene.read(self.parquet(geo))

    def test_types_in_json_that_are_no_text(self):
        for kind in ('["Point"]', '{"a": 1}', "3"):
            with self.subTest(kind=kind), self.assertRaisesRegex(FileError, "a.geojson.*'type'"):
                polygene.read(self.file("a.geojson", f'{{"type": {kind}}}'))
            text = (
                '{"type": "FeatureCollection", "features": [{"type": "Feature", "properties": {}, '
                f'"geometry": {{"type": {kind}, "coordinates": [1, 2]}}}}]}}'
            )
            with self.assertRaisesRegex(GeometryError, "row 1.*unknown type"):
                polygene.read(self.file("a.geojson", text))

    def test_sheets_with_values_that_are_none(self):
        for text in ("title: !!float x", "title: !!timestamp 1979-99-99", "title: !!int x"):
            with self.subTest(text=text), self.assertRaisesRegex(SheetError, "sheet.yaml"):
                load(self.folder / self.file("sheet.yaml", text))

    def test_values_without_a_type_are_texts_as_they_are_written(self):
        text = "{a: 010, b: no, c: 1979-99-99, d: 12:30, e: 1_0, f: .5, 01: ~, on: null, g: '~'}"
        found = load(self.folder / self.file("sheet.yaml", text))
        wanted = ["010", "no", "1979-99-99", "12:30", "1_0", ".5", None, None, "~"]
        self.assertEqual(
            (list(found), list(found.values())), ([*"abcdef", "01", "on", "g"], wanted)
        )

    def test_aliases_of_aliases(self):
        lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x]"]
        lines += [f"a{k}: &a{k} [{', '.join([f'*a{k - 1}'] * 9)}]" for k in range(1, 9)]
        text = "\n".join(["title: t", *lines, ""])
        with self.assertRaisesRegex(SheetError, "line 1: its aliases stand for more than 100,000"):
            load(self.folder / self.file("sheet.yaml", text))
        few = load(self.folder / self.file("sheet.yaml", "a: &a [1, 2]\nb: [*a, *a]\n"))
        self.assertEqual(few, {"a": ["1", "2"], "b": [["1", "2"], ["1", "2"]]})
        with self.assertRaises(SheetError):
            load(self.folder / self.file("sheet.yaml", "[]"))
        self.assertRaises(SheetError, load, self.folder / self.file("sheet.yaml", ""))


class Limits(Odd):
    def test_more_than_a_shapefile_holds(self):
        layer = make.layer("x", make.points([[np.zeros(2)]]), crs.parse("EPSG:32633"))
        for table in (
            pa.table({f"f{k}": [k] for k in range(2_047)}),
            pa.table({f"f{k}": ["x" * 250] for k in range(300)}),
        ):
            with self.assertRaisesRegex(DataError, "big.shp: a shapefile holds 2,046 fields"):
                polygene.write(replace(layer, table=table), self.folder / "big.shp")
        self.assert_only()

    def test_members_of_an_archive_without_a_name(self):
        held = io.BytesIO()
        with zipfile.ZipFile(held, "w") as archive:
            archive.writestr("q", b"x")
        data = bytearray(held.getvalue())
        central = data.index(b"PK\x01\x02")
        data[central + 28 : central + 30] = b"\0\0"  # its name in the directory has no length
        del data[central + 46]
        end = data.index(b"PK\x05\x06")
        data[end + 12 : end + 16] = struct.pack("<I", end - central)
        path = self.file("a.zip", bytes(data))
        with packed.unpacking(), self.assertRaisesRegex(FileError, "a.zip holds no file"):
            address.resolve(path)

    def test_names_that_are_too_long_or_not_utf_8(self):
        layer = make.layer("x", make.points([[np.zeros(2)]]), crs.parse("EPSG:32633"))
        source = str(self.folder / "a.gpkg")
        polygene.write(layer, source)
        done = self.run_polygene("convert", source, "-o", "n" * 300 + ".gpkg")
        self.assertEqual(done.code, 1, done.err)
        self.assertIn("file name too long; nothing was written", done.words)
        with self.assertRaisesRegex(PolygeneError, "is not UTF-8"):
            polygene.write(layer, f"{self.folder}/b.gpkg#a\udcff")
        polygene.write(layer, f"{self.folder}/a\udcff.gpkg#x")
        with contextlib.suppress(UnicodeEncodeError):
            self.assertEqual(polygene.read(f"{self.folder}/a\udcff.gpkg").n_rows, 1)


class Formulas(InFolder):
    def test_they_reach_a_spreadsheet_as_text_and_are_said(self):
        texts = ["=1+1", "+a", "@x", "\tx", "-cmd|' /C calc'!A0"]
        texts += ["a=b", "-5", "+47 55 12-34", "-1e-5", None]
        lay = make.layer("f", make.points([[np.ones(2)]] * 10), None, **{"=n": texts})
        path = self.folder / "f.csv"
        notes = destination.write_all([(Target(path, "f"), lay)])
        self.assertRegex(notes[0], "f: 6 texts .* apostrophe .* `raw` writes")
        found = polygene.read(str(path)).table
        self.assertEqual(found.column_names, ["'=n"])
        expected = [f"'{t}" if t in texts[:5] else t for t in texts]
        self.assertEqual(found.column(0).to_pylist(), expected)
        with written_so(is_raw=True):
            self.assertEqual(destination.write_all([(Target(path, "f"), lay)]), [])
        self.assertEqual(polygene.read(str(path)).table.to_pydict(), {"=n": texts})
        (self.folder / "in.geojson").write_bytes(
            b'{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"a":"=x"},'
            b'"geometry":{"type":"Point","coordinates":[1,2]}}]}'
        )
        for more, text in (([], "'=x"), (["--raw"], "=x")):
            for words, file in ((["convert"], "o.csv"), (["tally", "--by", "a"], "t.csv")):
                words += ["in.geojson", "-o", file, "--replace", *more]
                done = cli.polygene_here(*words, folder=self.folder)
                self.assertEqual((done.code, "--raw" in done.out + done.err), (0, not more))
                first = (self.folder / file).read_text().splitlines()[1].split(",")[0]
                self.assertEqual(first.strip('"'), text)
