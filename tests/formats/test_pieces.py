"""Layers written piece by piece, and read by rows: the same as at once."""

from __future__ import annotations

import re
import shutil
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa

import polygene
from polygene.errors import FileError
from polygene.formats import destination, geopackage
from polygene.formats.destination import Target
from polygene.formats.parquet_parts import read
from polygene.formats.parquet_parts.index import read_index
from polygene.formats.pieces import Pieces
from polygene.formats.registry import readable_format
from polygene.formats.wanted import Wanted
from polygene.geometry import GeometryColumn, concatenate
from polygene.layer import Layer
from tests.support import generators as make
from tests.support.layers import same_geometry


def in_pieces(layer: Layer, *starts: int) -> Pieces:
    """Return a layer in pieces that begin at some rows, each without what others have only."""
    ends = [0, *starts, layer.n_rows]
    rows = [np.arange(a, b) for a, b in zip(ends[:-1], ends[1:], strict=True)]
    return replace(Pieces.of(layer), each=lambda: map(layer.take, rows))


def without_moments(file: Path) -> bytes:
    """Return a file without when it was written."""
    return re.sub(rb"20\d\d-\d\d-\d\dT[\d:.]+Z", b"", file.read_bytes())


class Piecewise(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        rng = np.random.default_rng(3)
        cells = make.coverage(6, 6, 20, rng)
        nothing = replace(GeometryColumn.nulls(2), family=cells.family)
        column = concatenate([cells, nothing])
        column = column.take(rng.permutation(38)).of_kind(True, "Z")
        column = replace(column, z=np.where(np.arange(column.n_vertices) > 200, 7.5, np.nan))
        moments = np.full(38, 1_600_000_000_123_456, np.int64)
        fields = {
            "n": np.arange(38),
            "value": np.where(np.arange(38) % 9 == 0, np.nan, np.arange(38) / 3),
            "seen": pa.array(moments, pa.timestamp("us", tz="UTC")),
            "name": [None if k % 5 == 0 else f"Fähre {k}" for k in range(38)],
        }
        utm = polygene.crs.parse("EPSG:32633")
        self.layer = replace(make.layer("cells", column, utm, **fields), title="Cells of the sound")

    def test_what_is_written_in_pieces_is_what_is_written_at_once(self):
        for ending in ("gpkg", "fgb"):
            whole, apart = self.folder / f"whole.{ending}", self.folder / f"apart.{ending}"
            one = destination.write_all([(Target(whole, "cells"), self.layer)])
            pieces = in_pieces(self.layer, 1, 17, 18)
            other = destination.write_all([(Target(apart, "cells"), pieces)])
            self.assertEqual(sorted(map(str, one)), sorted(map(str, other)))
            self.assertTrue(any("38 moments cut" in note for note in other), other)
            self.assertEqual(without_moments(whole), without_moments(apart))

    def test_other_layers_of_a_package_stay_and_one_of_the_name_is_replaced(self):
        place = self.folder / "some.gpkg"
        other = replace(self.layer, name="other")
        destination.write_all([(Target(place, y.name), y) for y in (self.layer, other)])
        fewer = self.layer.take(np.arange(20))
        destination.write_all([(Target(place, "cells"), in_pieces(fewer, 7))])
        self.assertEqual(sorted(geopackage.layer_names(place)), ["cells", "other"])
        same_geometry(self, polygene.read(f"{place}#other").geometry, other.geometry)
        same_geometry(self, polygene.read(f"{place}#cells").geometry, fewer.geometry)

    def test_a_piece_that_is_not_what_was_written_is_no_result(self):
        for ending in ("gpkg", "fgb"):
            asked = []

            def each(asked: list[int] = asked):
                asked.append(1)
                other = self.layer.table.set_column(0, "n", pa.array(np.arange(38) * len(asked)))
                yield from in_pieces(replace(self.layer, table=other), 9).each()

            place = self.folder / f"wrong.{ending}"
            with self.assertRaisesRegex(FileError, "does not hold what was meant"):
                pieces = replace(in_pieces(self.layer), each=each)
                destination.write_all([(Target(place, "cells"), pieces)])
            self.assertEqual(list(self.folder.iterdir()), [])

    def test_rows_are_read_by_their_numbers(self):
        for ending in ("gpkg", "fgb", "parquet"):
            place = self.folder / f"cells.{ending}"
            destination.write_all([(Target(place, "cells"), self.layer)])
            reader = readable_format(place)
            for first, stop in ((0, 38), (0, 5), (5, 31), (31, 99)):
                back = reader.read(place, "cells", Wanted(span=(first, stop))).layers[0]
                rows = np.arange(first, min(stop, 38))
                same_geometry(self, back.geometry, self.layer.geometry.take(rows))
                self.assertEqual(back.table["n"].to_pylist(), rows.tolist())
                self.assertEqual((back.numbers - 1).tolist(), rows.tolist())

    def test_parts_of_a_folder_are_pieces(self):
        place = self.folder / "cells.parquet"
        shown = destination.FolderPath(place)
        destination.write_all([(Target(shown, "cells"), self.layer)])
        index = read_index(place)
        whole = read(place, "cells").layers[0]
        pieces = Pieces.of_folder(place, index, whole.take(np.zeros(0, np.int64)))
        found = list(pieces.each())
        same_geometry(self, concatenate([y.geometry for y in found]), whole.geometry)
        table = pa.concat_tables([y.table for y in found])
        self.assertEqual(repr(table.to_pylist()), repr(whole.table.to_pylist()))
        self.assertEqual(pieces.extent(), self.layer.geometry.extent())


if __name__ == "__main__":
    unittest.main()
