"""The rows and geometry of an overlay's result, from its pieces and what never entered the plane."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from polygene.arrays import NONE, BoolArray, I64Array, offsets_from, owners
from polygene.classes import NamedTuple
from polygene.geometry import (
    GeometryColumn,
    concatenate,
)
from polygene.layer import Layer
from polygene.ops.overlays.asked_rows import Asked
from polygene.ops.overlays.scene import Scene
from polygene.plane import members as members_of
from polygene.plane.cutting import Cut
from polygene.plane.keys import keyed, order_of
from polygene.plane.members import Alike
from polygene.plane.overlay import Overlay
from polygene.plane.rules import Rule
from polygene.plane.signatures import signatures


class MadePieces(NamedTuple):
    """The result's rows and geometry.

    is_made : (n,) rows that are pieces; the others are all of a row of INPUT or, without it, of OTHER
    n_guessed : vertices whose heights were interpolated
    """

    rows: I64Array
    geometry: GeometryColumn
    is_made: BoolArray
    n_guessed: int = 0


class Passed(NamedTuple):
    """What never entered the plane, or left nothing there and met nobody, and stays as it is.

    own : (n, layers) the pieces of rows of INPUT
    other : (n_others, layers) those of rows of OTHERs, in a union; column : the geometry of these
    """

    own: I64Array
    other: I64Array
    column: GeometryColumn


def input_only(rows: I64Array, n_others: int) -> I64Array:
    return np.concatenate([rows[:, None], np.full((len(rows), n_others), NONE)], axis=1)


def made_of(
    layer: Layer,
    scene: Scene,
    done: Cut,
    rule: Rule,
    passed: Passed,
    pieces: GeometryColumn,
    n_guessed: int,
) -> MadePieces:
    """Put ``pieces``, whole rows and what passed by the plane together, in order."""
    column = layer.geometry
    rows = _source_rows(done.rows, scene)
    whole_of = _whole_of(column, rows, done, scene)
    of_own, of_other = np.flatnonzero(whole_of == 0), np.flatnonzero(whole_of > 0)
    cut_pieces = np.flatnonzero(whole_of == NONE)
    kept = np.concatenate([rows[of_own], passed.own])
    table = np.concatenate([kept, rows[cut_pieces], rows[of_other], passed.other])
    # Few are taken out before what is copied: all of a column is, whatever is taken from it.
    are_few = len(kept) < column.n_rows // 4
    sources = [
        (column.take(kept[:, 0]), np.arange(len(kept))) if are_few else (column, kept[:, 0]),
        (pieces, cut_pieces),
        (scene.cutter, _rows_of_cutter(done.rows[of_other], whole_of[of_other], scene)),
        (passed.column, np.arange(passed.column.n_rows)),
    ]
    # Where nothing is taken of INPUT, what is made is all there is, and is not copied to itself.
    sources = [source for source in sources if len(source[1])] or sources[:1]
    # Rows are counted through all columns.
    before = offsets_from([source.n_rows for source, _ in sources])
    taken = np.concatenate(
        [n + chosen for n, (_, chosen) in zip(before[:-1], sources, strict=True)]
    )
    both = concatenate([_flat(c) if rule.keeps_other else c for c, _ in sources])
    order = order_of(table)
    geometry = both.take(taken[order])
    geometry = geometry.as_multi_as(column)
    is_piece = np.zeros(len(table), bool)
    is_piece[len(kept) : len(kept) + len(cut_pieces)] = True
    first = len(kept) + len(cut_pieces)
    is_piece[first : first + len(of_other)] = (rows[of_other, 0] != NONE) & ~done.wholes[
        of_other, 0
    ]
    return MadePieces(table[order], geometry, is_piece[order], n_guessed)


def _flat(column: GeometryColumn) -> GeometryColumn:
    return replace(column, z=None, m=None)


def _source_rows(rows: I64Array, scene: Scene) -> I64Array:
    """Return the rows of pieces as rows of the layers, not of what entered the plane."""
    found = np.full_like(rows, NONE)
    is_own = rows[:, 0] != NONE
    found[is_own, 0] = scene.own_rows[rows[is_own, 0]]
    for k in range(rows.shape[1] - 1):
        has = rows[:, 1 + k] != NONE
        found[has, 1 + k] = scene.other_rows[scene.other_starts[k] + rows[has, 1 + k]]
    return found


def _whole_of(column: GeometryColumn, rows: I64Array, done: Cut, scene: Scene) -> I64Array:
    """Return for each piece the layer whose row it is, as it was; NONE if it is cut.

    A piece may be all of rows of several layers, which differ by less than the grid. Which one is taken
    must not hang on the order of the layers, so it hangs on the geometry.
    """
    whole_of = np.where(done.wholes.any(axis=1), done.wholes.argmax(axis=1), NONE)
    several = np.flatnonzero(done.wholes.sum(axis=1) > 1)
    if len(several):
        most = np.iinfo(np.uint64).max
        marks = np.full((len(several), rows.shape[1]), most, np.uint64)
        for k in range(rows.shape[1]):
            has = np.flatnonzero(done.wholes[several, k])
            piece = several[has]
            if k == 0:
                some = column.take(rows[piece, 0])
            else:
                some = scene.cutter.take(
                    _rows_of_cutter(done.rows[piece], np.full(len(piece), k), scene)
                )
            marks[has, k] = np.minimum(signatures(_flat(some)), most - np.uint64(1))
        whole_of[several] = marks.argmin(axis=1)
    return whole_of


def _rows_of_cutter(rows: I64Array, layer: I64Array, scene: Scene) -> I64Array:
    """Return the rows of the cutter of the rows that pieces have in one OTHER each, counted from 1."""
    return scene.other_starts[layer - 1] + rows[np.arange(len(rows)), layer]


def passed_of(
    layer: Layer,
    others: Sequence[Layer],
    asked: Asked,
    scene: Scene,
    plan: Overlay,
    rule: Rule,
    alike: Alike | None = None,
) -> Passed:
    """Return what stays as it is, of rows that the work is for."""
    starts = len(scene.own_rows) + scene.other_starts
    rows = []
    for k, far in enumerate(scene.far):
        is_left = far.copy()
        is_left[scene.near[k]] |= asked.is_unmet[starts[k] : starts[k + 1]]
        rows.append(np.flatnonzero(is_left & asked.others[k]))
    table = np.full((sum(map(len, rows)), 1 + len(others)), NONE)
    table[np.arange(len(table)), 1 + owners(offsets_from([len(r) for r in rows]))] = np.concatenate(
        rows
    )
    column = concatenate([y.geometry.take(r) for y, r in zip(others, rows, strict=True)])
    return Passed(_untouched(layer, asked, scene, plan, rule, alike), table, column)


def _untouched(
    layer: Layer,
    asked: Asked,
    scene: Scene,
    plan: Overlay,
    rule: Rule,
    alike: Alike | None,
) -> I64Array:
    """Return the pieces of rows that no border touches: each lies where its first vertex does."""
    column = layer.geometry
    is_left = ~column.is_empty & asked.core & scene.may_enter
    if rule.keeps_other:  # what is near an OTHER has entered
        is_left[scene.own_rows[~asked.is_unmet[: len(scene.own_rows)]]] = False
        return input_only(np.flatnonzero(is_left), len(scene.near))
    is_left[scene.own_rows[asked.own]] = False
    rows = np.flatnonzero(is_left)
    firsts = column.xy[column.vertex_offsets_of_rows[:-1][rows]]
    members = members_of.of_far_places(plan, members_of.of_faces(plan), firsts)
    if alike is not None:
        members = alike.only(rows, members)
    found = keyed(rule, rows, members, scene.other_starts)
    pieces = found.rows.copy()
    for k in range(len(scene.near)):
        has = pieces[:, 1 + k] != NONE
        pieces[has, 1 + k] = scene.other_rows[scene.other_starts[k] + pieces[has, 1 + k]]
    return pieces
