"""Layers larger than memory: coverages of any size made tile by tile, and a work on them in tasks."""

from __future__ import annotations

import argparse
import json
import multiprocessing
import resource
import shutil
import sys
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import crs
from polygene.arrays import F64Array, I64Array
from polygene.geometry import Family, GeometryColumn
from polygene.growing import work
from polygene.growing.executors import Here
from polygene.growing.running import Grounds, Runner
from polygene.layer import Layer
from polygene.progress import SILENT

CELL = 100.0  # metres across a cell
ORIGIN = np.array([400_000.0, 6_000_000.0])
EDGES_OF_A_TILE = 1_000_000


def noise(*numbers: I64Array | int) -> F64Array:
    """Return a number in -1 to 1 for each combination of whole numbers, always the same."""
    u64 = np.uint64
    found = np.zeros(np.broadcast_shapes(*(np.shape(n) for n in numbers)), u64)
    with np.errstate(over="ignore"):
        for number in numbers:
            found = (found ^ np.asarray(number).astype(u64)) * u64(0x9E3779B97F4A7C15)
            found ^= found >> u64(29)
            found = found * u64(0xBF58476D1CE4E5B9)
            found ^= found >> u64(32)
    return (found >> u64(11)).astype(np.float64) / (1 << 52) - 1.0


def _corner(i: I64Array, j: I64Array, seed: int) -> F64Array:
    x = (i + 0.2 * noise(i, j, seed, 1)) * CELL
    y = (j + 0.2 * noise(i, j, seed, 2)) * CELL
    return np.stack([x, y], axis=-1)


def _side(i: I64Array, j: I64Array, up: bool, detail: int, seed: int) -> F64Array:
    """Return the vertices (n, detail, 2) from one corner towards the next, without that."""
    a = _corner(i, j, seed)
    b = _corner(i + (not up), j + up, seed)
    k = np.arange(detail)
    t = k / detail
    along = (b - a)[:, None, :]
    across = np.stack([-along[..., 1], along[..., 0]], axis=-1)
    swing = 0.35 / detail * np.sin(np.pi * t) * noise(i[:, None], j[:, None], k[None], seed, 3 + up)
    return a[:, None, :] + along * t[None, :, None] + across * swing[..., None]


def cells(n: int, first: int, stop: int, detail: int, seed: int) -> Layer:
    """Return rows ``first`` to ``stop`` of n x n cells with 4 x detail edges each.

    Those of another seed lie beside them, by a third of a cell.
    """
    j, i = np.divmod(np.arange(first, stop), n)
    lower, upper = (_side(i, j + d, False, detail, seed) for d in (0, 1))
    left, right = (_side(i + d, j, True, detail, seed) for d in (0, 1))

    def back(side: F64Array, end: F64Array) -> F64Array:
        """Return a side from its end to its start, without that."""
        return np.concatenate([end[:, None], side[:, :0:-1]], axis=1)

    far = _corner(i + 1, j + 1, seed)
    upper_left = _corner(i, j + 1, seed)
    ring = np.concatenate([lower, right, back(upper, far), back(left, upper_left)], axis=1)
    ring = np.concatenate([ring, ring[:, :1]], axis=1) + ORIGIN + 37.0 * (seed - 1)
    count = ring.shape[1]
    row = np.arange(len(i))
    column = GeometryColumn.from_parts(
        Family.POLYGONS,
        np.round(ring.reshape(-1, 2), 3),
        np.arange(len(i) + 1) * count,
        np.arange(len(i) + 1),
        row,
        len(i),
    )
    number = np.arange(first, stop)
    table = pa.table(
        {
            "code": pa.array([f"c{k % 97}" for k in range(first, stop)]),
            "n": pa.array(number),
            "share": pa.array(noise(number, 7)),
        }
    )
    return Layer("cells", column, table, crs.parse("EPSG:32633"))


def make(to: Path, edges: int, detail: int = 25, seed: int = 1) -> int:
    """Write a coverage of about so many edges as a folder of GeoParquet; return how many it has."""
    n = max(1, round((edges / (4 * detail)) ** 0.5))
    folder = to.with_suffix(".making")
    shutil.rmtree(folder, ignore_errors=True)
    (folder / "tiles").mkdir(parents=True)
    step = max(1, EDGES_OF_A_TILE // (4 * detail))
    done = []
    for k, first in enumerate(range(0, n * n, step)):
        layer = cells(n, first, min(n * n, first + step), detail, seed)
        done.append(work.Done(k, work.store(layer, folder / "tiles", k)))
    run = Runner(Here(), SILENT, folder, Grounds())
    run.together(done, folder / "tiles", folder / "whole", False)
    shutil.rmtree(to, ignore_errors=True)
    (folder / "whole").rename(to)
    shutil.rmtree(folder)
    return n * n * 4 * detail


class Peak:
    """The most memory that this process and its children hold together, looked at as it goes."""

    def __init__(self) -> None:
        self.most, self._stop = 0, threading.Event()
        self._thread = threading.Thread(target=self._look, daemon=True)

    def __enter__(self) -> Peak:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()

    def _look(self) -> None:
        while not self._stop.wait(0.05):
            self.most = max(self.most, sum(map(_resident, [0, *_children()])))


def _children() -> list[int]:
    return [p.pid for p in multiprocessing.active_children() if p.pid is not None]


def _resident(pid: int) -> int:
    """Return the bytes of a process that are its own: private, and its share of those shared."""
    place = Path(f"/proc/{pid or 'self'}/smaps_rollup")
    try:
        lines = place.read_text(encoding="ascii").splitlines()
    except OSError:
        return 0
    return sum(1024 * int(line.split()[1]) for line in lines if line.startswith("Pss:"))


def main() -> None:
    """Make a coverage: ``python -m benchmarks.growing OUT EDGES [--seed]``."""
    parser = argparse.ArgumentParser()
    parser.add_argument("out")
    parser.add_argument("edges", type=float)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    began = time.monotonic()
    n = make(Path(asked.out), int(asked.edges), seed=asked.seed)
    told: dict[str, Any] = {"edges": n, "seconds": round(time.monotonic() - began, 1)}
    told["peak MB"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    json.dump(told, sys.stdout)
    print()


if __name__ == "__main__":
    main()
