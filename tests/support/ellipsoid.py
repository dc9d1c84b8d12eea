"""Distances on the ellipsoid by brute force: from a point to edges that are straight in degrees."""

from __future__ import annotations

import numpy as np
import pyproj

GEOD = pyproj.Geod(ellps="WGS84")
MOST_DEGREES = 5.0  # of an edge looked at in one piece, so that it has one nearest place
SAMPLES = 33


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
