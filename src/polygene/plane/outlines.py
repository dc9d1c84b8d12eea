"""Closed rings in parts and rows, as they come before they are settled into areas."""

from __future__ import annotations

import numpy as np

from polygene.arrays import F64Array, I64Array, offsets_from, owners, take_spans
from polygene.classes import NamedTuple
from polygene.geometry import GeometryColumn, bounds_of_groups


class Outlines(NamedTuple):
    """Closed rings, each repeating its first vertex; a row's parts follow each other.

    xy : (n_vertices, 2) map coordinates
    ring_offsets : (n_rings + 1,)
    part_of_ring : (n_rings,)
    row_of_part : (n_parts,) rising
    """

    xy: F64Array
    ring_offsets: I64Array
    part_of_ring: I64Array
    row_of_part: I64Array


def by_row(curves: Outlines, row_of_part: I64Array) -> Outlines:
    """Order rings by other rows for their parts."""
    part_order = np.argsort(row_of_part, kind="stable")
    rank = np.empty(len(part_order), np.int64)
    rank[part_order] = np.arange(len(part_order))
    part = rank[curves.part_of_ring]
    order = np.argsort(part, kind="stable")
    counts = np.diff(curves.ring_offsets)[order]
    offsets = offsets_from(counts)
    return Outlines(
        take_spans(curves.xy, curves.ring_offsets[order], counts),
        offsets,
        part[order],
        row_of_part[part_order],
    )


def cut_rows(outlines: Outlines, rings: slice, rows: tuple[int, int]) -> Outlines:
    """Return the outlines of some rings and rows, counted from the first."""
    parts = slice(*np.searchsorted(outlines.row_of_part, rows))
    first, stop = outlines.ring_offsets[[rings.start, rings.stop]]
    return Outlines(
        outlines.xy[first:stop],
        outlines.ring_offsets[rings.start : rings.stop + 1] - first,
        outlines.part_of_ring[rings] - parts.start,
        outlines.row_of_part[parts] - rows[0],
    )


def boxes_of_parts(outlines: Outlines) -> F64Array:
    """Return (n_parts, 4) bounds of the rings of each part; not finite for one without."""
    rings = bounds_of_groups(outlines.xy, outlines.ring_offsets)
    boxes = np.tile([np.inf, np.inf, -np.inf, -np.inf], (len(outlines.row_of_part), 1))
    np.minimum.at(boxes[:, :2], outlines.part_of_ring, rings[:, :2])
    np.maximum.at(boxes[:, 2:], outlines.part_of_ring, rings[:, 2:])
    return boxes


def as_outlines(column: GeometryColumn, sign: int) -> Outlines:
    """Return the rings of valid polygons, outer ones counter-clockwise or, with -1, clockwise."""
    return Outlines(
        column.xy if sign > 0 else run_backwards(column.xy, column.ring_offsets),
        column.ring_offsets,
        owners(column.ring_offsets_of_rows),
        np.arange(column.n_rows),
    )


def run_backwards(xy: F64Array, ring_offsets: I64Array) -> F64Array:
    """Return the vertices of rings run the other way."""
    ring_of = owners(ring_offsets)
    at = ring_offsets[:-1][ring_of] + ring_offsets[1:][ring_of] - 1 - np.arange(len(xy))
    return xy.take(at, axis=0)


def joined(curves: list[Outlines], first_rows: list[int]) -> Outlines:
    """Return the outlines of portions in a row, those of portion k counted from a row of its own."""
    n_rings = offsets_from([len(c.part_of_ring) for c in curves])
    n_parts = offsets_from([len(c.row_of_part) for c in curves])
    n_vertices = offsets_from([len(c.xy) for c in curves])
    offsets = np.zeros(int(n_rings[-1]) + 1, np.int64)
    for k, c in enumerate(curves):
        offsets[n_rings[k] + 1 : n_rings[k + 1] + 1] = c.ring_offsets[1:] + n_vertices[k]
    return Outlines(
        np.concatenate([c.xy for c in curves]),
        offsets,
        np.concatenate([c.part_of_ring + n for c, n in zip(curves, n_parts[:-1], strict=True)]),
        np.concatenate([c.row_of_part + n for c, n in zip(curves, first_rows, strict=True)]),
    )
