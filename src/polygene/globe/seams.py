"""Borders that are none: where an area was parted at the 180th meridian, or ends at a pole.

RFC 7946, 3.1.9, wants areas parted there. The two sides of such a cut, and what runs along a pole, are
edges of the rings and no border of the area.
"""

from __future__ import annotations

import itertools

import numpy as np

from polygene.arrays import BoolArray, I64Array, count_by, offsets_from, owners
from polygene.geometry import Family, GeometryColumn


def has_seams(column: GeometryColumn) -> BoolArray:
    """Return (n_rows,) polygons in degrees with edges along the 180th meridian or a pole."""
    at = np.flatnonzero(_along(column))
    row = owners(column.vertex_offsets_of_rows)[at]
    return count_by(row, column.n_rows) > 0


def _along(column: GeometryColumn) -> BoolArray:
    """Return (n_vertices,) whether the edge that starts there runs along the meridian or a pole."""
    lon, lat = np.abs(column.xy).T
    ring_of = owners(column.ring_offsets)
    along = np.zeros(column.n_vertices, bool)
    along[:-1] = (ring_of[:-1] == ring_of[1:]) & (
        ((lon[:-1] == 180) & (column.xy[:-1, 0] == column.xy[1:, 0]))
        | ((lat[:-1] == 90) & (column.xy[:-1, 1] == column.xy[1:, 1]))
    )
    return along


def true_borders(column: GeometryColumn, group: I64Array) -> tuple[GeometryColumn, I64Array]:
    """Return the borders of polygons as lines, without seams, and the row each line is of.

    Rows of one group (n_rows,) are one area: a side of it on the meridian is a seam where the other
    side of the meridian has one too. Rows with such edges are few; each is gone through.
    """
    along = _along(column)
    sides = _sides(column, along, group)
    lines: list[np.ndarray] = []
    rows: list[int] = []
    row_of_ring = owners(column.ring_offsets_of_rows)
    for ring in range(column.n_rings):
        first, stop = column.ring_offsets[[ring, ring + 1]]
        if stop - first < 2:
            continue
        row = int(row_of_ring[ring])
        xy = column.xy[first:stop]
        if not along[first:stop].any():
            lines.append(xy)
            rows.append(row)
            continue
        for chain in _chains(xy, along[first : stop - 1], sides.get(int(group[row]), {})):
            lines.append(chain)
            rows.append(row)
    steps = np.arange(len(lines) + 1)
    found = GeometryColumn(
        family=Family.LINES,
        xy=np.concatenate([*lines, np.zeros((0, 2))]),
        ring_offsets=offsets_from([len(line) for line in lines]),
        part_offsets=steps,
        row_offsets=steps,
        is_null=np.zeros(len(lines), bool),
    )
    return found, np.array(rows, np.int64)


Sides = dict[float, list[tuple[float, float]]]


def _sides(column: GeometryColumn, along: BoolArray, group: I64Array) -> dict[int, Sides]:
    """Return for each group the stretches of latitude that it has at 180 and at -180 degrees."""
    found: dict[int, Sides] = {}
    row = owners(column.vertex_offsets_of_rows)
    for k in np.flatnonzero(along & (np.abs(column.xy[:, 0]) == 180)).tolist():
        (lon, low), (_, high) = column.xy[k].tolist(), column.xy[k + 1].tolist()
        if low != high:
            sides = found.setdefault(int(group[row[k]]), {})
            sides.setdefault(lon, []).append((min(low, high), max(low, high)))
    return found


def _chains(xy: np.ndarray, along: BoolArray, sides: Sides) -> list[np.ndarray]:
    """Return what is left of a ring when seams are taken out."""
    places = [tuple(p) for p in xy.tolist()]
    chains: list[list[tuple[float, float]]] = [[places[0]]]
    for (a, b), is_along in zip(itertools.pairwise(places), along.tolist(), strict=True):
        if is_along and abs(a[1]) == 90 and a[1] == b[1]:
            chains.append([b])
            continue
        if not is_along:
            chains[-1].append(b)
            continue
        others = sides.get(-a[0], [])
        low, high = sorted((a[1], b[1]))
        cuts = {v for pair in others for v in pair if low < v < high}
        stops = sorted({low, high, *cuts}, reverse=a[1] > b[1])
        for p, q in itertools.pairwise(stops):
            if any(s <= min(p, q) and max(p, q) <= t for s, t in others):
                chains.append([(a[0], q)])
            else:
                chains[-1].append((a[0], q))
    if len(chains) > 1 and chains[0][0] == chains[-1][-1]:
        chains[0] = chains.pop()[:-1] + chains[0]
    return [np.array(chain) for chain in chains if len(chain) > 1]
