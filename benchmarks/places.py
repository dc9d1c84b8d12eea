"""What is measured of features on their own and by place."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyarrow as pa
from scipy.spatial import cKDTree

from benchmarks.measure import Row, paired, seconds, sort_of_edges
from polygene import crs
from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.ops.buffer import buffer
from polygene.ops.join import join
from polygene.ops.mend import mend
from polygene.plane.validity import problems_of

CRS = crs.parse("EPSG:32633")


def _layer(name: str, column: GeometryColumn) -> Layer:
    return Layer(name, column, pa.table({}), CRS)


def _points(n: int, seed: int, size: float = 1e5) -> GeometryColumn:
    return GeometryColumn.from_points(np.random.default_rng(seed).uniform(0, size, (n, 2)))


def _chains(n: int, seed: int = 0, step: float = 10, size: float = 1e5) -> GeometryColumn:
    """Lines of ten vertices, turning gently."""
    rng = np.random.default_rng(seed)
    angle = np.cumsum(rng.normal(0, 0.6, (n, 9)), axis=1)
    steps = step * np.stack([np.cos(angle), np.sin(angle)], axis=2)
    start = rng.uniform(0, size, (n, 1, 2))
    xy = np.concatenate([start, start + np.cumsum(steps, axis=1)], axis=1).reshape(-1, 2)
    rows = np.arange(n + 1)
    return GeometryColumn(Family.LINES, xy, rows * 10, rows, rows, np.zeros(n, bool), False)


def _board(n: int) -> GeometryColumn:
    """Half of the n x n squares of a board, as one row."""
    at = np.argwhere((np.add.outer(np.arange(n), np.arange(n)) % 2).astype(bool)).astype(float)
    square = np.array([(0, 0), (1, 0), (1, 1), (0, 1), (0, 0)])
    return GeometryColumn.from_rings([[[corner + square] for corner in at]], Family.POLYGONS)


def _lakes(n_vertices: int, n: int) -> GeometryColumn:
    """A round coast with n x n lakes of nine vertices, the first of which another overlaps."""
    turn = np.linspace(0, 2 * np.pi, n_vertices)
    reach = 1e4 * (1 + 0.01 * np.sin(7 * turn))
    coast = np.stack([reach * np.cos(turn), reach * np.sin(turn)], axis=1)
    around = -np.linspace(0, 2 * np.pi, 9)
    lake = 20 * np.stack([np.cos(around), np.sin(around)], axis=1)
    coast[-1], lake[-1] = coast[0], lake[0]
    place = np.linspace(-6500, 6500, n)
    lakes = [lake + corner for corner in np.stack(np.meshgrid(place, place), -1).reshape(-1, 2)]
    return GeometryColumn.from_rings([[[coast, *lakes, lakes[0] + (15, 3)]]], Family.POLYGONS)


def shapes() -> Iterator[Row]:
    from benchmarks.cases import coverage

    cells = coverage(100, 100, 25)
    sort = sort_of_edges(cells.geometry.xy)
    work, one = paired(lambda: problems_of(cells.geometry), sort, runs=3)
    yield Row("audit of the geometry of 1,010,000 sound vertices", work, one, "L", 1)
    work, one = paired(lambda: mend(cells), sort, runs=3)
    yield Row("mend of them", work, one, "L", 1)
    for words, column in (
        ("a board of 80,000 squares that meet at corners", _board(400)),
        (
            "a coast of 200,000 vertices with 20,000 lakes, two of which overlap",
            _lakes(200_000, 141),
        ),
    ):
        work, one = paired(lambda c=column: problems_of(c), sort_of_edges(column.xy), runs=3)
        yield Row(f"audit of {words}", work, one, "L", 10)
    chains = _layer("chains", _chains(100_000))
    sort = sort_of_edges(chains.geometry.xy)
    work, one = paired(lambda: buffer(chains, 3.0), sort, runs=1)
    yield Row("buffer of 100,000 lines of ten vertices", work, one, "L", 12)
    work, one = paired(lambda: buffer(chains, 3.0, dissolve=True), sort, runs=1)
    yield Row("the same melted", work, one, "L", 25)
    spots = _layer("spots", _points(100_000, 1))
    yield Row(
        "buffer of 100,000 points, melted", seconds(lambda: buffer(spots, 100.0, dissolve=True), 1), 1,
        "second", 10,
    )  # fmt: skip


def places() -> Iterator[Row]:
    from benchmarks.cases import coverage, two_coverages

    cells = coverage(100, 100, 25)
    many = _layer("many", _points(1_000_000, 2, 1e4))
    both = np.concatenate([cells.geometry.xy, many.geometry.xy])
    work, one = paired(lambda: join(cells, many), sort_of_edges(both), runs=2)
    yield Row("1,000,000 points counted in 10,000 polygons", work, one, "L of all", 1)
    first, second = coverage(316, 316, 2), two_coverages()[1]
    second = coverage(316, 316, 2, seed=3)
    both = np.concatenate([first.geometry.xy, second.geometry.xy])
    work, one = paired(lambda: join(first, second, pairs=True), sort_of_edges(both), runs=1)
    yield Row("100,000 x 100,000 polygons, intersects", work, one, "L", 6)
    many, few = _layer("many", _points(1_000_000, 2)), _layer("few", _points(100_000, 3))
    tree = seconds(lambda: cKDTree(few.geometry.xy).query(many.geometry.xy), 1)
    yield Row(
        "nearest of 1,000,000 points to 100,000 points",
        seconds(lambda: join(many, few, "nearest"), 1), tree, "k-d tree", 2,
    )  # fmt: skip
    lines = _layer("lines", _chains(100_000))
    yield Row(
        "to 100,000 lines", seconds(lambda: join(many, lines, "nearest"), 1), tree, "k-d tree", 10
    )
    around = _layer("around", _points(100_000, 4, 1.6e6))
    among = _layer("among", _points(100_000, 4))
    near, far = (seconds(lambda q=q: join(q, lines, "nearest"), 3) for q in (among, around))
    yield Row("100,000 points up to 2,000 km off to these lines", far, near, "among them", 6)
