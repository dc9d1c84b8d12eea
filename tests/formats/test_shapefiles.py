"""Shapefiles as others write them: code pages, deleted records, null shapes, thousands of holes."""

from __future__ import annotations

import struct
import time
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import shapefile

import polygene
from polygene import crs
from polygene.errors import DataError, FileError, UsageError
from polygene.formats import codepages, nesting
from polygene.formats.codepages import texts_written_in
from polygene.formats.registry import format_of
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.record import checksum
from polygene.winding import turned
from tests.formats.test_round_trips import geometries
from tests.support import generators as make
from tests.support.cli import InFolder
from tests.support.layers import quietly


def table(fields, records, mark=0, deleted=()):
    """A .dbf by its description: fields (name, kind, width, decimals), records as bytes."""
    width = 1 + sum(field[2] for field in fields)
    head = struct.pack("<BBBBIHH20x", 3, 126, 1, 1, len(records), 33 + 32 * len(fields), width)
    head = head[:29] + bytes([mark]) + head[30:]
    for name, kind, size, decimals in fields:
        head += struct.pack("<11sc4xBB14x", name, kind.encode(), size, decimals)
    body = b"".join(
        (b"*" if k in deleted else b" ")
        + b"".join(v.ljust(f[2]) for v, f in zip(r, fields, strict=True))
        for k, r in enumerate(records)
    )
    return head + b"\r" + body + b"\x1a"


def points(xys, code=1, kind=None):
    """A .shp of points, None for a null shape."""
    body = b""
    for k, xy in enumerate(xys):
        content = struct.pack("<i", 0) if xy is None else struct.pack("<idd", kind or code, *xy)
        body += struct.pack(">ii", k + 1, len(content) // 2) + content
    return struct.pack(">i20xi", 9994, (100 + len(body)) // 2) + struct.pack(
        "<ii8d", 1000, code, *[0.0] * 8
    ) + body  # fmt: skip


class Strangers(InFolder):
    def stranger(self, shp, dbf=None, **more):
        (self.folder / "s.shp").write_bytes(shp)
        for ending, data in {"dbf": dbf, **more}.items():
            if data is not None:
                (self.folder / f"s.{ending}").write_bytes(data)
        return format_of(self.folder / "s.shp").read(self.folder / "s.shp", "s")

    def test_a_name_alone_says_that_texts_are_no_utf8(self):
        dbf = table([("æ".encode("cp1252"), "C", 4, 0), (b"n", "N", 2, 0)], [(b"a", b"1")])
        found = self.stranger(points([(0, 0)]), dbf)
        self.assertEqual(found.layers[0].table.to_pylist(), [{"æ": "a", "n": 1}])
        dbf = table([("ab æøåæ".encode()[:10], "C", 4, 0)], [(b"a",)])  # cut within a character
        found = self.stranger(points([(0, 0)]), dbf)
        self.assertEqual(found.layers[0].table.column_names, ["ab æøå"])

    def test_marks_in_words_and_a_prj_that_is_none(self):
        dbf = table([(b"t", "C", 4, 0)], [("æ".encode("cp850"),)])
        found = self.stranger(points([(0, 0)]), dbf, cpg=b"LDID/2", prj=b"hello")
        self.assertEqual(found.layers[0].table["t"].to_pylist(), ["æ"])
        self.assertIsNone(found.layers[0].crs)
        self.assertIn("says no CRS that is known here, 'hello'", " ".join(found.notes))

    def test_numbers_that_other_levels_of_dbase_hold_otherwise(self):
        """Level 7 describes fields in 48 bytes, and turns the order and the sign of whole numbers."""
        numbers = [struct.pack(">I", (1 << 31) + n) for n in (5, -7)]
        dbf = table([(b"n", "+", 4, 0), (b"x", "O", 8, 0)], [(n, b"\0" * 8) for n in numbers])
        found = self.stranger(points([(0, 0), (1, 1)]), dbf)
        self.assertEqual(found.layers[0].table.column_names, [])
        self.assertIn("field n is of the type '+', which is not read", " ".join(found.notes))
        head = struct.pack("<BBBBIHH56x", 4, 126, 1, 1, 2, 68 + 96 + 1, 1 + 4 + 3)
        for name, kind, width in ((b"a name of more than ten", b"I", 4), (b"c", b"C", 3)):
            head += struct.pack("<32scBB13x", name, kind, width, 0)
        body = b"".join(b" " + n + b"xy " for n in numbers)
        found = self.stranger(points([(0, 0), (1, 1)]), head + b"\r" + body)
        self.assertEqual(
            found.layers[0].table.to_pylist(),
            [{"a name of more than ten": n, "c": "xy"} for n in (5, -7)],
        )

    def named(self, text, encoding, n_fields=1, mark=0, **more):
        fields = [(f"F{k}".encode(), "C", 20, 0) for k in range(n_fields)]
        found = self.stranger(
            points([(1, 2)]), table(fields, [[text.encode(encoding)] * n_fields], mark), **more
        )
        notes = [note for note in found.notes if "prj" not in note]
        return found.layers[0].table["F0"][0].as_py(), notes

    def test_encodings(self):
        """Whatever the length of the header and the year in it, which are no text."""
        for n_fields in (1, 3, 4, 7, 20, 101):
            self.assertEqual(self.named("Łódź – Ærø", "utf-8", n_fields), ("Łódź – Ærø", []))
        self.assertEqual(self.named("plain", "ascii", 4), ("plain", []))
        for text, encoding, mark in (
            ("Brûlé", "cp850", 0x02), ("Москва", "cp1251", 0xC9), ("Жуков", "cp866", 0x65),
            ("Zürich", "cp1252", 0x57), ("東京", "cp932", 0x13), ("Αθήνα", "cp1253", 0xCB),
        ):  # fmt: skip
            with self.subTest(encoding=encoding):
                self.assertEqual(self.named(text, encoding, mark=mark), (text, []))
                said = encoding.upper().replace("CP", "CP ").encode()[2:].strip()
                self.assertEqual(self.named(text, encoding, mark=0, cpg=said), (text, []))
                (self.folder / "s.cpg").unlink()
        self.assertEqual(self.named("Ærø", "utf-8", mark=0x57, cpg=b"UTF-8"), ("Ærø", []))
        (self.folder / "s.cpg").unlink()
        text, notes = self.named("Zürich", "cp1252")
        self.assertEqual((text, len(notes)), ("Zürich", 1))
        self.assertIn("read as Windows-1252", notes[0])
        with texts_written_in("cp850"):
            self.assertEqual(self.named("Brûlé", "cp850"), ("Brûlé", []))
        with self.assertRaises(UsageError), texts_written_in("cp99999"):
            pass
        self.assertTrue(all(codepages.by_mark(m) is None or "".encode(codepages.by_mark(m)) == b""
                            for m in range(256)))  # fmt: skip

    def test_encoding_as_an_option_and_from_python(self):
        self.named("Brûlé", "cp850")
        done = self.run_polygene("convert", "s.shp", "-o", "s.geojson", "--crs", "OGC:CRS84",
                                 "--encoding", "cp850")  # fmt: skip
        self.assertEqual(done.code, 0, done.err)
        self.assertIn("Brûlé", (self.folder / "s.geojson").read_text(encoding="utf-8"))
        layer = quietly(polygene.read, self.folder / "s.shp", "OGC:CRS84", encoding="850")
        self.assertEqual(layer.table["F0"].to_pylist(), ["Brûlé"])

    def test_a_text_cut_within_a_character(self):
        raw = ("a" + "é" * 10).encode()[:20]
        found = self.stranger(points([(0, 0)]), table([(b"F0", "C", 20, 0)], [[raw]]))
        self.assertEqual(found.layers[0].table["F0"].to_pylist(), ["a" + "é" * 9])

    def test_deleted_records_take_their_features_with_them(self):
        fields = [(b"N", "N", 4, 0)]
        records = [[str(k).encode()] for k in range(5)]
        found = self.stranger(
            points([(k, k) for k in range(5)]), table(fields, records, deleted=(1, 3))
        )
        (layer,) = found.layers
        self.assertEqual(layer.table["N"].to_pylist(), [0, 2, 4])
        self.assertEqual(layer.geometry.xy[:, 0].tolist(), [0, 2, 4])
        self.assertTrue(any("2 features marked as deleted" in note for note in found.notes))

    def test_values_of_every_kind(self):
        fields = [(b"N", "N", 12, 0), (b"R", "N", 12, 3), (b"F", "F", 20, 5), (b"L", "L", 1, 0),
                  (b"D", "D", 8, 0), (b"I", "I", 4, 0)]  # fmt: skip
        records = [
            [b"         -12", b" +1.5", b"1.5e3", b"T", b"20240229", struct.pack("<i", -7)],
            [b"************", b"", b"1,25", b"?", b"00000000", struct.pack("<i", 1 << 30)],
            [b"", b"nonsense", b"-.5", b"n", b"20230229", b"\0\0\0\0"],
            [b"1", b"", b"", b"1", b"", b"\0\0\0\0"],
        ]
        found = self.stranger(points([(0, 0)] * 4), table(fields, records))
        values = found.layers[0].table.to_pydict()
        self.assertEqual(values["N"], [-12, None, None, 1])
        self.assertEqual(values["R"], [1.5, None, None, None])
        self.assertEqual(values["F"], [1500.0, 1.25, -0.5, None])
        self.assertEqual(values["L"], [True, None, False, None])
        self.assertEqual([str(v) for v in values["D"]], ["2024-02-29", "None", "None", "None"])
        self.assertEqual(values["I"], [-7, 1 << 30, 0, 0])
        said = " ".join(found.notes)
        self.assertIn("field R: 1 value no number, as 'nonsense'", said)
        self.assertIn("field L: 1 value neither true nor false", said)
        self.assertIn("field D: 1 value no date", said)

    def test_null_shapes_alone_multipatch_and_mixed_kinds(self):
        dbf = table([(b"N", "N", 4, 0)], [[b"1"], [b"2"]])
        for code in (0, 1):
            (layer,) = self.stranger(points([None, None], code), dbf).layers
            self.assertEqual((layer.n_rows, layer.geometry.is_null.all()), (2, True))
        with self.assertRaisesRegex(FileError, "MultiPatch"):
            self.stranger(points([(0, 0)], 31), dbf)
        with self.assertRaisesRegex(DataError, "row 1: its shape is of type 5 in a file of type 1"):
            self.stranger(points([(0, 0)], 1, kind=5), dbf)

    def test_the_index_does_not_matter(self):
        """It is used where it fits the file; one that does not is as none."""
        rows = [[[make.square(10 * k, 0, 5 + k)]] for k in range(20)]
        ours = Layer("s", make.polygons(rows), pa.table({"k": range(20)}), crs.parse("EPSG:32633"))
        path = self.folder / "s.shp"
        format_of(path).write(path, [ours])
        (right,) = format_of(path).read(path, "s").layers
        index = path.with_suffix(".shx").read_bytes()
        for other in (b"", index[:108], index[:100] + index[108:] + index[100:108],
                      bytes(len(index)), None):  # fmt: skip
            if other is None:
                path.with_suffix(".shx").unlink()
            else:
                path.with_suffix(".shx").write_bytes(other)
            (layer,) = format_of(path).read(path, "s").layers
            self.assertEqual(layer.n_rows, 20)
            if other is None or len(other) != len(index):
                np.testing.assert_array_equal(layer.geometry.xy, right.geometry.xy)

    def test_what_only_has_its_name_is_no_part_of_it(self):
        """The checksum is that of the layer, not of its copy in another format, or of an index."""
        fields = [(b"N", "C", 4, 0)]
        found = self.stranger(points([(1, 2)]), table(fields, [[b"a"]]), prj=b"\r\n")
        self.assertIn("a .prj beside it that is empty", " ".join(found.notes))
        before = checksum(self.folder / "s.shp")
        for name in ("s.geojson", "s.qix", "s.shp.xml", "s.gpkg"):
            (self.folder / name).write_text("else")
        self.assertEqual(checksum(self.folder / "s.shp"), before)
        (self.folder / "s.DBF").write_bytes(table(fields, [[b"b"]]))
        self.assertNotEqual(checksum(self.folder / "s.shp"), before)

    def test_gaps_that_editing_in_place_leaves_and_what_is_behind_the_end(self):
        """The second point was moved to the end; its old place is nobody's, and more follows."""
        shp = points([(1, 1), (2, 2), (3, 3)])
        dbf = table([(b"N", "N", 4, 0)], [[b"1"], [b"2"], [b"3"]])
        moved = shp + struct.pack(">ii", 2, 10) + struct.pack("<idd", 1, 9, 9)
        moved = moved[:24] + struct.pack(">i", len(moved) // 2) + moved[28:]
        index = shp[:100] + b"".join(struct.pack(">ii", at // 2, 10) for at in (100, len(shp), 156))
        for tail in (b"", bytes(40)):
            (layer,) = self.stranger(moved + tail, dbf, shx=index).layers
            self.assertEqual(layer.geometry.xy[:, 0].tolist(), [1, 9, 3])
            self.assertEqual(layer.table["N"].to_pylist(), [1, 2, 3])
        (self.folder / "s.shx").unlink()
        (layer,) = self.stranger(shp + bytes(40), dbf).layers
        self.assertEqual(layer.geometry.xy[:, 0].tolist(), [1, 2, 3])

    def test_crs_that_a_prj_has_no_words_for(self):
        layer = Layer("s", make.points([[np.array([1.0, 2.0])]]), pa.table({"k": [1]}), None)
        wkt = ("BOUNDCRS[SOURCECRS[" + crs.parse("EPSG:4314").to_wkt() + "],TARGETCRS["
               + crs.parse("EPSG:4326").to_wkt() + "],ABRIDGEDTRANSFORMATION[\"shift\","
               "METHOD[\"Geocentric translations (geog2D domain)\",ID[\"EPSG\",9603]],"
               "PARAMETER[\"X-axis translation\",598],PARAMETER[\"Y-axis translation\",73],"
               "PARAMETER[\"Z-axis translation\",418]]]")  # fmt: skip
        for given, says in ((wkt, "no place for the shift"), ("EPSG:9518", ""), ("EPSG:4979", "")):
            with self.subTest(crs=given[:20]):
                path = self.folder / "s.shp"
                notes = (
                    format_of(path)
                    .write(path, [Layer("s", layer.geometry, layer.table, crs.parse(given))])
                    .notes
                )
                self.assertIn(says, " ".join(notes))
                (back,) = format_of(path).read(path, "s").layers
                self.assertIsNotNone(back.crs)


class Nesting(unittest.TestCase):
    def column(self, n, shuffled):
        """Islands in lakes on islands in a great lake, in any order and direction."""
        rng = np.random.default_rng(5)
        rings = [make.square(0, 0, 1000)]
        for k in range(n):
            x, y = 10 + 25 * (k % 30), 10 + 25 * (k // 30)
            rings += [make.square(x, y, 20), make.square(x + 4, y + 4, 8)]
        order = rng.permutation(len(rings)) if shuffled else np.arange(len(rings))
        rings = [rings[k] if rng.random() < 0.5 else rings[k][::-1] for k in order]
        return GeometryColumn.from_rings([[[ring] for ring in rings]], Family.POLYGONS)

    def test_many_rings_as_few(self):
        from unittest import mock

        for shuffled in (False, True):
            column = self.column(300, shuffled)
            found = nesting.nested(column, 1)
            with (
                mock.patch.object(nesting, "MANY", 10**9),
                mock.patch.object(nesting, "LONG", 10**12),
            ):
                plain = nesting.nested(column, 1)
            with mock.patch.object(nesting, "MANY", 0), mock.patch.object(nesting, "LONG", 0):
                sorted_ = nesting.nested(column, 1)
            for one in (plain, sorted_):
                for name in ("xy", "ring_offsets", "part_offsets", "row_offsets"):
                    np.testing.assert_array_equal(getattr(found, name), getattr(one, name))
            self.assertEqual(np.sort(np.diff(found.part_offsets)).tolist(), [1] * 300 + [301])

    def test_ten_thousand_holes_take_no_longer_than_they_must(self):
        began = time.monotonic()
        found = nesting.nested(self.column(900, False), 1)
        self.assertEqual(found.n_parts, 901)
        self.assertLess(time.monotonic() - began, 5)


class Written(InFolder):
    def test_another_reads_what_is_written(self):
        """All kinds with and without Z and M, null and empty rows, by a library of its own."""
        for words, column in geometries().items():
            ours = Layer("s", column, pa.table({"n": ["Ærø"] * column.n_rows}), None)
            path = Path(self.folder / "s.shp")
            format_of(path).write(path, [ours])
            turned_column = turned(column, outer_is_counter_clockwise=False)
            first = column.vertex_offsets_of_rows
            with self.subTest(words=words), shapefile.Reader(str(path)) as reader:
                self.assertEqual([r[0] for r in reader.records()], ["Ærø"] * column.n_rows)
                for row, shape in enumerate(reader.shapes()):
                    own = slice(first[row], first[row + 1])
                    if own.start == own.stop:
                        self.assertEqual(shape.shapeType, 0)
                        continue
                    xy = turned_column.xy[own]
                    np.testing.assert_array_equal(np.array(shape.points)[:, :2], xy)
                    if hasattr(shape, "bbox") and len(xy) > 1:
                        box = [*xy.min(axis=0), *xy.max(axis=0)]
                        self.assertEqual(list(shape.bbox), box)
                    for name in ("z", "m"):
                        wanted = getattr(turned_column, name)
                        if wanted is not None:
                            found = [np.nan if v is None else v for v in getattr(shape, name)]
                            np.testing.assert_array_equal(found, wanted[own])
            self.assertEqual(path.stat().st_size % 4, 0)

    def test_no_height_is_none_where_others_have_one(self):
        """What is no number may not stand there; without any height it has no Z."""
        path = Path(self.folder / "z.shp")
        column = GeometryColumn.from_points(np.zeros((3, 2)))
        for z, wanted in (((5.0, np.nan, -1.0), [5, 0, -1]), ((np.nan,) * 3, None)):
            ours = Layer("z", replace(column, z=np.array(z)), pa.table({}), None)
            done = format_of(path).write(path, [ours])
            self.assertEqual(
                "1 vertex of 3 without a height" in " ".join(done.notes), wanted is not None
            )
            with shapefile.Reader(str(path)) as reader:
                found = [list(getattr(shape, "z", ())) for shape in reader.shapes()]
                self.assertEqual(found, [[v] for v in wanted] if wanted else [[]] * 3)


if __name__ == "__main__":
    unittest.main()
