"""Overlays of features that lie over each other very deep: sheet by sheet, and put together.

What becomes of a feature in a clip, an erase or an intersect has nothing to do with the others of its
layer, but for borders that they share; each sheet has the whole of the OTHERs. Where pieces are of one
row of each layer, those of OTHER have nothing to do with each other either.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from polygene.arrays import NONE, I64Array
from polygene.geometry import Extent, concatenate, extent_of
from polygene.layer import Layer
from polygene.ops.adding import added
from polygene.ops.overlays.balance import Counts, notes_of
from polygene.ops.overlays.pieces import MadePieces
from polygene.ops.overlays.scene import rows_near
from polygene.ops.part import Part, core_of, current, extent_of_whole, working_on
from polygene.ops.summary import OverlaySummary
from polygene.plane.grid import Grid
from polygene.plane.keys import order_of
from polygene.plane.rules import Rule
from polygene.plane.sheets import sheets_of

# Rows in one place above which they are dealt out, and up to which they are not dealt out further: each
# sheet has all that an arrangement costs.
DEEP, THIN = 64, 32
MOST_REPEATED = 4_000_000  # vertices of OTHERs in all sheets together, whatever INPUT has


class Made(NamedTuple):
    """What an overlay made: rows and geometry, what there is to tell, thin places, on which grid."""

    pieces: MadePieces
    summary: OverlaySummary
    slivers: int
    grid: Grid


def sheets_for(layer: Layer, others: Sequence[Layer], rule: Rule) -> I64Array:
    """Return the sheet (n_rows,) of each row of INPUT; 0 for all where they are not very deep."""
    sheet = np.zeros(layer.n_rows, np.int64)
    if rule.keeps_other or layer.n_rows <= DEEP:
        return sheet
    bounds = layer.geometry.row_bounds()
    near = np.zeros(layer.n_rows, bool)
    for other in others:
        near |= rows_near(bounds, other.geometry.extent())
    some = layer.geometry.take(np.flatnonzero(near))
    n_other = sum(other.geometry.n_vertices for other in others)
    most = max(2, (MOST_REPEATED + some.n_vertices * DEEP) // max(1, n_other))
    sheet[near] = sheets_of(some, DEEP, THIN, most)
    return sheet


def made_in_sheets(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    sheet: I64Array,
    make: Callable[[Layer], Made],
) -> Made:
    """Return what ``make`` makes of the rows of each sheet, put together as it would of all."""
    found: list[Made] = []
    chosen: list[I64Array] = []
    layers, extents = _whole(layer, others)
    cores = [_core(y, k) for k, y in enumerate(layers)]
    for number in np.unique(sheet):
        rows = np.flatnonzero(sheet == number)
        some = layer.take(rows)
        # What is told of the OTHERs is told once.
        theirs = [core if not found else core[:0] for core in cores[1:]]
        with working_on(_part([_core(some, 0), *theirs], extents)):
            found.append(make(some))
        chosen.append(rows)
    pieces = _together([one.pieces for one in found], chosen, 0, layer)
    summary = added([one.summary for one in found])
    own_side = replace(summary.input, total=_total(layer, cores[0]))
    notes = notes_of(layer, others, rule, found[0].grid, pieces)
    summary = replace(summary, input=own_side, notes=notes)
    return Made(pieces, summary, sum(one.slivers for one in found), found[0].grid)


def made_by_others(
    layer: Layer,
    other: Layer,
    rule: Rule,
    sheet: I64Array,
    make: Callable[[Layer], Made],
    covered: Made,
) -> Made:
    """Return what ``make`` makes of each sheet of OTHER, where pieces are of one row of each layer.

    ``covered`` is of a clip by all of OTHER, which adds up what lies inside and outside.
    """
    found: list[Made] = []
    chosen: list[I64Array] = []
    layers, extents = _whole(layer, [other])
    own, theirs = (_core(y, k) for k, y in enumerate(layers))
    for number in np.unique(sheet):
        rows = np.flatnonzero(sheet == number)
        some = other.take(rows)
        with working_on(_part([own, _core(some, 1)], extents)):
            found.append(make(some))
        chosen.append(rows)
    pieces = _together([one.pieces for one in found], chosen, 1, layer)
    summary = added([one.summary for one in found])
    counts = Counts.of(
        pieces.rows, pieces.is_made, layer.geometry.is_empty, core_of(layer, 0)
    )._asdict()
    side = replace(summary.others[0], total=_total(other, theirs))
    summary = replace(
        summary,
        input=covered.summary.input,
        others=[side],
        balance=covered.summary.balance,
        notes=notes_of(layer, [other], rule, found[0].grid, pieces),
        **counts,
    )
    return Made(pieces, summary, 0, found[0].grid)


def _whole(layer: Layer, others: Sequence[Layer]) -> tuple[list[Layer], list[Extent | None]]:
    """Return the layers, and the extents of all there is of them."""
    layers = [layer, *others]
    bounds = [y.geometry.row_bounds() for y in layers]
    return layers, [extent_of_whole(k, extent_of(b)) for k, b in enumerate(bounds)]


def _core(layer: Layer, k: int) -> I64Array:
    return np.sort(layer.numbers[core_of(layer, k)] - 1)


def _part(cores: list[I64Array], extents: list[Extent | None]) -> Part:
    whole = current()
    return Part(cores, extents, None, {} if whole is None else whole.told)


def _total(layer: Layer, core: I64Array) -> int:
    return layer.n_total if len(core) == layer.n_rows else len(core)


def _together(
    pieces: Sequence[MadePieces], chosen: Sequence[I64Array], k: int, layer: Layer
) -> MadePieces:
    """Put pieces in order, their rows of one layer numbered through; geometry is like INPUT's."""
    tables = []
    for one, rows in zip(pieces, chosen, strict=True):
        table = one.rows.copy()
        has = table[:, k] != NONE
        table[has, k] = rows[table[has, k]]
        tables.append(table)
    table = np.concatenate(tables)
    order = order_of(table)
    geometry = concatenate([one.geometry for one in pieces]).take(order)
    return MadePieces(
        table[order],
        geometry.as_multi_as(layer.geometry),
        np.concatenate([one.is_made for one in pieces])[order],
        sum(one.n_guessed for one in pieces),
    )
