"""Each kernel does what its plain twin says, whenever it is called in small random work."""

from __future__ import annotations

import json
import random
import struct
import unittest
from collections import Counter
from dataclasses import replace
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import polygene
from polygene import crs, geometry, kernels, parallel
from polygene.formats.geojson import lifting
from polygene.geometry import GeometryColumn
from polygene.kernels import plain
from polygene.layer import Layer
from polygene.plane import location
from polygene.plane.sound import plainly_sound
from polygene.plane.validity import invalid_rows
from polygene.text import wkt
from tests.kernels.twins import Twins
from tests.kernels.twins.base import MOST, NAMES, Call, grouped
from tests.support import chance
from tests.support import generators as make

# Kernels that are called again with more room if what they return is more than what there is.
STORES = {
    "cross_edges": "out_x",
    "find_pixels": "out_edge",
    "edges_within": "point",
    "find_meetings": "first",
    "cover_points": "out_point",
}
SIZES = ("ends", "node_x", "following", "xy", "x", "start", "halfedge", "others")


def watched(seen):
    """Return `kernels.run`, but that each call is held to the kernel's twin."""
    plain_run = kernels.run

    def run(kernel, *arguments):
        name = kernel.__name__
        twin = getattr(Twins, name, None)
        if twin is None:
            return plain_run(kernel, *arguments)
        call = Call(kernel, arguments)
        returned = plain_run(kernel, *arguments)
        size = max((len(v) for n, v in call.was.items() if n in SIZES), default=0)
        if size > MOST or (name in STORES and returned > len(call.was[STORES[name]])):
            return (
                returned  # too much to compare all with all, or to be called again with more room
            )
        made, wanted = twin(Twins(), call, returned)
        assert made == wanted, f"{name}: {made} instead of {wanted}"
        seen[name] += 1
        return returned

    return run


def layers(seed):
    rng = np.random.default_rng(seed)
    unit = float(rng.choice([1.0, 0.01, 30.0]))
    stars = [
        [[make.star(rng, int(rng.integers(3, 9)), 6, rng.uniform(0, 10, 2)).round(1) * unit]]
        for _ in range(5)
    ]
    tangles = [[[make.tangle(rng, 5, 9, 1.0) * unit]] for _ in range(2)]
    paths = [[make.path(rng, 4, 10, 4).round(1) * unit] for _ in range(2)]
    spots = [list(rng.integers(0, 12, (2, 2)) * unit) for _ in range(4)]
    made = (make.polygons(stars), make.polygons(tangles), make.lines(paths), make.points(spots))
    return [
        make.layer(n, column, k=np.arange(column.n_rows) % 2)
        for n, column in zip("abcd", made, strict=True)
    ]


def work(seed):
    """A little of all that kernels have a part in."""
    stars, tangles, paths, spots = layers(seed)
    degrees: list[Layer] = []
    polygene.union(stars, tangles, give_slivers=0.01)
    polygene.union(stars)
    for most in (location.FEW_PLACES, 0):
        with mock.patch.object(location, "FEW_PLACES", most):
            polygene.imprint(paths, stars)
    polygene.clip(spots, stars)
    cells = make.layer("cells", make.coverage(2, 2, 4, np.random.default_rng(seed), 8), stars.crs)
    polygene.join(
        make.layer("few", GeometryColumn.from_points(spots.geometry.xy), spots.crs), cells
    )
    square, aside = (make.layer("s", make.polygons([[[make.square(k, k, 4)]]])) for k in (0, 1))
    polygene.clip(square, aside)
    polygene.dissolve(tangles, "k")
    polygene.join(tangles, stars, key="text(k)", pairs=True)
    polygene.compare(stars, tangles, "k")
    polygene.mend(tangles)
    # A hole touches the midst of an edge.
    hole = make.closed([(0, 2), (1 + seed % 2, 3), (1, 1)])
    islet = make.square(8, 1 + seed % 2, 1)[::-1]
    parts = [[make.square(0, 0, 4), hole], [make.square(5, 0, 6), islet]]
    for most in (geometry.LONG_RING, 3):
        with mock.patch.object(geometry, "LONG_RING", most):
            polygene.audit(make.layer("tip", make.polygons([parts])))
    polygene.hull(spots, by="k")
    takes = ["s = sum(area() / 3)", "m = max(area())", "t = min(text(area()))", "h = median(k)"]
    with mock.patch.object(parallel, "WORTH_A_PART", 2):
        polygene.tally(stars, "k", takes)
    polygene.erase(stars, tangles, snap=0.3)
    polygene.join(paths, stars, "nearest", count=4)
    polygene.buffer(paths, 1.0, dissolve=True)
    with mock.patch.object(lifting, "WORTH", 0):
        lifting.lift(json.dumps({"coordinates": [[[seed, 0.5], [-0.0, -seed]]] * 2}).encode())
    texts = [
        "",
        "Point (1 2)",
        "MULTIPOINT ((1 2), (3 4e1 5))",
        "MultiPoint(1 2,3 4)",
        "polygon empty",
    ]
    texts += [
        f"MULTIPOLYGON Z (((0 0,1 {seed}.5, 1 1,0 0)),((2 2,3 3,3 2 -0,2 2) ) )",
        "LineString(1 2",
    ]
    for last in (6, 7):
        wkt.lift_column(pa.chunked_array([texts[:last]]))
    for y in (stars, tangles):
        y = replace(y, geometry=y.geometry.with_xy(y.geometry.xy / 40), crs=crs.parse("EPSG:4326"))
        degrees.append(y)
    polygene.intersect(*degrees)
    lines = replace(
        paths, geometry=paths.geometry.with_xy(paths.geometry.xy / 40), crs=degrees[0].crs
    )
    polygene.join(lines, degrees[0], "nearest", count=5)


class Specified(unittest.TestCase):
    def test_every_kernel_has_a_twin(self):
        self.assertEqual(set(NAMES) - set(vars(plain)), set())

    def test_kernels_do_what_their_twins_say(self):
        """Called by operations on small random layers, and held to their twins each time."""
        seen = Counter()

        # The first two ask every kernel, whatever chance picks besides.
        for seed in (0, 1, *(random.randrange(10**6) for _ in range(8) if chance.takes_all())):
            with self.subTest(seed=seed), mock.patch.object(kernels, "run", watched(seen)):
                work(seed)
        asked = {name for name in dir(Twins) if name in NAMES}
        self.assertEqual(asked - set(seen), {"least_first"})  # that one sees to stars of one shape

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.integers(-4, 4), min_size=6, max_size=16), st.booleans())
    def test_plainly_sound_is_sound(self, numbers, closes):
        """The kernel may leave a ring to others, and never calls one sound that is not."""
        xy = np.array(numbers[: len(numbers) // 2 * 2], float).reshape(-1, 2)
        ring = np.concatenate([xy, xy[:1]]) if closes else xy
        column = make.polygons([[[ring]]])
        points = [tuple(v) for v in ring]
        is_right = plain.find_sound([points]) and not plain.find_meetings([points])
        self.assertLessEqual(bool(plainly_sound(column)[0]), is_right)
        if is_right:
            self.assertFalse(invalid_rows(column).any())

    @settings(max_examples=60, deadline=None)
    @given(st.data())
    def test_bytes(self, data):
        geometry = data.draw(binaries())
        kind, parts = plain.scan(geometry)
        found = scanned(geometry)
        self.assertEqual(found, (kind, parts))
        cut = geometry[: data.draw(st.integers(0, len(geometry) - 1))]
        if cut:
            self.assertLess(scanned(cut)[0], 0)

    @settings(max_examples=40, deadline=None)
    @given(
        st.binary(min_size=1, max_size=40),
        st.lists(st.tuples(st.integers(0, 39), st.integers(0, 9))),
    )
    def test_ranges_and_records(self, data, ranges):
        ranges = [(s, min(n, len(data) - s)) for s, n in ranges if s < len(data)]
        starts, lengths = (np.array([r[k] for r in ranges], np.int64) for k in (0, 1))
        given_ = np.frombuffer(data, np.uint8).copy()
        out = np.zeros(int(lengths.sum()) + 1, np.uint8)
        kernels.run(kernels.wkb.gather_ranges, given_, starts, lengths, out)
        wanted = plain.gather_ranges(data, starts.tolist(), lengths.tolist())
        self.assertEqual(out.tobytes()[:-1], wanted)
        for size in (1, 2, 4, 8):
            at = starts[starts + size <= len(data)]
            if len(at):
                numbers = np.zeros(len(at) * size, np.uint8)
                kernels.run(kernels.wkb.take_numbers, given_, at, size, numbers)
                self.assertEqual(numbers.tobytes(), plain.take_numbers(data, at.tolist(), size))
        kernels.run(kernels.wkb.scatter_ranges, out[::-1].copy(), starts, lengths, given_)
        back = plain.scatter_ranges(out[::-1].tobytes(), starts.tolist(), lengths.tolist(), data)
        self.assertEqual(given_.tobytes(), back)
        records = b"".join(struct.pack("<I", n) + bytes(n) for _, n in ranges if n)
        places = np.empty(50, np.int64)
        for text in (records, records[:-1], data):
            n = kernels.run(
                kernels.wkb.follow_sizes, np.frombuffer(text, np.uint8).copy(), 0, places
            )
            found = None if n < 0 else places[:n].tolist()
            self.assertEqual(found, plain.follow_sizes(text, 0))


@st.composite
def binaries(draw, depth=0):
    """Well-known binary of any kind, with Z and M in either habit, in either order of bytes."""
    little, has_z, has_m = (draw(st.booleans()) for _ in range(3))
    iso = draw(st.booleans())
    order = "<" if little else ">"
    size = 8 * (2 + has_z + has_m)
    kind = draw(st.integers(1, 7 if depth < 2 else 3))
    code = kind + (1000 * (has_z + 2 * has_m) if iso else has_z << 31 | has_m << 30)
    head = struct.pack(f"{order}BI", little, code)
    if kind == 1:
        return head + bytes(size)
    n = draw(st.integers(0, 3))
    head += struct.pack(f"{order}I", n)
    if kind == 2:
        return head + bytes(size * n)
    if kind == 3:
        sizes = [draw(st.integers(0, 4)) for _ in range(n)]
        return head + b"".join(struct.pack(f"{order}I", m) + bytes(m * size) for m in sizes)
    return head + b"".join(draw(binaries(depth + 1)) for _ in range(n))


def scanned(geometry):
    """Return what the kernel finds in well-known binary: its type, or minus a fault, and its parts."""
    data = np.frombuffer(geometry, np.uint8).copy()
    ends = np.array([0]), np.array([len(data)])
    part_row, part_rings, start, count = np.zeros((4, 100), np.int64)
    family, layout = np.zeros((2, 100), np.uint8)
    kind, totals = np.zeros(1, np.int64), np.zeros(2, np.int64)
    kernels.run(
        kernels.wkb.scan, data, *ends, 1, part_row, family, part_rings, start, count, layout, kind,
        np.zeros(8, np.int64), totals,
    )  # fmt: skip
    offsets = np.concatenate([[0], np.cumsum(part_rings[: totals[0]])]).tolist()
    rings = grouped(offsets, count.tolist())
    return int(kind[0]), list(zip(family[: totals[0]].tolist(), rings, strict=True))
