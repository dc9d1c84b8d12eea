"""What is measured of the other formats, and of reading a corner of a large file."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import orjson
import pyarrow as pa
import pyarrow.parquet as pq
import shapefile

from benchmarks.measure import Row, paired
from polygene import crs
from polygene.formats.base import collecting_no_garbage
from polygene.formats.destination import Target, write_all
from polygene.formats.registry import format_of
from polygene.formats.wanted import Wanted
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer


def cells(side: int, name: str, code: str = "EPSG:32633", step: float = 100.0) -> Layer:
    """A layer of square features in rows, side x side, with three fields."""
    i, j = (a.ravel() for a in np.meshgrid(np.arange(side), np.arange(side)))
    ring = np.array([(0, 0), (0.8, 0), (0.8, 0.8), (0, 0.8), (0, 0)]) * step
    xy = (np.stack([i, j], 1)[:, None] * step + ring[None]).reshape(-1, 2)
    rows = np.arange(len(i) + 1)
    column = GeometryColumn(Family.POLYGONS, xy, 5 * rows, rows, rows, np.zeros(len(i), bool))
    table = pa.table({"i": i, "j": j, "name": pa.array([f"cell {k}" for k in range(len(i))])})
    return Layer(name, column, table, crs.parse(code))


def with_holes(n_outer: int, n_holes: int) -> Layer:
    """A polygon with a jagged border of so many vertices and round holes of 56."""
    rng = np.random.default_rng(1)
    angle = 2 * np.pi * np.arange(n_outer) / n_outer
    jags = np.cumsum(rng.normal(0, 1, n_outer)) / np.sqrt(n_outer) * np.sin(angle / 2)
    outer = 50_000 * (1 + 0.05 * jags)[:, None] * np.stack([np.cos(angle), np.sin(angle)], axis=1)
    turn = 2 * np.pi * np.arange(55)[::-1] / 55
    hole = 180 * np.stack([np.cos(turn), np.sin(turn)], axis=1)
    side = int(np.ceil(np.sqrt(n_holes)))
    steps = np.linspace(-25_000, 25_000, side)
    rings = [outer] + [hole + (steps[k % side], steps[k // side]) for k in range(n_holes)]
    closed = [np.concatenate([ring, ring[:1]]) for ring in rings]
    column = GeometryColumn.from_rings([[closed]], Family.POLYGONS)
    return Layer("holes", column, pa.table({"n": [1]}), crs.parse("EPSG:32633"))


def formats() -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        yield from _against_bare(Path(folder))
        yield from _corners(Path(folder))


def _against_bare(folder: Path) -> Iterator[Row]:
    from benchmarks.cases import coverage  # which imports this

    layer = coverage(330, 304, 10)
    path = folder / "some.parquet"
    format_of(path).write(path, [layer])
    whole = pq.read_table(path)
    bare = folder / "bare.parquet"
    work, one = paired(
        lambda: write_all([(Target(path, layer.name), layer)]),
        lambda: pq.write_table(whole, bare, compression="zstd"),
    )
    name = f"write a GeoParquet of {layer.n_rows:,} polygons, and prove it"
    yield Row(name, work, one, "bare pyarrow", 2)
    layer = cells(300, "some")
    path = folder / "some.geojson"
    format_of(path).write(path, [cells(300, "some", "OGC:CRS84", 0.01)])
    work, one = paired(
        lambda: format_of(path).read(path, "some"),
        collecting_no_garbage()(lambda: orjson.loads(path.read_bytes())),
    )
    yield Row("read a GeoJSON of 90,000 small ones", work, one, "orjson alone", 3)
    path = folder / "some.shp"
    format_of(path).write(path, [layer])

    def by_pyshp() -> None:
        with shapefile.Reader(str(path)) as reader:
            reader.shapes()
            reader.records()

    work, one = paired(lambda: format_of(path).read(path, "some"), by_pyshp, 3)
    yield Row("read a Shapefile of them", work, one, "bare pyshp", 2)
    layer = with_holes(447_000, 10_000)
    paths = [folder / f"holes{ending}" for ending in (".shp", ".gpkg")]
    for path in paths:
        format_of(path).write(path, [layer])
    work, one = paired(*(lambda p=p: format_of(p).read(p, "holes") for p in paths), 3)
    yield Row("read a Shapefile of a polygon with 10,000 holes", work, one, "the GeoPackage", 1.5)


def _corners(folder: Path) -> Iterator[Row]:
    layer = cells(1000, "many")
    box = (40_000.0, 40_000.0, 50_000.0, 50_000.0)
    for ending in (".gpkg", ".parquet", ".fgb"):
        path = folder / f"many{ending}"
        source = format_of(path)
        source.write(path, [layer])
        corner, whole = paired(
            lambda s=source, p=path: s.read(p, "many", Wanted(box)),
            lambda s=source, p=path: s.read(p, "many"),
            3,
        )
        name = f"a hundredth of 1,000,000 features of a {source.NAME} by --box"
        # Of a GeoPackage SQLite counts all rows, which is most of it since they are read so soon.
        yield Row(name, corner, whole, "all of them", 0.15 if ending == ".gpkg" else 0.05)
