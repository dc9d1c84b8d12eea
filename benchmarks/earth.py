"""What the round earth costs: nearness on the ellipsoid, and layers brought from another CRS."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from benchmarks.measure import Row, paired
from polygene import crs, files
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.ops.join import join
from polygene.ops.places.bringing import brought
from polygene.ops.places.local_planes import divided
from polygene.sample.waters import waters

DEGREES, UTM = crs.parse("OGC:CRS84"), crs.parse("EPSG:32633")
AREA = {DEGREES: (12.0, 45.0, 17.0, 49.0), UTM: (3e5, 5e6, 7e5, 5.4e6)}


def _points(system: object, n: int, seed: int) -> Layer:
    x0, y0, x1, y1 = AREA[system]  # type: ignore[index]
    xy = np.random.default_rng(seed).uniform((x0, y0), (x1, y1), (n, 2))
    return Layer("points", GeometryColumn.from_points(xy), pa.table({}), system)  # type: ignore[arg-type]


def _blobs(system: object, n: int, vertices: int = 100) -> Layer:
    """Polygons of about a kilometre."""
    x0, y0, x1, y1 = AREA[system]  # type: ignore[index]
    rng = np.random.default_rng(4)
    at = rng.uniform((x0, y0), (x1, y1), (n, 2))
    angle = np.linspace(0, 2 * np.pi, vertices + 1)
    reach = (x1 - x0) / 500 * rng.uniform(0.7, 1, (n, vertices + 1))
    reach[:, -1] = reach[:, 0]
    xy = at[:, None] + reach[..., None] * np.stack([np.cos(angle), np.sin(angle)], axis=1)
    xy[:, -1] = xy[:, 0]
    rows = np.arange(n + 1)
    column = GeometryColumn(
        Family.POLYGONS, xy.reshape(-1, 2), rows * (vertices + 1), rows, rows, np.zeros(n, bool)
    )
    return Layer("blobs", column, pa.table({}), system)  # type: ignore[arg-type]


def earth() -> Iterator[Row]:
    for words, other in (
        ("10,000 points", lambda system: _points(system, 10_000, 2)),
        ("10,000 polygons of 100 vertices", lambda system: _blobs(system, 10_000)),
    ):
        pairs = [(_points(system, 100_000, 1), other(system)) for system in (DEGREES, UTM)]
        work, one = paired(
            lambda pairs=pairs: join(*pairs[0], "nearest"),  # type: ignore[misc]
            lambda pairs=pairs: join(*pairs[1], "nearest"),  # type: ignore[misc]
            runs=3,
        )
        name = f"nearest of 100,000 points to {words} in longitude and latitude"
        yield Row(name, work, one, "on a plane", 3)
    yield _bridge()


def _bridge() -> Row:
    """A world layer of half a million vertices, read and brought to a lattice of 1,000 cells."""
    world = waters()
    ring_of = np.repeat(np.arange(world.geometry.n_rings), np.diff(world.geometry.ring_offsets))
    edges = np.flatnonzero(ring_of[:-1] == ring_of[1:])
    pieces = np.full(len(edges), 500_000 // len(edges) + 1)
    world = replace(world, geometry=divided(world.geometry, edges, pieces))
    x, y = (v.ravel() for v in np.meshgrid(np.arange(32), np.arange(32)))
    corners = np.array([(0, 0), (1, 0), (1, 1), (0, 1), (0, 0)])
    xy = (np.stack([x, y], axis=1)[:, None] + corners) * 5000.0 + (4e5, 5e6)
    rows = np.arange(len(x) + 1)
    column = GeometryColumn(
        Family.POLYGONS, xy.reshape(-1, 2), rows * 5, rows, rows, np.zeros(len(x), bool)
    )
    cells = Layer("cells", column, pa.table({}), UTM)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "world.gpkg"
        files.write(world, path)
        work, one = paired(lambda: brought(files.read(path), cells), lambda: files.read(path))
    name = "a world layer of 500,000 vertices brought to 1,000 cells, beyond reading it"
    return Row(name, work - one, 1, "second", 0.3)
