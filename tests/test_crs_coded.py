"""CRS by their code are what PROJ has, and PROJ is loaded when more is asked of them."""

from __future__ import annotations

import contextlib
import copy
import os
import pickle
import random
import sqlite3
import unittest
from unittest import mock

import numpy as np
import pyproj
from pyproj.database import get_codes
from pyproj.enums import PJType

from polygene import crs, crs_coded
from polygene.crs_coded import CodedCRS, coded
from polygene.distortion import is_surely_true, scales
from polygene.formats import address, addressed, definitions, flatgeobuf, geopackage
from polygene.formats.flatgeobuf import header
from polygene.formats.geopackage import systems
from polygene.formats.stated_twice import contradicted
from tests.support import generators as make
from tests.support.chance import takes_all
from tests.support.cli import InFolder

KINDS = PJType.GEOGRAPHIC_2D_CRS, PJType.PROJECTED_CRS
EVERY = [f"EPSG:{code}" for kind in KINDS for code in get_codes("EPSG", kind, True)]
USUAL = [
    "EPSG:4326",
    "OGC:CRS84",
    "EPSG:3857",
    "EPSG:32633",
    "EPSG:32733",
    "EPSG:2056",
    "EPSG:27572",
]


def some(n):
    return USUAL + (EVERY if takes_all() else random.sample(EVERY, n))


def by_proj(code):
    return pyproj.CRS.from_user_input(code)


class AsProjHasThem(unittest.TestCase):
    def test_what_is_known_without_it(self):
        n_known = 0
        for code in some(40):
            found, proj = coded(code, "as nobody has it"), by_proj(code)
            if found is None:  # left to PROJ
                self.assertIs(type(crs.parse(code)), pyproj.CRS)
                continue
            n_known += 1
            with self.subTest(code=code):
                self.assertEqual(
                    [tuple(axis) for axis in found.axis_info],
                    [tuple(getattr(axis, name) for name in crs_coded.Axis._fields)
                     for axis in proj.axis_info],
                )  # fmt: skip
                for name in ("name", "is_geographic", "is_projected", "is_geocentric", "srs"):
                    self.assertEqual(getattr(found, name), getattr(proj, name), name)
                for say in (
                    crs.label,
                    crs.code,
                    crs.unit,
                    crs.begins_north,
                    crs.turn_of,
                    crs.to_uri,
                ):
                    self.assertEqual(say(found), say(proj), say.__name__)
                self.assertIsNone(found._loaded)
                self.assertEqual(found.area_of_use, proj.area_of_use)
                self.assertTrue(found == proj and proj == found and hash(found) == hash(proj))
        self.assertGreater(n_known, 35)

    def test_others_are_left_to_it(self):
        # With heights, of heights, with a height, axes that both go north, degrees and minutes, none.
        for code in (
            "EPSG:4979",
            "EPSG:5773",
            "EPSG:7415",
            "EPSG:32661",
            "EPSG:4122x",
            "EPSG:99999",
        ):
            self.assertIsNone(coded(code), code)
        self.assertIsNone(coded("EPSG:32633+5773"))
        self.assertEqual(crs.parse("EPSG:7415"), by_proj("EPSG:7415"))
        crs_coded._known.cache_clear()
        with mock.patch.dict(os.environ, {"PROJ_DATA": "/nowhere"}):
            self.assertIsNone(coded("EPSG:32633"))
        crs_coded._known.cache_clear()

    def test_they_stand_for_those_of_pyproj(self):
        own = coded("epsg:32633")
        for one in (own, copy.deepcopy(own), pickle.loads(pickle.dumps(own))):
            self.assertIs(type(one), CodedCRS)
            self.assertIsInstance(one, pyproj.CRS)
            self.assertEqual(
                (str(one), one, one.to_wkt()), ("EPSG:32633", own, own.load().to_wkt())
            )
            self.assertEqual(repr(one), repr(by_proj("EPSG:32633")))
            for to in (coded("EPSG:4326"), "OGC:CRS84"):
                way = pyproj.Transformer.from_crs(one, to, always_xy=True)
                self.assertEqual(
                    way.transform(5e5, 6e6),
                    pyproj.Transformer.from_crs(32633, 4326, always_xy=True).transform(5e5, 6e6),
                )
        self.assertNotEqual(own, None)
        with self.assertRaises(AttributeError):
            _ = own.not_there

    def test_which_are_the_same(self):
        codes = ["EPSG:4326", "OGC:CRS84", "EPSG:4258", "EPSG:32633", "EPSG:32634", "EPSG:3857"]
        for a in codes:
            for b in (*codes, "EPSG:3785", "EPSG:4979"):
                for one, other in ((a, b), (b, a)):
                    self.assertEqual(
                        crs.is_same(crs.parse(one), crs.parse(other)),
                        by_proj(one).equals(by_proj(other), ignore_axis_order=True), (one, other),
                    )  # fmt: skip
                    self.assertEqual(
                        crs.parse(one) == crs.parse(other),
                        by_proj(one) == by_proj(other),
                        (one, other),
                    )


class OfMaps(unittest.TestCase):
    def test_what_is_surely_true_stretches_nothing(self):
        """Against PROJ: transverse Mercator's maps, from their middles out to where they do."""
        n_sure = n_not = 0
        for code in some(40):
            plane = coded(code)
            conversion = crs_coded.conversion_of(plane)
            if conversion is None or conversion.method != "9807":
                continue
            metre = plane.axis_info[0].unit_conversion_factor
            east, north = (conversion.values.get(k, 0.0) / metre for k in ("8806", "8807"))
            for far in (1e4, 3e5, 6e5, 7e5, 8e5, 9e5, 1.2e6):
                extent = (east - far / metre, north, east + far / 3 / metre, north + 1e6 / metre)
                is_sure = is_surely_true(plane, extent)
                found = scales(plane.load(), extent)
                if found is None:
                    continue
                n_sure, n_not = n_sure + is_sure, n_not + (not is_sure)
                if is_sure:
                    most = max(found.most_area, 1 / found.least_area, found.most_length)
                    self.assertLess(most, 1.02, (code, far))
                if far <= 6e5 and 0.999 < conversion.values["8805"] < 1.001:
                    self.assertTrue(is_sure, (code, far))
        self.assertGreater(min(n_sure, n_not), 3)
        for code in ("EPSG:3857", "EPSG:2193x", "EPSG:3035", "EPSG:4326", "EPSG:2065"):
            plane = coded(code)
            self.assertFalse(plane is not None and is_surely_true(plane, (0, 0, 1, 1)), code)
        self.assertFalse(is_surely_true(coded("EPSG:32633"), (5e5, 0, np.inf, 1)))


class Definitions(InFolder):
    def test_those_of_proj_are_known(self):
        """Nearly all: another PROJ may word a few in another way."""
        rounds, n_known = [code for code in some(40) if code.startswith("EPSG")], 0
        for code in rounds:
            proj = by_proj(code)
            wkt, json = definitions.wkt_of(proj), definitions.json_of(proj)
            own, stated = coded(code, wkt), definitions.coded_in_json(json)
            if own is None or stated is None:
                continue
            self.assertEqual((definitions.wkt_of(own), definitions.json_of(stated)), (wkt, json))
            self.assertEqual(stated, proj)
            n_known += own._loaded is None
        self.assertGreater(n_known, 0.8 * len(rounds))

    def test_the_code_of_a_definition_is_that_of_proj(self):
        """However it is worded, with and without its code, and where it is another's or nobody's."""
        n_none = 0
        for code in random.sample(EVERY, 20 if takes_all() else 1):
            stated = by_proj(code).to_json_dict()
            given = {key: value for key, value in stated.items() if key != "id"}
            esri = pyproj.CRS.from_wkt(by_proj(code).to_wkt("WKT1_ESRI"))
            names = [given["name"].upper(), f"{given['name']} of Tolva", "unknown"]
            made = [{**given, "name": name} for name in names]
            for found in (stated, given, {**stated, "name": "Tolva"}, *made, esri):
                own = found if found is esri else pyproj.CRS.from_json_dict(found)
                code_of = crs.code(own)
                self.assertEqual(code_of, own.to_authority(min_confidence=100), (code, own.name))
                n_none += code_of is None
        self.assertGreater(n_none, 0)

    def test_a_prj_is_whose_proj_says(self):
        n_known = 0
        for code in USUAL + random.sample(EVERY, 400 if takes_all() else 12):
            with contextlib.suppress(pyproj.exceptions.CRSError):
                text = by_proj(code).to_wkt("WKT1_ESRI")
                found = definitions.coded_in_prj(text)
                if found is not None:
                    known = pyproj.CRS.from_wkt(text).to_epsg(min_confidence=definitions.SURE_PRJ)
                    self.assertEqual((found.authority, found.code), ("EPSG", str(known)))
                    self.assertEqual(definitions.prj_of(found), text)
                    self.assertIsNone(found._loaded)
                    n_known += 1
        self.assertGreater(n_known, 35 if takes_all() else 12)
        for other in (text.replace("0.0", "1.0"), "", "LOCAL_CS"):
            self.assertIsNone(definitions.coded_in_prj(other))
        self.assertEqual(definitions.prj_of(coded("EPSG:32633", text.upper())), "")

    def test_others_are_not(self):
        wkt = definitions.wkt_of(by_proj("EPSG:32633"))
        for text in (wkt.replace("0.9996", "0.9997"), wkt + " ", "undefined", ""):
            self.assertEqual(definitions.wkt_of(coded("EPSG:32633", text)), wkt)
        self.assertEqual(definitions.wkt_of(coded("EPSG:32634", wkt)).count('"32634"'), 1)
        given = by_proj("EPSG:32633").to_json_dict()
        for code in ("32634", 32634, 99999, None, []):
            self.assertIsNone(
                definitions.coded_in_json({**given, "id": {"authority": "EPSG", "code": code}})
            )
        self.assertIsNone(definitions.coded_in_json({**given, "name": "another"}))
        self.assertIsNone(definitions.coded_in_json({**given, "id": "EPSG:32633"}))

    def test_a_definition_that_lays_a_layer_elsewhere_is_told(self):
        """Not one that says the same in other words, on another datum, or nothing."""
        own = by_proj("EPSG:32633")
        xy = np.array([(4.2e5, 6e6), (4.9e5, 6.1e6)])
        rows, first = make.points([[at] for at in xy]), own.to_wkt("WKT1_GDAL")
        told = r"states .*twice, as EPSG:32633 .* lies {} elsewhere; the code is taken"
        for definition, words in (
            (first, ""), (own.to_wkt(), ""), (own.to_wkt("WKT1_ESRI"), ""), ("undefined", ""),
            ("x", ""), (by_proj("EPSG:25833").to_wkt(), ""), (own.to_json(), ""),
            (by_proj("EPSG:5773").to_wkt(), ""),
            (first.replace("Transverse_Mercator", "Of_Nobody"), ""),
            (first.replace("500000", "600000"), told.format(r"\d\d.* km")),
            (first.replace("0.9996", "0.99961"), told.format(r"\d+\.?\d* m")),
            (by_proj("EPSG:32634").to_wkt(), told.format(r"\d+.* km")),
            (by_proj("EPSG:4326").to_wkt(), "lies where no place on the earth is; the code is taken"),
        ):  # fmt: skip
            crs_given = coded("EPSG:32633", definition)
            with self.subTest(definition=definition[:40], words=words):
                said = contradicted(make.layer("a", rows, crs_given))
                self.assertRegex("\n".join(map(str, said)), words or "^$")
        # Longitudes that count from Paris, and from Greenwich; axes in their other order.
        degrees = make.points([[at] for at in np.array([(2.0, 45.0), (3.0, 46.0)])])
        for code, other, is_told in (
            ("EPSG:4807", "EPSG:4275", True), ("EPSG:4326", "OGC:CRS84", False),
            ("EPSG:4326", "EPSG:4258", False), ("EPSG:4258", "EPSG:25832", True),
        ):  # fmt: skip
            layer = make.layer("a", degrees, coded(code, by_proj(other).to_wkt()))
            self.assertEqual(bool(contradicted(layer)), is_told, (code, other))

    def test_readers_tell_of_it(self):
        layer = make.layer("a", make.points([[np.array([4e5, 6e6])]]), by_proj("EPSG:32633"))
        wkt = by_proj("EPSG:32634").to_wkt()
        for source in (geopackage, flatgeobuf):
            path = self.folder / f"a{source.ENDINGS[0]}"
            with mock.patch.object(definitions, "wkt_of", return_value=wkt), mock.patch.object(
                header, "wkt2_of", return_value=wkt
            ), mock.patch.object(systems, "wkt_of", return_value=wkt):  # fmt: skip
                source.write(path, [layer])
            (ref,) = address.resolve(str(path))
            reading = addressed.read(ref)
            self.assertIn("the code is taken", "".join(map(str, reading.notes)))
            self.assertEqual(reading.layers[0].crs, layer.crs)

    def test_files_pass_on_only_what_is_known(self):
        """A GeoPackage of another whose definition does not say what its code says."""
        layer = make.layer("a", make.points([[np.zeros(2)]]), by_proj("EPSG:32633"))
        path, other = self.folder / "a.gpkg", self.folder / "other.gpkg"
        geopackage.write(path, [layer])
        wkt = definitions.wkt_of(layer.crs)
        change = "UPDATE gpkg_spatial_ref_sys SET definition = ? WHERE srs_id = 32633"
        ask = "SELECT definition FROM gpkg_spatial_ref_sys WHERE srs_id = 32633"
        for stated, loads in ((wkt, False), (wkt.replace("500000", "600000"), True)):
            with contextlib.closing(sqlite3.connect(path)) as connection, connection:
                connection.execute(change, [stated])
            (found,) = geopackage.read(path, "a").layers
            other.unlink(missing_ok=True)
            geopackage.write(other, [found])
            with contextlib.closing(sqlite3.connect(other)) as connection:
                self.assertEqual(connection.execute(ask).fetchall(), [(wkt,)])
            self.assertEqual(found.crs._loaded is not None, loads)
