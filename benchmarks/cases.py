"""What is measured."""

from __future__ import annotations

import gc
import multiprocessing
import os
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from benchmarks.earth import earth
from benchmarks.formats import formats
from benchmarks.keys import keys
from benchmarks.measure import (
    Row,
    forget_peak,
    paired,
    peak_bytes,
    resident_bytes,
    seconds,
    sort_of_edges,
)
from benchmarks.pages import pages
from benchmarks.places import places, shapes
from benchmarks.tables import tables
from polygene import crs
from polygene.formats import geopackage
from polygene.formats.destination import Target, write_all
from polygene.geometry import Family, GeometryColumn, concatenate
from polygene.layer import Layer
from polygene.memory import keep_freed_memory
from polygene.ops.clip import clip
from polygene.ops.dissolve import dissolve
from polygene.ops.imprint import imprint
from polygene.ops.joining import join_faces
from polygene.ops.union import union
from polygene.plane import overlay as overlay_module
from polygene.plane.borders import outline
from polygene.plane.grid import Grid
from polygene.plane.overlay import overlay, overlay_alone
from polygene.sample.shapes import closed, grid_corners, lattice
from polygene.table.groups import group_rows


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


def two_coverages() -> tuple[Layer, Layer]:
    """10,000 and 6,400 polygons of 100 vertices each over the same ground."""
    first, second = coverage(100, 100, 25), coverage(80, 80, 25, seed=2)
    column = second.geometry
    return first, replace(second, name="zones", geometry=column.with_xy(column.xy * 1.25))


def overlays() -> Iterator[Row]:
    first, second = two_coverages()
    both = np.concatenate([first.geometry.xy, second.geometry.xy])
    work, one = paired(lambda: union(first, second), sort_of_edges(both), runs=3)
    yield Row(f"union of two coverages, {len(both):,} vertices, all told", work, one, "L", 2)
    grid = Grid.over([first.geometry.extent() or (0, 0, 0, 0)], 1e-4)
    border = outline(second.geometry, grid)
    work, one = paired(
        lambda: overlay(first.geometry, second.geometry, border, grid), sort_of_edges(both), runs=3
    )
    yield Row("its arrangement alone", work, one, "L", 2)
    sort = sort_of_edges(first.geometry.xy)
    work, one = paired(lambda: dissolve(first, ["code"]), sort)
    yield Row("dissolve of a clean coverage, all told", work, one, "L", 1)
    groups = group_rows(first.table, ["code"], first.n_rows)
    work, one = paired(lambda: join_faces(overlay_alone(first.geometry, grid), groups), sort)
    yield Row("its arrangement and rings alone", work, one, "L", 1)


def doubling() -> Iterator[Row]:
    sizes = (71, 100, 141, 200)
    pairs = [(coverage(n, n, 25), coverage(n, n, 25, seed=2)) for n in sizes]
    # In turn, so that a machine that changes its speed changes all of them.
    taken = np.array([[seconds(lambda p=p: union(*p), 1) for p in pairs] for _ in range(3)])
    medians = np.median(taken, axis=0)
    for size, before, after in zip(sizes[1:], medians[:-1], medians[1:], strict=True):
        edges = 2 * size * size * 100
        yield Row(
            f"union of {edges / 1e6:.1f} million edges to half as many", after, before, "", 2.3
        )


def cliffs() -> Iterator[Row]:
    """Hard cases, per edge and crossing, to the coverages' own."""
    first, second = two_coverages()
    rng = np.random.default_rng(1)

    def layer(column: GeometryColumn, name: str = "x") -> Layer:
        return Layer(name, column, pa.table({}), crs.parse("EPSG:32633"))

    def squares(corners: np.ndarray, width: float, height: float) -> GeometryColumn:
        frame = np.array([(0, 0), (width, 0), (width, height), (0, height), (0, 0)])
        rings = [[[corner + frame]] for corner in corners]
        return GeometryColumn.from_rings(rings, Family.POLYGONS)

    def star(n: int) -> GeometryColumn:
        angle = np.sort(rng.uniform(0, 2 * np.pi, n))
        reach = 1000 * rng.uniform(0.2, 1, n)
        ring = closed(np.stack([reach * np.cos(angle), reach * np.sin(angle)], axis=1))
        return GeometryColumn.from_rings([[[ring]]], Family.POLYGONS)

    steps = np.arange(1000) * 2.0
    across = squares(np.stack([0 * steps, steps], axis=1), 2001, 1)
    up = squares(np.stack([steps, 0 * steps - 0.5], axis=1), 1, 2000)
    islands = np.stack(np.meshgrid(np.arange(316), np.arange(316)), axis=-1).reshape(-1, 2) * 10.0
    corner = first.geometry.with_xy(first.geometry.xy * 0.1)
    far = squares(np.array([[90_000.0, 90_000.0]]), 1000, 1000)
    crowded = layer(concatenate([corner, far]))
    half = second.geometry.with_xy(second.geometry.xy * 0.1)
    angle, place = rng.uniform(0, np.pi, 2000), rng.uniform(0, 10_000, (2000, 2))
    reach = 20_000 * np.stack([np.cos(angle), np.sin(angle)], axis=1)
    straight = [[[np.array([p - r, p + r])]] for p, r in zip(place, reach, strict=True)]
    lines = layer(GeometryColumn.from_rings(straight, Family.LINES))
    coast = boundary(1_000_000, 0, 10_000)
    stars = layer(star(20_000)), layer(star(20_000), "y")
    comb = layer(across), layer(up, "y")
    dense = crowded, layer(half, "y")
    sea = layer(squares(np.array([[-10.0, -10.0]]), 3200, 3200))
    dry = layer(squares(islands, 5, 5), "y")
    shore = coast, boundary(1000, 100, 9_000)
    for name, work in {
        "two stars of 20,000 vertices": lambda: union(*stars),
        "a comb of 1,000 x 1,000": lambda: union(*comb),
        "2,000 long lines over a million edges": lambda: imprint(lines, first),
        "all detail in a hundredth of the area": lambda: union(*dense),
        "100,000 islands in one polygon": lambda: union(sea, dry),
        "one polygon of a million vertices": lambda: union(*shore),
    }.items():
        # Each with the coverages' own beside it: the machine's speed changes by the minute.
        plain = _per_edge(lambda: union(first, second))
        yield Row(
            f"{name}, microseconds per edge and crossing", _per_edge(work), plain, "coverages", 5
        )
    nested = [squares(np.arange(n)[:, None] * (0.01, 0.01), 1000, 1000) for n in (75, 150)]
    few, many = (_per_row(layer(column)) for column in nested)
    yield Row(
        "150 features over each other, microseconds per row of the result", many, few, "75", 1
    )


def _per_row(layer: Layer) -> float:
    """Return the microseconds per row of a layer's union with itself."""
    return 1e6 * seconds(lambda: union(layer)) / union(layer).layer.n_rows


def _per_edge(work: Callable[[], Any]) -> float:
    """Return the microseconds per edge given and crossing found."""
    counts = []
    node_edges = overlay_module.node_edges

    def counting(x: Any, y: Any, start: Any, stop: Any, is_border: Any) -> Any:
        noded = node_edges(x, y, start, stop, is_border)
        counts.append(len(start) + len(noded.node_x) - int(noded.node_of_vertex.max()) - 1)
        return noded

    overlay_module.node_edges = counting
    try:
        work()
    finally:
        overlay_module.node_edges = node_edges
    # Short ones several times over: a machine that does something else for a moment doubles them.
    taken = seconds(work, 1, warms=False)
    if taken < 1:
        taken = seconds(work, 5, warms=False)
    return 1e6 * taken / sum(counts)


def _union_memory(queue: multiprocessing.Queue) -> None:
    keep_freed_memory()
    first, second = two_coverages()
    gc.collect()
    forget_peak()
    before = resident_bytes()
    union(first, second)
    queue.put((peak_bytes() - before, first.geometry.n_vertices + second.geometry.n_vertices))


def _clip_memory(queue: multiprocessing.Queue) -> None:
    keep_freed_memory()
    cells, area = coverage(100, 100, 25), boundary(10_000, 5_000, 3_000)
    gc.collect()
    forget_peak()
    before = resident_bytes()
    clip(cells, area)
    queue.put((peak_bytes() - before, cells.geometry.n_vertices))


def memory() -> Iterator[Row]:
    context = multiprocessing.get_context("spawn")
    for name, work, most in (("clip", _clip_memory, 60), ("union", _union_memory, 160)):
        queue = context.Queue()
        process = context.Process(target=work, args=(queue,))
        process.start()
        peak, n_edges = queue.get()
        process.join()
        yield Row(
            f"peak memory of that {name}, MB", peak / 1e6, n_edges / 1e6, "million edges", most
        )


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
            write_all([(Target(path, "cells"), layer)])

        work, one = paired(
            lambda: geopackage.read(path, "cells"),
            lambda: reader.execute("SELECT * FROM cells").fetchall(),
        )
        yield Row(f"read a GeoPackage of {n:,} polygons", work, one, "bare SELECT and fetch", 1.3)
        reader.close()
        work, one = paired(write, insert)
        yield Row("write it, with index, and prove it", work, one, "bare INSERT without", 1.4)


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


ALL = (
    clipping,
    overlays,
    memory,
    doubling,
    cliffs,
    tables,
    keys,
    shapes,
    places,
    earth,
    files,
    formats,
    pages,
    start_up,
)
