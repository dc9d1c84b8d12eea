"""Snap rounding: edges cut where they meet, all on the grid, in one pass.

After Hobby (1999), "Practical segment intersection with finite precision output", and Guibas and
Marimont (1998), "Rounding arrangements dynamically". The pixel of a grid point is *hot* if the
point is an end of an edge or the rounded crossing of two. Each edge is led through the centres of
all hot pixels it passes. The theorem: the result is fully noded, in one pass; nothing is iterated.
"""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import (
    NONE,
    BoolArray,
    Distinct,
    I32Array,
    I64Array,
    IntArray,
    bucket,
    distinct_pairs,
    spans,
)
from polygene.classes import NamedTuple
from polygene.plane.cuts import Cut, find_cuts


class Noded(NamedTuple):
    """Fully noded edges and how the given ones run over them.

    A given edge becomes a *line*, the same in one direction for all that are equal; a line runs
    over one or more noded edges, its *steps*. Lines and noded edges go from their
    lexicographically smaller end (``low``) to the larger (``high``).

    node_x, node_y : (n_nodes,) grid integers
    node_of_vertex : (n_vertices,) the node of each given vertex
    low, high : (n_edges,) nodes of the noded edges
    line_of_given : (n_given,) NONE for an edge of no length
    is_given_reversed : (n_given,) whether it runs against its line
    step_offsets : (n_lines + 1,) steps of each line, in order
    step_edge : (n_steps,) the noded edge
    is_step_reversed : (n_steps,) whether the noded edge runs against its line
    stays : (n_nodes,) nodes that must stay on the grid
    is_crowded : (n_lines,) lines that pass a node within two units without meeting it
    is_passed : (n_nodes,) nodes inside some line that no other line misses by less than two units
    """

    node_x: I64Array
    node_y: I64Array
    node_of_vertex: I32Array
    low: I64Array
    high: I64Array
    line_of_given: I32Array
    is_given_reversed: BoolArray
    step_offsets: I64Array
    step_edge: I32Array
    is_step_reversed: BoolArray
    stays: BoolArray
    is_crowded: BoolArray
    is_passed: BoolArray

    def edges_over(self, given: I64Array) -> tuple[I32Array, I64Array]:
        """Return the noded edges that given ones (n,) run over, and for each which of these does.

        Those of no length run over none. A noded edge comes as often as given ones run over it.
        """
        line = self.line_of_given[given]
        given, line = given[line != NONE], line[line != NONE]
        counts = np.diff(self.step_offsets)[line]
        return self.step_edge[spans(self.step_offsets[line], counts)], np.repeat(given, counts)


def node_edges(
    x: I64Array, y: I64Array, start: IntArray, stop: IntArray, is_border: BoolArray
) -> Noded:
    """Node a set of edges.

    Parameters
    ----------
    x, y : (n_vertices,) int64
        Grid integers, 0 <= x < 2**41. Vertices of no edge are hot pixels too.
    start, stop : (n_given,)
        Vertices at the ends of each edge.
    is_border : (n_given,) bool
        Edges that bound areas. Two others (of lines) do not cut each other.
    """
    # Equal places are one node from here on, so that shared borders are found by number. What there is
    # one of for each edge is kept small, and given up as soon as it is not needed.
    node_of_vertex, node_x, node_y = distinct_pairs(x, y)
    n_given = len(start)
    start, stop = start.astype(np.int32, copy=False), stop.astype(np.int32, copy=False)
    low, high, is_reversed = _ordered(node_x, node_y, start, stop, node_of_vertex)
    del x, y, start, stop
    # Vertices that fall on one grid point leave an edge of no length, which bounds nothing.
    has_length = low != high
    # Edges that are equal, whichever way they run and whosever they are, become one line: a coverage
    # has each inner border twice, and this halves all that follows.
    if has_length.all():
        line_of_given, low, high = distinct_pairs(low, high)
    else:
        real = np.flatnonzero(has_length)
        lines, low, high = distinct_pairs(low[real], high[real])
        line_of_given = np.full(n_given, NONE, np.int32)
        line_of_given[real] = lines
        del lines
    # A line is a border if any of the edges that became it is.
    is_line_border = np.ones(len(low), bool)
    if not is_border.all():
        is_line_border[:] = False
        is_line_border[line_of_given[is_border & has_length]] = True

    if len(low) == 0:
        nothing = np.zeros(0, np.int64)
        # All on one point: nothing to find, and the kernels want one edge at least.
        untouched = np.zeros(len(node_x), bool)
        cut = Cut(
            node_x=node_x,
            node_y=node_y,
            line=nothing,
            node=nothing,
            stays=untouched,
            is_crowded=np.zeros(0, bool),
            is_missed=untouched,
        )
    else:
        cut = find_cuts(node_x, node_y, low, high, is_line_border)
    edge_low, edge_high, step_offsets, step_edge, is_against = _lead_through(cut, low, high)
    # Nodes that some line runs through; if another misses one by less than two units, straightening
    # the line there could make the two cross, so it is not counted.
    is_passed = np.zeros(len(cut.node_x), bool)
    is_passed[cut.node] = True
    is_passed &= ~cut.is_missed
    return Noded(
        node_x=cut.node_x,
        node_y=cut.node_y,
        node_of_vertex=node_of_vertex,
        low=edge_low,
        high=edge_high,
        line_of_given=line_of_given,
        is_given_reversed=is_reversed,
        step_offsets=step_offsets,
        step_edge=step_edge,
        is_step_reversed=is_against,
        stays=cut.stays,
        is_crowded=cut.is_crowded,
        is_passed=is_passed,
    )


def _ordered(
    node_x: I64Array, node_y: I64Array, start: I32Array, stop: I32Array, node_of: I32Array
) -> tuple[I64Array, I64Array, BoolArray]:
    """Return the lexicographically smaller and larger end of edges, and which are turned by that.

    Edges run between vertices, on the nodes ``node_of``.
    """
    # Filled in slices by threads; lexicographic, so that a line has one direction for all.
    low, high = np.empty((2, len(start)), np.int64)
    is_reversed = np.empty(len(start), np.uint8)

    def order(first: int, last: int) -> None:
        part = slice(first, last)
        kernels.run(
            kernels.vertices.order_ends,
            node_x,
            node_y,
            node_of,
            start[part],
            stop[part],
            low[part],
            high[part],
            is_reversed[part],
        )

    parallel.each(order, parallel.split(len(start)))
    return low, high, is_reversed.view(bool)


def _lead_through(
    cut: Cut, low: I64Array, high: I64Array
) -> tuple[I64Array, I64Array, I64Array, I32Array, BoolArray]:
    """Lead each line through its nodes: noded edges (low, high), step offsets, edges, reversals."""
    n_lines = len(low)
    if len(cut.line) == 0:
        # Nothing meets: each line is one step, and the arrays are the given ones.
        steps = np.arange(n_lines + 1, dtype=np.int64)
        return low, high, steps, np.arange(n_lines, dtype=np.int32), np.zeros(n_lines, bool)
    node_x, node_y = cut.node_x, cut.node_y
    # The path of an edge through its pixels is monotone in x and y (Guibas and Marimont).
    along = np.abs(node_x[cut.node] - node_x[low[cut.line]]) + np.abs(
        node_y[cut.node] - node_y[low[cut.line]]
    )
    # (n_passed,) pairs by line, then by how far along it
    passed = bucket(cut.line, n_lines)
    # No line passes two nodes at one place along it, so the order is one.
    parallel.each(
        lambda first, stop: kernels.run(
            kernels.pairs.sort_groups, along, passed.offsets[first : stop + 1], passed.order
        ),
        parallel.parted(passed.offsets),
    )
    # A line with k nodes inside has k + 1 steps.
    step_offsets = passed.offsets + np.arange(n_lines + 1)
    n_steps = int(step_offsets[-1])
    step_low, step_high = np.empty(n_steps, np.int64), np.empty(n_steps, np.int64)
    is_step_reversed = np.empty(n_steps, np.uint8)
    parallel.each(
        lambda first, stop: kernels.run(
            kernels.vertices.lay_steps,
            first,
            stop,
            node_x,
            node_y,
            low,
            high,
            *passed,
            cut.node,
            step_low,
            step_high,
            is_step_reversed,
        ),
        parallel.parted(step_offsets),
    )
    # Two lines may share a step after rounding: they run over one noded edge.
    edges = _numbered_by_node(step_low, step_high, len(node_x))
    return edges.first, edges.second, step_offsets, edges.numbers, is_step_reversed.view(bool)


def _numbered_by_node(low: I64Array, high: I64Array, n_nodes: int) -> Distinct:
    """Number the distinct edges in the order of their lower nodes, then of their higher.

    Crossings are numbered cell by cell; so edges that lie near each other are near in memory, however
    long the lines are that they come from.
    """
    # A counting sort by lower node, then a small sort for each: linear, and stable for equal edges.
    leaving = bucket(low, n_nodes)
    parallel.each(
        lambda first, stop: kernels.run(
            kernels.pairs.sort_groups, high, leaving.offsets[first : stop + 1], leaving.order
        ),
        parallel.parted(leaving.offsets),
    )
    numbers, found = np.empty(len(low), np.int32), np.empty((2, len(low)), np.int64)
    n = kernels.run(kernels.pairs.number_runs, leaving.order, low, high, numbers, *found)
    return Distinct(numbers, found[0, :n].copy(), found[1, :n].copy())
