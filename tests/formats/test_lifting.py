"""GeoJSON and WKT whose numbers are lifted out of the bytes, against the way through Python's lists."""

from __future__ import annotations

import json
import random
import re
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa

from polygene.errors import PolygeneError
from polygene.formats import geojson, sequences, wkt_columns
from polygene.formats.geojson import lifting
from polygene.geometry import GeometryColumn
from polygene.text import lifted, wkt
from tests.support.chance import many, some_of

KINDS = ["Point", "MultiPoint", "LineString", "MultiLineString", "Polygon", "MultiPolygon"]


def number(chance: random.Random):
    kind = chance.random()
    if kind < 0.3:
        return chance.randrange(-200, 200)
    if kind < 0.4:
        return chance.choice([0, -0.0, 1e-7, 123456789012345678, 2**64 - 1, 5e-324, 1.5e300])
    return chance.uniform(-180, 180)


def coordinates(chance: random.Random, depth: int, width: int = 2):
    if depth == 1:
        return [number(chance) for _ in range(width)]
    return [coordinates(chance, depth - 1, width) for _ in range(chance.randrange(1, 4))]


def geometry(chance: random.Random, kinds: list[str]):
    if chance.random() < 0.05:
        return None
    if chance.random() < 0.05:
        inner = [geometry(chance, kinds) or {"type": "Point", "coordinates": [1, 2]}] * 2
        return {"type": "GeometryCollection", "geometries": inner}
    kind = chance.choice(kinds)
    depth = 1 + KINDS.index(kind) // 2 + KINDS.index(kind) % 2
    if chance.random() < 0.03:
        depth = chance.randrange(1, 6)
    width = chance.choice([2, 2, 2, 3, 4]) if chance.random() < 0.3 else 2
    value = coordinates(chance, depth, width)
    if chance.random() < 0.03:
        value = chance.choice([[], [[]], None, 0, 1, 7, True, "x", [1], [[1, 2], 3], {"a": [1]}])
    pairs = [("type", kind), ("coordinates", value)]
    chance.shuffle(pairs)
    return dict(pairs)


def document(chance: random.Random) -> bytes:
    kinds = chance.sample(KINDS, chance.choice([1, 1, 2, 6]))
    features = []
    for k in range(chance.randrange(1, 6)):
        values = {"n": k, 'tricky "coordinates": [1, 2]': "\\", "ä": '"coordinates": ['}
        if chance.random() < 0.04:
            values["coordinates"] = [[1, 2], [3, 4]]
        own = {"type": "Feature", "properties": values, "geometry": geometry(chance, kinds)}
        if chance.random() < 0.05:
            own["place"] = {"type": "Point", "coordinates": [3, 4], "coordRefSys": "[EPSG:32633]"}
        features.append(own)
    whole = {"type": "FeatureCollection", "features": features}
    indent = chance.choice([None, None, 1, "\t"])
    text = json.dumps(whole, indent=indent, ensure_ascii=chance.random() < 0.5)
    return (text.replace("-0,", "-0 ,") if chance.random() < 0.2 else text).encode()


def lines(chance: random.Random) -> bytes:
    """Return the features of a document a line, now and then with a line end too many or too few."""
    text = "\n".join(map(json.dumps, json.loads(document(chance))["features"]))
    for at in [m.start() for m in re.finditer("[][,\n]", text) if chance.random() < 0.002][::-1]:
        text = (
            text[:at] + chance.choice(["\n", " ", ",", "\r\n"]) + text[at + chance.randrange(2) :]
        )
    return text.encode()


def outcome(path: Path):
    """Return all that is read of a file, or what is said of it."""
    try:
        layers, notes = (geojson if path.suffix == ".geojson" else sequences).read(path, "things")[
            :2
        ]
    except PolygeneError as err:
        return type(err), str(err)
    return notes, [
        (y.name, y.n_rows, y.table.to_pydict(), str(y.ids), *shape(y.geometry)) for y in layers
    ]


def shape(column: GeometryColumn):
    arrays = (column.xy, column.ring_offsets, column.part_offsets, column.row_offsets)
    return (
        column.family,
        column.is_multi,
        *(
            None if a is None else (a.tobytes(), a.dtype, a.shape)
            for a in (*arrays, column.is_null, column.z)
        ),
    )


def literal(chance: random.Random, number: str) -> str:
    """Return a number without a sign, now and then as well-known text may have it and JSON not."""
    if chance.random() < 0.9 or not number[0].isdigit():
        return number
    return chance.choice([f"00{number}", f"{number.split('.')[0]}.", f".{number.split('.')[0]}"])


def well_known(chance: random.Random, kinds: list[str]) -> str:
    """Return a geometry in one of the ways in which it may be written, now and then a damaged one."""
    found = geometry(chance, kinds)
    if not found or "coordinates" not in found or chance.random() < 0.02:
        return chance.choice(
            ["", f"{chance.choice(kinds)} EMPTY", "POINTZ(1 2 3)", "SRID=1;Point(1 2)"]
        )
    text = re.sub(r"\d+(\.\d+)?", lambda m: literal(chance, m[0]), json.dumps(found["coordinates"]))
    blank, comma = chance.choice([" ", " ", "\t", "  "]), chance.choice([",", ", ", " ,\n"])
    pair = chance.choice(["%s", "( %s)"]) if found["type"] == "MultiPoint" else "%s"
    text = re.sub(r"\[([^][]*)\]", lambda m: pair % m[1].replace(", ", blank), text)
    text = text.replace(", ", comma).replace("[", "(").replace("]", ")")
    text = f"({text})" if found["type"] == "Point" else text
    name = chance.choice([found["type"], found["type"].upper()])
    text = (
        name + chance.choice(["", " ", " Z ", " zm", " M" if chance.random() < 0.02 else ""]) + text
    )
    if chance.random() < 0.03:
        at = chance.randrange(len(text))
        text = text[:at] + "".join(chance.choices("(), 0.-+eZM", k=2)) + text[at + 1 :]
    return text


class Lifted(unittest.TestCase):
    def test_nothing_is_read_otherwise(self):
        """Bit for bit the same layers, or the same words, of odd documents and of damaged ones."""
        self.compare_ways("things.geojson", document)

    def test_a_number_in_place_of_a_list_is_not_that_of_another(self):
        """The lists of attributes with that name are numbered too."""
        own = {"type": "Feature", "properties": {"coordinates": [[1, 2], [3, 4]]}}
        own["geometry"] = {"type": "MultiPoint", "coordinates": 0}
        with tempfile.TemporaryDirectory() as folder, mock.patch.object(lifting, "WORTH", 0):
            path = Path(folder) / "odd.geojson"
            path.write_text(json.dumps(own))
            with self.assertRaisesRegex(PolygeneError, "not nested as its type demands"):
                geojson.read(path, "odd")

    def test_nor_are_lines(self):
        """Of sequences too, where a line is broken in two, or two are one."""
        self.compare_ways("things.geojsonl", lines)

    def compare_ways(self, name, make):
        chance = random.Random(11)
        n_lifted = 0
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / name
            for k in some_of(range(600)):
                data = bytearray(make(chance))
                if k % 3 == 0:
                    for _ in range(chance.randrange(1, 3)):
                        at = chance.randrange(len(data))
                        data[at : at + chance.randrange(2)] = bytes(
                            chance.choices(b'[]{},:"-+.eE0123 \\x', k=chance.randrange(3))
                        )
                path.write_bytes(data)
                wanted = outcome(path)
                with (
                    mock.patch.object(lifting, "WORTH", 0),
                    mock.patch.object(
                        lifted.Lifted,
                        "parts_of",
                        autospec=True,
                        side_effect=lifted.Lifted.parts_of,
                    ) as taken,
                ):
                    self.assertEqual(outcome(path), wanted, bytes(data))
                n_lifted += taken.called
        self.assertGreater(n_lifted, many(180, 25))

    def test_no_text_is_read_otherwise(self):
        """Columns of WKT in pieces: bit for bit the same geometries, or left to the other way."""
        chance = random.Random(5)
        n_lifted, n_multi = 0, 0
        for _ in some_of(range(1500)):
            kinds = chance.sample(KINDS, chance.choice([1, 1, 2, 6]))
            pieces = [
                [well_known(chance, kinds) or None for _ in range(chance.randrange(5))]
                for _ in range(chance.randrange(1, 3))
            ]
            column = pa.chunked_array(pieces, pa.string())
            with mock.patch.object(wkt, "MOST", chance.choice([1, 100, 2**28])):
                found = wkt.lift_column(column)
            if found is None:
                continue
            n_lifted, n_multi = n_lifted + 1, n_multi + len(found) // 2
            with mock.patch.object(wkt, "lift_column", return_value=None):
                wanted, _ = wkt_columns.from_wkt(column, Path("things.csv"), [])
            self.assertEqual(
                [(y.rows.tolist(), shape(y.geometry)) for y in found],
                [(y.rows.tolist(), shape(y.geometry)) for y in wanted],
                pieces,
            )
        self.assertGreater(n_lifted, 150)
        self.assertGreater(n_multi, 12)

    def test_texts_that_a_kernel_must_not_take(self):
        """Texts that end or go on in the next row, or whose numbers JSON has not, too few or many."""
        for text in ("POINT (1 2", "POINT (1)", "POINT 1 2", "POINT ((1 2))", "POINT (1 2))",
                     "POINT (1 2) x", "POINT (1,2)", "POINT (1 2 3 4 5)", "POINT (1 .)",
                     "POINT (1 2-3)", "POINT (1 +-2)", "POINT (1 + 2)", "POINT (1 1.2.3)",
                     "POINT (+", "POINT (1 nan)", "POINT (1e999 2)", "POINT M (1 2 3)",
                     "LINESTRING ()", "LINESTRING (1 2,)", "CIRCLE (1 2)",
                     "LINESTRING ((1 2,3 4))", "POLYGON (1 2,3 4)", "POLYGON ((1 2,3 4),)",
                     "POINT EMPTYs", "MULTIPOLYGON (((1 2,3 4)),(5 6))", "POINT", "PO", "Z",
                     "MULTIPOINT ((1 2),(3 4)", "POINT \xa0(1 2)"):  # fmt: skip
            for after in ("", ")", "POINT (1 2)"):
                column = pa.chunked_array([[text, after]])
                self.assertIsNone(wkt.lift_column(column), (text, after))

    def test_numbers_that_json_has_not(self):
        column = pa.chunked_array(
            [["LINESTRING(+1 .5,-2. 007)", "LINESTRING (-.5 1.e2,+3.e-1 -0)"]]
        )
        (found,) = wkt.lift_column(column)
        wanted = [(1, 0.5), (-2, 7), (-0.5, 100), (0.3, -0.0)]
        self.assertEqual(found.geometry.xy.tobytes(), np.array(wanted, float).tobytes())

    def test_numbers_are_the_nearest(self):
        """Of seventeen digits, of none, of many: as Python reads them."""
        rng = np.random.default_rng(3)
        values = rng.uniform(-1, 1, 20_000) * 10.0 ** rng.integers(-30, 30, 20_000)
        texts = [repr(v) for v in values.tolist()] + [
            f"{v:.{k % 25}e}" for k, v in enumerate(values.tolist())
        ]
        texts += ["-0", "-0.0", "0", "1E5", "1e+5", "9007199254740993", "123456789" * 9]
        texts += ["0"] * (len(texts) % 2)
        pairs = ",".join(f"[{a} ,\t{b}]" for a, b in zip(texts[::2], texts[1::2], strict=True))
        found = lifting.lift(b'{"coordinates":[%s]}' % pairs.encode())
        assert found is not None
        wanted = np.array([float(v) for v in texts])
        wanted[texts.index("-0")] = 0.0  # a whole number
        self.assertEqual(found.lists.values.tobytes(), wanted.tobytes())

    def test_what_is_not_even_is_left(self):
        filler = json.dumps("x" * lifting.WORTH)
        for text in ("[1e999,2]", "[1,2", "[01,2]", "[1.,2]", "[.5,2]", "[+1,2]", "[NaN,1]", "[]",
                     "[[1,2],[]]", "[[1,2],3]", "[1,[2]]", "[[[[[1,2]]]]]", "[1,2}", "[1 2]",
                     "[1,2,]", "[1,-]", "[1,2e]"):  # fmt: skip
            data = f'{{"a":{filler},"coordinates":{text}}}'.encode()
            self.assertIsNone(lifting.lift(data), text)
        self.assertIsNone(lifting.lift(f'{{"a":{filler}}}'.encode()))


if __name__ == "__main__":
    unittest.main()
