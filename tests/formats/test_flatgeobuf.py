"""FlatGeobuf: what it lays out, read by another's FlatBuffers; its index; what is damaged."""

from __future__ import annotations

import datetime
import struct
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
from flatbuffers import number_types as kinds
from flatbuffers.table import Table

from polygene import crs
from polygene.batch import still_invalid
from polygene.errors import FileError, GeometryError, PolygeneError
from polygene.formats import flatgeobuf
from polygene.formats.flatgeobuf import index
from polygene.formats.flatgeobuf.header import read_header
from polygene.formats.wanted import Wanted
from polygene.geometry import Family
from tests.formats.test_round_trips import InFolder
from tests.support import flat
from tests.support import generators as make
from tests.support.chance import some_of
from tests.support.layers import geometries, layer


def features_of(path: Path) -> list[Table]:
    """Walk the features with the FlatBuffers library, checking that all is aligned."""
    data = path.read_bytes()
    header = read_header(path)
    at = header.start + index.index_bytes(header.features, header.node_size)
    found = []
    while at < len(data):
        (size,) = struct.unpack_from("<I", data, at)
        assert (size + 4) % 8 == 0
        body = data[at + 4 : at + 4 + size]
        found.append(Table(body, struct.unpack_from("<I", body)[0]))
        at += 4 + size
    return found


def child(table: Table, slot: int) -> Table | None:
    offset = table.Offset(4 + 2 * slot)
    return Table(table.Bytes, table.Indirect(table.Pos + offset)) if offset else None


def vector(table: Table, slot: int, code: str) -> list:
    offset = table.Offset(4 + 2 * slot)
    if not offset:
        return []
    first, n = table.Vector(offset), table.VectorLen(offset)
    assert (first + 4) % struct.calcsize(code) == 0, "numbers begin at multiples of their size"
    return list(struct.unpack_from(f"<{n}{code}", table.Bytes, first))


class Layout(InFolder):
    def test_another_reader_finds_what_was_written(self):
        ring, hole = make.square(0, 0, 9), make.square(2, 2, 2)[::-1]
        rows = [[[ring, hole], [make.square(20, 0, 4)]], [[make.square(40, 0, 1)]]]
        given = make.layer("a", make.polygons(rows), None, n=[7, None], t=["Æ", "b"])
        path = self.folder / "a.fgb"
        flatgeobuf.write(path, [given])
        first, second = features_of(path)
        geometry = child(first, 0)
        offset = geometry.Offset(4 + 2 * 7)
        self.assertEqual(geometry.VectorLen(offset), 2)
        start = geometry.Vector(offset)
        parts = [Table(first.Bytes, geometry.Indirect(start + 4 * k)) for k in range(2)]
        self.assertEqual([vector(p, 0, "I") for p in parts], [[5, 10], []])
        self.assertEqual(vector(parts[0], 1, "d"), np.concatenate([ring, hole]).ravel().tolist())
        kind = parts[0].Get(kinds.Uint8Flags, parts[0].Pos + parts[0].Offset(4 + 2 * 6))
        self.assertEqual(kind, 3)
        values = bytes(vector(first, 1, "B"))
        self.assertEqual(values, struct.pack("<HqHI", 0, 7, 1, 2) + "Æ".encode())
        self.assertEqual(bytes(vector(second, 1, "B")), struct.pack("<HI", 1, 1) + b"b")

    def test_every_kind_is_whole_to_another_reader(self):
        for words, column in geometries().items():
            path = self.folder / "k.fgb"
            flatgeobuf.write(path, [layer(column)])
            found = features_of(path)
            self.assertEqual(len(found), 3, words)
            self.assertEqual([child(f, 0) is None for f in found], column.is_null.tolist())

    def test_dates_and_unsigned_numbers(self):
        given = layer(geometries()["single points "])
        only_days = replace(given, table=given.table.select(["day", "moment", "text"]))
        path = self.folder / "d.fgb"
        flatgeobuf.write(path, [only_days])
        (back,) = flatgeobuf.read(path, "d").layers
        self.assertEqual(back.table, only_days.table)
        self.assertEqual(back.table.schema.field("text").metadata, {b"width": b"60"})

    def test_bytes_under_nulls(self):
        """Arrow allows what is null to have bytes, as values have that a condition has made null."""
        texts = pa.array(["one", "under", "three"]).cast(pa.string())
        buffers = [pa.py_buffer(b"\x05"), *texts.buffers()[1:]]
        odd = pa.Array.from_buffers(pa.string(), 3, buffers)
        self.assertEqual(odd.to_pylist(), ["one", None, "three"])
        column = make.points([[np.array([k, 0.0])] for k in range(3)])
        spots = make.layer("n", column, t=odd, b=odd.cast(pa.binary()))
        path = self.folder / "n.fgb"
        flatgeobuf.write(path, [spots])
        (back,) = flatgeobuf.read(path, "n").layers
        self.assertEqual(back.table["t"].to_pylist(), ["one", None, "three"])
        self.assertEqual(back.table["b"].to_pylist(), [b"one", None, b"three"])


class Strangers(InFolder):
    """What others write, made with the FlatBuffers library."""

    UTM = {"org": "EPSG", "code": 32633}

    def read(self, header: dict, *features: dict) -> tuple:
        path = flat.write(self.folder / "s.fgb", {"crs": self.UTM, **header}, list(features))
        found = flatgeobuf.read(path, "s")
        return found.layers[0], " ".join(found.notes)

    def values(self, kind: int, *values: bytes) -> tuple:
        fields = [{"name": "a", "type": kind}]
        spot = {"geometry": {"xy": [1.0, 2.0]}}
        own = [{**spot, "values": value} for value in values]
        layer, notes = self.read({"type": 1, "fields": fields}, *own)
        return layer.table["a"].to_pylist(), notes

    def test_moments_in_any_zone_and_what_is_none(self):
        ten = datetime.datetime(2020, 1, 1, 10, tzinfo=datetime.UTC)
        for texts, wanted, said in (
            (["2020-01-01T12:00:00+02:00", "2020-01-01T10:00:00Z"], [ten, ten], ""),
            (["2020-01-01 10:00:00", "2020-01-01T10:00"], [ten, ten], ""),
            (["2020-01-01T10:00:00.000123Z"], [ten], "1 moment cut to milliseconds"),
            (["1500-01-01T00:00:00Z"], [datetime.datetime(1500, 1, 1, tzinfo=datetime.UTC)], ""),
            (["2020-01-01", "2020-01-01"], [ten.date()] * 2, ""),
            (["2020-01-01", "2020-01-01T10:00:00Z"], None, "read as text"),
            (["yesterday"], None, "read as text"),
        ):
            with self.subTest(texts=texts):
                found, notes = self.values(13, *(flat.text(0, text) for text in texts))
                self.assertEqual(found, texts if wanted is None else wanted)
                self.assertIn(said, notes)
                self.assertEqual(bool(said), bool(notes))

    def test_two_fields_of_one_name_have_their_own_values(self):
        fields = [{"name": "a", "type": 5}] * 2
        own = {"geometry": {"xy": [1.0, 2.0]}, "values": struct.pack("<HiHi", 0, 1, 1, 2)}
        layer, _ = self.read({"type": 1, "fields": fields}, own)
        self.assertEqual([c.to_pylist() for c in layer.table.columns], [[1], [2]])

    def test_what_is_stated_and_not_kept_or_not_known_is_said(self):
        spots = [{"geometry": {"xy": [1.0, 2.0]}}, {"geometry": {"xy": [3.0, 4.0]}}]
        for header, n, code, said in (
            ({"crs": {"org": "OGC", "code_string": "CRS84"}}, 2, ("OGC", "CRS84"), ""),
            ({"crs": {"org": "EPSG", "code": 999999}}, 2, None, "EPSG:999999, is not known"),
            ({"has_t": True}, 2, ("EPSG", "32633"), "times of its vertices left out"),
            ({"count": 1}, 1, ("EPSG", "32633"), "counts no more than 1 of its features"),
        ):
            with self.subTest(header=header):
                layer, notes = self.read({"type": 1, **header}, *spots)
                self.assertEqual(layer.n_rows, n)
                self.assertEqual(layer.crs and crs.code(layer.crs), code)
                self.assertIn(said, notes)
                self.assertEqual(bool(said), bool(notes))

    def test_numbers_that_do_not_go_with_each_other_are_damage(self):
        for header, own in (
            ({"type": 2}, {"xy": [1.0, 2.0, 3.0]}),
            ({"type": 2, "has_z": True}, {"xy": [1.0, 2.0, 3.0, 4.0], "z": [5.0]}),
        ):
            with self.assertRaisesRegex(FileError, "a vertex has no y|not as many z or m"):
                self.read(header, {"geometry": own})

    def test_a_point_of_no_numbers_is_an_empty_one(self):
        own = [{"geometry": {"xy": [x, np.nan], "z": [1.0]}} for x in (np.nan, 1.0)]
        layer, _ = self.read({"type": 1, "has_z": True}, *own)
        self.assertEqual(layer.geometry.is_empty.tolist(), [True, False])
        self.assertIn("1 of 2 features have coordinates", still_invalid(layer)[0])


class Index(InFolder):
    def test_a_box_finds_all_that_meet_it_and_leaves_the_rest(self):
        rng = np.random.default_rng(3)
        for n in (1, 2, 16, 17, 300, 5000):
            corners = rng.uniform(0, 1000, (n, 2))
            rows = [[[make.square(x, y, 5)]] for x, y in corners]
            path = self.folder / f"n{n}.fgb"
            flatgeobuf.write(path, [make.layer("n", make.polygons(rows), None, k=list(range(n)))])
            box = (300.0, 300.0, 420.0, 380.0)
            (found,) = flatgeobuf.read(path, path.stem, Wanted(box)).layers
            meets = ((corners <= box[2:]) & (corners + 5 >= box[:2])).all(axis=1)
            self.assertEqual(sorted(found.table["k"].to_pylist()), np.flatnonzero(meets).tolist())
            self.assertEqual(found.n_total, n)

    def test_boxes_of_every_level_enclose_those_below(self):
        bounds = np.random.default_rng(1).uniform(0, 9, (1000, 2)).repeat(2, axis=0).reshape(-1, 4)
        bounds[:, 2:] = bounds[:, :2] + 1
        bounds[7] = np.nan
        nodes = index.build(bounds, np.arange(1000) * 8)
        sizes = index.level_sizes(1000, index.NODE_SIZE)
        self.assertEqual((sizes, len(nodes)), ([1000, 63, 4, 1], 1068))
        for node in nodes[: -sizes[0]]:
            below = nodes["box"][int(node["offset"]) :][: index.NODE_SIZE]
            self.assertTrue((below[:, :2] >= node["box"][:2]).all() or len(below) == 0)
        np.testing.assert_array_equal(nodes["box"][0][:2], np.nanmin(bounds[:, :2], axis=0))

    def test_without_an_index_and_without_a_count(self):
        rows = make.polygons([[[make.square(k, 0, 1)]] for k in range(5)])
        path = self.folder / "a.fgb"
        flatgeobuf.write(path, [make.layer("a", rows, None, k=list(range(5)))])
        from polygene.formats.flatgeobuf.header import header_bytes

        header = read_header(path)
        features = path.read_bytes()[header.start + index.index_bytes(5, header.node_size) :]
        for count in (5, 0):
            bare = replace(header, features=count, node_size=0)
            path.write_bytes(header_bytes(bare) + features)
            (found,) = flatgeobuf.read(path, "a", Wanted((0, 0, 1, 1))).layers
            self.assertEqual(found.table["k"].to_pylist(), list(range(5)))
            self.assertEqual(flatgeobuf.list_layers(path)[0].n_rows, 5)
            path.write_bytes(header_bytes(bare) + features[:-3])
            with self.assertRaisesRegex(FileError, "cut short"):
                flatgeobuf.read(path, "a")


class Damaged(InFolder):
    def test_changed_bytes_never_crash(self):
        path = self.folder / "x.fgb"
        refused = 0
        for words in ("multi polygons ZM", "single lines Z", "multi points "):
            flatgeobuf.write(path, [layer(geometries()[words])])
            whole = np.frombuffer(path.read_bytes(), np.uint8)
            for k in some_of(range(120), 3):
                rng = np.random.default_rng(k)
                data = whole[: rng.integers(8, len(whole))] if rng.random() < 0.3 else whole
                data = data.copy()
                data[rng.integers(8, len(data), 3)] = rng.choice([0, 1, 127, 255], 3)
                path.write_bytes(data.tobytes())
                for wanted in (Wanted(), Wanted((0, 0, 5, 5))):
                    try:
                        flatgeobuf.read(path, "x", wanted)
                    except PolygeneError:
                        refused += 1
        self.assertGreater(refused, 40)

    def test_a_curve_is_named_by_its_row(self):
        rows = make.lines([[np.array([(0, 0), (1, 1.0)])]] * 2)
        path = self.folder / "c.fgb"
        flatgeobuf.write(path, [make.layer("c", rows, None)])
        data = path.read_bytes()
        at = data.rindex(struct.pack("<I", 4)) - 8  # the last geometry's type, before its vector
        self.assertEqual(data[at], 5)
        path.write_bytes(data[:at] + b"\x08" + data[at + 1 :])
        with self.assertRaisesRegex(GeometryError, "row 2: .* of a type that is not read"):
            flatgeobuf.read(path, "c")

    def test_an_empty_layer_keeps_fields_and_kind(self):
        column = make.GeometryColumn.from_rings([], Family.LINES)
        given = make.layer("e", column, None, n=pa.array([], pa.int16()))
        path = self.folder / "e.fgb"
        flatgeobuf.write(path, [given])
        (back,) = flatgeobuf.read(path, "e").layers
        self.assertEqual((back.n_rows, back.geometry.family), (0, Family.LINES))
        self.assertEqual(back.table.schema, given.table.schema)


if __name__ == "__main__":
    unittest.main()
