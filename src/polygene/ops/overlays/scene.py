"""Who takes part in an overlay: the rows near enough, on one grid."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from polygene.arrays import BoolArray, F64Array, I64Array, offsets_from
from polygene.classes import NamedTuple
from polygene.crs import degrees_of, is_geographic
from polygene.errors import DataError
from polygene.geometry import (
    Extent,
    Family,
    GeometryColumn,
    concatenate,
    extent_of,
)
from polygene.layer import Layer
from polygene.measures import Ruler, ruler_for
from polygene.ops.admit import Admission, admit
from polygene.ops.part import core_of, extent_of_whole
from polygene.ops.places.extents import finite_bounds, grid_for
from polygene.plane.borders import Outline, outline
from polygene.plane.grid import Grid
from polygene.plane.near_boxes import NEAR, NearBoxes, reach_of_edges
from polygene.plane.rules import Rule
from polygene.plane.touch import rows_touched


class Scene(NamedTuple):
    """Who takes part.

    may_enter : (n_rows,) rows of INPUT that may have a part: those admitted, if they are polygons
    own_rows : rows of INPUT that enter the plane
    is_touched : (n_own_rows,) whether OTHER may meet each; the others are their neighbours
    near : (n_other_rows in all,) rows of the OTHERs that do
    far : (n_rows,) of each OTHER, those of a union that are near nobody and stay as they are
    cutter : those of all OTHERs in a row
    other_rows : (n cutter rows,) the row of each within its layer
    other_starts : (n OTHERs + 1,) first row of each within the cutter
    """

    grid: Grid
    ruler: Ruler
    may_enter: BoolArray
    own_rows: I64Array
    is_touched: BoolArray
    near: list[BoolArray]
    far: list[BoolArray]
    cutter: GeometryColumn
    other_rows: I64Array
    other_starts: I64Array


def scene_of(
    layer: Layer, others: Sequence[Layer], rule: Rule, precision: float | None
) -> tuple[Scene, Outline]:
    """Return who takes part, and the outline of the cutter, which is large and needed but once."""
    bounds = finite_bounds(layer)
    other_bounds = [finite_bounds(other) for other in others]
    extent, *extents = _extents([bounds, *other_bounds])
    grid = _grid(layer, [bounds, *other_bounds], precision)
    if rule.keeps_other:
        own, *near = _near_one_another([layer, *others], [bounds, *other_bounds], grid)
        far = [np.isfinite(b[:, 0]) & ~mask for b, mask in zip(other_bounds, near, strict=True)]
    else:
        near = [rows_near(b, extent) for b in other_bounds]
        far = [np.zeros(len(b), bool) for b in other_bounds]
    rows = [np.flatnonzero(mask) for mask in near]
    cutter = concatenate([other.geometry.take(r) for other, r in zip(others, rows, strict=True)])
    border = outline(cutter, grid)
    if rule.keeps_other:
        # What lies inside OTHER untouched has to be taken out of it, so it has entered too.
        entering = _Entering(own, own, np.ones(layer.n_rows, bool))
    else:
        entering = _entering(layer.geometry, bounds, extents, cutter, border, rule, grid)
    own_rows = np.flatnonzero(entering.enters)
    scene = Scene(
        grid=grid,
        ruler=ruler_for(layer.crs),
        may_enter=entering.may_enter,
        own_rows=own_rows,
        is_touched=entering.is_touched[own_rows],
        near=near,
        far=far,
        cutter=cutter,
        other_rows=np.concatenate(rows),
        other_starts=offsets_from([len(r) for r in rows]),
    )
    return scene, border


class _Entering(NamedTuple):
    """Which rows of INPUT (n_rows,) enter the plane, which OTHER may meet, and which were admitted."""

    enters: BoolArray
    is_touched: BoolArray
    may_enter: BoolArray


def _entering(
    column: GeometryColumn,
    bounds: F64Array,
    extents: Sequence[Extent | None],
    cutter: GeometryColumn,
    border: Outline,
    rule: Rule,
    grid: Grid,
) -> _Entering:
    """Return who enters that is not in a union; ``extents`` are those of the OTHERs."""
    everyone = np.ones(column.n_rows, bool)
    if cutter.family == Family.POINTS:
        touched = rows_near(bounds, extent_of(cutter.row_bounds()))
        return _Entering(touched, touched, everyone)
    touched = rows_touched(column, bounds, border, grid)
    if column.family != Family.POLYGONS:
        return _Entering(touched, touched, everyone)
    # Cells reach beyond the extents of OTHER, and what lies just there was not admitted.
    may_enter = _may_enter(rule, bounds, extents)
    touched &= may_enter
    enters = _with_neighbours(column, bounds, touched, may_enter, grid)
    return _Entering(enters, touched, may_enter)


def _near_one_another(
    layers: Sequence[Layer], bounds: Sequence[F64Array], grid: Grid
) -> list[BoolArray]:
    """Return the rows of each layer of a union that enter: near any other, whichever layer is INPUT."""
    extents = _extents(bounds)
    found = []
    for k, (layer, own) in enumerate(zip(layers, bounds, strict=True)):
        reached = _together([*extents[:k], *extents[k + 1 :]])
        if reached is not None:
            margin = NEAR * grid.step
            low_x, low_y, high_x, high_y = reached
            reached = low_x - margin, low_y - margin, high_x + margin, high_y + margin
        touched, may_enter = rows_near(own, reached), np.isfinite(own[:, 0])
        found.append(_with_neighbours(layer.geometry, own, touched, may_enter, grid))
    return found


def _with_neighbours(
    column: GeometryColumn, bounds: F64Array, touched: BoolArray, may_enter: BoolArray, grid: Grid
) -> BoolArray:
    """Return which rows of polygons (n_rows,) enter: those touched, and what may and is near them."""
    if (touched | ~may_enter).all():
        return touched
    # What is near has to do with where borders run, whether anybody else meets it or not.
    cells = NearBoxes(bounds[touched], NEAR * grid.step)
    near_touched = cells.meets(bounds) & may_enter & ~touched
    # Their edges may reach further, and what is near those tells whether they may be moved.
    reach = reach_of_edges(column.take(np.flatnonzero(near_touched)), cells)
    further = NearBoxes(reach, NEAR * grid.step).meets(bounds)
    return touched | near_touched | (further & may_enter)


def grid_of(layer: Layer, others: Sequence[Layer], precision: float | None) -> Grid:
    """Return the grid that layers are laid on."""
    return _grid(layer, [finite_bounds(one) for one in (layer, *others)], precision)


def _extents(bounds: Sequence[F64Array]) -> list[Extent | None]:
    return [extent_of_whole(k, extent_of(b)) for k, b in enumerate(bounds)]


def _grid(layer: Layer, bounds: Sequence[F64Array], precision: float | None) -> Grid:
    # The corners of what is here too: mending may move them by a unit.
    return grid_for(layer, [*_extents(bounds), *map(extent_of, bounds)], precision)


def _may_enter(rule: Rule, bounds: F64Array, extents: Sequence[Extent | None]) -> BoolArray:
    """Return which rows of INPUT may be kept or meet an OTHER, by the extents of those."""
    is_near = np.stack([rows_near(bounds, e) for e in extents], axis=1)
    return rule.may_keep(is_near) | is_near.any(axis=1)


def _together(extents: Sequence[Extent | None]) -> Extent | None:
    known = [extent for extent in extents if extent is not None]
    return extent_of(np.array(known)) if known else None


def admitted(
    layer: Layer,
    others: Sequence[Layer],
    rule: Rule,
    invalid: str,
    keeps_other: bool = False,
    reach: float = 0.0,
) -> tuple[Admission, list[Admission]]:
    """Mend, refuse or leave out the invalid polygons of all layers that have a part in an overlay.

    Features of OTHER far from INPUT have none, but in a union or with ``keeps_other``; nor have those
    of INPUT far from the OTHERs in a clip or an intersect, which are refused or left out all the same.
    INPUT may move by ``reach``, in map units; in longitude and latitude in those of the equator.

    Raises
    ------
    GeometryError
        If there are any and they are refused.
    """
    bounds = [y.geometry.row_bounds() for y in (layer, *others)]
    extents = [
        _widened(extent_of_whole(k, extent_of(b)), reach, layer) for k, b in enumerate(bounds)
    ]
    is_own = _may_enter(rule, bounds[0], extents[1:])
    own = admit(
        layer, invalid, matters=is_own if invalid == "mend" else None, counts=core_of(layer, 0)
    )
    found = []
    for k, (other, b) in enumerate(zip(others, bounds[1:], strict=True)):
        is_near = rows_near(b, extents[0]) | (rule.keeps_other or keeps_other)
        found.append(admit(other, invalid, matters=is_near, counts=core_of(other, 1 + k)))
    return own, found


def _widened(extent: Extent | None, reach: float, layer: Layer) -> Extent | None:
    """Return an extent with all that is within a reach of it, and more: degrees differ in length."""
    if extent is None or not reach:
        return extent
    low_x, low_y, high_x, high_y = extent
    across = up = reach
    if is_geographic(layer.crs):
        assert layer.crs is not None
        up = 1.02 * reach
        steepest = (max(abs(low_y), abs(high_y)) + up) * np.radians(degrees_of(layer.crs))
        across = up / max(np.cos(min(steepest, np.pi / 2)), 1e-9)
    return low_x - across, low_y - up, high_x + across, high_y + up


def check_family(layer: Layer, other: Layer, rule: Rule, first: Layer) -> None:
    """Refuse an OTHER of a family that has no meaning for a rule."""
    own, family = layer.geometry.family, other.geometry.family
    if rule.keeps_other and own != Family.POLYGONS:
        raise DataError(
            f"INPUT, layer {layer.name!r}, holds {own.words}; only polygons can be laid so that what "
            f"OTHER alone covers comes out too, as {rule.name} does"
        )
    takes_own = rule.takes_own_kind
    if family != Family.POLYGONS and not (takes_own and family == own):
        needed = "polygons" + (f" or {own.words}" if takes_own and own != Family.POLYGONS else "")
        raise DataError(
            f"OTHER, layer {other.name!r}, holds {family.words}, and to {rule.name} "
            f"{own.words} needs {needed}. If you meant it the other way round, exchange INPUT and "
            "OTHER"
        )
    if family != first.geometry.family:
        raise DataError(
            f"the OTHERs must all be alike: layer {first.name!r} holds "
            f"{first.geometry.family.words} and layer {other.name!r} {family.words}"
        )


def rows_near(bounds: F64Array, extent: Extent | None) -> BoolArray:
    """Which boxes meet an extent; empty ones (inf to -inf) meet none."""
    if extent is None:
        return np.zeros(len(bounds), bool)
    low_x, low_y, high_x, high_y = extent
    return (
        (bounds[:, 0] <= high_x)
        & (bounds[:, 2] >= low_x)
        & (bounds[:, 1] <= high_y)
        & (bounds[:, 3] >= low_y)
    )
