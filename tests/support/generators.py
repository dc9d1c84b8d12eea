"""Made-up geometry for tests: seeded, with every kind of trouble."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from polygene.geometry import Family, GeometryColumn
from polygene.layer import Layer
from polygene.sample.shapes import closed, grid_corners, lattice

__all__ = [
    "closed",
    "coverage",
    "layer",
    "lines",
    "polygons",
    "rows_of",
    "square",
    "star",
    "tangle",
]


def square(x: float, y: float, side: float) -> np.ndarray:
    return closed(np.array([(x, y), (x + side, y), (x + side, y + side), (x, y + side)], float))


def star(rng: np.random.Generator, n: int, radius: float, at=(0.0, 0.0)) -> np.ndarray:
    """A star polygon whose ring does not cross itself."""
    angle = np.sort(rng.uniform(0, 2 * np.pi, n))
    reach = radius * rng.uniform(0.15, 1.0, n)
    return closed(np.stack([at[0] + reach * np.cos(angle), at[1] + reach * np.sin(angle)], 1))


def tangle(rng: np.random.Generator, n: int, size: float, step: float) -> np.ndarray:
    """A ring of random vertices on a coarse lattice: crosses, retraces and touches itself."""
    return closed(rng.integers(0, int(size / step) + 1, (n, 2)) * step)


def path(rng: np.random.Generator, n: int, size: float, step: float) -> np.ndarray:
    """A line on a coarse lattice that crosses itself, closes and repeats vertices."""
    return rng.integers(0, int(size / step) + 1, (n, 2)) * step


def polygons(rows) -> GeometryColumn:
    return GeometryColumn.from_rings(rows, Family.POLYGONS)


def lines(rows) -> GeometryColumn:
    return GeometryColumn.from_rings([[[path] for path in row] for row in rows], Family.LINES)


def points(rows) -> GeometryColumn:
    return GeometryColumn.from_rings([[[p[None]] for p in row] for row in rows], Family.POINTS)


def coverage(columns: int, rows: int, side: float, rng: np.random.Generator, detail: int = 4):
    """Cells with wiggly borders that neighbours share vertex by vertex."""
    cells = lattice(grid_corners(columns, rows, rng), detail, rng).cells
    return polygons([[[cell * side]] for cell in cells])


def national(rng: np.random.Generator, n: int, width: float, at=(0.0, 0.0)) -> GeometryColumn:
    """About n features over a country of some width, small ones crowded in one corner of it."""
    side = max(2, round(n**0.5))
    corners = grid_corners(side, side, rng)
    crowded = corners * (np.abs(corners) / side) ** rng.uniform(0, 1.5)
    cells = lattice(crowded, int(rng.integers(2, 9)), rng).cells
    return polygons([[[cell * (width / side) + at]] for cell in cells])


DISTURBANCES = ("decimals", "float32", "shift", "jitter")


def disturbed(
    column: GeometryColumn, how: str, by: float, rng: np.random.Generator
) -> GeometryColumn:
    """The same features as another source has them; what shared a vertex still does.

    ``by`` is how far they may move; for ``decimals`` coordinates become multiples of it.
    """
    if how == "decimals":
        return column.with_xy(np.round(column.xy / by) * by)
    if how == "float32":
        return column.with_xy(column.xy.astype(np.float32).astype(np.float64))
    if how == "shift":
        return column.with_xy(column.xy + rng.uniform(-by, by, 2))
    places, numbers = np.unique(column.xy, axis=0, return_inverse=True)
    moved = places + rng.uniform(-by, by, places.shape)
    return column.with_xy(moved[numbers.reshape(-1)])


def layer(name: str, geometry: GeometryColumn, crs=None, /, **columns) -> Layer:
    return Layer(name, geometry, pa.table(columns), crs)


def rows_of(column: GeometryColumn) -> list:
    """A column as nested lists: rows of parts of rings of (x, y)."""
    c = column
    return [
        [
            [
                c.xy[c.ring_offsets[r] : c.ring_offsets[r + 1]].tolist()
                for r in range(c.part_offsets[p], c.part_offsets[p + 1])
            ]
            for p in range(c.row_offsets[i], c.row_offsets[i + 1])
        ]
        for i in range(c.n_rows)
    ]
