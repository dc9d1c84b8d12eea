"""Lines and rings cut into runs that share an edge, so that no corner is lost between two."""

from __future__ import annotations

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from, owners, spans
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn


class Runs(NamedTuple):
    """Borders or lines in pieces, as lines that share an edge with the next.

    column : (n_runs,) rows; row : (n_runs,) what each was cut from
    is_end : (n_runs, 2) whether its first vertex and its last are an end of the line it was cut from
    """

    column: GeometryColumn
    row: I64Array
    is_end: BoolArray


def cut_at(
    first: I64Array, xy: F64Array, ring_offsets: I64Array, row_of_ring: I64Array, ends: BoolArray
) -> Runs:
    """Return the runs that begin at some vertices, rising, those with which rings begin among them.

    ``ends`` (n_rings, 2) says whether a ring's first vertex and its last are ends.
    """
    ring = owners(ring_offsets)[first]
    last_of_ring = ring_offsets[1:][ring] - 1
    # A run ends with the next one's first edge.
    following = np.append(first[1:], len(xy))
    stop = np.minimum(np.where(following > last_of_ring, last_of_ring, following + 1), last_of_ring)
    counts = stop - first + 1
    steps = np.arange(len(first) + 1)
    runs = GeometryColumn(
        family=Family.LINES,
        xy=xy[spans(first, counts)],
        ring_offsets=offsets_from(counts),
        part_offsets=steps,
        row_offsets=steps,
        is_null=np.zeros(len(first), bool),
    )
    is_end = np.stack([first == ring_offsets[:-1][ring], stop == last_of_ring], axis=1)
    return Runs(runs, row_of_ring[ring], is_end & ends[ring])


def cut_every(
    n_edges: int, xy: F64Array, ring_offsets: I64Array, row_of_ring: I64Array, ends: BoolArray
) -> Runs:
    """Return runs of so many edges, two at least, of rings of one vertex or more; see `cut_at`."""
    counts = np.diff(ring_offsets) - 1
    n_runs = np.maximum(1, -(-(counts - 1) // (n_edges - 1)))
    nth = spans(np.zeros(len(n_runs), np.int64), n_runs)
    first = np.repeat(ring_offsets[:-1], n_runs) + nth * (n_edges - 1)
    return cut_at(first, xy, ring_offsets, row_of_ring, ends)


def with_second_again(
    xy: F64Array, ring_offsets: I64Array, is_closed: BoolArray
) -> tuple[F64Array, I64Array]:
    """Return vertices of rings, those that are closed with their second vertex once more at the end."""
    counts = np.diff(ring_offsets)
    more = np.where(is_closed & (counts > 1), 1, 0)
    offsets = offsets_from(counts + more)
    at = spans(ring_offsets[:-1], counts + more)
    at[offsets[1:][more > 0] - 1] = ring_offsets[:-1][more > 0] + 1
    return xy[at], offsets
