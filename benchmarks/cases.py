"""What is measured."""

from __future__ import annotations

import gc
import multiprocessing
import os
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pyarrow as pa

from benchmarks.measure import Row, paired, peak_bytes, resident_bytes, seconds, sort_of_edges
from polygene import crs
from polygene.formats import geopackage
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.ops.clip import clip
from polygene.sample.shapes import closed, grid_corners, lattice


def coverage(columns: int, rows: int, detail: int, seed: int = 1) -> Layer:
    """A coverage of cells 100 m wide, 4 x detail vertices each."""
    rng = np.random.default_rng(seed)
    cells = lattice(grid_corners(columns, rows, rng), detail, rng).cells
    column = GeometryColumn.from_rings([[[cell * 100]] for cell in cells], Family.POLYGONS)
    n = column.n_rows
    table = pa.table(
        {
            "code": pa.array([f"c{k % 97}" for k in range(n)]),
            "n": pa.array(np.arange(n)),
            "share": pa.array(rng.random(n)),
            "flag": pa.array([None if k % 3 else True for k in range(n)]),
        }
    )
    return Layer("cells", column, table, crs.parse("EPSG:32633"))


def boundary(n: int, at: float, radius: float) -> Layer:
    """One study area of n vertices."""
    rng = np.random.default_rng(2)
    angle = np.arange(n) * 2 * np.pi / n
    reach = radius * (1 + 0.06 * np.sin(40 * angle) + rng.uniform(-0.005, 0.005, n))
    ring = closed(np.stack([at + reach * np.cos(angle), at + reach * np.sin(angle)], axis=1))
    column = GeometryColumn.from_rings([[[ring]]], Family.POLYGONS)
    return Layer("area", column, pa.table({}), crs.parse("EPSG:32633"))


def clipping() -> Iterator[Row]:
    cells, area = coverage(100, 100, 25), boundary(10_000, 5_000, 3_000)
    work, one = paired(lambda: clip(cells, area), sort_of_edges(cells.geometry.xy))
    n = cells.geometry.n_vertices
    yield Row(f"clip of {n:,} vertices by 10,000", work, one, "L", 0.6)


def _clip_memory(queue: multiprocessing.Queue) -> None:
    cells, area = coverage(100, 100, 25), boundary(10_000, 5_000, 3_000)
    gc.collect()
    before = resident_bytes()
    clip(cells, area)
    queue.put((peak_bytes() - before, cells.geometry.n_vertices))


def memory() -> Iterator[Row]:
    context = multiprocessing.get_context("spawn")
    queue = context.Queue()
    process = context.Process(target=_clip_memory, args=(queue,))
    process.start()
    peak, n_edges = queue.get()
    process.join()
    yield Row("peak memory of that clip, MB", peak / 1e6, n_edges / 1e6, "million edges", 400)


def files() -> Iterator[Row]:
    layer = coverage(330, 304, 10)
    n = layer.n_rows
    with tempfile.TemporaryDirectory() as folder:
        path, bare = Path(folder) / "cells.gpkg", Path(folder) / "bare.db"
        geopackage.write(path, [layer])
        reader = sqlite3.connect(path)
        rows = reader.execute("SELECT * FROM cells").fetchall()

        def insert() -> None:
            bare.unlink(missing_ok=True)
            writer = sqlite3.connect(bare)
            writer.execute(
                "CREATE TABLE cells (fid INTEGER PRIMARY KEY, geom BLOB, code TEXT, n INTEGER, "
                "share DOUBLE, flag BOOLEAN)"
            )
            writer.executemany("INSERT INTO cells VALUES (?, ?, ?, ?, ?, ?)", rows)
            writer.commit()
            writer.close()

        def write() -> None:
            path.unlink(missing_ok=True)
            geopackage.write(path, [layer])

        work, one = paired(
            lambda: geopackage.read(path, "cells"),
            lambda: reader.execute("SELECT * FROM cells").fetchall(),
        )
        yield Row(f"read a GeoPackage of {n:,} polygons", work, one, "bare SELECT and fetch", 2)
        reader.close()
        work, one = paired(write, insert)
        yield Row("write it, with index", work, one, "bare INSERT without", 2)


def start_up() -> Iterator[Row]:
    from polygene.sample import tolva

    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    with tempfile.TemporaryDirectory() as folder:
        tolva.write(Path(folder))

        def run(*arguments: str) -> None:
            subprocess.run(
                [sys.executable, "-m", "polygene", *arguments], cwd=folder, env=environment,
                check=True, capture_output=True,
            )  # fmt: skip

        yield Row("polygene --help", seconds(lambda: run("--help")), 1, "second", 0.3)
        tiny = (
            "clip",
            "tolva.gpkg#islands",
            "--with",
            "tolva.gpkg#park",
            "-o",
            "o.gpkg",
            "--replace",
        )
        yield Row("clip of a tiny layer", seconds(lambda: run(*tiny)), 1, "second", 0.8)


ALL = (clipping, memory, files, start_up)
