"""Where edges meet: crossings, rounded to the grid, and the hot pixels that they pass: see `noding`."""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import (
    NONE,
    BoolArray,
    Buckets,
    I64Array,
    distinct_pairs,
    offsets_from,
    places_among,
    take_spans,
)
from polygene.classes import NamedTuple
from polygene.plane.cells import (
    BUNDLE,
    Cells,
    build_cells,
    cells_of_points,
    edges_between,
    points_in_cells,
)


class Cut(NamedTuple):
    """Where lines meet nodes inside themselves: pairs (line, node), each once, unordered."""

    node_x: I64Array
    node_y: I64Array
    line: I64Array
    node: I64Array
    stays: BoolArray
    is_crowded: BoolArray
    is_missed: BoolArray


def find_cuts(
    node_x: I64Array, node_y: I64Array, low: I64Array, high: I64Array, is_border: BoolArray
) -> Cut:
    """Find the crossings of lines, and the nodes and crossings whose pixels they pass."""
    # (n_lines, 4): the coordinates side by side, since every pair that is compared needs them
    ends = edges_between(node_x, node_y, low, high)
    # All pairs that can meet share a cell; the cells of the finest box over a place are the leaves.
    cells = build_cells(ends)
    is_border_u8 = is_border.astype(np.uint8)
    crossings = _crossings(cells, ends, is_border_u8)
    lone = _without_edges(len(node_x), low, high)
    # Hobby's hot pixels: the ends of all lines, and all crossings rounded to the grid.
    node_x, node_y, on_border = _with_crossings(node_x, node_y, crossings.x, crossings.y)
    n_nodes = len(node_x)
    leaves = _busy_leaves(cells, crossings.is_quiet, node_x[lone], node_y[lone])
    search = _Search(
        cells=cells,
        leaves=leaves,
        grouped=_nodes_in(cells, leaves, node_x, node_y, (low, high), (lone, on_border)),
        nodes=(node_x, node_y),
        ends=ends,
        of_line=(low, high),
        is_border=is_border_u8,
        is_border_node=np.zeros(n_nodes, np.uint8),
        stays=np.zeros(n_nodes, np.uint8),
        is_crowded=np.zeros(len(low), np.uint8),
        is_missed=np.zeros(n_nodes, np.uint8),
    )
    # A crossing has no vertex to go home to; it stays on the grid.
    search.stays[on_border] = 1
    line, node = search.passed()
    if not is_border.all():
        # What bounds nothing heeds only nodes on borders; which those are is known by now.
        search.is_border_node[node] = 1
        search.is_border_node[low[is_border]] = search.is_border_node[high[is_border]] = 1
        search.is_border_node[on_border] = 1
        line, node = search.passed()
    marks = (search.stays, search.is_crowded, search.is_missed)
    return Cut(node_x, node_y, line, node, *(mark.astype(bool) for mark in marks))


def _with_crossings(
    node_x: I64Array, node_y: I64Array, cross_x: I64Array, cross_y: I64Array
) -> tuple[I64Array, I64Array, I64Array]:
    """Add crossings to the nodes, each place once; return also which nodes they are.

    The nodes are distinct and come first, so they keep their numbers.
    """
    if len(cross_x) == 0:
        return node_x, node_y, np.zeros(0, np.int64)
    # Many crossings round to one point, or to a vertex; there are far fewer of them than of nodes.
    _, cross_x, cross_y = distinct_pairs(cross_x, cross_y)
    node = places_among(node_x, node_y, cross_x, cross_y)
    is_new = node == NONE
    found_x = np.concatenate([node_x, cross_x[is_new]])
    found_y = np.concatenate([node_y, cross_y[is_new]])
    on_border = np.append(np.sort(node[~is_new]), np.arange(len(node_x), len(found_x)))
    return found_x, found_y, on_border


def _without_edges(n_nodes: int, low: I64Array, high: I64Array) -> I64Array:
    """Return the nodes that are no end of an edge: of points, and of edges that have no length."""
    has_edge = np.zeros(n_nodes, bool)

    def mark(first: int, stop: int) -> None:
        has_edge[low[first:stop]] = True
        has_edge[high[first:stop]] = True

    parallel.each(mark, parallel.split(len(low)))
    return np.flatnonzero(~has_edge)


def _busy_leaves(cells: Cells, is_quiet: BoolArray, x: I64Array, y: I64Array) -> I64Array:
    """Return the leaves in which edges may pass pixels of nodes.

    Where that is so an edge passes a node that is none of its ends. The node lies in one leaf, and all
    edges that come near it are among those of that leaf. If it is an end of one, or a crossing of two,
    that leaf is not quiet; of the others (n,) the places are given.
    """
    is_busy = np.zeros(len(cells.box_of_cell), bool)
    is_busy[cells.leaves[~is_quiet]] = True
    own = cells_of_points(cells, x, y)
    is_busy[own[own != NONE]] = True
    return cells.leaves[is_busy[cells.leaves]]


def _nodes_in(
    cells: Cells,
    leaves: I64Array,
    x: I64Array,
    y: I64Array,
    of_line: tuple[I64Array, I64Array],
    others: tuple[I64Array, ...],
) -> Buckets:
    """Group the nodes that lie in some leaves by their cells: ends of edges, and ``others``."""
    if 2 * len(leaves) > len(cells.leaves):
        return points_in_cells(cells, x, y)
    # Most lie in leaves that nobody looks at.
    counts = np.diff(cells.offsets)[leaves]
    lines = take_spans(cells.entries, cells.offsets[leaves], counts)
    is_asked = np.zeros(len(x), bool)
    for nodes in (*(ends[lines] for ends in of_line), *others):
        is_asked[nodes] = True
    asked = np.flatnonzero(is_asked)
    grouped = points_in_cells(cells, x[asked], y[asked])
    return Buckets(grouped.offsets, asked[grouped.order])


class _Search(NamedTuple):
    """All that `kernels.pixels.find_pixels` is given; the marks of nodes and edges it sets.

    leaves : those of the cells in which there may be any
    grouped : the nodes by the cells they lie in; low, high : the nodes at the ends of each line
    """

    cells: Cells
    leaves: I64Array
    grouped: Buckets
    nodes: tuple[I64Array, I64Array]
    ends: I64Array
    of_line: tuple[I64Array, I64Array]
    is_border: np.ndarray
    is_border_node: np.ndarray
    stays: np.ndarray
    is_crowded: np.ndarray
    is_missed: np.ndarray

    def passed(self) -> tuple[I64Array, I64Array]:
        """Return pairs (n_pairs,) of a line and a node whose pixel it passes."""
        # Work is parted by the entries of cells, not by cells: these are very unequal.
        counts = np.diff(self.cells.offsets)[self.leaves]
        found = parallel.each(self._look, parallel.parted(offsets_from(counts)))
        return np.concatenate([x for x, _ in found]), np.concatenate([y for _, y in found])

    def _look(self, first: int, stop: int) -> tuple[I64Array, I64Array]:
        """Look at some leaves. Marks are only ever set, so threads may share them."""
        cells, leaves = self.cells, self.leaves[first:stop]
        counts = np.diff(cells.offsets)[leaves]
        # A guess; where there are more pairs it is done again with room for all.
        room = max(1024, int(counts.sum()) // 2)
        busiest = int(np.diff(self.grouped.offsets)[leaves].max(initial=1))
        # Work space for one cell at a time, as large as the fullest of these.
        ranges = np.empty((int(counts.max(initial=1)), 4))
        places, keys = np.empty((busiest, 4)), np.empty((2, busiest))
        order = np.empty((2, busiest), np.int64)
        while True:
            line, node = np.empty(room, np.int64), np.empty(room, np.int64)
            n_found = kernels.run(
                kernels.pixels.find_pixels,
                cells.boxes,
                leaves,
                cells.offsets,
                cells.entries,
                self.grouped.offsets,
                self.grouped.order,
                *self.nodes,
                self.ends,
                *self.of_line,
                self.is_border,
                self.is_border_node,
                BUNDLE,
                ranges,
                places,
                keys,
                order,
                np.empty(4),
                np.empty(4),
                line,
                node,
                self.stays,
                self.is_crowded,
                self.is_missed,
            )
            if n_found <= room:
                return line[:n_found], node[:n_found]
            room = n_found


def cuts_left(node_x: I64Array, node_y: I64Array, low: I64Array, high: I64Array) -> int:
    """Return how many crossings, and nodes exactly on edges, border edges (n,) have: 0 once noded.

    An edge may still pass through the pixel of a node that is not its own, beside the node: snap
    rounding promises no more (Halperin and Packer 2002), and nothing else is needed here.
    """
    if len(low) == 0:
        return 0
    # The proof looks with the same search: a fault of the search itself is for the random tests.
    ends = edges_between(node_x, node_y, low, high)
    is_border = np.ones(len(low), np.uint8)
    crossings = _crossings(build_cells(ends), ends, is_border).x
    if len(crossings):
        return len(crossings)
    # Pixels that are passed are allowed; nodes that lie exactly on an edge are not.
    cut = find_cuts(node_x, node_y, low, high, is_border > 0)
    # Python's own integers: products of grid units need 86 bits.
    ax, ay, bx, by = (column[cut.line].astype(object) for column in ends.T)
    px, py = cut.node_x[cut.node].astype(object), cut.node_y[cut.node].astype(object)
    return int(((bx - ax) * (py - ay) == (by - ay) * (px - ax)).sum())


class _Crossings(NamedTuple):
    """The grid points of all proper crossings, with repeats, and what else was seen on the way.

    is_quiet : (n_leaves,) bool, leaves in which nothing crosses and no end comes near another edge
    """

    x: I64Array
    y: I64Array
    is_quiet: BoolArray


def _crossings(cells: Cells, ends: I64Array, is_border: np.ndarray) -> _Crossings:
    counts = np.diff(cells.offsets)[cells.leaves]
    is_quiet = np.zeros(len(cells.leaves), np.uint8)

    def cross(first: int, stop: int) -> tuple[I64Array, I64Array]:
        # Edges of a cell are copied side by side, so that a pair costs no wait for memory.
        fullest = int(counts[first:stop].max(initial=1))
        side_by_side, order = np.empty((fullest, 7)), np.empty((1, fullest), np.int64)
        ranges, keys = np.empty((fullest, 4)), np.empty((1, fullest))
        # A guess; where there are more crossings it is done again with room for all.
        room = max(1 << 16, int(counts[first:stop].sum()) // 4)
        while True:
            out_x, out_y = np.empty(room, np.int64), np.empty(room, np.int64)
            n_found = kernels.run(
                kernels.crossings.cross_edges,
                cells.boxes,
                cells.leaves[first:stop],
                cells.offsets,
                cells.entries,
                ends,
                is_border,
                BUNDLE,
                side_by_side,
                ranges,
                keys,
                order,
                np.empty(4),
                np.empty(4),
                out_x,
                out_y,
                is_quiet[first:stop],
            )
            if n_found <= room:
                return out_x[:n_found], out_y[:n_found]
            room = n_found

    found = parallel.each(cross, parallel.parted(offsets_from(counts)))
    x, y = (np.concatenate(places) for places in zip(*found, strict=True))
    return _Crossings(x, y, is_quiet.view(bool))
