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
        lambda: format_of(path).write(path, [layer]),
        lambda: pq.write_table(whole, bare, compression="zstd"),
    )
    yield Row(f"write a GeoParquet of {layer.n_rows:,} polygons", work, one, "bare pyarrow", 1.5)
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
        yield Row(name, corner, whole, "all of them", 0.05)
