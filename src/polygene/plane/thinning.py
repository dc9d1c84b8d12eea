"""Nodes that strangers left on straight borders, taken out again."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import (
    NONE,
    BoolArray,
    I32Array,
    I64Array,
    IntArray,
    count_by,
    number_pairs,
)
from polygene.plane.arrangement import Arrangement
from polygene.plane.noding import Noded
from polygene.plane.rings import Rings
from polygene.plane.turns import turns


def thinned(
    arrangement: Arrangement,
    noded: Noded,
    rings: Rings,
    rows_of_piece: I64Array,
    row_of_part: I64Array,
    layer_starts: I64Array | None = None,
) -> BoolArray:
    """Return which nodes of the rings to keep: all but those that strangers left behind.

    Where the straight border of a piece's row runs on through a node that only other rows gave it,
    the node is no vertex of the piece; nor is a node on a stranger's border where only other rows cross
    that. A node is dropped if both ring edges at it are steps of one line for each row that the piece
    is of and that has a border there, or of another line where none has; the piece passes the node
    once, no other line passes beside it, and the line has no other node near it: then straightening
    it by less than a unit meets nothing.

    Parameters
    ----------
    rows_of_piece : (n_pieces, k) the rows each piece is of, NONE for none
    row_of_part : (n_parts,) the row of each part of the deltas
    layer_starts : where the rows of each layer begin, of which a piece has one row or none each: it is
        bordered by these rows or by layers it has none of, and that other rows of the same layers run
        along there counts for nothing

    Returns
    -------
    (n_items,) bool
    """
    lines = straight_lines(arrangement, noded, rings, rows_of_piece, row_of_part, layer_starts)
    return kept_nodes(rings, lines, lambda items: ends_of_lines(noded, lines[items]))


def ends_of_lines(noded: Noded, line: IntArray) -> I64Array:
    """Return where lines begin and end, (n, 4) x, y, x, y in steps of the grid."""
    first, last = noded.step_offsets[line], noded.step_offsets[line + 1] - 1
    ends = []
    for step, is_end in ((first, False), (last, True)):
        edge = noded.step_edge[step]
        takes_high = noded.is_step_reversed[step] ^ is_end
        node = np.where(takes_high, noded.high[edge], noded.low[edge])
        ends += [noded.node_x[node], noded.node_y[node]]
    return np.column_stack(ends)


def kept_nodes(rings: Rings, line_at: IntArray, ends: Callable[[IntArray], I64Array]) -> BoolArray:
    """Return which nodes of rings to keep, if those may go that have a line: see `thinned`.

    ``ends`` gives the ends of the lines at items, (n, 4) x, y, x, y in steps of the grid.
    """
    keeps = np.ones(len(line_at), bool)
    goes = np.flatnonzero(line_at != NONE)
    ring_of = np.searchsorted(rings.offsets, goes, side="right") - 1
    before = _before(rings, goes, ring_of)
    # Nodes dropped one after the other must lie on one line: where edges of a grid unit or so belong
    # to several lines, each node may be straight and yet the ring turn. Lines that one straight line
    # goes through are one, or it would hang on the nodes between which of their ends stay.
    changes = np.flatnonzero((line_at[before] != NONE) & (line_at[goes] != line_at[before]))
    is_straight = np.ones(len(goes), bool)
    is_straight[changes] = _are_collinear(ends(before[changes]), ends(goes[changes]))
    goes, ring_of = goes[is_straight], ring_of[is_straight]
    # A sliver bent by a stranger's node alone would fall flat: it keeps what holds it open.
    is_flat = np.diff(rings.offsets) - count_by(ring_of, len(rings.piece)) < 3
    keeps[goes] = is_flat[ring_of]
    return keeps


def _are_collinear(lines: I64Array, others: I64Array) -> BoolArray:
    """Return whether one straight line goes through each line and another, (n, 4) each; exact."""
    # Steps of the grid are below 2**42, so exact as doubles.
    a, b = (lines[:, k : k + 2].astype(float) for k in (0, 2))
    c, d = (others[:, k : k + 2].astype(float) for k in (0, 2))
    return (turns(a, b, c) == 0) & (turns(a, b, d) == 0)


def _before(rings: Rings, items: IntArray, ring: IntArray) -> I64Array:
    """Return the item before each of (n,) items round its ring."""
    is_first = items == rings.offsets[ring]
    return np.where(is_first, rings.offsets[ring + 1], items) - 1


def straight_lines(
    arrangement: Arrangement,
    noded: Noded,
    rings: Rings,
    rows_of_piece: I64Array,
    row_of_part: I64Array,
    layer_starts: I64Array | None = None,
) -> I32Array:
    """Return for each item of the rings the line that runs straight through its node, if it may go.

    As `thinned` says; NONE for a node that stays.
    """
    # Nodes inside a line that nothing misses narrowly are the only ones that may go: is_passed says
    # so for each node of the noding.
    line_at = np.full(len(rings.halfedge), NONE, np.int32)
    if not noded.is_passed.any():
        return line_at
    item, ring = _at_marked_nodes(arrangement, rings, noded.is_passed)
    # (n_found,) asked: is there a line that runs straight through, for each row of the piece?
    line, node = np.empty((2, len(item)), np.int32)
    piece = np.empty(len(item), np.int64)

    def look(first: int, stop: int) -> None:
        here = slice(first, stop)
        before, after = (
            rings.halfedge[items] for items in (_before(rings, item[here], ring[here]), item[here])
        )
        node[here] = arrangement.origin[after]
        piece[here] = rings.piece[ring[here]]
        kernels.run(
            kernels.straight.find_straight,
            before >> 1,
            after >> 1,
            piece[here],
            rows_of_piece,
            arrangement.deltas.offsets,
            arrangement.deltas.part,
            arrangement.deltas.line,
            row_of_part,
            np.zeros(0, np.int64) if layer_starts is None else layer_starts,
            noded.is_crowded.view(np.uint8),
            noded.step_offsets,
            noded.step_edge,
            noded.low,
            noded.high,
            noded.node_x,
            noded.node_y,
            line[here],
        )

    parallel.each(look, parallel.split(len(item)))
    # Where a border touches itself in the node it is a corner of the ring, however straight each
    # side.
    drops = line != NONE
    asked = np.zeros(len(arrangement.node_x), bool)
    asked[node[drops]] = True
    wanted = np.flatnonzero(asked[node])
    numbers = number_pairs(piece[wanted], node[wanted]).numbers
    drops[wanted] &= np.bincount(numbers)[numbers] == 1
    line_at[item[drops]] = line[drops]
    return line_at


def _at_marked_nodes(
    arrangement: Arrangement, rings: Rings, is_marked: BoolArray
) -> tuple[I32Array, I32Array]:
    """Return the items of rings (n_found,) that begin in marked nodes, rising, and the ring of each."""

    def look(first: int, stop: int) -> tuple[I32Array, I32Array]:
        items, ring = np.empty((2, int(rings.offsets[stop] - rings.offsets[first])), np.int32)
        n_found = kernels.run(
            kernels.straight.list_passed,
            first,
            stop,
            rings.offsets,
            rings.halfedge,
            arrangement.origin,
            is_marked.view(np.uint8),
            items,
            ring,
        )
        return items[:n_found].copy(), ring[:n_found].copy()

    found = parallel.each(look, parallel.parted(rings.offsets))
    items, ring = zip(*found, strict=True)
    return np.concatenate(items), np.concatenate(ring)
