"""Overlays of INPUT whose features lie over each other very deep: sheet by sheet, and put together.

What becomes of a feature in a clip, an erase or an intersect has nothing to do with the others of its
layer, but for borders that they share; each sheet has the whole of the OTHERs.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from polygene.arrays import NONE, I64Array
from polygene.geometry import concatenate, extent_of
from polygene.layer import Layer
from polygene.ops.adding import added
from polygene.ops.overlays.balance import notes_of
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
    whole = current()
    found: list[Made] = []
    chosen: list[I64Array] = []
    layers = [layer, *others]
    extents = [extent_of_whole(k, extent_of(y.geometry.row_bounds())) for k, y in enumerate(layers)]
    cores = [y.numbers[core_of(y, k)] - 1 for k, y in enumerate(layers)]
    for number in np.unique(sheet):
        rows = np.flatnonzero(sheet == number)
        some = layer.take(rows)
        # What is told of the OTHERs is told once.
        theirs = [core if not found else core[:0] for core in cores[1:]]
        own = np.sort(some.numbers[core_of(some, 0)] - 1)
        with working_on(Part([own, *theirs], extents, None, {} if whole is None else whole.told)):
            found.append(make(some))
        chosen.append(rows)
    pieces = _together([one.pieces for one in found], chosen)
    pieces = pieces._replace(geometry=pieces.geometry.as_multi_as(layer.geometry))
    summary = added([one.summary for one in found])
    total = layer.n_total if len(cores[0]) == layer.n_rows else len(cores[0])
    own_side = replace(summary.input, total=total)
    notes = notes_of(layer, others, rule, found[0].grid, pieces)
    summary = replace(summary, input=own_side, notes=notes)
    return Made(pieces, summary, sum(one.slivers for one in found), found[0].grid)


def _together(pieces: Sequence[MadePieces], chosen: Sequence[I64Array]) -> MadePieces:
    """Put pieces in order, their rows of INPUT numbered through."""
    tables = []
    for one, rows in zip(pieces, chosen, strict=True):
        table = one.rows.copy()
        is_own = table[:, 0] != NONE
        table[is_own, 0] = rows[table[is_own, 0]]
        tables.append(table)
    table = np.concatenate(tables)
    order = order_of(table)
    return MadePieces(
        table[order],
        concatenate([one.geometry for one in pieces]).take(order),
        np.concatenate([one.is_made for one in pieces])[order],
        sum(one.n_guessed for one in pieces),
    )
