"""Maps of the whole earth: all of it goes there and comes back, wherever the map ends."""

from __future__ import annotations

import unittest

import numpy as np

import polygene
from polygene import crs
from polygene.between import Way
from polygene.errors import DataError
from polygene.measures import row_areas, row_measures, ruler_for
from polygene.ops.places.carrying import boxes_of
from polygene.ops.places.map_edge import edge_of
from polygene.plane.validity import invalid_rows
from tests.support import generators as make
from tests.support.chance import some_of

DEGREES = crs.parse("OGC:CRS84")
# A map, where it ends in the east (nothing if at the 180th meridian), whether it keeps areas.
MAPS = (
    ("ESRI:54030", None, False),  # Robinson: of a table
    ("ESRI:54009", None, False),  # Mollweide, of a sphere: its poles are points
    ("EPSG:8857", None, True),  # Equal Earth
    ("EPSG:8859", 330, True),  # of Asia and the Pacific
    ("EPSG:8858", 90, True),  # of the Americas
    ("EPSG:3832", 330, False),  # Mercator of the Pacific
    ("+proj=robin +lon_0=11", 191, False),
    ("+proj=wintri +lon_0=-77.5", 102.5, False),
    ("+proj=sinu +lon_0=33", 213, True),
)


def cells(step=30, shift=0.0):
    """Rectangles over all of the earth; shifted, those over the 180th meridian have two parts."""
    lows = range(-90, 90, step)

    def box(a, b, lat):
        return [
            make.closed(np.array([(a, lat), (b, lat), (b, lat + step), (a, lat + step)], float))
        ]

    rows = []
    for lon in np.arange(-180 + shift, 180 + shift, step).tolist():
        spans = [(lon, lon + step)]
        if lon + step > 180 and lon < 180:
            spans = [(lon, 180.0), (-180.0, lon + step - 360)]
        rows += [[box(a, b, lat) for a, b in spans] for lat in lows]
    return make.layer("cells", make.polygons(rows), DEGREES, n=list(range(len(rows))))


class There(unittest.TestCase):
    def test_all_of_the_earth_goes_there_and_comes_back(self):
        for code, _, keeps_areas in some_of(MAPS):
            target = crs.parse(code)
            for layer in (cells(), cells(shift=17.0)):
                with self.subTest(code=code, shift=float(layer.geometry.xy[0, 0])):
                    found = polygene.reproject(layer, target, tolerance=20.0)
                    there = found.layer
                    self.assertFalse(invalid_rows(there.geometry).any())
                    own = row_measures(layer.geometry, ruler_for(DEGREES))
                    if keeps_areas:
                        np.testing.assert_allclose(row_areas(there.geometry), own, rtol=1e-4)
                    # None reaches from one end of the map to the other, but what lies at both.
                    boxes, wide = there.geometry.row_bounds(), np.ptp(there.geometry.xy[:, 0])
                    is_wide = boxes[:, 2] - boxes[:, 0] > 0.6 * wide
                    self.assertLessEqual(is_wide.sum(), 6)  # a column of cells
                    back = polygene.reproject(there, DEGREES, tolerance=1e-4).layer
                    low_x, low_y, high_x, high_y = back.geometry.extent()
                    self.assertTrue(-180 <= low_x < high_x <= 180 and -90 <= low_y < high_y <= 90)
                    again = row_measures(back.geometry, ruler_for(DEGREES))
                    np.testing.assert_allclose(again, own, rtol=1e-4)

    def test_where_a_map_ends(self):
        for code, edge, _ in MAPS:
            found = edge_of(Way(DEGREES, crs.parse(code)))
            self.assertEqual(found, 180 if edge is None else edge, code)
        # These have no two ends, or not of the whole earth.
        for code in ("EPSG:32633", "EPSG:3035", "EPSG:32661", "ESRI:54032", "EPSG:4258"):
            self.assertIsNone(edge_of(Way(DEGREES, crs.parse(code))), code)
        paris = Way(crs.parse("+proj=longlat +datum=WGS84 +pm=paris"), crs.parse("EPSG:8859"))
        self.assertAlmostEqual(edge_of(paris) or 0.0, 330 - 2.33722917, places=6)

    def test_what_lies_over_the_edge_is_parted_and_said(self):
        lines = make.lines(
            [[np.array([(-40.0, 10), (-20, 20)])], [np.array([(-29.0, 0), (0, 0)])],
             [np.array([(-30.0, 0), (-30, 10)])]]
        )  # fmt: skip
        layer = make.layer("lines", lines, DEGREES, n=[1, 2, 3])
        found = polygene.reproject(layer, "EPSG:8859", tolerance=1.0)
        self.assertEqual(np.diff(found.layer.geometry.row_offsets).tolist(), [2, 1, 1])
        self.assertEqual(found.summary.parted, 1)
        back = polygene.reproject(found.layer, DEGREES).layer
        own, again = (row_measures(y.geometry, ruler_for(DEGREES)) for y in (layer, back))
        np.testing.assert_allclose(again, own, rtol=1e-6)

    def test_what_a_map_is_cut_across_otherwise_is_refused(self):
        """Goode's map is in lobes: no line leads from one to another."""
        lines = make.lines(
            [[np.array([(-50.0, 50), (-30, 50)])], [np.array([(-30.0, 20), (0, 20)])],
             [np.array([(-39.9, 1), (-40.1, 1)])]]
        )  # fmt: skip
        layer = make.layer("lines", lines, DEGREES, n=[1, 2, 3])
        for tolerance in (None, 10.0):
            with self.assertRaisesRegex(DataError, "row 1 .*no place in ESRI:54052"):
                polygene.reproject(layer, "ESRI:54052", tolerance=tolerance)
            kept = polygene.subset(layer, where="n = 2").layer
            self.assertEqual(
                polygene.reproject(kept, "ESRI:54052", tolerance=tolerance).layer.n_rows, 1
            )
        with self.assertRaisesRegex(DataError, "no place in ESRI:54052"):
            polygene.reproject(cells(), "ESRI:54052")

    def test_from_one_end_of_a_map_to_the_other(self):
        """As frames are drawn: without a tolerance they became nothing, or were refused."""
        for k in (20_037_508.34, 20_037_508.342789244, 20_037_508.3428, 20_037_508.35):
            frame, half, line = (
                np.array([(-a, -1e6), (a, -1e6), (a, 1e7), (-a, 1e7)]) for a in (k, 1.2e7, k)
            )
            areas = make.polygons([[[make.closed(frame)]], [[make.closed(half)]]])
            lines = make.lines([[line[:2]]])
            for column, wanted in ((areas, [360.0, 215.596]), (lines, [360.0])):
                layer = make.layer("frames", column, crs.parse("EPSG:3857"))
                for tolerance in (None, 1e-3, 1e-4):
                    with self.subTest(k=k, tolerance=tolerance):
                        found = polygene.reproject(layer, DEGREES, tolerance=tolerance)
                        boxes = found.layer.geometry.row_bounds()
                        wide = boxes[:, 2] - boxes[:, 0]
                        np.testing.assert_allclose(wide, wanted, atol=1e-3)
                        self.assertEqual(found.summary.fell.count, 0)
                        self.assertFalse((np.abs(boxes[:, [0, 2]]) > 180).any())
                        if column is areas:  # rectangles there too
                            whole = row_measures(boxes_of(boxes.tolist()), ruler_for(DEGREES))
                            own = row_measures(found.layer.geometry, ruler_for(DEGREES))
                            np.testing.assert_allclose(own, whole, rtol=1e-6)

    def test_belts_round_the_earth(self):
        """Of all of a map's width, begun at any corner and drawn either way: as large as they are."""
        k = 20_037_508.342789244
        rows = []
        for low, high in ((-1e6, 1e6), (2e6, 2.2e6), (3e6, 1.1e7), (-9e6, -8e6)):
            ring = np.array([(-k, low), (k, low), (k, high), (-k, high)])
            rows += [
                [[make.closed(np.roll(ring, turn, axis=0)[::way])]]
                for turn in range(4)
                for way in (1, -1)
            ]
        layer = make.layer("belts", make.polygons(rows), crs.parse("EPSG:3857"))
        for tolerance in (None, 1e-4, 1e-7):
            found = polygene.reproject(layer, DEGREES, tolerance=tolerance).layer
            own = row_measures(found.geometry, ruler_for(DEGREES))
            boxes = boxes_of(found.geometry.row_bounds().tolist())
            np.testing.assert_allclose(own, row_measures(boxes, ruler_for(DEGREES)), rtol=1e-6)
        # As OTHER, brought over and followed closely.
        summary = polygene.clip(cells(), layer).summary
        area = polygene.dissolve(found).summary.area
        self.assertAlmostEqual(summary.balance.inside / area, 1, places=6)

    def test_an_ocean_round_a_map_whose_poles_are_points(self):
        """Where all of its border runs along one meridian it is refused, and never less than it was."""
        world = make.closed(np.array([(-180.0, -90), (180, -90), (180, 90), (-180, 90)]))
        land = make.closed(np.array([(-40.0, 0), (-40, 20), (-20, 20), (-20, 0)]))
        layer = make.layer("ocean", make.polygons([[[world, land]]]), DEGREES)
        own = row_measures(layer.geometry, ruler_for(DEGREES))
        for code, has_lines in (("ESRI:54009", False), ("+proj=sinu +lon_0=33", False),
                                ("EPSG:8857", True), ("ESRI:54030", True)):  # fmt: skip
            there = polygene.reproject(layer, code, tolerance=50.0).layer
            with self.subTest(code=code):
                if has_lines:
                    back = polygene.reproject(there, DEGREES, tolerance=1e-4).layer
                    again = row_measures(back.geometry, ruler_for(DEGREES))
                    np.testing.assert_allclose(again, own, rtol=1e-5)
                else:
                    with self.assertRaisesRegex(DataError, "row 1 has no place"):
                        polygene.reproject(there, DEGREES, tolerance=1e-4)

    def test_overlays_over_the_edge(self):
        """The whole earth once on a map of the Pacific and once in degrees: cut, it is the same."""
        onto = polygene.reproject(cells(60), "EPSG:8859", tolerance=200.0).layer
        for other in (cells(60, shift=10.0), cells(60)):
            summary = polygene.intersect(onto, other, follow="100m").summary
            self.assertAlmostEqual(summary.balance.outside / summary.balance.before, 0, places=5)
            (facts,) = summary.brought
            self.assertEqual(facts.parted, 3)

    def test_the_other_pole_of_a_stereographic_map_has_no_place(self):
        """It lies at infinity: by the last digits of a number it was at 4e23 m, and took all memory."""
        cap = make.polygons([[[make.closed(np.array([(0.0, -90), (90, -80), (0, -80)]))]]])
        layer = make.layer("cap", cap, DEGREES)
        for tolerance in (None, 0.5):
            with self.assertRaisesRegex(DataError, "no place in EPSG:32661"):
                polygene.reproject(layer, "EPSG:32661", tolerance=tolerance)
        self.assertEqual(polygene.reproject(layer, "EPSG:32761").layer.n_rows, 1)

    def test_maps_that_cannot_be_computed_are_refused_in_words(self):
        with self.assertRaisesRegex(DataError, "no way is known"):
            polygene.reproject(cells(), "ESRI:54050")


if __name__ == "__main__":
    unittest.main()
