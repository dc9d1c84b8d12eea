"""Addresses and destinations: what they stand for, and what stands in the way."""

from __future__ import annotations

import shutil
import tempfile
import unittest
from pathlib import Path

import numpy as np

import polygene
from polygene import crs
from polygene.errors import DataError, ExistsError, FileError, UnknownLayerError, UsageError
from polygene.formats import address, destination
from polygene.formats.address import LayerRef
from polygene.units import Distance, worded
from tests.support import generators as make


class InFolder(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        points = make.points([[np.zeros(2)]])
        for file, names in (("a.gpkg", ["roads", "rivers"]), ("b.gpkg", ["roads"])):
            for name in names:
                layer = make.layer(name, points, crs.parse("EPSG:4326"))
                polygene.write(layer, f"{self.folder}/{file}#{name}")
        polygene.write(layer, f"{self.folder}/c.geojson")
        shutil.copy(self.folder / "c.geojson", self.folder / "odd#name.geojson")
        (self.folder / "notes.txt").write_text("no layer")


class Addresses(InFolder):
    def names(self, text):
        found = address.resolve(f"{self.folder}/{text}")
        return [f"{ref.path.name}:{ref.name}" for ref in found]

    def test_what_they_stand_for(self):
        for text, names in {
            "b.gpkg": ["b.gpkg:roads"],
            "a.gpkg#rivers": ["a.gpkg:rivers"],
            "a.gpkg#*": ["a.gpkg:roads", "a.gpkg:rivers"],
            "a.gpkg#r?v*": ["a.gpkg:rivers"],
            "*.gpkg#roads": ["a.gpkg:roads", "b.gpkg:roads"],
            "odd#name.geojson": ["odd#name.geojson:odd#name"],
            "": ["a.gpkg:roads", "a.gpkg:rivers", "b.gpkg:roads", "c.geojson:c",
                 "odd#name.geojson:odd#name"],
        }.items():  # fmt: skip
            with self.subTest(text=text):
                self.assertEqual(self.names(text), names)

    def test_what_they_do_not(self):
        for text, kind, reason in (
            ("a.gpkg", DataError, "holds 2 layers; say which"),
            ("a.gpkg#road", UnknownLayerError, "did you mean 'roads'"),
            ("a.gpkg#x*", UnknownLayerError, "no layer 'x\\*'"),
            ("d.gpkg", FileError, "there is no file .*d.gpkg; did you mean"),
            ("a.gpkg:roads", FileError, "a layer in a.gpkg is named .*a.gpkg#LAYER"),
            ("a.gpkg/roads", FileError, "a layer in a.gpkg is named .*a.gpkg#LAYER"),
            ("nowhere/d.gpkg", FileError, "there is no folder"),
            ("*.parquet", FileError, "no file matches"),
            ("notes.txt", FileError, "ending '.txt' is not known"),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(kind, reason):
                self.names(text)


class Destinations(InFolder):
    def plan(self, text, names, on_existing="refuse"):
        sources = [LayerRef(Path(f"{name}.gpkg"), name) for name in names]
        found = destination.plan(f"{self.folder}/{text}", sources, on_existing)
        return [f"{target.path.name}:{target.name}" for target in found]

    def test_where_results_go(self):
        for text, on_existing, names in (
            ("new.gpkg", "refuse", ["new.gpkg:roads", "new.gpkg:lakes"]),
            ("new.gpkg#{name}_cut", "refuse", ["new.gpkg:roads_cut", "new.gpkg:lakes_cut"]),
            ("a.gpkg", "next", ["a.gpkg:roads_2", "a.gpkg:lakes"]),
            ("a.gpkg", "replace", ["a.gpkg:roads", "a.gpkg:lakes"]),
            ("{name}.geojson", "refuse", ["roads.geojson:roads", "lakes.geojson:lakes"]),
            ("out/", "refuse", ["roads.gpkg:roads", "lakes.gpkg:lakes"]),
        ):
            with self.subTest(text=text):
                self.assertEqual(self.plan(text, ["roads", "lakes"], on_existing), names)
        self.assertFalse((self.folder / "out").exists(), "planning makes nothing yet")
        self.assertEqual(self.plan("c.geojson", ["roads"], "next"), ["c_2.geojson:c_2"])

    def test_patterns_and_layers_of_one_name(self):
        """As much in front as it takes to tell them apart: file, folder, ending."""
        for files, text, names in (
            (["x/a.shp", "x/b.shp"], "n.gpkg", ["a_roads", "b_roads"]),
            (["x/a.shp", "y/a.shp"], "n.gpkg", ["x_a_roads", "y_a_roads"]),
            (["x/a.shp", "x/a.fgb"], "n.gpkg", ["x_a_shp_roads", "x_a_fgb_roads"]),
            (["x/a.shp", "x/a.fgb", "z/c.shp"], "n.gpkg#{n}", ["1", "2", "3"]),
            (["x/a.shp", "y/b.shp"], "n.gpkg#{file}_{name}", ["a_a_roads", "b_b_roads"]),
            (["x/a.shp", "y/b.shp"], "{file}-{n}.fgb", ["a-1", "b-2"]),
        ):
            sources = [LayerRef(self.folder / file, "roads") for file in files]
            with self.subTest(files=files, text=text):
                targets = destination.plan(str(self.folder / text), sources, "refuse")
                self.assertEqual([target.name for target in targets], names)

    def test_what_stands_in_the_way(self):
        for text, kind, reason in (
            ("a.gpkg", ExistsError, "a.gpkg#roads exists already; .* `next` writes .*roads_2"),
            ("notes.txt", FileError, "ending '.txt' is not known"),
            ("no/out/", FileError, "there is no folder"),
            ("new.gpkg#{layer}", UsageError, "what can be filled in is {name}, {file}"),
            ("new.gpkg#x", UsageError, "several results"),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(kind, reason):
                self.plan(text, ["roads", "lakes"])


class Units(unittest.TestCase):
    def test_distances_in_the_units_of_a_crs(self):
        metres, degrees = crs.parse("EPSG:32633"), crs.parse("EPSG:4326")
        feet = crs.parse("EPSG:2263")
        for text, system, value in (
            ("150m", metres, 150), ("0.5 km", metres, 500), ("12", metres, 12), ("1ft", metres, 0.3048),
            ("12deg", degrees, 12), ("111.31949km", degrees, 1), ("1m", feet, 3937 / 1200),
            ("2nmi", metres, 3704),
        ):  # fmt: skip
            self.assertAlmostEqual(Distance.parse(text).in_map_units(system), value, 6)
        for text, system in (("12", degrees), ("12deg", metres), ("12m", None)):
            for method in (Distance.in_map_units, Distance.in_metres):
                with self.assertRaisesRegex(UsageError, "12m, or 12deg|length|without a CRS"):
                    method(Distance.parse(text), system)
        for text in ("", "m", "1 parsec", "1,5m", "ten"):
            with self.assertRaises(UsageError):
                Distance.parse(text)

    def test_measures_in_words(self):
        self.assertEqual(worded([2e8, 5.0], "m²"), ["200.00 km²", "0.00 km²"])
        self.assertEqual(worded([25_000, 1], "m²"), ["2.50 ha", "0.00 ha"])
        self.assertEqual(worded([12.5], "m²"), ["12.50 m²"])
        self.assertEqual(worded([1500.0, 2], "m"), ["1.50 km", "0.00 km"])
        self.assertEqual(worded([1, 2000], "points"), ["1 point", "2,000 points"])
        self.assertEqual(worded([], "m"), [])


if __name__ == "__main__":
    unittest.main()
