"""What is held against twins: calls of kernels, and what is read out of them."""

from __future__ import annotations

import ast
import inspect
from pathlib import Path

import numpy as np

from polygene import kernels
from polygene.kernels import plain

MOST = 90  # edges, nodes and the like of a call that is compared all with all


SCALE = 1 << 60  # sums are two words


def listed(value):
    return value.tolist() if isinstance(value, np.ndarray) else value


def words(high, low):
    return [h * SCALE + v for h, v in zip(listed(high), listed(low), strict=True)]


def grouped(offsets, values):
    return [[values[k] for k in span] for span in plain.spans(offsets)]


class Call:
    """A call of a kernel: its arguments by name, as they were and as they are, and what it returned."""

    def __init__(self, kernel, arguments):
        names = (
            list(inspect.signature(kernel).parameters)
            if not kernels.IS_COMPILED
            else NAMES[kernel.__name__]
        )
        self.was = {
            n: listed(a.copy() if isinstance(a, np.ndarray) else a)
            for n, a in zip(names, arguments, strict=True)
        }
        self.given = dict(zip(names, arguments, strict=True))

    def __getattr__(self, name):
        return self.was[name]

    def now(self, name, n=None):
        return listed(self.given[name][:n])


def names_of():
    """Return the parameters of all public kernels, from their sources: compiled ones do not tell."""
    found = {}
    for path in Path(kernels.__file__).parent.glob("[!_]*.py"):
        for node in ast.parse(path.read_text()).body:
            if (
                isinstance(node, ast.FunctionDef)
                and not node.name.startswith("_")
                and "cfunc" not in ast.dump(node)
            ):
                found[node.name] = [a.arg for a in node.args.args]
    return found


NAMES = names_of()


def in_cells(c):
    """Return the edges that a search of cells can see: all those entered anywhere."""
    return sorted(set(c.cell_entries))


def deltas_of(c):
    """Return the parts that each edge bounds, with their signs."""
    both = (grouped(c.delta_offsets, values) for values in (c.delta_part, c.delta_sign))
    return [list(zip(*of_edge, strict=True)) for of_edge in zip(*both, strict=True)]


def way_of(c, h):
    a, b = c.origin[h], c.origin[h ^ 1]
    return c.node_x[b] - c.node_x[a], c.node_y[b] - c.node_y[a]


def faces_of(ends):
    """Return the face of each half-edge, 0 for the outside, found by plain twins alone."""
    nodes = {xy: k for k, xy in enumerate(sorted({(e[k], e[k + 1]) for e in ends for k in (0, 2)}))}
    origin = [nodes[tuple(e[k : k + 2])] for e in ends for k in (0, 2)]
    places = list(nodes)
    way = [
        (places[b][0] - places[a][0], places[b][1] - places[a][1])
        for a, b in ((origin[h], origin[h ^ 1]) for h in range(len(origin)))
    ]
    leaving = sorted(range(len(origin)), key=origin.__getitem__)
    offsets = np.searchsorted([origin[h] for h in leaving], np.arange(len(nodes) + 1)).tolist()
    following = plain.link_around(offsets, plain.sort_around(offsets, leaving, way))
    cycle_of, first = plain.trace_cycles([following[h] for h in range(len(origin))])
    # A cycle that runs round its outside is of the face that its leftmost node sees to its left.
    left, right = [], []
    for cycle in range(len(first)):
        own = [h for h, n in enumerate(cycle_of) if n == cycle]
        nodes_of = [origin[h] for h in own]
        if _area([places[v] for v in _walk(own[0], following, origin)]) <= 0:
            x, y = min(places[v] for v in nodes_of)
            (seen,) = plain.locate_points([(2 * x, 2 * y)], ends)
            left.append(cycle + 1)
            right.append(0 if seen < 0 else cycle_of[seen] + 1)
    root = plain.join_roots(left, right, len(first) + 1)
    return [root[n + 1] for n in cycle_of]


def _walk(h, following, origin):
    start, walk = h, []
    while not walk or h != start:
        walk.append(origin[h])
        h = following[h]
    return walk


def _area(ring):
    return sum(a[0] * b[1] - a[1] * b[0] for a, b in zip(ring, [*ring[1:], ring[0]], strict=True))


def rings_of(c):
    """Return the rings of each row, as ranges of vertices."""
    rings = list(plain.spans(c.ring_offsets))
    return [[rings[k] for k in row] for row in plain.spans(c.rings_of_rows)]
