"""Longitudes that run on: the same places, no edge over half a turn, rings closed to the last bit."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from polygene import crs
from polygene.globe.round_world import folded, running_on
from polygene.ops.buffer import buffer
from tests.support import generators as make

NEAR_THE_MERIDIAN = [180.0, -180.0, np.nextafter(180, 0), np.nextafter(-180, 0), 180 - 3e-14, 0.1]
LONGITUDES = st.one_of(st.floats(-180, 180), st.sampled_from(NEAR_THE_MERIDIAN))


class Running(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(st.lists(st.tuples(LONGITUDES, st.floats(-89, 89)), min_size=3, max_size=12))
    def test_rings_end_in_the_strip_where_they_began(self, places):
        ring = np.array([*places, places[0]])
        found = running_on(ring, np.array([0, len(ring)]))
        off = found[:, 0] - ring[:, 0]
        np.testing.assert_allclose(off, 360 * np.rint(off / 360), atol=1e-11)
        self.assertLessEqual(np.abs(np.diff(found[:, 0])).max(), 180 + 1e-9)
        strip = np.floor((found[:, 0] + 180) / 360)
        net = found[-1, 0] - found[0, 0]
        self.assertEqual(strip[-1] - strip[0], round(net / 360))

    def test_a_spike_to_the_pole_does_not_become_the_whole_earth(self):
        """Its buffer goes round the pole and begins within a hair of the 180th meridian."""
        spike = np.array(
            [(173.7506, 86.8981), (171.8464, 88.1443), (162.3645, 75.6232), (158.8616, 61.0184),
             (161.7285, 59.337), (179.408, 90.0), (180.0, 59.3407), (180.0, 71.0185)]
        )  # fmt: skip
        layer = make.layer("x", make.polygons([[[make.closed(spike)]]]), crs.parse("OGC:CRS84"))
        areas = [
            buffer(layer, 217_866.0, corners=corners).summary.area
            for corners in ("bevel", "round", "mitre")
        ]
        self.assertLess(areas[0], areas[1])
        self.assertLess(max(areas), 3.3e12)  # of 5.1e14 that there are

    def test_a_ring_round_a_pole_is_the_cap(self):
        for first in (0.0, 179.99999999999997, 180.0, -180.0, 33.3):
            lon = np.concatenate(
                [[first], (first + np.arange(1, 12) * 30 + 180) % 360 - 180, [first]]
            )
            ring = np.stack([lon, np.full(13, 80.0)], axis=1)
            angle, reach = np.radians(lon), 10.0
            flat = np.stack([reach * np.cos(angle), reach * np.sin(angle)], axis=1)
            column = make.polygons([[[flat]]])
            rings = folded(
                column.with_xy(running_on(ring, np.array([0, 13]))), column, np.array([0.0])
            )
            area = sum(
                0.5 * float(np.sum(xy[:-1, 0] * xy[1:, 1] - xy[1:, 0] * xy[:-1, 1]))
                for xy in np.split(rings.xy, rings.ring_offsets[1:-1])
            )
            self.assertAlmostEqual(area, 3600.0, places=6)  # 360 by 10 degrees


if __name__ == "__main__":
    unittest.main()
