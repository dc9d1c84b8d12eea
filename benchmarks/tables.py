"""What is measured of attributes."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from benchmarks.measure import Row, paired, seconds
from polygene import crs
from polygene.formats import geopackage
from polygene.geometry import GeometryColumn
from polygene.layer import Layer
from polygene.ops.fields import fields
from polygene.ops.match_sheet import propose
from polygene.ops.merge import merge
from polygene.ops.tally import tally
from polygene.table.expression import Expression


def _points(name: str, n: int, table: pa.Table) -> Layer:
    rng = np.random.default_rng(n)
    column = GeometryColumn.from_points(rng.uniform(0, 1e5, (n, 2)))
    return Layer(name, column, table, crs.parse("EPSG:32633"))


def _table(n: int, seed: int = 0) -> pa.Table:
    rng = np.random.default_rng(seed)
    return pa.table(
        {
            "depth": rng.uniform(0, 100, n),
            "kind": pa.array([("mooring", "marker", "research")[k % 3] for k in range(n)]),
            "year": pa.array(rng.integers(1990, 2027, n), pa.int32()),
        }
    )


def tables() -> Iterator[Row]:
    layer = _points("many", 1_000_000, _table(1_000_000))
    asked = Expression("depth > 20 AND kind = 'mooring' AND year < 2010")

    def bare() -> None:
        table = layer.table
        first = pc.greater(table["depth"], 20)
        second = pc.equal(table["kind"], "mooring")
        third = pc.less(table["year"], 2010)
        pc.and_kleene(pc.and_kleene(first, second), third)

    work, one = paired(lambda: asked.true_rows(layer), bare)
    yield Row("--where with three comparisons on 1,000,000 rows", work, one, "bare pyarrow", 3)
    yield from _computing(layer)
    yield _merging()
    rng = np.random.default_rng(1)
    wide = [
        _points(
            name, 2000,
            pa.table({f"{name}_{k}_field": [f"v{v}" for v in rng.integers(0, 500, 2000)]
                      if k % 2 else rng.uniform(0, k + 1, 2000) for k in range(100)}),
        )
        for name in ("one", "two")
    ]  # fmt: skip
    yield Row(
        "proposals for two tables of 100 fields", seconds(lambda: propose(wide), runs=3), 1,
        "second", 1,
    )  # fmt: skip


def _computing(layer: Layer) -> Iterator[Row]:
    table = layer.table
    work, one = paired(
        lambda: fields(layer, compute=["d2 = depth * 2.0 + year"]),
        lambda: pc.add(pc.multiply(table["depth"], 2.0), table["year"]),
    )
    yield Row("a field computed on 1,000,000 rows", work, one, "bare pyarrow", 2)
    for how in ("sum", "max"):
        work, one = paired(
            lambda how=how: tally(layer, "kind", f"t = {how}(depth)"),
            lambda how=how: table.group_by("kind").aggregate([("depth", how)]),
        )
        yield Row(f"tally of 1,000,000 rows, {how}", work, one, "bare pyarrow", 3)


def _merging() -> Row:
    layers = [_points(f"y{k}", 100_000, _table(100_000, k)) for k in range(13)]
    with tempfile.TemporaryDirectory() as folder:
        source, out = Path(folder) / "in.gpkg", Path(folder) / "out.gpkg"
        geopackage.write(source, layers)
        merged = merge(layers).layer

        def read_and_write() -> None:
            for layer in layers:
                geopackage.read(source, layer.name)
            out.unlink(missing_ok=True)
            geopackage.write(out, [merged])

        def all_of_it() -> None:
            read = [geopackage.read(source, layer.name).layers[0] for layer in layers]
            out.unlink(missing_ok=True)
            geopackage.write(out, [replace(merge(read).layer, name="merged")])

        work, one = paired(all_of_it, read_and_write, runs=2)
    return Row("merge of 13 layers of 100,000 rows", work, one, "reading and writing them", 1.5)
