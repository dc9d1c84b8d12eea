"""Distances on the ellipsoid by brute force: from a point to edges that are straight in degrees."""

from __future__ import annotations

import numpy as np
import pyproj

GEOD = pyproj.Geod(ellps="WGS84")
MOST_DEGREES = 5.0  # of an edge looked at in one piece, so that it has one nearest place
SAMPLES = 33
MOST_METRES = 111_700.0  # in a degree, any way and anywhere


def to_edges(point, start: np.ndarray, stop: np.ndarray) -> float:
    """The least distance in metres from a point to edges (n, 2) to (n, 2), finer and finer about it."""
    pieces = np.maximum(1, np.ceil(np.abs(stop - start).max(axis=1) / MOST_DEGREES)).astype(int)
    edge = np.repeat(np.arange(len(start)), pieces)
    nth = np.arange(len(edge)) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    way = stop - start
    a = start[edge] + way[edge] * (nth / pieces[edge])[:, None]
    b = start[edge] + way[edge] * ((nth + 1) / pieces[edge])[:, None]
    low, high, best = np.zeros(len(a)), np.ones(len(a)), np.inf
    for _ in range(5):
        share = low[:, None] + (high - low)[:, None] * np.linspace(0, 1, SAMPLES)
        at = (a[:, None] + (b - a)[:, None] * share[..., None]).reshape(-1, 2)
        far = GEOD.inv(*np.broadcast_to(point, at.shape).T, *at.T)[2].reshape(share.shape)
        best = min(best, float(far.min()))
        middle = share[np.arange(len(a)), far.argmin(axis=1)]
        width = (high - low) / (SAMPLES - 1)
        low, high = np.clip(middle - width, 0, 1), np.clip(middle + width, 0, 1)
        # No place of an edge is further from a sample of it than two samples are from each other.
        gap = np.hypot(*(b - a).T) * width * MOST_METRES
        kept = far.min(axis=1) - gap <= best
        a, b, low, high = a[kept], b[kept], low[kept], high[kept]
    return best


def covers(parts, point) -> bool:
    """Whether polygon parts cover a point, by even-odd within each."""
    for part in parts:
        inside = False
        for ring in part:
            (x0, y0), (x1, y1) = np.asarray(ring)[:-1].T, np.asarray(ring)[1:].T
            passes = (y0 > point[1]) != (y1 > point[1])
            rise = np.where(passes, y1 - y0, 1)
            inside ^= bool(
                (passes & (x0 + (point[1] - y0) / rise * (x1 - x0) > point[0])).sum() % 2
            )
        if inside:
            return True
    return False


def to_row(family: int, parts, point, seams: bool = False) -> float:
    """The distance to a row, negative inside polygons; poles are no border, nor with ``seams`` 180°."""
    if family == 0:
        at = np.array([place for ((place,),) in parts])
        return float(GEOD.inv(*np.broadcast_to(point, at.shape).T, *at.T)[2].min())
    rings = [np.asarray(ring) for part in parts for ring in part]
    start = np.concatenate([ring[:-1] for ring in rings])
    stop = np.concatenate([ring[1:] for ring in rings])
    if family == 2:
        seam = (np.abs(start[:, 1]) == 90) & (start[:, 1] == stop[:, 1])
        seam |= seams & (np.abs(start[:, 0]) == 180) & (start[:, 0] == stop[:, 0])
        start, stop = start[~seam], stop[~seam]
    far = to_edges(point, start, stop)
    return -far if family == 2 and covers(parts, point) else far


def beside(rng: np.random.Generator, parts, distance: float, n: int) -> np.ndarray:
    """Points about as far from a row as a distance, a little nearer and a little further."""
    xy = np.concatenate([np.asarray(ring) for part in parts for ring in part])
    at = rng.integers(0, len(xy), n)
    following = xy[(at + 1) % len(xy)]
    is_near = np.abs(following - xy[at]).max(axis=1) < 90
    base = np.where(is_near[:, None], xy[at] + rng.random((n, 1)) * (following - xy[at]), xy[at])
    far = abs(distance) * rng.choice([0.3, 0.9, 0.99, 0.998, 1.002, 1.01, 1.1, 1.5], n)
    lon, lat, _ = GEOD.fwd(*base.T, rng.uniform(-180, 180, n), far)
    return np.stack([lon, lat], axis=1)


def _pieces(edges) -> tuple[np.ndarray, np.ndarray]:
    """The starts of pieces of edges, of eight degrees at most, and their ways."""
    starts, ways = [], []
    for a, b in edges:
        n = max(1, int(np.ceil(np.abs(b - a).max() / 8)))
        starts.append(a + (b - a) * np.arange(n)[:, None] / n)
        ways.append(np.tile((b - a) / n, (n, 1)))
    return np.concatenate(starts), np.concatenate(ways)


def between_edges(ones, twos, rounds: int = 7) -> float:
    """The least distance of edges, each a pair of places, finer and finer about the best so far."""
    (a, u), (b, v) = _pieces(ones), _pieces(twos)
    i, j = (k.ravel() for k in np.meshgrid(range(len(a)), range(len(b)), indexing="ij"))
    low, high, best = np.zeros((2, len(i))), np.ones((2, len(i))), np.inf
    for turn in range(rounds):
        samples = 17 if turn else 5
        shares = [
            low[k][:, None]
            + (high - low)[k][:, None] * np.linspace(0, 1, samples if way.any() else 1)
            for k, way in enumerate((u, v))
        ]
        p = a[i][:, None] + u[i][:, None] * shares[0][..., None]
        q = b[j][:, None] + v[j][:, None] * shares[1][..., None]
        shape = (len(i), p.shape[1], q.shape[1], 2)
        p = np.broadcast_to(p[:, :, None], shape).reshape(-1, 2)
        q = np.broadcast_to(q[:, None], shape).reshape(-1, 2)
        far = GEOD.inv(*p.T, *q.T)[2].reshape(len(i), -1)
        nearest = far.argmin(axis=1)
        best = min(best, float(far.min()))
        middle = np.stack([
            shares[0][np.arange(len(i)), nearest // shape[2]],
            shares[1][np.arange(len(i)), nearest % shape[2]],
        ])  # fmt: skip
        width = (high - low) / (samples - 1) * 1.5
        low, high = np.clip(middle - width, 0, 1), np.clip(middle + width, 0, 1)
        # Between samples of a piece, 1,260 km at most, it may be nearer by as much as they are apart.
        kept = far.min(axis=1) < best + (4e5 if turn == 0 else 8e4 * 0.19 ** (turn - 1))
        i, j, low, high = i[kept], j[kept], low[:, kept], high[:, kept]
    return best


def edges_of(family: int, parts) -> list:
    rings = [np.asarray(ring, float) for part in parts for ring in part]
    if family == 0:
        return [(p, p) for ring in rings for p in ring]
    return [(a, b) for ring in rings for a, b in zip(ring[:-1], ring[1:], strict=True)]


def _cross(one, two) -> bool:
    (a, b), (c, d) = one, two

    def side(p, q, r):
        return (q[0] - p[0]) * (r[1] - p[1]) - (q[1] - p[1]) * (r[0] - p[0])

    return side(a, b, c) * side(a, b, d) < 0 and side(c, d, a) * side(c, d, b) < 0


def between_rows(family: int, parts, other_family: int, others) -> float:
    """The distance of two rows; nothing where one holds a place of the other, or edges cross."""
    mine, theirs = edges_of(family, parts), edges_of(other_family, others)
    if family == 2 and any(covers(parts, a) for a, _ in theirs):
        return 0.0
    if other_family == 2 and any(covers(others, a) for a, _ in mine):
        return 0.0
    if family and other_family and any(_cross(e, f) for e in mine for f in theirs):
        return 0.0
    return between_edges(mine, theirs)
