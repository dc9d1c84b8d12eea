"""Relations, joins and nearness, against slow references that share no code with them."""

from __future__ import annotations

import itertools
import unittest
from dataclasses import replace

import numpy as np
import pyproj

from polygene import crs
from polygene.errors import DataError, UnknownFieldError, UsageError
from polygene.geometry import Family
from polygene.ops.fields import fields
from polygene.ops.join import join
from polygene.ops.places.by_place import chosen_by_place, relation_counts
from polygene.ops.places.partners import partners
from polygene.ops.places.relations import related
from polygene.ops.subset import subset
from polygene.plane.grid import Grid
from polygene.plane.offsets import Style
from polygene.plane.relating import relate
from polygene.plane.relations import RELATIONS, has_meaning, holds
from tests.support import generators as make
from tests.support.chance import many, some_of
from tests.support.exact import covers, on_segment, turn

SIDE = 5  # of the lattice; cells are counted at twice its coordinates

# A geometry on the lattice is two sets of cells, its inside and its boundary. A cell (x, y) at doubled
# coordinates is a node if both are even, a face if both are odd, else an edge.


def dimension(cell):
    return cell[0] % 2 + cell[1] % 2


def around(cell):
    """The cells that have this one on their rim, and itself."""
    return [(cell[0] + i, cell[1] + j) for i in (-1, 0, 1) for j in (-1, 0, 1)]


def area_cells(faces):
    """Of unit squares: inside is what has nothing but squares of the area around it."""
    closed = {c for f in faces for c in around(f)}
    inside = {
        c for c in closed
        if all(n in faces for n in around(c) if dimension(n) == 2 and
               abs(n[0] - c[0]) <= (c[0] + 1) % 2 and abs(n[1] - c[1]) <= (c[1] + 1) % 2)
    }  # fmt: skip
    return inside, closed - inside


def line_cells(paths):
    cells, ends = set(), {}
    for path in paths:
        for (x, y), (u, v) in itertools.pairwise(path):
            n = abs(u - x) + abs(v - y)
            for k in range(2 * n + 1):
                cells.add((2 * x + k * (u - x) // n, 2 * y + k * (v - y) // n))
        for end in (path[0], path[-1]):
            ends[end] = ends.get(end, 0) + 1
    boundary = {(2 * x, 2 * y) for (x, y), n in ends.items() if n % 2}
    return cells - boundary, boundary


def matrix_of(a, b):
    everything = set(itertools.product(range(-1, 2 * SIDE + 4), repeat=2))
    rows = [(*s, everything - s[0] - s[1]) for s in (a, b)]
    found = np.full((3, 3), -1)
    for i, j in np.ndindex(3, 3):
        shared = rows[0][i] & rows[1][j]
        found[i, j] = max(map(dimension, shared), default=-1)
    found[2, 2] = 2
    return found


def areas(rng):
    """A random set of squares of the lattice as a polygon: valid by dissolving it."""
    import polygene

    boxes = []
    for _ in range(rng.integers(1, 4)):
        x, y = rng.integers(0, SIDE - 1, 2)
        boxes.append((x, y, *np.minimum(rng.integers(1, 4, 2), SIDE - np.array([x, y]))))
    faces = {
        (2 * (x + i) + 1, 2 * (y + j) + 1)
        for x, y, w, h in boxes
        for i in range(w)
        for j in range(h)
    }
    rings = [[[make.closed(np.array([(x, y), (x + w, y), (x + w, y + h), (x, y + h)], float))]]
             for x, y, w, h in boxes]  # fmt: skip
    whole = polygene.dissolve(make.layer("x", make.polygons(rings))).layer.geometry
    return make.rows_of(whole)[0], area_cells(faces)


def paths(rng):
    found = []
    for _ in range(rng.integers(1, 3)):
        path = [tuple(int(v) for v in rng.integers(0, SIDE, 2))]
        for _ in range(rng.integers(1, 5)):
            x, y = path[-1]
            target = int(rng.integers(0, SIDE))
            step = (target, y) if rng.random() < 0.5 else (x, target)
            if step != path[-1]:
                path.append(step)
        if rng.random() < 0.3 and len(path) > 2:
            path += [(path[0][0], path[-1][1]), path[0]]
            path = [p for k, p in enumerate(path) if k == 0 or p != path[k - 1]]
        if len(path) > 1:
            found.append(path)
    found = found or [[(0, 0), (1, 0)]]
    return [[np.array(p, float)] for p in found], line_cells(found)


def spots(rng):
    places = {tuple(int(v) for v in rng.integers(0, SIDE, 2)) for _ in range(rng.integers(1, 4))}
    return [[np.array([p], float)] for p in sorted(places)], (
        {(2 * x, 2 * y) for x, y in places}, set()
    )  # fmt: skip


MAKERS = {Family.POINTS: spots, Family.LINES: paths, Family.POLYGONS: areas}


def column(family, rows):
    from polygene.geometry import GeometryColumn

    return GeometryColumn.from_rings(
        [[[np.array(r, float) for r in part] for part in row] for row in rows], family
    )


class Matrices(unittest.TestCase):
    def test_against_sets_of_cells(self):
        grid = Grid.over([(-1, -1, 9, 9)], 1e-4)
        n = 0
        for a, b in itertools.product(Family, Family):
            for seed in some_of(range(12)):
                with self.subTest(a=a.words, b=b.words, seed=seed):
                    rng = np.random.default_rng([seed, a, b])
                    mine = [MAKERS[a](rng) for _ in range(4)]
                    theirs = [MAKERS[b](rng) for _ in range(4)]
                    found = relate(
                        column(a, [r for r, _ in mine]), column(b, [r for r, _ in theirs]), grid
                    )
                    told = dict(zip(zip(found.first, found.second, strict=True), found.matrix,
                                    strict=True))  # fmt: skip
                    for i, j in np.ndindex(4, 4):
                        wanted = matrix_of(mine[i][1], theirs[j][1])
                        if (wanted[:2, :2] >= 0).any():
                            np.testing.assert_array_equal(told[i, j], wanted, str((i, j)))
                            n += 1
                        else:
                            self.assertNotIn((i, j), told)
        self.assertGreater(n, many(750, 80))

    def test_identities(self):
        rng = np.random.default_rng(4)
        for a, b in some_of(itertools.product(Family, Family), 3):
            one = make.layer("a", column(a, [MAKERS[a](rng)[0] for _ in range(25)]))
            two = make.layer("b", column(b, [MAKERS[b](rng)[0] for _ in range(25)]))
            there, back = related(one, two), related(two, one)

            def pairs(found, name, a, b, turned=False):
                mask = holds(name, found, a, b)
                rows = np.stack([found.first[mask], found.second[mask]], axis=1)
                return set(map(tuple, rows[:, ::-1] if turned else rows))

            for name, other in (("within", "contains"), ("covered-by", "covers"), ("touches",) * 2,
                                ("intersects",) * 2, ("equals",) * 2):  # fmt: skip
                self.assertEqual(pairs(there, name, a, b), pairs(back, other, b, a, turned=True))
            meet = pairs(there, "intersects", a, b)
            self.assertEqual(len(meet), len(there.first))
            self.assertLessEqual(pairs(there, "within", a, b), pairs(there, "covered-by", a, b))
            counts = relation_counts(one, two).selected
            self.assertEqual(counts["disjoint"].tolist(), (~counts["intersects"]).tolist())
            self.assertEqual(set(counts), {n for n in RELATIONS if has_meaning(n, a, b)})


def gap(one, other):
    """The distance of two rows that do not meet, by all pairs of edges."""

    def edges(row):
        for part in row:
            for ring in (np.array(r, float) for r in part):
                yield from (
                    zip(ring[:-1], ring[1:], strict=True) if len(ring) > 1 else [(ring[0],) * 2]
                )

    def to_edge(p, a, b):
        way = b - a
        size = (way**2).sum()
        t = 0 if size == 0 else np.clip(((p - a) * way).sum() / size, 0, 1)
        return np.hypot(*(p - a - t * way))

    return min(
        min(to_edge(a, c, d), to_edge(b, c, d), to_edge(c, a, b), to_edge(d, a, b))
        for a, b in edges(one) for c, d in edges(other)
    )  # fmt: skip


def scattered(rng, family, n):
    spots = rng.uniform(0, 1000, (n, 2)).round(2)
    if family == Family.POINTS:
        return make.points([[p] for p in spots])
    if family == Family.LINES:
        walks = [np.cumsum(np.r_[[p], rng.normal(0, 30, (4, 2))], axis=0).round(2) for p in spots]
        return make.lines([[w] for w in walks])
    return make.polygons([[[make.star(rng, 7, 30, p).round(2)]] for p in spots])


class Boxes(unittest.TestCase):
    def test_against_exact_segments_and_corners(self):
        """On a lattice, so that much touches: sides, corners, boxes without width, parts far apart."""
        rng = np.random.default_rng(5)
        for k in some_of(range(60)):
            box = np.sort(rng.integers(2, 9, (2, 2)), axis=0).ravel().astype(float)
            shapes = [rng.integers(0, 11, (3, 2)).astype(float) for _ in range(120)]
            rings = [s[[0, 1, 2, 0]] for s in shapes if turn(*map(tuple, s)) > 0]
            rows = {
                make.points: [[s[0], s[1]] for s in shapes],
                make.lines: [[s] for s in shapes],
                make.polygons: [[[ring]] for ring in rings],
            }
            for made, given in rows.items():
                column = made(given)
                found = subset(
                    make.layer("a", column, crs.parse("EPSG:32633"), r=range(len(given))), box=box
                )
                wanted = [
                    r
                    for r, row in enumerate(make.rows_of(column))
                    if meets(row, column.family, box)
                ]
                self.assertEqual(found.layer.table["r"].to_pylist(), wanted, (k, made, box))

    def test_lines_that_are_nearly_flat(self):
        """As a cable along a parallel: what they have in common with the box is nearly flat too."""
        for power, upright in itertools.product(range(-12, 2), (False, True)):
            rng = np.random.default_rng(12 - power)
            shapes = []
            for _ in range(12):
                ends = np.sort(rng.uniform(0, 1000, 3))
                line = np.stack([ends, rng.uniform(0, 10.0**power, 3)], axis=1)
                shapes.append(line[:, ::-1] if upright else line)
            box = (-50.0, 200.0, 50.0, 600.0) if upright else (200.0, -50.0, 600.0, 50.0)
            column = make.lines([[s] for s in shapes])
            layer = make.layer("a", column, crs.parse("EPSG:32633"), r=range(12))
            for shift in ((0.0, 0.0), (5e5, 8e6)):
                moved = replace(layer, geometry=column.with_xy(column.xy + shift))
                own = tuple(np.array(box) + np.tile(shift, 2))
                wanted = [r for r, s in enumerate(shapes) if meets([[s]], column.family, box)]
                found = subset(moved, box=own).layer.table["r"].to_pylist()
                self.assertEqual(found, wanted, (power, upright))

    def test_what_cannot_be_computed_with_is_told_by_its_own_box(self):
        ring = np.array([(0.0, 0), (np.inf, 0), (3, 9), (0, 0)])
        column = make.polygons([[[ring]], [[make.square(5, 5, 2)]], []])
        layer = make.layer("a", column, crs.parse("EPSG:32633"), r=[0, 1, 2])
        for box, rows in (((6, 6, np.inf, np.inf), [0, 1]), ((-np.inf, 6, 4, 8), [0])):
            self.assertEqual(subset(layer, box=box).layer.table["r"].to_pylist(), rows)


def meets(row, family, box) -> bool:
    """Whether a feature meets a box: with a vertex, an edge across a side, or all round it."""
    x0, y0, x1, y1 = box
    corners = [(x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0)]
    for part in row:
        for ring in (list(map(tuple, ring)) for ring in part):
            if any(x0 <= x <= x1 and y0 <= y <= y1 for x, y in ring):
                return True
            for a, b in itertools.pairwise(ring):
                for c, d in itertools.pairwise(corners):
                    crosses = (
                        turn(a, b, c) * turn(a, b, d) < 0 and turn(c, d, a) * turn(c, d, b) < 0
                    )
                    if crosses or on_segment(c, a, b):
                        return True
            if family is Family.POLYGONS and covers(ring, corners[0]) >= 0:
                return True
    return False


class Nearest(unittest.TestCase):
    def test_three_nearest_of_all_kinds_by_brute_force(self):
        for a, b in some_of(itertools.product(Family, Family), 3):
            rng = np.random.default_rng([a, b])
            one = make.layer("a", scattered(rng, a, 15), i=np.arange(15))
            two = make.layer("b", scattered(rng, b, 10), j=np.arange(10))
            meet = related(one, two)
            touching = set(zip(meet.first.tolist(), meet.second.tolist(), strict=True))
            rows = [make.rows_of(y.geometry) for y in (one, two)]
            wanted = np.array([
                [0 if (i, j) in touching else gap(rows[0][i], rows[1][j]) for j in range(10)]
                for i in range(15)
            ])  # fmt: skip
            found = join(one, two, "nearest", count=3, links=True)
            table = found.layer.table.to_pydict()
            self.assertEqual(table["i"], np.repeat(np.arange(15), 3).tolist())
            got = np.array(table["distance"]).reshape(15, 3)
            np.testing.assert_allclose(got, np.sort(wanted, axis=1)[:, :3], atol=3e-4)
            np.testing.assert_allclose(wanted[table["i"], table["j"]], table["distance"], atol=3e-4)
            lines = found.links
            lengths = np.hypot(*(lines.geometry.xy[1::2] - lines.geometry.xy[::2]).T)
            np.testing.assert_allclose(lengths, lines.table["distance"], atol=3e-4)
            limit = float(np.median(wanted))
            near = join(one, two, "nearest", up_to=limit, alone="drop").layer
            self.assertEqual(near.table["i"].to_pylist(),
                             np.flatnonzero(wanted.min(axis=1) <= limit).tolist())  # fmt: skip
            kept = chosen_by_place(one, two, "intersects", up_to=limit).layer
            self.assertEqual(kept.table["i"].to_pylist(), near.table["i"].to_pylist())

    def test_few_in_one_place_far_from_all(self):
        """Cells as small as what is in them are passed by: it took minutes, and more the farther."""
        rng = np.random.default_rng(9)
        for family, far, n in itertools.product(Family, (500.0, 1e4, 1e7), (1, 3)):
            one = make.layer("a", scattered(rng, family, 30))
            spots = rng.uniform(0, 0.01, (n, 2)) + (far, far / 3)
            two = make.layer("b", make.points([[p] for p in spots]), j=np.arange(n))
            rows = make.rows_of(one.geometry), make.rows_of(two.geometry)
            gaps = np.array([[gap(a, b) for b in rows[1]] for a in rows[0]])
            found = join(one, two, "nearest", best="distance").layer.table["distance"]
            np.testing.assert_allclose(found, gaps.min(axis=1), atol=3e-3 if far > 1e5 else 3e-4)
            found = join(two, one, "nearest", best="distance").layer.table["distance"]
            np.testing.assert_allclose(found, gaps.min(axis=0), atol=3e-3 if far > 1e5 else 3e-4)

    def test_what_shares_as_much_is_tied_wherever_it_lies(self):
        """Halves on the left and on the right of a feature: areas are whole numbers of the grid."""
        rng, n = np.random.default_rng(1), 100
        rows, halves = [], []
        for x, y in np.round(rng.uniform(0, 1e5, (n, 2)), 3) + (500_000, 5_000_000):
            width, height, more = np.round(rng.uniform(1, 90, 3), 3)

            def across(x0, x1, y=y, height=height):
                return [[np.array([(x0, y), (x1, y), (x1, y + height), (x0, y + height), (x0, y)])]]

            middle = x + width / 2
            rows.append(across(x, x + width))
            halves += [across(x - more, middle), across(middle, x + width + 2 * more)]
        utm = crs.parse("EPSG:32633")
        one = make.layer("a", make.polygons(rows), utm)
        two = make.layer("b", make.polygons(halves), utm, k=range(2 * n))
        found = join(one, two, best="shared")
        self.assertEqual(found.summary.tied.count, n)
        self.assertEqual(found.layer.table["k"].to_pylist(), list(range(0, 2 * n, 2)))

    def test_ties_are_told_and_degrees_are_metres(self):
        spots = make.layer("s", make.points([[np.array([0, 0.0])]]))
        two = make.layer(
            "t", make.points([[np.array([3, 0.0])], [np.array([0, 3.0])]]), k=["e", "n"]
        )
        found = join(spots, two, "nearest")
        self.assertEqual(found.layer.table["k"].to_pylist(), ["e"])
        self.assertEqual(found.summary.tied.first, ["row 1"])
        # At 60 degrees north a degree of longitude is half one of latitude.
        world = crs.parse("OGC:CRS84")
        spots = make.layer("s", make.points([[np.array([10, 60.0])]]), world)
        two = make.layer("t", make.points([[np.array([11.5, 60])], [np.array([10, 61.0])]]), world,
                         k=["east", "north"])  # fmt: skip
        found = join(spots, two, "nearest").layer.table
        far = pyproj.Geod(ellps="WGS84").inv(10, 60, 11.5, 60)[2]
        self.assertEqual(found["k"].to_pylist(), ["east"])
        self.assertAlmostEqual(found["distance"][0].as_py(), far, delta=0.01)


class Joins(unittest.TestCase):
    def layers(self):
        rng = np.random.default_rng(6)
        zones = make.coverage(4, 3, 100, rng)
        low, high = zones.extent()[:2], zones.extent()[2:]
        xy = rng.uniform(low, high, (400, 2)).round(2)
        zones = make.layer("zones", zones, z=np.arange(12))
        spots = make.layer("spots", make.points([[p] for p in xy]), v=rng.integers(0, 50, 400),
                           k=rng.choice(["a", "b"], 400))  # fmt: skip
        return zones, spots

    def test_counts_and_sums_over_a_coverage(self):
        zones, spots = self.layers()
        take = ["n = count()", "s = sum(v)", "m = max(v)", "agreed(k)"]
        result = join(zones, spots, aggregate=take)
        table = result.layer.table.to_pydict()
        found = partners(zones, spots, "intersects")
        for z in range(12):
            rows = found.second[found.first == z]
            values = np.array(spots.table["v"])[rows]
            self.assertEqual(table["matches"][z], len(rows))
            self.assertEqual(table["n"][z], len(rows))
            self.assertEqual(table["s"][z], values.sum() if len(rows) else None)
        inside = join(spots, zones, alone="drop").layer.n_rows
        self.assertEqual(sum(table["matches"]), inside)  # none lies on a border
        self.assertEqual(result.summary.pairs, inside)
        self.assertEqual(result.summary.unused, 400 - inside)
        self.assertEqual(
            result.layer.table.column_names, ["z", "matches", "n", "s", "m", "agreed_k"]
        )

    def test_on_a_shared_border_in_both_and_with_the_best_in_one(self):
        boxes = make.polygons([[[make.square(0, 0, 1)]], [[make.square(1, 0, 1)]]])
        zones = make.layer("zones", boxes, z=["west", "east"])
        spot = make.layer("spot", make.points([[np.array([1, 0.5])]]), p=[1])
        self.assertEqual(join(zones, spot).layer.table["matches"].to_pylist(), [1, 1])
        both = join(spot, zones, pairs=True).layer.table
        self.assertEqual(both["z"].to_pylist(), ["west", "east"])
        one = join(spot, zones, best="z")
        self.assertEqual(one.layer.table["z"].to_pylist(), ["west"])
        self.assertEqual(join(spot, zones, "within", alone="only").layer.n_rows, 1)
        touching = join(zones, spot, "touches").layer.table
        self.assertEqual(touching["matches"].to_pylist(), [1, 1])

    def test_points_on_shared_borders_add_up_when_they_are_shared_out(self):
        rng = np.random.default_rng(24)
        corners = [(10.0 * i, 10.0 * j) for j in range(3) for i in range(3)]
        zones = make.polygons([[[make.square(x, y, 10.0)]] for x, y in corners])
        zones = make.layer("zones", zones, None, zone=np.arange(zones.n_rows))
        on = [(10.0, 5.0), (10.0, 10.0), (20.0, 20.0), (0.0, 5.0), (0.0, 0.0)]
        xy = np.array(on + [tuple(p) for p in rng.uniform(0.1, 29.9, (40, 2))])
        spots = make.layer(
            "spots", make.points([[p] for p in xy]), None, v=np.arange(len(xy)) * 1.0
        )
        asked = ["n = count()", "s = sum(v)", "m = mean(v)"]
        plain = join(zones, spots, aggregate=asked)
        self.assertEqual(plain.summary.on_borders.first, ["row 1", "row 2", "row 3"])
        self.assertEqual(sum(plain.layer.table["n"].to_pylist()), len(xy) + 1 + 3 + 3)
        for how in ("first-key", "split"):
            found = join(zones, spots, aggregate=asked, share_border=how).layer.table
            self.assertAlmostEqual(sum(found["n"].to_pylist()), len(xy))
            self.assertEqual(found["n"].to_pylist(), found["matches"].to_pylist())
            total = sum(v or 0.0 for v in found["s"].to_pylist())
            self.assertAlmostEqual(total, float(xy.shape[0] * (xy.shape[0] - 1) / 2))
        pairs = join(spots, zones, pairs=True, share_border="first-key").layer.table
        self.assertEqual(pairs["v"].to_pylist(), [float(k) for k in range(len(xy))])
        order = rng.permutation(zones.n_rows)
        turned = replace(zones.take(order), ids=order + 1)
        named = replace(zones, ids=np.arange(zones.n_rows) + 1)
        self.assertEqual(
            join(spots, turned, pairs=True, share_border="first-key")
            .layer.table["zone"]
            .to_pylist(),
            join(spots, named, pairs=True, share_border="first-key")
            .layer.table["zone"]
            .to_pylist(),
        )
        for wrong in ({"share_border": "split", "pairs": True}, {"share_border": "half"}):
            with self.assertRaises(UsageError):
                join(spots, zones, **wrong)
        with self.assertRaises(UsageError):
            join(zones, zones, share_border="split")

    def test_shares_largest_and_unmatched(self):
        homes = make.polygons([[[make.square(0, 0, 10)]], [[make.square(20, 0, 2)]]])
        people = make.layer("people", homes, n=[100, 7])
        zones = make.layer("zones", make.polygons([
            [[make.square(-3, -5, 20)]], [[make.square(-13, 0, 10)]], [[make.square(7, 0, 20)]]
        ]), z=[0, 1, 2])  # fmt: skip
        found = join(zones, people, aggregate=["n = sum(n, weight=share)"]).layer.table
        np.testing.assert_allclose(
            [v or 0 for v in found["n"].to_pylist()], [100, 0, 37], rtol=1e-9
        )
        largest = join(people, zones, best="shared").layer.table
        self.assertEqual(largest["z"].to_pylist(), [0, 2])
        apart = make.layer("apart", make.polygons([[[make.square(500, 0, 1)]]]), q=[1])
        self.assertEqual(join(zones, apart).layer.table["matches"].to_pylist(), [0, 0, 0])
        self.assertEqual(join(zones, apart, alone="drop").layer.n_rows, 0)
        kept = join(zones, apart, pairs=True).layer.table
        self.assertEqual(kept["q"].to_pylist(), [None] * 3)

    def test_empty_null_and_senseless(self):
        zones, spots = self.layers()
        empty = spots.take(np.zeros(0, np.int64))
        self.assertEqual(join(zones, empty).layer.table["matches"].to_pylist(), [0] * 12)
        self.assertEqual(join(zones, empty, "nearest").layer.n_rows, 12)
        lost = make.points([[], [np.array([1.0, 1.0])]])
        nulls = make.layer("n", replace(lost, is_null=np.array([True, False])), a=[1, 2])
        self.assertEqual(join(nulls, zones, "nearest").summary.none, 1)
        with self.assertRaisesRegex(DataError, "points never contain polygons; what they can be"):
            join(spots, zones, "contains")
        with self.assertRaisesRegex(UsageError, "did you mean 'intersects'"):
            join(spots, zones, "intersect")
        with self.assertRaisesRegex(UsageError, "is one of .*, not"):
            join(spots, zones, alone="dropp")
        with self.assertRaisesRegex(
            UnknownFieldError, "no field 'distanc'; did you mean 'distance'"
        ):
            join(spots, zones, best="distanc")
        for wrong in ({"caps": "flta"}, {"corners": "sharp"}, {"side": "lft"}):
            with self.assertRaisesRegex(UsageError, "is one of .*, not"):
                Style(**wrong)
        with self.assertRaisesRegex(UsageError, "on_loss is one of refuse, null, cut"):
            fields(spots, on_loss="nul")
        same = make.layer("same", make.points([[np.array([5.0, 5.0])]] * 300), v=np.arange(300))
        crowd = join(same, same, aggregate=["count()"])
        self.assertEqual(crowd.summary.pairs, 90_000)
        pattern = join(spots, zones, "T********", alone="drop").layer.n_rows
        self.assertEqual(pattern, join(spots, zones, "within", alone="drop").layer.n_rows)

    def test_choosing(self):
        zones, spots = self.layers()
        inside = chosen_by_place(spots, zones, "within").layer
        rest = chosen_by_place(spots, zones, "within", invert=True).layer
        self.assertEqual(inside.n_rows + rest.n_rows, 400)
        self.assertEqual(inside.n_total, 400)
        big = make.layer(
            "big", make.polygons([[[make.square(-50, -50, 900)]], [[make.square(0, 0, 90)]]])
        )
        both = chosen_by_place(spots, big, "within", of_all=True).layer
        xy = both.geometry.xy
        self.assertTrue(((xy > 0) & (xy < 90)).all() and 0 < both.n_rows < 400)
        far = chosen_by_place(zones, spots.take(np.arange(3)), "disjoint").layer
        self.assertEqual(far.n_rows, 12 - len(np.unique(partners(
            zones, spots.take(np.arange(3)), "intersects").first)))  # fmt: skip


if __name__ == "__main__":
    unittest.main()
