"""Layers in different CRS: OTHER cuts INPUT where it truly lies, and nothing far is ever brought."""

from __future__ import annotations

import tempfile
import unittest
from unittest import mock

import numpy as np
import pyproj

import polygene
from polygene import crs
from polygene.errors import BalanceError, DataError, GeometryError
from polygene.geometry import Family
from polygene.measures import row_areas, row_lengths, ruler_for
from polygene.ops.places import bridge, carrying
from polygene.ops.places.bringing import brought
from polygene.ops.places.by_place import chosen_by_place
from polygene.ops.places.windows import Windows
from polygene.ops.reproject import reproject
from polygene.sample.waters import waters
from tests.support import generators as make
from tests.support.chance import some_of
from tests.support.ellipsoid import covers

DEGREES = crs.parse("OGC:CRS84")
UTM = crs.parse("EPSG:32633")
# A lattice in each: UTM north and south, at the 180th meridian too, conics, national grids, polar
# stereographic, web Mercator, equal-area of continents and of the earth, axes to the west and south.
SYSTEMS = {
    "EPSG:32633": (300_000, 7_200_000, 700_000, 7_500_000),
    "EPSG:32733": (200_000, 7_000_000, 800_000, 7_400_000),
    "EPSG:32601": (200_000, 6_000_000, 700_000, 6_300_000),
    "EPSG:3034": (3_000_000, 1_500_000, 5_000_000, 3_500_000),
    "EPSG:3035": (3_500_000, 1_500_000, 6_000_000, 4_000_000),
    "EPSG:2154": (100_000, 6_100_000, 1_200_000, 7_100_000),
    "EPSG:5070": (-1_300_000, 300_000, 1_200_000, 2_100_000),
    "EPSG:27700": (0, 0, 700_000, 1_200_000),
    "EPSG:2193": (1_000_000, 4_700_000, 2_100_000, 6_200_000),
    "EPSG:3413": (-900_000, -900_000, 900_000, 900_000),
    "EPSG:3031": (500_000, -600_000, 1_500_000, 600_000),
    "EPSG:3857": (-20_000_000, -15_000_000, 20_000_000, 17_000_000),
    "EPSG:6933": (-17_000_000, -7_000_000, 17_000_000, 7_000_000),
    "ESRI:102022": (-1_500_000, -1_500_000, 1_500_000, 1_500_000),
    "EPSG:2048": (-100_000, 3_500_000, 100_000, 3_800_000),
}


def lattice(code, box, n=4, name="lattice"):
    x, y = np.linspace(box[0], box[2], n + 1), np.linspace(box[1], box[3], n + 1)
    corners = [(0, 0), (1, 0), (1, 1), (0, 1), (0, 0)]
    rings = [
        [[np.array([(x[i + a], y[j + b]) for a, b in corners])]] for j in range(n) for i in range(n)
    ]
    system = crs.parse(code) if isinstance(code, str) else code
    return make.layer(name, make.polygons(rings), system, cell=np.arange(n * n))


def rectangle(name, system, *box, **columns):
    x0, y0, x1, y1 = box
    ring = np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0)], float)
    return make.layer(name, make.polygons([[[ring]]]), system, **columns)


def labels(layer, field, xy):
    """The value of a field of the feature that covers each place; None where none does."""
    rows = make.rows_of(layer.geometry)
    values, bounds = layer.table[field].to_pylist(), layer.geometry.row_bounds()
    found: list = [None] * len(xy)
    for row, parts in enumerate(rows):
        near = ((xy >= bounds[row, :2]) & (xy <= bounds[row, 2:])).all(axis=1)
        for k in np.flatnonzero(near):
            if covers(parts, xy[k]):
                found[k] = values[row]
    return found


class Systems(unittest.TestCase):
    """A coverage of the whole earth laid over lattices, and the other way round."""

    @classmethod
    def setUpClass(cls):
        cls.world = waters()

    def cases(self):
        for code, box in some_of(SYSTEMS.items()):
            with self.subTest(code):
                yield lattice(code, box)

    def test_pieces_add_up_and_lie_where_the_other_way_says(self):
        """Places at random and 2 cm beside borders, brought to longitude and latitude one by one."""
        xy = self.world.geometry.xy
        edges = np.flatnonzero(np.abs(np.diff(xy, axis=0)).max(axis=1) < 30)
        for own in self.cases():
            found = polygene.intersect(own, self.world)
            before, after = row_areas(own.geometry).sum(), row_areas(found.layer.geometry).sum()
            self.assertAlmostEqual(after / before, 1, 9)
            rng = np.random.default_rng(len(found.layer.table))
            to_degrees = pyproj.Transformer.from_crs(own.crs, DEGREES, always_xy=True)
            extent = np.array(own.geometry.extent()).reshape(2, 2)
            at = rng.choice(edges, 20_000)
            on = xy[at] + rng.random((len(at), 1)) * (xy[at + 1] - xy[at])
            there = np.stack(to_degrees.transform(*on.T, direction="INVERSE"), axis=1)
            inside = ((there > extent[0]) & (there < extent[1])).all(axis=1)
            angle = rng.uniform(0, 2 * np.pi, int(inside.sum()))
            beside = there[inside] + 0.02 * np.stack([np.cos(angle), np.sin(angle)], axis=1)
            places = np.concatenate([rng.uniform(*extent, (40, 2)), beside[:60]])
            places = np.clip(places, *extent)
            truth = labels(self.world, "code", np.stack(to_degrees.transform(*places.T), axis=1))
            got = labels(found.layer, "code", places)
            wrong = [k for k, (a, b) in enumerate(zip(truth, got, strict=True)) if a != b]
            for k in wrong:  # within the tolerance of a border there are two answers
                turn = np.linspace(0, 2 * np.pi, 25)[:, None]
                round_it = places[k] + 0.0151 * np.concatenate([np.cos(turn), np.sin(turn)], axis=1)
                near = np.stack(to_degrees.transform(*round_it.T), axis=1)
                self.assertIn(got[k], labels(self.world, "code", near), places[k])
            self.assertLess(len(wrong), 25)

    def test_the_other_way_round_is_the_same_within_the_tolerance(self):
        ruler = ruler_for(DEGREES)
        for own in self.cases():
            one = polygene.intersect(own, self.world, follow=0.1).layer
            other = polygene.intersect(self.world, own, follow=0.1).layer
            sizes: dict = {}
            back = brought(one, self.world, whole=True, follow=0.1).layer
            for k, layer in enumerate((back, other)):
                areas = row_areas(layer.geometry, ruler)
                around = row_lengths(layer.geometry, ruler)
                keys = zip(*(layer.table[f].to_pylist() for f in ("code", "cell")), strict=True)
                for key, area, length in zip(keys, areas, around, strict=True):
                    sizes.setdefault(key, [0.0, 0.0, 0.0])
                    sizes[key][k] += area
                    sizes[key][2] = max(sizes[key][2], length)
            self.assertGreater(len(sizes), 15)
            for key, (a, b, length) in sizes.items():
                self.assertLess(abs(a - b), 0.2 * length + 1, key)


class Far(unittest.TestCase):
    def test_a_polar_land_covers_nothing_in_the_south(self):
        """Turned inside out by a projection it once covered a country."""
        own = lattice("EPSG:32633", (300_000, 5_000_000, 500_000, 5_200_000))
        cap = np.array([(-180, 80), (180, 80), (180, 90), (-180, 90), (-180, 80)], float)
        south = np.array([(-180, -90), (180, -90), (180, -60), (-180, -60), (-180, -90)], float)
        east = make.square(100, 0, 60)
        lands = make.layer(
            "lands", make.polygons([[[cap]], [[south]], [[east]]]), DEGREES, k=[1, 2, 3]
        )
        erased = polygene.erase(own, lands)
        np.testing.assert_array_equal(erased.layer.geometry.xy, own.geometry.xy)
        (facts,) = erased.summary.brought
        self.assertEqual((facts.total, facts.far, facts.cut), (3, 3, 0))
        self.assertEqual(polygene.clip(own, lands).layer.n_rows, 0)
        self.assertEqual(polygene.intersect(own, lands).layer.n_rows, 0)
        self.assertEqual(polygene.join(own, lands).layer.table["matches"].to_pylist(), [0] * 16)
        self.assertEqual(chosen_by_place(own, lands, "disjoint").layer.n_rows, 16)
        self.assertEqual(chosen_by_place(own, lands, "intersects", of_all=True).layer.n_rows, 0)

    def test_long_edges_keep_their_course(self):
        """A rectangle of longitudes and latitudes, against its border transformed every few metres."""
        own = rectangle("sea", UTM, 200_000, 7_000_000, 800_000, 7_900_000)
        zone = rectangle("zone", DEGREES, 11, 64, 19, 70)
        corners = np.array([(11, 64), (19, 64), (19, 70), (11, 70)], float)
        t = np.linspace(0, 1, 20_001)[:-1, None]
        border = np.concatenate(
            [a + t * (b - a) for a, b in zip(corners, np.roll(corners, -1, 0), strict=True)]
        )
        there = pyproj.Transformer.from_crs(DEGREES, UTM, always_xy=True)
        x, y = there.transform(*border.T)
        x, y = x - x[0], y - y[0]
        truth = 0.5 * (x * np.roll(y, -1) - np.roll(x, -1) * y).sum()
        added = []
        for follow in (None, 1.0):
            found = polygene.clip(own, zone, follow=follow)
            (facts,) = found.summary.brought
            added.append(facts.added)
            off = abs(row_areas(found.layer.geometry).sum() - truth)
            self.assertLess(off, (follow or 0.01) * 2.2e6)
        self.assertGreater(added[0], 5 * added[1])

    def test_what_has_no_place_is_named(self):
        own = lattice("EPSG:32633", (300_000, 5_000_000, 500_000, 5_200_000))
        world = waters()
        with self.assertRaisesRegex(
            DataError, r"'waters': row \d+ and \d+ more .* no place in EPSG:32633"
        ):
            polygene.union(own, world)
        near = rectangle("near", DEGREES, 12, 45, 13, 46)
        united = polygene.union(own, near)
        self.assertEqual(united.summary.brought[0].total, 1)
        with self.assertRaisesRegex(DataError, "no CRS .* say with `crs`"):
            polygene.clip(own, rectangle("bare", None, 0, 0, 1, 1))

    def test_a_window_that_reaches_into_input_is_never_taken(self):
        """The proof: windows too small are found out from the edges that the cut made."""
        own, world = lattice("EPSG:3413", SYSTEMS["EPSG:3413"]), waters()
        small = Windows([(-60.0, 60.0, 60.0, 85.0)], 10.0)
        with (
            mock.patch.object(bridge, "windows_of", lambda *_: small),
            self.assertRaisesRegex(BalanceError, "reaches into INPUT"),
        ):
            polygene.clip(own, world)
        with (
            mock.patch.object(carrying, "_prove_clear"),
            mock.patch.object(bridge, "windows_of", lambda *_: small),
        ):
            lost = row_areas(polygene.clip(own, world).layer.geometry).sum()
        self.assertLess(lost, 0.9 * row_areas(own.geometry).sum())

    def test_invalid_features_are_mended_where_they_are_drawn(self):
        """By their own rows; what is far is not even looked at."""
        bow = np.array([(14, 66), (16, 67), (16, 66), (14, 67), (14, 66)], float)
        far = bow + (100, -60)
        lands = make.layer("lands", make.polygons([[[far]], [[bow]]]), DEGREES, k=[1, 2])
        own = lattice("EPSG:32633", (300_000, 7_200_000, 700_000, 7_500_000))
        found = polygene.clip(own, lands)
        self.assertEqual(found.summary.others[0].admitted.mended.first, ["row 2"])
        mended = polygene.mend(lands).layer
        wanted = row_areas(polygene.clip(own, mended).layer.geometry).sum()
        self.assertAlmostEqual(row_areas(found.layer.geometry).sum(), wanted, 3)
        with self.assertRaisesRegex(GeometryError, "row 2"):
            polygene.clip(own, lands, invalid="refuse")
        left = polygene.clip(own, lands, invalid="leave-out")
        self.assertEqual(
            (left.layer.n_rows, left.summary.others[0].admitted.left_out.count), (0, 1)
        )


class AcrossPlaces(unittest.TestCase):
    """Joins and choices between layers in different CRS."""

    def test_nearest_is_that_on_the_plane_of_input(self):
        rng = np.random.default_rng(1)
        spots = rng.uniform((400_000, 7_300_000), (500_000, 7_400_000), (30, 2))
        goals = rng.uniform((-20, 40), (60, 80), (200, 2))
        there = np.stack(
            pyproj.Transformer.from_crs(DEGREES, UTM, always_xy=True).transform(*goals.T), axis=1
        )
        far = np.hypot(*(spots[:, None] - there[None]).transpose(2, 0, 1))
        one = make.layer("spots", make.points([[p] for p in spots]), UTM)
        two = make.layer("goals", make.points([[p] for p in goals]), DEGREES, g=np.arange(200))
        found = polygene.join(one, two, "nearest", count=2)
        self.assertEqual(
            found.layer.table["g"].to_pylist(), np.argsort(far, axis=1)[:, :2].ravel().tolist()
        )
        np.testing.assert_allclose(
            found.layer.table["distance"], np.sort(far)[:, :2].ravel(), atol=2e-4
        )
        self.assertEqual(found.summary.metric, "on the plane of EPSG:32633")
        self.assertGreater(found.summary.brought[0].far, 0)
        limit = float(np.median(far.min(axis=1)))
        near = chosen_by_place(one, two, "intersects", up_to=limit).layer
        self.assertEqual(near.n_rows, int((far.min(axis=1) <= limit).sum()))
        back = polygene.join(two, one, "nearest")
        self.assertEqual(back.summary.metric, "on the ellipsoid")

    def test_shares_are_of_all_of_a_feature(self):
        """A country of which a tenth lies near INPUT, cut on its way, still counts as a whole."""
        own = lattice("EPSG:32633", (300_000, 7_200_000, 700_000, 7_500_000))
        land = rectangle("land", DEGREES, -60, 20, 60, 80, people=[1e6])
        found = polygene.join(own, land, aggregate=["people = sum(people, weight=share)"]).layer
        in_degrees = brought(own, land, whole=True).layer
        ruler = ruler_for(DEGREES)
        areas = row_areas(in_degrees.geometry, ruler)
        wanted = 1e6 * areas / row_areas(land.geometry, ruler)[0]
        np.testing.assert_allclose(found.table["people"], wanted, rtol=3e-3)  # the scale of UTM
        single = polygene.join(own, land, best="shared")
        self.assertEqual(single.summary.brought[0].cut, 1)

    def test_boxes_in_a_crs_of_their_own(self):
        own = lattice("EPSG:32633", (300_000, 7_200_000, 700_000, 7_500_000), 10)
        box = (13.0, 65.5, 14.9, 66.5)
        kept = polygene.subset(own, box=box, box_crs=DEGREES).layer
        clipped = polygene.clip(own, rectangle("box", DEGREES, *box)).layer
        self.assertEqual(
            kept.table["cell"].to_pylist(), sorted(set(clipped.table["cell"].to_pylist()))
        )
        same = polygene.subset(own, box=(0, 0, 1, 1), box_crs=UTM).layer
        self.assertEqual(same.n_rows, 0)

    def test_comparing(self):
        own = lattice("EPSG:32633", (300_000, 7_200_000, 700_000, 7_500_000))
        there = np.stack(
            pyproj.Transformer.from_crs(UTM, DEGREES, always_xy=True).transform(*own.geometry.xy.T),
            axis=1,
        )
        there[7] += 1e-6  # ten centimetres
        other = make.layer("other", own.geometry.with_xy(there), DEGREES, cell=np.arange(16))
        found = polygene.compare(own, other, "cell").summary
        self.assertEqual(found.changes.moved.first, ["row 2"])
        np.testing.assert_allclose(found.second.extent, found.first.extent, atol=0.2)


class OnTheGlobe(unittest.TestCase):
    """From a plane to longitude and latitude: over the 180th meridian, and the poles."""

    def test_discs_about_and_beside_the_poles(self):
        ruler = ruler_for(DEGREES)
        onto = rectangle("all", DEGREES, -180, -90, 180, 90)
        angle = np.linspace(0, 2 * np.pi, 721)[:, None]
        round_it = np.concatenate([np.cos(angle), np.sin(angle)], axis=1)
        round_it[-1] = round_it[0]
        wedge = np.array([(0, 0), (3e5, 0), (0, 3e5), (0, 0)], float)
        most = np.array([(0, 0), (0, 3e5), (-3e5, 0), (0, -3e5), (3e5, 0), (0, 0)], float)
        for code, pole in (("EPSG:3413", 90), ("EPSG:3031", -90)):
            shapes = [
                3e5 * round_it,
                3e5 * round_it + (2e5, 0),
                3e5 * round_it + (4e5, 1e5),
                wedge,
                most,
            ]
            own = make.layer("discs", make.polygons([[[ring]] for ring in shapes]), crs.parse(code))
            found = brought(own, onto, whole=True).layer.geometry
            areas = row_areas(found, ruler)
            # Of all of a disc the wedge and the rest are what the square of its corners is.
            corner = make.polygons(
                [[[np.array([(3e5, 0), (0, 3e5), (-3e5, 0), (0, -3e5), (3e5, 0)])]]]
            )
            square = brought(
                make.layer("s", corner, crs.parse(code)), onto, whole=True
            ).layer.geometry
            self.assertAlmostEqual(areas[3] + areas[4], row_areas(square, ruler)[0], delta=1e4)
            self.assertEqual([covers(parts, (77.7, pole * 0.999)) for parts in make.rows_of(found)][:3],
                             [True, True, False])  # fmt: skip
            # Back again it is the same, but for edges within a centimetre of their course.
            back = brought(make.layer("back", found, DEGREES), own).layer.geometry
            np.testing.assert_allclose(row_areas(back), row_areas(own.geometry), rtol=1e-7)

    def test_reprojecting_over_the_meridian(self):
        """Parted there in degrees, joined on the plane again; GeoJSON is written so too."""
        zone = lattice("EPSG:32601", (100_000, 6_000_000, 600_000, 6_300_000), 2)
        parted = reproject(zone, DEGREES, 1e-7).layer
        self.assertGreater(parted.geometry.n_parts, 4)
        self.assertLessEqual(np.abs(parted.geometry.xy[:, 0]).max(), 180)
        back = reproject(parted, zone.crs, 0.01).layer
        self.assertEqual((back.geometry.n_parts, back.geometry.n_rings), (4, 4))
        np.testing.assert_allclose(row_areas(back.geometry), row_areas(zone.geometry), rtol=1e-7)
        with tempfile.TemporaryDirectory() as folder:
            polygene.write(zone, f"{folder}/zone.geojson")
            read = polygene.read(f"{folder}/zone.geojson").geometry
        self.assertEqual(read.n_parts, parted.geometry.n_parts)
        self.assertLess(row_areas(read, ruler_for(DEGREES)).sum() / 1.5e11, 1.01)
        world = waters()
        with self.assertRaisesRegex(DataError, "no place in EPSG:3035"):
            reproject(world, crs.parse("EPSG:3035"))  # one holds its far side

    def test_from_a_plane_to_one_that_is_cut_at_the_meridian(self):
        """A zone whose middle is at 177 west over points on a plane of all the earth."""
        zone = lattice("EPSG:32601", (100_000, 6_000_000, 600_000, 6_300_000))
        rng = np.random.default_rng(8)
        spots = rng.uniform((90_000, 5_990_000), (610_000, 6_310_000), (200, 2))
        earth = crs.parse("EPSG:6933")
        there = pyproj.Transformer.from_crs(zone.crs, earth, always_xy=True).transform(*spots.T)
        one = make.layer("s", make.points([[p] for p in np.stack(there, axis=1)]), earth)
        self.assertGreater(np.ptp(one.geometry.xy[:, 0]), 3e7)
        found = polygene.join(one, zone, best="distance")
        self.assertEqual(found.layer.table["cell"].to_pylist(), labels(zone, "cell", spots))
        self.assertIn("EPSG:32601", found.summary.brought[0].source)

    def test_lines_and_areas_over_the_meridian(self):
        onto = rectangle("all", DEGREES, -180, -90, 180, 90)
        zone = crs.parse("EPSG:32601")  # its middle is at 177 west
        line = np.array([(100_000, 6_000_000), (600_000, 6_300_000)], float)
        own = make.layer("lines", make.lines([[line]]), zone)
        found = brought(own, onto, whole=True).layer.geometry
        self.assertEqual(found.n_parts, 2)
        self.assertLessEqual(np.abs(found.xy[:, 0]).max(), 180)
        length = row_lengths(found, ruler_for(DEGREES))[0]
        self.assertAlmostEqual(length / row_lengths(own.geometry)[0], 1, 2)
        area = lattice("EPSG:32601", (100_000, 6_000_000, 600_000, 6_300_000), 1)
        parted = brought(area, onto, whole=True).layer.geometry
        self.assertEqual((parted.n_parts, parted.extent()[2]), (2, 180))
        inside = lattice("EPSG:32601", (250_000, 4_600_000, 400_000, 4_900_000), 2)
        # Laid over a layer parted there, both sides meet, and nothing of the cut is left.
        sides = [[[make.square(170, 40, 10)], [make.square(-180, 40, 10)]]]
        island = make.layer("island", make.polygons(sides), DEGREES)
        joined = brought(island, inside).layer.geometry
        self.assertEqual((joined.n_parts, joined.n_rings), (1, 1))
        found = polygene.clip(inside, island).layer.geometry
        np.testing.assert_array_equal(found.xy, inside.geometry.xy)
        self.assertEqual(found.family, Family.POLYGONS)


if __name__ == "__main__":
    unittest.main()
