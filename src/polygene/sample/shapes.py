"""Made-up shapes: wiggly coverages, blobs, paths. Seeded by the generator they are given."""

from __future__ import annotations

import numpy as np

from polygene.arrays import F64Array
from polygene.classes import NamedTuple

Rng = np.random.Generator


def closed(points: F64Array) -> F64Array:
    """Return a ring: the points (n, 2) and the first again."""
    return np.concatenate([points, points[:1]])


def wiggly(a: F64Array, b: F64Array, n: int, rng: Rng, swing: float = 0.05) -> F64Array:
    """Return a path from a to b in n steps, (n, 2) without b, that sways sideways.

    ``swing`` is the largest sway as a share of the length. Lengthways no vertex passes another.
    """
    lengthways, sideways = b - a, (b - a)[::-1] * (-1, 1)
    along = np.arange(n) / n
    along[1:] += rng.uniform(-0.3, 0.3, n - 1) / n
    # Slow waves and a little tremor, both nothing at the ends.
    phase = rng.uniform(0, 2 * np.pi, 3)
    waves = sum(np.sin(np.pi * k * along + p * (k > 1)) / k for k, p in enumerate(phase, 1))
    sway = swing * np.sin(np.pi * along) * (0.5 * waves + rng.uniform(-0.15, 0.15, n))
    return a + along[:, None] * lengthways + sway[:, None] * sideways


class Lattice(NamedTuple):
    """A coverage of (columns x rows) cells.

    cells : rings, (i, j) at ``i * rows + j``; neighbours share their border vertex by vertex
    across : across[i][j] the path from corner (i, j) to (i + 1, j), without its end
    corners : (columns + 1, rows + 1, 2)
    """

    cells: list[F64Array]
    across: list[list[F64Array]]
    corners: F64Array


def lattice(corners: F64Array, n: int, rng: Rng, swing: float = 0.05) -> Lattice:
    """Return a coverage with wiggly borders of n steps between given corners."""
    columns, rows = corners.shape[0] - 1, corners.shape[1] - 1
    across = [
        [wiggly(corners[i, j], corners[i + 1, j], n, rng, swing) for j in range(rows + 1)]
        for i in range(columns)
    ]
    up = [
        [wiggly(corners[i, j], corners[i, j + 1], n, rng, swing) for j in range(rows)]
        for i in range(columns + 1)
    ]

    def back(path: F64Array, end: F64Array) -> F64Array:
        return np.concatenate([path[1:], end[None]])[::-1]

    cells = [
        closed(
            np.concatenate(
                [
                    across[i][j],
                    up[i + 1][j],
                    back(across[i][j + 1], corners[i + 1, j + 1]),
                    back(up[i][j], corners[i, j + 1]),
                ]
            )
        )
        for i in range(columns)
        for j in range(rows)
    ]
    return Lattice(cells, across, corners)


def joined(rings: list[F64Array]) -> F64Array:
    """Return the outline of rings that lie side by side, vertex by vertex, without what they share.

    Raises
    ------
    ValueError
        If it is not one ring.
    """
    edges = {
        (tuple(a), tuple(b))
        for ring in (ring.tolist() for ring in rings)
        for a, b in zip(ring[:-1], ring[1:], strict=True)
    }
    after = {a: b for a, b in edges if (b, a) not in edges}
    at = start = min(after)
    path = [start]
    while (at := after.pop(at)) != start:
        path.append(at)
    if after:
        raise ValueError("the outline of these rings is not one ring")
    return closed(np.array(path))


def grid_corners(columns: int, rows: int, rng: Rng, sway: float = 0.2) -> F64Array:
    """Return lattice corners one apart, each swayed at random."""
    steps = np.meshgrid(np.arange(columns + 1.0), np.arange(rows + 1.0), indexing="ij")
    corners = np.stack(steps, axis=-1)
    return corners + rng.uniform(-sway, sway, corners.shape)


def blob(at: F64Array, radius: float, n: int, rng: Rng, rough: float = 0.25) -> F64Array:
    """Return a ring of n vertices about a point; its radius varies smoothly, so it is simple."""
    angle = 2 * np.pi * np.arange(n) / n
    reach = np.ones(n)
    for k in range(2, 6):
        reach += rough / k * rng.uniform(-1, 1) * np.cos(k * angle + rng.uniform(0, 2 * np.pi))
    reach += rng.uniform(-0.02, 0.02, n)
    stretch = rng.uniform(0.7, 1.3)
    return closed(
        at + radius * np.stack([reach * np.cos(angle) * stretch, reach * np.sin(angle)], axis=1)
    )
