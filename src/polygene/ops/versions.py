"""Who is who in two versions of a layer: by key, by the same geometry, by the best overlap."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field

import numpy as np
import pyarrow as pa

from polygene.arrays import (
    NONE,
    BoolArray,
    F64Array,
    I64Array,
    bucket,
    count_by,
    distinct,
    number_pairs,
)
from polygene.classes import dataclass
from polygene.geometry import Family
from polygene.layer import Layer, names_alike
from polygene.measures import row_areas, ruler_for
from polygene.ops.places.partners import partners
from polygene.ops.shifts import largest_shifts
from polygene.plane.signatures import signatures
from polygene.table.casting import as_text
from polygene.table.groups import codes_of
from polygene.table.keys import Key, coded

MOST = 0.5  # of a feature: what lies in another by as much is a part of it


@dataclass(frozen=True)
class Overlaps:
    """Pairs of rows that share area: ``shared`` (n,), in the unit of areas of the first's CRS."""

    before: I64Array
    after: I64Array
    shared: F64Array


@dataclass(frozen=True)
class Versions:
    """Two versions of a layer, and which row became which.

    after_of : (rows before,) the row afterwards, NONE if there is none
    is_other : (rows before,) whether its geometry is another there
    split : (n, 2) rows before and after: the parts of what was split
    merged : (n, 2) rows before and after: what was merged, and into what
    without_key : rows of each that have none, so that they are told by geometry
    """

    before: Layer
    after: Layer
    after_of: I64Array
    is_other: BoolArray
    overlaps: Overlaps
    split: I64Array
    merged: I64Array
    without_key: tuple[int, int] = (0, 0)
    taken: BoolArray = field(default_factory=lambda: np.zeros(0, bool))


def versions(
    before: Layer, after: Layer, keys: Sequence[Key], folds: bool, tolerance: float
) -> Versions:
    """Say which row of a version is which of the next; both are in one CRS.

    Rows of one key are the same; where it comes several times, and without a key at all, rows of the
    same geometry (and fields, where there are several such), then polygons that share most area, at
    least half of one of them. What lies by half in one that it is no successor of is a part of it:
    that one was split; and so the other way round for what was merged. Where features of one version
    lie over each other, only that half counts which they did not share already.

    Parameters
    ----------
    tolerance : how far geometry may be off and still be the same; numbers in metres, or map units
        without a CRS
    """
    pool = 0
    codes = (np.zeros(before.n_rows, np.int64), np.zeros(after.n_rows, np.int64))
    without_key = (0, 0)
    work = _Work(before, after, np.full(before.n_rows, NONE), np.zeros(after.n_rows, bool))
    if keys:
        found = coded(before, after, keys, folds)
        pool = found.n
        without_key = int((found.mine == NONE).sum()), int((found.theirs == NONE).sum())
        mine, theirs = (np.where(c == NONE, pool, c) for c in (found.mine, found.theirs))
        codes = mine, theirs
        work.pair(_only_once(codes, pool, work))
    marks = _marks(before, after)
    work.pair(_by_geometry(codes, marks, work))
    if keys:
        work.pair(_only_once(codes, pool, work))
    paired = work.after_of != NONE
    is_other = _is_other(work, marks, paired, tolerance)
    overlaps = _overlaps(work, is_other)
    _pair_by_overlap(work, codes, overlaps)
    is_other |= _is_other(work, marks, (work.after_of != NONE) & ~paired, tolerance)
    split, merged = _parts(work, overlaps)
    return Versions(
        before, after, work.after_of, is_other, overlaps, split, merged, without_key, work.taken
    )


def _is_other(
    work: _Work, marks: tuple[I64Array, I64Array], paired: BoolArray, tolerance: float
) -> BoolArray:
    """Return which of the rows that are paired have another geometry afterwards."""
    rows = np.flatnonzero(paired)
    rows = rows[marks[0][rows] != marks[1][work.after_of[rows]]]
    if tolerance and len(rows):
        there = work.after.geometry.take(work.after_of[rows])
        off = largest_shifts(work.before.geometry.take(rows), there, work.before.crs)
        rows = rows[~(off <= tolerance)]
    found = np.zeros(work.before.n_rows, bool)
    found[rows] = True
    return found


@dataclass(frozen=True)
class _Work:
    """What is known so far: the row afterwards of each, and which of those are somebody's."""

    before: Layer
    after: Layer
    after_of: I64Array
    taken: BoolArray

    def pair(self, codes: tuple[I64Array, I64Array]) -> None:
        """Pair rows of one code without partner, the first with the first; NONE is no code."""
        mine = np.flatnonzero((self.after_of == NONE) & (codes[0] != NONE))
        theirs = np.flatnonzero(~self.taken & (codes[1] != NONE))
        a, b = codes[0][mine], codes[1][theirs]
        ranks = [_rank(a), _rank(b)]
        numbers = number_pairs(np.concatenate([a, b]), np.concatenate(ranks))
        row_of = np.full(len(numbers.firsts), NONE)
        row_of[numbers.numbers[len(a) :]] = theirs
        found = row_of[numbers.numbers[: len(a)]]
        has = found != NONE
        self.after_of[mine[has]] = found[has]
        self.taken[found[has]] = True


def _rank(codes: I64Array) -> I64Array:
    """Return of each item how many before it have its code."""
    if not len(codes):
        return codes
    groups = bucket(codes, int(codes.max()) + 1)
    rank = np.empty(len(codes), np.int64)
    rank[groups.order] = np.arange(len(codes)) - np.repeat(
        groups.offsets[:-1], np.diff(groups.offsets)
    )
    return rank


def _only_once(
    codes: tuple[I64Array, I64Array], pool: int, work: _Work
) -> tuple[I64Array, I64Array]:
    """Return codes of those rows without partner whose key no other such row on their side has."""
    is_open = (work.after_of == NONE, ~work.taken)
    found = []
    for own, open_rows in zip(codes, is_open, strict=True):
        counts = count_by(own[open_rows], pool + 1)
        found.append(np.where(open_rows & (own < pool) & (counts[own] == 1), own, NONE))
    return found[0], found[1]


def _marks(before: Layer, after: Layer) -> tuple[I64Array, I64Array]:
    """Return a number for each geometry, the same for the same edges; null is the same as null."""
    own = [signatures(y.geometry) for y in (before, after)]
    whole = np.concatenate(own)
    empty = np.concatenate([y.geometry.is_empty for y in (before, after)])
    high = (whole >> np.uint64(32)).astype(np.int64)
    low = (whole & np.uint64(2**32 - 1)).astype(np.int64) * 2 + empty
    numbers = number_pairs(high, low).numbers
    return numbers[: before.n_rows], numbers[before.n_rows :]


def _by_geometry(
    codes: tuple[I64Array, I64Array], marks: tuple[I64Array, I64Array], work: _Work
) -> tuple[I64Array, I64Array]:
    """Return codes of what has one key, one geometry and, where that comes twice, the same fields.

    Rows of the same geometry that differ in fields are paired too, but after those that do not.
    """
    n = len(codes[0])
    both = number_pairs(np.concatenate(codes), np.concatenate(marks)).numbers
    mine, theirs = both[:n], both[n:]
    is_open = (work.after_of == NONE, ~work.taken)
    m = int(both.max(initial=NONE)) + 1
    counts = [count_by(c[o], m) for c, o in zip((mine, theirs), is_open, strict=True)]
    if max(int(c.max(initial=0)) for c in counts) > 1:
        alike = _fields(work.before, work.after)
        if alike is not None:
            whole = number_pairs(both, alike).numbers
            work.pair((whole[:n], whole[n:]))
    return mine, theirs


def _fields(before: Layer, after: Layer) -> I64Array | None:
    """Return a number for the values of the fields that both have; None if there are none."""
    pairs = names_alike(before.table.column_names, after.table.column_names)
    found: I64Array | None = None
    for name, other in pairs.items():
        a, b = before.table.column(name), after.table.column(other)
        if a.type != b.type:
            a, b = as_text(a), as_text(b)
        codes = codes_of(pa.chunked_array([*a.chunks, *b.chunks], a.type))
        found = codes if found is None else number_pairs(found, codes).numbers
    return found


def _overlaps(work: _Work, is_other: BoolArray) -> Overlaps:
    """Return who shares area with whom, of polygons that are not where they were."""
    none = np.zeros(0, np.int64)
    before, after = work.before, work.after
    families = {y.geometry.family for y in (before, after)}
    mine = np.flatnonzero((work.after_of == NONE) | is_other)
    is_still = np.zeros(after.n_rows, bool)
    is_still[work.after_of[(work.after_of != NONE) & ~is_other]] = True
    theirs = np.flatnonzero(~is_still)
    if families != {Family.POLYGONS} or not len(mine) or not len(theirs):
        return Overlaps(none, none, np.zeros(0))
    found = partners(before.take(mine), after.take(theirs), "intersects")
    assert found.shared is not None
    has = found.shared > 0
    return Overlaps(mine[found.first[has]], theirs[found.second[has]], found.shared[has])


def areas_of(layer: Layer) -> F64Array:
    """Return the areas of polygons in the unit of `Overlaps`: square metres, or square map units."""
    ruler = ruler_for(layer.crs)
    is_plane = layer.crs is None or not layer.crs.is_geographic
    return row_areas(layer.geometry, None if is_plane else ruler)


def _sizes(layer: Layer, rows: I64Array) -> F64Array:
    """Return the areas (n,) of rows, which may come several times."""
    own = np.zeros(layer.n_rows)
    chosen = distinct(rows)
    own[chosen] = areas_of(layer.take(chosen))
    return own[rows]


def _shares(work: _Work, overlaps: Overlaps) -> tuple[F64Array, F64Array]:
    """Return what of the one before, and of the one afterwards, each pair shares."""
    found = []
    for layer, rows in ((work.before, overlaps.before), (work.after, overlaps.after)):
        size = _sizes(layer, rows)
        found.append(np.divide(overlaps.shared, size, out=np.zeros(len(size)), where=size > 0))
    return found[0], found[1]


def _pair_by_overlap(work: _Work, codes: tuple[I64Array, I64Array], overlaps: Overlaps) -> None:
    """Pair rows of one key, or without any, that share most area with each other."""
    of_before, of_after = _shares(work, overlaps)
    is_open = (work.after_of[overlaps.before] == NONE) & ~work.taken[overlaps.after]
    is_open &= codes[0][overlaps.before] == codes[1][overlaps.after]
    kept = np.flatnonzero(is_open & (np.maximum(of_before, of_after) >= MOST))
    if not len(kept):
        return
    before, after = overlaps.before[kept], overlaps.after[kept]
    shared = overlaps.shared[kept]
    best_after = _best(before, after, shared)
    best_before = _best(after, before, shared)
    mutual = np.flatnonzero(best_after & best_before)
    work.after_of[before[mutual]] = after[mutual]
    work.taken[after[mutual]] = True


def _best(of: I64Array, other: I64Array, shared: F64Array) -> BoolArray:
    """Return which pairs share most among those of the same row; the first of equals."""
    order = np.lexsort((other, -shared, of))
    is_best = np.zeros(len(of), bool)
    is_first = np.ones(len(of), bool)
    is_first[1:] = of[order][1:] != of[order][:-1]
    is_best[order[is_first]] = True
    return is_best


def _parts(work: _Work, overlaps: Overlaps) -> tuple[I64Array, I64Array]:
    """Return the parts of what was split, and what was merged: pairs of rows before and after."""
    if not len(overlaps.before):
        none = np.zeros((0, 2), np.int64)
        return none, none
    own = work.after_of[overlaps.before] == overlaps.after
    before_of = np.full(work.after.n_rows, NONE)
    has = np.flatnonzero(work.after_of != NONE)
    before_of[work.after_of[has]] = has
    pairs = np.stack([overlaps.before, overlaps.after], axis=1)
    # What lay in both before, and does so in one of them still, was not merged; and so with parts.
    is_part = own | (~work.taken[overlaps.after])
    is_part &= _is_mostly_new(work.after, overlaps, pairs[:, ::-1], work.after_of, is_part & ~own)
    is_source = own | (work.after_of[overlaps.before] == NONE)
    is_source &= _is_mostly_new(work.before, overlaps, pairs, before_of, is_source & ~own)
    split = pairs[is_part]
    merged = pairs[is_source]
    split = split[count_by(split[:, 0], work.before.n_rows)[split[:, 0]] > 1]
    merged = merged[count_by(merged[:, 1], work.after.n_rows)[merged[:, 1]] > 1]
    return split, merged


def _is_mostly_new(
    layer: Layer, overlaps: Overlaps, pairs: I64Array, was: I64Array, asked: BoolArray
) -> BoolArray:
    """Return of which pairs (n, 2) the first lies by half in the second.

    The first is a row of ``layer``, the second of its other version. Where ``asked`` (n,), what lies in
    the row of the layer that the second was, or became, does not count; ``was`` has that, or NONE.
    """
    row, other = pairs[:, 0], was[pairs[:, 1]]
    wanted = np.maximum(MOST * _sizes(layer, row), np.finfo(float).tiny)
    found = overlaps.shared >= wanted
    looked = np.flatnonzero(asked & found & (other != NONE))
    if len(looked):
        shared = _shared_in(layer, row[looked], other[looked])
        found[looked] = overlaps.shared[looked] - shared >= wanted[looked]
    return found


def _shared_in(layer: Layer, row: I64Array, other: I64Array) -> F64Array:
    """Return the area (n,) that rows share with others of their layer."""
    rows, others = distinct(row), distinct(other)
    met = partners(layer.take(rows), layer.take(others), "intersects")
    assert met.shared is not None
    both = number_pairs(
        np.concatenate([rows[met.first], row]), np.concatenate([others[met.second], other])
    ).numbers
    n = len(met.first)
    shared = np.zeros(int(both.max()) + 1)
    shared[both[:n]] = met.shared
    return shared[both[n:]]
