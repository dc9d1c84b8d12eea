"""What the Simple Features standard (OGC 06-103r4, 6.1.11) has against polygons; exact, on doubles.

Most rows have no two edges that meet but in the vertex between neighbours, and are settled by asking
where one vertex of each ring lies. Those that touch themselves are looked at ring by ring.
"""

from __future__ import annotations

import numpy as np

from polygene import kernels, parallel
from polygene.arrays import BoolArray, F64Array, I64Array, count_by, distinct, offsets_from, owners
from polygene.geometry import Family, GeometryColumn, located_in_rings
from polygene.measures import ring_areas
from polygene.plane.cells import BUNDLE, build_cells, edges_between
from polygene.plane.clean import Clean, Touches
from polygene.plane.clusters import rings_within
from polygene.plane.problems import LARGEST, Found, Problem, Problems
from polygene.plane.settling import places_apart
from polygene.plane.sound import in_doubt
from polygene.plane.touching import look_closely


def invalid_rows(column: GeometryColumn, asked: BoolArray | None = None) -> BoolArray:
    """Return (n_rows,) polygons that are invalid, among those ``asked`` if not all are."""
    invalid = np.zeros(column.n_rows, bool)
    found = problems_of(column, asked)
    # Wrong directions and repeats are told, and make nothing invalid: kinds are numbered so that
    # these come last.
    invalid[found.row[found.kind < Problem.WRONG_DIRECTION]] = True
    return invalid


def problems_of(column: GeometryColumn, asked: BoolArray | None = None) -> Problems:
    """Return all problems of polygons, by row and kind, each kind once a row at its first place.

    ``asked`` (n_rows,) are the rows to look at, all if it is not given.
    """
    assert column.family == Family.POLYGONS
    # The row by row test settles most rows; what follows costs far more and sees only the rest.
    doubtful, rows = in_doubt(column, asked)
    found = _problems_of_all(doubtful)
    return found._replace(row=rows[found.row])


def _problems_of_all(column: GeometryColumn) -> Problems:
    row_of_ring = owners(column.ring_offsets_of_rows)
    found = Found()
    is_bad = _look_at_rings(column, row_of_ring, found)
    clean = Clean.of(column, ~is_bad, row_of_ring)
    # Three looks, each at what the one before left open: edges that meet, rings that meet no other,
    # and last the few rows whose rings touch in points.
    touched, touches = _look_at_meetings(clean, found)
    within = rings_within(clean.xy, clean.offsets, clean.row)
    _look_at_nesting(clean, touched, within, found)
    look_closely(clean, touches, within, found)
    return found.sorted()


def _look_at_rings(column: GeometryColumn, row_of_ring: I64Array, found: Found) -> BoolArray:
    """Find what a ring alone tells; return which rows cannot be looked at further."""
    xy, offsets = column.xy, column.ring_offsets
    ring_of = owners(offsets)
    row_of_vertex = row_of_ring[ring_of]
    bad = np.zeros(column.n_rows, bool)
    # Said so that what is not a number is wrong too.
    wrong = np.flatnonzero(~(np.abs(xy) <= LARGEST).all(axis=1))
    found.add(Problem.NOT_FINITE, row_of_vertex[wrong], xy[wrong])
    bad[row_of_vertex[wrong]] = True
    repeats = np.flatnonzero((ring_of[1:] == ring_of[:-1]) & (xy[1:] == xy[:-1]).all(axis=1)) + 1
    found.add(Problem.REPEATED_VERTEX, row_of_vertex[repeats], xy[repeats])
    counts = np.diff(offsets)
    # Vertices without repeats, and one more for a ring that is open: a ring has three corners and
    # its first again.
    counts = counts - count_by(ring_of[repeats], column.n_rings)
    has = np.diff(offsets) > 0
    first, last = offsets[:-1].copy(), offsets[1:] - 1
    # A ring without vertices is caught by its count; any place will do for it here.
    first[~has] = last[~has] = 0
    is_open = has & ~(xy[first] == xy[last]).all(axis=1) if len(xy) else has
    open_rings = np.flatnonzero(is_open & ~bad[row_of_ring])
    found.add(Problem.NOT_CLOSED, row_of_ring[open_rings], xy[first[open_rings]])
    few = np.flatnonzero((counts + is_open < 4) & ~bad[row_of_ring])
    place = xy[first[few]] if len(xy) else np.zeros((len(few), 2))
    found.add(Problem.TOO_FEW_POINTS, row_of_ring[few], place)
    bad[row_of_ring[few]] = True
    return bad


def _look_at_meetings(clean: Clean, found: Found) -> tuple[BoolArray, Touches]:
    """Find edges that meet; return which rings do, and where rings that do no more touch."""
    touched = np.zeros(len(clean.row), bool)
    nothing = np.zeros(0, np.int64)
    none = Touches(nothing, nothing, np.zeros((0, 2)))
    if len(clean.start) == 0:
        return touched, none
    first, second, kind, xy = _meetings(clean)
    ring_a, ring_b = clean.ring_of_edge[first], clean.ring_of_edge[second]
    row = clean.row[ring_a]
    touched[ring_a] = touched[ring_b] = True
    one_ring, one_part = ring_a == ring_b, clean.part[ring_a] == clean.part[ring_b]
    for code, ring, rings, parts in (
        (1, Problem.RING_CROSSES, Problem.RINGS_CROSS, Problem.PARTS_CROSS),
        (2, Problem.RING_ALONG_ITSELF, Problem.RINGS_SHARE, Problem.PARTS_SHARE),
    ):
        for problem, mask in ((ring, one_ring), (rings, one_part & ~one_ring), (parts, ~one_part)):
            at = np.flatnonzero((kind == code) & mask)
            found.add(problem, row[at], xy[at])
    # Where a ring runs along itself it touches itself too, which says nothing more.
    along = np.isin(ring_a, ring_a[(kind == 2) & one_ring])
    at = np.flatnonzero((kind == 3) & one_ring & ~along)
    found.add(Problem.RING_TOUCHES, row[at], xy[at])
    spoilt = distinct(row[(kind != 3) | one_ring])
    kept = np.flatnonzero((kind == 3) & ~np.isin(row, spoilt))
    return touched, Touches(first[kept], second[kept], xy[kept])


def _meetings(clean: Clean) -> tuple[I64Array, I64Array, I64Array, F64Array]:
    # The cells only say which edges are near; whether they meet is asked of the doubles.
    ends = _coarse_edges(clean)
    cells = build_cells(ends)
    row = clean.row[clean.ring_of_edge]
    counts = np.diff(cells.offsets)[cells.leaves]

    def look(first_leaf: int, stop: int) -> tuple[I64Array, I64Array, I64Array, F64Array]:
        fullest = int(counts[first_leaf:stop].max(initial=1))
        (room, ranges), keys = np.empty((2, fullest, 4)), np.empty((1, fullest))
        order = np.empty((1, fullest), np.int64)
        # Sound rows were sorted out before, so there is little to find; else it is done again with
        # space for all.
        space = 4096
        while True:
            first, second, kind = np.empty((3, space), np.int64)
            place = np.empty((space, 2))
            n = kernels.run(
                kernels.valid.find_meetings,
                cells.boxes,
                cells.leaves[first_leaf:stop],
                cells.offsets,
                cells.entries,
                ends,
                clean.xy,
                clean.start,
                clean.following,
                row,
                BUNDLE,
                room,
                ranges,
                keys,
                order,
                np.empty(4),
                np.empty(4),
                np.zeros(16),
                first,
                second,
                kind,
                place,
            )
            if n <= space:
                return first[:n], second[:n], kind[:n], place[:n]
            space = n

    found = parallel.each(look, parallel.parted(offsets_from(counts)))
    first, second, kind, place = (np.concatenate(columns) for columns in zip(*found, strict=True))
    return first, second, kind, place


def _coarse_edges(clean: Clean) -> I64Array:
    """Return the edges on a coarse grid, each row in a place of its own, to find which are near."""
    # Rows must not be compared with each other: laid apart, none shares a cell with another.
    _, first_ring, row_of_ring = np.unique(clean.row, return_index=True, return_inverse=True)
    first = clean.offsets[first_ring]  # rings come in the order of rows
    low = np.minimum.reduceat(clean.xy, first, axis=0)
    high = np.maximum.reduceat(clean.xy, first, axis=0)
    size = float(np.sqrt((high - low).prod(axis=1).sum()) + (high - low).max())
    # Well below the grid's 2**41, so that all shelves fit; the finer, the fewer pairs.
    scale = 2.0**34 / size if size > 0 else 1.0
    row = row_of_ring.reshape(-1)[clean.ring_of_edge]
    boxes = np.ceil((high - low) * scale).astype(np.int64).T
    shift = np.stack(places_apart(np.zeros_like(boxes), boxes), axis=1).take(row, axis=0)
    # Floor keeps order, so edges that meet have boxes that meet, whatever is rounded.
    x, y = np.concatenate(
        [
            np.floor((clean.xy.take(at, axis=0) - low.take(row, axis=0)) * scale).astype(np.int64)
            + shift
            for at in (clean.start, clean.start + 1)
        ]
    ).T.copy()
    start = np.arange(len(row))
    return edges_between(x, y, start, start + len(row))


def _located(clean: Clean, xy: F64Array, ring: I64Array) -> I64Array:
    """Return 1, 0 or -1 for points inside, on and outside of one ring each."""
    return located_in_rings(clean.xy, clean.offsets, xy, ring)


def _look_at_nesting(
    clean: Clean, touched: BoolArray, within: tuple[I64Array, I64Array], found: Found
) -> None:
    """Look at rings that meet no other: directions, holes in their outer ring, parts apart."""
    n_rings = len(clean.row)
    if n_rings == 0:
        return
    # A ring that meets no other lies on one side of each: one vertex of it tells for all.
    firsts = clean.xy[clean.offsets[:-1]]
    area = ring_areas(clean.xy, clean.offsets)
    wrong = np.flatnonzero((area < 0) == clean.is_outer)
    found.add(Problem.WRONG_DIRECTION, clean.row[wrong], firsts[wrong])
    quiet = ~touched
    # Holes in their own outer ring.
    holes = np.flatnonzero(~clean.is_outer & quiet)
    side = _located(clean, firsts[holes], clean.outer_of(holes))
    outside = holes[side < 0]
    found.add(Problem.HOLE_OUTSIDE, clean.row[outside], firsts[outside])
    a, b = within
    # Rings that touch are for `look_closely`; one that does not may lie in one that does.
    use = quiet[a]
    a, b = a[use], b[use]
    both_holes = ~clean.is_outer[a] & ~clean.is_outer[b] & (clean.part[a] == clean.part[b])
    h, other = a[both_holes], b[both_holes]
    inside = h[_located(clean, firsts[h], other) > 0]
    found.add(Problem.HOLE_IN_HOLE, clean.row[inside], firsts[inside])
    _parts_inside(clean, a, b, firsts, found)


def _parts_inside(clean: Clean, a: I64Array, b: I64Array, firsts: F64Array, found: Found) -> None:
    """Find outer rings a that lie in another part b: inside its outer ring and in no hole of it."""
    use = clean.is_outer[a] & (clean.part[a] != clean.part[b])
    a, b = a[use], b[use]
    is_in = _located(clean, firsts[a], b) > 0
    a, b = a[is_in], b[is_in]
    if len(a) == 0:
        return
    # +1 inside the outer ring, -1 for each hole that it lies in.
    # For each outer ring and other part: how many of the part's rings are round it.
    n_parts = int(clean.part.max()) + 1
    keys, at = np.unique(a * n_parts + clean.part[b], return_inverse=True)
    depth = np.bincount(at, np.where(clean.is_outer[b], 1, -1))
    ring = keys[depth > 0] // n_parts
    found.add(Problem.PARTS_OVERLAP, clean.row[ring], firsts[ring])
