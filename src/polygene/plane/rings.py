"""Chosen faces to polygons: rings that are simple, nested and turned as the standard wants."""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I32Array,
    I64Array,
    bucket,
    count_by,
    offsets_from,
    spans,
    take_spans,
)
from polygene.classes import NamedTuple
from polygene.geometry import Family, GeometryColumn
from polygene.plane import selfcheck
from polygene.plane.arrangement import Arrangement


class Pieces(NamedTuple):
    """Which faces make up which output row.

    Face f belongs to the pieces ``piece[offsets[f]:offsets[f + 1]]``, in rising order; offsets are
    (n_faces + 1,).
    """

    offsets: I64Array
    piece: I64Array
    n_pieces: int

    @staticmethod
    def of_sorted(face: I64Array, piece: I64Array, n_faces: int, n_pieces: int) -> Pieces:
        """Take pairs of face and piece (n_pairs,), each once, sorted by face and then piece."""
        return Pieces(offsets_from(np.bincount(face, minlength=n_faces)), piece, n_pieces)


class Rings(NamedTuple):
    """Rings of all pieces, ordered by piece and part, the outer ring first.

    halfedge : (n_items,) those of ring r are ``halfedge[offsets[r]:offsets[r + 1]]``; each ring
        starts at its lexicographically smallest node
    piece, part : (n_rings,) parts are numbered through all pieces
    is_hole : (n_rings,)
    """

    halfedge: I32Array
    offsets: I64Array
    piece: I64Array
    part: I64Array
    is_hole: BoolArray


def trace_rings(arrangement: Arrangement, pieces: Pieces) -> Rings:
    """Trace the borders of pieces.

    A part is what hangs together through edges, so its inside is connected as the Simple Features
    standard (OGC 06-103r4, 6.1.11) demands; where its border touches itself in a point, a ring is
    cut off and becomes a hole. Holes belong to the part that they border: no search.
    """
    # What the walk takes is given up when it is done, before rings are copied in their order.
    rings = _ordered(arrangement, *_walked(arrangement, pieces))
    if selfcheck.is_on():
        selfcheck.check_rings(arrangement, rings)
    return rings


def _walked(
    arrangement: Arrangement, pieces: Pieces
) -> tuple[I32Array, I64Array, I64Array, I64Array, BoolArray]:
    """Walk the borders of pieces.

    Returns
    -------
    (n_items,) half-edges of rings, (n_rings + 1,) where each begins, and for each ring its piece, the
    root of its part, and whether it is a hole.
    """
    borders = _linked(arrangement, pieces)
    # Borders are walked as closed curves that may pass a node twice; cut there, they are simple
    # rings.
    halfedge, offsets, first, is_hole = _split(arrangement, borders, pieces.piece)
    entry = borders.entry[first]
    return halfedge, offsets, pieces.piece[entry], borders.root_of_entry[entry], is_hole


class _Linked(NamedTuple):
    """Borders of pieces as they hang together.

    An *item* is a half-edge on the border of one piece, with the piece to its left. A half-edge between
    two pieces is an item of one, its twin of the other; where pieces overlap it may be several. An
    *entry* is a face and a piece it is of, as `Pieces` lists them.

    halfedge, entry, following : (n_items,) of each item its half-edge, the entry it is of, and the item
        that comes next on the border
    root_of_entry : (n_entries,) the same for all that hangs together: a part
    shares : ranges of pieces, one for each thread, and how many items those of each have
    """

    halfedge: I32Array
    entry: I32Array
    following: I32Array
    root_of_entry: I64Array
    shares: list[tuple[int, int, int]]


def _linked(arrangement: Arrangement, pieces: Pieces) -> _Linked:
    n_halfedges = len(arrangement.origin)
    # A forest over entries: what is of one piece on both sides of an edge hangs together, and that is
    # what a part is.
    parent = np.arange(max(1, len(pieces.piece)))
    counts = np.zeros(n_halfedges + 1, np.int32)
    find = kernels.trace.find_borders
    entries = (arrangement.face_of_halfedge, pieces.offsets, pieces.piece)
    n_edges = n_halfedges // 2
    # First counted by half-edge, and the forest joined on the way; joining cannot be shared by
    # threads.
    none = np.zeros(1, np.int32)
    kernels.run(find, 0, n_edges, *entries, 0, counts, none, none, none, parent)
    n_items = int(counts.sum(dtype=np.int64))
    assert max(n_items, len(pieces.piece)) < 1 << 31, "more borders of pieces than can be numbered"
    # (2 n_edges + 1,): the kernel counts one further on, so this is the offsets already.
    item_offsets = np.cumsum(counts, out=counts)
    item_entry, item_halfedge, item_piece = (np.empty(n_items, np.int32) for _ in range(3))
    items = (item_offsets, item_entry, item_halfedge, item_piece)
    parallel.each(
        lambda first, stop: kernels.run(find, first, stop, *entries, 1, *items, parent),
        parallel.split(n_edges),
    )
    nothing = np.zeros(0, np.int64)
    # Path compression for all at once: parent becomes the root of each entry.
    kernels.run(kernels.pairs.join_roots, nothing, nothing, parent)
    next_item = np.empty(n_items, np.int32)
    parallel.each(
        lambda first, stop: kernels.run(
            kernels.trace.link_borders,
            first,
            stop,
            arrangement.following,
            item_offsets,
            item_halfedge,
            item_piece,
            next_item,
        ),
        parallel.split(n_items),
    )
    shares = _shares(item_piece, pieces.n_pieces)
    return _Linked(item_halfedge, item_entry, next_item, parent, shares)


def _shares(item_piece: I32Array, n_pieces: int) -> list[tuple[int, int, int]]:
    """Part pieces into ranges, one for each thread if there are many items: first, stop, items."""
    n = min(len(parallel.split(len(item_piece))), max(1, n_pieces))
    cuts = [n_pieces * k // n for k in range(n + 1)]
    before = [int(np.count_nonzero(item_piece < cut)) for cut in cuts[1:-1]]
    counts = np.diff([0, *before, len(item_piece)]).tolist()
    return list(zip(cuts[:-1], cuts[1:], counts, strict=True))


def _split(
    arrangement: Arrangement, borders: _Linked, piece_of_entry: I64Array
) -> tuple[I32Array, I64Array, I32Array, BoolArray]:
    """Return the half-edges of rings, where each begins, its first item, and whether it is a hole."""
    n_items = len(borders.halfedge)
    halfedges, is_done = np.empty(n_items, np.int32), np.zeros(n_items, np.uint8)
    begins = offsets_from([n for _, _, n in borders.shares])

    def walk(k: int) -> tuple[I64Array, I32Array, BoolArray]:
        first_piece, last_piece, n = borders.shares[k]
        # Room for the worst case, cut to size below; the stack and the place of each node are work
        # space.
        offsets = np.zeros(n // 3 + 2, np.int64)  # a ring has three edges at least
        first, is_hole = np.zeros(n // 3 + 1, np.int32), np.zeros(n // 3 + 1, np.uint8)
        n_rings = kernels.run(
            kernels.trace.split_rings,
            borders.following,
            borders.halfedge,
            borders.entry,
            piece_of_entry,
            first_piece,
            last_piece,
            arrangement.origin,
            arrangement.node_x,
            arrangement.node_y,
            is_done,
            np.full(len(arrangement.node_x), NONE, np.int32),
            np.empty(n, np.int32),
            halfedges[begins[k] : begins[k + 1]],
            offsets,
            first,
            is_hole,
        )
        return (
            begins[k] + offsets[:n_rings],
            first[:n_rings].copy(),
            is_hole[:n_rings].astype(bool),
        )

    found = parallel.each_of(walk, range(len(borders.shares)))
    offsets, first, is_hole = (np.concatenate(parts) for parts in zip(*found, strict=True))
    return halfedges, np.append(offsets, n_items), first, is_hole


def _ordered(
    arrangement: Arrangement,
    halfedge: I32Array,
    offsets: I64Array,
    piece: I64Array,
    root: I64Array,
    is_hole: BoolArray,
) -> Rings:
    """Order rings by piece, part (by its lowest left node) and role, whatever the input's order."""
    # The order rests on coordinates only, so it is the same whichever row or layer came first.
    outer = np.flatnonzero(~is_hole)
    places = _Places(arrangement, halfedge, offsets)
    outer = _by_place(outer, piece, places)
    # A part is known by its root; its number is the rank of its outer ring.
    part_of_root = np.full(int(root.max(initial=0)) + 1, NONE, np.int64)
    part_of_root[root[outer]] = np.arange(len(outer))
    part = part_of_root[root]
    assert (part != NONE).all(), "a part has an outer ring"
    assert (count_by(part[outer], len(outer)) == 1).all(), "a part has one outer ring"
    # Holes go by part, and within one by place.
    holes = np.flatnonzero(is_hole)
    holes = holes[places.order(holes, part[holes])]
    # An outer ring comes after those of earlier parts and their holes; its holes follow it.
    n_holes = count_by(part[holes], len(outer))
    starts = offsets_from(n_holes + 1)[:-1]
    order = np.empty(len(offsets) - 1, np.int64)
    order[starts] = outer
    order[spans(starts + 1, n_holes)] = holes
    counts = np.diff(offsets)[order]
    return Rings(
        take_spans(halfedge, offsets[order], counts),
        offsets_from(counts),
        piece[order],
        part[order],
        is_hole[order],
    )


class _Places(NamedTuple):
    """Where rings begin."""

    arrangement: Arrangement
    halfedge: I32Array
    offsets: I64Array

    def order(self, rings: I64Array, group: I64Array) -> I64Array:
        """Return the order of rings (n,) by group (n,), then by their first vertex, then the second.

        Rings of a group may touch in their first; no two run over one half-edge.
        """
        keys = (*self._keys(rings, 0), group)
        order = np.lexsort(keys)
        is_tied = np.ones(max(0, len(rings) - 1), bool)
        for key in keys:
            is_tied &= np.diff(key[order]) == 0
        return np.lexsort((*self._keys(rings, 1), *keys)) if is_tied.any() else order

    def _keys(self, rings: I64Array, k: int) -> tuple[I64Array, I64Array]:
        """Return y and x of vertex k of rings."""
        node = self.arrangement.origin[self.halfedge[self.offsets[rings] + k]]
        return self.arrangement.node_y[node], self.arrangement.node_x[node]


def _by_place(rings: I64Array, piece: I64Array, places: _Places) -> I64Array:
    """Sort rings by piece, then by place; most are the only one of their piece."""
    # A counting sort by piece comes first: most rings are the only one of theirs, and places are
    # compared where they are not.
    grouped = bucket(piece[rings], int(piece.max(initial=-1)) + 1)
    order = rings[grouped.order]
    # Only rings that share a piece are put in order among each other.
    several = np.flatnonzero(np.diff(grouped.offsets)[piece[order]] > 1)
    some = order[several]
    order[several] = some[places.order(some, piece[some])]
    return order


def rings_to_column(
    arrangement: Arrangement, rings: Rings, keeps: BoolArray, node_xy: F64Array, n_pieces: int
) -> tuple[GeometryColumn, I32Array]:
    """Write rings out as a polygon column of ``n_pieces`` rows, each ring closed.

    Returns also the (n_vertices,) node of each vertex.
    """
    # Rings come open from the tracing; the format wants the first vertex again at the end.
    n_kept = np.add.reduceat(keeps.view(np.uint8), rings.offsets[:-1], dtype=np.int64)
    assert (n_kept > 0).all(), "a ring keeps nodes"
    offsets = offsets_from(n_kept + 1)
    node, xy = np.empty(offsets[-1], np.int32), np.empty((offsets[-1], 2))
    node_xy = np.ascontiguousarray(node_xy)

    def close(first: int, stop: int) -> None:
        kernels.run(
            kernels.vertices.close_rings,
            first,
            stop,
            rings.offsets,
            rings.halfedge,
            arrangement.origin,
            keeps.view(np.uint8),
            node_xy,
            offsets,
            node,
            xy,
        )

    parallel.each(close, parallel.parted(offsets))
    # Every part has its outer ring, so no count is 0 and parts need no renumbering.
    part_counts = np.bincount(rings.part)
    part_offsets = offsets_from(part_counts)
    column = GeometryColumn.from_parts(
        Family.POLYGONS,
        xy,
        offsets,
        part_offsets,
        rings.piece[part_offsets[:-1]],
        n_pieces,
    )
    return column, node
