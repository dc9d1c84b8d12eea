"""Made-up geometry for tests: seeded, with every kind of trouble."""

from __future__ import annotations

import numpy as np

from polygene.geometry import Family, GeometryColumn


def closed(points) -> np.ndarray:
    points = np.asarray(points, np.float64)
    return np.concatenate([points, points[:1]])


def square(x: float, y: float, side: float) -> np.ndarray:
    return closed([(x, y), (x + side, y), (x + side, y + side), (x, y + side)])


def star(rng: np.random.Generator, n: int, radius: float, at=(0.0, 0.0)) -> np.ndarray:
    """A star polygon whose ring does not cross itself."""
    angle = np.sort(rng.uniform(0, 2 * np.pi, n))
    reach = radius * rng.uniform(0.15, 1.0, n)
    return closed(np.stack([at[0] + reach * np.cos(angle), at[1] + reach * np.sin(angle)], 1))


def tangle(rng: np.random.Generator, n: int, size: float, step: float) -> np.ndarray:
    """A ring of random vertices on a coarse lattice: crosses, retraces and touches itself."""
    return closed(rng.integers(0, int(size / step) + 1, (n, 2)) * step)


def polygons(rows) -> GeometryColumn:
    return GeometryColumn.from_rings(rows, Family.POLYGONS)


def lines(rows) -> GeometryColumn:
    return GeometryColumn.from_rings([[[path] for path in row] for row in rows], Family.LINES)


def coverage(columns: int, rows: int, side: float, rng: np.random.Generator, detail: int = 4):
    """Cells of a lattice with wiggly borders that neighbours share vertex by vertex."""
    corner = np.stack(
        np.meshgrid(np.arange(columns + 1), np.arange(rows + 1), indexing="ij"), axis=-1
    ).astype(float)
    corner += rng.uniform(-0.2, 0.2, corner.shape)
    steps = np.linspace(0, 1, detail + 1)[:-1, None]

    def wiggly(a, b):
        path = a + (b - a) * steps
        # Sideways freely, lengthways never past a neighbour.
        lengthways, sideways = (b - a), (b - a)[::-1] * (-1, 1)
        path[1:] += rng.uniform(-0.4, 0.4, (detail - 1, 1)) / detail * lengthways
        path[1:] += rng.uniform(-0.05, 0.05, (detail - 1, 1)) * sideways
        return path

    across = [
        [wiggly(corner[i, j], corner[i + 1, j]) for j in range(rows + 1)] for i in range(columns)
    ]
    up = [[wiggly(corner[i, j], corner[i, j + 1]) for j in range(rows)] for i in range(columns + 1)]

    def back(path, end):
        return np.concatenate([path[1:], end[None]])[::-1]

    return polygons(
        [
            [[closed(np.concatenate([
                across[i][j], up[i + 1][j],
                back(across[i][j + 1], corner[i + 1, j + 1]),
                back(up[i][j], corner[i, j + 1]),
            ])) * side]]
            for i in range(columns) for j in range(rows)
        ]
    )  # fmt: skip


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
