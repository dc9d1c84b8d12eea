"""Overlays of features that lie over each other very deep: sheet by sheet, and put together.

What becomes of a feature in a clip, an erase or an intersect has nothing to do with the others of its
layer, but for borders that they share; each sheet has what is near of the OTHERs. Where pieces are of
one row of each layer, those of OTHER have nothing to do with each other either.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from polygene.arrays import NONE, I64Array, distinct
from polygene.classes import NamedTuple
from polygene.geometry import Extent, concatenate, extent_of
from polygene.layer import Layer
from polygene.ops.adding import added
from polygene.ops.overlays.balance import Counts, notes_of
from polygene.ops.overlays.pieces import MadePieces
from polygene.ops.overlays.scene import grid_of, rows_near
from polygene.ops.part import Part, core_of, current, extent_of_whole, working_on
from polygene.ops.summary import OverlaySummary
from polygene.plane.grid import Grid
from polygene.plane.keys import order_of
from polygene.plane.rules import Rule
from polygene.plane.sheets import sheets_of

# Rows in one place above which they are dealt out, and up to which they are not dealt out further: each
# sheet has all that an arrangement costs.
DEEP, THIN = 64, 32
MARGIN = 16  # grid units about a sheet in which others may have to do with it
MOST_REPEATED = 4_000_000  # vertices of OTHERs in all sheets together, whatever INPUT has


class Made(NamedTuple):
    """What an overlay made: rows and geometry, what there is to tell, thin places, on which grid."""

    pieces: MadePieces
    summary: OverlaySummary
    slivers: int
    grid: Grid


def sheets_for(layer: Layer, others: Sequence[Layer], rule: Rule) -> I64Array:
    """Return the sheet (n_rows,) of each row of INPUT; 0 for those that are not very deep."""
    if rule.keeps_other or layer.n_rows <= DEEP:
        return np.zeros(layer.n_rows, np.int64)
    bounds = layer.geometry.row_bounds()
    near = np.zeros(layer.n_rows, bool)
    for other in others:
        near |= rows_near(bounds, other.geometry.extent())
    sheet = sheets_of(layer.geometry, DEEP, THIN, near)
    deep = np.flatnonzero(sheet)
    if not len(deep):
        return sheet
    # Each sheet has what is near of the OTHERs.
    some = layer.geometry.take(deep)
    n_other = 0
    for other in others:
        is_near = rows_near(other.geometry.row_bounds(), some.extent())
        n_other += int(np.diff(other.geometry.vertex_offsets_of_rows)[is_near].sum())
    most = max(2, (MOST_REPEATED + some.n_vertices * DEEP) // max(1, n_other))
    while sheet.max() >= most:
        sheet >>= 1
    return sheet


def made_in_sheets(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    sheet: I64Array,
    make: Callable[[Layer, Sequence[Layer]], Made],
    precision: float | None,
) -> Made:
    """Return what ``make`` makes of the rows of each sheet, put together as it would of all."""
    found: list[Made] = []
    chosen: list[list[I64Array]] = []
    layers, extents = _whole(layer, others)
    cores = [_core(y, k) for k, y in enumerate(layers)]
    margin = MARGIN * grid_of(layer, others, precision).step
    for number in distinct(sheet):
        rows = np.flatnonzero(sheet == number)
        some = layer.take(rows)
        # What is told of the OTHERs is told once, and all of them are needed there.
        theirs = cores[1:] if not found else [core[:0] for core in cores[1:]]
        near = [
            np.arange(other.n_rows) if not found else _rows_about(other, some, margin)
            for other in others
        ]
        parts = [other.take(r) for other, r in zip(others, near, strict=True)]
        with working_on(_part([_core(some, 0), *theirs], extents)):
            found.append(make(some, parts))
        chosen.append([rows, *near])
    pieces = _together([one.pieces for one in found], chosen, layer)
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
    make: Callable[[Layer, Sequence[Layer]], Made],
    covered: Made,
) -> Made:
    """Return what ``make`` makes of each sheet of OTHER, where pieces are of one row of each layer.

    ``covered`` is of a clip by all of OTHER, which adds up what lies inside and outside.
    """
    found: list[Made] = []
    chosen: list[list[I64Array]] = []
    layers, extents = _whole(layer, [other])
    theirs = _core(other, 1)
    margin = MARGIN * covered.grid.step
    for number in distinct(sheet):
        rows = np.flatnonzero(sheet == number)
        some = other.take(rows)
        near = _rows_about(layer, some, margin)
        mine = layer.take(near)
        with working_on(_part([_core(mine, 0), _core(some, 1)], extents)):
            found.append(make(mine, [some]))
        chosen.append([near, rows])
    pieces = _together([one.pieces for one in found], chosen, layer)
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


def _rows_about(layer: Layer, some: Layer, margin: float) -> I64Array:
    """Return the rows of a layer that come near the extent of some of another."""
    extent = some.geometry.extent()
    if extent is None:
        return np.zeros(0, np.int64)
    low_x, low_y, high_x, high_y = extent
    about = low_x - margin, low_y - margin, high_x + margin, high_y + margin
    return np.flatnonzero(rows_near(layer.geometry.row_bounds(), about))


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
    pieces: Sequence[MadePieces], chosen: Sequence[Sequence[I64Array]], layer: Layer
) -> MadePieces:
    """Put pieces in order, rows of all layers numbered through; geometry is like INPUT's."""
    tables = []
    for one, of_layers in zip(pieces, chosen, strict=True):
        table = one.rows.copy()
        for k, rows in enumerate(of_layers):
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
