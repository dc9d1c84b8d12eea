"""A little of every operation that the kernels have a part in, as one digest for each.

Run as a program it prints them, so that two settings of the environment can be compared.
"""

from __future__ import annotations

import hashlib
import sys
from dataclasses import replace

import numpy as np

import polygene
from polygene import crs
from polygene.geometry import GeometryColumn
from polygene.ops.buffer import buffer
from polygene.ops.join import join
from polygene.ops.mend import mend
from polygene.ops.places.by_place import relation_counts
from polygene.plane.validity import problems_of
from tests.support import generators as make


def digest(*arrays: np.ndarray) -> str:
    found = hashlib.sha256()
    for array in arrays:
        found.update(np.ascontiguousarray(array).tobytes())
    return found.hexdigest()[:16]


def of_column(column: GeometryColumn) -> str:
    return digest(column.xy, column.ring_offsets, column.part_offsets, column.row_offsets)


def chains(rng: np.random.Generator, n: int) -> GeometryColumn:
    steps = np.cumsum(rng.normal(0, 2, (n, 6, 2)), axis=1) + rng.uniform(0, n, (n, 1, 2))
    return make.lines([[path] for path in steps.round(3)])


def everything(size: int) -> dict[str, str]:
    rng = np.random.default_rng(5)
    utm = crs.parse("EPSG:32633")
    a = make.layer("a", make.coverage(size, size, 10, rng), utm)
    b = make.layer("b", make.coverage(size, size, 11, rng), utm)
    places = GeometryColumn.from_points(rng.uniform(0, 10 * size, (20 * size, 2)))
    spots, paths = make.layer("spots", places, utm), make.layer("paths", chains(rng, 5 * size), utm)
    knots = [[[make.tangle(rng, 9, 9, 1.0)]] for _ in range(5 * size)]
    tangles = make.layer("tangles", make.polygons(knots), utm)
    problems = problems_of(tangles.geometry)
    counts = relation_counts(tangles, b).selected
    nearest = join(spots, paths, "nearest").layer
    degrees = crs.parse("OGC:CRS84")
    on_earth = [replace(y, crs=degrees, geometry=y.geometry.with_xy(y.geometry.xy / 100))
                for y in (spots, paths)]  # fmt: skip
    on_ellipsoid = [join(*pair, "nearest", count=2).layer for pair in (on_earth, on_earth[::-1])]
    snapped = polygene.imprint(a, b, snap=0.8).layer
    return {
        "union": of_column(polygene.union(a, b).layer.geometry),
        "dissolve": of_column(polygene.dissolve(tangles).layer.geometry),
        "clip of lines": of_column(polygene.clip(paths, b.take(np.arange(3))).layer.geometry),
        "audit": digest(problems.row, problems.kind, problems.xy),
        "mend": of_column(mend(tangles).layer.geometry),
        "buffer": of_column(buffer(paths, 1.5).layer.geometry),
        "melted": of_column(buffer(paths, 1.5, dissolve=True).layer.geometry),
        "shrunk": of_column(buffer(b, -1.0).layer.geometry),
        "relations": digest(*(counts[name] for name in sorted(counts))),
        "counts": digest(np.asarray(join(b, spots).layer.table["matches"])),
        "nearest": digest(np.asarray(nearest.table["distance"])),
        "on the ellipsoid": digest(*(np.asarray(y.table["distance"]) for y in on_ellipsoid)),
        "snap": of_column(snapped.geometry),
    }


if __name__ == "__main__":
    for name, found in everything(int(sys.argv[1])).items():
        print(name, found, sep="\t")
