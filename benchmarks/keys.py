"""What is measured of keys: joins by key, and what changed between versions."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from benchmarks.measure import Row, paired
from polygene import crs
from polygene.formats import geopackage
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.ops.compare import compare
from polygene.ops.join import join

MANY = 1_000_000


def keys() -> Iterator[Row]:
    rng = np.random.default_rng(24)
    codes = pa.array([f"K{k:07d}" for k in range(MANY)])
    turned = codes.take(pa.array(rng.permutation(MANY)))
    mine = pa.table({"code": codes, "n": np.arange(MANY), "name": turned})
    theirs = pa.table({"district_code": turned, "people": rng.random(MANY), "name": codes})
    layer = Layer("x", GeometryColumn.from_points(rng.random((MANY, 2))), mine)
    other = Layer("y", GeometryColumn.nulls(MANY), theirs, no_geometry="made here")
    work, bare = paired(
        lambda: join(layer, other, key="code = district_code"),
        lambda: mine.join(theirs, keys="code", right_keys="district_code", right_suffix="_2"),
    )
    yield Row("join of 1,000,000 features to as many rows by text", work, bare, "bare pyarrow", 2)
    yield from _versions(rng, codes)


def _versions(rng: np.random.Generator, codes: pa.Array) -> Iterator[Row]:
    """A million polygons of nine vertices; of the next version 1 % moved, 0.5 % edited, 0.3 % gone."""
    before = Layer(
        "before", _plots(rng), pa.table({"code": codes, "v": rng.integers(0, 99, MANY)}),
        crs.parse("EPSG:32633"),
    )  # fmt: skip
    xy = before.geometry.xy.reshape(MANY, -1, 2).copy()
    xy[rng.choice(MANY, MANY // 100, replace=False)] += 1.5
    values = np.array(before.table["v"]).copy()
    values[rng.choice(MANY, MANY // 200, replace=False)] += 100
    table = before.table.set_column(1, "v", pa.array(values))
    moved = replace(
        before, name="after", geometry=before.geometry.with_xy(xy.reshape(-1, 2)), table=table
    )
    after = moved.take(rng.permutation(MANY)[MANY * 3 // 1000 :])
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "both.gpkg"
        geopackage.write(path, [before, after])

        def read() -> None:
            for name in ("before", "after"):
                geopackage.read(path, name)

        for how, words in (({"key": "code"}, "by key"), ({"changes": True}, "by geometry")):
            work, reading = paired(lambda how=how: compare(before, after, **how), read)  # type: ignore[misc]
            yield Row(
                f"what changed in 1,000,000 polygons {words}", work, reading, "reading both", 4
            )


def _plots(rng: np.random.Generator) -> GeometryColumn:
    side = int(MANY**0.5)
    x, y = np.meshgrid(np.arange(side) * 30.0, np.arange(side) * 30.0)
    angle = np.linspace(0, 2 * np.pi, 10)
    ring = np.stack([np.cos(angle), np.sin(angle)], axis=1) * 12
    ring[-1] = ring[0]
    size = rng.uniform(0.6, 1.1, (MANY, 1, 1))
    xy = np.stack([x.ravel(), y.ravel()], axis=1)[:, None] + 500_000 + ring * size
    steps = np.arange(MANY + 1)
    return GeometryColumn(
        family=Family.POLYGONS,
        xy=xy.reshape(-1, 2).round(3),
        ring_offsets=steps * 10,
        part_offsets=steps,
        row_offsets=steps,
        is_null=np.zeros(MANY, bool),
        is_multi=False,
    )
